"""What a machine is: bodies, joints and what acts on them, as they stand in a machine file.

Positions of hinges are radians, of sliders metres; the base is called `ground`. Every number may carry its unit.
"""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationInfo, field_validator, model_validator

from plucky_heron.errors import FileError, UnitError
from plucky_heron.files import FORMAT, Settings, load
from plucky_heron.machine.parts import (
    GROUND,
    Coupling,
    Drive,
    Float,
    Hull,
    Name,
    NotBelow,
    PartForce,
    Point,
    Shape,
    Spring,
    Tank,
    Turn,
    Tyre,
    Wing,
    not_negative,
)  # fmt: skip
from plucky_heron.machine.sensors import Sensor
from plucky_heron.units import Area, Inertia, Mass, Number, parse

__all__ = [
    "GROUND", "Body", "Coupling", "Drive", "Float", "Hull", "Joint", "Machine", "Name", "Shape", "Spring", "Tank",
    "Tyre", "Wing", "read_machine",
]  # fmt: skip

COORDINATES = {
    "fixed": (), "hinge": ("",), "slider": ("",), "ball": ("rx", "ry", "rz"),
    "free": ("x", "y", "z", "rx", "ry", "rz"),
}  # fmt: skip
"""Coordinates of each kind of joint; one that has only one bears the joint's name. `planar` depends on its axis."""
_IN_PLANE = {"x": ("y", "z", "turn"), "y": ("x", "z", "turn"), "z": ("x", "y", "turn")}


class Body(Settings):
    """A rigid body: mass, centre of mass and inertia about it, in the body's own axes."""

    mass: Annotated[Mass, NotBelow]
    centre: Point = (0.0, 0.0, 0.0)
    inertia: tuple[Inertia, Inertia, Inertia, Inertia, Inertia, Inertia] = (0.0,) * 6
    """xx, yy, zz, xy, xz, yz about the centre of mass."""
    drag_area: Annotated[Area, NotBelow] = 0.0
    """Drag coefficient times the area that meets the wind; acts at `drag_point`."""
    drag_point: Point | None = None
    shapes: tuple[Shape, ...] = ()

    @field_validator("inertia", mode="before")
    @classmethod
    def _fill(cls, value: Any) -> Any:
        if isinstance(value, list | tuple) and len(value) == 3:
            return (*value, 0.0, 0.0, 0.0)
        return value

    @field_validator("inertia")
    @classmethod
    def _solid(cls, value: tuple[float, ...]) -> tuple[float, ...]:
        import numpy as np

        xx, yy, zz, xy, xz, yz = value
        principal = np.linalg.eigvalsh([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]])
        slack = 1e-6 * max(abs(principal[2]), 1e-12)
        if principal[0] < -slack or principal[2] > principal[0] + principal[1] + slack:
            raise ValueError("no solid has this inertia: each principal value must be at most the sum of the others")
        return value


