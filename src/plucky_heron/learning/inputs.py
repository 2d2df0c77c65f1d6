"""From sensor values in SI units to the inputs of networks: stated ranges, then running mean and spread, then a limit."""

from __future__ import annotations

import numpy as np

from plucky_heron.learning.method import Space
from plucky_heron.learning.running import RunningSpread

Array = np.ndarray


class Inputs:
    """The map of one method at work; what it has seen is frozen into the policies that it hands out.

    Parameters
    ----------
    space
        Ranges, and which observations may be standardised.
    standardise
        Whether mean and spread of what was seen are taken out.
    limit
        Inputs are held within -limit .. limit.
    """

    def __init__(self, space: Space, standardise: bool, limit: float) -> None:
        self.space, self.standardise, self.limit = space, standardise, limit
        low, high = space.observation_low, space.observation_high
        self.middle, self.half = 0.5 * (low + high), 0.5 * (high - low)
        free = np.ones(len(low), dtype=np.bool_) if space.standardised is None else space.standardised
        self.free = free & standardise
        self.seen = RunningSpread(len(low))

    def update(self, observations: Array) -> None:
        """Take in rows (batch, observations)."""
        if self.standardise:
            self.seen.update((observations - self.middle) / self.half)

    def affine(self) -> tuple[Array, Array]:
        """Offset and scale (inputs,): an SI value x becomes (x - offset) * scale."""
        mean, spread = np.where(self.free, self.seen.mean, 0.0), np.where(self.free, self.seen.spread, 1.0)
        return self.middle + self.half * mean, 1.0 / (self.half * spread)

    def of(self, observations: Array) -> Array:
        """Network inputs, float32 (batch, observations)."""
        offset, scale = self.affine()
        return np.asarray(np.clip((observations - offset) * scale, -self.limit, self.limit), dtype=np.float32)

    def at_limit(self, inputs: Array) -> float:
        """Share of inputs (batch, observations) that stand at the limit: what lies beyond it looks all the same to a network."""
        return float((np.abs(inputs) >= self.limit).mean())
