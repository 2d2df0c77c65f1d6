"""Small widgets that every station uses: cards, captions, state marks, fields with units, links."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import (
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStyle,
    QStyleOptionComboBox,
    QStylePainter,
    QVBoxLayout,
    QWidget,
)

from plucky_heron.desktop.theme import theme
from plucky_heron.errors import UnitError
from plucky_heron.units import parse, pretty_unit


def label(text: str = "", kind: str = "", wrap: bool = False, parent: QWidget | None = None) -> QLabel:
    """A label; kinds are soft, strong, caption, title, wrong."""
    made = QLabel(text, parent)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if kind:
        made.setObjectName(kind)
    if wrap:
        made.setWordWrap(True)
        made.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
    return made


def button(text: str, action: Callable[[], object], kind: str = "", name: str = "") -> QPushButton:
    """A button; kinds are primary, link, tool."""
    made = QPushButton(text)
    if kind:
        made.setObjectName(kind)
    made.setAccessibleName(name or text)
    made.setAutoDefault(False)  # in a sheet Enter ends what is typed, and presses nothing that was pressed before
    made.clicked.connect(lambda *_: action())
    return made


def rule() -> QFrame:
    """A thin line."""
    made = QFrame()
    made.setObjectName("rule")
    return made


class Card(QFrame):
    """A card with a caption, a note at its right, and a body."""

    steady = False
    """Whether its height is the layout's alone, whatever it holds; what does not fit is scrolled inside."""

    def hasHeightForWidth(self) -> bool:
        """Texts that wrap must not push other cards away."""
        return not self.steady and super().hasHeightForWidth()

    def __init__(self, caption: str = "", note: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.setAccessibleName(caption)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 10, 14, 12)
        outer.setSpacing(6)
        self.caption = label(caption.upper(), "caption")
        self.note = ElidedLabel(note, "soft")
        self.note.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if caption:
            head = QHBoxLayout()
            head.setSpacing(8)
            head.addWidget(self.caption)
            head.addWidget(self.note, 1)
            outer.addLayout(head)
            self.head = head
        self.body = QVBoxLayout()
        self.body.setSpacing(4)
        outer.addLayout(self.body, 1)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The frame, and the focus ring."""
        super().paintEvent(event)
        if self.hasFocus():
            painter = QPainter(self)
            painter.setPen(QPen(theme().color("tide"), 2))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 4, 4)


def bare_card(inner: QWidget, name: str) -> Card:
    """A card without caption that `inner` fills to its edges."""
    card = Card()
    card.setAccessibleName(name)
    card.body.setContentsMargins(2, 2, 2, 2)
    card.body.addWidget(inner, 1)
    return card


class Mark(QWidget):
    """A state with a shape of its own: passed (tick in a ring), look (question in a square), wrong (mark in a triangle)."""

    def __init__(self, state: str = "passed", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.state = state
        self.setFixedSize(18, 18)
        self.setAccessibleName(state)

    def sizeHint(self) -> QSize:
        """Fixed."""
        return QSize(18, 18)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the shape."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_mark(painter, QPointF(9, 9), self.state)


def draw_mark(painter: QPainter, at: QPointF, state: str) -> None:
    """Draw a state mark centred `at`."""
    t = theme()
    x, y = at.x(), at.y()
    if state == "passed":
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("moss"))
        painter.drawEllipse(at, 7, 7)
        painter.setPen(QPen(t.color("card"), 1.8))
        painter.drawPolyline(QPolygonF([QPointF(x - 3.4, y + 0.2), QPointF(x - 1, y + 2.8), QPointF(x + 3.4, y - 2.6)]))
    elif state == "look":
        painter.setPen(QPen(t.color("reed"), 1.6))
        painter.setBrush(t.color("reed", 0.15))
        painter.drawRoundedRect(QRectF(x - 6.5, y - 6.5, 13, 13), 3, 3)
        painter.setPen(QPen(t.color("ink"), 1))
        painter.drawText(QRectF(x - 7, y - 8, 14, 15), Qt.AlignmentFlag.AlignCenter, "?")
    elif state == "wrong":
        painter.setPen(QPen(t.color("rust"), 1.6))
        painter.setBrush(t.color("rust", 0.12))
        painter.drawPolygon(QPolygonF([QPointF(x, y - 7), QPointF(x + 7.5, y + 6), QPointF(x - 7.5, y + 6)]))
        painter.setPen(QPen(t.color("ink"), 1.6))
        painter.drawLine(QPointF(x, y - 2.5), QPointF(x, y + 1.5))
        painter.drawPoint(QPointF(x, y + 4))
    else:
        painter.setPen(QPen(t.color("heron"), 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, 6.5, 6.5)


class QuantityField(QLineEdit):
    """A number with its unit; takes units, arithmetic and the wheel, explains what is wrong and discards nothing.

    Signals
    -------
    edited(float, str)
        A valid value in SI, and the text as typed; after Enter or when the field is left.
    """

    edited = Signal(float, str)

    def __init__(self, unit: str, name: str, check: Callable[[float], str] | None = None) -> None:
        super().__init__()
        self.setMinimumHeight(22)
        self.unit, self.check = unit, check
        self.setAccessibleName(name)
        self._shown = ""
        self.problem = ""
        self.editingFinished.connect(self._finish)
        self.textEdited.connect(lambda _: self._judge())

    def show_value(self, value: float) -> None:
        """Show an SI value; what a person is typing is left alone."""
        if self.hasFocus() and self.isModified():
            return
        self._shown = f"{value:.6g}".replace("-", "−") + (f" {pretty_unit(self.unit)}" if self.unit else "")
        self.setText(self._shown)
        self._set_problem("")

    def value(self) -> float | None:
        """The SI value of the text, or None if it is wrong."""
        try:
            value = parse(self._plain(), self.unit)
        except UnitError as error:
            self._set_problem(str(error))
            return None
        problem = self.check(value) if self.check is not None else ""
        self._set_problem(problem)
        return None if problem else value

    def _plain(self) -> str:
        text = self.text().replace("−", "-").replace("²", "**2").replace("³", "**3")
        return text.replace("·", "*").strip()

    def _judge(self) -> None:
        self.value()

    def _finish(self) -> None:
        if self.text() == self._shown:
            return
        value = self.value()
        if value is not None:
            self._shown = self.text()
            self.setModified(False)
            self.edited.emit(value, self._plain())

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Two per cent a notch, while the field has the focus."""
        value = self.value()
        if not self.hasFocus() or value is None:
            event.ignore()
            return
        step = 0.02 * (abs(value) or 1.0) * (1 if event.angleDelta().y() > 0 else -1)
        self.setText(f"{value + step:.6g}")
        self._finish()
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape goes back to the last valid value."""
        if event.key() == Qt.Key.Key_Escape and self.text() != self._shown:
            self.setText(self._shown)
            self.setModified(False)
            self._set_problem("")
            return
        super().keyPressEvent(event)

    def _set_problem(self, text: str) -> None:
        self.problem = text
        self.setToolTip(text)
        self.setAccessibleDescription(text)
        if bool(self.property("wrong")) != bool(text):
            self.setProperty("wrong", bool(text))
            self.style().unpolish(self)
            self.style().polish(self)


class Choice(QComboBox):
    """A field that chooses from a list, with a drawn chevron."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self._cut = ""

    def paintEvent(self, event: QPaintEvent) -> None:
        """The field and its chevron; a choice that does not fit is cut with a sign, and said whole by its tooltip."""
        field, option = QStylePainter(self), QStyleOptionComboBox()
        self.initStyleOption(option)
        field.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        part = QStyle.SubControl.SC_ComboBoxEditField
        room = self.style().subControlRect(QStyle.ComplexControl.CC_ComboBox, option, part, self).width()
        whole = option.currentText
        if self.fontMetrics().horizontalAdvance(whole) > room:
            option.currentText = self.fontMetrics().elidedText(whole, Qt.TextElideMode.ElideRight, room)
        field.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)
        field.end()
        if option.currentText != whole and self.toolTip() in ("", self._cut):
            self._cut = whole
            self.setToolTip(whole)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme().color("soft"), 1.6))
        x, y = self.width() - 12.0, self.height() / 2.0
        painter.drawPolyline(QPolygonF([QPointF(x - 4, y - 2), QPointF(x, y + 2.5), QPointF(x + 4, y - 2)]))

    def wheelEvent(self, event: QWheelEvent) -> None:
        """The wheel scrolls the page, it does not change a choice by accident."""
        event.ignore()


