"""Learning a correction on top of a known base controller: the sum is what acts, what is judged, and what is handed over.

After Johannink et al. 2019 ("Residual reinforcement learning for robot control"), eq. 3, around any method: the method's commands
are corrections within a share of the range, its critics value corrections, and only this file knows of the sum.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from plucky_heron.learning.method import Experience, Method, Space
from plucky_heron.learning.policy import Policy

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
        # what is known of the reward is known of sums, which the method never sees
        self.inner = make(replace(space, low=-most, high=most, judge=None))

    def choose(self, observations: Array) -> Array:
        """The base controller's commands and the method's corrections, within the limits."""
        seen = observations[:, : self.space.seen]
        base = seen @ self.base[:, :-1].T.astype(np.float64) + self.base[:, -1]
        self._corrections = self.inner.choose(observations)
        return np.asarray(np.clip(base + self._corrections, self.space.low, self.space.high))

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
