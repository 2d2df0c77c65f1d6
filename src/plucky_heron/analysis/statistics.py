"""Honest small-sample statistics: intervals for shares, quartiles over seeds, paired differences."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from plucky_heron.training.stopping import Evaluation

Array = np.ndarray
Z95 = 1.959963984540054


def wilson(successes: int, trials: int, z: float = Z95) -> tuple[float, float]:
    """Interval for a share (E. B. Wilson, J. Amer. Statist. Assoc. 22, 1927); (0, 1) without trials."""
    if trials == 0:
        return 0.0, 1.0
    share = successes / trials
    middle = (share + z * z / (2 * trials)) / (1 + z * z / trials)
    half = z / (1 + z * z / trials) * math.sqrt(share * (1 - share) / trials + z * z / (4 * trials * trials))
    return max(0.0, middle - half), min(1.0, middle + half)


def paired_difference(first: Array, second: Array, z: float = Z95) -> tuple[float, float]:
    """Mean of `first` - `second` (N,) on the same trials, and the half-width of its 95 % interval."""
    difference = np.asarray(first, dtype=float) - np.asarray(second, dtype=float)
    if len(difference) < 2:
        return float(difference.mean()), math.inf
    return float(difference.mean()), float(z * difference.std(ddof=1) / math.sqrt(len(difference)))


@dataclass(frozen=True)
class Spread:
    """What several seeds did, at common numbers of steps, arrays (points,)."""

    steps: Array
    median: Array
    lower: Array
    upper: Array
    worst: Array
    worst_seed: int
    """Number of the worst course in the input."""


def spread_of(courses: Sequence[Sequence[Evaluation]], quantity: str) -> Spread | None:
    """Median, quartiles and the worst course; a course that stopped early keeps its last value.

    The worst course is the one whose best evaluation is lowest. None where nothing was evaluated yet.
    """
    begun = [(k, course) for k, course in enumerate(courses) if course]
    if not begun:
        return None
    steps = np.array(sorted({e.step for _, course in begun for e in course}), dtype=float)
    values = np.array([_held([e.step for e in c], [e.of(quantity) for e in c], steps) for _, c in begun])
    worst = int(np.argmin([max(e.of(quantity) for e in course) for _, course in begun]))
    lower, median, upper = np.percentile(values, (25, 50, 75), axis=0)
    return Spread(steps, median, lower, upper, values[worst], begun[worst][0])


def _held(at: Sequence[int], values: Sequence[float], steps: Array) -> Array:
    index = np.clip(np.searchsorted(at, steps, side="right") - 1, 0, len(at) - 1)
    return np.asarray(values, dtype=float)[index]
