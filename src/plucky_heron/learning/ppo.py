"""Proximal policy optimisation with a clipped ratio (Schulman et al. 2017, eq. 7), on flat parameter vectors.

Separate actor and critic, a Gaussian policy with a state-independent log-spread, generalised advantage estimation.
Every refinement can be switched off by a setting, so that its effect can be measured.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from pydantic import Field

from plucky_heron.files import Settings
from plucky_heron.learning import kernels
from plucky_heron.learning.method import Experience, Space
from plucky_heron.learning.network import Network
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.running import RunningSpread
from plucky_heron.randomness import freeze, stream, thaw

Array = np.ndarray

_HALF_LOG_TWO_PI = 0.5 * math.log(2.0 * math.pi)
LEAST_LOG_SPREAD, MOST_LOG_SPREAD = -4.0, 1.0


class ProximalSettings(Settings):
    """Settings of the method; `None` or false switches a part off."""

    discount: float = Field(default=0.99, gt=0, lt=1)
    advantage_decay: float = Field(default=0.95, ge=0, le=1)
    ratio_limit: float | None = Field(default=0.2, gt=0, lt=1)
    entropy_weight: float = Field(default=0.0, ge=0, le=1)
    value_weight: float = Field(default=0.5, gt=0, le=10)
    value_limit: float | None = Field(default=None, gt=0)
    learning_rate: float = Field(default=1e-3, gt=0, le=1)
    learning_rate_end: float = Field(default=1e-4, ge=0, le=1)
    schedule: Literal["linear", "constant"] = "linear"
    steps_per_update: int = Field(default=4096, ge=16, le=1_000_000)
    passes: int = Field(default=5, ge=1, le=100)
    minibatch: int = Field(default=256, ge=2)
    kl_limit: float | None = Field(default=0.03, gt=0)
    gradient_limit: float | None = Field(default=0.5, gt=0)
    hidden: tuple[int, ...] = (64, 64)
    activation: Literal["tanh", "relu"] = "tanh"
    exploration_memory: float = Field(default=0.0, ge=0, lt=1)
    """Share of the last deviation from the mean that is carried into the next draw; 0 draws afresh each sample."""
    log_spread_start: float = Field(default=-0.7, ge=LEAST_LOG_SPREAD, le=MOST_LOG_SPREAD)
    observation_standardisation: bool = True
    observation_limit: float = Field(default=5.0, gt=0)
    reward_standardisation: bool = True
    reward_limit: float | None = Field(default=10.0, gt=0)
    advantage_standardisation: bool = True
    time_limit_bootstrap: bool = True
    orthogonal_start: bool = True
    last_layer_scale: float = Field(default=0.01, gt=0, le=10)


@dataclass(frozen=True)
class Minibatch:
    """Rows of one update step: inputs (N, observations), actions (N, m), the rest (N,)."""

    inputs: Array
    actions: Array
    log_density: Array
    advantage: Array
    returns: Array
    values: Array


class ProximalLoss:
    """The loss of one minibatch and its gradient over one vector: actor, log-spread, critic, in this order."""

    def __init__(
        self, settings: ProximalSettings, observations: int, actions: int, dtype: type[np.floating] = np.float32
    ) -> None:
        self.settings, self.dtype = settings, dtype
        self.actor = Network((observations, *settings.hidden, actions), settings.activation, dtype)
        self.critic = Network((observations, *settings.hidden, 1), settings.activation, dtype)
        a = self.actor.count
        self.actor_part = slice(0, a)
        self.spread_part = slice(a, a + actions)
        self.critic_part = slice(a + actions, a + actions + self.critic.count)
        self.count = self.critic_part.stop
        self.gradient: Array = np.zeros(self.count, dtype=dtype)

    def initial(self, generator: np.random.Generator) -> Array:
        """Start parameters."""
        settings = self.settings
        parameters: Array = np.zeros(self.count, dtype=self.dtype)
        self.actor.initialise(
            parameters[self.actor_part], generator, settings.orthogonal_start, settings.last_layer_scale
        )
        parameters[self.spread_part] = settings.log_spread_start
        self.critic.initialise(parameters[self.critic_part], generator, settings.orthogonal_start, 1.0)
        return parameters

    def __call__(self, parameters: Array, rows: Minibatch) -> dict[str, float]:
        """Loss and its parts; the gradient stands in `gradient`."""
        settings, count = self.settings, len(rows.inputs)
        log_spread = parameters[self.spread_part]
        mean = self.actor.forward(parameters[self.actor_part], rows.inputs)
        inverse = np.exp(-log_spread)
        unit = (rows.actions - mean) * inverse
        log_density = gaussian_log_density(unit, log_spread)
        log_ratio = log_density - rows.log_density
        ratio = np.exp(log_ratio)
        gain = ratio * rows.advantage
        if settings.ratio_limit is None:
            objective, limited = gain, np.zeros(count, dtype=bool)
        else:
            held = np.clip(ratio, 1.0 - settings.ratio_limit, 1.0 + settings.ratio_limit) * rows.advantage
            limited = held < gain
            objective = np.minimum(gain, held)
        outside = np.abs(ratio - 1.0) > (settings.ratio_limit or np.inf)
        # d(-mean objective)/d log density, zero where the limit holds the ratio
        push = np.where(limited, 0.0, -gain / count).astype(self.dtype)
        mean_gradient = unit * inverse * push[:, None]
        self.actor.backward(parameters[self.actor_part], rows.inputs, mean_gradient, self.gradient[self.actor_part])
        self.gradient[self.spread_part] = ((unit**2 - 1.0) * push[:, None]).sum(axis=0) - settings.entropy_weight
        value_loss = self._value(parameters, rows)
        entropy = float(log_spread.sum()) + len(log_spread) * (0.5 + _HALF_LOG_TWO_PI)
        policy_loss = -float(objective.mean())
        return {
            "loss": policy_loss - settings.entropy_weight * entropy + settings.value_weight * value_loss,
            "policy_loss": policy_loss,
            "value_loss": value_loss,
            "entropy": entropy,
            "kl": float((ratio - 1.0 - log_ratio).mean()),
            "ratios_limited": float(outside.mean()),
        }

    def _value(self, parameters: Array, rows: Minibatch) -> float:
        settings, count = self.settings, len(rows.inputs)
        value = self.critic.forward(parameters[self.critic_part], rows.inputs)[:, 0]
        error = value - rows.returns
        slope = error
        squared = error**2
        if settings.value_limit is not None:
            moved = np.clip(value - rows.values, -settings.value_limit, settings.value_limit)
            other = rows.values + moved - rows.returns
            worse = other**2 > squared
            free = np.abs(value - rows.values) < settings.value_limit
            slope = np.where(worse, np.where(free, other, 0.0), error).astype(self.dtype)
            squared = np.maximum(squared, other**2)
        back = (slope * (settings.value_weight / count)).astype(self.dtype)[:, None]
        self.critic.backward(parameters[self.critic_part], rows.inputs, back, self.gradient[self.critic_part])
        return 0.5 * float(squared.mean())


def gaussian_log_density(unit: Array, log_spread: Array) -> Array:
    """Log-density (N,) of independent normals, from the standardised draws (N, m)."""
    density: Array = -0.5 * np.square(unit).sum(axis=1) - log_spread.sum() - len(log_spread) * _HALF_LOG_TWO_PI
    return density.astype(unit.dtype)


class ProximalPolicy:
    """The method at work; see `method.Method` for the contract."""

    def __init__(self, settings: ProximalSettings, space: Space, copies: int, seed: int) -> None:
        self.settings, self.space, self.copies = settings, space, copies
        observations, actions = len(space.observation_low), len(space.low)
        self.rows = max(2, settings.steps_per_update // copies)
        self.loss = ProximalLoss(settings, observations, actions)
        self.parameters = self.loss.initial(stream(seed, "initial weights"))
        self.adam = Adam(self.loss.count)
        self.exploration, self.order = stream(seed, "exploration"), stream(seed, "minibatch order")
        self.seen = RunningSpread(observations)
        self.paid = RunningSpread(1)
        self.running_return: Array = np.zeros(copies)
        self.carried: Array = np.zeros((copies, actions), dtype=np.float32)
        self.filled = 0
        t, b = self.rows, copies
        self.inputs: Array = np.zeros((t, b, observations), dtype=np.float32)
        self.actions: Array = np.zeros((t, b, actions), dtype=np.float32)
        self.log_density: Array = np.zeros((t, b), dtype=np.float32)
        self.reward: Array = np.zeros((t, b))
        self.goes_on: Array = np.zeros((t, b))
        self.cuts: list[tuple[Array, Array, Array]] = []
        """(row numbers, copies, inputs of the state at the cut) of episodes that time ended."""
        self.after: Array = np.zeros((b, observations))

    # --- acting ------------------------------------------------------------------------------------------------

    def choose(self, observations: Array) -> Array:
        """Draw from the Gaussian; what is kept is what was drawn, what goes out is clipped by the plant.

        With `exploration_memory` the deviation is a first-order autoregressive process (after Korenkevych et al. 2019):
        what is carried over counts as given, so the density of a draw stays the plain Gaussian of its fresh part.
        """
        if self.settings.observation_standardisation:
            self.seen.update(self._ranged(observations))
        inputs = self._inputs(observations)
        log_spread = self.parameters[self.loss.spread_part]
        mean = self.loss.actor.forward(self.parameters[self.loss.actor_part], inputs)
        unit = self.exploration.standard_normal(mean.shape, dtype=np.float32)
        t = self.filled
        self.inputs[t] = inputs
        np.add(mean, unit * np.exp(log_spread), out=self.actions[t])
        self.log_density[t] = gaussian_log_density(unit, log_spread)
        drawn = self.actions[t] + self.carried
        np.multiply(drawn - mean, np.float32(self.settings.exploration_memory), out=self.carried)
        low, high = self.space.low, self.space.high
        return np.asarray(0.5 * (low + high) + 0.5 * (high - low) * drawn.astype(np.float64))

    def take(self, experience: Experience) -> None:
        """Keep rewards and ends; standardise rewards by the running spread of the discounted return."""
        t, settings = self.filled, self.settings
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
        self.reward[t], self.goes_on[t] = reward, ~over
        cut = np.flatnonzero(experience.cut & ~experience.ended)
        if len(cut) and settings.time_limit_bootstrap:
            self.cuts.append((np.full(len(cut), t), cut, self._inputs(experience.after[cut])))
        self.after = experience.after
        self.filled += 1

    def ready(self) -> bool:
        """Whether the rows are full."""
        return self.filled == self.rows

    # --- learning ----------------------------------------------------------------------------------------------

    def improve(self, progress: float) -> dict[str, float]:
        """Several passes over shuffled minibatches, ended early when the policy has moved too far."""
        settings = self.settings
        values, returns, advantage = self._targets()
        explained = 1.0 - float(np.var(returns - values) / (np.var(returns) + 1e-12))
        if settings.advantage_standardisation:
            advantage = (advantage - advantage.mean()) / (advantage.std() + 1e-8)
        flat = Minibatch(
            self.inputs.reshape(-1, self.inputs.shape[2]), self.actions.reshape(-1, self.actions.shape[2]),
            self.log_density.reshape(-1), advantage.reshape(-1).astype(np.float32),
            returns.reshape(-1).astype(np.float32), values.reshape(-1).astype(np.float32),
        )  # fmt: skip
        rate = settings.learning_rate
        if settings.schedule == "linear":
            rate += (settings.learning_rate_end - settings.learning_rate) * min(max(progress, 0.0), 1.0)
        health, passes = self._passes(flat, rate)
        at_limit = float((np.abs(self.actions) >= 1.0).mean())
        self.filled = 0
        self.cuts.clear()
        spread = np.exp(self.parameters[self.loss.spread_part])
        return health | {
            "critic_explains": explained, "spread": float(spread.mean()), "spread_least": float(spread.min()),
            "at_limit": at_limit, "passes": float(passes), "learning_rate": rate,
        }  # fmt: skip

    def _passes(self, flat: Minibatch, rate: float) -> tuple[dict[str, float], int]:
        settings, loss = self.settings, self.loss
        total = len(flat.inputs)
        size = min(settings.minibatch, total)
        sums: dict[str, float] = {}
        steps = passes = 0
        while passes < settings.passes:
            passes += 1
            order = self.order.permutation(total)
            moved = 0.0
            for first in range(0, total - size + 1, size):
                rows = order[first : first + size]
                part = Minibatch(
                    flat.inputs[rows], flat.actions[rows], flat.log_density[rows], flat.advantage[rows], flat.returns[rows],
                    flat.values[rows],
                )  # fmt: skip
                figures = loss(self.parameters, part)
                figures["gradient"] = self.adam.step(self.parameters, loss.gradient, rate, settings.gradient_limit)
                spread = self.parameters[loss.spread_part]
                np.clip(spread, LEAST_LOG_SPREAD, MOST_LOG_SPREAD, out=spread)
                for name, value in figures.items():
                    sums[name] = sums.get(name, 0.0) + value
                moved += figures["kl"]
                steps += 1
            if settings.kl_limit is not None and moved / (total // size) > settings.kl_limit:
                break
        return {name: value / steps for name, value in sums.items()}, passes

    def _targets(self) -> tuple[Array, Array, Array]:
        """Values, returns and advantages (T, B); a state at a time cut counts, a state after an ending does not."""
        t, b = self.rows, self.copies
        values = self._value(self.inputs.reshape(t * b, -1)).reshape(t, b)
        next_values = np.zeros((t, b))
        next_values[:-1] = values[1:]
        next_values[-1] = self._value(self._inputs(self.after))
        next_values *= self.goes_on
        for rows, copies, inputs in self.cuts:
            next_values[rows, copies] = self._value(inputs)
        advantage = np.zeros((t, b))
        kernels.advantages(
            self.reward,
            values,
            next_values,
            self.goes_on,
            self.settings.discount,
            self.settings.advantage_decay,
            advantage,
        )
        return values, advantage + values, advantage

    def _value(self, inputs: Array) -> Array:
        value = self.loss.critic.forward(self.parameters[self.loss.critic_part], inputs)
        return np.asarray(value[:, 0], dtype=np.float64)

    # --- observations ------------------------------------------------------------------------------------------

    def _ranged(self, observations: Array) -> Array:
        low, high = self.space.observation_low, self.space.observation_high
        return np.asarray((observations - 0.5 * (low + high)) / (0.5 * (high - low)))

    def _affine(self) -> tuple[Array, Array]:
        """Offset and scale that bring SI values to the network's inputs."""
        low, high = self.space.observation_low, self.space.observation_high
        middle, half = 0.5 * (low + high), 0.5 * (high - low)
        if not self.settings.observation_standardisation:
            return middle, 1.0 / half
        free = np.ones(len(low), dtype=np.bool_) if self.space.standardised is None else self.space.standardised
        return middle + half * np.where(free, self.seen.mean, 0.0), 1.0 / (half * np.where(free, self.seen.spread, 1.0))

    def _inputs(self, observations: Array) -> Array:
        offset, scale = self._affine()
        limit = self.settings.observation_limit
        return np.asarray(np.clip((observations - offset) * scale, -limit, limit), dtype=np.float32)

    def policy(self) -> Policy:
        """The mean command, with the present standardisation frozen in."""
        offset, scale = self._affine()
        return Policy(
            self.loss.actor.sizes, self.settings.activation, self.parameters[self.loss.actor_part].copy(),
            offset.astype(np.float32), scale.astype(np.float32), self.settings.observation_limit,
            self.space.low.astype(np.float32), self.space.high.astype(np.float32),
        )  # fmt: skip

    # --- checkpoints -------------------------------------------------------------------------------------------

    def keep(self) -> dict[str, Array]:
        """State between updates: nothing is half-collected then."""
        kept = {f"adam.{k}": v for k, v in self.adam.keep().items()}
        return kept | {
            "parameters": self.parameters.copy(), "seen": self.seen.keep(), "paid": self.paid.keep(),
            "running_return": self.running_return.copy(), "carried": self.carried.copy(), "exploration": freeze(self.exploration),
            "order": freeze(self.order),
        }  # fmt: skip

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.adam.restore({k[5:]: v for k, v in kept.items() if k.startswith("adam.")})
        self.parameters[...] = kept["parameters"]
        self.seen.restore(kept["seen"])
        self.paid.restore(kept["paid"])
        self.running_return[...] = kept["running_return"]
        self.carried[...] = kept["carried"]
        thaw(self.exploration, kept["exploration"])
        thaw(self.order, kept["order"])
        self.filled = 0
        self.cuts.clear()
