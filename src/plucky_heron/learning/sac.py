"""Soft actor-critic (Haarnoja et al. 2018, "Soft actor-critic algorithms and applications"): twin critics, a squashed Gaussian
policy, and an entropy weight that is learned.
"""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np

from plucky_heron.learning.exploration import Deviations, Kind
from plucky_heron.learning.health import ENTROPY_WEIGHT, OFF_POLICY, SPREAD, HealthFigure
from plucky_heron.learning.kernels import off_policy as kernels
from plucky_heron.learning.method import Space
from plucky_heron.learning.network import Network
from plucky_heron.learning.off_policy import OffPolicy
from plucky_heron.learning.off_policy_settings import OffPolicySettings
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.replay import Rows
from plucky_heron.learning.settings import setting
from plucky_heron.learning.squashed import LEAST_LOG_SPREAD, MOST_LOG_SPREAD, spread_bias, squashed_draw
from plucky_heron.randomness import freeze, stream, thaw

Array = np.ndarray


class SoftSettings(OffPolicySettings):
    """Settings of the method."""

    health: ClassVar[tuple[HealthFigure, ...]] = (SPREAD, ENTROPY_WEIGHT, *OFF_POLICY)

    entropy_per_command: float = setting(
        -1.0, "entropy wanted", "Entropy that the policy keeps for each command, in nats, of commands as shares of the range.",
        "Too high: commands stay noisy and precise work fails. Too low: stops exploring early.", ge=-10, le=0.69,
    )  # fmt: skip
    entropy_per_command_end: float | None = setting(
        None, "entropy wanted at the end", "What the entropy wanted falls to when the budget is used up; off keeps it.",
        "Too low too early: see entropy wanted.", ge=-10, le=0.69,
    )  # fmt: skip
    entropy_weight_start: float = setting(
        0.1, "entropy weight at first", "Reward that a nat of entropy counts as before it is learned.",
        "Too large: first learns to be random; too small: first learns one thing only.", gt=0, le=10,
    )  # fmt: skip
    entropy_learning_rate: float = setting(
        1e-3, "learning rate of the entropy weight", "How fast the weight follows; 0 keeps it.",
        "Too large: the weight swings; spread swings with it.", ge=0, le=1,
    )  # fmt: skip
    entropy_in_values: bool = setting(
        True, "entropy in values", "Whether critics count the entropy to come as reward; off: only the policy's own step weighs it (Ball et al. 2023).",
        "On with a long horizon: states are sought for their entropy, and the policy comes to rest beside its mark.",
    )  # fmt: skip
    log_spread_start: float = setting(
        -1.0, "log-spread at first", "Logarithm of the untrained policy's spread before squashing.",
        "Too large: commands jump from limit to limit.", gt=LEAST_LOG_SPREAD, lt=MOST_LOG_SPREAD,
    )  # fmt: skip
    exploration_memory: float = setting(
        0.0, "exploration memory", "Correlation of draws from sample to sample; 0 draws afresh each sample.",
        "0 for a heavy machine at a high rate: exploring hardly moves it.", time="memory", ge=0, lt=1,
    )  # fmt: skip


