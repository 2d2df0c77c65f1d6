"""The scene: a machine and its site in pen and wash, projected and painted with QPainter alone.

It paints into any painter, so the same code serves the window and a picture without one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen, QPolygonF

from plucky_heron.desktop.theme import font, theme
from plucky_heron.dynamics.energy import poses
from plucky_heron.machine.schema import GROUND, Shape
from plucky_heron.machine.urdf import rotation
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem
from plucky_heron.units import pretty_unit

Array = np.ndarray

VIEWS = {"side": (0, 2), "end": (1, 2), "top": (0, 1)}
"""World axes that run to the right and upwards."""


def outline_points(shape: Shape) -> Array:
    """Points (k, 3) whose convex hull is the shape, in the body's axes."""
    s = shape.size
    turn = np.linspace(0.0, 2.0 * np.pi, 24, endpoint=False)
    circle = np.stack([np.cos(turn), np.sin(turn)], axis=1)
    if shape.kind == "box":
        points = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * np.array(s) / 2
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
    return points @ rotation(*shape.turn).T + np.array(shape.at)


@dataclass
class Frame:
    """From metres to pixels."""

    centre: tuple[float, float]
    scale: float
    width: float
    height: float

    def at(self, x: float, y: float) -> QPointF:
        """World point on the screen."""
        return QPointF(
            self.width / 2 + (x - self.centre[0]) * self.scale, self.height / 2 - (y - self.centre[1]) * self.scale
        )


