"""What methods that learn from fresh experience share: acting, the store of rows that is learned from once, targets, checkpoints."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.learning.actor_critic import (
    LEAST_LOG_SPREAD,
    MOST_LOG_SPREAD,
    ActorCriticLoss,
    Minibatch,
    OnPolicySettings,
    gaussian_log_density,
)
from plucky_heron.learning.critic import Side
from plucky_heron.learning.inputs import Inputs
from plucky_heron.learning.kernels import basic as kernels
from plucky_heron.learning.memory import Sequence
from plucky_heron.learning.method import Experience, Space
from plucky_heron.learning.network import Network
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.running import RunningSpread
from plucky_heron.learning.settings import left
from plucky_heron.learning.worth import Worth
from plucky_heron.randomness import freeze, stream, thaw
from plucky_heron.task.commanding import from_shares

Array = np.ndarray


class OnPolicy:
    """A method that learns from fresh experience, at work; see `method.Method` for the contract.

    Rows are kept by copy, each at its own place in time: with whole episodes, copies differ in how many rows are ready.
    """

    ratio_limit = -1.0

    def __init__(self, settings: OnPolicySettings, space: Space, copies: int, seed: int, threads: int = 1) -> None:
        self.shared, self.space, self.copies = settings, space, copies
        observations, actions = len(space.observation_low), len(space.low)
        work = min(settings.minibatch, settings.steps_per_update) * max(settings.hidden) ** 2
        self.loss = ActorCriticLoss(
            settings, observations, actions, ratio_limit=self.ratio_limit, seen=space.seen,
            side=Side(threads if work >= WORTH_A_THREAD else 1),
        )  # fmt: skip
        self.parameters = self.loss.initial(stream(seed, "initial weights"))
        self.adam = Adam(self.loss.count)
        self.critic_adam = Adam(self.loss.count if settings.critic_learning_rate is not None else 0)
        """The critic's own, where it has a learning rate of its own; its parts of the gradient alone come to it."""
        self._of_critic: Array = np.zeros(self.loss.count, dtype=np.bool_)
        for part in (self.loss.critic_part, self.loss.memory_parts[1]):
            self._of_critic[part] = True
        self.exploration, self.order = stream(seed, "exploration"), stream(seed, "minibatch order")
        self.inputs = Inputs(space, settings.observation_standardisation, settings.observation_limit)
        self.paid = RunningSpread(1)
        self.running_return: Array = np.zeros(copies)
        self.carried: Array = np.zeros((copies, actions), dtype=np.float32)
        self.beyond: Array = np.zeros(2, dtype=np.int64)
        """How many numbers of the commands that went out stood at their limits, and of how many."""
        self.rate = settings.learning_rate
        self.each = np.arange(copies)
        self.filled: Array = np.zeros(copies, dtype=np.int64)
        """Rows of each copy."""
        self.complete: Array = np.zeros(copies, dtype=np.int64)
        """Rows of each copy that belong to finished episodes."""
        self.columns = {
            "inputs": (observations,), "actions": (actions,), "log_density": (), "reward": (), "goes_on": (), "cut": (), "tail": (),
            "first": (), "lost": (),
        }  # fmt: skip
        self.rows: dict[str, Array] = {}
        self._grow(max(2, settings.steps_per_update // copies))
        self.wanted = len(self.rows["reward"])
        self.after: Array = np.zeros((copies, observations))
        units = settings.memory
        if units and settings.update_after == "episodes":
            raise StateError("a memory learns from a fixed number of steps; set update_after to steps, or memory to 0")
        self.state: Array = np.zeros((2, copies, units), dtype=np.float32)
        """What policy and critic remember of each copy's episode."""
        self.begun: Array = self.state.copy()
        """The same before the first row of this update."""
        self.fresh: Array = np.ones(copies, dtype=np.uint8)
        """Which copies begin a new episode."""
        self._shuffled: dict[int, Minibatch] = {}

    def _grow(self, rows: int) -> None:
        """Room for `rows` of each copy; what there is stays."""
        for name, shape in self.columns.items():
            kind = {"inputs": np.float32, "actions": np.float32, "log_density": np.float32, "first": np.uint8}.get(
                name, np.float64
            )
            grown: Array = np.zeros((rows, self.copies, *shape), dtype=kind)
            if name in self.rows:
                grown[: len(self.rows[name])] = self.rows[name]
            self.rows[name] = grown

    # --- acting ------------------------------------------------------------------------------------------------

    def choose(self, observations: Array) -> Array:
        """Draw from the Gaussian; what is kept is what was drawn, what goes out is squashed here or clipped by the plant.

        With `exploration_memory` the deviation is a first-order autoregressive process (after Korenkevych et al. 2019):
        what is carried over counts as given, so the density of a draw stays the plain Gaussian of its fresh part.
        """
        self.inputs.update(observations)
        inputs = self.inputs.of(observations)
        seen = np.ascontiguousarray(inputs[:, : self.space.seen])
        if self.loss.memories is not None:
            if self.filled[0] == 0:
                self.begun = self.state.copy()
            self.state[:, self.fresh > 0] = 0.0
            for which, given in enumerate((seen, inputs)):
                self.state[which] = self.loss.remembered(self.parameters, which, given, self.state[which])
            seen = np.concatenate([seen, self.state[0]], axis=1)
        mean, log_spread = self.loss.means_and_spreads(self.parameters, seen)
        unit = self.exploration.standard_normal(mean.shape, dtype=np.float32)
        if self.filled.max() == len(self.rows["reward"]):
            self._grow(2 * len(self.rows["reward"]))
        t, each = self.filled, self.each
        actions = mean + unit * np.exp(log_spread)
        self.rows["inputs"][t, each] = inputs
        self.rows["first"][t, each] = self.fresh
        self.rows["lost"][t, each] = 0.0
        self.rows["actions"][t, each] = actions
        self.rows["log_density"][t, each] = gaussian_log_density(unit, log_spread)
        drawn = actions + self.carried
        np.multiply(drawn - mean, np.float32(self.shared.exploration_memory), out=self.carried)
        if self.shared.squashed:
            drawn = np.tanh(drawn)
        limit = 0.99 if self.shared.squashed else 1.0
        self.beyond += (int((np.abs(drawn) >= limit).sum()), drawn.size)
        return from_shares(self.space.low, self.space.high, drawn.astype(np.float64))

    def take(self, experience: Experience) -> None:
        """Keep rewards and ends; standardise rewards by the running spread of the discounted return."""
        settings, t, each = self.shared, self.filled, self.each
        spread = 1.0
        if settings.reward_standardisation:
            self.running_return = settings.discount * self.running_return + experience.reward
            self.paid.update(self.running_return[:, None])
            spread = float(self.paid.spread[0])
        reward = experience.limited(settings.reward_limit, spread)
        over = experience.ended | experience.cut
        self.running_return[over] = 0.0
        self.carried[over] = 0.0
        cut = experience.cut & ~experience.ended
        self.rows["reward"][t, each], self.rows["goes_on"][t, each], self.rows["cut"][t, each] = reward, ~over, cut
        self.rows["tail"][t, each] = 0.0
        if experience.lost is not None:
            self.rows["lost"][t, each] = experience.lost
        if cut.any() and settings.time_limit_bootstrap:
            # the critic does not change before the next update, so that its word may be taken now
            self.rows["tail"][t[cut], each[cut]] = self._value(experience.after, cut)
        elif cut.any():
            self.rows["cut"][t[cut], each[cut]] = 0.0
        self.after = experience.after
        self.fresh[:] = over
        self.filled = t + 1
        self.complete = np.where(over, self.filled, self.complete)

    def ready(self) -> bool:
        """Whether there is enough to learn from."""
        if self.shared.update_after == "steps":
            return bool(self.filled[0] == self.wanted)
        return int(self.complete.sum()) >= self.shared.steps_per_update

    # --- learning ----------------------------------------------------------------------------------------------

    def targets(self) -> tuple[Array, Array, Array, Array]:
        """Values, returns, advantages, and which rows count (T, B); a state at a time cut counts, one after an ending does not."""
        episodes = self.shared.update_after == "episodes"
        height = int(self.filled.max())
        t, b = height, self.copies
        values = self._values(t).reshape(t, b)
        used = np.arange(t)[:, None] < (self.complete if episodes else self.filled)[None, :]
        lost = self.rows["lost"][:t] > 0.0
        next_values = np.zeros((t, b))
        next_values[:-1] = values[1:]
        if not episodes:
            next_values[-1] = self._value(self.after, np.ones(b, dtype=np.bool_))
        goes_on = self.rows["goes_on"][:t]
        next_values *= goes_on
        next_values = np.where(self.rows["cut"][:t] > 0.0, self.rows["tail"][:t], next_values)
        # a step that is lost surprises nobody: the row before it counts as cut there
        next_values = np.where(lost, values / self.shared.discount, next_values)
        used &= ~lost | lost.all()  # where every step was lost, nothing is right; advantages are zero then
        advantage: Array = np.zeros((t, b))
        kernels.advantages(
            np.where(used, self.rows["reward"][:t], 0.0), np.where(used | lost, values, 0.0), np.where(used | lost, next_values, 0.0),
            np.where(used, goes_on, 0.0), self.shared.discount, self.shared.advantage_decay, advantage,
        )  # fmt: skip
        return values, advantage + values, advantage, used

    def batch(self) -> tuple[Minibatch, dict[str, float]]:
        """Everything there is to learn from as one flat batch, and what it says of critic and commands."""
        values, returns, advantage, used = self.targets()
        t = len(used)
        errors, spread = (returns - values)[used], returns[used]
        chosen = used.reshape(-1)
        everything = bool(chosen.all())

        def flat(name: str) -> Array:
            rows = self.rows[name][:t].reshape(t * self.copies, *self.columns[name])
            return rows if everything else rows[chosen]

        gains = advantage[used]
        if self.shared.advantage_standardisation:
            gains = (gains - gains.mean()) / (gains.std() + 1e-8)
        if self.loss.memories is not None and not everything:
            # sequences stay whole; what is lost in them pulls at nothing
            everything, used = True, np.ones_like(used)
            gains, spread = np.where(chosen, _spread_out(gains, chosen), 0.0), returns[used]
        rows = Minibatch(
            flat("inputs"), flat("actions"), flat("log_density"), gains.astype(np.float32), spread.astype(np.float32),
            values[used].astype(np.float32), self._sequence(t),
        )  # fmt: skip
        return rows, {
            "critic_explains": 1.0 - float(np.var(errors) / (np.var(spread) + 1e-12)), "at_limit": float(self.beyond[0] / max(1, self.beyond[1])),
            "inputs_at_limit": self.inputs.at_limit(rows.inputs),
            "value_predicted": float(values[used].mean()), "value_realised": float(spread.mean()),
        }  # fmt: skip

    def learned(self) -> None:
        """Make room: rows of episodes that still go on move to the front, all others are forgotten."""
        if self.shared.update_after == "steps":
            self.filled[:] = 0
        else:
            for b in range(self.copies):
                first, last = int(self.complete[b]), int(self.filled[b])
                for column in self.rows.values():
                    column[: last - first, b] = column[first:last, b].copy()
                self.filled[b] = last - first
        self.complete[:] = 0
        self.beyond[:] = 0

    def scheduled_rate(self, progress: float) -> float:
        """The learning rate of this update."""
        settings = self.shared
        if settings.schedule == "by change":
            return self.rate
        if settings.schedule == "constant":
            return settings.learning_rate
        return settings.learning_rate * left(settings.learning_rate_share_end, progress)

    def step(self, rows: Minibatch, rate: float) -> dict[str, float]:
        """One gradient step."""
        figures = self.loss(self.parameters, rows)
        gradient, limit = self.loss.gradient, self.shared.gradient_limit
        if self.shared.critic_learning_rate is not None:
            self._step_critic(np.where(self._of_critic, gradient, np.float32(0.0)), rate)
            gradient = np.where(self._of_critic, np.float32(0.0), gradient)
        figures["gradient"] = self.adam.step(self.parameters, gradient, rate, limit)
        spread = self.parameters[self.loss.spread_part]
        if len(spread):
            np.clip(spread, LEAST_LOG_SPREAD, MOST_LOG_SPREAD, out=spread)
        return figures

    def _step_critic(self, gradient: Array, rate: float) -> None:
        """One step of the critic, its learning rate falling as that of the policy does, `rate`."""
        own = self.shared.critic_learning_rate
        fallen = rate / self.shared.learning_rate if self.shared.schedule == "linear" else 1.0
        adam = self.adam if own is None else self.critic_adam
        adam.step(self.parameters, gradient, rate if own is None else own * fallen, self.shared.gradient_limit)

    def critic_alone(self, flat: Minibatch, passes: int, rate: float) -> None:
        """The passes of the critic over the rows that are left after those of the policy."""
        for _ in range(max(0, self.shared.critic_passes - passes)):
            for rows in self.minibatches(flat):
                self.loss.critic_alone(self.parameters, rows)
                self._step_critic(self.loss.gradient, rate)

    def shuffled(self, flat: Minibatch) -> Minibatch:
        """The rows in a new order, in arrays that are used again."""
        total = len(flat.inputs)
        order = self.order.permutation(total)
        names = tuple(name for name in Minibatch.__dataclass_fields__ if name != "sequence")
        if total not in self._shuffled:
            self._shuffled = {total: Minibatch(*(np.empty_like(getattr(flat, name)) for name in names))}
        room = self._shuffled[total]
        for name in names:
            np.take(getattr(flat, name), order, axis=0, out=getattr(room, name))
        return room

    def spread_on(self, flat: Minibatch) -> float:
        """Mean spread of what goes out, with what is carried from draw to draw, on some of the rows."""
        inputs = flat.inputs[:, : self.space.seen]
        if flat.sequence is not None:
            inputs = self.loss.beside(self.parameters, 0, np.ascontiguousarray(inputs), flat.sequence)
        _, log_spread = self.loss.means_and_spreads(self.parameters, np.ascontiguousarray(inputs[:64]))
        return float(np.exp(log_spread).mean() / np.sqrt(1.0 - self.shared.exploration_memory**2))

    def minibatches(self, flat: Minibatch) -> Iterator[Minibatch]:
        """All rows once, in parts of the minibatch's size: shuffled, or with a memory whole sequences of some copies."""
        size = min(self.shared.minibatch, len(flat.inputs))
        if flat.sequence is None:
            rows = self.shuffled(flat)
            for first in range(0, len(flat.inputs) - size + 1, size):
                yield rows.part(first, first + size)
            return
        steps, copies = flat.sequence.first.shape
        count = min(copies, max(1, size // steps))
        order = self.order.permutation(copies)
        for first in range(0, copies - count + 1, count):
            yield flat.of_copies(order[first : first + count])

    def _sequence(self, t: int) -> Sequence | None:
        """The rows as steps that follow each other, where there is a memory."""
        if self.loss.memories is None:
            return None
        return Sequence(self.rows["first"][:t], self.begun[0], self.begun[1])

    def _values(self, t: int) -> Array:
        """The critic's word on all rows."""
        inputs = self.rows["inputs"][:t].reshape(t * self.copies, -1)
        if (sequence := self._sequence(t)) is not None:
            inputs = self.loss.beside(self.parameters, 1, inputs, sequence)
        return np.asarray(self.loss.value(self.parameters, inputs), dtype=np.float64)

    def _value(self, observations: Array, copies: Array) -> Array:
        """The critic's word on what some copies (mask) see one sample after their last row."""
        inputs = self.inputs.of(observations)
        if self.loss.memories is not None:
            state = self.loss.remembered(self.parameters, 1, inputs, self.state[1])
            inputs = np.concatenate([inputs, state], axis=1)
        return np.asarray(self.loss.value(self.parameters, np.ascontiguousarray(inputs[copies])), dtype=np.float64)

    def look_along(self, observations: Array, commands: Array) -> Worth:
        """What the critic says along an episode; see `learning.worth`."""
        inputs, loss = self.inputs.of(observations), self.loss
        seen, wide = np.ascontiguousarray(inputs[:, : self.space.seen]), inputs
        if loss.memories is not None:
            kept = [np.zeros((len(inputs), self.shared.memory), dtype=inputs.dtype) for _ in range(2)]
            for which, rows in enumerate((seen, inputs)):
                state = np.zeros((1, self.shared.memory), dtype=inputs.dtype)
                for k in range(len(rows)):
                    state = loss.remembered(self.parameters, which, rows[k : k + 1], state)
                    kept[which][k] = state[0]
            seen, wide = (np.concatenate([rows, own], axis=1) for rows, own in zip((seen, inputs), kept, strict=True))
        spread = float(self.paid.spread[0]) if self.shared.reward_standardisation else 1.0
        values = np.array(loss.value(self.parameters, wide), dtype=np.float64)[:, None] * spread
        if not loss.own_spread:
            return Worth(values)
        mean, log_spread = loss.means_and_spreads(self.parameters, seen)
        ends = [mean + sign * np.exp(log_spread) for sign in (-1.0, 1.0)]
        low, high = (np.tanh(e) if self.shared.squashed else np.clip(e, -1.0, 1.0) for e in ends)
        return Worth(values, *(from_shares(self.space.low, self.space.high, e.astype(np.float64)) for e in (low, high)))

    def policy(self) -> Policy:
        """The mean command, with the present standardisation frozen in."""
        offset, scale = self.inputs.affine()
        seen, loss = self.space.seen, self.loss
        network = Network(
            (*loss.actor.sizes[:-1], loss.actions), loss.actor.activation, normalised=loss.actor.normalised
        )
        return Policy(
            network.sizes, network.activation, loss.actor.narrowed(self.parameters[loss.actor_part], network),
            offset[:seen].astype(np.float32), scale[:seen].astype(np.float32), self.inputs.limit,
            self.space.low.astype(np.float32), self.space.high.astype(np.float32), normalised=network.normalised,
            squashed=self.shared.squashed, memory=self.shared.memory, memory_parameters=self.parameters[loss.memory_parts[0]].copy(),
        )  # fmt: skip

    # --- checkpoints -------------------------------------------------------------------------------------------

    def keep(self) -> dict[str, Array]:
        """All state between updates; rows of unfinished episodes too."""
        kept = {f"adam.{k}": v for k, v in self.adam.keep().items()}
        kept |= {f"critic_adam.{k}": v for k, v in self.critic_adam.keep().items()}
        height = int(self.filled.max())
        kept |= {f"rows.{k}": v[:height].copy() for k, v in self.rows.items()}
        return kept | {
            "parameters": self.parameters.copy(), "beyond": self.beyond.copy(), "seen": self.inputs.seen.keep(), "paid": self.paid.keep(),
            "running_return": self.running_return.copy(), "carried": self.carried.copy(), "exploration": freeze(self.exploration),
            "state": self.state.copy(), "begun": self.begun.copy(), "fresh": self.fresh.copy(),
            "order": freeze(self.order), "filled": self.filled.copy(), "complete": self.complete.copy(), "rate": np.array(self.rate),
        }  # fmt: skip

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.adam.restore({k[5:]: v for k, v in kept.items() if k.startswith("adam.")})
        self.critic_adam.restore({k[12:]: v for k, v in kept.items() if k.startswith("critic_adam.")})
        self.parameters[...] = kept["parameters"]
        self.inputs.seen.restore(kept["seen"])
        self.paid.restore(kept["paid"])
        self.running_return = kept["running_return"].copy()
        self.beyond = kept["beyond"].copy()
        self.carried[...] = kept["carried"]
        self.state, self.begun, self.fresh = (kept[name].copy() for name in ("state", "begun", "fresh"))
        thaw(self.exploration, kept["exploration"])
        thaw(self.order, kept["order"])
        self.filled, self.complete, self.rate = kept["filled"].copy(), kept["complete"].copy(), float(kept["rate"])
        height = int(self.filled.max())
        if height > len(self.rows["reward"]):
            self._grow(height)
        for name, column in self.rows.items():
            column[:height] = kept[f"rows.{name}"]


def _spread_out(values: Array, chosen: Array) -> Array:
    """Values of the chosen rows (mask, N) at their places among all (N,), zeros elsewhere."""
    found: Array = np.zeros(len(chosen))
    found[chosen] = values
    return found


WORTH_A_THREAD = 256 * 64 * 64
"""Minibatch times squared width from which a second thread saves more than it costs."""
