"""What a task means, on the drawing: zones, gates passed and to come, the goal, and what is wanted from outside."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from plucky_heron.desktop.picture.projection import VIEWS, Array, Frame, along, draw_arrow, outline_points
from plucky_heron.desktop.theme import font, theme
from plucky_heron.formula.parsing import Node
from plucky_heron.simulation.gates import gate_places
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem

_GATES_AHEAD = 4


def ending_lines(problem: Problem) -> list[tuple[str, str, int, float]]:
    """Endings that lie at a place: name, kind, axis (0 x, 1 y, 2 z), metres; found in comparisons of a body's place with a number."""
    found: list[tuple[str, str, int, float]] = []
    for (name, ending), formula in zip(problem.task.endings.items(), problem.endings, strict=True):
        waiting = [formula.root]
        while waiting:
            node = waiting.pop()
            if node.op == "or":
                waiting += node.args
            elif node.op in ("<", "<=", ">", ">="):
                found += [(name, ending.kind, axis, at) for axis, at in _places(problem, *node.args)]
    return found


def _places(problem: Problem, left: Node, right: Node) -> list[tuple[int, float]]:
    if left.op == "number":
        left, right = right, left
    both = left.op == "abs"
    signal = left.args[0] if both else left
    body, _, axis = signal.name.rpartition(".")
    if right.op == "negative" and right.args[0].op == "number":
        value = -right.args[0].value
    elif right.op == "number":
        value = right.value
    else:
        return []
    if signal.op != "signal" or body not in problem.machine.bodies or axis not in ("x", "y", "z"):
        return []
    return [("xyz".index(axis), sign * value) for sign in ((1.0, -1.0) if both and value else (1.0,))]


class TaskScene:
    """Painter of one task's meaning."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        gates = problem.task.gates
        self.gates = [gate_places(gates, track) for track in problem.surroundings.tracks] if gates is not None else []
        self.lines = ending_lines(problem)
        self.zones: list[tuple[str, Array]] = []
        for name, zone in problem.task.zones.items():
            self.zones.append((name, outline_points(zone)))

    def paint(self, painter: QPainter, frame: Frame, recording: Recording | None, index: int, scene: int) -> None:
        """Below the machine: zones and gates."""
        t = theme()
        painter.setFont(font(11))
        for name, points in self.zones:
            outline = frame.hull(points)
            painter.setPen(QPen(t.color("reed"), 1.2, Qt.PenStyle.DashLine))
            painter.setBrush(t.color("reed", 0.1))
            painter.drawPolygon(outline)
            painter.setPen(t.color("soft"))
            painter.drawText(outline.boundingRect().topLeft() + QPointF(4, -3), name.replace("_", " "))
        self._lines(painter, frame)
        if self.gates:
            passed = 0
            if recording is not None and recording.passed is not None:
                passed = int(recording.passed[min(index, len(recording.passed) - 1)])
            self._gates(painter, frame, self.gates[min(scene, len(self.gates) - 1)], passed)

    def _lines(self, painter: QPainter, frame: Frame) -> None:
        """Where endings lie, as broken lines across the view."""
        t = theme()
        right, up, _ = VIEWS[frame.view]
        for name, kind, axis, at in self.lines:
            place = np.zeros(3)
            place[axis] = at
            point = frame.place(place)
            painter.setPen(QPen(t.color("rust" if kind == "failure" else "moss"), 1.2, Qt.PenStyle.DashDotLine))
            if abs(right[axis]) > 0.99:
                painter.drawLine(QPointF(point.x(), 0), QPointF(point.x(), frame.height))
                words = QPointF(point.x() + 4, frame.height - 34)
            elif abs(up[axis]) > 0.99:
                painter.drawLine(QPointF(0, point.y()), QPointF(frame.width, point.y()))
                words = QPointF(frame.width - 12 - painter.fontMetrics().horizontalAdvance(name), point.y() - 4)
            else:
                continue
            painter.setPen(t.color("soft"))
            painter.drawText(words, name)

    def _gates(self, painter: QPainter, frame: Frame, lap: Array, passed: int) -> None:
        t = theme()
        gates = self.problem.task.gates
        assert gates is not None
        total = len(lap) * gates.laps
        radius = gates.radius * frame.scale
        for number in range(len(lap)):
            at = frame.place(lap[number])
            ahead = (number - passed) % len(lap) if passed < total else len(lap)
            done = passed >= total or (passed + ahead >= total)
            if gates.laps == 1:
                done = number < passed
            if done:
                painter.setPen(QPen(t.color("moss"), 1.6))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawPolyline(QPolygonF([at + QPointF(-5, 0), at + QPointF(-1.5, 4), at + QPointF(6, -5)]))
                continue
            following = ahead == 0
            painter.setPen(
                QPen(
                    t.color("reed"),
                    2.0 if following else 1.0,
                    Qt.PenStyle.SolidLine if following else Qt.PenStyle.DotLine,
                )
            )
            painter.setBrush(t.color("reed", 0.12) if following else Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, radius, radius)
            if ahead < _GATES_AHEAD:
                painter.setPen(t.color("ink"))
                lap_text = f" of {total}" if following else ""
                painter.drawText(
                    QRectF(at.x() - 40, at.y() - 8, 80, 16),
                    Qt.AlignmentFlag.AlignCenter,
                    f"{passed + ahead + 1}{lap_text}",
                )

    def paint_wishes(self, painter: QPainter, frame: Frame, recording: Recording, index: int, body: Array) -> None:
        """Above the machine: set-points of speed as an arrow, of turning as an arc, where the policy is given them."""
        problem = self.problem
        given = {}
        for k, entry in enumerate(problem.entries):
            name = entry.formula
            if name in problem.task.setpoints and entry.shape == "value" and k < recording.observations.shape[1]:
                given[problem.task.setpoints[name].unit] = float(
                    recording.observations[min(index, len(recording.observations) - 1), k]
                )
        t = theme()
        at = frame.place(body[:3, 3])
        if "m/s" in given and abs(given["m/s"]) > 1e-3:
            ahead = frame.place(body[:3, 3] + body[:3, 0]) - at
            size = float(np.hypot(ahead.x(), ahead.y())) or 1.0
            most = max(abs(e.high) for e in problem.entries if e.formula in problem.task.setpoints and e.si == "m/s")
            end = at + along(ahead, 70.0 * given["m/s"] / most / size)
            draw_arrow(painter, at, end, t.color("reed"))
            painter.setFont(font(12, bold=True))
            painter.setPen(t.color("ink"))
            painter.drawText(end + QPointF(8, -4), f"wanted {given['m/s']:+.2f} m/s".replace("-", "−"))
        if "rad/s" in given and frame.view in ("top", "free") and abs(given["rad/s"]) > 1e-3:
            painter.setPen(QPen(t.color("reed"), 1.8))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            span = int(np.degrees(np.clip(given["rad/s"], -3.0, 3.0)) * 16)
            heading = int(np.degrees(np.arctan2(body[1, 0], body[0, 0])) * 16)
            painter.drawArc(QRectF(at.x() - 58, at.y() - 58, 116, 116), heading, span)
