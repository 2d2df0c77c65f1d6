"""Parameters from logs: they come back within their errors, and what a log cannot tell is said."""

from __future__ import annotations

import json
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.analysis.identification.fitting import identify
from plucky_heron.analysis.identification.log import Log, read_log
from plucky_heron.analysis.identification.taking import into_machine, into_variation
from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.errors import FileError, StateError
from plucky_heron.files import validate
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.project import Project

POLE = {
    "name": "pole on a cart",
    "bodies": {
        "cart": {"mass": 2.0, "inertia": [0.1, 0.1, 0.1]},
        "pole": {"mass": 0.3, "centre": [0, 0, 0.4], "inertia": [0.02, 0.02, 0.001]},
    },
    "joints": {
        "slide": {"kind": "slider", "child": "cart", "axis": [1, 0, 0], "damping": 3.0},
        "pole": {"kind": "hinge", "parent": "cart", "child": "pole", "axis": [0, 1, 0], "damping": 0.02},
    },
    "drives": {"motor": {"kind": "effort", "joint": "slide", "limit": 40.0, "lag": 0.03, "dead_time": 0.01}},
}
"""A machine made for these tests: it falls over by itself."""


@pytest.fixture(scope="module")
def pole() -> Model:
    return build_model(validate(Machine, POLE, "pole"))


def logged(
    model: Model, true: dict[str, float], seed: int, samples: int = 500, noise: float = 1.0, speeds: bool = True
) -> Log:
    """A log at 100 Hz of a machine with these parameters, held up by hand, with noise in every reading."""
    rng = np.random.default_rng(seed)
    plant = Plant(model, 1, 0.001)
    for name, value in true.items():
        model.vary(plant.rows, np.arange(1), name, np.array([value]))
    position, velocity, commands, push = [], [], [], 0.0
    for k in range(samples):
        x, v = plant.position[0], plant.velocity[0]
        if k % 8 == 0:
            push = float(rng.uniform(-12, 12))
        # whoever holds it up reads it without noise; that is no matter of the log
        u = np.clip(push + 45.0 * x[1] + 9.0 * v[1] + 2.0 * x[0] + 3.0 * v[0], -40, 40)
        position.append(x.copy())
        velocity.append(v.copy())
        commands.append([u])
        plant.step(np.array([[u]]), 10)
    seen, rates = np.array(position), np.array(velocity)
    seen = seen + noise * rng.standard_normal(seen.shape) * [1e-3, 2e-3]
    rates = rates + noise * rng.standard_normal(rates.shape) * [1e-2, 2e-2] if speeds else np.full_like(rates, np.nan)
    return Log(0.01, seen, rates, np.array(commands))


TRUE = {"slide.damping": 5.0, "pole.mass": 0.42, "motor.lag": 0.05}


def test_parameters_come_back_within_three_of_their_errors_in_95_of_100_logs(pole: Model) -> None:
    """Of an unstable machine, with all of it noisy; the errors are those that are said, neither too small nor far too large."""
    found = [identify(pole, logged(pole, TRUE, seed), list(TRUE)).parameters for seed in range(20)]
    off = np.array([[(p.value - TRUE[p.name]) / p.error for p in fit] for fit in found])
    assert (np.abs(off) < 3.0).mean() >= 0.95, off
    assert (off.std(axis=0) > 0.4).all() and (off.std(axis=0) < 1.6).all() and (np.abs(off.mean(axis=0)) < 1.0).all(), (
        off
    )
    assert all(p.told and not p.with_ and p.error < 0.3 * p.value for fit in found for p in fit)


def test_speeds_need_not_be_logged(pole: Model) -> None:
    fit = identify(pole, logged(pole, TRUE, 3, speeds=False), list(TRUE))
    assert all(abs(p.value - TRUE[p.name]) < 3.5 * p.error and p.error < 0.4 * p.value for p in fit.parameters)
    assert fit.channels == ("slide.position", "pole.position")


def test_without_noise_it_is_exact_and_the_simulation_lies_on_the_log(pole: Model) -> None:
    fit = identify(pole, logged(pole, TRUE, 5, noise=0.0), list(TRUE))
    assert all(abs(p.value / TRUE[p.name] - 1.0) < 2e-3 for p in fit.parameters)
    assert (fit.after < 1e-4).all() and (fit.before > 10 * fit.after).all()


def test_what_the_log_cannot_tell_is_said(pole: Model) -> None:
    still = logged(pole, {}, 1)
    resting = replace(
        still,
        position=still.position * 0 + 1e-4 * np.random.default_rng(1).standard_normal(still.position.shape),
        velocity=still.velocity * 0,
        commands=still.commands * 0,
    )
    fit = identify(pole, resting, ["slide.damping"])
    assert not fit.parameters[0].told
    both = identify(pole, logged(pole, TRUE, 2), ["cart.mass", "slide.armature", "slide.damping"])
    told = {p.name: p for p in both.parameters}
    assert told["slide.damping"].told and not told["slide.damping"].with_
    assert told["cart.mass"].with_ == "slide.armature" and told["slide.armature"].with_ == "cart.mass"


