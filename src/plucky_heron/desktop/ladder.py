"""The joint ladder: the tree of a machine as a kinematic diagram with joint symbols."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from plucky_heron.desktop.theme import font, theme
from plucky_heron.machine.schema import GROUND, Machine


class JointLadder(QWidget):
    """The tree of the machine as a kinematic diagram: bodies in frames, hinges round, sliders square."""

    chosen = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.machine: Machine | None = None
        self.selected = ("", "")
        self.setMinimumHeight(190)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("joint ladder")
        self._places: list[tuple[QRectF, str, str]] = []

    def show_machine(self, machine: Machine, selected: tuple[str, str]) -> None:
        """Show a machine with a part chosen: ("bodies" or "joints" or "drives", name)."""
        self.machine, self.selected = machine, selected
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """From the ground outwards, one row a body."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._places = []
        if self.machine is None:
            return
        t, machine = theme(), self.machine
        order = machine.ordered_joints()
        depth = {GROUND: 0}
        for name in order:
            depth[machine.joints[name].child] = depth[machine.joints[name].parent] + 1
        levels: dict[int, list[str]] = {}
        for name in order:
            levels.setdefault(depth[machine.joints[name].child], []).append(name)
        step = min(58.0, (self.height() - 26) / max(1, len(levels)))
        centre = {GROUND: (self.width() * 0.34, 12.0)}
        painter.setPen(QPen(t.color("ink"), 1.4))
        x, y = centre[GROUND]
        painter.drawLine(QPointF(x - 34, y), QPointF(x + 34, y))
        for k in range(6):
            painter.drawLine(QPointF(x - 32 + 12 * k, y), QPointF(x - 38 + 12 * k, y - 7))
        painter.setFont(font(12))
        for level, names in levels.items():
            for k, name in enumerate(names):
                joint = machine.joints[name]
                px, py = centre[joint.parent]
                cx = px if len(names) == 1 else self.width() * (k + 0.5) / len(names)
                cy = 12 + level * step
                centre[joint.child] = (cx, cy)
                painter.setPen(QPen(t.color("ink"), 1.3))
                painter.drawLine(QPointF(px, py + (0 if joint.parent == GROUND else 10)), QPointF(cx, cy - 10))
                self._body(painter, QRectF(cx - 46, cy - 10, 92, 21), joint.child)
                self._joint(painter, QPointF((px + cx) / 2, (py + cy) / 2), name)

    def _body(self, painter: QPainter, box: QRectF, body: str) -> None:
        t = theme()
        chosen = self.selected == ("bodies", body)
        painter.setPen(QPen(t.color("reed" if chosen else "ink"), 2.2 if chosen else 1.3))
        painter.setBrush(t.color("faint"))
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(t.color("ink"))
        painter.setFont(font(12, bold=chosen))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, body)
        self._places.append((box, "bodies", body))

    def _joint(self, painter: QPainter, at: QPointF, name: str) -> None:
        t, machine = theme(), self.machine
        assert machine is not None
        joint = machine.joints[name]
        driven = next((d for d, drive in machine.drives.items() if drive.joint == name), "")
        chosen = self.selected in (("joints", name), ("drives", driven))
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.setBrush(t.color("reed" if chosen else "tide" if driven else "card"))
        box = QRectF(at.x() - 6, at.y() - 6, 12, 12)
        if joint.kind == "hinge":
            painter.drawEllipse(box)
        elif joint.kind == "slider":
            painter.drawRect(box)
        else:
            painter.drawPolyline(QPolygonF([box.topLeft(), box.bottomRight(), box.topRight(), box.bottomLeft()]))
        painter.setFont(font(12, bold=chosen))
        painter.setPen(t.color("ink"))
        kind = {"hinge": "turns", "slider": "slides", "fixed": "fixed"}[joint.kind]
        text = f"{name} {kind}" + (f" · driven by {driven}" if driven else " · free")
        place = QRectF(at.x() + 14, at.y() - 9, self.width() - at.x() - 18, 18)
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, text)
        width = painter.fontMetrics().horizontalAdvance(f"{name} {kind} · ")
        if driven:
            self._places.append((QRectF(place.left() + width, place.top(), 200, 18), "drives", driven))
        self._places.append((box.united(QRectF(place.left(), place.top(), width, 18)), "joints", name))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose what was clicked."""
        for box, kind, name in self._places:
            if box.contains(event.position()):
                self.chosen.emit(kind, name)
                return

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down go through the parts."""
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self._places:
            parts = [(k, n) for _, k, n in self._places]
            now = parts.index(self.selected) if self.selected in parts else 0
            self.chosen.emit(*parts[(now + (1 if event.key() == Qt.Key.Key_Down else -1)) % len(parts)])
        else:
            super().keyPressEvent(event)
