"""The parts that stand on bodies and joints: shapes, drives, forces, tanks, couplings.

Every number may carry its unit. Whatever is placed on a body is placed in that body's own axes.
"""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from plucky_heron.files import Settings
from plucky_heron.units import (
    Angle,
    Area,
    Damping,
    Delay,
    Force,
    Inertia,
    Length,
    Mass,
    Number,
    SquareDamping,
    Stiffness,
    TurnDamping,
    TurnSquareDamping,
)  # fmt: skip

GROUND = "ground"

_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_]*")
LONGEST_NAME = 60
"""Letters of a name."""


def _check_name(name: str) -> str:
    if not _NAME.fullmatch(name) or len(name) > LONGEST_NAME:
        raise ValueError(f"a name is at most {LONGEST_NAME} letters, digits and _, starting with a letter")
    return name


Name = Annotated[str, AfterValidator(_check_name)]


def positive(value: float) -> float:
    """For fields that must be above zero."""
    if value <= 0.0:
        raise ValueError("must be above zero")
    return value


def not_negative(value: float) -> float:
    """For fields that must not be below zero."""
    if value < 0.0:
        raise ValueError("must not be negative")
    return value


def share(value: float) -> float:
    """For fields that are parts of a whole."""
    if not 0.0 <= value <= 1.0:
        raise ValueError("must be between 0 and 1")
    return value


Point = tuple[Length, Length, Length]
Turn = tuple[Angle, Angle, Angle]
Direction = tuple[Number, Number, Number]
Above = AfterValidator(positive)
NotBelow = AfterValidator(not_negative)


class Surface(Settings):
    """How a surface meets another: friction by the geometric mean of both, the livelier bounce, springs in series."""

    friction: tuple[Annotated[Number, NotBelow], Annotated[Number, NotBelow]] = (0.7, 0.6)
    """Static and dynamic coefficient."""
    bounce: Annotated[Number, AfterValidator(share)] = 0.0
    """Coefficient of restitution."""
    stiffness: Annotated[Stiffness, Above] | None = None
    """Of a soft surface, each touching point; left out: hard."""
    damping: Annotated[Damping, NotBelow] | None = None
    """Of a soft surface; left out: 0.7 of critical for what presses on it."""
    rolling: Annotated[Length, NotBelow] = 0.0
    """Arm of the load that resists rolling: how far ahead of the middle the ground pushes what rolls."""
    spinning: Annotated[Length, NotBelow] = 0.0
    """Arm of the load that resists spinning on the spot: about two thirds of the radius that touches, times friction."""

    @model_validator(mode="after")
    def _static_holds_more(self) -> Surface:
        if self.friction[1] > self.friction[0]:
            raise ValueError("friction: the dynamic coefficient must not be above the static one")
        return self


class Shape(Settings):
    """A box, capsule or cylinder (along z), sphere, bucket or hull of points, placed in the body; drawn and touched."""

    kind: Literal["box", "capsule", "cylinder", "sphere", "bucket", "hull"]
    size: tuple[Annotated[Length, Above], ...] = Field(default=(), max_length=3)
    file: str | None = None
    """Mesh of a hull (STL or OBJ), relative to the machine's folder."""
    scale: Annotated[Number, Above] = 1.0
    points: tuple[Point, ...] = ()
    """Corners of a hull; filled from the file when it is read."""
    at: Point = (0.0, 0.0, 0.0)
    turn: Turn = (0.0, 0.0, 0.0)
    wash: Literal["tide", "heron", "reed", "plum", "moss", "plain"] = "tide"
    solid: bool = True
    """Whether it touches others; else it is only drawn."""
    surface: Surface = Surface()

    @model_validator(mode="after")
    def _count(self) -> Shape:
        wanted = {"box": 3, "capsule": 2, "cylinder": 2, "sphere": 1, "bucket": 3, "hull": 0}[self.kind]
        if len(self.size) != wanted:
            names = {
                "box": "length, width, height", "sphere": "radius", "bucket": "top, bottom, height",
                "hull": "no size, but points or a file",
            }  # fmt: skip
            raise ValueError(f"{self.kind} takes {names.get(self.kind, 'radius, length')}")
        if self.kind == "hull" and not self.file and len(self.points) < 4:
            raise ValueError("a hull needs a file, or at least four points")
        return self


