"""What a diagnosis looks at: everything that is on record of one run, as plain data that can be written down and read again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.analysis.shakedown.rehearsals import kept_scores
from plucky_heron.errors import HeronError
from plucky_heron.learning.guide import GUIDES
from plucky_heron.runs.freeze import frozen_problem, frozen_recipe
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.task.problem import Problem
from plucky_heron.training.fitting import fitted_settings
from plucky_heron.training.measurement import measured
from plucky_heron.training.recipe import Recipe, recipe_from_json, standard_recipe
from plucky_heron.training.stopping import Evaluation

Array = np.ndarray
MOST_BINS = 24
"""Points that the health figures of a run are averaged to where it is written down."""
WRITTEN = (
    "kl", "passes", "spread", "critic_explains", "critic_loss", "value_predicted", "value_realised", "at_limit", "inputs_at_limit", "gradient",
    "model_error", "lost", "unsolved",
)  # fmt: skip
"""Health figures that findings look at."""


@dataclass(frozen=True)
class TaskFacts:
    """What a diagnosis knows of a task."""

    name: str
    measure: str
    terms: tuple[str, ...]
    sample_time: float
    time_limit: int
    """Control steps of the longest episode."""
    commands: tuple[str, ...]


@dataclass(frozen=True)
class Record:
    """One run as it is on record.

    Attributes
    ----------
    health
        Step of each update and its figures.
    details
        Of each evaluation: endings and reward by term; the first also where the untrained commands lie.
    references
        Score and success of other drivers on the task as it was, where they are kept.
    fitted
        Settings that fit the task by the method's standard, where that was measured.
    """

    run: int
    seed: int
    ended: bool
    stop_rule: str
    recipe: Recipe
    task: TaskFacts
    course: tuple[Evaluation, ...]
    details: tuple[dict[str, Any], ...]
    health: tuple[tuple[int, dict[str, float]], ...]
    retest: dict[str, Any] = field(default_factory=dict)
    references: dict[str, dict[str, float]] = field(default_factory=dict)
    fitted: dict[str, Any] = field(default_factory=dict)

    def setting(self, key: str) -> Any:
        """A setting of the method; None where it has none of that name."""
        return getattr(self.recipe.method_settings(sample_time=self.task.sample_time), key, None)

    @property
    def steps(self) -> int:
        """Control steps so far."""
        return max(self.course[-1].step if self.course else 0, self.health[-1][0] if self.health else 0)

    def figure(self, key: str, first: float = 0.0, last: float = 1.0) -> Array:
        """A health figure between two shares of the run so far, where it is finite, (n,)."""
        end = max(self.steps, 1)
        found = [h[key] for step, h in self.health if key in h and first * end <= step <= last * end]
        values = np.array(found, dtype=float)
        finite: Array = values[np.isfinite(values)]
        return finite

    def of(self, quantity: str) -> Array:
        """A figure of every evaluation, (n,)."""
        return np.array([e.of(quantity) for e in self.course], dtype=float)

    def as_data(self) -> dict[str, Any]:
        """Plain data of it, health figures averaged to `MOST_BINS` points, numbers to four figures."""
        evaluations = [
            {"step": e.step, "seconds": _short(e.seconds), "episodes": e.episodes, "score": _short(e.score), "success": _short(e.success), "finite": e.finite,
             "figures": {k: _short(v) for k, v in e.figures.items() if k in ("length", "worst")}}
            for e in self.course
        ]  # fmt: skip
        recipe = self.recipe.model_dump(mode="json", exclude_defaults=True) | {
            "stop": [r.model_dump() for r in self.recipe.stop]
        }
        kept = ("endings", "terms", "untrained")
        details = [
            {k: ([_short(x) for x in d[k]] if k == "terms" else d[k]) for k in kept if k in d} for d in self.details
        ]
        return {
            "run": self.run, "seed": self.seed, "ended": self.ended, "stop_rule": self.stop_rule, "recipe": recipe,
            "task": asdict(self.task), "course": evaluations, "details": details, "health": thinned(self.health), "retest": self.retest,
            "references": self.references, "fitted": self.fitted,
        }  # fmt: skip

    @classmethod
    def from_data(cls, data: dict[str, Any]) -> Record:
        """What `as_data` gave."""
        import json

        return cls(
            data["run"], data["seed"], data["ended"], data["stop_rule"], recipe_from_json(json.dumps(data["recipe"]), "record"),
            TaskFacts(**(data["task"] | {k: tuple(data["task"][k]) for k in ("terms", "commands")})),
            tuple(Evaluation(**e) for e in data["course"]), tuple(data["details"]), tuple((step, h) for step, h in data["health"]),
            data["retest"], data["references"], data["fitted"],
        )  # fmt: skip


def _short(value: float) -> float:
    return float(f"{value:.4g}")


def thinned(health: Sequence[tuple[int, dict[str, float]]]) -> list[tuple[int, dict[str, float]]]:
    """Health figures averaged to at most `MOST_BINS` points, each at the step of its last update."""
    size = -(-len(health) // MOST_BINS) if health else 1
    found = []
    for first in range(0, len(health), size):
        part = health[first : first + size]
        keys = [key for key in WRITTEN if any(key in h for _, h in part)]
        means = {k: float(np.mean([h[k] for _, h in part if k in h])) for k in keys}
        found.append((part[-1][0], {k: _short(v) for k, v in means.items() if np.isfinite(v)}))
    return found


def facts_of(problem: Problem) -> TaskFacts:
    """What a diagnosis knows of a problem."""
    task = problem.task
    return TaskFacts(
        task.name, task.measure.name, tuple(task.rewards), problem.sample_time, task.timing.steps, tuple(c.name for c in problem.commands)
    )  # fmt: skip


def record_of(project: Path, store: RunStore, row: RunRow, measure: bool = True) -> Record:
    """Gather the record of a run.

    Parameters
    ----------
    measure
        Whether the task may be measured for what fits it, which takes some seconds the first time.

    Raises
    ------
    FileError
        What the run froze is missing or damaged.
    """
    problem, recipe = frozen_problem(project, row), frozen_recipe(project, row)
    try:
        kept = kept_scores(project, row.task)
    except HeronError:
        kept = {}
    same = kept.get("fingerprint") == row.fingerprint
    fitted: dict[str, Any] = {}
    if measure and recipe.own is None and recipe.method in GUIDES:
        standard = standard_recipe(recipe.method).model_copy(update={"copies": recipe.copies, "steps": recipe.steps})
        fitted = {k: f.value for k, f in fitted_settings(problem, standard, measured(problem, project)).items()}
    return Record(
        row.id, row.seed, not row.alive, row.stop_rule or "", recipe, facts_of(problem), tuple(store.whole_course(row.id)),
        tuple(d for _, d in store.details(row.id)), tuple(store.health(row.id)), row.retest or {}, kept.get("drivers", {}) if same else {}, fitted,
    )  # fmt: skip
