"""Sites as arrays: ground, fixed shapes, water and courses, one scene for each course or level of difficulty."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.shapes import Placed, build_shapes, surface_numbers
from plucky_heron.errors import StateError
from plucky_heron.machine.parts import Shape
from plucky_heron.machine.site import Course, Site, Terrain, Wall
from plucky_heron.machine.urdf import rotation
from plucky_heron.randomness import stream

Array = np.ndarray


LONG = 64.0
"""Metres across of a cell of ground whose heights do not depend on y: the longer, the fewer are looked at."""


@dataclass(frozen=True)
class Track:
    """A course as points one after another: (k, 2) places, (k,) arc lengths, whether it closes, its width and gates."""

    points: Array
    along: Array
    closed: bool
    width: float
    gates: Array


@dataclass(frozen=True)
class Surroundings:
    """All scenes of a site: their names, the kernels' arrays, their courses, and which tags of shapes belong to whom."""

    names: tuple[str, ...]
    arrays: layout.Scene
    tracks: tuple[Track | None, ...]
    solids: tuple[tuple[tuple[str, Shape, Array, Array], ...], ...]
    """Name, shape, rotation and place of every fixed shape, by scene."""


_BUILT: list[tuple[Site, Surroundings]] = []


def build_scene(site: Site | None = None) -> Surroundings:
    """The arrays of a site; without one, nothing is there. The last few are kept: tasks are bound anew at every edit."""
    site = site or Site()
    for known, built in _BUILT:
        if known == site:
            return built
    _BUILT.insert(0, (site, _build(site)))
    del _BUILT[4:]
    return _BUILT[0][1]


def _build(site: Site) -> Surroundings:
    terrain = site.terrain
    levels = terrain.levels if terrain is not None and terrain.kind == "rough" else 1
    courses = list(site.courses) or [""]
    names = [
        ", ".join(part for part in (course, f"level {level + 1}" if levels > 1 else "") if part) or "site"
        for course in courses
        for level in range(levels)
    ]
    common = [(name, shape, rotation(*shape.turn), np.array(shape.at)) for name, shape in site.solids.items()]
    for name, wall in site.walls.items():
        common += [(name, *piece) for piece in wall_pieces(wall)]
    tracks = {name: track(course) for name, course in site.courses.items()}
    placed: list[Placed] = []
    solids, ranges = [], []
    for course in courses:
        own = list(common)
        if course and site.courses[course].stakes is not None:
            own += [("stake", *piece) for piece in stake_pieces(site.courses[course], tracks[course])]
        first = len(placed)
        placed += [Placed(shape, -1, turn, at) for _, shape, turn, at in own if shape.solid]
        for _ in range(levels):
            ranges.append((first, len(placed)))
            solids.append(tuple(own))
    count = len(names)
    ground_kind = np.zeros(count, dtype=np.int64)
    plane, grid = np.tile([0.0, 0.0, 1.0, 0.0], (count, 1)), np.zeros((count, 9))
    heights: list[Array] = []
    surface = np.zeros((count, layout.SURFACE))
    for s in range(count):
        if terrain is None:
            continue
        surface[s] = surface_numbers(terrain.surface)
        if terrain.kind in ("flat", "slope"):
            ground_kind[s] = layout.PLANE
            lean = terrain.slope if terrain.kind == "slope" else 0.0
            normal = np.array([-math.sin(lean), 0.0, math.cos(lean)])
            plane[s] = (*normal, normal[2] * terrain.level)
        else:
            ground_kind[s] = layout.GRID
            level = s % levels
            share = 1.0 if levels == 1 else level / (levels - 1)
            x0, y0, dx, dy, table = height_grid(terrain, share)
            columns, rows, before = table.shape[1], table.shape[0], sum(len(h) for h in heights)
            if rows == 1:
                y0, dy = -0.5 * LONG, LONG
            grid[s] = x0, y0, dx, dy, columns, rows, before, table.max(), _flattest_of_steepest(dx, dy, table)
            heights.append(table.reshape(-1))
    flow, profile = _flow(site, count)
    arrays = layout.Scene(
        ground_kind, plane, grid, np.concatenate(heights) if heights else np.zeros(2), surface, build_shapes(placed),
        np.array(ranges, dtype=np.int64).reshape(-1, 2), flow, profile,
    )  # fmt: skip
    return Surroundings(
        tuple(names), arrays, tuple(tracks.get(c) for c in courses for _ in range(levels)), tuple(solids)
    )


