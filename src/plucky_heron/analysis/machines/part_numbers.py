"""The numbers of a machine's parts: title, key in the file, value, unit, meaning, allowed range, and what they do."""

from __future__ import annotations

import ast
import functools
import inspect
import textwrap
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from pydantic import BaseModel
from pydantic.fields import FieldInfo

from plucky_heron.dynamics.plant import mass_matrix
from plucky_heron.machine.joints import Joint, coordinate_unit
from plucky_heron.machine.parts import not_negative, positive, share
from plucky_heron.machine.sensors import Sensor
from plucky_heron.task.problem import Problem
from plucky_heron.task.signals import parameter_unit
from plucky_heron.units import show, unit_in

_LETTERS = {
    "x": "x", "y": "y", "z": "z", "turn": "turn", "rx": "roll", "ry": "pitch", "rz": "yaw", "": "",
}  # fmt: skip
_NOT_NEGATIVE = ("damping", "stiffness", "armature", "friction", "stop_stiffness", "stop_damping", "slide_damping")
"""Fields of a joint."""
_ALLOWED = {positive: "above 0", not_negative: "0 or more", share: "0 to 1"}
_PLACES = ("x", "y", "z")
_SIZES = {
    "box": ("length", "width", "height"), "sphere": ("radius",), "capsule": ("radius", "length"),
    "cylinder": ("radius", "length"), "bucket": ("top", "bottom", "height"), "hull": (),
}  # fmt: skip
_SENSED = {
    "ahead": ("course",), "beams": ("beams",), "spread": ("beams",), "axis": ("beams",), "range": ("beams",),
    "at": ("pose", "inertial", "beams", "course", "bearing"), "turn": ("pose", "inertial", "beams"),
}  # fmt: skip
"""Kinds of sensors that each of these fields says something about."""


@dataclass(frozen=True)
class PartNumber:
    """One editable number of a part.

    Attributes
    ----------
    key
        In the machine file. `whole`: its key stands for an array, written like this, with the number at `index`.
    note
        What it does here; `meaning` and `allowed` say what it is, and which values it may take.
    """

    title: str
    key: tuple[str | int, ...]
    value: float
    unit: str
    note: str = ""
    meaning: str = ""
    allowed: str = ""
    whole: tuple[object, ...] = ()
    index: int = 0


def part_numbers(problem: Problem, kind: str, name: str) -> list[PartNumber]:
    """The numbers of a part; `kind` is a section of the machine file, such as "bodies" or "sensors"."""
    special = {"bodies": _body_numbers, "joints": _joint_numbers, "drives": _drive_numbers}.get(kind)
    part = getattr(problem.machine, kind)[name]
    numbers = special(problem, name) if special is not None else plain_numbers(part)
    found = []
    for number in numbers:
        field = str(number.key[0])
        number = replace(number, key=(kind, name, *number.key))
        if not number.meaning and len(number.key) < 5:
            number = replace(number, meaning=meanings(type(part)).get(field, ""))  # type: ignore[arg-type]
        found.append(number if number.allowed else replace(number, allowed=allowed(type(part), field)))
    return found


def plain_numbers(part: BaseModel) -> Iterator[PartNumber]:
    """Every number of a part by what its schema says of it; tuples give one a place."""
    for field, info in type(part).model_fields.items():
        value = getattr(part, field)
        unit = _unit(info)
        title = field.replace("_", " ")
        if isinstance(part, Sensor) and field in _SENSED and part.kind not in _SENSED[field]:
            continue
        if isinstance(value, bool) or value is None or (unit is None and not isinstance(value, int)):
            continue
        if isinstance(value, tuple):
            numbers = tuple(float(v) for v in value)
            if any(numbers) or field in ("at", "size"):
                for k, v in enumerate(numbers):
                    yield PartNumber(
                        f"{title}, {_PLACES[k]}", (field,), v, unit or "", whole=_written(numbers, unit), index=k
                    )
        elif isinstance(value, int | float):
            yield PartNumber(title, (field,), float(value), unit or "")


def _unit(info: FieldInfo) -> str | None:
    found = next((unit for mark in info.metadata if (unit := unit_in(mark)) is not None), None)
    return found if found is not None else unit_in(info.annotation)


