"""What a run that is over says of itself: figures outside their healthy band, whether it was still rising, and where nothing was reached."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from plucky_heron.learning.health import LOST, TRAINING_SCORE, UNSOLVED, HealthFigure
from plucky_heron.learning.settings import MethodSettings
from plucky_heron.training.recipe import Recipe
from plucky_heron.training.stopping import Evaluation

LAST = 0.2
"""Share of a run, at its end, over which figures are averaged."""
RISING, RISING_SCORE = 0.05, 0.1
"""Rise of success from the last quarter but one to the last, and of the score as a share of its range, from which a run was still rising."""
NOTHING = 0.05
"""Share of starts below which nothing was reached."""
FEWEST = 8
"""Evaluations from which a rise can be told from chance."""


def declared(recipe: Recipe | None) -> tuple[HealthFigure, ...]:
    """The health figures that a recipe's method declares, in order, and the score while exploring, which every run has."""
    settings = recipe.method_settings() if recipe is not None else None
    # a project's own method may declare none
    figures: tuple[HealthFigure, ...] = settings.health_figures() if isinstance(settings, MethodSettings) else ()
    return (*figures, TRAINING_SCORE, UNSOLVED, LOST)


def looking_back(
    figures: Sequence[HealthFigure], course: Sequence[Evaluation], health: Sequence[tuple[int, dict[str, float]]]
) -> list[str]:
    """Sentences on a run, the weightiest first; none where all is well.

    Parameters
    ----------
    figures
        What its method gives, with their healthy bands.
    course, health
        Its evaluations, and the figures of its updates with the step of each.
    """
    found = []
    if course and max(e.success for e in course) < NOTHING:
        found.append(
            "nothing was reached: see whether any driver meets the measure (heron shakedown), and whether the score rose at all; if it "
            "did, the reward leads elsewhere or the budget is too small"
        )
    rising = still_rising(course)
    if rising:
        found.append(f"still rising when it ended ({rising}): more steps may bring more")
    return found + out_of_band(figures, health)


def still_rising(course: Sequence[Evaluation]) -> str:
    """By how much a run rose in its last quarter, in words; nothing where it did not, or had reached everything."""
    if len(course) < FEWEST or course[-1].success >= 1.0:
        return ""
    quarter = len(course) // 4
    last, before = course[-quarter:], course[-2 * quarter : -quarter]
    success = float(np.mean([e.success for e in last]) - np.mean([e.success for e in before]))
    if success >= RISING:
        return f"success by {100 * success:.0f} points in the last quarter"
    scores = np.array([e.score for e in course])
    if not np.isfinite(scores).all() or max(e.success for e in course) >= 1.0 - NOTHING:
        return ""
    rise = float(np.mean([e.score for e in last]) - np.mean([e.score for e in before]))
    if success > -RISING and rise >= RISING_SCORE * float(np.ptp(scores)) > 0.0:
        return f"the score by {rise:.3g} in the last quarter"
    return ""


def out_of_band(figures: Sequence[HealthFigure], health: Sequence[tuple[int, dict[str, float]]]) -> list[str]:
    """Figures whose mean over the end of a run lies outside their healthy band."""
    if not health:
        return []
    end = health[-1][0]
    late = [values for step, values in health if step >= (1.0 - LAST) * end]
    found = []
    for figure in figures:
        values = [v[figure.key] for v in late if figure.key in v and np.isfinite(v[figure.key])]
        if not values or (figure.low is None and figure.high is None):
            continue
        mean = float(np.mean(values))
        low = -np.inf if figure.low is None else figure.low
        high = np.inf if figure.high is None else figure.high
        if not low <= mean <= high:
            side = f"above {figure.show(high)}" if mean > high else f"below {figure.show(low)}"
            found.append(f"{figure.words}: {figure.show(mean)} at the end, {side}, which healthy runs seldom are")
    return found
