"""Proximal policy optimisation with a clipped ratio (Schulman et al. 2017, eq. 7).

Every refinement can be switched off by a setting, so that its effect can be measured.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from plucky_heron.learning.actor_critic import Minibatch, OnPolicySettings
from plucky_heron.learning.method import Space
from plucky_heron.learning.on_policy import OnPolicy
from plucky_heron.learning.settings import setting


class ProximalSettings(OnPolicySettings):
    """Settings of the method."""

    ratio_limit: float | None = setting(
        0.2, "ratio limit", "How far an update may change the density of a command before nothing more is gained.",
        "Ratios limited far above a quarter: learning rate or passes too large.", gt=0, lt=1,
    )  # fmt: skip
    passes: int = setting(
        5,
        "passes",
        "How often each update goes over its rows.",
        "Too many: change an update (KL) leaves its band.",
        ge=1,
        le=100,
    )
    kl_limit: float | None = setting(
        0.03, "KL limit", "Passes end early once the policy has moved this far.", "Passes always 1: limit too small or step too large.",
        gt=0,
    )  # fmt: skip
    kl_check: Literal["minibatch", "pass"] = setting(
        "minibatch", "KL looked at", "Whether the KL limit is looked at after each minibatch, or only after whole passes.",
        "pass: a single pass may take the policy several times as far as the limit.",
    )  # fmt: skip
    kl_wanted: float = setting(
        0.01,
        "KL wanted",
        "What the schedule 'by change' steers the learning rate to.",
        "Too large: see KL limit.",
        gt=0,
        le=1,
    )


class ProximalPolicy(OnPolicy):
    """The method at work."""

    def __init__(self, settings: ProximalSettings, space: Space, copies: int, seed: int, threads: int = 1) -> None:
        self.ratio_limit = settings.ratio_limit or 0.0
        super().__init__(settings, space, copies, seed, threads)
        self.settings = settings

    def improve(self, progress: float) -> dict[str, float]:
        """Several passes over shuffled minibatches, ended early when the policy has moved too far."""
        flat, facts = self.batch()
        rate = self.scheduled_rate(progress)
        health, passes, moved = self._passes(flat, rate)
        self.critic_alone(flat, passes, rate)
        self.learned()
        settings = self.settings
        if settings.schedule == "by change":
            if moved > 2.0 * settings.kl_wanted:
                self.rate = max(self.rate / 1.5, 1e-6)
            elif moved < 0.5 * settings.kl_wanted:
                self.rate = min(self.rate * 1.5, 1e-2)
        spread = self.spread_on(flat)
        return health | facts | {"spread": spread, "passes": float(passes), "learning_rate": rate}

    def _passes(self, flat: Minibatch, rate: float) -> tuple[dict[str, float], int, float]:
        settings = self.settings
        sums: dict[str, float] = {}
        steps = passes = 0
        moved = lately = 0.0
        limit = settings.kl_limit if settings.kl_limit is not None else np.inf
        while passes < settings.passes:
            passes += 1
            moved, before = 0.0, steps
            for rows in self.minibatches(flat):
                figures = self.step(rows, rate)
                for name, value in figures.items():
                    sums[name] = sums.get(name, 0.0) + value
                moved += figures["kl"]
                steps += 1
                lately = 0.75 * lately + 0.25 * figures["kl"]
                if settings.kl_check == "minibatch" and lately > limit:
                    break
            moved /= steps - before
            if moved > limit or (settings.kl_check == "minibatch" and lately > limit):
                break
        return {name: value / steps for name, value in sums.items()}, passes, moved
