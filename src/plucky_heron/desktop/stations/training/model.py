"""What the Training station says, without a widget."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState
from plucky_heron.learning.guide import guide_of
from plucky_heron.runs.store import DEAD, FAILED, RUNNING, RunRow
from plucky_heron.simulation.trials import TIME_IS_UP
from plucky_heron.training.looking_back import declared
from plucky_heron.training.recipe import STANDARD, Recipe
from plucky_heron.training.stopping import Course, Evaluation, StopRule, show_steps, show_value
from plucky_heron.training.stopping.evaluation import LENGTH, SCORE, SUCCESS, WORST
from plucky_heron.units import counted


def stake(bench: Workbench) -> StakeState:
    """What is or was trained."""
    rows = bench.rows
    if not rows:
        return StakeState(0.0, "no run: train")
    batch = bench.batch_rows()
    if any(r.alive for r in batch):
        done = sum(r.steps if r.alive else r.budget for r in batch) / max(1, sum(r.budget for r in batch))
        return StakeState(max(0.08, done), f"{counted(len(batch), 'seed')}, {100 * done:.0f} %")
    wrong = [r for r in rows if r.state in (DEAD, FAILED)]
    if wrong:
        return StakeState(0.6, f"run {wrong[0].id} {wrong[0].state}", trouble=True)
    row, count = bench.row(), len({r.batch for r in rows})
    fact = f"{counted(count, 'batch', 'batches')}, {counted(len(rows), 'run')}"
    return StakeState(1.0, fact, older=row is not None and bench.older(row))


def recipe_note(recipe: Recipe, changed: int) -> str:
    """Method, what it corrects, and how many settings are not the standard ones."""
    corrects = f" on {recipe.residual.on}" if recipe.residual is not None else ""
    if recipe.name == STANDARD and not changed:
        return f"{guide_of(recipe.method).name} by its standard, without a recipe of its own"
    return f"{guide_of(recipe.method).name}{corrects} · {changed} changed from the standard"


def what_it_ended(rule: StopRule, rows: list[RunRow], courses: Sequence[Sequence[Evaluation]], every: int) -> str:
    """Seeds of a batch that a stop rule ended; else how near those at work are, or when it can act."""
    seeds = [str(row.seed) for row in rows if row.stop_rule == rule.kind]
    if seeds:
        return "ended all seeds" if len(seeds) == len(rows) > 1 else "ended seed " + ", ".join(seeds)
    near = [
        f"seed {row.seed}: {said}"
        for row, course in zip(rows, courses, strict=True)
        if row.alive and len(course) > 1 and (said := rule.state(Course(course)))
    ]
    if near:
        return ", ".join(near)
    earliest = rule.earliest(every)
    if rows or rule.kind == "budget" or not earliest:
        return "ended none" if rows else ""
    return f"can act from {show_steps(earliest)} steps"


def rules_note(own: Recipe | None, recipe: Recipe, batch: int | None) -> str:
    """Whose rules are shown, and whether those of the recipe are others."""
    if own is None:
        return "each seed for itself"
    return "each seed for itself" if own.stop == recipe.stop else f"of batch {batch}; the recipe has others"


def curves_caption(bench: Workbench, quantity: str, over: int = 1) -> str:
    """What the curves show; `over` is how many evaluations a point is the mean of."""
    said = _caption(bench, quantity)
    return f"{said}, mean of {over} evaluations" if over > 1 and quantity not in (ENDINGS, TERMS) else said


def _caption(bench: Workbench, quantity: str) -> str:
    episodes = bench.recipe.evaluation.episodes if bench.recipe else 64
    own = bench.recipe_of(rows[0]) if (rows := bench.batch_rows()) else None
    if own is not None:
        episodes = own.evaluation.episodes
    if quantity == SUCCESS:
        name = bench.problem.task.measure.name if bench.problem is not None else "success"
        return f"{name}, share of {episodes} evaluation episodes"
    if quantity in (ENDINGS, TERMS):
        row = bench.row()
        seed = f" of seed {row.seed}" if row is not None else ""
        if quantity == ENDINGS:
            return f"how the evaluation episodes{seed} ended"
        return f"mean reward of each term an episode{seed}"
    if quantity in (SCORE, LENGTH, WORST):
        name = next(words for words, key in OWN if key == quantity)
        return f"{name}, {'lowest' if quantity == WORST else 'mean'} of {episodes} evaluation episodes"
    words = next((words for words, key in figures(own or bench.recipe) if key == quantity), quantity)
    return f"{words}, mean since the last evaluation"


ENDINGS, TERMS = "endings", "terms"
PARTS = (("endings over training", ENDINGS), ("reward by term", TERMS))
"""What the chart shows of the chosen run alone, in its parts."""
MEANS = (1, 3, 5, 10, 20)
"""Evaluations that a point of the curves can be the mean of."""
OWN = (("the task's measure", SUCCESS), ("score", SCORE), ("episode length", LENGTH), ("worst episode's score", WORST))
"""Figures of every run that the chart shows."""
ALONG = (("control steps", "steps"), ("minutes", "minutes"), ("episodes", "episodes"))
"""What the chart can stand against."""


def figures(recipe: Recipe | None) -> list[tuple[str, str]]:
    """What the chart can show of runs by a recipe: words and key."""
    return [*OWN, *PARTS, *((figure.words, figure.key) for figure in declared(recipe))]


def parts_of(
    found: Sequence[tuple[int, dict[str, Any]]], quantity: str, terms: Sequence[str]
) -> dict[str, list[float]]:
    """Endings as shares of the evaluation episodes, or mean reward of each term an episode, a number an evaluation.

    Parameters
    ----------
    found
        Step and details of each evaluation, as the store has them.
    terms
        Names of the reward terms, in order.
    """
    if quantity == TERMS:
        rows = [details.get("terms") or [] for _, details in found]
        return {name: [float(row[k]) if k < len(row) else math.nan for row in rows] for k, name in enumerate(terms)}
    tallies = [details.get("endings") or {} for _, details in found]
    names = sorted({name for tally in tallies for name in tally}, key=lambda name: (name != TIME_IS_UP, name))
    counts = [max(1, sum(tally.values())) for tally in tallies]
    return {name: [tally.get(name, 0) / n for tally, n in zip(tallies, counts, strict=True)] for name in names}


def averaged(course: Sequence[Evaluation], quantity: str, over: int) -> list[Evaluation]:
    """Evaluations whose figure is the mean of it and of those before it, `over` at most."""
    if over <= 1:
        return list(course)
    values = np.array([e.of(quantity) for e in course])
    # the first have fewer before them; none is spoilt by one that is no number further back, as running sums are
    windows = np.lib.stride_tricks.sliding_window_view(values, min(over, len(values))).mean(axis=1) if course else []
    means = [*(values[: k + 1].mean() for k in range(min(over, len(values)) - 1)), *windows]
    return [
        replace(e, **({quantity: m} if quantity in (SUCCESS, SCORE) else {"figures": {**e.figures, quantity: m}}))
        for e, m in zip(course, map(float, means), strict=True)
    ]


def against(courses: Sequence[list[Evaluation]], along: str) -> list[list[Evaluation]]:
    """The evaluations with what they stand against (milliseconds, or episodes of training) in the place of steps."""
    if along == "steps":
        return list(courses)
    return [
        [replace(e, step=round(1000.0 * e.seconds) if along == "minutes" else e.episodes) for e in course]
        for course in courses
    ]


def read_at(courses: Sequence[tuple[int, Sequence[Evaluation]]], quantity: str, x: float) -> str:
    """The values of all seeds at the last evaluation up to a place of the axis; courses by their seed."""
    said = []
    for seed, course in courses:
        seen = [e for e in course if e.step <= x]
        if (seen and seen[-1] is not course[-1]) or (seen and x <= 1.02 * course[-1].step):
            said.append(f"seed {seed} {show_value(quantity, seen[-1].of(quantity))}")
    return ", ".join(said)


def csv_text(courses: Sequence[tuple[RunRow, Sequence[Evaluation]]]) -> str:
    """The evaluations of runs as comma-separated values, a row each, with all their figures."""
    names = sorted({name for _, course in courses for e in course for name in e.figures})
    lines = [",".join(("run", "seed", "step", "seconds", "episodes", "success", "score", *names))]
    for row, course in courses:
        for e in course:
            values = (
                row.id,
                row.seed,
                e.step,
                e.seconds,
                e.episodes,
                e.success,
                e.score,
                *(e.of(name) for name in names),
            )
            lines.append(",".join(f"{v:.9g}" for v in values))
    return "\n".join(lines) + "\n"


def limits(values: Sequence[float], quantity: str) -> tuple[float, float]:
    """What of a figure is in sight."""
    if quantity == SUCCESS:
        return 0.0, 1.02
    known = [v for v in values if math.isfinite(v)]
    if not known:
        return 0.0, 1.0
    low, high = min(known), max(known)
    return (low, high) if high > low else (low - 0.5, high + 0.5)


def curves_note(bench: Workbench, rows: list[RunRow]) -> str:
    """What has to be known of the curves."""
    if not rows:
        return "nothing trained yet: Train starts the recipe"
    return "the task was changed since this batch" if bench.older(rows[0]) else ""


def seeds_note(bench: Workbench, rows: list[RunRow]) -> str:
    """How many seeds are at work, and how fast; else which batch it is."""
    at_work = [row for row in rows if row.state == RUNNING]
    if at_work:
        speed = sum(row.steps / max(row.seconds, 1e-9) for row in at_work)
        return f"{len(at_work)} at work, {speed / 1000:.0f} k steps/s"
    if not rows:
        return ""
    return f"batch {bench.batch}, {rows[0].recipe}" + (f": {rows[0].note}" if rows[0].note else "")


def kept_note(row: RunRow | None) -> str:
    """The policy that is kept of a run."""
    if row is None or row.best_success is None:
        return ""
    kept = f"kept: seed {row.seed} at {show_steps(row.best_step or 0)}, {show_value('success', row.best_success)}"
    if not row.retest:
        return kept
    success = show_value("success", row.retest["success"])
    return f"{kept}; retested on {row.retest['episodes']} fresh starts {success}"
