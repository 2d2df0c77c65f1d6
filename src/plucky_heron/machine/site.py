"""Where a machine moves: ground, obstacles, walls, courses, water, wind, as they stand in a site file."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, PrivateAttr, field_validator, model_validator

from plucky_heron.files import Settings
from plucky_heron.machine.parts import Above, Name, NotBelow, Point, Shape, Surface
from plucky_heron.units import Acceleration, Angle, Density, Length, Number, Speed, Time
from plucky_heron.upgrading import FORMAT

Flat = tuple[Length, Length]
MOST_HEIGHTS = 4_000_000
"""Heights of a ground, and with them of all its levels."""
LONGEST_DRAWN = 2000.0
"""Length (m) of a course that is drawn from a seed, at most."""
MOST_PIECES = 5_000
"""Points of a line, stakes of a course, boxes of a wall."""


@dataclass(frozen=True)
class Heights:
    """A map as it was read: brightness 0..1, rows from low to high y, and the hash of its picture."""

    digest: str
    table: np.ndarray = field(compare=False, repr=False)
    """(rows, columns), m."""


class Terrain(Settings):
    """Solid ground: flat, a slope, a profile along x, rough ground from a seed, or heights from a drawn map."""

    kind: Literal["flat", "slope", "profile", "rough", "map"] = "flat"
    level: Length = 0.0
    slope: Angle = 0.0
    """Rises towards +x (slope)."""
    points: tuple[Flat, ...] = ()
    """(x, z) of a profile."""
    seed: int = Field(default=1, ge=0)
    height: Annotated[Length, NotBelow] = 0.05
    """Of rough ground at difficulty 1: root mean square times two."""
    wavelength: Annotated[Length, Above] = 1.2
    """The longest waves of rough ground; shorter ones are as much lower as they are shorter."""
    levels: int = Field(default=1, ge=1, le=16)
    """How many levels of difficulty there are, from even to `height`, each a scene of its own."""
    size: tuple[Annotated[Length, Above], Annotated[Length, Above]] = (20.0, 20.0)
    flat_start: Annotated[Length, NotBelow] = 1.0
    """Radius about the origin within which rough ground is even."""
    along_only: bool = False
    """Varies along x only, for machines that move in the x-z plane."""
    map: str | None = None
    """PNG whose brightness is the height (map)."""
    spacing: Annotated[Length, Above] = 0.1
    surface: Surface = Surface()
    _heights: Heights | None = PrivateAttr(default=None)

    @property
    def heights(self) -> Heights | None:
        """The map, once its picture was read; see `with_heights`."""
        return self._heights

    def with_heights(self, heights: Heights) -> Terrain:
        """The terrain with its map as read."""
        made = self.model_copy()
        made._heights = heights
        return made

    @model_validator(mode="after")
    def _not_too_fine(self) -> Terrain:
        across = (
            (self.points[0][0], self.points[-1][0]) if self.kind == "profile" and self.points else (0.0, self.size[0])
        )
        columns = abs(across[1] - across[0]) / self.spacing + 1.0
        rows = 1.0 if self.kind == "profile" or self.along_only else self.size[1] / self.spacing + 1.0
        if self.kind in ("profile", "rough") and not columns * rows * self.levels <= MOST_HEIGHTS:
            raise ValueError(f"spacing: gives more than {MOST_HEIGHTS} heights; choose it wider, or the ground smaller")
        return self

    @model_validator(mode="after")
    def _complete(self) -> Terrain:
        if self.kind == "profile" and len(self.points) < 2:
            raise ValueError("a profile needs at least two points (x, z)")
        if any(a[0] >= b[0] for a, b in zip(self.points, self.points[1:], strict=False)):
            raise ValueError("points: x must rise from point to point")
        if self.kind == "map" and not self.map:
            raise ValueError("a map needs the name of a PNG")
        if abs(self.slope) >= math.pi / 2.2:
            raise ValueError("slope: too steep to stand on")
        return self


class Wall(Settings):
    """An upright wall along a line; its points may come from a drawing."""

    points: tuple[Flat, ...] = ()
    closed: bool = False
    height: Annotated[Length, Above] = 1.0
    thickness: Annotated[Length, Above] = 0.05
    base: Length = 0.0
    surface: Surface = Surface()

    @model_validator(mode="after")
    def _long_enough(self) -> Wall:
        if not 2 <= len(self.points) <= MOST_PIECES:
            raise ValueError(f"a wall needs between two and {MOST_PIECES} points (x, y)")
        return self


class Stakes(Settings):
    """Poles along both sides of a course (withies)."""

    spacing: Annotated[Length, Above] = 2.0
    radius: Annotated[Length, Above] = 0.04
    height: Annotated[Length, Above] = 1.2
    gap: Annotated[Length, NotBelow] = 0.0
    """From the edge of the course outwards."""


class Course(Settings):
    """A line to follow: points, or made from a seed at a level of difficulty; with its half width and its stakes."""

    points: tuple[Flat, ...] = ()
    closed: bool = False
    seed: int | None = Field(default=None, ge=0)
    difficulty: Annotated[Number, NotBelow] = 0.5
    """How much a made course bends: 0 straight, 1 with bends of `tightest` radius."""
    length: Annotated[Length, Above] = 60.0
    tightest: Annotated[Length, Above] = 4.0
    width: Annotated[Length, Above] = 3.0
    stakes: Stakes | None = None
    gates: tuple[Flat, ...] = ()
    """Points to pass in order (they need not lie on the line)."""

    @model_validator(mode="after")
    def _one_source(self) -> Course:
        if (self.seed is None) == (len(self.points) < 2):
            raise ValueError("a course needs either points (two or more) or a seed")
        length = self.length if self.seed is not None else sum(map(math.dist, self.points, self.points[1:]))
        if self.seed is not None and length > LONGEST_DRAWN:
            raise ValueError(
                f"length: a course from a seed has at most {LONGEST_DRAWN / 1000:g} km; give points for a longer one"
            )
        if not length > 1e-6:
            raise ValueError("points: a course needs points that are apart")
        if len(self.points) > MOST_PIECES or not length <= 1e5 or not length / self.tightest <= 1e5:
            raise ValueError(
                f"a course has at most {MOST_PIECES} points, 100 km, and bends of a hundred thousandth of that"
            )
        if self.stakes is not None and not length / self.stakes.spacing <= MOST_PIECES / 2:
            raise ValueError(f"stakes.spacing: gives more than {MOST_PIECES} stakes; choose it wider")
        return self


class Drawing(Settings):
    """An SVG or PNG from which courses, walls and gates are read; metres a unit of the drawing."""

    file: str
    scale: Annotated[Number, Above] = 0.01
    """Metres for one unit (SVG) or pixel (PNG)."""
    origin: Flat = (0.0, 0.0)
    """Where the drawing's lower left corner lies."""
    legend: dict[str, Literal["wall", "course", "gate", "ground"]] = Field(default_factory=dict)
    """What layers (SVG, by name) or colours (PNG, as #rrggbb) mean."""
    width: Annotated[Length, Above] = 3.0
    wall_height: Annotated[Length, Above] = 1.0


