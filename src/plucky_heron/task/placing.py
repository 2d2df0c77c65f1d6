"""Where episodes begin and where they lead: placings of machines, and gates to be passed in order."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from pydantic import Field, model_validator

from plucky_heron.files import Settings
from plucky_heron.machine.parts import Above, NotBelow, Point
from plucky_heron.units import Angle, Length

Span = tuple[Length, Length]


class Placing(Settings):
    """Where a machine that moves over the ground starts: along the site's course, on a circle, or where `starts` says.

    apart: draws again (up to 20 times) while any of its bodies is nearer than this to a fixed solid of the site.
    """

    along: Span | None = None
    """Arc length on the course of the episode's scene."""
    offset: Span = (0.0, 0.0)
    """To the left of the course."""
    circle: Span | None = None
    """Distance from the centre."""
    centre: tuple[Length, Length] = (0.0, 0.0)
    bearing: tuple[Angle, Angle] = (-math.pi, math.pi)
    """Direction in which it stands from the centre."""
    heading: tuple[Angle, Angle] = (0.0, 0.0)
    """Off the course, or off `facing`."""
    facing: Literal["east", "inwards", "outwards"] = "east"
    """Where heading 0 looks on a circle; east is along x."""
    apart: Annotated[Length, NotBelow] | None = None

    @model_validator(mode="after")
    def _one(self) -> Placing:
        if self.along is not None and self.circle is not None:
            raise ValueError("either along or circle")
        for key in ("along", "offset", "circle", "bearing", "heading"):
            span = getattr(self, key)
            if span is not None and span[0] > span[1]:
                raise ValueError(f"{key}: write the lower bound first")
        return self


class Gates(Settings):
    """Places to be passed in order by the origin of a body, within a radius, any number of laps.

    They come from `places`, from the line of the site's course at every `every` metres, or from the gates of the course.
    Formulas see `gate.count`, `gate.passed`, `gate.passing`, the next one as `gate.x`, `gate.y`, `gate.z`, `gate.distance`,
    `gate.bearing` (to the left of the body's x axis), and the one after it as `gate.after.distance`, `gate.after.bearing`.
    """

    body: str
    radius: Annotated[Length, Above] = 1.0
    places: tuple[Point, ...] = ()
    every: Annotated[Length, Above] | None = None
    laps: int = Field(default=1, ge=1, le=1000)
    flat: bool = True
    """Distances leave out height."""


GATE_SIGNALS = {
    "gate.count": "", "gate.passed": "", "gate.passing": "", "gate.x": "m", "gate.y": "m", "gate.z": "m",
    "gate.distance": "m", "gate.bearing": "rad", "gate.after.distance": "m", "gate.after.bearing": "rad",
}  # fmt: skip
"""What formulas see of gates, with units."""
