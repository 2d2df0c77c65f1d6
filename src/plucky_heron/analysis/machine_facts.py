"""What follows from a machine: the numbers of its parts with their meaning, and what an engineer derives from them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from plucky_heron.analysis.regulator import linearise
from plucky_heron.dynamics.energy import poses
from plucky_heron.dynamics.model import mass_matrix
from plucky_heron.errors import StateError
from plucky_heron.machine.schema import GROUND, Machine, coordinate_unit
from plucky_heron.task.problem import Problem, parameter_unit
from plucky_heron.units import show

_LETTERS = {
    "x": "x", "y": "y", "z": "z", "turn": "turn", "rx": "roll", "ry": "pitch", "rz": "yaw", "": "",
}  # fmt: skip


@dataclass(frozen=True)
class PartNumber:
    """One editable number of a part: its title, its key in the machine file, its SI value and unit, what it means."""

    title: str
    key: tuple[str | int, ...]
    value: float
    unit: str
    note: str = ""


def part_numbers(problem: Problem, kind: str, name: str) -> list[PartNumber]:
    """The numbers of a part; `kind` is "bodies", "joints" or "drives"."""
    numbers = {"bodies": _body_numbers, "joints": _joint_numbers, "drives": _drive_numbers}[kind]
    return [PartNumber(n.title, (kind, name, *n.key), n.value, n.unit, n.note) for n in numbers(problem, name)]


def _body_numbers(problem: Problem, name: str) -> Iterator[PartNumber]:
    body = problem.machine.bodies[name]
    total = sum(b.mass for b in problem.machine.bodies.values())
    yield PartNumber("mass", ("mass",), body.mass, "kg", f"{100 * body.mass / total:.0f} % of the machine")
    if body.inertia[1] > 0:
        yield PartNumber("inertia yy", ("inertia", 1), body.inertia[1], "kg*m**2", "about its centre, in side view")
    if any(body.centre):
        yield PartNumber("centre, height", ("centre", 2), body.centre[2], "m", "of mass, from its origin")
    if body.drag_area:
        pull = 0.5 * problem.site.air_density * body.drag_area * 10.0**2
        yield PartNumber("drag area", ("drag_area",), body.drag_area, "m**2", f"{pull:.0f} N at 10 m/s")


def _joint_numbers(problem: Problem, name: str) -> Iterator[PartNumber]:
    joint = problem.machine.joints[name]
    x = joint.unit
    if joint.limits is not None:
        low, high = joint.limits
        yield PartNumber("lowest", ("limits", 0), low, x, "a stop, stiff and damped")
        yield PartNumber("highest", ("limits", 1), high, x, f"travel {show(high - low, x)}")
    if joint.kind == "fixed":
        return
    start = joint.starts
    for k, letter in enumerate(joint.letters):
        unit = coordinate_unit(joint, letter)
        key: tuple[str | int, ...] = ("start", k) if isinstance(joint.start, tuple) else ("start",)
        title = f"start, {_LETTERS[letter]}" if letter else "start"
        yield PartNumber(title, key, start[k], unit, f"+ {joint.positive}" if joint.positive and k == 0 else "")
    if joint.kind not in ("hinge", "slider"):
        return
    note = f"speed falls to a third in {show(_moved(problem, name) / joint.damping, 's')}" if joint.damping else "none"
    yield PartNumber("damping", ("damping",), joint.damping, parameter_unit(problem.machine, f"{name}.damping"), note)
    if joint.stiffness:
        unit = parameter_unit(problem.machine, f"{name}.stiffness")
        yield PartNumber("stiffness", ("stiffness",), joint.stiffness, unit)


def _drive_numbers(problem: Problem, name: str) -> Iterator[PartNumber]:
    machine = problem.machine
    drive = machine.drives[name]
    limit, sample = float(drive.limit), problem.sample_time
    note = ""
    if drive.on_joint:
        joint = str(drive.joint)
        note = f"{show(limit / _moved(problem, joint), machine.coordinate_unit(joint) + '/s**2')} at most"
    elif drive.kind == "thrust":
        weight = problem.site.gravity * sum(b.mass for b in machine.bodies.values())
        note = f"{100 * limit / weight:.0f} % of the machine's weight" if weight else ""
    yield PartNumber("limit", ("limit",), limit, parameter_unit(machine, f"{name}.limit"), note)
    if drive.kind == "speed":
        yield PartNumber(
            "top speed", ("top_speed",), machine.command_limit(name), machine.drive_unit(name), f"+ {drive.positive}"
        )
        gain_unit = parameter_unit(machine, f"{name}.gain")
        yield PartNumber("gain", ("gain",), float(drive.gain), gain_unit, "speed servo")
    yield PartNumber("lag", ("lag",), drive.lag, "s", f"{drive.lag / sample:.1f} samples")
    yield PartNumber("dead time", ("dead_time",), drive.dead_time, "s", f"{drive.dead_time / sample:.1f} samples")


def _moved(problem: Problem, joint: str) -> float:
    """What a joint moves in the start pose, other joints held: kg or kg m²."""
    index = problem.model.joints.index(joint)
    return float(mass_matrix(problem.model, problem.model.start)[index, index])


def derived_facts(problem: Problem) -> list[tuple[str, str]]:
    """Mass, freedom, modes of the machine with its drives about the start pose, and what drives hold against gravity."""
    machine, model = problem.machine, problem.model
    frames = poses(machine, model.pose(model.start))
    masses = np.array([b.mass for b in machine.bodies.values()])
    centres = np.array([frames[n][:3, :3] @ np.array(b.centre) + frames[n][:3, 3] for n, b in machine.bodies.items()])
    height = float(masses @ centres[:, 2] / masses.sum())
    driven = len({d.joint for d in machine.drives.values() if d.on_joint})
    facts = [
        (
            "mass",
            f"{show(float(masses.sum()), 'kg')}, centre {show(height + 0.0, 'm') if abs(height) > 5e-3 else '0 m'} up",
        ),
        ("freedom", f"{len(model.joints)} coordinates, {driven} driven, {len(model.joints) - driven} free"),
    ]
    facts += _modes(problem)
    if any(joint.kind in ("planar", "free") for joint in machine.joints.values()):
        return facts
    for name, drive in machine.drives.items():
        if drive.kind not in ("effort", "speed", "position"):
            continue
        joint = machine.joints[str(drive.joint)]
        axis = frames[joint.child][:3, :3] @ np.array(joint.axis)
        if joint.kind == "slider" and abs(axis[2]) > 0.5:
            hung = sum(b.mass for n, b in machine.bodies.items() if _hangs_on(machine, n, str(drive.joint)))
            need = hung * problem.site.gravity * abs(float(axis[2]))
            limit = float(drive.limit)
            facts.append((f"{name} holds", f"{show(need, 'N')} of its {show(limit, 'N')}: {limit / need:.1f} times"))
    return facts


def _modes(problem: Problem) -> Iterator[tuple[str, str]]:
    """Swings, falls and the fastest motion of the machine with its drives, from its linearisation."""
    try:
        poles = np.linalg.eigvals(linearise(problem).transition)
    except StateError:
        return
    poles = np.log(poles[np.abs(poles) > 1e-9].astype(complex)) / problem.sample_time
    growing = max((float(p.real) for p in poles), default=0.0)
    if growing > 0.05:
        yield "falls", f"a lean grows threefold in {show(1.1 / growing, 's')}"
    for pole in sorted((p for p in poles if p.imag > 1e-3 and p.real < 0.0), key=abs)[:2]:
        size = float(abs(pole))
        yield "swing", f"{size / 2 / np.pi:.3f} Hz, period {2 * np.pi / size:.2f} s, damping {-pole.real / size:.3f}"
    step = problem.task.timing.physics_step
    fastest = 1.0 / float(np.abs(poles).max())
    yield (
        "fastest motion",
        f"time constant {show(1e3 * fastest)} ms, {fastest / step:.1f} substeps of {1e3 * step:g} ms",
    )


def _hangs_on(machine: Machine, body: str, joint: str) -> bool:
    above = {j.child: n for n, j in machine.joints.items()}
    while body != GROUND:
        if above[body] == joint:
            return True
        body = machine.joints[above[body]].parent
    return False
