"""What stop rules look at, and how such figures are shown."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from plucky_heron.learning import health

Array = np.ndarray

SUCCESS, SCORE, LENGTH, WORST = "success", "score", "length", "worst"
OWN_FIGURES = {SUCCESS: "", SCORE: "", LENGTH: "s", WORST: ""}
"""Figures that every evaluation has, with their units: share of successes, mean score, mean length of an episode, lowest score."""
HEALTH_FIGURES = {f.key: f for f in vars(health).values() if isinstance(f, health.HealthFigure)}
"""Health figures that a rule may read; a method gives some of them."""


@dataclass(frozen=True, slots=True)
class Evaluation:
    """One evaluation on the fixed starts, and what it had cost by then."""

    step: int
    seconds: float
    episodes: int
    score: float
    success: float
    finite: bool = True
    figures: Mapping[str, float] = field(default_factory=dict, compare=False)
    """Mean length of its episodes (s), its lowest score, and the means of the health figures since the last evaluation."""

    def of(self, quantity: str) -> float:
        """A figure of it; not a number where it has none of that name."""
        if quantity == SUCCESS:
            return self.success
        if quantity == SCORE:
            return self.score
        return float(self.figures.get(quantity, math.nan))


class Course:
    """The evaluations of a run as arrays, one number an evaluation, in order.

    Attributes
    ----------
    step, seconds, episodes : array (n,)
    """

    def __init__(self, evaluations: Sequence[Evaluation]) -> None:
        self.evaluations = evaluations
        self.step = np.array([e.step for e in evaluations], dtype=np.int64)
        self.seconds = np.array([e.seconds for e in evaluations], dtype=float)
        self.episodes = np.array([e.episodes for e in evaluations], dtype=np.int64)
        self._known: dict[str, Array] = {}

    def __len__(self) -> int:
        return len(self.evaluations)

    def of(self, quantity: str) -> Array:
        """A figure of every evaluation, (n,)."""
        if quantity not in self._known:
            self._known[quantity] = np.array([e.of(quantity) for e in self.evaluations], dtype=float)
        return self._known[quantity]

    def not_finite(self) -> Array:
        """Which evaluations were not finite, (n,)."""
        finite = np.array([e.finite for e in self.evaluations], dtype=bool)
        return np.array(~(finite & np.isfinite(self.of(SCORE))), dtype=bool)


def running(holds: Array) -> Array:
    """How many evaluations running a condition holds up to each, (n,)."""
    at = np.arange(1, len(holds) + 1)
    return at - np.maximum.accumulate(np.where(holds, 0, at))


def best_so_far(values: Array) -> Array:
    """The highest value up to each evaluation, (n,)."""
    return np.fmax.accumulate(values) if len(values) else values


def gain(values: Array, within: int) -> Array:
    """The best of the last `within` evaluations less the best before them; not a number while there are none before, (n,)."""
    found = np.full(len(values), np.nan)
    if len(values) > within:
        windows = np.lib.stride_tricks.sliding_window_view(values, within)[1:]
        found[within:] = np.fmax.reduce(windows, axis=1) - best_so_far(values)[:-within]
    return found


def show_value(quantity: str, value: float) -> str:
    """A success share as per cent, a length in seconds, a score as it is, a health figure as it is shown elsewhere."""
    if quantity == SUCCESS:
        return f"{100 * value:.1f} %".replace("-", "−")
    if quantity == LENGTH:
        return f"{value:.2f} s".replace("-", "−")
    if quantity in HEALTH_FIGURES:
        return HEALTH_FIGURES[quantity].show(value)
    return (f"{value:.2g}" if 0.0 < abs(value) < 0.1 else f"{value:.1f}").replace("-", "−")


def show_steps(steps: float) -> str:
    """Control steps in thousands, from a million on in millions; three figures."""
    if steps >= 1e6:
        return f"{steps / 1e6:.3g} M"
    return f"{steps / 1e3:.0f} k" if steps >= 1e4 else f"{steps / 1e3:.3g} k"


def whole(number: int) -> str:
    """A count with its thousands apart."""
    return f"{number:,}".replace(",", " ")
