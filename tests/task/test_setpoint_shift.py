"""How observations move with set-points: told from formulas, true of the simulation, refused where no straight line, used by model rollouts."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.learning.method import Experience, Space, make_method, settings_class
from plucky_heron.project import Project
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import Problem
from plucky_heron.task.setpoint_shift import SetpointShift, setpoint_shift
from plucky_heron.training.loop import Run, space_of
from plucky_heron.training.recipe import Recipe
from tests.conftest import altered
from tests.learning.test_model_based import SMALL, A, B

Array = np.ndarray


def observing(problem: Problem, *rows: dict[str, Any], **changes: Any) -> Problem:
    """The hoist's task with other observations, metres and ±20 m if nothing else is said."""
    given = [
        {"name": f"seen {k}", "unit": "m", "range": ["-20 m", "20 m"], "noise": 0.0} | row for k, row in enumerate(rows)
    ]
    plain = [{k: v for k, v in a.items() if k != "mirrored"} for a in problem.task.model_dump(exclude_defaults=True)["actions"]]  # fmt: skip
    return altered(problem, observations=given, actions=plain, **changes)


def marks(problem: Problem) -> dict[str, Any]:
    return {k: dict(v) for k, v in problem.task.model_dump(exclude_defaults=True)["setpoints"].items()}


TURN = {"turn": {"unit": "rad", "draw": {"uniform": [-1.0, 1.0]}}}


def test_what_is_told_is_what_the_simulation_shows(problem: Problem) -> None:
    """The same episodes, steered to other set-points under the same commands, are the same readings, shifted."""
    given = observing(
        problem,
        {"formula": "offset"},
        {"formula": "-(2 * basket.z - mark.z / 4) + 0.5 * (mark.x - mark.z)", "noise": 0.01},
        {"formula": "[trolley.position, basket.z - mark.z * 2][1]", "delay": "60 ms"},
        {"formula": "abs(basket.x)"},
    )
    shift = setpoint_shift(given)
    assert shift is not None and shift.names == ("mark.x", "mark.z")
    seen, wanted = [], [np.array([-1.0, 2.5]), np.array([2.0, 4.0])]
    for goal in wanted:
        batch = Batch(given, 3, 1, "shift")
        batch.starts.steered = dict(zip(shift.names, goal, strict=True))
        batch.start(np.arange(3))
        rows = []
        for k in range(60):
            rows.append(batch.observe().copy())
            np.testing.assert_array_equal(batch.drawn(shift.names), np.tile(goal, (3, 1)))
            batch.step(np.tile([300.0 * np.sin(0.1 * k), 0.4], (3, 1)))
        seen.append(np.concatenate(rows))
    moved = shift.observations(seen[0], np.tile(wanted[1] - wanted[0], (len(seen[0]), 1)))
    np.testing.assert_allclose(moved, seen[1], atol=1e-9)
    assert np.ptp(seen[0][:, 0]) > 0.3


@pytest.mark.parametrize(
    "row",
    [
        {"formula": "abs(offset)"},
        {"formula": "mark.x * basket.x", "unit": "m^2", "range": [-20, 20]},
        {"formula": "offset / mark.z", "unit": "", "range": [-20, 20]},
        {"formula": "norm(offset, height)"},
        {"formula": "rate(offset)", "unit": "m/s", "range": [-20, 20]},
        {"formula": "offset", "clip": True},
        {"formula": "cable.angle - turn", "unit": "rad", "range": [-4, 4], "form": "sine and cosine"},
    ],
)
def test_what_is_no_straight_line_is_not_told(problem: Problem, row: dict[str, Any]) -> None:
    bent = observing(problem, {"formula": "height"}, row, setpoints=marks(problem) | TURN)
    assert setpoint_shift(bent) is None
    assert space_of(bent).shift is None


def test_a_late_reading_of_a_set_point_that_moves_is_not_told(problem: Problem) -> None:
    setpoints = marks(problem)
    late = {"formula": "offset", "delay": "60 ms"}
    assert setpoint_shift(observing(problem, late)) is not None
    setpoints["mark.x"]["every"] = "1 s"
    assert setpoint_shift(observing(problem, late, setpoints=setpoints)) is None
    still = setpoint_shift(observing(problem, late | {"formula": "height"}, setpoints=setpoints))
    assert still is not None and still.names == ("mark.z",)


def test_where_no_observation_tells_of_a_set_point_there_is_nothing_to_shift(problem: Problem) -> None:
    assert setpoint_shift(observing(problem, {"formula": "basket.x"})) is None