class Drive(Settings):
    """What is commanded: an effort, a speed or a position of a joint, a thrust, a brake, a tank's drain."""

    kind: Literal["effort", "speed", "position", "thrust", "brake", "drain"] = "effort"
    joint: str | None = None
    body: str | None = None
    """Body a thruster pushes."""
    at: Point = (0.0, 0.0, 0.0)
    direction: Direction = (1.0, 0.0, 0.0)
    """Where a thruster pushes, in its body's axes."""
    tank: str | None = None
    """What a drain empties, or a thruster burns from."""
    limit: float | str
    """Largest effort (N, N*m by the kind of joint), thrust (N), or flow of a drain (kg/s)."""
    lowest: float | str | None = None
    """Lowest command of a thruster or drain; zero if left out."""
    top_speed: float | str | None = None
    """Largest speed that may be commanded (speed drives)."""
    no_load_speed: float | str | None = None
    """Speed at which the limit has fallen to nothing, along a straight line; of a thruster: through the water."""
    gain: float | str = 0.0
    integral_gain: float | str = 0.0
    rate_gain: float | str = 0.0
    """Of a position drive: effort a unit of joint speed, against it."""
    rate_limit: float | str | None = None
    """Largest change of the command a second."""
    dead_zone: float | str = 0.0
    """Commands up to this do nothing."""
    backlash: float | str = 0.0
    """Play between drive and load, in units of the command."""
    gear: Annotated[Number, Above] = 1.0
    """Turns of the rotor a turn of the joint; with `rotor_inertia` only."""
    rotor_inertia: Annotated[Inertia, NotBelow] = 0.0
    reaction: Length = 0.0
    """Torque about its direction that a propeller hands to its body, for each newton of thrust."""
    consumption: Annotated[Number, NotBelow] = 0.0
    """Mass a thruster burns, kg for each N s."""
    lag: Delay = 0.0
    dead_time: Delay = 0.0
    positive: str = ""

    @property
    def on_joint(self) -> bool:
        """Whether it acts on a joint (else on a body or a tank)."""
        return self.kind in ("effort", "speed", "position", "brake")


class Spring(Settings):
    """A spring and damper between two points; also a rope that only pulls."""

    kind: Literal["spring"]
    a: str
    at_a: Point = (0.0, 0.0, 0.0)
    b: str = GROUND
    at_b: Point = (0.0, 0.0, 0.0)
    stiffness: Annotated[Stiffness, NotBelow]
    rest: Annotated[Length, NotBelow] = 0.0
    damping: Annotated[Damping, NotBelow] = 0.0
    pulls_only: bool = False


class Rod(Settings):
    """A rod without mass between two points, with a ball joint at each end: it keeps its length, and closes loops."""

    kind: Literal["rod"]
    a: str
    at_a: Point = (0.0, 0.0, 0.0)
    b: str = GROUND
    at_b: Point = (0.0, 0.0, 0.0)
    length: Annotated[Length, Above] | None = None
    """Left out: as far as the two points are apart at the start."""


class Pin(Settings):
    """Holds a point of one body on a point of another, as a ball joint does, and closes loops."""

    kind: Literal["pin"]
    a: str
    at_a: Point = (0.0, 0.0, 0.0)
    b: str = GROUND
    at_b: Point = (0.0, 0.0, 0.0)


class Tyre(Settings):
    """A tyre: slip along and across, on a friction ellipse, with a relaxation length."""

    kind: Literal["tyre"]
    wheel: str
    """The body that spins about its own joint; with `rolls_freely` the body that carries the wheel."""
    at: Point = (0.0, 0.0, 0.0)
    axis: Direction | None = None
    """Left out: the axis of the wheel's joint; of a wheel that rolls freely, y of the body that carries it."""
    radius: Annotated[Length, Above]
    along: Annotated[Force, Above] = 2000.0
    """Force for each unit of slip along, while it grips."""
    across: Annotated[Force, Above] = 2000.0
    relaxation: Annotated[Length, Above] = 0.15
    friction: tuple[Annotated[Number, NotBelow], Annotated[Number, NotBelow]] = (0.9, 0.9)
    """Along and across."""
    load: Annotated[Force, NotBelow] = 0.0
    """What it carries, where nothing else says so (machines that move in the plane)."""
    radial_stiffness: Annotated[Stiffness, NotBelow] = 0.0
    """Carries the machine by itself when above zero."""
    radial_damping: Annotated[Damping, NotBelow] = 0.0
    rolling_resistance: Annotated[Number, NotBelow] = 0.0
    rolls_freely: bool = False


