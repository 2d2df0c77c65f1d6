"""What a task pays and where it ends, told from observations alone, against what the simulation pays."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.learning.method import Experience, make_method, settings_class
from plucky_heron.project import Project
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Random
from plucky_heron.task.observed_reward import ObservedReward
from plucky_heron.task.problem import Problem
from plucky_heron.training.loop import space_of


def exact(folder: Path, task: str) -> Problem:
    """The task with sensors that do not err."""
    path = folder / "tasks" / f"{task}.toml"
    path.write_text("\n".join(line for line in path.read_text().splitlines() if not line.startswith("noise")))
    return Project(folder).problem(task)


@pytest.mark.parametrize("task", ["lift", "climb", "stand", "hang"])
def test_known_terms_are_what_the_simulation_pays(folder: Path, task: str) -> None:
    problem = exact(folder, task)
    pay = ObservedReward(problem)
    assert pay.terms
    known = [list(problem.task.rewards).index(name) for name in pay.terms]
    batch = Batch(problem, 32, 5, "training", 1)
    batch.start(np.arange(32))
    driver = Random(problem, hold=0.3)
    driver.begin(batch)
    ended = 0
    for _ in range(150):
        before = batch.observe()
        commands = np.clip(driver.drive(batch, before), problem.low, problem.high)
        running = batch.running.copy()
        outcome = batch.step(commands)
        paid, over = pay.judge(before, commands, batch.observe())
        np.testing.assert_allclose(paid[running], outcome.terms[running][:, known].sum(axis=1), rtol=1e-6, atol=1e-9)
        if pay.every_ending:
            np.testing.assert_array_equal(over[running], outcome.ending[running] >= 0)
            ended += int(over[running].sum())
    assert ended > 0 or not pay.every_ending


def test_what_no_sensor_tells_is_left_to_be_learned(folder: Path) -> None:
    pay = ObservedReward(Project(folder).problem("lift"))
    assert set(pay.terms) == {"distance", "closeness", "swing", "effort", "smoothness", "spilt"}
    assert not pay.every_reward and pay.every_ending and pay.endings == ("spilt",)
    whole = ObservedReward(Project(folder).problem("climb"))
    assert whole.every_reward and whole.every_ending
    path = folder / "tasks" / "lift.toml"
    path.write_text(path.read_text().replace('formula = "cable.angle"', 'formula = "cable.angle"\nclip = true', 1))
    clipped = ObservedReward(Project(folder).problem("lift"))
    assert clipped.endings == () and not {"spilt", "swing"} & set(clipped.terms)


def test_a_model_learns_only_what_the_task_does_not_tell(folder: Path) -> None:
    """The rest of the reward has only what is not known, and branches end where the task says so."""
    problem = exact(folder, "climb")
    space = space_of(problem)
    small = {"random_start_steps": 64, "minibatch": 32, "model_every": 128, "model_updates": 2, "model_rollouts": 32}
    learners = {
        word: make_method("model-based", settings_class("model-based").model_validate(small | {"reward_and_endings": word}), space, 8, 1)
        for word in ("from the task", "learned")
    }  # fmt: skip
    batch = Batch(problem, 8, 5, "training", 1)
    batch.start(np.arange(8))
    for _ in range(60):
        seen = batch.observe()
        for learner in learners.values():
            commands = learner.choose(seen)
        outcome = batch.step(commands)
        over = outcome.ending >= 0
        for learner in learners.values():
            learner.take(Experience(outcome.reward, batch.observe(), over, np.zeros(8, bool), seen, commands))
        batch.restart(np.flatnonzero(over), np.arange(100, 100 + over.sum()))
    told, learned = learners.values()
    size = told.replay.size
    assert np.abs(told.unknown.reward[:size]).max() < 1e-4 < np.abs(learned.unknown.reward[:size]).max()
    assert not told.unknown.ended[:size].any()
    assert learned.unknown.ended[:size].sum() == (learned.replay.over[:size] == 1).sum() > 0
    # a state about to fall: the branch ends by the task's own word, whatever the untaught odds say
    fallen = told.replay.after[:size][told.replay.over[:size] == 1][:1].astype(np.float64)
    paid, ended = told._known(fallen, np.zeros((1, len(space.low))), fallen)
    assert ended.all() and paid[0] < 0
    again = make_method("model-based", told.model_settings, space, 8, 1)
    again.restore(told.keep())
    np.testing.assert_array_equal(again.unknown.reward[:size], told.unknown.reward[:size])