def test_a_log_is_read_by_the_names_of_the_machine_and_of_the_task(tmp_path: Path, folder: Path) -> None:
    problem = Project(folder).problem("lift")
    names = [
        "time",
        "trolley position",
        "cable angle",
        "cable length",
        "trolley.velocity",
        "push",
        "command reel",
        "offset",
    ]
    rows = [",".join(names)] + [f"{0.02 * k},{k},1,2,3,4,5,6" for k in range(30)]
    path = tmp_path / "log.csv"
    path.write_text("\n".join(rows))
    log = read_log(path, problem.model, problem)
    assert log.sample_time == pytest.approx(0.02) and log.position[5].tolist() == [5, 1, 2]
    assert log.commands[0].tolist() == [4, 5] and log.velocity[0, 0] == 3 and np.isnan(log.velocity[0, 1])
    assert "not used: offset" in log.notes[-1]
    with pytest.raises(FileError, match=r"trolley\.position: no such column"):
        read_log(path, problem.model)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda r: [], "is empty"), (lambda r: r[:5], "rows; wanted"), (lambda r: [*r[:8], "0.07,x,1,1", *r[9:]], "line 9"), (lambda r: [*r[:8], "0.07,1", *r[9:]], "2 values, wanted 4"),
        (lambda r: [*r[:8], r[7], *r[8:]], "time does not rise"), (lambda r: [*r[:8], *r[20:]], "a gap of"), (lambda r: ["t,a,b,c", *r[1:]], "time: no such column"),
        (lambda r: ["time,slide.position,pole.position,time", *r[1:]], "stands twice"), (lambda r: [*r[:8], "0.07,nan,1,1", *r[9:]], "missing or no finite number"),
    ],
)  # fmt: skip
def test_a_wrong_log_is_named_with_its_line(change: object, said: str, tmp_path: Path, pole: Model) -> None:
    rows = ["time,slide.position,pole.position,motor"] + [f"{0.01 * k},{k},1,1" for k in range(40)]
    path = tmp_path / "log.csv"
    path.write_text("\n".join(change(rows)))  # type: ignore[operator]
    with pytest.raises(FileError, match=said):
        read_log(path, pole)


def test_uneven_stamps_are_put_on_an_even_clock(tmp_path: Path, pole: Model) -> None:
    rng = np.random.default_rng(1)
    time = np.cumsum(0.01 + 0.002 * rng.uniform(-1, 1, 200))
    rows = ["time,slide.position,pole.position"] + [f"{t:.9f},{2 * t:.9f},0" for t in time]
    (tmp_path / "log.csv").write_text("\n".join(rows))
    log = read_log(tmp_path / "log.csv", pole)
    assert (
        np.allclose(np.diff(log.position[:, 0]), 2 * log.sample_time)
        and "uneven" in log.notes[0]
        and "motor" in log.notes[1]
    )


def test_what_was_found_goes_into_machine_and_variation(folder: Path, tmp_path: Path) -> None:
    problem = Project(folder).problem("lift")
    rng = np.random.default_rng(2)
    plant = Plant(problem.model, 1, 0.004)
    problem.model.vary(plant.rows, np.arange(1), "basket.mass", np.array([75.0]))
    plant.settle_drives(np.arange(1))
    lines = ["time,trolley.position,cable.position,reel.position,push,reel"]
    for k in range(400):
        if k % 20 == 0:
            u = rng.uniform([-300, -0.3], [300, 0.3])
        lines.append(",".join(f"{x:.9g}" for x in (0.02 * k, *(plant.position[0] + 1e-4 * rng.standard_normal(3)), *u)))
        plant.step(u[None].copy(), 5)
    path = tmp_path / "log.csv"
    path.write_text("\n".join(lines))
    whole = [
        sys.executable,
        "-m",
        "plucky_heron.cli.main",
        "identify",
        str(path),
        "--machine",
        "hoist",
        "--task",
        "lift",
        "--over",
        "basket.mass",
    ]
    done = subprocess.run(
        [*whole, "--json", "--project", str(folder)], capture_output=True, text=True, timeout=300, check=True
    )
    answer = json.loads(done.stdout)
    found = answer["parameters"][0]
    assert (
        abs(found["value"] - 75.0) < 3 * found["error"]
        and found["told"]
        and found["interval"][0] < 75.0 < found["interval"][1]
    )
    model, task = problem.model, "lift"
    log = read_log(path, model, problem)
    fit = identify(model, log, ["basket.mass"], problem.surroundings, physics_step=0.004)
    assert into_machine(folder / "machines" / "hoist.toml", fit) == [f"basket.mass = {found['value']:.5g}"]
    machine = read_machine(folder / "machines" / "hoist.toml")
    assert machine.bodies["basket"].mass == pytest.approx(75.0, abs=2.0)
    before = problem.machine.bodies["basket"]
    assert machine.bodies["basket"].inertia[0] / before.inertia[0] == pytest.approx(
        machine.bodies["basket"].mass / before.mass, rel=1e-3
    )
    assert "# its origin is the hook" in (folder / "machines" / "hoist.toml").read_text()
    into_variation(folder, task, fit)
    drawn = Project(folder).problem("lift").task.variation["basket.mass"]
    assert drawn.uniform is not None and float(drawn.uniform[0]) < 75.0 < float(drawn.uniform[1])


def test_wrong_questions_are_answered(pole: Model) -> None:
    log = logged(pole, {}, 1, samples=60)
    for names, said in ((["cart.mas"], "did you mean"), ([], "at least one"), (["cart.mass", "cart.mass"], "twice")):
        with pytest.raises(StateError, match=said):
            identify(pole, log, names)
    with pytest.raises(StateError, match="too few"):
        identify(pole, log, ["cart.mass"], window=0.3)
    with pytest.raises(StateError, match="at least 4"):
        identify(pole, log, ["cart.mass"], window=0.01)
