"""The C between instruments and controller: formulas, forward kinematics, mixing and choices, on a machine that is none of ours."""

from __future__ import annotations

import random
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.formula.functions import FUNCTIONS
from plucky_heron.handover.forms.c99 import to_c
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.controller import Answer, to_controller
from plucky_heron.handover.forms.controlling import controlling
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.signals import SignalCode
from plucky_heron.handover.signal_check import TOLERANCE, check_signals
from plucky_heron.project import Project, demo_source
from plucky_heron.task.problem import Problem, read_problem
from tests.handover.test_controller import STRICT, random_policy

MACHINE = """format = 2
name = "crane"
[bodies.base]
mass = "40 kg"
inertia = ["1 kg*m**2", "1 kg*m**2", "1 kg*m**2"]
[bodies.arm]
mass = "9 kg"
centre = ["0.4 m", "0.1 m", "0 m"]
inertia = ["0.2 kg*m**2", "0.3 kg*m**2", "0.3 kg*m**2"]
[bodies.slide]
mass = "3 kg"
inertia = ["0.1 kg*m**2", "0.1 kg*m**2", "0.1 kg*m**2"]
[bodies.bracket]
mass = "1 kg"
inertia = ["0.05 kg*m**2", "0.05 kg*m**2", "0.05 kg*m**2"]
[bodies.tool]
mass = "1 kg"
inertia = ["0.05 kg*m**2", "0.05 kg*m**2", "0.05 kg*m**2"]
[bodies.float]
mass = "5 kg"
inertia = ["0.1 kg*m**2", "0.1 kg*m**2", "0.1 kg*m**2"]
[joints.turn]
kind = "hinge"
child = "base"
axis = [0.0, 0.6, 0.8]
origin = ["0.2 m", "-0.1 m", "1.5 m"]
turn = ["10 deg", "20 deg", "-35 deg"]
damping = "30 N*m*s/rad"
positive = "to the left"
[joints.lift]
kind = "hinge"
parent = "base"
child = "arm"
axis = [1.0, 0.0, 0.0]
origin = ["0.1 m", "0.3 m", "0.2 m"]
turn = ["-80 deg", "15 deg", "0 deg"]
damping = "20 N*m*s/rad"
[joints.reach]
kind = "slider"
parent = "arm"
child = "slide"
axis = [0.0, 0.8, -0.6]
turn = ["0 deg", "33 deg", "0 deg"]
origin = ["0.7 m", "0 m", "0 m"]
damping = "50 N*s/m"
[joints.mount]
kind = "fixed"
parent = "slide"
child = "bracket"
turn = ["45 deg", "0 deg", "90 deg"]
origin = ["0 m", "0.1 m", "0.05 m"]
[joints.wrist]
kind = "hinge"
parent = "bracket"
child = "tool"
axis = [0.0, 0.0, 1.0]
origin = ["0.15 m", "0 m", "0 m"]
damping = "2 N*m*s/rad"
[joints.buoy]
kind = "free"
child = "float"
[drives.turn]
joint = "turn"
limit = "120 N*m"
[drives.lift]
joint = "lift"
limit = "200 N*m"
[drives.reach]
joint = "reach"
limit = "150 N"
[drives.wrist]
joint = "wrist"
limit = "9 N*m"
[sensors.gyro]
kind = "inertial"
body = "tool"
"""
TASK = """format = 2
name = "odd"
machine = "crane"
site = "quay"
[timing]
control_rate = "40 Hz"
time_limit = "6 s"
[setpoints.goal]
unit = "m"
draw = {{ uniform = ["-1 m", "1 m"] }}
[signals.height]
formula = "tool.z - goal"
unit = "m"
{observations}
[[actions]]
name = "swing"
unit = "N*m"
limits = ["-120 N*m", "120 N*m"]
[[actions]]
name = "heave"
unit = "N*m"
limits = ["-100 N*m", "100 N*m"]
rate_limit = "300 N*m/s"
[[actions]]
name = "twist"
drive = "wrist"
kind = "value"
[[actions]]
name = "grip"
[actions.choices.out]
drives = {{ reach = "90 + 10 * sin(time * 1) - reach.velocity * 40" }}
lasts = "0.2 s"
[actions.choices.back]
drives = {{ reach = "-80 * tanh(height * 1) - total(time * 1)" }}
available = "since(action.grip.out > 0) > 0.1 or goal > 0"
[actions.choices.rest]
drives = {{ reach = "0" }}
[mixing]
turn = "action.swing - 0.3 * previous(action.swing) + highest(abs(tool.velocity.x)) * 4"
lift = "command.heave + 0.1 * action.swing + clip(arm.pitch, -0.2, 0.2) * 300"
[rewards.closer]
formula = "-abs(height)"
[measure]
name = "near"
formula = "abs(height) < 0.1"
"""
OBSERVED = (
    ("where", "[tool.x, tool.y, tool.z]", "m", 4.0), ("moving", "tool.velocity", "m/s", 6.0), ("turning", "tool.rate", "rad/s", 9.0),
    ("own", "tool.own.velocity", "m/s", 6.0), ("own turning", "[bracket.own.rate.x, bracket.own.rate.z]", "rad/s", 9.0),
    ("lean", "sin(tool.roll) + cos(arm.yaw) + tool.pitch * 0.5", "", 4.0), ("afloat", "float.z - tool.z", "m", 9.0), ("felt", "gyro.rate", "rad/s", 9.0),
    ("height", "height", "m", 4.0), ("rise", "rate(height)", "m/s", 9.0), ("spin", "rate(turn.angle)", "rad/s", 60.0), ("bent", "wrap(turn.angle * 7)", "rad", 4.0),
    ("most", "highest(height) - lowest(height)", "m", 4.0), ("sum", "integral(height)", "m*s", 9.0),
    ("swung", "previous.action.swing + action.twist + command.heave", "N*m", 300.0), ("chosen", "action.grip + 3 * action.grip.back + previous.action.grip", "", 9.0),
    ("clock", "(time + 0.01) % 0.7 - (-time - 0.013) % 0.3", "s", 2.0), ("size", "norm(tool.velocity) * 1 + mean(tool) * 1 + min(tool) * 1 - max(tool.rate) * 0.1", "", 20.0),
    ("bumps", "near(height, 0.5) + inside(height, -1, 1) + sign(height) + abs(height * 1) ** 1.5 + exp(-abs(height * 1))", "", 9.0),
    ("which", "1 if height > 0 and not tool.x < 0.2 or goal == 0 else min(tool.y * 2, tool.y * 3, 3)", "", 4.0),
    ("soft", "low_pass(tool.velocity, 0.1)", "m/s", 6.0), ("smooth turn", "low_pass(wrap(turn.angle * 5), 0.2)", "rad", 4.0),
    ("middle", "median(gyro.rate)", "rad/s", 9.0), ("attitude", "complementary(tool.pitch, gyro.rate.y, 0.5)", "rad", 4.0),
    ("edges", "becomes(tool.x > 0.4) + since(tool.z > 1.5) * 1", "", 9.0), ("part", "tool.velocity[1:3]", "m/s", 6.0),
    ("root", "sqrt(abs(height)) * 1 + log(1 + abs(tool.x * 1)) + tan(clip(turn.angle, -1, 1)) + atan2(tool.y, tool.x) * 1", "", 9.0),
)  # fmt: skip


