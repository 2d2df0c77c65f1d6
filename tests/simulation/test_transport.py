"""Commands that come late, unevenly or not at all."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.control.regulator import tune
from plucky_heron.errors import FileError
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.transport import Transport, uniform
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem, read_problem

Array = np.ndarray


def late(folder: Path, **timing: str) -> Problem:
    """The hoist's task with other timing keys."""
    path = folder / "tasks" / "lift.toml"
    lines = "".join(f"{key} = {value}\n" for key, value in timing.items())
    path.write_text(path.read_text().replace("[timing]\n", f"[timing]\n{lines}", 1))
    return read_problem(folder, "lift")


class Plant:
    """Stands in for the plant: keeps what drives were given in each physics step."""

    def __init__(self, copies: int, drives: int) -> None:
        self.lagged = np.full((copies, drives), -1.0)
        self.given: list[Array] = []

    def step(self, drives: Array, substeps: int) -> None:
        self.given += [drives.copy()] * substeps


def carried(problem: Problem, samples: int, copies: int = 64) -> Array:
    """What drives hold in each physics step, (samples * substeps, copies), when sample k is commanded k."""
    transport = Transport(problem, copies, 5, "test")
    plant = Plant(copies, len(problem.model.drives))
    transport.begin(np.arange(copies), plant)  # type: ignore[arg-type]
    for k in range(samples):
        command = np.full((copies, len(problem.model.drives)), float(k))
        transport.step(plant, command, np.arange(copies), np.full(copies, k))  # type: ignore[arg-type]
    return np.array(plant.given)[:, :, 0]


def test_dead_time_of_the_task_is_what_the_same_dead_time_of_its_drives_would_be(folder: Path) -> None:
    plain = read_problem(folder, "lift")
    problem = late(folder, dead_time='"30 ms"')
    path = folder / "machines" / "hoist.toml"
    text = path.read_text().replace('dead_time = "0 ms"', 'dead_time = "30 ms"')
    path.write_text(text.replace('lag = "120 ms"', 'lag = "120 ms"\ndead_time = "30 ms"'))
    task = folder / "tasks" / "lift.toml"
    task.write_text(task.read_text().replace('dead_time = "30 ms"\n', "", 1))
    drives_late = read_problem(folder, "lift")
    assert len({p.fingerprint() for p in (plain, problem, drives_late)}) == 3
    rng = np.random.default_rng(3)
    commands = rng.uniform(problem.low, problem.high, (100, 4, 2))
    ends = []
    for p in (problem, drives_late):
        batch = Batch(p, 4, 1, "same")
        batch.start(np.arange(4))
        for row in commands:
            batch.step(row)
        ends.append(batch.plant.position.copy())
    assert np.array_equal(ends[0], ends[1])


def test_a_command_acts_within_dead_time_and_jitter_and_never_after_a_newer_one(folder: Path) -> None:
    problem = late(folder, jitter='"50 ms"')  # two and a half samples
    held = carried(problem, 200)
    timing = problem.task.timing
    now = np.arange(len(held)) // timing.substeps
    assert (np.diff(held, axis=0) >= 0).all()
    # in every physics step the newest command that must have come by then, at least, and none from the future
    most = -(-timing.jitter // timing.physics_step) / timing.substeps
    assert (held <= now[:, None]).all() and (held[20:] >= now[20:, None] - np.ceil(most)).all()
    # a command is at the drives after the time that it was drawn, evenly spread
    first = [np.argmax(held >= k, axis=0) - k * timing.substeps for k in range(20, 150)]
    spread = np.concatenate(first) * timing.physics_step
    assert spread.min() == 0.0 and 0.7 * timing.jitter < spread.max() <= timing.jitter + 1e-9


def test_lost_commands_are_as_many_as_said_and_the_one_before_is_held(folder: Path) -> None:
    problem = late(folder, lost='"20 %"')
    held = carried(problem, 400)[:: problem.task.timing.substeps]
    samples = np.arange(400)[:, None]
    lost = held != samples
    assert abs(lost.mean() - 0.2) < 0.01
    assert np.array_equal(held[1:][lost[1:]], held[:-1][lost[1:]])


def test_what_is_lost_is_the_same_for_an_episode_alone_and_after_a_checkpoint(folder: Path) -> None:
    problem = late(folder, jitter='"30 ms"', lost="0.3")
    rng = np.random.default_rng(3)
    commands = rng.uniform(problem.low, problem.high, (40, 1, 2))
    many, alone = Batch(problem, 5, 1, "x"), Batch(problem, 1, 1, "x")
    many.start(np.array([7, 3, 9, 1, 2]))
    alone.start(np.array([9]))
    for row in commands[:20]:
        many.step(np.repeat(row, 5, axis=0))
        alone.step(row)
    again = Batch(problem, 1, 1, "x")
    again.start(np.array([0]))
    again.restore(alone.keep())
    for row in commands[20:]:
        many.step(np.repeat(row, 5, axis=0))
        alone.step(row)
        again.step(row)
    assert np.array_equal(many.plant.position[2], alone.plant.position[0])
    assert np.array_equal(again.plant.position, alone.plant.position)


def test_uniform_numbers_are_uniform_and_apart() -> None:
    keys = np.arange(20_000, dtype=np.uint64) * np.uint64(0x9E3779B97F4A7C15)
    a, b = uniform(keys, np.zeros(20_000, dtype=np.int64), 0), uniform(keys, np.zeros(20_000, dtype=np.int64), 1)
    assert abs(a.mean() - 0.5) < 0.01 and abs(a.std() - 12**-0.5) < 0.01 and abs(np.corrcoef(a, b)[0, 1]) < 0.03
    assert 0.0 <= a.min() < a.max() < 1.0


def test_the_regulator_knows_of_dead_time(folder: Path) -> None:
    problem = read_problem(folder, "lift")
    slow = replace(problem, model=replace(problem.model, dead_time=problem.model.dead_time + 0.15))
    known, unknown = (run_trials(slow, tune(p), seed=3, stream="late", count=64) for p in (slow, problem))
    assert known.score.mean() > unknown.score.mean()


@pytest.mark.parametrize(
    ("key", "value", "wanted"),
    [("lost", "1.5", "less than 1"), ("lost", '"120 %"', "less than 1"), ("jitter", '"2 s"', "samples"), ("dead_time", '"-1 ms"', "between 0"), ("jiter", "1", "jitter")],
)  # fmt: skip
def test_wrong_timing_is_named(folder: Path, key: str, value: str, wanted: str) -> None:
    with pytest.raises(FileError, match=wanted):
        late(folder, **{key: value})