class Scene:
    """Paints one problem: site, machine, target, overlays."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        machine = problem.machine
        self._points = {
            body: [(shape, outline_points(shape)) for shape in part.shapes] for body, part in machine.bodies.items()
        }
        self.outlines: dict[str, list[QPolygonF]] = {}

    def extent(self, view: str) -> tuple[float, float, float, float]:
        """What should be in sight: left, right, bottom, top, in metres."""
        machine, site = self.problem.machine, self.problem.site
        right, up = VIEWS[view]
        points = [np.zeros(3)]
        start = {j: machine.joints[j].start for j in self.problem.model.joints}
        for j in self.problem.model.joints:
            for value in machine.joints[j].limits or (start[j],):
                points += [
                    frame[:3, 3] for frame in poses(machine, {**start, j: float(np.clip(value, -20, 20))}).values()
                ]
        if site.portal is not None:
            points += [np.array([site.portal[0], 0, 0]), np.array([site.portal[1], 0, site.portal[2] + 1.0])]
        spread = np.array(points)
        low, high = spread.min(axis=0), spread.max(axis=0)
        return float(low[right]) - 0.8, float(high[right]) + 0.8, float(low[up]) - 0.9, float(high[up]) + 0.6

    def paint_site(self, painter: QPainter, frame: Frame, view: str) -> None:
        """Grid, water, ground and portal."""
        t = theme()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, right = (frame.centre[0] - frame.width / 2 / frame.scale, frame.centre[0] + frame.width / 2 / frame.scale)
        low, high = (frame.centre[1] - frame.height / 2 / frame.scale, frame.centre[1] + frame.height / 2 / frame.scale)
        painter.setPen(QPen(t.color("faint"), 1))
        step = 1.0 if frame.scale > 24 else 2.0 if frame.scale > 12 else 5.0
        for x in np.arange(np.ceil(left / step) * step, right, step):
            painter.drawLine(frame.at(x, low), frame.at(x, high))
        for y in np.arange(np.ceil(low / step) * step, high, step):
            painter.drawLine(frame.at(left, y), frame.at(right, y))
        if view == "top":
            return
        site = self.problem.site
        if site.water_level is not None:
            self._water(painter, frame, left, right, site.water_level)
        if view == "side":
            if site.ground:
                self._ground(painter, frame, [(x, z) for x, z in site.ground])
            if site.portal is not None:
                self._portal(painter, frame, *site.portal)

    def _water(self, painter: QPainter, frame: Frame, left: float, right: float, level: float) -> None:
        painter.setPen(QPen(theme().color("water"), 1.2))
        for depth, size in ((0.0, 0.05), (0.35, 0.035), (0.7, 0.02)):
            xs = np.linspace(left, right, 90)
            ys = level - depth + size * np.sin(xs * 2.1 + depth * 7)
            painter.drawPolyline(QPolygonF([frame.at(x, y) for x, y in zip(xs, ys, strict=True)]))

    def _ground(self, painter: QPainter, frame: Frame, outline: list[tuple[float, float]]) -> None:
        t = theme()
        shape = QPolygonF([frame.at(x, z) for x, z in outline])
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("sand"))
        painter.drawPolygon(shape)
        painter.save()
        path = QPainterPath()
        path.addPolygon(shape)
        painter.setClipPath(path)
        painter.setPen(QPen(t.color("rule"), 1.2))
        box = shape.boundingRect()
        for x in np.arange(box.left() - box.height(), box.right(), 11.0):
            painter.drawLine(QPointF(x, box.top() + 12), QPointF(x + 12, box.top()))
        painter.restore()
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(shape)

    def _portal(self, painter: QPainter, frame: Frame, left: float, right: float, height: float) -> None:
        t = theme()
        foot = {left: 0.6, right: -0.9}
        painter.setPen(QPen(t.color("ink"), 1.8))
        for x, lean in ((left, -0.25), (right, 0.25)):
            painter.drawLine(frame.at(x, height), frame.at(x + lean, foot[x]))
            painter.drawLine(
                frame.at(x - np.sign(lean) * 0.35, height - 0.1), frame.at(x + lean - np.sign(lean) * 0.2, foot[x])
            )
        beam = QRectF(frame.at(left - 0.1, height + 0.02), frame.at(right + 0.1, height - 0.16))
        painter.setBrush(t.color("card"))
        painter.drawRect(beam)
        painter.setPen(QPen(t.color("rule"), 1))
        for x in np.arange(beam.left() + 8, beam.right() - 4, 16.0):
            painter.drawLine(QPointF(x, beam.bottom() - 1), QPointF(x + 6, beam.top() + 1))

    def paint_machine(
        self, painter: QPainter, frame: Frame, view: str, position: Array, *, ghost: bool = False, selected: str = ""
    ) -> None:
        """All bodies; a ghost is only a faint outline. Outlines are kept for finding what was clicked."""
        t, machine = theme(), self.problem.machine
        right, up = VIEWS[view]
        frames = poses(machine, self.problem.model.pose(position))
        pen = t.color("heron", 0.7) if ghost else t.color("ink")
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for joint in machine.joints.values():
            if joint.kind == "slider" and joint.parent != GROUND:
                self._cable(
                    painter, frame, frames[joint.parent][[right, up], 3], frames[joint.child][[right, up], 3], pen
                )
        found: dict[str, list[QPolygonF]] = {}
        for body, shapes in self._points.items():
            found[body] = []
            for shape, points in shapes:
                placed = points @ frames[body][:3, :3].T + frames[body][:3, 3]
                outline = _hull(placed[:, [right, up]], frame)
                found[body].append(outline)
                role = "reed" if body == selected else "heron" if shape.wash == "plain" else shape.wash
                wash = t.color(role, 0.10 if shape.wash == "plain" else 0.3)
                painter.setBrush(Qt.BrushStyle.NoBrush if ghost else t.color("card"))
                painter.setPen(QPen(pen, 1.1 if ghost else 1.6))
                painter.drawPolygon(outline)
                if not ghost:
                    painter.setBrush(wash)
                    painter.drawPolygon(outline)
                if shape.kind == "bucket" and view != "top":
                    self._staves(painter, outline, pen)
        if not ghost:
            self.outlines = found

    def _cable(self, painter: QPainter, frame: Frame, start: Array, end: Array, pen: object) -> None:
        if np.hypot(*(end - start)) < 0.3:
            return
        across = np.array([-(end - start)[1], (end - start)[0]]) / np.hypot(*(end - start)) * 0.05
        painter.setPen(QPen(pen, 1.1))
        for side in (-1, 1):
            painter.drawLine(frame.at(*(start + side * across)), frame.at(*(end + side * across)))

    def _staves(self, painter: QPainter, outline: QPolygonF, pen: object) -> None:
        """Slats of a basket, between its two longest opposite edges."""
        corners = [outline.at(k) for k in range(outline.count())]
        if len(corners) != 4:
            return
        corners.sort(key=lambda p: p.y())
        top, bottom = sorted(corners[:2], key=lambda p: p.x()), sorted(corners[2:], key=lambda p: p.x())
        painter.setPen(QPen(pen, 1))
        for share in (0.25, 0.5, 0.75):
            painter.drawLine(top[0] + (top[1] - top[0]) * share, bottom[0] + (bottom[1] - bottom[0]) * share)

    def paint_overlays(self, painter: QPainter, frame: Frame, view: str, recording: Recording, index: int) -> None:
        """Trail, target with its offset, command arrows and wind."""
        if view == "top":
            return
        t = theme()
        if view == "side":
            self._trail(painter, frame, recording, index)
            self._target(painter, frame, recording, index)
            self._wind(painter, frame, float(recording.wind[index]))
        right, up = VIEWS[view]
        row = max(0, min(index - 1, recording.steps - 1))
        if recording.steps == 0 or index == 0:
            return
        machine = self.problem.machine
        frames = poses(machine, self.problem.model.pose(recording.position[index]))
        painter.setFont(font(12, bold=True))
        for k, action in enumerate(self.problem.task.actions):
            drive = machine.drives[action.drive]
            joint = machine.joints[drive.joint]
            if drive.kind != "effort" or joint.kind != "slider":
                continue
            value, span = (float(recording.commands[row, k]), max(abs(self.problem.low[k]), abs(self.problem.high[k])))
            if abs(value) < 0.005 * span:
                continue
            axis = frames[joint.child][:3, :3] @ np.array(joint.axis)
            at = frames[joint.child][:3, 3]
            length = 1.8 * value / span
            start = frame.at(at[right], at[up] + 0.62)
            end = frame.at(at[right] + axis[right] * length, at[up] + 0.62 + axis[up] * length)
            draw_arrow(painter, start, end, t.color("plum"))
            painter.setPen(t.color("ink"))
            text = f"{value:+.0f} {pretty_unit(self.problem.action_units()[k])}".replace("-", "−")
            painter.drawText(
                QRectF(min(start.x(), end.x()) - 30, start.y() - 22, abs(end.x() - start.x()) + 60, 16),
                Qt.AlignmentFlag.AlignCenter,
                text,
            )

    def _trail(self, painter: QPainter, frame: Frame, recording: Recording, index: int) -> None:
        target = self.problem.task.target
        if target is None or index < 2:
            return
        body = self.problem.machine
        points = []
        for k in range(max(0, index - 200), index + 1, 5):
            place = poses(body, self.problem.model.pose(recording.position[k]))[target.body]
            points.append(frame.at(place[0, 3], place[2, 3]))
        painter.setPen(QPen(theme().color("tide", 0.8), 1.3, Qt.PenStyle.DotLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF(points))

    def _target(self, painter: QPainter, frame: Frame, recording: Recording, index: int) -> None:
        t = theme()
        x, z = (float(v) for v in recording.target[index])
        target = self.problem.task.target
        if target is None or not np.isfinite([x, z]).all():
            return
        at = frame.at(x, z)
        painter.setPen(QPen(t.color("reed"), 1.4, Qt.PenStyle.DashLine))
        top = self.problem.site.portal[2] if self.problem.site.portal else z + 2.0
        painter.drawLine(at, frame.at(x, top - 0.3))
        painter.setPen(QPen(t.color("reed"), 1.8))
        painter.setBrush(t.color("reed", 0.15))
        painter.drawPolygon(QPolygonF([at, at + QPointF(8, 14), at + QPointF(-8, 14)]))
        painter.setPen(t.color("ink"))
        painter.setFont(font(12, bold=True))
        painter.drawText(at + QPointF(12, 14), "mark")
        frames = poses(self.problem.machine, self.problem.model.pose(recording.position[index]))
        body = frames[target.body][:3, 3]
        low = frame.at(0, min(z, float(body[2])) - 1.15).y()
        painter.setPen(QPen(t.color("ink"), 1.1))
        a, b = QPointF(frame.at(body[0], 0).x(), low), QPointF(at.x(), low)
        if abs(a.x() - b.x()) > 5:
            painter.drawLine(a, b)
            for end in (a, b):
                painter.drawLine(end + QPointF(0, -4), end + QPointF(0, 4))
            text = f"offset {body[0] - x:+.2f} m".replace("-", "−")
            painter.drawText(QRectF((a.x() + b.x()) / 2 - 60, low + 3, 120, 16), Qt.AlignmentFlag.AlignCenter, text)

    def _wind(self, painter: QPainter, frame: Frame, speed: float) -> None:
        t = theme()
        at = QPointF(14, 50)
        painter.setPen(QPen(t.color("heron"), 1.3))
        for k in range(3 if abs(speed) > 0.3 else 0):
            y = at.y() + 9 * k
            length = min(90.0, 18 * abs(speed) + 12) - 8 * k
            if length > 4:
                start, end = QPointF(at.x() + 6 * k, y), QPointF(at.x() + 6 * k + length, y)
                if speed < 0:
                    start, end = end, start
                painter.drawLine(start, end)
                painter.drawLine(end, end + QPointF(-6 if speed > 0 else 6, -4))
        painter.setFont(font(12))
        painter.setPen(t.color("ink"))
        painter.drawText(at + QPointF(0, -8), f"wind {speed:+.1f} m/s".replace("-", "−"))


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


def _hull(points: Array, frame: Frame) -> QPolygonF:
    screen = np.array([[p.x(), p.y()] for p in (frame.at(x, y) for x, y in points)])
    return QPolygonF([QPointF(x, y) for x, y in convex_hull(screen)])


def draw_arrow(painter: QPainter, start: QPointF, end: QPointF, color: object) -> None:
    painter.setPen(QPen(color, 2.0))
    painter.drawLine(start, end)
    along = end - start
    size = float(np.hypot(along.x(), along.y()))
    if size < 3:
        return
    unit = along / size
    side = QPointF(-unit.y(), unit.x())
    painter.setBrush(color)
    painter.drawPolygon(QPolygonF([end + unit * 5, end - unit * 4 + side * 4, end - unit * 4 - side * 4]))
