"""Every machine of the demo world does what it is for, under the simple law its task names."""

from __future__ import annotations

import numpy as np
import pytest

from plucky_heron.control.regulator import linearise
from plucky_heron.dynamics.plant import Plant
from plucky_heron.files import load
from plucky_heron.machine.drawings import read_site
from plucky_heron.machine.reading import read_machine
from plucky_heron.project import demo_source
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Constant, Rule
from plucky_heron.simulation.trials import Recording, Trials, run_trials
from plucky_heron.task.problem import Problem, bind, read_problem
from plucky_heron.task.schema import Task

TRIALS = 24
DEMO = demo_source()


def under_its_rule(task: str, count: int = TRIALS) -> tuple[Problem, Trials]:
    problem = read_problem(DEMO, task)
    done = run_trials(
        problem, Rule(problem, next(iter(problem.task.rules))), seed=5, stream="driving", count=count, record=[0]
    )
    return problem, done


def signal(problem: Problem, recording: Recording, name: str) -> np.ndarray:
    return recording.position[:, problem.model.positions.index(name)]


def test_the_punt_holds_its_station_against_the_current() -> None:
    _, done = under_its_rule("station")
    assert done.success.all()
    nobody = run_trials(
        read_problem(DEMO, "station"), Constant(read_problem(DEMO, "station")), seed=5, stream="driving", count=8
    )
    assert not nobody.success.any()


def test_the_marshcart_follows_every_lane_to_its_end() -> None:
    problem = read_problem(DEMO, "lane")
    scenes = len(problem.surroundings.names)
    assert scenes == 7
    for scene in range(scenes):
        task = problem.task.model_dump()
        task["variation"]["scene"] = {"fixed": scene}
        own = bind(problem.machine, problem.site, Task.model_validate(task))
        done = run_trials(own, Rule(own, "pursuit"), seed=5, stream="driving", count=4)
        assert done.success.all(), problem.surroundings.names[scene]


def test_the_wader_stands_on_the_mud_and_recovers_from_a_push() -> None:
    problem, done = under_its_rule("stand")
    assert done.success.all()
    assert set(done.tally()) == {"time is up"}
    pushed = pushed_in_play(problem, "base.x", 0.6)
    assert pushed["platform.z"].min() > 0.5
    assert abs(pushed["platform.velocity.x"][-1]) < 0.1


def test_the_crab_stands_on_the_shingle_and_recovers_from_a_push() -> None:
    problem, done = under_its_rule("brace")
    assert done.success.all()
    pushed = pushed_in_play(problem, "base.y", 1.0)
    assert np.abs(pushed["shell.roll"]).max() < 0.6
    assert abs(pushed["shell.velocity.y"][-1]) < 0.05


def pushed_in_play(problem: Problem, coordinate: str, speed: float) -> dict[str, np.ndarray]:
    """Let a machine settle under its rule, knock it, and watch it for four seconds."""
    batch = Batch(problem, 1, 3, "push")
    driver = Rule(problem, next(iter(problem.task.rules)))
    batch.start(np.arange(1))
    driver.begin(batch)
    rows: dict[str, list[float]] = {name: [] for name in batch.signals}
    for k in range(round(5.5 / problem.sample_time)):
        if k == round(1.5 / problem.sample_time):
            batch.plant.velocity[0, problem.model.joints.index(coordinate)] += speed
        batch.step(driver.drive(batch, batch.observe()))
        for name, values in batch.signals.items():
            rows[name].append(float(values[0]))
    return {name: np.array(values) for name, values in rows.items()}


def test_the_sower_hovers_while_its_mass_falls_by_half() -> None:
    problem, done = under_its_rule("hover")
    assert done.success.all()
    recording = done.recordings[0]
    late = signal(problem, recording, "base.z")[400:]
    assert np.abs(late - 3.0).max() < 0.12  # gusts blow through the propellers too
    seed = [e.name for e in problem.entries].index("seed left")
    assert recording.observations[0][seed] == pytest.approx(7.5)
    assert recording.observations[-1][seed] == 0.0


def test_the_davit_reaches_its_marks() -> None:
    _, done = under_its_rule("hang")
    assert done.success.all()


def test_the_barrow_balances_up_the_ramp_under_a_linear_regulator() -> None:
    problem, done = under_its_rule("climb")
    assert done.success.all()
    assert signal(problem, done.recordings[0], "base.z")[-1] > 0.84
    nobody = run_trials(problem, Constant(problem), seed=5, stream="driving", count=4)
    assert set(nobody.tally()) == {"fallen"}


def test_the_sluice_opens_by_rocking_and_not_by_pulling() -> None:
    problem, done = under_its_rule("rock")
    assert done.success.all()
    pulling = run_trials(problem, Constant(problem, np.array([110.0])), seed=5, stream="driving", count=8)
    assert not pulling.success.any()
    recording = done.recordings[0]
    assert (np.diff(np.sign(recording.velocity[:, 0])) != 0).sum() >= 3


@pytest.mark.parametrize("task", [p.stem for p in sorted((DEMO / "tasks").glob("*.toml"))])
def test_every_task_is_bound_and_a_copy_is_small(task: str) -> None:
    problem = read_problem(DEMO, task)
    plant = Plant(problem.model, 16, 1e-3, surroundings=problem.surroundings)
    size = sum(array.nbytes for array in plant.keep().values()) / 16
    assert size < 20_000
    assert load(Task, DEMO / "tasks" / f"{task}.toml").machine in {p.stem for p in (DEMO / "machines").iterdir()}


def test_the_regulator_sees_the_ground_it_stands_on() -> None:
    """Linearised on its wheel, the barrow has one growing motion: the fall."""
    poles = np.abs(np.linalg.eigvals(linearise(read_problem(DEMO, "climb")).transition))
    assert (poles > 1.01).sum() == 1


def test_machines_and_sites_are_read_without_a_task() -> None:
    assert len([read_machine(p) for p in (DEMO / "machines").iterdir()]) == 9
    assert len([read_site(p) for p in (DEMO / "sites").iterdir()]) == 9
