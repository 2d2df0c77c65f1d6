"""How the drawing looks at the world: views, metres to pixels, outlines of projected convex shapes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from plucky_heron.machine.parts import Shape
from plucky_heron.machine.urdf import rotation

Array = np.ndarray


def _free(azimuth: float, elevation: float) -> Array:
    """A view from the right front, above: rows right, up, towards the eye."""
    c, s = math.cos(azimuth), math.sin(azimuth)
    d, e = math.cos(elevation), math.sin(elevation)
    return np.array([[c, s, 0.0], [-s * e, c * e, d], [s * d, -c * d, e]])


VIEWS: dict[str, Array] = {
    "side": np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]),
    "end": np.array([[0.0, 1, 0], [0, 0, 1], [1, 0, 0]]),
    "top": np.array([[1.0, 0, 0], [0, 1, 0], [0, 0, 1]]),
    "free": _free(math.radians(-32.0), math.radians(24.0)),
}
"""Each view as the world directions of right, up and towards the eye."""


@dataclass
class Frame:
    """From metres to pixels."""

    centre: tuple[float, float]
    scale: float
    width: float
    height: float
    view: str = "side"

    def at(self, x: float, y: float) -> QPointF:
        """A point of the view's plane on the screen."""
        return QPointF(
            self.width / 2 + (x - self.centre[0]) * self.scale, self.height / 2 - (y - self.centre[1]) * self.scale
        )

    def place(self, point: Array) -> QPointF:
        """A world point on the screen."""
        right, up, _ = VIEWS[self.view] @ np.asarray(point, dtype=float)
        return self.at(float(right), float(up))

    def polygon(self, points: Array) -> QPolygonF:
        """World points (k, 3) on the screen, in their order."""
        flat = np.asarray(points) @ VIEWS[self.view][:2].T
        return QPolygonF([self.at(float(x), float(y)) for x, y in flat])

    def hull(self, points: Array) -> QPolygonF:
        """Outline of the convex hull of world points (k, 3)."""
        flat = np.asarray(points) @ VIEWS[self.view][:2].T
        screen = np.stack(
            [
                self.width / 2 + (flat[:, 0] - self.centre[0]) * self.scale,
                self.height / 2 - (flat[:, 1] - self.centre[1]) * self.scale,
            ],
            axis=1,
        )
        corners = convex_hull(screen) if len(screen) <= FEW else support_outline(screen)
        return QPolygonF([QPointF(x, y) for x, y in corners.tolist()])

    def bounds(self) -> tuple[float, float, float, float]:
        """What is in sight: left, right, bottom, top, in the view's plane."""
        half, tall = self.width / 2 / self.scale, self.height / 2 / self.scale
        return self.centre[0] - half, self.centre[0] + half, self.centre[1] - tall, self.centre[1] + tall


def round_length(least: float) -> float:
    """The smallest of 1, 2 and 5 times a power of ten that is not below a length; 1 where there is none."""
    if not 0.0 < least < math.inf:
        return 1.0
    power = 10.0 ** math.floor(math.log10(least))
    return next((s * power for s in (1.0, 2.0, 5.0) if s * power > least * (1.0 - 1e-9)), 10.0 * power)


def local_points(shape: Shape) -> Array:
    """Points (k, 3) whose convex hull is the shape, in its own axes."""
    s = shape.size
    turn = np.linspace(0.0, 2.0 * np.pi, 24, endpoint=False)
    circle = np.stack([np.cos(turn), np.sin(turn)], axis=1)
    if shape.kind == "box":
        points = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * np.array(s) / 2
    elif shape.kind == "hull":
        points = np.array(shape.points)
    elif shape.kind == "bucket":
        points = (
            np.array([[x * w, y * w, z] for w, z in ((s[0], s[2]), (s[1], -s[2])) for x in (-1, 1) for y in (-1, 1)])
            / 2
        )
    elif shape.kind == "cylinder":
        points = np.concatenate([np.column_stack([s[0] * circle, np.full(24, z)]) for z in (-s[1] / 2, s[1] / 2)])
    else:
        up = np.linspace(-np.pi / 2, np.pi / 2, 9)
        ball = np.array([[np.cos(b) * c, np.cos(b) * d, np.sin(b)] for b in up for c, d in circle]) * s[0]
        half = s[1] / 2 if shape.kind == "capsule" else 0.0
        points = np.concatenate([ball + np.array([0, 0, half]), ball - np.array([0, 0, half])]) if half else ball
    return np.asarray(points, dtype=float)