def allowed(part: type[BaseModel], field: str) -> str:
    """The range of values that a field may take, in words; "" where any number will do."""
    info = part.model_fields.get(field)
    if info is None:
        return ""
    if part is Joint and field in _NOT_NEGATIVE:
        return _ALLOWED[not_negative]
    marks = [*info.metadata, *_marks(info.annotation)]
    for mark in marks:
        check = getattr(mark, "func", None)
        if check in _ALLOWED:
            return _ALLOWED[check]
    bounds = {key: getattr(mark, key) for mark in marks for key in ("ge", "le") if hasattr(mark, key)}
    return f"{bounds['ge']} to {bounds['le']}" if len(bounds) == 2 else ""


def _marks(annotation: object) -> Iterator[object]:
    yield from getattr(annotation, "__metadata__", ())
    for inner in getattr(annotation, "__args__", ()):
        yield from _marks(inner)


@functools.cache
def meanings(part: type) -> dict[str, str]:
    """What the fields of a part mean: the texts below them in its class."""
    body = ast.parse(textwrap.dedent(inspect.getsource(part))).body[0]
    assert isinstance(body, ast.ClassDef)
    found = {}
    for field, text in zip(body.body, body.body[1:], strict=False):
        if isinstance(field, ast.AnnAssign) and isinstance(field.target, ast.Name) and isinstance(text, ast.Expr):
            words = getattr(text.value, "value", None)
            if isinstance(words, str):
                found[field.target.id] = " ".join(words.split())
    return found


def _body_numbers(problem: Problem, name: str) -> Iterator[PartNumber]:
    body = problem.machine.bodies[name]
    total = sum(b.mass for b in problem.machine.bodies.values())
    yield PartNumber(
        "mass", ("mass",), body.mass, "kg", f"{100 * body.mass / total:.0f} % of the machine" if total else ""
    )
    for k, axes in enumerate(("xx", "yy", "zz")):
        if body.inertia[k] > 0.0:
            yield PartNumber(f"inertia {axes}", ("inertia", k), body.inertia[k], "kg*m**2", "about its centre of mass")
    if any(body.centre):
        for k in range(3):
            if body.centre[k] or k == 2:
                note = "of mass, from its origin" if k == 2 else ""
                yield PartNumber(
                    f"centre, {_PLACES[k]}",
                    ("centre",),
                    body.centre[k],
                    "m",
                    note,
                    whole=_written(body.centre),
                    index=k,
                )
    if body.drag_area:
        pull = 0.5 * problem.site.air_density * body.drag_area * 10.0**2
        yield PartNumber("drag area", ("drag_area",), body.drag_area, "m**2", f"{pull:.0f} N at 10 m/s")
    for s, shape in enumerate(body.shapes):
        word = f"{shape.kind} {s + 1}" if len(body.shapes) > 1 else shape.kind
        for k, side in enumerate(_SIZES[shape.kind]):
            yield PartNumber(
                f"{word}, {side}", ("shapes", s, "size", k), shape.size[k], "m", "" if k else _wash(shape.solid),
                "size of the shape that is drawn and touched", "above 0",
            )  # fmt: skip


def _wash(solid: bool) -> str:
    return "touches others" if solid else "only drawn"


