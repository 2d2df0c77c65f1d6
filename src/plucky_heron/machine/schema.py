"""What a machine is: bodies, joints and drives, as they stand in a machine file.

Positions of hinges are radians, of sliders metres; the base is called `ground`. Every number may carry its unit.
"""

from __future__ import annotations

import math
import re
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, ValidationInfo, field_validator, model_validator

from plucky_heron.errors import FileError, UnitError
from plucky_heron.files import FORMAT, Settings, load
from plucky_heron.units import Angle, Area, Inertia, Length, Mass, Number, Time, parse

GROUND = "ground"

_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_]*")


def _check_name(name: str) -> str:
    if not _NAME.fullmatch(name):
        raise ValueError("a name is letters, digits and _, starting with a letter")
    return name


Name = Annotated[str, AfterValidator(_check_name)]


def _positive(value: float) -> float:
    if value <= 0.0:
        raise ValueError("must be above zero")
    return value


def _not_negative(value: float) -> float:
    if value < 0.0:
        raise ValueError("must not be negative")
    return value


Point = tuple[Length, Length, Length]
Turn = tuple[Angle, Angle, Angle]


class Shape(Settings):
    """What is drawn of a body: a box, a capsule (along z), a cylinder (along z) or a sphere, placed in the body."""

    kind: Literal["box", "capsule", "cylinder", "sphere", "bucket"]
    size: tuple[Annotated[Length, AfterValidator(_positive)], ...] = Field(min_length=1, max_length=3)
    at: Point = (0.0, 0.0, 0.0)
    turn: Turn = (0.0, 0.0, 0.0)
    wash: Literal["tide", "heron", "reed", "plum", "moss", "plain"] = "tide"

    @model_validator(mode="after")
    def _count(self) -> Shape:
        wanted = {"box": 3, "capsule": 2, "cylinder": 2, "sphere": 1, "bucket": 3}[self.kind]
        if len(self.size) != wanted:
            names = {"box": "length, width, height", "sphere": "radius", "bucket": "top, bottom, height"}
            raise ValueError(f"{self.kind} takes {names.get(self.kind, 'radius, length')}")
        return self


class Body(Settings):
    """A rigid body: mass, centre of mass and inertia about it, in the body's own axes."""

    mass: Annotated[Mass, AfterValidator(_not_negative)]
    centre: Point = (0.0, 0.0, 0.0)
    inertia: tuple[Inertia, Inertia, Inertia, Inertia, Inertia, Inertia] = (0.0,) * 6
    """xx, yy, zz, xy, xz, yz about the centre of mass."""
    drag_area: Annotated[Area, AfterValidator(_not_negative)] = 0.0
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
    """How `child` moves against `parent`: `origin` and `turn` place the joint in the parent, `axis` is in its axes."""

    kind: Literal["hinge", "slider", "fixed"]
    parent: str = GROUND
    child: str
    axis: tuple[Number, Number, Number] = (0.0, 0.0, 1.0)
    origin: Point = (0.0, 0.0, 0.0)
    turn: Turn = (0.0, 0.0, 0.0)
    limits: tuple[float, float] | None = None
    damping: float = 0.0
    stiffness: float = 0.0
    rest: float = 0.0
    start: float = 0.0
    stop_stiffness: float | None = None
    stop_damping: float | None = None
    armature: float = 0.0
    positive: str = ""
    """What a positive position or speed means, in words."""

    @field_validator(
        "limits", "damping", "stiffness", "rest", "start", "stop_stiffness", "stop_damping", "armature", mode="before"
    )
    @classmethod
    def _with_units(cls, value: Any, info: ValidationInfo) -> Any:
        unit = _joint_units(str(info.data.get("kind")))[str(info.field_name)]
        try:
            if isinstance(value, list | tuple):
                return tuple(parse(v, unit) for v in value)
            return parse(value, unit) if isinstance(value, str | int | float) else value
        except UnitError as error:
            raise ValueError(str(error)) from error

    @field_validator("limits")
    @classmethod
    def _ordered(cls, value: tuple[float, float] | None) -> tuple[float, float] | None:
        if value is not None and not value[0] < value[1]:
            raise ValueError("the lower limit must be below the upper one")
        return value

    @field_validator("damping", "stiffness", "stop_stiffness", "stop_damping", "armature")
    @classmethod
    def _sign(cls, value: float | None) -> float | None:
        return None if value is None else _not_negative(value)

    @field_validator("axis")
    @classmethod
    def _unit_axis(cls, value: tuple[float, float, float]) -> tuple[float, float, float]:
        length = math.sqrt(sum(x * x for x in value))
        if length < 1e-9:
            raise ValueError("an axis needs a direction, such as [0, 1, 0]")
        return (value[0] / length, value[1] / length, value[2] / length)

    @property
    def unit(self) -> str:
        """SI unit of the position."""
        return "m" if self.kind == "slider" else "rad"


