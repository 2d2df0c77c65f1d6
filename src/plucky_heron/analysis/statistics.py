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
    """What several seeds did at the steps where all of them have been, arrays (points,).

    Attributes
    ----------
    worst_steps, worst
        The worst course, over all of its own steps.
    worst_seed
        Its number in the input.
    whole
        Whether all courses reach as far as the longest.
    """

    steps: Array
    median: Array
    lower: Array
    upper: Array
    worst_steps: Array
    worst: Array
    worst_seed: int
    whole: bool


def spread_of(courses: Sequence[Sequence[Evaluation]], quantity: str) -> Spread | None:
    """Median and quartiles at the steps where all courses have been, and the worst course.

    Nothing is carried forward: of seeds that stand at different steps, only what all of them know is compared. The worst
    course is the one whose best evaluation up to there is lowest. None where one of them was not evaluated yet.
    """
    if not courses or not all(courses):
        return None
    until = min(course[-1].step for course in courses)
    furthest = max(course[-1].step for course in courses)
    steps = np.array(sorted({e.step for course in courses for e in course if e.step <= until}), dtype=float)
    values = np.array([_held([e.step for e in c], [e.of(quantity) for e in c], steps) for c in courses])
    worst = int(np.argmin([max(e.of(quantity) for e in c if e.step <= until) for c in courses]))
    lower, median, upper = np.percentile(values, (25, 50, 75), axis=0)
    own = courses[worst]
    return Spread(
        steps, median, lower, upper, np.array([e.step for e in own], dtype=float), np.array([e.of(quantity) for e in own]), worst, until == furthest
    )  # fmt: skip


def _held(at: Sequence[int], values: Sequence[float], steps: Array) -> Array:
    index = np.clip(np.searchsorted(at, steps, side="right") - 1, 0, len(at) - 1)
    return np.asarray(values, dtype=float)[index]