def _flow(site: Site, count: int) -> tuple[Array, Array]:
    flow = np.zeros((count, 9))
    c, s = math.cos(site.current.direction), math.sin(site.current.direction)
    flow[:, 0], flow[:, 1] = -s, c
    if site.wave is not None:
        number = 2.0 * math.pi / site.wave[1]
        # deep water: pulse² = g k
        flow[:, 2:6] = site.wave[0], number * c, number * s, math.sqrt(site.gravity * number)
    profile = np.array(site.current.profile, dtype=float).reshape(-1, 2)
    flow[:, 7] = len(profile)
    return flow, profile if len(profile) else np.zeros((1, 2))


def _flattest_of_steepest(dx: float, dy: float, table: Array) -> float:
    """Upward part of the unit normal of the steepest triangle: slopes of a triangle are differences along its two legs."""
    along = np.abs(np.diff(table, axis=1)).max(initial=0.0) / dx
    across = np.abs(np.diff(table, axis=0)).max(initial=0.0) / dy if len(table) > 1 else 0.0
    return float(1.0 / np.sqrt(1.0 + along**2 + across**2))


def height_grid(terrain: Terrain, share: float = 1.0) -> tuple[float, float, float, float, Array]:
    """First x and y, spacing in x and y, heights (rows in y, columns in x) of a terrain that is no plane."""
    if terrain.kind == "profile":
        points = np.array(terrain.points)
        x = np.arange(points[0, 0], points[-1, 0] + terrain.spacing / 2, terrain.spacing)
        return float(x[0]), 0.0, terrain.spacing, 1.0, np.interp(x, points[:, 0], points[:, 1])[None, :] + terrain.level
    if terrain.kind == "map":
        if terrain.heights is None:
            raise StateError("terrain.map was not read with its site")
        table = terrain.heights.table * terrain.height
        return -terrain.size[0] / 2, -terrain.size[1] / 2, terrain.size[0] / (table.shape[1] - 1), (
            terrain.size[1] / (table.shape[0] - 1)
        ), table + terrain.level  # fmt: skip
    return rough_ground(terrain, share)


def rough_ground(terrain: Terrain, share: float) -> tuple[float, float, float, float, Array]:
    """Waves of all directions with heights that fall with their length; a sum of 24, from the seed.

    Returns first x, first y, spacing in x and in y (m) and heights (rows, columns), m.
    """
    generator = stream(terrain.seed, "rough ground")
    columns = max(2, round(terrain.size[0] / terrain.spacing) + 1)
    rows = 1 if terrain.along_only else max(2, round(terrain.size[1] / terrain.spacing) + 1)
    x = (np.arange(columns) - (columns - 1) / 2) * terrain.spacing
    y = (np.arange(rows) - (rows - 1) / 2) * terrain.spacing
    heights = np.zeros((rows, columns))
    for k in range(24):
        length = terrain.wavelength * 0.25 ** (k / 23)
        turn = 0.0 if terrain.along_only else generator.uniform(0.0, math.pi)
        wave = 2.0 * math.pi / length
        phase = generator.uniform(0.0, 2.0 * math.pi)
        heights += length * np.cos(wave * (math.cos(turn) * x[None, :] + math.sin(turn) * y[:, None]) + phase)
    heights *= 0.5 / max(float(np.sqrt((heights**2).mean())), 1e-12)
    far = np.hypot(x[None, :], y[:, None] * (0.0 if terrain.along_only else 1.0)) - terrain.flat_start
    blend = np.clip(far / max(terrain.wavelength / 2, 1e-9), 0.0, 1.0)
    heights *= blend * blend * (3.0 - 2.0 * blend) * terrain.height * share
    return float(x[0]), float(y[0]), terrain.spacing, terrain.spacing, heights + terrain.level


