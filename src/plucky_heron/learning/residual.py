"""Learning a correction on top of a known base controller: the sum is what acts, what is judged, and what is handed over.

After Johannink et al. 2019 ("Residual reinforcement learning for robot control"), eq. 3, around any method: the method's commands
are corrections within a share of the range, its critics value corrections, and only this file knows of the sum.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from plucky_heron.learning.method import Experience, Judge, Method, Space
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.worth import LooksAlong, Worth

Array = np.ndarray


class Residual:
    """A method whose commands are added to a base; see `method.Method` for the contract.

    Parameters
    ----------
    make
        Makes the method for the space of corrections.
    base : (actions, observations that the policy is given + 1)
        The base controller, affine in the observations; constants last.
    reach
        Largest correction, as a share of half the command range.
    """

    def __init__(self, make: Callable[[Space], Method], space: Space, base: Array, reach: float) -> None:
        most = reach * 0.5 * (space.high - space.low)
        self.space, self.reach = space, reach
        self.base = base.astype(np.float32)
        self.inner_low, self.inner_high = -most, most
        judge = None if space.judge is None else _JudgeOfSums(space.judge, self._sum)
        self.inner = make(replace(space, low=-most, high=most, judge=judge))
        begin = getattr(self.inner, "begin_episodes", None)
        if begin is not None:
            self.begin_episodes = begin

    def choose(self, observations: Array) -> Array:
        """The base controller's commands and the method's corrections, these within their reach, the sum within the limits."""
        self._corrections = np.clip(self.inner.choose(observations), self.inner_low, self.inner_high)
        return self._sum(observations, self._corrections)

    def _sum(self, observations: Array, corrections: Array) -> Array:
        seen = observations[:, : self.space.seen]
        base = seen @ self.base[:, :-1].T.astype(np.float64) + self.base[:, -1]
        return np.asarray(np.clip(base + corrections, self.space.low, self.space.high))

    def take(self, experience: Experience) -> None:
        """As the method does; its command was the correction."""
        self.inner.take(replace(experience, command=self._corrections))

    def ready(self) -> bool:
        """As the method says."""
        return self.inner.ready()

    def improve(self, progress: float) -> dict[str, float]:
        """As the method does."""
        return self.inner.improve(progress)

    def inside(self) -> dict[str, Array]:
        """What the method has to show, if anything."""
        shown = getattr(self.inner, "inside", None)
        return shown() if shown is not None else {}

    def look_along(self, observations: Array, commands: Array) -> Worth:
        """What the method says of the corrections; methods without critics say nothing."""
        base = self._sum(observations, np.zeros((len(observations), len(self.space.low))))
        corrections = np.clip(commands - base[:-1], self.inner_low, self.inner_high)
        if not isinstance(self.inner, LooksAlong):
            return Worth(np.zeros((len(observations), 0)))
        return self.inner.look_along(observations, corrections).beside(base)

    def policy(self) -> Policy:
        """The sum."""
        space = self.space
        low, high = space.low.astype(np.float32), space.high.astype(np.float32)
        return replace(self.inner.policy(), low=low, high=high, base=self.base, reach=self.reach)

    def keep(self) -> dict[str, Array]:
        """All state; the base controller is part of it."""
        return {f"inner.{name}": values for name, values in self.inner.keep().items()} | {"base": self.base}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.base = kept["base"]
        self.inner.restore({name[6:]: values for name, values in kept.items() if name.startswith("inner.")})


class _JudgeOfSums:
    """A judge that is given corrections: what is known of the reward is known of the commands that go out."""

    def __init__(self, judge: Judge, of_sum: Callable[[Array, Array], Array]) -> None:
        self.judged, self.of_sum = judge, of_sum
        self.every_reward, self.every_ending = judge.every_reward, judge.every_ending

    def judge(self, before: Array, commands: Array, after: Array) -> tuple[Array, Array]:
        """See `Judge.judge`."""
        return self.judged.judge(before, self.of_sum(before, commands), after)