def outline_points(shape: Shape) -> Array:
    """Points (k, 3) whose convex hull is the shape, in the body's axes."""
    return np.asarray(local_points(shape) @ rotation(*shape.turn).T + np.array(shape.at))


def faces_of(shape: Shape, points: Array) -> list[Array]:
    """Corner rings (k, 3) of the faces of a box, bucket or cylinder whose placed points are given; else none."""
    if shape.kind in ("box", "bucket"):
        rings = ((0, 1, 3, 2), (4, 5, 7, 6), (0, 1, 5, 4), (2, 3, 7, 6), (0, 2, 6, 4), (1, 3, 7, 5))
        return [points[list(ring)] for ring in rings]
    if shape.kind == "cylinder":
        return [points[:24], points[24:]]
    return []


FEW = 12
"""Points whose hull is looked for corner by corner; of more, such as a ball's, by directions."""
_TURN = np.linspace(0.0, 2.0 * np.pi, 64, endpoint=False)
_DIRECTIONS = np.stack([np.cos(_TURN), np.sin(_TURN)])


def support_outline(points: Array) -> Array:
    """Of points (k, 2) those that are farthest in one of 64 directions, in order: their hull to a thousandth of its size.

    Ten times faster than corner by corner, which a picture of many round shapes needs.
    """
    farthest = np.argmax(points @ _DIRECTIONS, axis=0)
    keep = np.ones(len(farthest), dtype=bool)
    keep[1:] = farthest[1:] != farthest[:-1]
    if farthest[0] == farthest[-1] and keep.sum() > 1:
        keep[-1] = keep[-1] and farthest[-1] != farthest[0]
    return np.asarray(points[farthest[keep]])


def convex_hull(points: Array) -> Array:
    """Corners of the convex hull of points (k, 2), in order (A. M. Andrew's monotone chain, 1979).

    SciPy's does the same, but its package takes a third of a second of the window's start.
    """
    ordered = sorted(map(tuple, points.tolist()))

    def chain(row: list[tuple[float, float]]) -> list[tuple[float, float]]:
        kept: list[tuple[float, float]] = []
        for x, y in row:
            while len(kept) > 1:
                (ax, ay), (bx, by) = kept[-2:]
                if (bx - ax) * (y - ay) - (by - ay) * (x - ax) > 0.0:
                    break
                kept.pop()
            kept.append((x, y))
        return kept[:-1]

    return np.array(chain(ordered) + chain(ordered[::-1]) or ordered[:1])


def along(point: QPointF, share: float) -> QPointF:
    """A vector made `share` times as long."""
    return QPointF(point.x() * share, point.y() * share)


def draw_arrow(painter: QPainter, start: QPointF, end: QPointF, color: QColor) -> None:
    """An arrow with a filled head."""
    painter.setPen(QPen(color, 2.0))
    painter.drawLine(start, end)
    way = end - start
    size = float(np.hypot(way.x(), way.y()))
    if size < 3:
        return
    unit = along(way, 1.0 / size)
    side = QPointF(-unit.y(), unit.x())
    painter.setBrush(color)
    painter.drawPolygon(
        QPolygonF([end + along(unit, 5), end - along(unit, 4) + along(side, 4), end - along(unit, 4) - along(side, 4)])
    )