def wall_pieces(wall: Wall) -> list[tuple[Shape, Array, Array]]:
    """A wall as upright boxes: shape, rotation, place."""
    points = [*wall.points, wall.points[0]] if wall.closed else list(wall.points)
    pieces = []
    for (x0, y0), (x1, y1) in itertools.pairwise(points):
        length = math.hypot(x1 - x0, y1 - y0)
        if length < 1e-6:
            continue
        shape = Shape(kind="box", size=(length + wall.thickness, wall.thickness, wall.height), surface=wall.surface)
        at = np.array([(x0 + x1) / 2, (y0 + y1) / 2, wall.base + wall.height / 2])
        pieces.append((shape, rotation(0.0, 0.0, math.atan2(y1 - y0, x1 - x0)), at))
    return pieces


def stake_pieces(course: Course, line: Track) -> list[tuple[Shape, Array, Array]]:
    """Stakes at both sides of a course: shape, attitude (3, 3) and place (3,) each."""
    stakes = course.stakes
    assert stakes is not None
    shape = Shape(kind="cylinder", size=(stakes.radius, stakes.height), wash="plain")
    pieces = []
    for s in np.arange(0.0, line.along[-1], stakes.spacing):
        place, direction = point_at(line, float(s))
        for side in (-1.0, 1.0):
            at = place + side * (course.width / 2 + stakes.gap) * np.array([-direction[1], direction[0]])
            if np.hypot(*(line.points - at).T).min() > 0.6 * course.width / 2:  # not where the course comes back
                pieces.append((shape, np.eye(3), np.array([*at, stakes.height / 2])))
    return pieces


def point_at(line: Track, s: float) -> tuple[Array, Array]:
    """Place (2,), m, and direction (2,) at an arc length in m."""
    k = int(np.clip(np.searchsorted(line.along, s, side="right") - 1, 0, len(line.along) - 2))
    step = line.points[k + 1] - line.points[k]
    length = line.along[k + 1] - line.along[k]
    return line.points[k] + step * (s - line.along[k]) / length, step / length


def track(course: Course) -> Track:
    """The line of a course; a made one starts at the origin along x and keeps clear of itself."""
    points = np.array(course.points, dtype=float) if course.seed is None else made_course(course)
    if course.closed:
        points = np.vstack([points, points[:1]])
    lengths = np.hypot(*np.diff(points, axis=0).T)
    keep = np.concatenate([[True], lengths > 1e-9])
    points = points[keep]
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
    return Track(points, along, course.closed, course.width, np.array(course.gates, dtype=float).reshape(-1, 2))


def made_course(course: Course, step: float = 0.5) -> Array:
    """A line (points, 2), m, of smoothly changing bends, from the seed; tried again until it stays clear of itself."""
    count = max(2, math.ceil(course.length / step))
    # looking for where a line comes back grows with the square of its length
    for attempt in range(int(np.clip(2e8 / count**2, 5, 200))):
        generator = stream(int(course.seed or 0), f"course {attempt}")
        knots = max(2, math.ceil(course.length / (1.5 * course.tightest)) + 1)
        bends = generator.uniform(-1.0, 1.0, knots) * course.difficulty / course.tightest
        bends[0] = 0.0
        bend = np.interp(np.linspace(0, knots - 1, count), np.arange(knots), bends)
        heading = np.concatenate([[0.0], np.cumsum(bend * step)])[:-1] + 0.5 * bend * step
        points = np.concatenate(
            [[[0.0, 0.0]], np.cumsum(step * np.stack([np.cos(heading), np.sin(heading)], 1), axis=0)]
        )
        apart = math.ceil(2.0 * course.width / step) + 1
        if all(
            np.hypot(*(points[k + apart :] - points[k]).T).min(initial=np.inf) > 1.6 * course.width
            for k in range(0, len(points), 2)
        ):
            return points
    raise StateError("no course stays clear of itself; try a longer `tightest` or a shorter `length`")