class SoftActorCritic(OffPolicy):
    """The method at work."""

    outputs_per_action = 2

    def __init__(
        self,
        settings: SoftSettings,
        space: Space,
        copies: int,
        seed: int,
        threads: int = 1,
        dtype: type[np.floating] = np.float32,
    ) -> None:
        super().__init__(settings, space, copies, seed, threads, critics=2, dtype=dtype)
        self.settings = settings
        self.actor.layers(self.parameters)[-1][1][self.actions :] = spread_bias(settings.log_spread_start)
        self.averaged[...] = self.parameters
        self.log_weight: Array = np.full(1, math.log(settings.entropy_weight_start), dtype=dtype)
        self.weight_adam = Adam(1, dtype)
        kind: Kind = "drifting" if settings.exploration_memory > 0.0 else "independent"
        self.deviations = Deviations(
            kind, copies, self.actions, stream(seed, "exploration"), settings.exploration_memory
        )
        self.draws = stream(seed, "policy draws")
        count = settings.minibatch
        commands: Array = np.zeros((count, self.actions), dtype=dtype)
        self.drawn = commands, np.zeros(count, dtype=dtype), commands.copy()
        self.values: Array = np.zeros((2, count), dtype=dtype)
        self.slopes: Array = np.zeros((2, count, self.observations + self.actions), dtype=dtype)
        self.told: Array = np.zeros(6)
        self.weight = settings.entropy_weight_start

    @property
    def wanted_entropy(self) -> float:
        """Entropy that the policy is to keep at this point of the budget, nats over all commands."""
        s = self.settings
        last = s.entropy_per_command if s.entropy_per_command_end is None else s.entropy_per_command_end
        share = min(max(self.progress, 0.0), 1.0)
        return self.actions * (s.entropy_per_command + (last - s.entropy_per_command) * share)

    def explore(self, inputs: Array, unit: Array) -> Array:
        """A draw from the policy; with memory, the normal draws behind it drift instead of being fresh."""
        outputs = self.actor.forward(self.parameters, inputs)
        commands, _, _ = squashed_draw(outputs, unit.astype(self.dtype))
        return commands.astype(np.float64)

    def best(self, inputs: Array) -> Array:
        """The mean before squashing, squashed."""
        return np.asarray(np.tanh(self.actor.forward(self.parameters, inputs)[:, : self.actions]))

    def spread_ends(self, inputs: Array) -> tuple[Array, Array]:
        """The mean before squashing less and plus its spread, squashed."""
        outputs = self.actor.forward(self.parameters, inputs)
        mean = outputs[:, : self.actions]
        middle, half = 0.5 * (LEAST_LOG_SPREAD + MOST_LOG_SPREAD), 0.5 * (MOST_LOG_SPREAD - LEAST_LOG_SPREAD)
        spread = np.exp(middle + half * np.tanh(outputs[:, self.actions :]))
        return np.tanh(mean - spread), np.tanh(mean + spread)

    def update(self, rows: Rows) -> None:
        """Critics, policy, entropy weight, targets."""
        noise = self.draws.standard_normal((2, len(self.state), self.actions), dtype=np.float32)
        self.update_with(rows, noise.astype(self.dtype, copy=False))

    def update_with(self, rows: Rows, noise: Array) -> None:
        """An update with given draws (2, N, actions): for what the later state is worth, and for the policy's own step."""
        settings = self.settings
        self.weight = weight = math.exp(self.log_weight[0])
        limits = LEAST_LOG_SPREAD, MOST_LOG_SPREAD
        commands, log_density, log_spread = self.drawn
        kernels.soft_draw(
            self.parameters,
            self.actor_plan_after,
            self.seen_after,
            noise[0],
            *limits,
            self.after,
            commands,
            log_density,
            log_spread,
        )
        self.critics_say()
        counted = weight if settings.entropy_in_values else 0.0
        kernels.soft_value(self.critics[0].said, self.critics[1].said, log_density, counted, self.worth)
        self.chosen[...] = self.state
        outputs = kernels.soft_draw(
            self.parameters,
            self.actor_plan,
            self.seen,
            noise[1],
            *limits,
            self.chosen,
            commands,
            log_density,
            log_spread,
        )
        self.fit_critics(rows, self.worth, self.chosen)
        if self.resting:
            return
        for number, critic in enumerate(self.critics):
            self.values[number], self.slopes[number] = critic.values, critic.slope
        kernels.soft_climb(
            self.parameters, self.actor_plan, self.actor_gradient,
            self.actor_adam.plan(self.decayed(settings.actor_learning_rate), settings.gradient_limit), self.seen, outputs, noise[1], commands,
            log_density, log_spread, self.values, self.slopes, weight, *limits, self.actor_back, self.told,
        )  # fmt: skip
        self.actor_adam.counted()
        # J = -log_weight * mean(log density + wanted entropy), after Haarnoja et al. 2018, eq. 18, on the logarithm of the weight
        if settings.entropy_learning_rate > 0.0:
            push = np.array([-self.told[1] - self.wanted_entropy], dtype=self.dtype)
            self.weight_adam.step(self.log_weight, push, settings.entropy_learning_rate)

    def figures(self) -> dict[str, float]:
        """Health figures of the last update."""
        loss, density, spread, least, most, norm = (float(x) for x in self.told)
        critic = self.critics[0].figures
        return {
            "policy_loss": loss, "entropy": -density, "spread": spread, "spread_least": least, "spread_most": most, "gradient": norm,
            "critic_loss": float(critic[0]), "value": float(critic[1]), "entropy_weight": self.weight,
        }  # fmt: skip

    def policy_network(self) -> tuple[Network, Array]:
        """The part of the network that puts out means."""
        network = self._network(self.space.seen, self.actions)
        return network, self.actor.narrowed(self.kept_parameters, network)

    def keep(self) -> dict[str, Array]:
        """All state."""
        parts = {"weight": self.weight_adam.keep(), "deviations": self.deviations.keep()}
        return super().keep() | {f"{part}.{k}": v for part, values in parts.items() for k, v in values.items()} | {
            "log_weight": self.log_weight.copy(), "draws": freeze(self.draws),
        }  # fmt: skip

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        super().restore(kept)
        self.weight_adam.restore({k[7:]: v for k, v in kept.items() if k.startswith("weight.")})
        self.deviations.restore({k[11:]: v for k, v in kept.items() if k.startswith("deviations.")})
        self.log_weight[...] = kept["log_weight"]
        thaw(self.draws, kept["draws"])
