"""The loss of policy and critic that methods of fresh experience share, its settings, and its gradient.

The policy is Gaussian over commands as shares of the range; squashed, its draws pass through tanh on their way out, and all
densities are those of the draws before it (the change of variables does not depend on the parameters and cancels).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.learning.critic import Side
from plucky_heron.learning.health import ON_POLICY, HealthFigure
from plucky_heron.learning.kernels import on_policy as losses
from plucky_heron.learning.memory import Memory, Sequence
from plucky_heron.learning.network import Network
from plucky_heron.learning.settings import CriticSettings, ends_as_shares, setting

Array = np.ndarray

LEAST_LOG_SPREAD, MOST_LOG_SPREAD = -4.0, 1.0


class OnPolicySettings(CriticSettings):
    """Settings of every method that learns from fresh experience; `None` or false switches a part off."""

    health: ClassVar[tuple[HealthFigure, ...]] = ON_POLICY

    advantage_decay: float = setting(
        0.95, "advantage decay", "λ of the advantage: 1 takes whole returns, 0 only the next value.",
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
        1e-3, "learning rate", "How far one gradient step moves the networks.",
        "Too large: change an update (KL) and ratios limited leave their bands. Too small: KL near 0.", gt=0, le=1,
    )  # fmt: skip
    learning_rate_share_end: float = setting(
        0.1, "learning rate at the end", "Share of the learning rate that is left when the budget is used up; it falls evenly.",
        "Too large: the score wanders at the end.", ge=0, le=1,
    )  # fmt: skip
    schedule: Literal["linear", "constant", "by change"] = setting(
        "linear", "schedule", "How the learning rate goes; by change: it follows the measured change (KL) to its wish.",
        "linear with too small a budget: stops learning before it has learned.",
    )  # fmt: skip
    update_after: Literal["steps", "episodes"] = setting(
        "steps", "update after", "Learns from a fixed number of steps, or from whole episodes alone (for rewards that come at the end).",
        "steps with a reward only at the end: the critic must carry it back.",
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
    memory: int = setting(
        0, "memory", "Gated units by which policy and critic each remember what they were given before; 0 remembers nothing.",
        "0 where one sample does not tell the state (no speeds, dead time, play). Any: slower, and more steps to learn.", ge=0, le=1024,
    )  # fmt: skip
    exploration_memory: float = setting(
        0.0, "exploration memory", "Share of the last deviation from the mean that is carried into the next draw; 0 draws afresh.",
        "0 for a heavy machine at a high rate: exploring hardly moves it.", time="memory", ge=0, lt=1,
    )  # fmt: skip
    critic_learning_rate: float | None = setting(
        None, "learning rate of the critic", "With one of its own the critic has its own optimiser, gradient limit and evenly falling rate; off: "
        "one for both.", "Too large: value figures jump. Too small: critic explains little.", gt=0, le=1,
    )  # fmt: skip
    critic_passes: int = setting(
        1, "passes of the critic", "How often the critic goes over the rows of an update; passes of the policy count.",
        "Too many: the critic learns the noise of these rows by heart.", ge=1, le=100,
    )  # fmt: skip
    beyond_weight: float = setting(
        0.0, "cost of means beyond", "Cost of the square of what the policy's means lie beyond the limits.",
        "0: means wander off beyond the limits, and exploration with them. Too large: weak commands.", ge=0, le=100,
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
        "Off: the learning rate means something else in every task.",
    )  # fmt: skip
    time_limit_bootstrap: bool = setting(
        True, "bootstrap time limits", "The value of the state at which time cut an episode still counts.",
        "Off: the end of time looks like a failure that nothing announces.",
    )  # fmt: skip

    _ends = ends_as_shares({"learning_rate_end": "learning_rate"})


@dataclass(frozen=True)
class Minibatch:
    """Rows of one gradient step: inputs (N, observations), draws (N, m), the rest (N,).

    With a `sequence` the rows are its steps, all copies of the first step first; networks with a memory need one.
    """

    inputs: Array
    actions: Array
    log_density: Array
    advantage: Array
    returns: Array
    values: Array
    sequence: Sequence | None = None

    def of_copies(self, copies: Array) -> Minibatch:
        """The rows of some copies of the sequence."""
        if self.sequence is None:
            raise StateError("these rows do not follow each other")
        steps, width = self.sequence.first.shape

        def pick(rows: Array) -> Array:
            return rows.reshape(steps, width, *rows.shape[1:])[:, copies].reshape(steps * len(copies), *rows.shape[1:])

        return Minibatch(
            pick(self.inputs), pick(self.actions), pick(self.log_density), pick(self.advantage), pick(self.returns), pick(self.values),
            self.sequence.of(copies),
        )  # fmt: skip

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
        if self.shared and settings.memory:
            raise StateError("policy and critic remember each for itself; switch shared_trunk or memory off")
        if self.shared and self.seen != observations:
            raise StateError(
                "a shared trunk cannot be given observations that the policy does not get; switch shared_trunk off"
            )
        heads = actions * (2 if self.own_spread else 1)
        self.heads = heads

        if self.shared and (settings.critic_learning_rate or settings.critic_hidden or settings.critic_passes > 1):
            raise StateError(
                "a shared trunk has no critic apart; switch shared_trunk, or what is said of the critic, off"
            )

        def network(inputs: int, outputs: int, critic: bool = False) -> Network:
            hidden = settings.critic_hidden if critic and settings.critic_hidden is not None else settings.hidden
            normalised = settings.layer_normalisation
            if critic and settings.critic_layer_normalisation is not None:
                normalised = settings.critic_layer_normalisation
            return Network((inputs, *hidden, outputs), settings.activation, dtype, normalised)

        units = settings.memory
        self.actor = network(self.seen + units, heads + self.shared)
        self.critic = self.actor if self.shared else network(observations + units, 1, critic=True)
        self.memories = (Memory(self.seen, units, dtype), Memory(observations, units, dtype)) if units else None
        a = self.actor.count
        self.actor_part = slice(0, a)
        self.spread_part = slice(a, a + (0 if self.own_spread else actions))
        last = self.spread_part.stop
        self.critic_part = slice(0, a) if self.shared else slice(last, last + self.critic.count)
        self.count = last if self.shared else self.critic_part.stop
        self.memory_parts = [slice(0, 0), slice(0, 0)]
        for number, memory in enumerate(self.memories or ()):
            self.memory_parts[number] = slice(self.count, self.count + memory.count)
            self.count += memory.count
        self.gradient: Array = np.zeros(self.count, dtype=dtype)
        self._figures: Array = np.zeros(6)
        self._backs: dict[int, tuple[Array, Array]] = {}
        self._no_spread: Array = np.zeros(actions, dtype=dtype)

    def initial(self, generator: np.random.Generator) -> Array:
        """Start parameters (count,)."""
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
        for memory, part in zip(self.memories or (), self.memory_parts, strict=False):
            memory.initialise(parameters[part], generator)
        return parameters

    def remembered(self, parameters: Array, which: int, inputs: Array, state: Array) -> Array:
        """What the policy (0) or the critic (1) remembers after one more row of inputs, (N, units)."""
        assert self.memories is not None
        return self.memories[which].step(parameters[self.memory_parts[which]], inputs, state)

    def beside(self, parameters: Array, which: int, rows: Array, sequence: Sequence) -> Array:
        """Inputs with what is remembered beside them, (N, inputs + units), for the rows of a sequence."""
        assert self.memories is not None
        memory, (steps, copies) = self.memories[which], sequence.first.shape
        start = sequence.critic if which else sequence.actor
        states = memory.forward(
            parameters[self.memory_parts[which]], rows.reshape(steps, copies, -1), sequence.first, start
        )
        return np.concatenate([rows, states.reshape(len(rows), -1)], axis=1)

    def _remember_back(self, parameters: Array, which: int, rows: Array, sequence: Sequence, by_joined: Array) -> None:
        assert self.memories is not None
        part, (steps, copies) = self.memory_parts[which], sequence.first.shape
        by_states = np.ascontiguousarray(by_joined[:, rows.shape[1] :]).reshape(steps, copies, -1)
        self.memories[which].backward(
            parameters[part], rows.reshape(steps, copies, -1), sequence.first, by_states, self.gradient[part]
        )

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
        back, value_back = self._rooms(count)
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

    def critic_alone(self, parameters: Array, rows: Minibatch) -> float:
        """The critic's loss; its gradient stands in `gradient`, and nothing else does."""
        back, value_back = self._rooms(len(rows.inputs))
        self.gradient[:] = 0.0
        return self._apart(parameters, rows, back, value_back, policy_too=False)

    def _rooms(self, count: int) -> tuple[Array, Array]:
        if count not in self._backs:
            self._backs[count] = (
                np.zeros((count, self.heads + self.shared), dtype=self.dtype), np.zeros((count, 1), dtype=self.dtype),
            )  # fmt: skip
        return self._backs[count]

    def _apart(
        self, parameters: Array, rows: Minibatch, back: Array, value_back: Array, policy_too: bool = True
    ) -> float:
        settings = self.settings
        actor, critic = self.actor, self.critic
        seen = rows.inputs if self.seen == rows.inputs.shape[1] else np.ascontiguousarray(rows.inputs[:, : self.seen])
        inputs, wide = seen, rows.inputs
        sequence = rows.sequence if self.memories is not None else None
        if sequence is not None:
            inputs, wide = (self.beside(parameters, k, x, sequence) for k, x in enumerate((seen, rows.inputs)))
        remembers = sequence is not None
        by_inputs, by_wide = (np.empty_like(x) if remembers else x for x in (inputs, wide))
        here, there = actor.space(len(inputs)), critic.space(len(inputs))
        found = [0.0]

        def policy() -> None:
            losses.policy_step(
                parameters[self.actor_part], actor.shape, actor.kind, actor.normalised, inputs, here.flat, here.places, self.own_spread,
                parameters[self.spread_part], LEAST_LOG_SPREAD, MOST_LOG_SPREAD, rows.actions, rows.log_density, rows.advantage,
                self.ratio_limit, settings.entropy_weight, settings.beyond_weight, back,
                self._no_spread if self.own_spread else self.gradient[self.spread_part], self._figures, self.gradient[self.actor_part],
                by_inputs, remembers,
            )  # fmt: skip
            if sequence is not None:
                self._remember_back(parameters, 0, seen, sequence, by_inputs)

        def value() -> None:
            found[0] = losses.value_step(
                parameters[self.critic_part], critic.shape, critic.kind, critic.normalised, wide, there.flat, there.places,
                rows.returns, rows.values, settings.value_limit or 0.0, settings.value_weight, settings.value_huber or 0.0, value_back,
                self.gradient[self.critic_part], by_wide, remembers,
            )  # fmt: skip
            if sequence is not None:
                self._remember_back(parameters, 1, rows.inputs, sequence, by_wide)

        self.side.by_side([value, policy] if policy_too else [value])
        return found[0]

    def _both(self, parameters: Array, rows: Minibatch, back: Array) -> float:
        settings, part = self.settings, parameters[self.actor_part]
        outputs = self.actor.forward(part, rows.inputs)
        losses.policy_loss(
            outputs, self.own_spread, parameters[self.spread_part], LEAST_LOG_SPREAD, MOST_LOG_SPREAD, rows.actions, rows.log_density,
            rows.advantage, self.ratio_limit, settings.entropy_weight, settings.beyond_weight, back,
            self._no_spread if self.own_spread else self.gradient[self.spread_part], self._figures,
        )  # fmt: skip
        found: float = losses.value_loss(
            outputs[:, -1],
            rows.returns,
            rows.values,
            settings.value_limit or 0.0,
            settings.value_weight,
            settings.value_huber or 0.0,
            back[:, -1],
        )
        self.actor.backward(part, rows.inputs, back, self.gradient[self.actor_part])
        return found


def gaussian_log_density(unit: Array, log_spread: Array) -> Array:
    """Log-density (N,) of independent normals, from the standardised draws and the log-spreads (N, m) or (m,)."""
    density: Array = (-0.5 * np.square(unit) - log_spread - losses.HALF_LOG_TWO_PI).sum(axis=1)
    return density.astype(unit.dtype)
