"""Episodes in batches: repeatability, time limits apart from endings, noise, delay, pay, drivers."""

from __future__ import annotations

import numpy as np
import pytest

from plucky_heron.simulation.batch import TIME_UP, Batch
from plucky_heron.simulation.drivers import Constant, Random, Rule
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import NOT_FINITE, Problem, bind
from plucky_heron.task.schema import Ending, Task


def changed(problem: Problem, **updates: object) -> Problem:
    """The same problem with parts of its task replaced."""
    data = problem.task.model_dump() | updates
    return bind(problem.machine, problem.site, Task.model_validate(data))


def test_an_episode_is_the_same_alone_and_in_any_company(problem: Problem) -> None:
    several = run_trials(problem, Rule(problem, "steady"), seed=5, stream="a", count=6, record=[4])
    alone = run_trials(
        problem, Rule(problem, "steady"), seed=5, stream="a", count=1, episodes=np.array([4]), record=[0]
    )
    np.testing.assert_array_equal(several.recordings[4].position, alone.recordings[0].position)
    assert several.score[4] == alone.score[0]
    other = run_trials(problem, Rule(problem, "steady"), seed=5, stream="b", count=6)
    assert not np.array_equal(other.score, several.score)


def test_time_is_up_is_no_ending(problem: Problem) -> None:
    short = changed(problem, timing={"control_rate": 50.0, "substeps": 5, "time_limit": 0.2})
    batch = Batch(short, 3, 1, "t")
    batch.start(np.arange(3))
    batch.age[:] = (0, 5, 9)
    endings = [batch.step(np.zeros((3, 2))).ending.copy() for _ in range(10)]
    assert [int(np.argmax(np.array(endings)[:, k] == TIME_UP)) for k in range(3)] == [9, 4, 0]
    assert (np.array(endings) < 0).all()


def test_an_ending_held_for_a_second_does_not_hide_the_time_limit(problem: Problem) -> None:
    """Copies whose ending is being held must still be cut by time, or they would never start anew."""
    held = changed(
        problem, timing={"control_rate": 50.0, "substeps": 5, "time_limit": 0.5},
        endings={"waits": Ending(formula="time >= 0", kind="success", hold=1.0).model_dump(), "spilt": problem.task.endings["spilt"].model_dump()},
    )  # fmt: skip
    batch = Batch(held, 4, 1, "t")
    batch.start(np.arange(4))
    for _ in range(25):
        outcome = batch.step(np.zeros((4, 2)))
    assert (outcome.ending == TIME_UP).all()
    longer = changed(held, timing={"control_rate": 50.0, "substeps": 5, "time_limit": 2.0})
    batch = Batch(longer, 4, 1, "t")
    batch.start(np.arange(4))
    for _ in range(51):
        outcome = batch.step(np.zeros((4, 2)))
    assert (outcome.ending == 0).all()


def test_pay_is_the_sum_of_terms_and_endings_pay_once(problem: Problem) -> None:
    trials = run_trials(problem, Random(problem), seed=1, stream="p", count=24)
    np.testing.assert_allclose(trials.terms.sum(axis=1), trials.score, rtol=1e-12)
    spilt = trials.ending == list(problem.task.endings).index("spilt")
    assert spilt.any()
    column = list(problem.task.rewards).index("spilt")
    np.testing.assert_array_equal(trials.terms[:, column], np.where(spilt, -150.0, 0.0))
    assert not trials.success[spilt].any()


def test_noise_and_delay_are_what_the_task_says(problem: Problem) -> None:
    data = problem.task.model_dump()
    for o in data["observations"]:
        o["noise"], o["delay"] = 0.0, 0.0
    data["observations"][1]["delay"] = 0.06
    data["observations"][2]["noise"] = 0.25
    task = Task.model_validate(data)
    clean = bind(problem.machine, problem.site, task)
    batch = Batch(clean, 64, 2, "n")
    batch.start(np.arange(64))
    heights, errors = [], []
    for _ in range(60):
        heights.append(batch._program.results[1].copy())
        seen = batch.observe()
        errors.append(seen[:, 2] - batch.signals["trolley.position"])
        late = heights[max(0, len(heights) - 4)]
        np.testing.assert_array_equal(seen[:, 1], late)
        batch.step(np.tile([200.0, 0.3], (64, 1)))
    assert np.std(errors) == pytest.approx(0.25, rel=0.05)
    assert abs(np.mean(errors)) < 0.02


def test_starts_and_loads_are_drawn_from_their_ranges(problem: Problem) -> None:
    batch = Batch(problem, 256, 9, "d")
    batch.start(np.arange(256))
    mass, mark = batch.signals["basket.mass"], batch.signals["mark.x"]
    assert 20.0 <= mass.min() < 25.0 and 75.0 < mass.max() <= 80.0
    assert -4.0 <= mark.min() < -3.5 and 3.5 < mark.max() <= 4.0
    slot = problem.model.parameter("basket.mass")[0][0]
    np.testing.assert_allclose(batch.plant.rows[:, slot], mass)
    assert abs(batch.starts.wind.mean()) < 0.3 and 0.5 < batch.starts.wind.std() < 2.5


def test_a_copy_that_blows_up_ends_alone(problem: Problem) -> None:
    batch = Batch(problem, 4, 1, "x")
    batch.start(np.arange(4))
    batch.plant.velocity[2, 0] = np.nan
    outcome = batch.step(np.zeros((4, 2)))
    assert problem.ending_names[outcome.ending[2]] == NOT_FINITE
    assert (outcome.ending[[0, 1, 3]] < 0).all()
    assert np.isfinite(batch.observe()).all() and np.isfinite(outcome.reward).all()
    batch.restart(np.array([2]), np.array([9]))
    assert np.isfinite(batch.step(np.zeros((4, 2))).reward).all()


def test_commands_are_clipped_to_the_task(problem: Problem) -> None:
    batch = Batch(problem, 2, 1, "c")
    batch.start(np.arange(2))
    batch.step(np.array([[1e6, -5.0], [-1e6, 5.0]]))
    np.testing.assert_array_equal(batch.commands, [[500.0, -0.8], [-500.0, 0.8]])
    assert Constant(problem, np.array([9e9, 0.0])).commands[0] == 500.0
