"""The drawing: the widget around the scene. Shows the playback's episode or a pose; zooms, pans, finds what was clicked."""

from __future__ import annotations

import dataclasses

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QWheelEvent
from PySide6.QtWidgets import QWidget

from plucky_heron.desktop.bench.playback import Playback
from plucky_heron.desktop.picture.projection import VIEWS, Array, Frame, draw_arrow, round_length
from plucky_heron.desktop.picture.scene import Scene, natural_view
from plucky_heron.desktop.theme import font, theme
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem

_MARGIN = 0.2
"""How much wider the kept picture of a site is, at each side, as a share of what is in sight."""


class Drawing(QWidget):
    """The widget: shows the playback's episode, or a pose; zooms with the wheel, pans with the middle button."""

    body_clicked = Signal(str)

    def __init__(self, playback: Playback | None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._site: QPixmap | None = None
        self._site_key: object = None
        self._site_centre = (0.0, 0.0)
        self.playback = playback
        self.view = "side"
        self.zoom, self.shift = 1.0, (0.0, 0.0)
        self.scene: Scene | None = None
        self.pose: Array | None = None
        self.scene_number = 0
        """Course or level that is shown while nothing plays."""
        self.selected = ""
        self.caption = ""
        self._drag: QPointF | None = None
        self._fixed: Frame | None = None
        """The transform while something is dragged: the view then does not follow."""
        self.setMinimumSize(200, 140)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("drawing of the machine")
        if playback is not None:
            playback.loaded.connect(self._loaded)
            playback.moved.connect(lambda _: self.update())
            self._loaded()

    def set_problem(self, problem: Problem) -> None:
        """Show another problem's machine."""
        if self.scene is None or self.scene.problem is not problem:
            other = self.scene is None or self.scene.problem.machine.name != problem.machine.name
            self.scene = Scene(problem)
            if other:
                self.view = natural_view(problem)
                self.zoom, self.shift = 1.0, (0.0, 0.0)
        self.update()

    def set_pose(self, pose: Array | None) -> None:
        """Show a pose instead of the playback's."""
        self.pose = pose
        self.update()

    def _loaded(self) -> None:
        if self.playback is not None and self.playback.problem is not None:
            self.set_problem(self.playback.problem)

    def frame(self) -> Frame:
        """The present transform."""
        if self._fixed is not None:
            return self._fixed
        assert self.scene is not None
        left, right, low, high = self.scene.extent(self.view)
        scale = min(self.width() / (right - left), (self.height() - 30) / (high - low)) * self.zoom
        gone = self.scene.carried_to(self.view, self.shown_position())
        centre = ((left + right) / 2 + self.shift[0] + gone[0], (low + high) / 2 + self.shift[1] + gone[1] + 10 / scale)
        return Frame(centre, scale, self.width(), self.height(), self.view)

    def shown_position(self) -> Array:
        """The position that is drawn: the held pose, else the playback's, else the start."""
        assert self.scene is not None
        playback = self.playback
        if self.pose is not None:
            return self.pose
        if playback is not None and playback.recording is not None and playback.problem is self.scene.problem:
            return np.asarray(playback.recording.position[playback.index])
        return self.scene.problem.model.start

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint all of it."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        if self.scene is None:
            painter.setPen(t.color("soft"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "No machine yet: choose one above")
            return
        frame = self.frame()
        playback = self.playback
        recording = playback.recording if playback is not None and self.pose is None else None
        if recording is not None and playback is not None and playback.problem is not self.scene.problem:
            recording = None
        number = recording.scene if recording is not None else self.scene_number
        self._paint_site(painter, frame, number)
        self.scene.paint_meaning(painter, frame, recording, playback.index if playback is not None else 0, number)
        if recording is not None and playback is not None:
            for ghost in playback.ghosts:
                at = min(playback.index, ghost.steps)
                self.scene.paint_machine(painter, frame, ghost.position[at], ghost=True)
            self.scene.paint_machine(painter, frame, self.shown_position(), selected=self.selected)
            self.scene.paint_overlays(painter, frame, recording, playback.index)
        else:
            self.scene.paint_machine(painter, frame, self.shown_position(), selected=self.selected)
        self._corners(painter, frame, recording)

    def _paint_site(self, painter: QPainter, frame: Frame, number: int) -> None:
        """The site; kept as a picture, a good deal wider than what is in sight, as soon as it is asked for twice at one scale.

        It stands still, and a drawing that follows its machine only moves over it.
        """
        assert self.scene is not None
        ratio = self.devicePixelRatioF()
        key = (id(self.scene), frame.view, frame.scale, frame.width, frame.height, number, theme(), ratio)
        if key != self._site_key:
            self._site_key, self._site = key, None
            self.scene.paint_site(painter, frame, number)
            self.scene.paint_names(painter, frame, number)
            return
        wide, tall = _MARGIN * frame.width, _MARGIN * frame.height
        across = (self._site_centre[0] - frame.centre[0]) * frame.scale
        up = (self._site_centre[1] - frame.centre[1]) * frame.scale
        if self._site is None or abs(across) > wide or abs(up) > tall:
            wider = dataclasses.replace(frame, width=frame.width + 2 * wide, height=frame.height + 2 * tall)
            self._site, self._site_centre, across, up = (
                QPixmap(QSize(int(wider.width), int(wider.height)) * ratio),
                frame.centre,
                0.0,
                0.0,
            )
            self._site.setDevicePixelRatio(ratio)
            self._site.fill(Qt.GlobalColor.transparent)
            inner = QPainter(self._site)
            self.scene.paint_site(inner, wider, number)
            inner.end()
        # whole pixels: between them a picture would blur
        place = QPointF(round((across - wide) * ratio) / ratio, round((-up - tall) * ratio) / ratio)
        painter.drawPixmap(place, self._site)
        self.scene.paint_names(painter, frame, number)

    def _corners(self, painter: QPainter, frame: Frame, recording: Recording | None) -> None:
        t = theme()
        painter.setFont(font(12))
        painter.setPen(t.color("soft"))
        painter.drawText(
            QPointF(12, 19), f"{self.view.capitalize()} view" + (f"  ·  {self.hint()}" if self.hint() else "")
        )
        if recording is not None and self.playback is not None:
            painter.setFont(font(13, bold=True))
            painter.setPen(t.color("ink"))
            text = f"t = {self.playback.time:.2f} s"
            painter.drawText(QRectF(0, 6, self.width() - 12, 18), Qt.AlignmentFlag.AlignRight, text)
            if ghosts := self.playback.ghosts:
                painter.setFont(font(12, italic=True))
                painter.setPen(t.color("soft"))
                painter.drawText(
                    QRectF(0, 24, self.width() - 12, 18),
                    Qt.AlignmentFlag.AlignRight,
                    f"{len(ghosts)} more starts" if len(ghosts) > 1 else f"ghost: {ghosts[0].driver}",
                )
        metres = round_length(60.0 / frame.scale)
        base = QPointF(self.width() - 16, self.height() - 14)
        painter.setPen(QPen(t.color("ink"), 1.2))
        start = base - QPointF(metres * frame.scale, 0)
        painter.drawLine(start, base)
        for end in (start, base):
            painter.drawLine(end + QPointF(0, -4), end + QPointF(0, 4))
        painter.setFont(font(11))
        painter.drawText(
            QRectF(start.x(), base.y() - 18, metres * frame.scale, 14), Qt.AlignmentFlag.AlignCenter, f"{metres:g} m"
        )
        draw_arrow(painter, QPointF(14, base.y()), QPointF(38, base.y()), t.color("ink"))
        names = {"side": "x +", "end": "y +", "top": "x +", "free": "from the right, above"}
        if 50 + painter.fontMetrics().horizontalAdvance(names[self.view]) < start.x() - 8:
            painter.drawText(QPointF(50, base.y() + 4), names[self.view])

    def hint(self) -> str:
        """What stands beside the name of the view."""
        return self.caption

    def body_at(self, point: QPointF) -> str:
        """The body drawn at a point, the last one painted first."""
        if self.scene is None:
            return ""
        for body in reversed(list(self.scene.outlines)):
            if any(o.containsPoint(point, Qt.FillRule.OddEvenFill) for o in self.scene.outlines[body]):
                return body
        return ""

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Click chooses a body; the middle button pans."""
        if event.button() == Qt.MouseButton.MiddleButton:
            self._drag = event.position()
        elif event.button() == Qt.MouseButton.LeftButton:
            body = self.body_at(event.position())
            if body:
                self.body_clicked.emit(body)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Pan."""
        if self._drag is not None and self.scene is not None:
            moved = event.position() - self._drag
            scale = self.frame().scale
            self.shift = (self.shift[0] - moved.x() / scale, self.shift[1] + moved.y() / scale)
            self._drag = event.position()
            self.update()

    def next_view(self) -> None:
        """Side, end, top, free, in turn."""
        views = list(VIEWS)
        self.view = views[(views.index(self.view) + 1) % len(views)]
        self.shift = (0.0, 0.0)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """End of panning."""
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Back to the whole."""
        self.zoom, self.shift = 1.0, (0.0, 0.0)
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom."""
        self.zoom = float(np.clip(self.zoom * 1.15 ** (event.angleDelta().y() / 120), 0.3, 20.0))
        self.update()
