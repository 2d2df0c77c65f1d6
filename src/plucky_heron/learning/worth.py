"""What a method thinks of an episode: the value that its critics gave each sample, and how far its commands would be spread."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Protocol, runtime_checkable

import numpy as np

Array = np.ndarray


@dataclass(frozen=True)
class Worth:
    """What critics and policy say along an episode of T commands.

    Attributes
    ----------
    values : (T + 1, critics)
        Discounted reward still to come, in the units of the reward, from each sample on; for action values the last
        sample's is that of the policy's own command.
    low, high : (T + 1, actions)
        The policy's command less and plus a standard deviation of its own draw, in the units of the commands; None
        where the spread is no output of the network.
    """

    values: Array
    low: Array | None = None
    high: Array | None = None

    def beside(self, base: Array) -> Worth:
        """The same where the commands (T + 1, actions) of a base controller are added."""
        if self.low is None or self.high is None:
            return self
        return replace(self, low=self.low + base, high=self.high + base)


@runtime_checkable
class LooksAlong(Protocol):
    """A method that has critics."""

    def look_along(self, observations: Array, commands: Array) -> Worth:
        """Values along an episode: observations (T + 1, observations), commands (T, actions), both as recorded."""
        ...


def discounted(rewards: Array, discount: float, last: float) -> Array:
    """What came: the discounted sum of the rewards (T,) from each sample on, (T + 1,); `last` is the worth of the last sample."""
    found = np.empty(len(rewards) + 1)
    found[-1] = last
    for k in range(len(rewards) - 1, -1, -1):
        found[k] = rewards[k] + discount * found[k + 1]
    return found
