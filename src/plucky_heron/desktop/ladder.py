"""The joint ladder: the tree of a machine as a kinematic diagram with joint symbols."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from plucky_heron.desktop.theme import font, theme
from plucky_heron.machine.schema import GROUND, Machine

_SAYS = {
    "hinge": "turns", "slider": "slides", "fixed": "fixed", "ball": "ball", "planar": "in the plane", "free": "free",
}  # fmt: skip


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
        slots = self._slots()
        levels = 1 + max(level for _, level in slots.values())
        across = 1 + max(slot for slot, _ in slots.values())
        step = min(58.0, (self.height() - 34) / max(1, levels - 1))
        # a machine without branches stands to the left, so that its joints can be named at length
        wide = across > 1
        left, room = (0.0, float(self.width())) if wide else (0.0, self.width() * 0.68)

        def at(body: str) -> QPointF:
            slot, level = slots[body]
            return QPointF(left + room * (slot + 0.5) / across, 12 + level * step)

        ground = at(GROUND)
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.drawLine(ground + QPointF(-34, 0), ground + QPointF(34, 0))
        for k in range(6):
            painter.drawLine(ground + QPointF(-32 + 12 * k, 0), ground + QPointF(-38 + 12 * k, -7))
        painter.setFont(font(12))
        half = min(46.0, 0.42 * room / across)
        for name in machine.ordered_joints():
            joint = machine.joints[name]
            above, below = at(joint.parent), at(joint.child)
            corner = QPointF(below.x(), above.y() + (8 if joint.parent == GROUND else 15))
            painter.setPen(QPen(t.color("ink"), 1.3))
            painter.drawLine(above + QPointF(0, 0 if joint.parent == GROUND else 10), QPointF(above.x(), corner.y()))
            painter.drawLine(QPointF(above.x(), corner.y()), corner)
            painter.drawLine(corner, below + QPointF(0, -10))
        for name in machine.ordered_joints():
            joint = machine.joints[name]
            above, below = at(joint.parent), at(joint.child)
            self._body(painter, QRectF(below.x() - half, below.y() - 10, 2 * half, 21), joint.child)
            middle = QPointF(below.x(), (above.y() + 16 + below.y() - 10) / 2)
            beside = half if step < 44 and not wide else 0.0  # between crowded frames there is no room for words
            self._joint(painter, middle, name, room / across if wide else 0.0, beside)

    def _slots(self) -> dict[str, tuple[float, int]]:
        """Place of every body: leaves side by side, the others over the middle of what they carry; and its row."""
        assert self.machine is not None
        outward: dict[str, list[str]] = {}
        for name in self.machine.ordered_joints():
            joint = self.machine.joints[name]
            outward.setdefault(joint.parent, []).append(joint.child)
        slots: dict[str, tuple[float, int]] = {}
        leaves = 0

        def put(body: str, level: int) -> float:
            nonlocal leaves
            carried = [put(child, level + 1) for child in outward.get(body, [])]
            if not carried:
                carried, leaves = [float(leaves)], leaves + 1
            slots[body] = (0.5 * (carried[0] + carried[-1]), level)
            return slots[body][0]

        put(GROUND, 0)
        return slots

    def _body(self, painter: QPainter, box: QRectF, body: str) -> None:
        t = theme()
        chosen = self.selected == ("bodies", body)
        painter.setPen(QPen(t.color("reed" if chosen else "ink"), 2.2 if chosen else 1.3))
        painter.setBrush(t.color("faint"))
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(t.color("ink"))
        painter.setFont(font(12, bold=chosen))
        metrics = painter.fontMetrics()
        text = metrics.elidedText(body.replace("_", " "), Qt.TextElideMode.ElideMiddle, int(box.width()) - 4)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        self._places.append((box, "bodies", body))

    def _joint(self, painter: QPainter, at: QPointF, name: str, room: float, beside: float) -> None:
        """The symbol, and beside it what the joint does; in a narrow column (`room` above zero) its name only."""
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
        elif joint.kind == "ball":
            painter.drawEllipse(box)
            painter.drawEllipse(box.adjusted(3, 3, -3, -3))
        elif joint.kind == "planar":
            painter.drawPolygon(
                QPolygonF(
                    [
                        QPointF(at.x(), at.y() - 7),
                        QPointF(at.x() + 9, at.y()),
                        QPointF(at.x(), at.y() + 7),
                        QPointF(at.x() - 9, at.y()),
                    ]
                )
            )
        elif joint.kind == "free":
            painter.setPen(QPen(t.color("ink"), 1.4, Qt.PenStyle.DotLine))
            painter.drawEllipse(box)
        else:
            painter.drawPolyline(QPolygonF([box.topLeft(), box.bottomRight(), box.topRight(), box.bottomLeft()]))
        painter.setFont(font(12, bold=chosen))
        painter.setPen(t.color("ink"))
        said = name.replace("_", " ")
        metrics = painter.fontMetrics()
        width = room / 2 - 12 if room else self.width() - at.x() - beside - 14
        place = QRectF(at.x() + 11 + beside, at.y() - 9, width, 18)
        if room:
            # what the frames above and below say already is left out
            known = (
                set(f"{joint.child}_{joint.parent}".split("_")) if metrics.horizontalAdvance(said) > width else set()
            )
            words = [word for word in name.split("_") if word not in known] or [name.split("_")[-1]]
            text = metrics.elidedText(" ".join(words), Qt.TextElideMode.ElideMiddle, int(width))
        else:
            text = f"{said} {_SAYS[joint.kind]}" + (f" · driven by {driven}" if driven else "")
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, text)
        if driven and not room:
            width = metrics.horizontalAdvance(f"{said} {_SAYS[joint.kind]} · ")
            self._places.append((QRectF(place.left() + width, place.top(), 200, 18), "drives", driven))
            place.setWidth(width)
        self._places.append((box.united(place), "joints", name))

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
