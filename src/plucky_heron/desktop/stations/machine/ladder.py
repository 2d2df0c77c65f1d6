"""The joint ladder: the tree of a machine as a kinematic diagram with joint symbols."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QToolTip, QWidget

from plucky_heron.analysis.machines.problems import Trouble
from plucky_heron.desktop.forms.widgets import draw_mark
from plucky_heron.desktop.theme import font, theme
from plucky_heron.machine.schema import GROUND, Machine

_SAYS = {
    "hinge": "turns", "slider": "slides", "fixed": "fixed", "ball": "ball", "planar": "in the plane", "free": "free",
}  # fmt: skip


_KINDS = {
    "bodies": "body", "joints": "joint", "drives": "drive", "forces": "force", "tanks": "tank", "couplings": "coupling",
    "sensors": "sensor",
}  # fmt: skip


def _standing_on(machine: Machine, body: str) -> list[tuple[str, str]]:
    """Parts that stand on a body."""
    found = [
        ("drives", name) for name, drive in machine.drives.items() if drive.kind == "thrust" and drive.body == body
    ]
    for name, force in machine.forces.items():
        places = [getattr(force, key, None) for key in ("body", "wheel", "a")]
        if body in places:
            found.append(("forces", name))
    found += [("tanks", name) for name, tank in machine.tanks.items() if tank.body == body]
    drains = {d.tank: n for n, d in machine.drives.items() if d.kind == "drain"}
    found += [("drives", drains[name]) for kind, name in found if kind == "tanks" and name in drains]
    return found + [("sensors", name) for name, sensor in machine.sensors.items() if sensor.body == body]


def _standing_on_joint(machine: Machine, joint: str) -> list[tuple[str, str]]:
    """Sensors and couplings of a joint."""
    found = [("couplings", name) for name, coupling in machine.couplings.items() if coupling.joint == joint]
    return found + [("sensors", name) for name, sensor in machine.sensors.items() if sensor.joint == joint]


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
        self._marks: dict[tuple[str, str], str] = {}
        self._said: dict[tuple[str, str], str] = {}

    def show_machine(self, machine: Machine, selected: tuple[str, str], troubles: Sequence[Trouble] = ()) -> None:
        """Show a machine with a part chosen: section of the machine file, such as "bodies", and name."""
        self.machine, self.selected = machine, selected
        self._marks = {(t.kind, t.name): t.state for t in troubles}
        self._said = {(t.kind, t.name): f"{t.name}: {t.text}; {t.remedy}" for t in troubles}
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
        # what stands on a body sits on the edge of its frame
        chips = _standing_on(self.machine, body) if self.machine is not None else []
        room = max(1, int((box.width() - 8) // 13))
        for k, (kind, name) in enumerate(chips[: 2 * room]):
            edge = box.top() if k < room else box.bottom()
            self._chip(painter, QPointF(box.left() + 11 + 13 * (k % room), edge), kind, name)
        self._places.append((box, "bodies", body))
        if ("bodies", body) in self._marks:
            draw_mark(painter, QPointF(box.left() - 2, box.top() + 1), self._marks["bodies", body])

    def _chip(self, painter: QPainter, at: QPointF, kind: str, name: str) -> None:
        """A small sign of a part: sensors an eye, forces a chevron, tanks a level, couplings a link, thrusters a dart."""
        t = theme()
        chosen = self.selected == (kind, name)
        role = {"sensors": "tide", "forces": "plum", "tanks": "moss", "couplings": "heron", "drives": "plum"}[kind]
        painter.setPen(QPen(t.color("reed" if chosen else role), 2.2 if chosen else 1.4))
        painter.setBrush(t.color("card"))
        box = QRectF(at.x() - 5, at.y() - 5, 10, 10)
        if kind == "sensors":
            painter.drawEllipse(box)
            painter.setBrush(t.color(role))
            painter.drawEllipse(at, 1.4, 1.4)
        elif kind == "tanks":
            painter.drawRect(box)
            painter.fillRect(QRectF(at.x() - 3.5, at.y(), 7, 3.5), t.color(role))
        elif kind == "forces":
            painter.drawEllipse(box)
            painter.drawPolyline(
                QPolygonF(
                    [QPointF(at.x() - 3, at.y() + 2), QPointF(at.x(), at.y() - 2.5), QPointF(at.x() + 3, at.y() + 2)]
                )
            )
        elif kind == "couplings":
            for shift in (-2.5, 2.5):
                painter.drawEllipse(at + QPointF(shift, 0), 3.5, 3.5)
        else:
            painter.drawPolygon(
                QPolygonF(
                    [QPointF(at.x() + 5, at.y()), QPointF(at.x() - 4, at.y() - 4.5), QPointF(at.x() - 4, at.y() + 4.5)]
                )
            )
        self._places.append((box.adjusted(-1.5, -1.5, 1.5, 1.5), kind, name))

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
        if driven and ("drives", driven) in self._marks:
            draw_mark(painter, QPointF(at.x() - 2, at.y() + 1), self._marks["drives", driven])
        for k, (kind, part) in enumerate(_standing_on_joint(machine, name)):
            self._chip(painter, QPointF(at.x() - 15 - 13 * k, at.y()), kind, part)
        self._places.append((box.united(place), "joints", name))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose what was clicked."""
        part = self.part_at(event.position())
        if part is not None:
            self.chosen.emit(*part)

    def part_at(self, point: QPointF) -> tuple[str, str] | None:
        """The part drawn at a point; small signs come before what they stand on."""
        return next(((kind, name) for box, kind, name in self._places if box.contains(point)), None)

    def event(self, event: QEvent) -> bool:
        """The name of what is under the mouse, and what is wrong with it."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            part = self.part_at(QPointF(event.pos()))
            if part is not None:
                QToolTip.showText(event.globalPos(), self._said.get(part, f"{part[1]}, {_KINDS[part[0]]}"), self)
                return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down go through the parts."""
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self._places:
            parts = [(k, n) for _, k, n in self._places]
            now = parts.index(self.selected) if self.selected in parts else 0
            self.chosen.emit(*parts[(now + (1 if event.key() == Qt.Key.Key_Down else -1)) % len(parts)])
        else:
            super().keyPressEvent(event)
