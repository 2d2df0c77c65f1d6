"""Deep deterministic policy gradient (Lillicrap et al. 2016), and its twin-critic successor TD3 (Fujimoto, van Hoof, Meger 2018)."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from plucky_heron.learning.exploration import Deviations, Kind
from plucky_heron.learning.health import OFF_POLICY, SATURATED, HealthFigure
from plucky_heron.learning.kernels import off_policy as kernels
from plucky_heron.learning.method import Space
from plucky_heron.learning.network import Network
from plucky_heron.learning.off_policy import OffPolicy
from plucky_heron.learning.off_policy_settings import OffPolicySettings
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.replay import Rows
from plucky_heron.learning.settings import ends_as_shares, left, setting
from plucky_heron.randomness import freeze, stream, thaw

Array = np.ndarray


class DeterministicSettings(OffPolicySettings):
    """Settings of DDPG."""

    health: ClassVar[tuple[HealthFigure, ...]] = (SATURATED, *OFF_POLICY)

    exploration: Kind = setting(
        "drifting", "exploration", "What is added to commands: independent draws, drifting ones (Ornstein-Uhlenbeck), or held ones.",
        "Independent draws hardly move a heavy machine at a high rate.",
    )  # fmt: skip
    exploration_spread: float = setting(
        0.2, "exploration spread", "Spread of what is added, as a share of half the command range.",
        "Too small: the first way found is never left. Too large: the buffer holds nothing but stumbling.", ge=0, le=2,
    )  # fmt: skip
    exploration_spread_share_end: float = setting(
        0.25, "exploration spread at the end", "Share of the exploration spread that is left when the budget is used up; it falls evenly.",
        "Too small too early: see exploration spread.", ge=0, le=1,
    )  # fmt: skip
    exploration_memory: float = setting(
        0.85, "exploration memory", "Correlation of drifting exploration from sample to sample.",
        "Too small: see exploration.", time="memory", ge=0, lt=1,
    )  # fmt: skip
    exploration_hold: int = setting(
        10,
        "exploration hold",
        "Samples for which held exploration is kept.",
        "Too long: drives into the limits.",
        time="samples",
        ge=1,
        le=10_000,
    )
    saturation_weight: float = setting(
        0.02, "saturation weight", "Cost of the policy's sums before squashing, squared: keeps its slopes from vanishing.",
        "0: commands stick at a limit and never come back (share at the limits). Too large: weak commands.", ge=0, le=1,
    )  # fmt: skip
    policy_delay: int = setting(
        1, "policy delay", "Updates of the critic for each update of policy and targets.",
        "Too many: the policy hardly moves.", ge=1, le=100,
    )  # fmt: skip
    target_smoothing: float = setting(
        0.0, "target smoothing", "Spread of the noise on the commands by which targets are valued.",
        "0: the policy climbs narrow peaks that are errors of the critic. Too large: precise work is never valued.", ge=0, le=1,
    )  # fmt: skip
    target_smoothing_limit: float = setting(
        0.5, "smoothing limit", "That noise is held within this.", "See target smoothing.", gt=0, le=2
    )

    _ends = ends_as_shares({"exploration_spread_end": "exploration_spread"})


class TwinDelayedSettings(DeterministicSettings):
    """Settings of TD3: the same, with other standards."""

    policy_delay: int = setting(
        2, "policy delay", "Updates of the critics for each update of policy and targets.", "Too many: the policy hardly moves.",
        ge=1, le=100,
    )  # fmt: skip
    target_smoothing: float = setting(
        0.2, "target smoothing", "Spread of the noise on the commands by which targets are valued.",
        "0: the policy climbs narrow peaks that are errors of the critic. Too large: precise work is never valued.", ge=0, le=1,
    )  # fmt: skip


class DeterministicPolicyGradient(OffPolicy):
    """The method at work, with one critic or two."""

    count = 1

    def __init__(
        self, settings: DeterministicSettings, space: Space, copies: int, seed: int, threads: int = 1,
        dtype: type[np.floating] = np.float32,
    ) -> None:  # fmt: skip
        super().__init__(settings, space, copies, seed, threads, critics=self.count, dtype=dtype)
        self.settings = settings
        self.target = self.parameters.copy()
        self.deviations = Deviations(
            settings.exploration,
            copies,
            self.actions,
            stream(seed, "exploration"),
            settings.exploration_memory,
            settings.exploration_hold,
        )
        self.smoothing = stream(seed, "target smoothing")
        self.smooth: Array = np.zeros((settings.minibatch, self.actions), dtype=dtype)
        self.told: Array = np.zeros(3)

    def explore(self, inputs: Array, unit: Array) -> Array:
        """The policy's command and a deviation, within the limits."""
        s = self.settings
        spread = s.exploration_spread * left(s.exploration_spread_share_end, self.progress)
        return np.clip(self.best(inputs) + spread * unit, -1.0, 1.0)

    def best(self, inputs: Array) -> Array:
        """The policy's commands."""
        return np.asarray(np.tanh(self.actor.forward(self.parameters, inputs)))

    def update(self, rows: Rows) -> None:
        """Critics; and now and then policy and targets."""
        smoothing = self.settings.target_smoothing
        if smoothing > 0.0:
            noise = smoothing * self.smoothing.standard_normal(self.smooth.shape, dtype=np.float32)
            self.smooth[...] = noise
        self.update_with(rows, self.updates % self.settings.policy_delay == 0)

    def update_with(self, rows: Rows, climb: bool) -> None:
        """An update with the smoothing that stands in `smooth`; with `climb` the policy and all targets follow.

        Targets: reward, and the (least) target value of the target policy's command, smoothed (Fujimoto et al. 2018, algorithm 1).
        """
        settings = self.settings
        limit = settings.target_smoothing_limit if settings.target_smoothing > 0.0 else 0.0
        kernels.squash_policy(self.target, self.actor_plan_after, self.seen_after, self.smooth, limit, self.after)
        self.critics_say()
        worth = self.critics[0].said
        if len(self.critics) > 1:
            worth = np.minimum(worth, self.critics[1].said, out=self.worth)
        if not climb:
            self.fit_critics(rows, worth, None)
            return
        self.chosen[...] = self.state
        sums = kernels.squash_policy(self.parameters, self.actor_plan, self.seen, self.smooth, 0.0, self.chosen)
        self.fit_critics(rows, worth, self.chosen)
        if self.resting:
            return
        first = self.critics[0]
        kernels.plain_climb(
            self.parameters, self.actor_plan, self.actor_gradient,
            self.actor_adam.plan(self.decayed(settings.actor_learning_rate), settings.gradient_limit), self.seen, sums, self.chosen, first.values,
            first.slope, settings.saturation_weight, self.actor_back, self.target, settings.target_mix, self.told,
        )  # fmt: skip
        self.actor_adam.counted()

    def networks(self) -> list[tuple[Network, Array, Adam | None]]:
        """The target of the policy besides."""
        return [*super().networks(), (self.actor, self.target, None)]

    def figures(self) -> dict[str, float]:
        """Health figures of the last update; those of the policy are of its last turn."""
        loss, saturated, norm = (float(x) for x in self.told)
        critic = self.critics[0].figures
        return {
            "policy_loss": loss, "saturated": saturated, "gradient": norm, "critic_loss": float(critic[0]), "value": float(critic[1]),
        }  # fmt: skip

    def keep(self) -> dict[str, Array]:
        """All state."""
        kept = {f"deviations.{k}": v for k, v in self.deviations.keep().items()}
        return super().keep() | kept | {
            "target_policy": self.target.copy(), "smoothing": freeze(self.smoothing), "told": self.told.copy(),
        }  # fmt: skip

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        super().restore(kept)
        self.deviations.restore({k[11:]: v for k, v in kept.items() if k.startswith("deviations.")})
        self.target[...] = kept["target_policy"]
        thaw(self.smoothing, kept["smoothing"])
        self.told[...] = kept["told"]


class TwinDelayed(DeterministicPolicyGradient):
    """TD3: two critics, of which the lesser is believed."""

    count = 2
