"""What methods that learn from fresh experience share: the loss of policy and critic, and the store of rows that is learned from once.

The policy is Gaussian over commands as shares of the range; squashed, its draws pass through tanh on their way out, and all
densities are those of the draws before it (the change of variables does not depend on the parameters and cancels).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.learning.critic import Side
from plucky_heron.learning.inputs import Inputs
from plucky_heron.learning.kernels import basic as kernels
from plucky_heron.learning.kernels import on_policy as losses
from plucky_heron.learning.method import Experience, Space
from plucky_heron.learning.network import Network
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.running import RunningSpread
from plucky_heron.learning.settings import NetworkSettings, setting
from plucky_heron.randomness import freeze, stream, thaw

Array = np.ndarray

LEAST_LOG_SPREAD, MOST_LOG_SPREAD = -4.0, 1.0


class OnPolicySettings(NetworkSettings):
    """Settings of every method that learns from fresh experience; `None` or false switches a part off."""

    advantage_decay: float = setting(
        0.95, "advantage decay", "How far surprises are carried back; 1 takes whole returns, 0 only the next value.",
        "Too large: noisy gradients. Too small: believes a critic that knows little yet.", ge=0, le=1,
    )  # fmt: skip
    entropy_weight: float = setting(
        0.0, "entropy weight", "Reward for keeping the spread of commands up.",
        "Too large: spread grows and the score falls.", ge=0, le=1,
    )  # fmt: skip
    value_weight: float = setting(
        0.5, "value weight", "What the critic's error counts beside the policy's loss.",
        "Matters with a shared trunk or a gradient limit: the policy hardly moves when too large.", gt=0, le=10,
    )  # fmt: skip
    learning_rate: float = setting(
        1e-3, "step size", "How far one gradient step moves the networks.",
        "Too large: change an update (KL) and ratios limited leave their bands. Too small: KL near 0.", gt=0, le=1,
    )  # fmt: skip
    learning_rate_end: float = setting(
        1e-4, "step size at the end", "What it falls to when the budget is used up.", "Too large: the score wanders at the end.",
        ge=0, le=1,
    )  # fmt: skip
    schedule: Literal["linear", "constant", "by change"] = setting(
        "linear", "schedule", "How the step size goes; by change: it follows the measured change (KL) to its wish.",
        "linear with too small a budget: stops learning before it has learned.",
    )  # fmt: skip
    update_after: Literal["steps", "episodes"] = setting(
        "steps", "update after", "Learns from a fixed number of steps, or from whole episodes alone (for pay that comes at the end).",
        "steps with pay only at the end: the critic must carry it back.",
    )  # fmt: skip
    steps_per_update: int = setting(
        4096, "steps an update", "Control steps over all copies that one update learns from.",
        "Too few: noisy gradients; too many: few updates in a budget.", ge=16, le=1_000_000,
    )  # fmt: skip
    minibatch: int = setting(
        256, "minibatch", "Rows a gradient step learns from.", "Too small: noisy, and slow on this machine.", ge=2
    )
    gradient_limit: float | None = setting(
        0.5, "gradient limit", "Longer gradients are shortened to this norm.", "None with rare large rewards: single updates undo many.",
        gt=0,
    )  # fmt: skip
    spread: Literal["of its own", "from the network"] = setting(
        "of its own", "spread", "Whether the spread of commands is the same everywhere or put out by the network.",
        "from the network: may collapse in states that are met often.",
    )  # fmt: skip
    log_spread_start: float = setting(
        -0.7, "log-spread at first", "Logarithm of the untrained spread, as a share of half the range.",
        "Too large: draws beyond the limits. Too small: nothing new is met.", gt=LEAST_LOG_SPREAD, lt=MOST_LOG_SPREAD,
    )  # fmt: skip
    squashed: bool = setting(
        False, "squash commands", "Passes draws through tanh instead of clipping what lies beyond the limits.",
        "On: holding a command at its limit needs ever larger sums.",
    )  # fmt: skip
    shared_trunk: bool = setting(
        False,
        "shared trunk",
        "Policy and critic share their hidden layers.",
        "On: the critic's errors pull at the policy; mind the value weight.",
    )
    exploration_memory: float = setting(
        0.0, "exploration memory", "Share of the last deviation from the mean that is carried into the next draw; 0 draws afresh.",
        "0 for a heavy machine at a high rate: exploring hardly moves it.", ge=0, lt=1,
    )  # fmt: skip
    value_limit: float | None = setting(
        None, "value limit", "How far one update may move a value.", "Too small: the critic lags behind.", gt=0
    )
    reward_standardisation: bool = setting(
        True, "standardise rewards", "Divides rewards by the running spread of the discounted return.",
        "Off with large rewards: the critic's part of the gradient crowds out the policy's.",
    )  # fmt: skip
    reward_limit: float | None = setting(
        10.0,
        "reward limit",
        "Rewards, standardised or not, are held within this.",
        "Too small: a failure costs no more than a slip.",
        gt=0,
    )
    advantage_standardisation: bool = setting(
        True, "standardise advantages", "Brings the advantages of an update to mean 0 and spread 1.",
        "Off: the step size means something else in every task.",
    )  # fmt: skip
    time_limit_bootstrap: bool = setting(
        True, "bootstrap time limits", "The value of the state at which time cut an episode still counts.",
        "Off: the end of time looks like a failure that nothing announces.",
    )  # fmt: skip


@dataclass(frozen=True)
class Minibatch:
    """Rows of one gradient step: inputs (N, observations), draws (N, m), the rest (N,)."""

    inputs: Array
    actions: Array
    log_density: Array
    advantage: Array
    returns: Array
    values: Array

    def part(self, first: int, last: int) -> Minibatch:
        """Rows first .. last as views."""
        here = slice(first, last)
        return Minibatch(
            self.inputs[here],
            self.actions[here],
            self.log_density[here],
            self.advantage[here],
            self.returns[here],
            self.values[here],
        )


class ActorCriticLoss:
    """The loss of one minibatch and its gradient over one vector: policy, log-spread, critic, in this order.

    Parameters
    ----------
    ratio_limit
        Of the probability ratio; 0 takes it as it is, a negative number the log-density alone; see `kernels.on_policy`.
    seen
        How many of the observations the policy is given.
    """

    def __init__(
        self, settings: OnPolicySettings, observations: int, actions: int, dtype: type[np.floating] = np.float32,
        ratio_limit: float = 0.0, seen: int | None = None, side: Side | None = None,
    ) -> None:  # fmt: skip
        self.settings, self.dtype, self.ratio_limit = settings, dtype, ratio_limit
        self.actions, self.seen, self.side = actions, observations if seen is None else seen, side or Side(1)
        self.own_spread, self.shared = settings.spread == "from the network", settings.shared_trunk
        if self.shared and self.seen != observations:
            raise StateError(
                "a shared trunk cannot be given observations that the policy does not get; switch shared_trunk off"
            )
        heads = actions * (2 if self.own_spread else 1)
        self.heads = heads

        def network(inputs: int, outputs: int) -> Network:
            return Network(
                (inputs, *settings.hidden, outputs), settings.activation, dtype, settings.layer_normalisation
            )

        self.actor = network(self.seen, heads + self.shared)
        self.critic = self.actor if self.shared else network(observations, 1)
        a = self.actor.count
        self.actor_part = slice(0, a)
        self.spread_part = slice(a, a + (0 if self.own_spread else actions))
        last = self.spread_part.stop
        self.critic_part = slice(0, a) if self.shared else slice(last, last + self.critic.count)
        self.count = last if self.shared else self.critic_part.stop
        self.gradient: Array = np.zeros(self.count, dtype=dtype)
        self._figures: Array = np.zeros(6)
        self._backs: dict[int, tuple[Array, Array]] = {}
        self._no_spread: Array = np.zeros(actions, dtype=dtype)

    def initial(self, generator: np.random.Generator) -> Array:
        """Start parameters."""
        settings = self.settings
        parameters: Array = np.zeros(self.count, dtype=self.dtype)
        self.actor.initialise(
            parameters[self.actor_part], generator, settings.orthogonal_start, settings.last_layer_scale
        )
        parameters[self.spread_part] = settings.log_spread_start
        biases = self.actor.layers(parameters[self.actor_part])[-1][1]
        if self.own_spread:
            middle, half = 0.5 * (LEAST_LOG_SPREAD + MOST_LOG_SPREAD), 0.5 * (MOST_LOG_SPREAD - LEAST_LOG_SPREAD)
            biases[self.actions : 2 * self.actions] = np.arctanh((settings.log_spread_start - middle) / half)
        if not self.shared:
            self.critic.initialise(parameters[self.critic_part], generator, settings.orthogonal_start, 1.0)
        return parameters

    def means_and_spreads(self, parameters: Array, inputs: Array) -> tuple[Array, Array]:
        """Means and log-spreads (N, m) of the draws; the means are overwritten by the next call."""
        outputs = self.actor.forward(parameters[self.actor_part], inputs)
        means = outputs[:, : self.actions]
        if not self.own_spread:
            return means, np.broadcast_to(parameters[self.spread_part], means.shape)
        middle, half = 0.5 * (LEAST_LOG_SPREAD + MOST_LOG_SPREAD), 0.5 * (MOST_LOG_SPREAD - LEAST_LOG_SPREAD)
        return means, (middle + half * np.tanh(outputs[:, self.actions : 2 * self.actions])).astype(self.dtype)

    def value(self, parameters: Array, inputs: Array) -> Array:
        """Values (N,) of inputs (N, observations); overwritten by the next call."""
        return self.critic.forward(parameters[self.critic_part], inputs)[:, -1]

    def __call__(self, parameters: Array, rows: Minibatch) -> dict[str, float]:
        """Loss and its parts; the gradient stands in `gradient`."""
        settings, count = self.settings, len(rows.inputs)
        if count not in self._backs:
            self._backs[count] = (
                np.zeros((count, self.heads + self.shared), dtype=self.dtype), np.zeros((count, 1), dtype=self.dtype),
            )  # fmt: skip
        back, value_back = self._backs[count]
        value_loss = (
            self._both(parameters, rows, back) if self.shared else self._apart(parameters, rows, back, value_back)
        )
        figures, n = self._figures, float(count)
        policy_loss, entropy = float(figures[0] / n), float(figures[1] / n)
        return {
            "loss": policy_loss - settings.entropy_weight * entropy + settings.value_weight * value_loss,
            "policy_loss": policy_loss, "value_loss": value_loss, "entropy": entropy, "kl": float(figures[2] / n),
            "ratios_limited": float(figures[3] / n), "spread_least": float(figures[4]), "spread_most": float(figures[5]),
        }  # fmt: skip

    def _apart(self, parameters: Array, rows: Minibatch, back: Array, value_back: Array) -> float:
        settings = self.settings
        actor, critic = self.actor, self.critic
        inputs = rows.inputs if self.seen == rows.inputs.shape[1] else np.ascontiguousarray(rows.inputs[:, : self.seen])
        here, there = actor.space(len(inputs)), critic.space(len(inputs))
        found = [0.0]

        def policy() -> None:
            losses.policy_step(
                parameters[self.actor_part], actor.shape, actor.kind, actor.normalised, inputs, here.flat, here.places, self.own_spread,
                parameters[self.spread_part], LEAST_LOG_SPREAD, MOST_LOG_SPREAD, rows.actions, rows.log_density, rows.advantage,
                self.ratio_limit, settings.entropy_weight, back,
                self._no_spread if self.own_spread else self.gradient[self.spread_part], self._figures, self.gradient[self.actor_part],
            )  # fmt: skip

        def value() -> None:
            found[0] = losses.value_step(
                parameters[self.critic_part], critic.shape, critic.kind, critic.normalised, rows.inputs, there.flat, there.places,
                rows.returns, rows.values, settings.value_limit or 0.0, settings.value_weight, value_back,
                self.gradient[self.critic_part],
            )  # fmt: skip

        self.side.by_side([value, policy])
        return found[0]

    def _both(self, parameters: Array, rows: Minibatch, back: Array) -> float:
        settings, part = self.settings, parameters[self.actor_part]
        outputs = self.actor.forward(part, rows.inputs)
        losses.policy_loss(
            outputs, self.own_spread, parameters[self.spread_part], LEAST_LOG_SPREAD, MOST_LOG_SPREAD, rows.actions, rows.log_density,
            rows.advantage, self.ratio_limit, settings.entropy_weight, back,
            self._no_spread if self.own_spread else self.gradient[self.spread_part], self._figures,
        )  # fmt: skip
        found: float = losses.value_loss(
            outputs[:, -1], rows.returns, rows.values, settings.value_limit or 0.0, settings.value_weight, back[:, -1]
        )
        self.actor.backward(part, rows.inputs, back, self.gradient[self.actor_part])
        return found


def gaussian_log_density(unit: Array, log_spread: Array) -> Array:
    """Log-density (N,) of independent normals, from the standardised draws and the log-spreads (N, m) or (m,)."""
    density: Array = (-0.5 * np.square(unit) - log_spread - losses.HALF_LOG_TWO_PI).sum(axis=1)
    return density.astype(unit.dtype)


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
        self.exploration, self.order = stream(seed, "exploration"), stream(seed, "minibatch order")
        self.inputs = Inputs(space, settings.observation_standardisation, settings.observation_limit)
        self.paid = RunningSpread(1)
        self.running_return: Array = np.zeros(copies)
        self.carried: Array = np.zeros((copies, actions), dtype=np.float32)
        self.rate = settings.learning_rate
        self.each = np.arange(copies)
        self.filled: Array = np.zeros(copies, dtype=np.int64)
        """Rows of each copy."""
        self.complete: Array = np.zeros(copies, dtype=np.int64)
        """Rows of each copy that belong to finished episodes."""
        self.columns = {
            "inputs": (observations,), "actions": (actions,), "log_density": (), "reward": (), "goes_on": (), "cut": (), "tail": (),
        }  # fmt: skip
        self.rows: dict[str, Array] = {}
        self._grow(max(2, settings.steps_per_update // copies))
        self.wanted = len(self.rows["reward"])
        self.after: Array = np.zeros((copies, observations))
        self._shuffled: dict[int, Minibatch] = {}

    def _grow(self, rows: int) -> None:
        """Room for `rows` of each copy; what there is stays."""
        for name, shape in self.columns.items():
            kind = np.float32 if name in ("inputs", "actions", "log_density") else np.float64
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
        mean, log_spread = self.loss.means_and_spreads(
            self.parameters, np.ascontiguousarray(inputs[:, : self.space.seen])
        )
        unit = self.exploration.standard_normal(mean.shape, dtype=np.float32)
        if self.filled.max() == len(self.rows["reward"]):
            self._grow(2 * len(self.rows["reward"]))
        t, each = self.filled, self.each
        actions = mean + unit * np.exp(log_spread)
        self.rows["inputs"][t, each] = inputs
        self.rows["actions"][t, each] = actions
        self.rows["log_density"][t, each] = gaussian_log_density(unit, log_spread)
        drawn = actions + self.carried
        np.multiply(drawn - mean, np.float32(self.shared.exploration_memory), out=self.carried)
        if self.shared.squashed:
            drawn = np.tanh(drawn)
        low, high = self.space.low, self.space.high
        return np.asarray(0.5 * (low + high) + 0.5 * (high - low) * drawn.astype(np.float64))

    def take(self, experience: Experience) -> None:
        """Keep rewards and ends; standardise rewards by the running spread of the discounted return."""
        settings, t, each = self.shared, self.filled, self.each
        reward = experience.reward
        if settings.reward_standardisation:
            self.running_return = settings.discount * self.running_return + reward
            self.paid.update(self.running_return[:, None])
            reward = reward / self.paid.spread[0]
        if settings.reward_limit is not None:
            reward = np.clip(reward, -settings.reward_limit, settings.reward_limit)
        over = experience.ended | experience.cut
        self.running_return[over] = 0.0
        self.carried[over] = 0.0
        cut = experience.cut & ~experience.ended
        self.rows["reward"][t, each], self.rows["goes_on"][t, each], self.rows["cut"][t, each] = reward, ~over, cut
        self.rows["tail"][t, each] = 0.0
        if cut.any() and settings.time_limit_bootstrap:
            # the critic does not change before the next update, so that its word may be taken now
            self.rows["tail"][t[cut], each[cut]] = self._value(self.inputs.of(experience.after[cut]))
        elif cut.any():
            self.rows["cut"][t[cut], each[cut]] = 0.0
        self.after = experience.after
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
        values = self._value(self.rows["inputs"][:t].reshape(t * b, -1)).reshape(t, b)
        used = np.arange(t)[:, None] < (self.complete if episodes else self.filled)[None, :]
        next_values = np.zeros((t, b))
        next_values[:-1] = values[1:]
        if not episodes:
            next_values[-1] = self._value(self.inputs.of(self.after))
        goes_on = self.rows["goes_on"][:t]
        next_values *= goes_on
        next_values = np.where(self.rows["cut"][:t] > 0.0, self.rows["tail"][:t], next_values)
        advantage: Array = np.zeros((t, b))
        kernels.advantages(
            np.where(used, self.rows["reward"][:t], 0.0), np.where(used, values, 0.0), np.where(used, next_values, 0.0),
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
        rows = Minibatch(
            flat("inputs"), flat("actions"), flat("log_density"), gains.astype(np.float32), spread.astype(np.float32),
            values[used].astype(np.float32),
        )  # fmt: skip
        limit = np.abs(np.tanh(rows.actions)) >= 0.99 if self.shared.squashed else np.abs(rows.actions) >= 1.0
        return rows, {
            "critic_explains": 1.0 - float(np.var(errors) / (np.var(spread) + 1e-12)), "at_limit": float(limit.mean()),
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

    def scheduled_rate(self, progress: float) -> float:
        """The step size of this update."""
        settings = self.shared
        if settings.schedule == "by change":
            return self.rate
        if settings.schedule == "constant":
            return settings.learning_rate
        return settings.learning_rate + (settings.learning_rate_end - settings.learning_rate) * min(
            max(progress, 0.0), 1.0
        )

    def step(self, rows: Minibatch, rate: float) -> dict[str, float]:
        """One gradient step."""
        figures = self.loss(self.parameters, rows)
        figures["gradient"] = self.adam.step(self.parameters, self.loss.gradient, rate, self.shared.gradient_limit)
        spread = self.parameters[self.loss.spread_part]
        if len(spread):
            np.clip(spread, LEAST_LOG_SPREAD, MOST_LOG_SPREAD, out=spread)
        return figures

    def shuffled(self, flat: Minibatch) -> Minibatch:
        """The rows in a new order, in arrays that are used again."""
        total = len(flat.inputs)
        order = self.order.permutation(total)
        names = tuple(Minibatch.__dataclass_fields__)
        if total not in self._shuffled:
            self._shuffled = {total: Minibatch(*(np.empty_like(getattr(flat, name)) for name in names))}
        room = self._shuffled[total]
        for name in names:
            np.take(getattr(flat, name), order, axis=0, out=getattr(room, name))
        return room

    def _value(self, inputs: Array) -> Array:
        return np.asarray(self.loss.value(self.parameters, inputs), dtype=np.float64)

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
            squashed=self.shared.squashed,
        )  # fmt: skip

    # --- checkpoints -------------------------------------------------------------------------------------------

    def keep(self) -> dict[str, Array]:
        """All state between updates; rows of unfinished episodes too."""
        kept = {f"adam.{k}": v for k, v in self.adam.keep().items()}
        height = int(self.filled.max())
        kept |= {f"rows.{k}": v[:height].copy() for k, v in self.rows.items()}
        return kept | {
            "parameters": self.parameters.copy(), "seen": self.inputs.seen.keep(), "paid": self.paid.keep(),
            "running_return": self.running_return.copy(), "carried": self.carried.copy(), "exploration": freeze(self.exploration),
            "order": freeze(self.order), "filled": self.filled.copy(), "complete": self.complete.copy(), "rate": np.array(self.rate),
        }  # fmt: skip

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.adam.restore({k[5:]: v for k, v in kept.items() if k.startswith("adam.")})
        self.parameters[...] = kept["parameters"]
        self.inputs.seen.restore(kept["seen"])
        self.paid.restore(kept["paid"])
        self.running_return = kept["running_return"].copy()
        self.carried[...] = kept["carried"]
        thaw(self.exploration, kept["exploration"])
        thaw(self.order, kept["order"])
        self.filled, self.complete, self.rate = kept["filled"].copy(), kept["complete"].copy(), float(kept["rate"])
        height = int(self.filled.max())
        if height > len(self.rows["reward"]):
            self._grow(height)
        for name, column in self.rows.items():
            column[:height] = kept[f"rows.{name}"]


WORTH_A_THREAD = 256 * 64 * 64
"""Minibatch times squared width from which a second thread saves more than it costs."""
