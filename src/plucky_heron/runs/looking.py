"""Looking at what a run learned: episodes by its kept policies, and what its critics say along them beside what came."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.learning.policy import PolicyDriver
from plucky_heron.learning.worth import LooksAlong, Worth, discounted
from plucky_heron.runs.freeze import frozen_problem, frozen_recipe, kept_policy
from plucky_heron.runs.launch import restored_method
from plucky_heron.runs.store import RunRow
from plucky_heron.simulation.trials import TIME_IS_UP, Recording, run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

Array = np.ndarray


@dataclass(frozen=True)
class Looked:
    """Values by the critics as they stood at the run's last checkpoint, and the discounted reward that followed, (T + 1,)."""

    worth: Worth
    came: Array


def worth_along(project: Path, row: RunRow, recording: Recording) -> Looked | None:
    """What the critics of a run say of an episode of its task; None where it has none, or no checkpoint.

    Where time cut the episode, what came ends with what the critics say of the last sample: it is not known.

    Raises
    ------
    FileError
        The checkpoint is damaged.
    """
    recipe = frozen_recipe(project, row)
    method: object = restored_method(project, row, frozen_problem(project, row), recipe)
    if not isinstance(method, LooksAlong) or not recording.steps:
        return None
    worth = method.look_along(recording.observations, recording.commands)
    if not worth.values.shape[1]:
        return None
    cut = recording.ending in (TIME_IS_UP, "")
    discount = float(getattr(recipe.method_settings(), "discount", 1.0))
    last = float(worth.values[-1].mean()) if cut else 0.0
    return Looked(worth, discounted(recording.terms.sum(axis=1), discount, last))


def kept_episodes(
    project: Path, row: RunRow, which: str, count: int, name: str = ""
) -> tuple[Problem, list[Recording]]:
    """The first evaluation starts driven by a kept policy of a run, on its task as it was.

    Parameters
    ----------
    which
        ``"best"``, ``"last"``, or the step of a milestone.
    name
        What the driver is called in the recordings.

    Raises
    ------
    FileError
        No such policy is kept, or what is kept is damaged.
    """
    problem = frozen_problem(project, row)
    driver = PolicyDriver(kept_policy(project, row, which), name or f"policy, {which}")
    trials = run_trials(problem, driver, seed=EVALUATION_SEED, stream="evaluation", count=count, record=range(count))
    return problem, [trials.recordings[k] for k in range(count)]