def crane(folder: Path, observed: list[tuple[str, str, str, float]]) -> Problem:
    """The foreign machine with these observations."""
    rows = [
        f'[[observations]]\nname = "{name}"\nformula = "{formula}"\nunit = "{unit}"\nrange = [{-top}, {top}]\n'
        for name, formula, unit, top in observed
    ]
    for part in ("machines", "tasks", "sites"):
        (folder / part).mkdir(exist_ok=True)
    (folder / "project.toml").write_text('format = 2\nname = "foreign"\n')
    (folder / "sites" / "quay.toml").write_text('format = 2\nname = "quay"\n')
    (folder / "machines" / "crane.toml").write_text(MACHINE)
    (folder / "tasks" / "odd.toml").write_text(TASK.format(observations="".join(rows)))
    return read_problem(folder, "odd")


def build(problem: Problem, folder: Path, flags: tuple[str, ...] | None = None) -> SignalCode:
    """All C that belongs together, in `folder`."""
    parts, policy = controlling(problem), random_policy(problem)
    code, count = SignalCode(problem, parts), len(problem.commands)
    inputs, outputs = ([Line(f"x{k}", "", -1.0, 1.0) for k in range(n)] for n in (policy.given, count))
    files = to_c(policy, "t", inputs, outputs, problem.sample_time)
    files |= to_controller(parts, policy, "t", [0.0] * count, 0.1, [Answer()] * count) | code.files("t")
    for name, text in files.items():
        (folder / name).write_text(text)
    if flags is not None:
        compile_c(folder, ["signals.c", "controller.c", "policy.c", "check_signals.c"], "strict", flags)
    return code