class Current(Settings):
    """Flowing water: speed and direction (in the x-y plane), varying across the flow and with the tide."""

    speed: Speed = 0.0
    direction: Angle = 0.0
    profile: tuple[tuple[Length, Number], ...] = ()
    """(distance to the left of the flow through the origin, factor) pairs."""
    tide: Annotated[Time, NotBelow] = 0.0
    """Period over which the speed swings to its opposite; zero: steady."""


class Site(Settings):
    """A site file."""

    format: int = FORMAT
    name: str = ""
    notes: str = ""
    gravity: Acceleration = 9.81
    air_density: Density = 1.225
    water_density: Density = 1025.0
    wind_direction: tuple[Number, Number, Number] = (1.0, 0.0, 0.0)
    gust_time: Annotated[Time, Above] = 1.5
    """Time constant of the gusts: white noise through first-order (along) and second-order (across) Dryden filters."""
    gusts_across: Annotated[Number, NotBelow] = 0.0
    """Strength of gusts across the wind and upwards, as a share of those along it."""
    water_level: Length | None = None
    wave: tuple[Length, Length] | None = None
    """Height (half of crest to trough) and length of waves that run with the current."""

    @field_validator("wave")
    @classmethod
    def _has_a_length(cls, value: tuple[float, float] | None) -> tuple[float, float] | None:
        if value is not None and not (value[0] >= 0.0 and value[1] >= 1e-3):
            raise ValueError("a wave is a height, at least zero, and a length above zero")
        return value

    current: Current = Current()
    terrain: Terrain | None = None
    solids: dict[Name, Shape] = Field(default_factory=dict)
    walls: dict[Name, Wall] = Field(default_factory=dict)
    courses: dict[Name, Course] = Field(default_factory=dict)
    drawings: dict[Name, Drawing] = Field(default_factory=dict)
    marks: dict[Name, Point] = Field(default_factory=dict)
    ground: tuple[Flat, ...] = ()
    """Outline of ground that is drawn in the side view only, (x, z) points."""
    portal: tuple[Length, Length, Length] | None = None
    """Legs and beam drawn behind the machine: x of both legs, height of the beam."""