class Joint(Settings):
    """How `child` moves against `parent`: `origin` and `turn` place the joint in the parent, `axis` is in its axes.

    A planar joint moves along the two axes across its `axis` and turns about it; a ball turns freely; a free joint
    does not hold at all.
    """

    kind: Literal["hinge", "slider", "fixed", "planar", "ball", "free"]
    parent: str = GROUND
    child: str
    axis: tuple[Number, Number, Number] = (0.0, 0.0, 1.0)
    origin: Point = (0.0, 0.0, 0.0)
    turn: Turn = (0.0, 0.0, 0.0)
    limits: tuple[float, float] | None = None
    damping: float = 0.0
    stiffness: float = 0.0
    rest: float = 0.0
    start: float | tuple[float, ...] = 0.0
    """One number a coordinate; attitudes of balls and free joints as roll, pitch, yaw."""
    stop_stiffness: float | None = None
    stop_damping: float | None = None
    armature: float = 0.0
    friction: float = 0.0
    """Dry friction: the effort it takes to start moving."""
    positive: str = ""
    """What a positive position or speed means, in words."""

    @field_validator(
        "limits", "damping", "stiffness", "rest", "stop_stiffness", "stop_damping", "armature", "friction",
        mode="before",
    )  # fmt: skip
    @classmethod
    def _with_units(cls, value: Any, info: ValidationInfo) -> Any:
        unit = _joint_units(str(info.data.get("kind")))[str(info.field_name)]
        try:
            if isinstance(value, list | tuple):
                return tuple(parse(v, unit) for v in value)
            return parse(value, unit) if isinstance(value, str | int | float) else value
        except UnitError as error:
            raise ValueError(str(error)) from error

    @field_validator("start", mode="before")
    @classmethod
    def _start_with_units(cls, value: Any, info: ValidationInfo) -> Any:
        kind = str(info.data.get("kind"))
        units = {"planar": ("m", "m", "rad"), "ball": ("rad",) * 3, "free": ("m",) * 3 + ("rad",) * 3}.get(kind)
        try:
            if units is None:
                return parse(value, _joint_units(kind)["rest"]) if isinstance(value, str | int | float) else value
            if isinstance(value, list | tuple) and len(value) == len(units):
                return tuple(parse(v, u) for v, u in zip(value, units, strict=True))
            if value == 0.0:
                return (0.0,) * len(units)
        except UnitError as error:
            raise ValueError(str(error)) from error
        raise ValueError(f"a {kind} joint starts with {len(units)} numbers, in {', '.join(units)}")

    @field_validator("limits")
    @classmethod
    def _ordered(cls, value: tuple[float, float] | None) -> tuple[float, float] | None:
        if value is not None and not value[0] < value[1]:
            raise ValueError("the lower limit must be below the upper one")
        return value

    @field_validator("damping", "stiffness", "stop_stiffness", "stop_damping", "armature", "friction")
    @classmethod
    def _sign(cls, value: float | None) -> float | None:
        return None if value is None else not_negative(value)

    @field_validator("axis")
    @classmethod
    def _unit_axis(cls, value: tuple[float, float, float]) -> tuple[float, float, float]:
        length = math.sqrt(sum(x * x for x in value))
        if length < 1e-9:
            raise ValueError("an axis needs a direction, such as [0, 1, 0]")
        return (value[0] / length, value[1] / length, value[2] / length)

    @model_validator(mode="after")
    def _fits_its_kind(self) -> Joint:
        if self.kind in ("planar", "ball", "free"):
            for key in ("limits", "stop_stiffness", "stop_damping"):
                if getattr(self, key) is not None:
                    raise ValueError(f"{key}: a {self.kind} joint has no stops")
            if self.stiffness or self.armature or self.friction:
                raise ValueError(f"a {self.kind} joint has no stiffness, armature or friction; damping only")
        if self.kind == "planar" and max(map(abs, self.axis)) < 1.0 - 1e-9:
            raise ValueError("axis: a planar joint turns about x, y or z of its own axes; place it with turn")
        return self

    @property
    def unit(self) -> str:
        """SI unit of the position (of joints with one coordinate)."""
        return "m" if self.kind == "slider" else "rad"

    @property
    def letters(self) -> tuple[str, ...]:
        """Names of its coordinates within the joint; a single one has none."""
        if self.kind == "planar":
            return _IN_PLANE["xyz"[max(range(3), key=lambda k: abs(self.axis[k]))]]
        return COORDINATES[self.kind]

    @property
    def starts(self) -> tuple[float, ...]:
        """Start position, one number a coordinate."""
        return self.start if isinstance(self.start, tuple) else (self.start,) * len(self.letters)


def coordinate_unit(joint: Joint, letter: str) -> str:
    """SI unit of one coordinate of a joint."""
    if not letter:
        return joint.unit
    return "m" if letter in ("x", "y", "z") else "rad"


def _joint_units(kind: str) -> dict[str, str]:
    x, force = ("m", "N") if kind == "slider" else ("rad", "N*m")
    return {
        "limits": x, "rest": x, "start": x, "damping": f"{force}*s/{x}", "stiffness": f"{force}/{x}",
        "stop_stiffness": f"{force}/{x}", "stop_damping": f"{force}*s/{x}",
        "armature": "kg" if kind == "slider" else "kg*m**2", "friction": force,
    }  # fmt: skip