@pytest.mark.parametrize(("task", "names"), [("lift", ("mark.x", "mark.z")), ("hover", ("mark.x",)), ("walk", ())])
def test_the_demos_tasks_that_tell_of_set_points(folder: Path, task: str, names: tuple[str, ...]) -> None:
    shift = setpoint_shift(Project(folder).problem(task))
    assert (shift.names if shift is not None else ()) == names


SHIFT = SetpointShift(("goal",), np.array([[-1.0, 0.5]]))
SPACE = Space(np.full(2, -9.0), np.full(2, 9.0), np.full(1, -1.0), np.full(1, 1.0), shift=SHIFT)


def taught(share: float, rounds: int = 6) -> tuple[Any, Array, Array]:
    """A learner on the linear system with a goal for each episode, where it was, and what the goals were."""
    learner = make_method(
        "model-based", settings_class("model-based").model_validate(SMALL | {"other_setpoints": share}), SPACE, 8, 1
    )
    generator = np.random.default_rng(4)
    state, goal = generator.uniform(-1, 1, (8, 2)), generator.integers(-4, 5, (8, 1)).astype(float)
    met, goals = [], []
    nobody = np.zeros(8, dtype=bool)
    for _ in range(rounds):
        while not learner.ready():
            met.append(state.copy())
            goals.append(goal[:, 0].copy())
            seen = state + goal @ SHIFT.slope
            command = np.clip(learner.choose(seen), -1, 1)
            state = np.clip(state @ A.T + command @ B.T, -1.5, 1.5)
            cut = generator.random(8) < 0.05
            learner.take(
                Experience(
                    -np.square(state).sum(axis=1), state + goal @ SHIFT.slope, nobody, cut, seen, command, goal.copy()
                )
            )
            state = np.where(cut[:, None], generator.uniform(-1, 1, (8, 2)), state)
            goal = np.where(cut[:, None], generator.integers(-4, 5, (8, 1)), goal)
        learner.improve(0.5)
    return learner, np.concatenate(met), np.concatenate(goals)


@pytest.mark.parametrize("share", [0.0, 0.25, 1.0])
def test_branches_begin_where_it_was_with_what_was_wanted_elsewhere(share: float) -> None:
    learner, met, goals = taught(share)
    replay = learner.replay
    real = {tuple(row) for row in replay.observations[: replay.size].tolist()}
    found = learner._real_states(4000)
    new = np.array([tuple(row) not in real for row in found.tolist()])
    # every beginning is a place that was met, with a goal that was met
    for row in found[new][:200]:
        places = row - np.unique(goals)[:, None, None] * SHIFT.slope
        assert np.abs(places - met).max(axis=2).min() < 1e-5
    same = sum(np.mean(goals == goal) ** 2 for goal in np.unique(goals))
    assert new.mean() == pytest.approx(share * (1.0 - same), abs=0.03)


def test_a_learner_with_set_points_resumes_exactly() -> None:
    learner, _, _ = taught(0.5)
    kept = learner.keep()
    other = make_method(
        "model-based", settings_class("model-based").model_validate(SMALL | {"other_setpoints": 0.5}), SPACE, 8, 1
    )
    other.restore(kept)
    for name, value in other.keep().items():
        np.testing.assert_array_equal(value, kept[name], err_msg=name)
    np.testing.assert_array_equal(learner._real_states(50), other._real_states(50))
    assert len(kept["setpoints"]) == learner.replay.size and kept["setpoints"].any()


def test_a_run_hands_over_the_set_points_of_the_command(problem: Problem, tmp_path: Path) -> None:
    """Where set-points are drawn again, the one that was observed is the one that is kept."""
    setpoints = {k: v | {"every": "0.2 s"} for k, v in marks(problem).items()}
    given = observing(
        problem,
        {"formula": "offset"},
        {"formula": "basket.x"},
        {"formula": "height"},
        {"formula": "basket.z"},
        setpoints=setpoints,
    )
    recipe = Recipe(method="model-based", copies=4, steps=400, settings={"random_start_steps": 200, "minibatch": 32, "model_updates": 2, "model_rollouts": 16, "updates_per_step": 0.1})  # fmt: skip
    run = Run(given, recipe, 1, tmp_path)
    for _ in range(4):
        run.update()
    size = run.method.replay.size
    seen, kept = run.method.replay.observations[:size], run.method.setpoints[:size]
    np.testing.assert_allclose(seen[:, 1] - seen[:, 0], kept[:, 0], atol=1e-5)
    np.testing.assert_allclose(seen[:, 3] - seen[:, 2], kept[:, 1], atol=1e-5)
    assert len(np.unique(kept[:, 0])) > 20
