"""What a machine is: bodies, joints and what acts on them, as they stand in a machine file.

Positions of hinges are radians, of sliders metres; the base is called `ground`. Every number may carry its unit.
"""

from __future__ import annotations

import math
from typing import Annotated, Any

from pydantic import Field, ValidationInfo, field_validator, model_validator

from plucky_heron.errors import UnitError, did_you_mean
from plucky_heron.files import Settings
from plucky_heron.machine.joints import Joint, coordinate_unit, units_of
from plucky_heron.machine.parts import (
    GROUND,
    Coupling,
    Drive,
    Float,
    Hull,
    Name,
    NotBelow,
    PartForce,
    Pin,
    Point,
    Rod,
    Shape,
    Spring,
    Tank,
    Tyre,
    Wing,
)  # fmt: skip
from plucky_heron.machine.sensors import Sensor
from plucky_heron.units import Area, Inertia, Mass, parse
from plucky_heron.upgrading import FORMAT

__all__ = [
    "GROUND", "Body", "Coupling", "Drive", "Float", "Hull", "Joint", "Machine", "Name", "Pin", "Rod", "Shape", "Spring",
    "Tank", "Tyre", "Wing",
]  # fmt: skip


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
        if not isinstance(value, list | tuple) or len(value) not in (3, 6):
            raise ValueError("wanted a list of xx, yy, zz, or of xx, yy, zz, xy, xz, yz, each a quantity in kg*m**2")
        return value if len(value) == 6 else (*value, 0.0, 0.0, 0.0)

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


class Machine(Settings):
    """A machine file."""

    format: int = FORMAT
    name: str = ""
    notes: str = ""
    bodies: dict[Name, Body] = Field(min_length=1, max_length=300)
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
            leaders, at = [coupling.joint], coupling.follows
            while at in (follows := {c.joint: c.follows for c in self.couplings.values()}) and at not in leaders:
                leaders.append(at)
                at = follows[at]
            if at in leaders:
                raise ValueError(
                    f"couplings.{name}.follows: {coupling.joint} follows itself by {', '.join(leaders[1:])}"
                )
            try:
                parse(coupling.offset, self.joints[coupling.joint].unit)
            except UnitError as error:
                raise ValueError(f"couplings.{name}.offset: {error}") from error
        for name, force in self.forces.items():
            if isinstance(force, Float) and force.area is None and not self.bodies[force.body].shapes:
                raise ValueError(f"forces.{name}: {force.body} has no shapes to float by; give area and height")
        for name, force in self.forces.items():
            if isinstance(force, Rod | Pin) and force.a == force.b:
                raise ValueError(f"forces.{name}: a and b are both {force.a}; a {force.kind} ties two bodies")
        for name, sensor in self.sensors.items():
            sensor.check(name, self.bodies, self.joints)
        return self

    def _bodies_named(self) -> list[tuple[str, str, bool]]:
        """Every place that names a body: key, name, whether the ground may stand there."""
        named = [(f"tanks.{n}.body", t.body, False) for n, t in self.tanks.items()]
        named += [(f"drives.{n}.body", d.body or "", False) for n, d in self.drives.items() if d.kind == "thrust"]
        named += [("no_contact", body, True) for pair in self.no_contact for body in pair]
        for name, force in self.forces.items():
            if isinstance(force, Spring | Rod | Pin):
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

    def carried_by(self, body: str) -> set[str]:
        """A body and all that hangs on it."""
        found = {body}
        while more := {joint.child for joint in self.joints.values() if joint.parent in found} - found:
            found |= more
        return found

    def drive_unit(self, name: str) -> str:
        """SI unit of a drive's command."""
        drive = self.drives[name]
        if drive.kind == "thrust":
            return "N"
        if drive.kind == "drain":
            return "kg/s"
        x, force = units_of(self.joints[str(drive.joint)])
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


def _fit_drive(name: str, drive: Drive, joints: dict[str, Joint]) -> Drive:
    """Numbers in SI units, checked against what the drive acts on."""
    x, force = "m", "N"
    if drive.on_joint:
        joint = joints.get(drive.joint or "")
        if joint is None or joint.kind not in ("hinge", "slider"):
            moving = [j for j, v in joints.items() if v.kind in ("hinge", "slider")]
            raise ValueError(
                f"{name}.joint names no moving joint: {drive.joint!r}; {did_you_mean(drive.joint, moving)}"
            )
        x, force = units_of(joint)
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
    if values["backlash"] and drive.kind != "position":
        raise ValueError(
            f"{name}.backlash: {values['backlash']:g} stands between a command and a place, so only a position drive has it; "
            f"leave it out of a drive of kind {drive.kind}"
        )
    if drive.kind == "speed" and (not values["top_speed"] or not values["gain"]):
        raise ValueError(f"{name}: a speed drive needs top_speed and gain above zero")
    if drive.kind == "position" and not values["gain"]:
        raise ValueError(f"{name}: a position drive needs a gain above zero")
    return drive.model_copy(update=values)