class Machine(Settings):
    """A machine file."""

    format: int = FORMAT
    name: str = ""
    notes: str = ""
    bodies: dict[Name, Body] = Field(min_length=1)
    joints: dict[Name, Joint] = Field(min_length=1)
    drives: dict[Name, Drive] = Field(default_factory=dict)
    forces: dict[Name, PartForce] = Field(default_factory=dict)
    tanks: dict[Name, Tank] = Field(default_factory=dict)
    couplings: dict[Name, Coupling] = Field(default_factory=dict)
    sensors: dict[Name, Sensor] = Field(default_factory=dict)
    no_contact: tuple[tuple[str, str], ...] = ()
    """Pairs of bodies that pass through each other, besides those on a common joint."""

    @field_validator("drives", mode="after")
    @classmethod
    def _drives_fit(cls, drives: dict[str, Drive], info: ValidationInfo) -> dict[str, Drive]:
        joints: dict[str, Joint] = info.data.get("joints", {})
        return {name: _fit_drive(name, drive, joints) for name, drive in drives.items()}

    @model_validator(mode="after")
    def _is_a_tree(self) -> Machine:
        carried: dict[str, str] = {}
        for name, joint in self.joints.items():
            for end, body in (("parent", joint.parent), ("child", joint.child)):
                if body not in self.bodies and not (end == "parent" and body == GROUND):
                    raise ValueError(f"joints.{name}.{end} names no body: {body!r}; known are {', '.join(self.bodies)}")
            if joint.child in carried:
                raise ValueError(f"joints.{name}.child: {joint.child} already hangs on joint {carried[joint.child]}")
            carried[joint.child] = name
        for body in self.bodies:
            if body not in carried:
                raise ValueError(f"bodies.{body} hangs on no joint; connect it, with kind 'fixed' if it does not move")
            seen, at = {body}, self.joints[carried[body]].parent
            while at != GROUND:
                if at in seen:
                    raise ValueError(f"bodies.{body} hangs on itself in a loop; only trees are possible")
                seen.add(at)
                at = self.joints[carried[at]].parent
        return self

    @model_validator(mode="after")
    def _names_are_known(self) -> Machine:
        for key, body, ground in self._bodies_named():
            if body not in self.bodies and not (ground and body == GROUND):
                raise ValueError(f"{key} names no body: {body!r}; known are {', '.join(self.bodies)}")
        for name, drive in self.drives.items():
            if (drive.kind == "drain" or drive.tank is not None) and drive.tank not in self.tanks:
                raise ValueError(f"drives.{name}.tank names no tank: {drive.tank!r}; known are {', '.join(self.tanks)}")
        for name, coupling in self.couplings.items():
            for key in ("joint", "follows"):
                joint = self.joints.get(getattr(coupling, key))
                if joint is None or joint.kind not in ("hinge", "slider"):
                    raise ValueError(f"couplings.{name}.{key} names no hinge or slider: {getattr(coupling, key)!r}")
            if coupling.joint == coupling.follows:
                raise ValueError(f"couplings.{name}: {coupling.joint} cannot follow itself")
            try:
                parse(coupling.offset, self.joints[coupling.joint].unit)
            except UnitError as error:
                raise ValueError(f"couplings.{name}.offset: {error}") from error
        for name, sensor in self.sensors.items():
            sensor.check(name, self.bodies, self.joints)
        return self

    def _bodies_named(self) -> list[tuple[str, str, bool]]:
        """Every place that names a body: key, name, whether the ground may stand there."""
        named = [(f"tanks.{n}.body", t.body, False) for n, t in self.tanks.items()]
        named += [(f"drives.{n}.body", d.body or "", False) for n, d in self.drives.items() if d.kind == "thrust"]
        named += [("no_contact", body, True) for pair in self.no_contact for body in pair]
        for name, force in self.forces.items():
            if isinstance(force, Spring):
                named += [(f"forces.{name}.a", force.a, True), (f"forces.{name}.b", force.b, True)]
            else:
                body = force.wheel if isinstance(force, Tyre) else force.body
                named.append((f"forces.{name}.{'wheel' if isinstance(force, Tyre) else 'body'}", body, False))
        return named

    def ordered_joints(self) -> list[str]:
        """Joint names with every parent before its children, otherwise in the order of the file."""
        done, order, waiting = {GROUND}, [], list(self.joints)
        while waiting:
            for name in waiting:
                if self.joints[name].parent in done:
                    order.append(name)
                    done.add(self.joints[name].child)
                    waiting.remove(name)
                    break
        return order

    def coordinates(self) -> dict[str, tuple[str, str]]:
        """Names of all coordinates in the order of the arrays, each with its joint and its letter within it."""
        found = {}
        for name in self.ordered_joints():
            for letter in self.joints[name].letters:
                found[f"{name}.{letter}" if letter else name] = (name, letter)
        return found

    def coordinate_unit(self, coordinate: str) -> str:
        """SI unit of a coordinate's position."""
        joint, _, letter = coordinate.partition(".")
        return coordinate_unit(self.joints[joint], letter)

    def joint_above(self, body: str) -> str:
        """The joint that carries a body."""
        return next(name for name, joint in self.joints.items() if joint.child == body)

    def drive_unit(self, name: str) -> str:
        """SI unit of a drive's command."""
        drive = self.drives[name]
        if drive.kind == "thrust":
            return "N"
        if drive.kind == "drain":
            return "kg/s"
        x, force = _units_of(self.joints[str(drive.joint)])
        return {"speed": f"{x}/s", "position": x}.get(drive.kind, force)

    def command_range(self, name: str) -> tuple[float, float]:
        """Lowest and highest command of a drive, in SI units."""
        drive = self.drives[name]
        limit = float(drive.limit)
        if drive.kind == "speed":
            return -float(drive.top_speed or 0.0), float(drive.top_speed or 0.0)
        if drive.kind == "position":
            return self.joints[str(drive.joint)].limits or (-2.0 * math.pi, 2.0 * math.pi)
        return (-limit if drive.kind == "effort" else float(drive.lowest or 0.0)), limit

    def command_limit(self, name: str) -> float:
        """Size of the largest command of a drive."""
        return max(map(abs, self.command_range(name)))