def _joint_numbers(problem: Problem, name: str) -> Iterator[PartNumber]:
    joint = problem.machine.joints[name]
    x = joint.unit
    if joint.limits is not None:
        low, high = joint.limits
        yield PartNumber("lowest", ("limits", 0), low, x, "a stop, stiff and damped", allowed="below the highest")
        travel = f"travel {show(high - low, x)}"
        yield PartNumber("highest", ("limits", 1), high, x, travel, allowed="above the lowest")
    start = joint.starts
    units = [coordinate_unit(joint, letter) for letter in joint.letters]
    for k, letter in enumerate(joint.letters):
        unit = coordinate_unit(joint, letter)
        title = f"start, {_LETTERS[letter]}" if letter else "start"
        note = f"+ {joint.positive}" if joint.positive and k == 0 else ""
        pairs = zip(start, units, strict=True)
        whole = tuple(_written((v,), u)[0] for v, u in pairs) if len(start) > 1 else ()
        yield PartNumber(title, ("start",), start[k], unit, note, whole=whole, index=k)
    if joint.kind in ("hinge", "slider"):
        slow = (
            f"speed falls to a third in {show(moved_by(problem, name) / joint.damping, 's')}"
            if joint.damping
            else "none"
        )
        unit = parameter_unit(problem.machine, f"{name}.damping")
        yield PartNumber("damping", ("damping",), joint.damping, unit, slow)
        if joint.stiffness:
            unit = parameter_unit(problem.machine, f"{name}.stiffness")
            yield PartNumber("stiffness", ("stiffness",), joint.stiffness, unit)
        if joint.armature:
            unit = parameter_unit(problem.machine, f"{name}.armature")
            yield PartNumber("rotor", ("armature",), joint.armature, unit, "inertia of the drive as the joint feels it")
            if joint.kind == "hinge":
                yield PartNumber("gear", ("gear",), joint.gear, "", "turns of the rotor for one of the joint")
    else:
        if joint.damping or joint.kind == "ball":
            yield PartNumber("damping", ("damping",), joint.damping, "N*m*s/rad", "about its axes", allowed="0 or more")
        if joint.slide_damping is not None:
            yield PartNumber("slide damping", ("slide_damping",), joint.slide_damping, "N*s/m", "along its axes")
    for k in range(3):
        note = "" if k else f"in the axes of {joint.parent}"
        yield PartNumber(
            f"place, {_PLACES[k]}", ("origin",), joint.origin[k], "m", note, whole=_written(joint.origin), index=k
        )


def _drive_numbers(problem: Problem, name: str) -> Iterator[PartNumber]:
    machine = problem.machine
    drive = machine.drives[name]
    limit, sample = float(drive.limit), problem.sample_time
    note = ""
    if drive.on_joint:
        joint = str(drive.joint)
        note = f"{show(limit / moved_by(problem, joint), machine.coordinate_unit(joint) + '/s**2')} at most"
    elif drive.kind == "thrust":
        weight = problem.site.gravity * sum(b.mass for b in machine.bodies.values())
        note = f"{100 * limit / weight:.0f} % of the machine's weight" if weight else ""
    yield PartNumber("limit", ("limit",), limit, parameter_unit(machine, f"{name}.limit"), note, allowed="0 or more")
    if drive.kind == "speed":
        top, unit = machine.command_limit(name), machine.drive_unit(name)
        yield PartNumber("top speed", ("top_speed",), top, unit, f"+ {drive.positive}", allowed="above 0")
    if drive.kind in ("speed", "position"):
        gain_unit = parameter_unit(machine, f"{name}.gain")
        yield PartNumber("gain", ("gain",), float(drive.gain), gain_unit, f"{drive.kind} servo", allowed="above 0")
    yield PartNumber("lag", ("lag",), drive.lag, "s", f"{drive.lag / sample:.1f} samples")
    yield PartNumber("dead time", ("dead_time",), drive.dead_time, "s", f"{drive.dead_time / sample:.1f} samples")


def moved_by(problem: Problem, joint: str) -> float:
    """What a joint moves in the start pose, kg or kg m²: other joints held, but those that are coupled to it follow."""
    model = problem.model
    index = model.joints.index(joint)
    mass = mass_matrix(model, model.start)
    coupled = {c.joint for c in problem.machine.couplings.values()} | {
        c.follows for c in problem.machine.couplings.values()
    }
    if joint not in coupled:
        return float(mass[index, index])
    tied = [i for i, name in enumerate(model.joints) if name in coupled]
    return float(1.0 / np.linalg.inv(mass[np.ix_(tied, tied)])[tied.index(index), tied.index(index)])


def change_of(number: PartNumber, written: object) -> tuple[tuple[str | int, ...], object]:
    """Key and value to write into the file when a number becomes `written`."""
    if not number.whole:
        return number.key, written
    values: list[object] = list(number.whole)
    values[number.index] = written
    return number.key, values


def _written(values: tuple[float, ...], unit: str | None = "m") -> tuple[object, ...]:
    """Numbers as they stand in a file."""
    return tuple(f"{v:.6g} {unit}" if unit else v for v in values)
