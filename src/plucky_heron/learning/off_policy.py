"""What methods that learn from a replay buffer share: random start, rounds, minibatches, critics, tracking of their predictions."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import replace

import numpy as np

from plucky_heron.learning.critic import Critic, Side
from plucky_heron.learning.exploration import Deviations, RandomStart
from plucky_heron.learning.inputs import Inputs, carry_over
from plucky_heron.learning.kernels import off_policy as kernels
from plucky_heron.learning.kernels.basic import mix
from plucky_heron.learning.method import Experience, Space
from plucky_heron.learning.network import Network
from plucky_heron.learning.off_policy_settings import OffPolicySettings
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.replay import Replay, Rows
from plucky_heron.learning.running import RunningSpread
from plucky_heron.learning.settings import left
from plucky_heron.learning.worth import Worth
from plucky_heron.randomness import freeze, stream, thaw
from plucky_heron.task.commanding import from_shares, to_shares

Array = np.ndarray


class OffPolicy(ABC):
    """A method at work on a replay buffer; see `method.Method` for the contract.

    Sub-classes say how commands are explored, what the critics are to learn, and how the policy follows.
    """

    outputs_per_action = 1
    deviations: Deviations
    """What copies deviate by, made by sub-classes."""

    def __init__(
        self, settings: OffPolicySettings, space: Space, copies: int, seed: int, threads: int = 1,
        critics: int = 1, dtype: type[np.floating] = np.float32,
    ) -> None:  # fmt: skip
        self.shared, self.space, self.copies, self.dtype = settings, space, copies, dtype
        self.observations, self.actions = len(space.observation_low), len(space.low)
        self.inputs = Inputs(space, settings.observation_standardisation, settings.observation_limit)
        self.paid = RunningSpread(1)
        self.running_return: Array = np.zeros(copies)
        self.replay = Replay(
            settings.replay_capacity, copies, self.observations, self.actions, settings.priority, space.mirror, settings.mirrored_share
        )  # fmt: skip
        self.drawing = stream(seed, "minibatch order")
        self.random_start = RandomStart(copies, self.actions, seed, settings.random_hold)
        generator = stream(seed, "initial weights")
        self.actor = self._network(space.seen, self.outputs_per_action * self.actions)
        self.parameters: Array = np.zeros(self.actor.count, dtype=dtype)
        self.actor.initialise(self.parameters, generator, settings.orthogonal_start, settings.last_layer_scale)
        self.averaged = self.parameters.copy()
        self.actor_gradient = self.parameters.copy()
        self.actor_adam = Adam(self.actor.count, dtype)
        network = self._network(self.observations + self.actions, 1, critic=True)
        self.critics = [Critic(network, settings.minibatch) for _ in range(critics)]
        for critic in self.critics:
            critic.initialise(generator, settings.orthogonal_start)
        work = settings.minibatch * max(settings.hidden) ** 2
        self.side = Side(threads if critics > 1 and work >= WORTH_A_THREAD else 1)
        self.steps = self.updates = 0
        self.next_scale = max(settings.random_start_steps, LEAST_SCALE)
        """Step at which the map of observations follows next."""
        self.begun_with = 0
        """Whether its networks came from another run: 0 they did not, 1 the policy alone, 2 its critics too."""
        self.progress, self.due = 0.0, 0.0
        self.waiting, self.episode_over = 0, False
        self.gap: Array = np.zeros(3)
        self.bounds: Array = np.array([np.inf, -np.inf])
        """The least and the most that a state may be worth."""
        count = settings.minibatch

        def make(width: int) -> Array:
            return np.zeros((count, width), dtype=dtype)

        joined = self.observations + self.actions
        self.state, self.after, self.chosen = make(joined), make(joined), make(joined)
        self.seen, self.seen_after = make(space.seen), make(space.seen)
        self.worth: Array = np.zeros(count, dtype=dtype)
        self.actor_plan, self.actor_plan_after = self.actor.plan(count), self.actor.plan(count)
        self.actor_back = make(self.actor.sizes[-1])

    def _network(self, inputs: int, outputs: int, critic: bool = False) -> Network:
        s = self.shared
        hidden = s.critic_hidden if critic and s.critic_hidden is not None else s.hidden
        own = s.critic_layer_normalisation if critic else None
        return Network(
            (inputs, *hidden, outputs), s.activation, self.dtype, s.layer_normalisation if own is None else own
        )

    @property
    def resting(self) -> bool:
        """Whether critics learn alone, so that they know what the first policy is worth (Silver et al. 2018, section 4)."""
        alone = 2 * self.shared.random_start_steps if self.begun_with == 1 else 0
        return self.steps < max(self.shared.critic_only_steps, alone)

    def start_with(self, critics: bool) -> None:
        """Its networks came from another run: it commands by them from the first step on, and critics that are new learn alone at first."""
        self.begun_with = 2 if critics else 1
        self.inputs.held = self.inputs.newest()

    # --- for sub-classes -----------------------------------------------------------------------------------------

    @abstractmethod
    def explore(self, inputs: Array, unit: Array) -> Array:
        """Commands with exploration, shares of the range (N, actions), for policy inputs (N, seen) and unit deviations (N, actions)."""

    @abstractmethod
    def update(self, rows: Rows) -> None:
        """One gradient step; `state`, `after`, `seen` and `seen_after` hold the inputs of these rows."""

    @abstractmethod
    def figures(self) -> dict[str, float]:
        """Health figures of the last update."""

    @abstractmethod
    def best(self, inputs: Array) -> Array:
        """Commands without exploration, shares of the range (N, actions)."""

    # --- acting --------------------------------------------------------------------------------------------------

    def choose(self, observations: Array) -> Array:
        """Random commands at first, then the policy's with exploration."""
        last = self.shared.standardisation_steps
        if last is None or self.steps < max(last, self.next_scale):
            self.inputs.update(observations)
            if self.steps >= self.next_scale:
                self.follow()
        inputs = self.inputs.of(observations).astype(self.dtype)
        if self.steps < self.shared.random_start_steps and not self.begun_with:
            commands = self.random_start.draw()
        else:
            commands = self.explore(np.ascontiguousarray(inputs[:, : self.space.seen]), self.deviations.draw())
        return from_shares(self.space.low, self.space.high, commands)

    def follow(self) -> None:
        """Bring the map of observations up to what was seen; networks that have learned say what they said before."""
        old, new = self.inputs.affine(), self.inputs.newest()
        self.inputs.held = new
        self.next_scale = 2 * max(self.steps, LEAST_SCALE)
        if self.updates or self.begun_with:
            for network, parameters, adam in self.networks():
                carry_over(network, parameters, old, new, adam)

    def networks(self) -> list[tuple[Network, Array, Adam | None]]:
        """All networks that read observations: parameters, and their optimiser where they have one."""
        found: list[tuple[Network, Array, Adam | None]] = [
            (self.actor, self.parameters, self.actor_adam),
            (self.actor, self.averaged, None),
        ]
        for critic in self.critics:
            found += [(critic.network, critic.parameters, critic.adam), (critic.network, critic.target, None)]
        return found

    def take(self, experience: Experience) -> None:
        """Remember the step; where an episode is over, compare what the critic predicted with what came."""
        observations, commands = self.met(experience)
        experience = replace(
            experience, reward=experience.limited(self.shared.reward_limit, penalty=self.shared.penalty_limit)
        )
        lost = experience.lost if experience.lost is not None and experience.lost.any() else None
        inputs = np.concatenate([self.inputs.of(observations), commands], axis=1, dtype=self.dtype)
        predicted = self.critics[0].of(inputs).copy()
        self.replay.add(observations, commands, predicted * self._reward_spread(), experience)
        if lost is not None:
            self.replay.lose(lost)
        self.running_return = self.shared.discount * self.running_return + experience.reward
        for_ever = np.where(experience.ended, 1.0, 1.0 / (1.0 - self.shared.discount)) * experience.reward
        self.bounds[:] = min(self.bounds[0], for_ever.min()), max(self.bounds[1], for_ever.max())
        self.paid.update(self.running_return[:, None])
        over = experience.ended | experience.cut
        if over.any():
            self._compare(experience, over if lost is None else over & ~lost)
            self.running_return[over] = 0.0
            self.episode_over = True
            self.deviations.begin(over)
        self.steps += self.copies
        # the random start brings no updates: made up for all at once, they would fit the critic to that little alone
        self.waiting = self.waiting + self.copies if self.steps > self.shared.random_start_steps else 0

    def met(self, experience: Experience) -> tuple[Array, Array]:
        """Observations (B, n) and commands as shares of the range (B, actions) of a step."""
        assert experience.before is not None and experience.command is not None
        return experience.before, to_shares(self.space.low, self.space.high, experience.command)

    def _compare(self, experience: Experience, over: Array) -> None:
        inputs = self.inputs.of(experience.after)
        commands = self.best(np.ascontiguousarray(inputs[:, : self.space.seen].astype(self.dtype)))
        tails = self.critics[0].of(np.concatenate([inputs, commands], axis=1, dtype=self.dtype)) * self._reward_spread()
        for copy in np.flatnonzero(over):
            tail = 0.0 if experience.ended[copy] else float(tails[copy])
            self.gap += self.replay.realised(int(copy), self.shared.discount, tail)

    def ready(self) -> bool:
        """Whether a round of updates is due."""
        if self.due >= 1.0:
            return True
        if self.steps < self.shared.random_start_steps or self.waiting < self.shared.steps_per_round:
            return False
        # an episode may be as long as it likes, but the loop must hear from the method now and then
        return self.shared.update_after == "steps" or self.episode_over or self.waiting >= PATIENCE

    # --- learning ------------------------------------------------------------------------------------------------

    def improve(self, progress: float) -> dict[str, float]:
        """As many updates as are due."""
        shared, self.progress = self.shared, progress
        if shared.update_after == "steps" or self.episode_over:
            self.due += shared.updates_per_step * self.waiting
            self.episode_over = False
            self.waiting = 0
        if self.due >= 1.0 and self.updates == 0 and shared.values_from_start and self.begun_with < 2:
            self.begin_values()
        for _ in range(min(int(self.due), MOST_AT_ONCE)):
            self.learn_once()
            self.due -= 1.0
        health = self.figures() if self.updates else {}
        if self.updates:
            health["inputs_at_limit"] = self.inputs.at_limit(self.state[:, : self.observations])
        said, came, count = self.gap
        if count > 0:
            health |= {"value_predicted": float(said / count), "value_realised": float(came / count)}
            self.gap[:] = 0.0
        newest = self.replay.commands[self.replay.last : self.replay.last + self.copies]
        return health | {"at_limit": float((np.abs(newest) > 0.99).mean()), "replay": float(self.replay.size)}

    def begin_values(self) -> None:
        """Let the critics say at first what was earned so far, on the whole."""
        start = float(self.replay.returns(self.shared.discount).mean()) / float(self._reward_spread())
        for critic in self.critics:
            for parameters in (critic.parameters, critic.target):
                critic.network.layers(parameters)[-1][1][:] += start

    def look_along(self, observations: Array, commands: Array) -> Worth:
        """What the critics say along an episode; see `learning.worth`."""
        inputs = self.inputs.of(observations).astype(self.dtype)
        seen = np.ascontiguousarray(inputs[:, : self.space.seen])
        shares = to_shares(self.space.low, self.space.high, commands)
        shares = np.concatenate([shares, self.best(seen[-1:])])
        both = np.concatenate([inputs, shares], axis=1, dtype=self.dtype)
        values = np.stack([critic.of(both).astype(np.float64) for critic in self.critics], axis=1)
        ends = self.spread_ends(seen)
        bounds = (from_shares(self.space.low, self.space.high, e.astype(np.float64)) for e in ends) if ends else ()
        return Worth(values * float(self._reward_spread()), *bounds)

    def spread_ends(self, inputs: Array) -> tuple[Array, Array] | None:
        """Commands a standard deviation below and above the policy's (N, actions), where its network says how far it spreads."""
        return None

    def learn_once(self) -> None:
        """Draw a minibatch and make one update."""
        shared = self.shared
        evenness = 0.4 + 0.6 * min(max(self.progress, 0.0), 1.0)
        self.learn_from(
            self.replay.draw(shared.minibatch, self.drawing, shared.return_steps, shared.discount, evenness)
        )

    def learn_from(self, rows: Rows) -> None:
        """One update on these rows."""
        self.prepare(rows)
        self.updates += 1
        self.update(rows)
        if self.shared.policy_average > 0.0:
            mix(self.averaged, self.parameters, self.shared.policy_average)
        if self.replay.priority > 0.0:
            self.replay.surprised(rows.indices, self.critics[0].errors)

    def prepare(self, rows: Rows) -> None:
        """Inputs of the rows, and rewards to the scale of values."""
        offset, scale = self.inputs.affine()
        limit = self.inputs.limit
        kernels.inputs_of(rows.observations, offset, scale, limit, rows.commands, self.state, self.seen)
        kernels.inputs_of(rows.after, offset, scale, limit, rows.commands, self.after, self.seen_after)
        if self.shared.reward_standardisation:
            rows.reward[:] /= self._reward_spread()

    def _reward_spread(self) -> np.float32:
        """What rewards are divided by."""
        if not self.shared.reward_standardisation:
            return np.float32(1.0)
        return np.float32(self.paid.spread[0] / self.shared.value_scale)

    def decayed(self, rate: float) -> float:
        """A learning rate as it is at this point of the budget."""
        return rate * left(self.shared.learning_rate_share_end, self.progress)

    def fit_critics(self, rows: Rows, worth: Array, chosen: Array | None) -> None:
        """One step of each critic towards `worth` (N,); then they value the policy's commands `chosen` (N, commands), if it is
        its turn."""
        s, rate = self.shared, self.decayed(self.shared.learning_rate)

        def fit(number: int) -> None:
            self.critics[number].fit(
                self.state, rows, worth, rate, s.gradient_limit, s.target_mix, chosen, s.value_huber
            )

        self.side.by_side([lambda k=k: fit(k) for k in range(len(self.critics))])  # type: ignore[misc]

    def critics_say(self) -> None:
        """The targets' values of `after`, into each critic's `said`."""
        self.side.by_side([lambda c=c: c.say(self.after) for c in self.critics])  # type: ignore[misc]
        if self.shared.value_bounds:
            low, high = self.bounds / self._reward_spread()
            for critic in self.critics:
                np.clip(critic.said, low, high, out=critic.said)

    def policy(self) -> Policy:
        """The present policy without exploration, with the present standardisation frozen in."""
        offset, scale = self.inputs.affine()
        seen = self.space.seen
        network, parameters = self.policy_network()
        return Policy(
            network.sizes, network.activation, parameters, offset[:seen].astype(np.float32), scale[:seen].astype(np.float32),
            self.inputs.limit, self.space.low.astype(np.float32), self.space.high.astype(np.float32),
            normalised=network.normalised, squashed=True,
        )  # fmt: skip

    def policy_network(self) -> tuple[Network, Array]:
        """The network that goes out, and its parameters."""
        return self.actor, self.kept_parameters.copy()

    @property
    def kept_parameters(self) -> Array:
        """The policy's parameters as they are kept: averaged over updates (Polyak and Juditsky 1992), or as they are."""
        return self.averaged if self.shared.policy_average > 0.0 else self.parameters

    # --- checkpoints ---------------------------------------------------------------------------------------------

    def keep(self) -> dict[str, Array]:
        """All state, the replay buffer included."""
        kept: dict[str, Array] = {
            "parameters": self.parameters.copy(), "averaged": self.averaged.copy(), "paid": self.paid.keep(),
            "running_return": self.running_return.copy(), "drawing": freeze(self.drawing), "gap": self.gap.copy(), "bounds": self.bounds.copy(),
            "counts": np.array([self.steps, self.updates, self.waiting, self.episode_over, self.next_scale]),
            "shares": np.array([self.progress, self.due]), "begun_with": np.array(self.begun_with),
        }  # fmt: skip
        parts = {
            "inputs": self.inputs.keep(),
            "adam": self.actor_adam.keep(),
            "replay": self.replay.keep(),
            "random": self.random_start.keep(),
        }
        parts |= {f"critic{number}": critic.keep() for number, critic in enumerate(self.critics)}
        return kept | {f"{part}.{k}": v for part, values in parts.items() for k, v in values.items()}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""

        def part(name: str) -> dict[str, Array]:
            return {k.removeprefix(name + "."): v for k, v in kept.items() if k.startswith(name + ".")}

        self.parameters[...], self.averaged[...] = kept["parameters"], kept["averaged"]
        self.inputs.restore(part("inputs"))
        self.paid.restore(kept["paid"])
        self.running_return = kept["running_return"].copy()
        thaw(self.drawing, kept["drawing"])
        self.gap[...] = kept["gap"]
        if "bounds" in kept:  # runs that were begun before there were bounds go on without
            self.bounds[...] = kept["bounds"]
        self.steps, self.updates, self.waiting = (int(x) for x in kept["counts"][:3])
        self.episode_over, self.next_scale = bool(kept["counts"][3]), int(kept["counts"][4])
        self.progress, self.due = (float(x) for x in kept["shares"])
        self.begun_with = int(kept.get("begun_with", 0))
        self.actor_adam.restore(part("adam"))
        self.replay.restore(part("replay"))
        self.random_start.restore(part("random"))
        for number, critic in enumerate(self.critics):
            critic.restore(part(f"critic{number}"))


WORTH_A_THREAD = 256 * 64 * 64
"""Minibatch times squared width from which handing one critic to another thread saves more than it costs."""
LEAST_SCALE = 500
"""Steps before which the map of observations is not held."""
MOST_AT_ONCE = 256
"""Updates after which the loop is told, so that it can stop."""
PATIENCE = 8192
"""Steps after which a method that learns after episodes returns to the loop without having learned."""
