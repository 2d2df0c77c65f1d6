"""The regulator holds what it is told to hold: under load, in hover, away from zero, late, one-sided, through dead zones."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.control.regulator import Regulator, gain, linearise
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import Problem, read_problem

ARM = """
[bodies.arm]
mass = 2.0
centre = [0.25, 0.0, 0.0]
inertia = [0.002, 0.05, 0.05]
[joints.arm]
kind = "hinge"
child = "arm"
axis = [0, -1, 0]
damping = 0.5
[drives.d]
joint = "arm"
"""
ARM_TASK = """
[[actions]]
name = "u"
drive = "d"
[[observations]]
name = "angle"
formula = "arm.position"
unit = "rad"
range = ["-3 rad", "3 rad"]
[rewards.near]
formula = "-abs(arm.position - 0.6)"
[regulator.hold]
arm = "0.6"
"""
HOVER = """
[bodies.b]
mass = 1.5
inertia = [0.02, 0.02, 0.03]
[joints.base]
kind = "free"
child = "b"
start = [0, 0, 1, 0, 0, 0]
"""


def project(folder: Path, machine: str, task: str, timing: str = "") -> Problem:
    """A project of one machine and one task."""
    for name in ("machines", "tasks", "sites", "recipes"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    (folder / "project.toml").write_text('format = 2\nname = "laws"\n')
    (folder / "sites" / "void.toml").write_text('format = 2\nname = "void"\n')
    (folder / "machines" / "m.toml").write_text('format = 2\nname = "m"\n' + machine)
    head = 'format = 2\nname = "t"\nmachine = "m"\nsite = "void"\n[timing]\n'
    task += '[measure]\nname = "near"\nformula = "1"\n' if "[measure]" not in task else ""
    head += timing or 'control_rate = "50 Hz"\nsubsteps = 10\ntime_limit = "20 s"\n'
    (folder / "tasks" / "t.toml").write_text(head + task)
    return read_problem(folder, "t")


def settled(problem: Problem, seconds: float = 8.0) -> Batch:
    """An episode under the regulator of the middle design, as it stands after some seconds."""
    linear = linearise(problem)
    regulator = Regulator(problem, gain(problem, linear, (0.15, 1.0, 1.0))[None], linear.servos, linear.trim)
    batch = Batch(problem, 1, 1, "law", 1)
    batch.start(np.arange(1))
    regulator.begin(batch)
    for _ in range(round(seconds / problem.sample_time)):
        batch.step(regulator.drive(batch, batch.observe()))
    return batch


@pytest.mark.parametrize(
    "drive",
    [
        'kind = "effort"\nlimit = 12.0',
        'kind = "effort"\nlimit = 12.0\nlag = "40 ms"\ndead_time = "60 ms"',
        'kind = "effort"\nlimit = 12.0\ndead_time = "10 ms"',
        'kind = "effort"\nlimit = 12.0\ndead_zone = 0.8',
        'kind = "position"\nlimit = 60.0\ngain = 40.0\nrate_gain = 4.0',
        'kind = "speed"\nlimit = 40.0\ntop_speed = 3.0\ngain = 20.0',
    ],
    ids=["effort", "late and lagging", "half a sample late", "dead zone", "position", "speed"],
)
def test_an_arm_is_held_against_gravity_away_from_zero(tmp_path: Path, drive: str) -> None:
    batch = settled(project(tmp_path, ARM + drive + "\n", ARM_TASK), 18.0)
    assert batch.plant.position[0, 0] == pytest.approx(0.6, abs=0.006)
    assert abs(batch.plant.velocity[0, 0]) < 0.01


def test_a_set_point_that_differs_from_episode_to_episode_is_held(tmp_path: Path) -> None:
    task = ARM_TASK.replace('arm = "0.6"', 'arm = "goal"').replace("arm.position - 0.6", "arm.position - goal")
    task += '[setpoints.goal]\nunit = "rad"\ndraw = { uniform = ["-1.2 rad", "1.2 rad"] }\n'
    drive = 'kind = "position"\nlimit = 60.0\ngain = 40.0\nrate_gain = 4.0\n'
    problem = project(tmp_path, ARM + drive, task)
    linear = linearise(problem)
    regulator = Regulator(problem, gain(problem, linear, (0.15, 1.0, 1.0))[None], linear.servos, linear.trim)
    batch = Batch(problem, 6, 1, "law", 1)
    batch.start(np.arange(6))
    regulator.begin(batch)
    for _ in range(400):
        batch.step(regulator.drive(batch, batch.observe()))
    assert np.abs(batch.plant.position[:, 0] - batch.signals["goal"]).max() < 0.012


def test_four_propellers_hover(tmp_path: Path) -> None:
    """A body that floats freely, drives that only push: the hover thrust is the trim."""
    machine, actions = HOVER, ""
    for k, (x, y, turning) in enumerate(((0.2, 0, 1), (0, 0.2, -1), (-0.2, 0, 1), (0, -0.2, -1))):
        machine += f'[drives.p{k}]\nkind = "thrust"\nbody = "b"\nat = [{x}, {y}, 0]\ndirection = [0, 0, 1]\n'
        machine += f"limit = 8.0\nlowest = 0.0\nreaction = {0.02 * turning}\n"
        actions += f'[[actions]]\nname = "u{k}"\ndrive = "p{k}"\n'
    task = actions + (
        '[[observations]]\nname = "z"\nformula = "b.z"\nunit = "m"\nrange = ["-5 m", "5 m"]\n'
        '[rewards.near]\nformula = "-abs(b.z - 2)"\n[regulator.hold]\n"base.z" = "2"\n"base.x" = "0.5"\n"base.y" = "0"\n'
        '"base.rz" = "0"\n'
    )
    problem = project(tmp_path, machine, task)
    assert linearise(problem).trim.commands == pytest.approx(np.full(4, 1.5 * 9.81 / 4), rel=1e-3)
    batch = settled(problem, 12.0)
    assert batch.plant.position[0, :3] == pytest.approx([0.5, 0.0, 2.0], abs=0.02)
    assert np.abs(batch.plant.velocity[0]).max() < 0.02