class Rows(QWidget):
    """A grid of rows, rebuilt when what it shows changes; column widths are given as stretches."""

    def __init__(self, stretches: tuple[int, ...] = (), spacing: int = 6) -> None:
        super().__init__()
        self.grid = QGridLayout(self)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setHorizontalSpacing(10)
        self.grid.setVerticalSpacing(spacing)
        for column, stretch in enumerate(stretches):
            self.grid.setColumnStretch(column, stretch)
        self.count = 0

    def clear(self) -> None:
        """Remove everything."""
        while (item := self.grid.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        for row in range(self.count + 1):
            self.grid.setRowStretch(row, 0)
        self.count = 0

    def add_wide(self, cell: QWidget, first: int = 0) -> None:
        """Add a row of one cell over all columns from `first` on."""
        self.grid.addWidget(cell, self.count, first, 1, -1)
        self.count += 1

    def add(self, *cells: QWidget | str | None) -> None:
        """Add a row; texts become labels, the first strong."""
        for column, cell in enumerate(cells):
            if cell is None:
                continue
            widget = label(cell, "" if column == 0 else "soft") if isinstance(cell, str) else cell
            self.grid.addWidget(widget, self.count, column)
        self.count += 1

    def finish(self) -> None:
        """Push the rows to the top."""
        self.grid.setRowStretch(self.count, 1)


class ElidedLabel(QLabel):
    """One line that ends in dots where it does not fit; the whole text is its tooltip."""

    def __init__(self, text: str = "", kind: str = "") -> None:
        super().__init__(text)
        if kind:
            self.setObjectName(kind)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.setToolTip(text)

    def setText(self, text: str) -> None:
        """Set text and tooltip."""
        super().setText(text)
        self.setToolTip(text)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw with dots."""
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        painter.drawText(self.rect(), int(self.alignment() | Qt.AlignmentFlag.AlignVCenter), text)


def scrolled(inner: QWidget) -> QScrollArea:
    """`inner` in an area that scrolls downwards when there is not room enough."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    if (layout := inner.layout()) is not None:
        layout.setContentsMargins(0, 0, 8, 0)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(inner)
    return area


def mixed(first: QColor, second: QColor, share: float) -> QColor:
    """A colour between two."""
    pairs = ((first.red(), second.red()), (first.green(), second.green()), (first.blue(), second.blue()))
    red, green, blue = (round(a + (b - a) * share) for a, b in pairs)
    return QColor(red, green, blue)