def _units_of(joint: Joint) -> tuple[str, str]:
    return ("m", "N") if joint.kind == "slider" else ("rad", "N*m")


def _fit_drive(name: str, drive: Drive, joints: dict[str, Joint]) -> Drive:
    """Numbers in SI units, checked against what the drive acts on."""
    x, force = "m", "N"
    if drive.on_joint:
        joint = joints.get(drive.joint or "")
        if joint is None or joint.kind not in ("hinge", "slider"):
            moving = ", ".join(j for j, v in joints.items() if v.kind in ("hinge", "slider"))
            raise ValueError(f"{name}.joint names no moving joint: {drive.joint!r}; there are {moving}")
        x, force = _units_of(joint)
    elif drive.kind == "drain":
        force = "kg/s"
    command = {"speed": f"{x}/s", "position": x}.get(drive.kind, force)
    gain = {"speed": f"{force}*s/{x}", "position": f"{force}/{x}"}.get(drive.kind, "")
    units = {
        "limit": force, "lowest": command, "top_speed": f"{x}/s", "no_load_speed": f"{x}/s", "gain": gain,
        "integral_gain": f"{force}/{x}" if drive.kind == "speed" else f"{force}/{x}/s",
        "rate_gain": f"{force}*s/{x}", "rate_limit": f"{command}/s", "dead_zone": command, "backlash": command,
    }  # fmt: skip
    values: dict[str, float | None] = {}
    for key, unit in units.items():
        raw = getattr(drive, key)
        try:
            values[key] = None if raw is None else parse(raw, unit)
        except UnitError as error:
            raise ValueError(f"{name}.{key}: {error}") from error
        if key != "lowest" and (values[key] or 0.0) < 0.0:
            raise ValueError(f"{name}.{key} must not be negative")
    if drive.kind == "speed" and (not values["top_speed"] or not values["gain"]):
        raise ValueError(f"{name}: a speed drive needs top_speed and gain above zero")
    if drive.kind == "position" and not values["gain"]:
        raise ValueError(f"{name}: a position drive needs a gain above zero")
    return drive.model_copy(update=values)


def read_machine(path: Path) -> Machine:
    """A machine file, ours (.toml) or a URDF (.urdf, .xml)."""
    if path.suffix.lower() in (".urdf", ".xml"):
        from plucky_heron.machine.urdf import read_urdf

        return read_urdf(path).machine
    if path.suffix.lower() != ".toml":
        raise FileError(path, "", None, "is neither a machine file (.toml) nor a URDF (.urdf)")
    from plucky_heron.machine.meshes import with_meshes

    machine = with_meshes(load(Machine, path), path)
    return machine if machine.name else machine.model_copy(update={"name": path.stem})