class Hull(Settings):
    """Added mass and damping of a body in flowing water, about its own axes."""

    kind: Literal["hull"]
    body: str
    at: Point = (0.0, 0.0, 0.0)
    turn: Turn = (0.0, 0.0, 0.0)
    added_mass: tuple[Mass, Mass, Mass] = (0.0, 0.0, 0.0)
    added_inertia: tuple[Inertia, Inertia, Inertia] = (0.0, 0.0, 0.0)
    damping: tuple[Damping, Damping, Damping] = (0.0, 0.0, 0.0)
    turn_damping: tuple[TurnDamping, TurnDamping, TurnDamping] = (0.0, 0.0, 0.0)
    square: tuple[SquareDamping, SquareDamping, SquareDamping] = (0.0, 0.0, 0.0)
    """Damping that grows with the square of the speed."""
    turn_square: tuple[TurnSquareDamping, TurnSquareDamping, TurnSquareDamping] = (0.0, 0.0, 0.0)


class Float(Settings):
    """What displaces water: a column along the body's z axis, or, without `area` and `height`, the body's shapes."""

    kind: Literal["float"]
    body: str
    at: Point = (0.0, 0.0, 0.0)
    """Middle of its bottom."""
    area: Annotated[Area, Above] | None = None
    height: Annotated[Length, Above] | None = None
    length: Annotated[Length, Above] | None = None
    """Side of its section along the body's x axis; without it the section is a square."""

    @model_validator(mode="after")
    def _whole(self) -> Float:
        if (self.area is None) != (self.height is None):
            raise ValueError("a float has area and height, or neither: then the shapes of its body displace water")
        if self.length is not None and self.area is None:
            raise ValueError("length: only a column with area and height has one")
        return self

    @property
    def sides(self) -> tuple[float, float]:
        """Length and width of the section (m)."""
        if self.area is None:
            return 0.0, 0.0
        length = self.length if self.length is not None else self.area**0.5
        return length, self.area / length


class Wing(Settings):
    """A lifting surface in air or water: wing, fin, rudder, keel."""

    kind: Literal["wing"]
    body: str
    at: Point = (0.0, 0.0, 0.0)
    chord: Direction = (1.0, 0.0, 0.0)
    normal: Direction = (0.0, 0.0, 1.0)
    area: Annotated[Area, Above]
    lift_slope: Annotated[Number, NotBelow] = 5.0
    """Lift coefficient a radian of angle of attack."""
    stall: Annotated[Angle, Above] = 0.28
    drag: Annotated[Number, NotBelow] = 0.01
    induced: Annotated[Number, NotBelow] = 0.06
    in_water: bool = False


PartForce = Annotated[Spring | Rod | Pin | Tyre | Hull | Float | Wing, Field(discriminator="kind")]


class Tank(Settings):
    """A box of liquid or grain on a body; its mass, centre and inertia follow what is left."""

    body: str
    at: Point = (0.0, 0.0, 0.0)
    """Middle of its bottom."""
    size: tuple[Annotated[Length, Above], Annotated[Length, Above], Annotated[Length, Above]]
    mass: Annotated[Mass, Above]
    """When full."""
    fill: Annotated[Number, AfterValidator(share)] = 1.0
    """Share that is in it at the start."""


class Coupling(Settings):
    """Ties one joint to another: gear wheels, mimic joints, the wheels of a steering linkage."""

    kind: Literal["ratio", "steering"] = "ratio"
    joint: str
    follows: str
    ratio: Number = 1.0
    offset: float | str = 0.0
    wheelbase: Annotated[Length, Above] = 1.0
    left: Length = 0.0
    """How far left of the middle the wheel stands (steering)."""