def _joint_units(kind: str) -> dict[str, str]:
    x, force = ("m", "N") if kind == "slider" else ("rad", "N*m")
    return {
        "limits": x, "rest": x, "start": x, "damping": f"{force}*s/{x}", "stiffness": f"{force}/{x}",
        "stop_stiffness": f"{force}/{x}", "stop_damping": f"{force}*s/{x}",
        "armature": "kg" if kind == "slider" else "kg*m**2",
    }  # fmt: skip


class Drive(Settings):
    """What moves a joint: an effort (force, torque), or a speed servo with gain, integral and effort limit."""

    kind: Literal["effort", "speed"] = "effort"
    joint: str
    limit: float | str
    """Largest effort, in N or N*m by the kind of joint."""
    top_speed: float | str | None = None
    """Largest speed that may be commanded (speed drives)."""
    gain: float | str = 0.0
    integral_gain: float | str = 0.0
    lag: Annotated[Time, AfterValidator(_not_negative)] = 0.0
    dead_time: Annotated[Time, AfterValidator(_not_negative)] = 0.0
    positive: str = ""


class Machine(Settings):
    """A machine file."""

    format: int = FORMAT
    name: str = ""
    notes: str = ""
    bodies: dict[Name, Body] = Field(min_length=1)
    joints: dict[Name, Joint] = Field(min_length=1)
    drives: dict[Name, Drive] = Field(default_factory=dict)

    @field_validator("drives", mode="after")
    @classmethod
    def _drives_fit(cls, drives: dict[str, Drive], info: ValidationInfo) -> dict[str, Drive]:
        joints: dict[str, Joint] = info.data.get("joints", {})
        fitted = {}
        for name, drive in drives.items():
            joint = joints.get(drive.joint)
            if joint is None or joint.kind == "fixed":
                raise ValueError(
                    f"{name}.joint names no moving joint: {drive.joint!r}; moving are {', '.join(j for j, v in joints.items() if v.kind != 'fixed')}"
                )
            x, force = ("m", "N") if joint.kind == "slider" else ("rad", "N*m")
            units = {"limit": force, "top_speed": f"{x}/s", "gain": f"{force}*s/{x}", "integral_gain": f"{force}/{x}"}
            values: dict[str, float | None] = {}
            for key, unit in units.items():
                raw = getattr(drive, key)
                try:
                    values[key] = None if raw is None else parse(raw, unit)
                except UnitError as error:
                    raise ValueError(f"{name}.{key}: {error}") from error
                if values[key] is not None and values[key] < 0.0:  # type: ignore[operator]
                    raise ValueError(f"{name}.{key} must not be negative")
            if drive.kind == "speed" and (not values["top_speed"] or not values["gain"]):
                raise ValueError(f"{name}: a speed drive needs top_speed and gain above zero")
            fitted[name] = drive.model_copy(update=values)
        return fitted

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

    def drive_unit(self, name: str) -> str:
        """SI unit of a drive's command."""
        drive = self.drives[name]
        slider = self.joints[drive.joint].kind == "slider"
        if drive.kind == "effort":
            return "N" if slider else "N*m"
        return "m/s" if slider else "rad/s"

    def command_limit(self, name: str) -> float:
        """Largest command of a drive: its effort limit, or its top speed."""
        drive = self.drives[name]
        return float((drive.limit if drive.kind == "effort" else drive.top_speed) or 0.0)


def read_machine(path: Path) -> Machine:
    """A machine file, ours (.toml) or a URDF (.urdf, .xml)."""
    if path.suffix.lower() in (".urdf", ".xml"):
        from plucky_heron.machine.urdf import read_urdf

        return read_urdf(path).machine
    if path.suffix.lower() != ".toml":
        raise FileError(path, "", None, "is neither a machine file (.toml) nor a URDF (.urdf)")
    machine = load(Machine, path)
    return machine if machine.name else machine.model_copy(update={"name": path.stem})
