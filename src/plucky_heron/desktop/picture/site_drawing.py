"""The drawing of a site's sheet: marks, solids, walls, courses, gates and the ground are taken hold of by their points."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.picture.projection import VIEWS, Frame, round_length
from plucky_heron.desktop.theme import font, theme
from plucky_heron.machine.site import Site
from plucky_heron.task.problem import Problem

Array = np.ndarray
Key = tuple[str | int, ...]

_NEAR = 9.0
_STARTS = 4.0
"""Pixels the mouse goes before a click becomes a drag."""
_ARROWS = {
    Qt.Key.Key_Left: (-1.0, 0.0), Qt.Key.Key_Right: (1.0, 0.0), Qt.Key.Key_Up: (0.0, 1.0), Qt.Key.Key_Down: (0.0, -1.0),
}  # fmt: skip


@dataclass(frozen=True)
class SitePoint:
    """A point that can be dragged.

    Attributes
    ----------
    key
        Of its coordinates in the file.
    place : (3,)
        In the world, m.
    axes
        Which of x, y and z its coordinates are, in their order.
    """

    key: Key
    place: tuple[float, float, float]
    axes: tuple[int, ...]

    @property
    def entry(self) -> Key:
        """The entry of the file that it belongs to; () where it stands among the keys of the whole."""
        return self.key[:2] if self.key[0] in ("solids", "walls", "courses") else ()

    @property
    def words(self) -> str:
        """What it is, for people."""
        number = f" {int(self.key[-1]) + 1}" if isinstance(self.key[-1], int) else ""
        part = {"points": " point", "gates": " gate"}.get(str(self.key[-2]), "") if len(self.key) > 3 else ""
        name = str(self.key[0] if self.key[0] in ("ground", "terrain") else self.key[1])
        return f"{name}{part}{number}"


def points_of(site: Site) -> list[SitePoint]:
    """All points of a site that stand in its file."""
    found = [SitePoint(("marks", name), point, (0, 1, 2)) for name, point in site.marks.items()]
    found += [SitePoint(("solids", name, "at"), shape.at, (0, 1, 2)) for name, shape in site.solids.items()]
    lines = [("walls", name, "points", wall.points, wall.base) for name, wall in site.walls.items()]
    lines += [("courses", name, "points", course.points, 0.0) for name, course in site.courses.items()]
    lines += [("courses", name, "gates", course.gates, 0.0) for name, course in site.courses.items()]
    for kind, name, part, points, height in lines:
        found += [SitePoint((kind, name, part, k), (x, y, height), (0, 1)) for k, (x, y) in enumerate(points)]
    found += [SitePoint(("ground", k), (x, 0.0, z), (0, 2)) for k, (x, z) in enumerate(site.ground)]
    if site.terrain is not None and site.terrain.kind == "profile":
        found += [
            SitePoint(("terrain", "points", k), (x, 0.0, z), (0, 2)) for k, (x, z) in enumerate(site.terrain.points)
        ]
    return found


class SiteDrawing(Drawing):
    """The drawing with the site's points as handles.

    Signals
    -------
    moved(object, object)
        A point was dragged or moved by arrow keys: the point, and its coordinates as the file has them.
    chosen(object)
        A point was clicked.
    set_down(object, bool)
        Double-click on a free place: where (3), in the plane of the view, and whether with Shift.
    removed(object)
        Delete was typed at a point.
    """

    moved = Signal(object, object)
    chosen = Signal(object)
    set_down = Signal(object, bool)
    removed = Signal(object)

    def __init__(self) -> None:
        super().__init__(None)
        self.points: Sequence[SitePoint] = ()
        self.at: Key = ()
        """The chosen entry of the file; its points are filled."""
        self.point: Key = ()
        """The chosen point."""
        self._pressed: QPointF | None = None
        self._held: SitePoint | None = None
        self._mouse = QPointF()
        self._dragging = False
        self._bounds: dict[str, tuple[float, float, float, float]] = {}
        self.setAccessibleName("drawing of the site")
        self.setMinimumSize(260, 200)
        self.setMouseTracking(True)

    def set_problem(self, problem: Problem) -> None:
        """Show a problem's site; the view stays."""
        first, view = self.scene is None, self.view
        super().set_problem(problem)
        if not first:
            self.view = view
        self.points = points_of(problem.site)
        self._bounds = {}
        if first and any(p.axes == (0, 1) for p in self.points):
            self.view = "top"
        self.update()

    def hint(self) -> str:
        """What can be done here."""
        return "drag a point; double-click sets one" if self.width() > 380 else ""

    def frame(self) -> Frame:
        """A transform that has all points in sight besides the machine."""
        if self._fixed is not None:
            return self._fixed
        assert self.scene is not None
        if self.view not in self._bounds:
            left, right, low, high = self.scene.extent(self.view)
            if self.points:
                flat = np.array([p.place for p in self.points]) @ VIEWS[self.view][:2].T
                room = 0.08 * float(np.ptp(flat, axis=0).max()) + 0.5
                left, low = np.minimum((left, low), flat.min(axis=0) - room).tolist()
                right, high = np.maximum((right, high), flat.max(axis=0) + room).tolist()
            self._bounds[self.view] = left, right, low, high
        left, right, low, high = self._bounds[self.view]
        scale = min(self.width() / (right - left), (self.height() - 30) / (high - low)) * self.zoom
        centre = ((left + right) / 2 + self.shift[0], (low + high) / 2 + self.shift[1] + 10 / scale)
        return Frame(centre, scale, self.width(), self.height(), self.view)

    def grain(self) -> float:
        """What places are rounded to, m: about three pixels."""
        return round_length(3.0 / self.frame().scale)

    def seen(self) -> list[SitePoint]:
        """Points that can be taken hold of in this view: not those whose coordinates all point to the eye or away."""
        flat = {"top": (0, 1), "side": (0, 2), "end": (1, 2)}.get(self.view, ())
        return [p for p in self.points if set(p.axes) & set(flat)]

    def paintEvent(self, event: QPaintEvent) -> None:
        """The scene, its points, and what is being dragged."""
        super().paintEvent(event)
        if self.scene is None:
            return
        painter, t, frame = QPainter(self), theme(), self.frame()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for point in self.seen():
            at = frame.place(np.array(point.place))
            mine = bool(point.entry) and point.entry == self.at[:2]
            painter.setPen(QPen(t.color("reed"), 2.0 if point.key == self.point else 1.3))
            painter.setBrush(t.color("reed", 0.45) if mine else t.color("card"))
            size = 6.0 if point.key == self.point else 4.5
            if point.key[-2:-1] == ("gates",):
                painter.drawRect(int(at.x() - size), int(at.y() - size), int(2 * size), int(2 * size))
            else:
                painter.drawEllipse(at, size, size)
        if self._dragging and self._held is not None:
            start, end = frame.place(np.array(self._held.place)), frame.place(self._target(self._held))
            painter.setPen(QPen(t.color("reed"), 1.5, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawLine(start, end)
            painter.drawEllipse(end, 6.0, 6.0)
            painter.setFont(font(12, bold=True))
            painter.setPen(t.color("ink"))
            place = self._target(self._held)
            text = ", ".join(f"{'xyz'[a]} {place[a]:.4g} m" for a in self._held.axes)
            painter.drawText(end + QPointF(10, -8), text.replace("-", "−"))

    def point_at(self, place: QPointF) -> SitePoint | None:
        """The nearest point within reach of a place on the screen."""
        if self.scene is None:
            return None
        frame, best, least = self.frame(), None, _NEAR
        for point in self.seen():
            away = frame.place(np.array(point.place)) - place
            far = float(np.hypot(away.x(), away.y()))
            if far <= least:
                best, least = point, far
        return best

    def _world(self, way: QPointF) -> Array:
        """A way on the screen in metres of the world, in the plane of the view."""
        scale = self.frame().scale
        right, up, _ = VIEWS[self.view]
        return np.asarray((way.x() * right - way.y() * up) / scale)

    def _moved_by(self, point: SitePoint, way: Array) -> Array:
        place, grain = np.array(point.place), self.grain()
        for axis in point.axes:
            if abs(way[axis]) > 1e-12:  # a coordinate that is not seen stays as it was typed
                place[axis] = round((place[axis] + way[axis]) / grain) * grain
        return place

    def _target(self, point: SitePoint) -> Array:
        assert self._pressed is not None
        return self._moved_by(point, self._world(self._mouse - self._pressed))

    def _tell(self, point: SitePoint, place: Array) -> None:
        self.moved.emit(point, [f"{place[a] + 0.0:.6g} m" for a in point.axes])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of a point."""
        if event.button() == Qt.MouseButton.LeftButton and (found := self.point_at(event.position())) is not None:
            self._held, self._pressed, self._mouse = found, event.position(), event.position()
            self.point = found.key
            self._fixed = self.frame()
            self.chosen.emit(found)
            self.update()
            return
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag it, or say what is under the mouse."""
        if self._held is None or self._pressed is None:
            found = self.point_at(event.position())
            self.setToolTip(found.words if found is not None else "")
            super().mouseMoveEvent(event)
            return
        self._mouse = event.position()
        way = self._mouse - self._pressed
        self._dragging = self._dragging or float(np.hypot(way.x(), way.y())) >= _STARTS
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Set it down."""
        held, dragging, self._held, self._fixed, self._dragging = self._held, self._dragging, None, None, False
        if held is not None and dragging and self._pressed is not None:
            self._mouse = event.position()
            self._tell(held, self._target(held))
        self._pressed = None
        super().mouseReleaseEvent(event)
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """A new point for the chosen line, with Shift a gate."""
        if self.scene is None or self.point_at(event.position()) is not None:
            return
        frame, grain = self.frame(), self.grain()
        x = frame.centre[0] + (event.position().x() - frame.width / 2) / frame.scale
        y = frame.centre[1] - (event.position().y() - frame.height / 2) / frame.scale
        right, up, _ = VIEWS[self.view]
        place = np.round((x * right + y * up) / grain) * grain
        self.set_down.emit(place, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows move the chosen point by a grain, V turns the view, page keys go from point to point."""
        key, seen = Qt.Key(event.key()), self.seen()
        chosen = next((p for p in seen if p.key == self.point), None)
        if key in _ARROWS and chosen is not None and self.scene is not None:
            right, up, _ = VIEWS[self.view]
            across, upwards = _ARROWS[key]
            self._tell(chosen, self._moved_by(chosen, self.grain() * (across * right + upwards * up)))
        elif key in (Qt.Key.Key_PageDown, Qt.Key.Key_PageUp) and seen:
            at = seen.index(chosen) if chosen is not None else -1 if key == Qt.Key.Key_PageDown else 0
            found = seen[(at + (1 if key == Qt.Key.Key_PageDown else -1)) % len(seen)]
            self.point = found.key
            self.chosen.emit(found)
        elif key == Qt.Key.Key_Delete and chosen is not None:
            self.point = ()
            self.removed.emit(chosen)
        elif key == Qt.Key.Key_V:
            self.next_view()
        else:
            super().keyPressEvent(event)
            return
        self.update()


__all__ = ["SiteDrawing", "SitePoint", "points_of"]
