"""A dimensioned drawing of the machine for the data sheet: outlines of its shapes, its size, and where its sensors sit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics.energy import poses
from plucky_heron.dynamics.shapes import surface_triangles
from plucky_heron.handover.text import plain_text
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.urdf import rotation
from plucky_heron.task.problem import Problem
from plucky_heron.units import show

Array = np.ndarray

WIDTH, HEIGHT, MARGIN = 640.0, 400.0, 70.0
VIEWS = {"side view": (0, 2), "from above": (0, 1), "from the front": (1, 2)}
"""The axes of the site that go to the right and up."""


@dataclass(frozen=True)
class Mounted:
    """A sensor on a body: its place in the body's own axes, and in those of the site in the start pose; m."""

    number: int
    name: str
    kind: str
    body: str
    own: tuple[float, float, float]
    site: tuple[float, float, float]


def mounted_sensors(problem: Problem) -> list[Mounted]:
    """Where the sensors sit, in the order of the machine; those of a joint sit in it."""
    machine, frames = problem.machine, poses(problem.machine, problem.model.pose(problem.model.start))
    found: list[Mounted] = []
    for name, sensor in machine.sensors.items():
        body = sensor.body if sensor.body is not None else machine.joints[str(sensor.joint)].child
        at = np.array(sensor.at, dtype=float)
        place = frames[body] @ np.append(at, 1.0)
        found.append(Mounted(len(found) + 1, name, sensor.kind, body, _three(at), _three(place)))
    return found


def sketch(problem: Problem, sensors: Sequence[Mounted]) -> str:
    """An SVG picture of the machine in its start pose, in the view in which it is largest.

    Only numbers and names in the plain alphabet stand in it.
    """
    outlines = _outlines(problem.machine, poses(problem.machine, problem.model.pose(problem.model.start)))
    if not outlines:
        return ""
    points = np.concatenate(outlines)
    spans = points.max(axis=0) - points.min(axis=0)
    view = max(VIEWS, key=lambda name: (spans[list(VIEWS[name])].prod(), name == "side view"))
    axes = list(VIEWS[view])
    low, high = points[:, axes].min(axis=0), points[:, axes].max(axis=0)
    size = np.maximum(high - low, 1e-6)
    scale = min((WIDTH - 2 * MARGIN) / size[0], (HEIGHT - 2 * MARGIN) / size[1])
    middle = 0.5 * (low + high)

    def place(point: Array) -> tuple[float, float]:
        x, y = (point[axes] - middle) * scale
        return WIDTH / 2 + float(x), HEIGHT / 2 - float(y)

    lines = [
        f'<svg viewBox="0 0 {WIDTH:g} {HEIGHT:g}" role="img" aria-label="{view} of the machine in its start pose">'
    ]
    for outline in outlines:
        ring = " ".join(f"{x:.1f},{y:.1f}" for x, y in map(place, outline[_ring(outline[:, axes])]))
        lines.append(f'<polygon class="body" points="{ring}"/>')
    left, right = WIDTH / 2 - size[0] * scale / 2, WIDTH / 2 + size[0] * scale / 2
    top, bottom = HEIGHT / 2 - size[1] * scale / 2, HEIGHT / 2 + size[1] * scale / 2
    lines += _dimension((left, bottom + 28), (right, bottom + 28), show(float(size[0]), "m"), upright=False)
    lines += _dimension((left - 28, top), (left - 28, bottom), show(float(size[1]), "m"), upright=True)
    for one in sensors:
        x, y = place(np.array(one.site))
        lines.append(f'<circle class="sensor" cx="{x:.1f}" cy="{y:.1f}" r="8"/><text class="number" x="{x:.1f}" y="{y + 4:.1f}">{one.number}</text>')  # fmt: skip
    right_axis, up_axis = ("xyz"[a] for a in axes)
    lines.append(f'<text class="view" x="12" y="20">{view}, {right_axis} to the right, {up_axis} up</text></svg>')
    return "\n".join(lines)


def _outlines(machine: Machine, frames: dict[str, Array]) -> list[Array]:
    """Corners (k, 3) of each shape in the axes of the site."""
    found = []
    for name, body in machine.bodies.items():
        for shape in body.shapes:
            corners = np.unique(surface_triangles(shape).reshape(-1, 3).round(9), axis=0)
            placed = corners @ rotation(*shape.turn).T + np.array(shape.at)
            found.append(placed @ frames[name][:3, :3].T + frames[name][:3, 3])
    return found


def _ring(points: Array) -> Array:
    """Indices of the corners of the convex hull of points (k, 2), in order; all of them where they lie in a line."""
    from scipy.spatial import ConvexHull, QhullError

    try:
        return np.asarray(ConvexHull(points).vertices)
    except QhullError:
        return np.arange(len(points))


def _dimension(start: tuple[float, float], end: tuple[float, float], text: str, upright: bool) -> list[str]:
    """A line between two marks, with its length in words."""
    (x, y), (u, v) = start, end
    marks = [(x - 5, y, x + 5, y), (u - 5, v, u + 5, v)] if upright else [(x, y - 5, x, y + 5), (u, v - 5, u, v + 5)]
    lines = [f'<path class="dimension" d="M{a:.1f} {b:.1f}L{c:.1f} {d:.1f}"/>' for a, b, c, d in [(x, y, u, v), *marks]]
    at = (x - 8, (y + v) / 2) if upright else ((x + u) / 2, y + 18)
    turn = f' transform="rotate(-90 {at[0]:.1f} {at[1]:.1f})"' if upright else ""
    return [*lines, f'<text class="length" x="{at[0]:.1f}" y="{at[1]:.1f}"{turn}>{plain_text(text)}</text>']


def _three(values: Array) -> tuple[float, float, float]:
    x, y, z = (round(float(v), 6) + 0.0 for v in values[:3])
    return x, y, z
