"""Soft actor-critic (Haarnoja et al. 2018, "Soft actor-critic algorithms and applications"): twin critics, a squashed Gaussian
policy, and an entropy weight that is learned.
"""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.learning.exploration import Deviations, Kind
from plucky_heron.learning.kernels import squashed as squashed_kernels
from plucky_heron.learning.method import Space
from plucky_heron.learning.network import Network
from plucky_heron.learning.off_policy import OffPolicy, OffPolicySettings
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.replay import Rows
from plucky_heron.learning.settings import setting
from plucky_heron.learning.squashed import LEAST_LOG_SPREAD, MOST_LOG_SPREAD, spread_bias, squashed_draw
from plucky_heron.randomness import freeze, stream, thaw

Array = np.ndarray


class SoftSettings(OffPolicySettings):
    """Settings of the method."""

    entropy_per_command: float = setting(
        -1.0, "entropy wanted", "Entropy that the policy keeps for each command, in nats, of commands as shares of the range.",
        "Too high: commands stay noisy and precise work fails. Too low: stops exploring early.", ge=-10, le=0.69,
    )  # fmt: skip
    entropy_weight_start: float = setting(
        0.1, "entropy weight at first", "What a nat of entropy is worth against reward before it is learned.",
        "Too large: first learns to be random; too small: first learns one thing only.", gt=0, le=10,
    )  # fmt: skip
    entropy_learning_rate: float = setting(
        1e-3, "step size of the entropy weight", "How fast the weight follows; 0 keeps it.",
        "Too large: the weight swings; spread swings with it.", ge=0, le=1,
    )  # fmt: skip
    log_spread_start: float = setting(
        -1.0, "log-spread at first", "Logarithm of the untrained policy's spread before squashing.",
        "Too large: commands jump from limit to limit.", gt=LEAST_LOG_SPREAD, lt=MOST_LOG_SPREAD,
    )  # fmt: skip
    exploration_memory: float = setting(
        0.0, "exploration memory", "Correlation of draws from sample to sample; 0 draws afresh each sample.",
        "0 for a heavy machine at a high rate: exploring hardly moves it.", ge=0, lt=1,
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
        self.log_weight: Array = np.full(1, math.log(settings.entropy_weight_start), dtype=dtype)
        self.weight_adam = Adam(1, dtype)
        self.wanted_entropy = settings.entropy_per_command * self.actions
        kind: Kind = "drifting" if settings.exploration_memory > 0.0 else "independent"
        self.deviations = Deviations(kind, copies, self.actions, seed, settings.exploration_memory)
        self.draws = stream(seed, "policy draws")

    def explore(self, inputs: Array) -> Array:
        """A draw from the policy; with memory, the normal draws behind it drift instead of being fresh."""
        outputs = self.actor.forward(self.parameters, inputs)
        commands, _, _ = squashed_draw(outputs, self.deviations.draw().astype(self.dtype))
        return commands.astype(np.float64)

    def begin(self, over: Array) -> None:
        """New episodes, without a past."""
        self.deviations.begin(over)

    def best(self, inputs: Array) -> Array:
        """The mean before squashing, squashed."""
        return np.asarray(np.tanh(self.actor.forward(self.parameters, inputs)[:, : self.actions]))

    def update(self, rows: Rows, state: Array, after: Array) -> dict[str, float]:
        """Critics, policy, entropy weight, targets."""
        settings, count = self.settings, len(state)
        weight = math.exp(self.log_weight[0])
        noise = self.draws.standard_normal((2, count, self.actions), dtype=np.float32).astype(self.dtype, copy=False)
        wanted = self.targets(rows, after, noise[0], weight)
        loss, value = self.fit_critics(rows, state, wanted)
        figures = self.actor_loss(state, noise[1], weight)
        norm = self.actor_adam.step(
            self.parameters, self.actor_gradient, settings.actor_learning_rate, settings.gradient_limit
        )
        # J = -log_weight * mean(log density + wanted entropy), after Haarnoja et al. 2018, eq. 18, on the logarithm of the weight
        if settings.entropy_learning_rate > 0.0:
            push = np.array([figures["entropy"] - self.wanted_entropy], dtype=self.dtype)
            self.weight_adam.step(self.log_weight, push, settings.entropy_learning_rate)
        for critic in self.critics:
            critic.follow(settings.target_mix)
        return figures | {"critic_loss": loss, "value": value, "gradient": norm, "entropy_weight": weight}

    def targets(self, rows: Rows, after: Array, noise: Array, weight: float) -> Array:
        """What the critics are to say: reward, and the least target value less the weighted log-density (eq. 5)."""
        outputs = self.actor.forward(self.parameters, np.ascontiguousarray(after[:, : self.space.seen]))
        commands, log_density, _ = squashed_draw(outputs, noise)
        after[:, self.observations :] = commands
        said: list[Array] = [commands] * 2

        def say(number: int) -> None:
            said[number] = self.critics[number].values(after, target=True)

        self.side.by_side([lambda: say(0), lambda: say(1)])
        least = np.minimum(said[0], said[1])
        wanted: Array = rows.reward + rows.factor * (least - self.dtype(weight) * log_density)
        return wanted.astype(self.dtype, copy=False)

    def actor_loss(self, state: Array, noise: Array, weight: float) -> dict[str, float]:
        """Mean of ``weight * log_density - least value``; its gradient stands in `actor_gradient`."""
        inputs = np.ascontiguousarray(state[:, : self.space.seen])
        outputs = self.actor.forward(self.parameters, inputs)
        commands, log_density, log_spread = squashed_draw(outputs, noise)
        state[:, self.observations :] = commands
        values: list[Array] = [commands] * 2
        slopes = [self._buffer("slope 0", len(state)), self._buffer("slope 1", len(state))]

        def climb(number: int) -> None:
            values[number] = self.critics[number].slope(state, slopes[number])

        self.side.by_side([lambda: climb(0), lambda: climb(1)])
        first = values[0] < values[1]
        slope = np.where(first[:, None], slopes[0][:, self.observations :], slopes[1][:, self.observations :])
        back = np.empty_like(outputs)
        squashed_kernels.soft_actor_gradient(
            outputs, noise, commands, log_spread, slope, weight, LEAST_LOG_SPREAD, MOST_LOG_SPREAD, back
        )
        self.actor.backward(self.parameters, inputs, back, self.actor_gradient)
        density, spread = float(log_density.mean()), np.exp(log_spread)
        return {
            "policy_loss": weight * density - float(np.minimum(values[0], values[1]).mean()), "entropy": -density,
            "spread": float(spread.mean()), "spread_least": float(spread.min()), "spread_most": float(spread.max()),
        }  # fmt: skip

    def policy_network(self) -> tuple[Network, Array]:
        """The part of the network that puts out means."""
        network = self._network(self.space.seen, self.actions)
        return network, self.actor.narrowed(self.parameters, network)

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