def test_all_of_the_language_and_a_foreign_chain(tmp_path: Path) -> None:
    problem = crane(tmp_path, list(OBSERVED))
    code = build(problem, tmp_path, STRICT)
    names = {s.name for s in code.signals}
    assert {"turn.position", "turn.velocity", "reach.position", "wrist.velocity", "goal", "float.z"} <= names
    assert not any(
        name.startswith(("tool.", "arm.", "base.", "bracket.")) for name in names
    )  # they follow from the joints
    assert next(s for s in code.signals if s.name == "turn.position").positive == "to the left"
    differences = check_signals(problem, code, tmp_path)
    assert len(differences) > 100 and np.quantile(differences, 0.99) < TOLERANCE and np.median(differences) < 1e-5
    used = " ".join([TASK, *(formula for _, formula, _, _ in OBSERVED)])
    assert {f for f in FUNCTIONS if f"{f}(" not in used} <= {"clearance", "overlap", "lowest", "where", "max", "sum"}


def _formula(draws: random.Random, depth: int) -> str:
    leaves = ["tool.x", "arm.z", "turn.angle", "reach.velocity", "goal", "time", "action.twist", "tool.own.velocity.y", "float.x"]  # fmt: skip
    if depth == 0 or draws.random() < 0.15:
        return f"({draws.choice(leaves)} * {draws.choice((0.5, 1, 2))})"  # a product with a bare number has any unit
    a, b, c = (_formula(draws, depth - 1) for _ in range(3))
    return draws.choice([
        f"({a} + {b})", f"({a} - {b})", f"({a} * {b})", f"({a} / (1 + ({b}) ** 2))", f"tanh({a})", f"abs({a})", f"max({a}, {b}, {c})", f"where({a} > {b}, {c}, {b})",
        f"sum([{a}, {b}, {c}])", f"lowest({a} + time * 1)", f"previous({a} + time * 1)", f"clip({a}, -1, 1)", f"near({a}, 2)", f"norm({a}, {b})", f"({a} if {b} < 1 else {c})",
    ])  # fmt: skip


@pytest.mark.parametrize("seed", range(3))
def test_formulas_drawn_at_random(tmp_path: Path, seed: int) -> None:
    draws = random.Random(seed)
    problem = crane(tmp_path, [(f"f{k}", _formula(draws, 4), "", 10.0) for k in range(12)])
    code = build(problem, tmp_path, STRICT)
    differences = check_signals(problem, code, tmp_path)
    assert np.quantile(differences, 0.99) < TOLERANCE


@pytest.mark.parametrize("task", ["hang", "lift", "lane", "dock", "walk"])
def test_our_tasks(tmp_path: Path, task: str) -> None:
    problem = Project(demo_source()).problem(task)
    code = build(problem, tmp_path, STRICT)
    assert check_signals(problem, code, tmp_path).max() < TOLERANCE
