"""Sensors: what they read, where they sit, and how far they are from the truth.

A sensor gives one or more named channels; formulas use them as ``NAME.channel`` (beams as ``NAME[0]``, ``NAME[1]``, ...).
"""

from __future__ import annotations

from collections.abc import Container, Mapping
from typing import Annotated, Literal

from pydantic import Field, model_validator

from plucky_heron.files import Settings
from plucky_heron.machine.joints import Joint
from plucky_heron.machine.parts import Above, Direction, NotBelow, Point, Turn
from plucky_heron.units import Angle, Delay, Frequency, Length, Number

_AXES = ("x", "y", "z")
CHANNELS: dict[str, tuple[tuple[str, str], ...]] = {
    "joint": (("position", ""), ("velocity", "/s"), ("effort", "")),
    "pose": (
        *((a, "m") for a in _AXES), ("roll", "rad"), ("pitch", "rad"), ("yaw", "rad"),
        *((f"velocity.{a}", "m/s") for a in _AXES), *((f"rate.{a}", "rad/s") for a in _AXES),
    ),
    "inertial": (*((f"rate.{a}", "rad/s") for a in _AXES), *((f"force.{a}", "m/s**2") for a in _AXES)),
    "contact": (("force", "N"), ("touching", "")),
    "clearance": (("distance", "m"), ("overlap", "")),
    "course": (
        ("progress", "m"), ("offset", "m"), ("heading", "rad"), ("bend", "rad/m"), ("ahead.offset", "m"),
        ("ahead.heading", "rad"), ("speed", "m/s"), ("length", "m"), ("done", ""),
    ),
    "bearing": (("distance", "m"), ("bearing", "rad"), ("elevation", "rad")),
}  # fmt: skip
"""Channels of each kind with their units; `beams` has one a beam, those of `joint` take the joint's own unit."""


class Sensor(Settings):
    """One sensor.

    joint: position, velocity and effort of a joint. pose: where a body is and how fast, its speeds in world axes or its
    own. inertial: rates and specific force in its own axes. contact: force on a body's shapes. clearance: distance of a
    body's shapes to everything else. beams: distance along each of a fan or cone of rays. course: place along and
    across the course. bearing: direction and distance of a mark.
    """

    kind: Literal["joint", "pose", "inertial", "contact", "clearance", "beams", "course", "bearing"]
    joint: str | None = None
    body: str | None = None
    at: Point = (0.0, 0.0, 0.0)
    turn: Turn = (0.0, 0.0, 0.0)
    axes: Literal["world", "own"] = "world"
    """Axes of a pose sensor's velocity and rates."""
    mark: str | None = None
    """Mark of the site (bearing)."""
    ahead: Annotated[Length, NotBelow] = 2.0
    """How far along the course it looks (course)."""
    beams: int = Field(default=8, ge=1, le=256)
    spread: Angle = 3.141592653589793
    """Whole angle of the fan, or opening of the cone."""
    shape: Literal["fan", "cone"] = "fan"
    axis: Direction = (1.0, 0.0, 0.0)
    """Middle of the fan or cone; a fan spreads about z of the sensor's axes."""
    range: Annotated[Length, Above] = 10.0
    noise: Annotated[Number, NotBelow] = 0.0
    """Standard deviation, in SI units of the channel."""
    bias: Number = 0.0
    """Standard deviation of an offset that is drawn once an episode."""
    step: Annotated[Number, NotBelow] = 0.0
    """Quantisation."""
    dead_time: Delay = 0.0
    rate: Annotated[Frequency, Above] | None = None
    """Readings a second; between them the last one stands. Left out: every control sample."""

    @model_validator(mode="after")
    def _placed(self) -> Sensor:
        wanted = "joint" if self.kind == "joint" else "body"
        if getattr(self, wanted) is None:
            raise ValueError(f"a {self.kind} sensor needs a {wanted}")
        if self.kind == "bearing" and self.mark is None:
            raise ValueError("a bearing sensor needs the name of a mark")
        return self

    def check(self, name: str, bodies: Container[str], joints: Mapping[str, Joint]) -> None:
        """Names must be known.

        Raises
        ------
        ValueError
            With the key.
        """
        if self.joint is not None and (self.joint not in joints or not joints[self.joint].letters):
            raise ValueError(f"sensors.{name}.joint names no moving joint: {self.joint!r}")
        if self.body is not None and self.body not in bodies:
            raise ValueError(f"sensors.{name}.body names no body: {self.body!r}")

    def channels(self, name: str, joints: Mapping[str, Joint]) -> list[tuple[str, str]]:
        """Names and units of what it gives, in order."""
        if self.kind == "beams":
            return [(f"{name}[{k}]", "m") for k in range(self.beams)]
        if self.kind == "joint":
            x, force = ("m", "N") if joints[str(self.joint)].kind == "slider" else ("rad", "N*m")
            return [(f"{name}.position", x), (f"{name}.velocity", f"{x}/s"), (f"{name}.effort", force)]
        return [(f"{name}.{channel}", unit) for channel, unit in CHANNELS[self.kind]]
