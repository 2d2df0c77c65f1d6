"""Advantage actor-critic (Mnih et al. 2016), its workers side by side as copies: one gradient over fresh steps or whole episodes."""

from __future__ import annotations

from typing import ClassVar

from plucky_heron.learning.actor_critic import OnPolicySettings
from plucky_heron.learning.health import ON_POLICY, HealthFigure
from plucky_heron.learning.method import Space
from plucky_heron.learning.on_policy import OnPolicy
from plucky_heron.learning.settings import setting


class ActorCriticSettings(OnPolicySettings):
    """Settings of the method."""

    health: ClassVar[tuple[HealthFigure, ...]] = ON_POLICY[2:]

    advantage_decay: float = setting(
        1.0, "advantage decay", "How far surprises are carried back; 1 takes the return of all steps of the update.",
        "Too large: noisy gradients. Too small: believes a critic that knows little yet.", ge=0, le=1,
    )  # fmt: skip
    steps_per_update: int = setting(
        1024, "steps an update", "Control steps over all copies that one gradient learns from; over copies, the steps of the return.",
        "Too few: noisy gradients; too many: few updates in a budget.", ge=16, le=1_000_000,
    )  # fmt: skip


class ActorCritic(OnPolicy):
    """The method at work."""

    def __init__(self, settings: ActorCriticSettings, space: Space, copies: int, seed: int, threads: int = 1) -> None:
        super().__init__(settings, space, copies, seed, threads)
        self.settings = settings

    def improve(self, progress: float) -> dict[str, float]:
        """One gradient over all rows."""
        flat, facts = self.batch()
        rate = self.scheduled_rate(progress)
        health = self.step(flat, rate)
        self.critic_alone(flat, 1, rate)
        self.learned()
        spread = self.spread_on(flat)
        for name in ("kl", "ratios_limited"):  # rows are learned from once, by the policy that drew them
            del health[name]
        return health | facts | {"spread": spread, "learning_rate": rate}
