"""Running mean and spread of what streams past, merged batch by batch."""

from __future__ import annotations

import numpy as np

Array = np.ndarray


class RunningSpread:
    """Mean and variance of rows seen so far (Chan, Golub, LeVeque 1983, eq. 2.1), in float64."""

    def __init__(self, width: int) -> None:
        self.mean: Array = np.zeros(width)
        self.variance: Array = np.ones(width)
        self.count = 0.0

    def update(self, rows: Array) -> None:
        """Take in rows (batch, width)."""
        mean, variance, count = rows.mean(axis=0), rows.var(axis=0), float(len(rows))
        total = self.count + count
        difference = mean - self.mean
        squares = self.variance * self.count + variance * count + difference**2 * self.count * count / total
        self.mean = self.mean + difference * count / total
        self.variance, self.count = squares / total, total

    @property
    def spread(self) -> Array:
        """Standard deviation, kept away from zero."""
        spread: Array = np.sqrt(self.variance + 1e-8)
        return spread

    def keep(self) -> Array:
        """State as one vector."""
        return np.concatenate([[self.count], self.mean, self.variance])

    def restore(self, kept: Array) -> None:
        """Set the state kept by `keep`."""
        width = len(self.mean)
        self.count, self.mean, self.variance = (float(kept[0]), kept[1 : 1 + width].copy(), kept[1 + width :].copy())
