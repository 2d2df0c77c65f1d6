"""The optimiser: Adam on one flat vector, with a limit on the gradient's norm."""

from __future__ import annotations

import numpy as np

from plucky_heron.learning.kernels import basic as kernels

Array = np.ndarray


class Adam:
    """Adam (Kingma and Ba 2015) with a norm limit; state is kept in three arrays."""

    def __init__(self, count: int, dtype: type[np.floating] = np.float32) -> None:
        self.mean: Array = np.zeros(count, dtype=dtype)
        self.square: Array = np.zeros(count, dtype=dtype)
        self.count = 0

    def step(self, parameters: Array, gradient: Array, rate: float, norm_limit: float | None = None) -> float:
        """Move `parameters` (count,) in place along `gradient` (count,); returns the gradient's norm before the limit."""
        norm = float(np.sqrt(np.dot(gradient, gradient)))
        scale = 1.0 if norm_limit is None or norm <= norm_limit else norm_limit / (norm + 1e-12)
        self.count += 1
        kernels.adam_step(parameters, gradient, self.mean, self.square, self.count, rate, 0.9, 0.999, 1e-7, scale)
        return norm

    def plan(self, rate: float, norm_limit: float | None) -> tuple[Array, Array, int, float, float]:
        """What compiled code needs to make the next step: both means (count,), steps, rate, limit; who uses it counts the step with `counted`."""
        return self.mean, self.square, self.count, rate, norm_limit or 0.0

    def counted(self) -> None:
        """A step was made by compiled code."""
        self.count += 1

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        return {"mean": self.mean.copy(), "square": self.square.copy(), "count": np.array(self.count)}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.mean[...], self.square[...], self.count = kept["mean"], kept["square"], int(kept["count"])
