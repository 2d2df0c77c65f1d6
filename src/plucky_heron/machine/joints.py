"""Joints: what they let move, in which coordinates and units, with which limits and friction."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

from pydantic import ValidationInfo, field_validator, model_validator

from plucky_heron.errors import UnitError
from plucky_heron.files import Settings
from plucky_heron.machine.parts import GROUND, Above, Point, Turn, not_negative
from plucky_heron.units import Number, parse

COORDINATES = {
    "fixed": (), "hinge": ("",), "slider": ("",), "ball": ("rx", "ry", "rz"),
    "free": ("x", "y", "z", "rx", "ry", "rz"),
}  # fmt: skip
"""Coordinates of each kind of joint; one that has only one bears the joint's name. `planar` depends on its axis."""
_IN_PLANE = {"x": ("y", "z", "turn"), "y": ("x", "z", "turn"), "z": ("x", "y", "turn")}


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
    """Inertia of the rotor as the joint feels it: its own times the square of the gear ratio."""
    gear: Annotated[Number, Above] = 1.0
    """Turns of that rotor for one of a hinge, about the same axis: how much of it the parent feels as the rotor speeds up."""
    slide_damping: float | None = None
    """Of a planar or free joint along its axes, where `damping` is only to be about them."""
    friction: float = 0.0
    """Dry friction: the effort it takes to start moving."""
    positive: str = ""
    """What a positive position or speed means, in words."""

    @field_validator(
        "limits", "damping", "stiffness", "rest", "stop_stiffness", "stop_damping", "armature", "friction",
        "slide_damping", mode="before",
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

    @field_validator("damping", "stiffness", "stop_stiffness", "stop_damping", "armature", "friction", "slide_damping")
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
        elif self.slide_damping is not None:
            raise ValueError(f"slide_damping: a {self.kind} slides along no axes besides; write damping")
        if self.kind == "ball" and self.slide_damping is not None:
            raise ValueError("slide_damping: a ball slides along no axes; write damping")
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
        "armature": "kg" if kind == "slider" else "kg*m**2", "friction": force, "slide_damping": "N*s/m",
    }  # fmt: skip


def units_of(joint: Joint) -> tuple[str, str]:
    return ("m", "N") if joint.kind == "slider" else ("rad", "N*m")
