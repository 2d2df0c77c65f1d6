"""The drawing of the Machine station: handles size shapes, bodies are dragged to pose or to push, troubles stand where they are."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations, product

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF

from plucky_heron.analysis.machines.facts import mass_and_centre
from plucky_heron.analysis.machines.problems import Trouble
from plucky_heron.desktop.bench.playback import Playback
from plucky_heron.desktop.forms.widgets import draw_mark
from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.picture.handles import Change, Handle, changes, handles_of
from plucky_heron.desktop.picture.projection import VIEWS, Frame, along, draw_arrow, outline_points, round_length
from plucky_heron.desktop.theme import font, theme
from plucky_heron.dynamics.energy import poses
from plucky_heron.dynamics.mass import equal_box, principal
from plucky_heron.dynamics.posing import chain, coordinates_of, following, joint_above, moved, taken, within_stops
from plucky_heron.machine.urdf import rotation
from plucky_heron.units import show

Array = np.ndarray
_NEAR, _RING = 9.0, 8.0
_ROOM_TO_MOVE, _ROOM_TO_SIZE = 110.0, 9.0
_STARTS = 5.0
"""Pixels the mouse goes before a click becomes a drag."""


class MachineDrawing(Drawing):
    """The drawing as editor; without `editing`, only bodies can be pulled, while `pushing`.

    Signals
    -------
    posed()
        `pose` is another one.
    reshaped(list, str)
        Changes of the machine file that a handle was dragged for, and what to call them.
    pulled(str, ndarray, ndarray), released()
        While `pushing`: a body is pulled at a point (its axes) towards a place (world).
    """

    posed = Signal()
    reshaped = Signal(list, str)
    pulled = Signal(str, object, object)
    released = Signal()

    def __init__(self, playback: Playback | None = None, editing: bool = True) -> None:
        super().__init__(playback)
        self.editing = editing
        self.pushing = False
        self.troubles: Sequence[Trouble] = ()
        self._pressed: QPointF | None = None
        self._mouse = QPointF()
        self._held: Handle | None = None
        self._body = ""
        self._point = np.zeros(3)
        self._from: Array = np.zeros(0)
        self._dragging = False
        self.setMouseTracking(True)

    def hint(self) -> str:
        """What can be done here, in a few words."""
        if self.pushing:
            return self.caption or "drag on a body to push it"
        return self.caption or ("drag a body to pose it, with Shift its whole limb" if self.editable else "")

    @property
    def editable(self) -> bool:
        """Whether handles are shown: while nothing plays."""
        free = self.editing and self.scene is not None and not self.pushing
        return free and (self.pose is not None or not self._has_recording())

    def _has_recording(self) -> bool:
        playback = self.playback
        return playback is not None and playback.recording is not None and playback.problem is self._problem()

    def _problem(self) -> object:
        return self.scene.problem if self.scene is not None else None

    # --- what is painted over the scene -----------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """The scene, then centre of mass, handles, troubles, and what is being dragged."""
        super().paintEvent(event)
        if self.scene is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = self.frame()
        frames = self._frames()
        if self.editing:
            self._equal_inertia(painter, frame, frames)
            self._centre_of_mass(painter, frame, frames)
        if self.editable:
            for handle in self._handles():
                self._paint_handle(painter, frame, handle)
            self._troubles(painter, frame, frames)
            if self._dragging and self._held is not None:
                self._preview(painter, frame, frames)
        elif self.pushing and self._dragging and self._body:
            start = frame.place((frames[self._body] @ np.append(self._point, 1.0))[:3])
            draw_arrow(painter, start, self._mouse, theme().color("plum"))

    def _frames(self) -> dict[str, Array]:
        assert self.scene is not None
        problem = self.scene.problem
        return poses(problem.machine, problem.model.pose(self.shown_position()))

    def _handles(self) -> list[Handle]:
        assert self.scene is not None
        machine, frame = self.scene.problem.machine, self.frame()
        if self.selected not in machine.bodies:
            return []
        outlines = self.scene.outlines.get(self.selected, [])
        boxes = [outline.boundingRect() for outline in outlines]
        long = [max(box.width(), box.height()) for box in boxes]
        found = []
        for handle in handles_of(machine, self.selected, self._frames(), VIEWS[self.view][2]):
            if 0 <= handle.shape < len(long):
                # on something small, handles would cover what is dragged to pose it
                if handle.along is None and long[handle.shape] < _ROOM_TO_MOVE:
                    continue
                away = frame.place(handle.at) - boxes[handle.shape].center()
                if handle.along is not None and float(np.hypot(away.x(), away.y())) < _ROOM_TO_SIZE:
                    continue
            found.append(handle)
        return found

    def _centre_of_mass(self, painter: QPainter, frame: Frame, frames: dict[str, Array]) -> None:
        assert self.scene is not None
        total, centre = mass_and_centre(self.scene.problem.machine, frames)
        if total <= 0.0:
            return
        at, t = frame.place(centre), theme()
        painter.setPen(QPen(t.color("ink"), 1.1))
        painter.setBrush(t.color("card"))
        painter.drawEllipse(at, 6.0, 6.0)
        painter.setBrush(t.color("ink"))
        for start in (0, 180):
            painter.drawPie(QRectF(at.x() - 6, at.y() - 6, 12, 12), start * 16, 90 * 16)

    def _equal_inertia(self, painter: QPainter, frame: Frame, frames: dict[str, Array]) -> None:
        """Edges of the solid box that has the chosen body's mass and inertia, about its centre of mass."""
        assert self.scene is not None
        body = self.scene.problem.machine.bodies.get(self.selected)
        if body is None:
            return
        values, turn = principal(body.inertia)
        half = 0.5 * equal_box(body.mass, values)
        if not half.max() > 0.0:
            return
        placed = frames[self.selected]
        axes = placed[:3, :3] @ rotation(*turn)
        middle = placed[:3, :3] @ np.array(body.centre) + placed[:3, 3]
        corners = {signs: middle + axes @ (half * signs) for signs in product((-1.0, 1.0), repeat=3)}
        painter.setPen(QPen(theme().color("moss"), 1.2, Qt.PenStyle.DotLine))
        for (a, one), (b, other) in combinations(corners.items(), 2):
            if sum(x != y for x, y in zip(a, b, strict=True)) == 1:
                painter.drawLine(frame.place(one), frame.place(other))

    def _paint_handle(self, painter: QPainter, frame: Frame, handle: Handle) -> None:
        t, at = theme(), frame.place(handle.at)
        painter.setPen(QPen(t.color("reed"), 1.5))
        painter.setBrush(t.color("card"))
        if handle.index == -2:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, _RING, _RING)
        elif handle.along is None:
            painter.drawLine(at + QPointF(-5, 0), at + QPointF(5, 0))
            painter.drawLine(at + QPointF(0, -5), at + QPointF(0, 5))
        else:  # a blade across the direction in which it moves
            ahead = frame.place(handle.at + handle.along) - at
            size = max(1e-9, float(np.hypot(ahead.x(), ahead.y())))
            unit, across = along(ahead, 1.0 / size), along(QPointF(-ahead.y(), ahead.x()), 1.0 / size)
            painter.drawPolygon(QPolygonF([at - along(across, 5), at + along(unit, 6), at + along(across, 5)]))

    def _troubles(self, painter: QPainter, frame: Frame, frames: dict[str, Array]) -> None:
        assert self.scene is not None
        machine, t = self.scene.problem.machine, theme()
        painter.setFont(font(12))
        taken_rows: list[float] = []
        for trouble in self.troubles:
            body = trouble.name if trouble.kind == "bodies" else None
            if trouble.kind == "joints":
                body = machine.joints[trouble.name].child
            elif trouble.kind == "drives" and machine.drives[trouble.name].on_joint:
                body = machine.joints[str(machine.drives[trouble.name].joint)].child
            if body is None or body not in frames:
                continue
            at = frame.place(frames[body][:3, 3]) + QPointF(0, -22)
            while any(abs(at.y() - y) < 17 for y in taken_rows):
                at -= QPointF(0, 17)
            taken_rows.append(at.y())
            text = f"{trouble.name.replace('_', ' ')}: {trouble.text}"
            width = painter.fontMetrics().horizontalAdvance(text) + 30
            left = min(max(4.0, at.x() - 9), self.width() - width - 4.0)
            painter.setPen(QPen(t.color("rule"), 1))
            painter.setBrush(t.color("card", 0.92))
            painter.drawRoundedRect(QRectF(left, at.y() - 9, width, 18), 4, 4)
            draw_mark(painter, QPointF(left + 11, at.y()), trouble.state)
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(left + 23, at.y() - 9, width, 18), Qt.AlignmentFlag.AlignVCenter, text)

    def _preview(self, painter: QPainter, frame: Frame, frames: dict[str, Array]) -> None:
        """What the shape would become, and its number."""
        assert self.scene is not None and self._held is not None
        handle, t = self._held, theme()
        machine = self.scene.problem.machine
        painter.setPen(QPen(t.color("reed"), 1.5, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        found = self._changes()
        if handle.index != -2:
            shape = machine.bodies[handle.body].shapes[handle.shape]
            size, at = list(shape.size), shape.at
            for key, value in found:
                if key[4] == "size":
                    size[int(key[5])] = _metres(value)
                else:
                    x, y, z = (_metres(v) for v in value)  # type: ignore[attr-defined]
                    at = (x, y, z)
            new = shape.model_copy(update={"size": tuple(size), "at": at})
            placed = frames[handle.body]
            painter.drawPolygon(frame.hull(outline_points(new) @ placed[:3, :3].T + placed[:3, 3]))
        painter.setFont(font(12, bold=True))
        painter.setPen(t.color("ink"))
        painter.drawText(self._mouse + QPointF(14, -6), _words(found))

    # --- mouse -----------------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of a handle, or of a body."""
        if event.button() != Qt.MouseButton.LeftButton or self.scene is None or not (self.editing or self.pushing):
            super().mousePressEvent(event)
            return
        self._pressed = self._mouse = event.position()
        self._dragging, self._held, self._body = False, None, ""
        frame = self.frame()
        if self.editable:
            self._held = self._handle_at(event.position(), frame)
            if self._held is not None:
                return
        body = self.body_at(event.position())
        if body:
            self._body = body
            self._point = self._grabbed(event.position(), frame, body)
            self._from = self.shown_position().copy()
            if not self.pushing:
                self.body_clicked.emit(body)

    def _handle_at(self, point: QPointF, frame: Frame) -> Handle | None:
        """The nearest handle; where several coincide, the one that changes a size. A joint is held by its ring."""
        best, found = _NEAR, None
        for handle in self._handles():
            away = frame.place(handle.at) - point
            far = float(np.hypot(away.x(), away.y()))
            if handle.index < 0:
                far = 1.0 + (abs(far - _RING) if handle.index == -2 else far)
            if far < best:
                best, found = far, handle
        return found

    def _grabbed(self, point: QPointF, frame: Frame, body: str) -> Array:
        """The point under the mouse in the body's axes, as far away as the body's origin."""
        placed = self._frames()[body]
        view = VIEWS[self.view]
        x, y = self._in_view(point, frame)
        world = view.T @ np.array([x, y, view[2] @ placed[:3, 3]])
        return np.asarray(placed[:3, :3].T @ (world - placed[:3, 3]))

    def _in_view(self, point: QPointF, frame: Frame) -> Array:
        """A point of the screen in the plane of the view, m."""
        return np.array([
            frame.centre[0] + (point.x() - frame.width / 2) / frame.scale,
            frame.centre[1] - (point.y() - frame.height / 2) / frame.scale,
        ])  # fmt: skip

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag what was taken hold of."""
        self._mouse = event.position()
        if self._pressed is None:
            super().mouseMoveEvent(event)
            if self.editable and self.selected:
                over = self._handle_at(event.position(), self.frame()) is not None
                self.setCursor(Qt.CursorShape.SizeAllCursor if over else Qt.CursorShape.ArrowCursor)
            return
        away = event.position() - self._pressed
        if not self._dragging and float(np.hypot(away.x(), away.y())) >= _STARTS:
            self._dragging = True
            if not self.pushing:
                self._fixed = self.frame()
        if self._dragging and self._held is None and self._body:
            if self.pushing:
                self.pull_on()
            elif self.editing:
                self._pose_to(event.position(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        self.update()

    def pull_on(self) -> None:
        """Say again where the hand pulls to; the view moves with the machine while the mouse rests."""
        if not (self.pushing and self._dragging and self._body):
            return
        frame, view = self.frame(), VIEWS[self.view]
        placed = self._frames()[self._body]
        held = (placed @ np.append(self._point, 1.0))[:3]
        x, y = self._in_view(self._mouse, frame)
        self.pulled.emit(self._body, self._point, view.T @ np.array([x, y, view[2] @ held]))

    def _pose_to(self, point: QPointF, whole: bool) -> None:
        """Bring the body to the mouse by the joint above it, or by its whole limb."""
        assert self.scene is not None
        model = self.scene.problem.model
        joint = joint_above(model, self._body)
        if not joint:
            return
        own = coordinates_of(model, joint)
        if model.machine.joints[joint].kind == "free":
            own = own[:3]
        elif model.machine.joints[joint].kind == "planar":
            own = own[:2]
        coordinates = (chain(model, self._body) or own) if whole else own
        place = self._in_view(point, self.frame())
        self.pose = taken(model, self._from, self._body, self._point, place, VIEWS[self.view][:2], coordinates)
        self.posed.emit()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Write what a handle was dragged for; let go."""
        super().mouseReleaseEvent(event)
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if self._dragging and self._held is not None:
            found = self._changes()
            if found:
                self.reshaped.emit(found, f"{self._held.body} {_words(found)}")
        if self._dragging and self.pushing:
            self.released.emit()
        self._pressed, self._held, self._dragging, self._body, self._fixed = None, None, False, "", None
        self.update()

    def _changes(self) -> list[Change]:
        assert self.scene is not None and self._held is not None and self._pressed is not None
        frame, view = self.frame(), VIEWS[self.view]
        x, y = self._in_view(self._mouse, frame) - self._in_view(self._pressed, frame)
        grain = round_length(1.5 / frame.scale)
        return changes(self.scene.problem.machine, self._frames(), self._held, x * view[0] + y * view[1], grain)

    # --- keys ------------------------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Plus and minus move the chosen body's joint, with Shift finely; Escape drops what is dragged."""
        if event.key() == Qt.Key.Key_Escape and self._dragging:
            if self._held is None and not self.pushing:
                self.pose = self._from
                self.posed.emit()
            self._pressed, self._held, self._dragging, self._body, self._fixed = None, None, False, "", None
            self.released.emit()
            self.update()
            return
        step = {"+": 1.0, "=": 0.1, "-": -1.0, "_": -0.1, "*": 0.1}.get(event.text(), 0.0)
        if step and self.editable and self.selected:
            self.nudge(step)
            return
        super().keyPressEvent(event)

    def nudge(self, step: float) -> None:
        """Move the first coordinate of the joint above the chosen body by `step` times 2 degrees or 2 cm."""
        assert self.scene is not None
        model = self.scene.problem.model
        joint = joint_above(model, self.selected)
        if not joint:
            return
        first = coordinates_of(model, joint)[0]
        size = 0.02 if model.machine.coordinate_unit(model.joints[first]) == "m" else np.radians(2.0)
        new = moved(model, self.shown_position(), [first], np.array([step * size]))
        self.pose = following(model, within_stops(model, new), [first])
        self.posed.emit()
        self.update()


def _metres(value: object) -> float:
    return float(str(value).split()[0])


def _words(found: list[Change]) -> str:
    """A change in words, the number first."""
    key, value = found[0]
    if key[-1] in ("at", "origin"):
        places = ", ".join(show(_metres(v)) for v in value)  # type: ignore[attr-defined]
        return f"{'joint' if key[-1] == 'origin' else 'shape'} at {places} m"
    return f"size {show(_metres(value), 'm')}"
