"""What the Training station says, without a widget."""

from __future__ import annotations

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState
from plucky_heron.learning.health import TRAINING_SCORE, HealthFigure
from plucky_heron.learning.settings import MethodSettings
from plucky_heron.runs.store import DEAD, FAILED
from plucky_heron.training.recipe import Recipe


def stake(bench: Workbench) -> StakeState:
    """What is or was trained."""
    rows = bench.rows
    if not rows:
        return StakeState(0.0, "no run: train")
    batch = bench.batch_rows()
    if any(r.alive for r in batch):
        done = sum(r.steps if r.alive else r.budget for r in batch) / max(1, sum(r.budget for r in batch))
        return StakeState(max(0.08, done), f"{len(batch)} seeds, {100 * done:.0f} %")
    wrong = [r for r in rows if r.state in (DEAD, FAILED)]
    if wrong:
        return StakeState(0.6, f"run {wrong[0].id} {wrong[0].state}", trouble=True)
    row, count = bench.row(), len({r.batch for r in rows})
    fact = f"{count} batch{'es' if count > 1 else ''}, {len(rows)} runs"
    return StakeState(1.0, fact, older=row is not None and bench.older(row))


def declared(recipe: Recipe | None) -> tuple[HealthFigure, ...]:
    """The health figures that a recipe's method declares, in order, and the score while exploring, which every run has."""
    settings = recipe.method_settings() if recipe is not None else None
    # a project's own method may declare none
    figures: tuple[HealthFigure, ...] = settings.health_figures() if isinstance(settings, MethodSettings) else ()
    return (*figures, TRAINING_SCORE)
