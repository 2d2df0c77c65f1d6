"""Small pictures of numbers: a range with a hand, a row of bars, what a reward term gave, in all and over an episode."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from plucky_heron.desktop.theme import theme

Array = np.ndarray


class Gauge(QWidget):
    """A range: what rehearsals met as a band, the playing episode's value as a hand; hatched where it saturates."""

    def __init__(self, low: float, high: float, role: str = "heron") -> None:
        super().__init__()
        self.low, self.high, self.role = low, high, role
        self.met: tuple[float, float] | None = None
        self.now: float | None = None
        self.setFixedHeight(16)
        self.setMinimumWidth(90)

    def show_met(self, met: tuple[float, float] | None, now: float | None) -> None:
        """Set band and hand."""
        self.met, self.now = met, now
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Trough, band, hand, and a mark at an end that was passed."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        box = QRectF(6, 4, self.width() - 12, 8)
        painter.setPen(QPen(t.color("rule"), 1))
        painter.setBrush(t.color("faint"))
        painter.drawRoundedRect(box, 4, 4)

        def x(value: float) -> float:
            return box.left() + box.width() * float(np.clip((value - self.low) / (self.high - self.low), 0, 1))

        if self.met is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color(self.role, 0.55))
            painter.drawRoundedRect(QRectF(x(self.met[0]), 4.5, max(2.0, x(self.met[1]) - x(self.met[0])), 7), 3, 3)
            painter.setBrush(t.color("reed"))
            if self.met[0] < self.low:
                painter.drawPolygon(QPolygonF([QPointF(5, 4), QPointF(0, 8), QPointF(5, 12)]))
            if self.met[1] > self.high:
                right = self.width()
                painter.drawPolygon(QPolygonF([QPointF(right - 5, 4), QPointF(right, 8), QPointF(right - 5, 12)]))
        if self.low < 0.0 < self.high:
            painter.setPen(QPen(t.color("soft"), 1))
            painter.drawLine(QPointF(x(0.0), 3), QPointF(x(0.0), 13))
        if self.now is not None:
            painter.setPen(QPen(t.color("tide"), 2.2))
            painter.drawLine(QPointF(x(self.now), 1), QPointF(x(self.now), 15))


class Bars(QWidget):
    """A list as a row of upright bars: the values now, with the range that was met behind them."""

    def __init__(self, low: float, high: float, count: int) -> None:
        super().__init__()
        self.low, self.high, self.count = low, high, count
        self.met: Array | None = None
        self.now: Array | None = None
        self.setFixedHeight(26)
        self.setMinimumWidth(90)

    def show_met(self, met: Array | None, now: Array | None) -> None:
        """Set ranges (2, count) and values (count,)."""
        self.met, self.now = met, now
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """The bars."""
        painter = QPainter(self)
        t = theme()
        step = (self.width() - 12) / self.count
        wide = max(1.5, step - (2 if step > 4 else 0.5))

        def y(value: float) -> float:
            share = float(np.clip((value - self.low) / (self.high - self.low), 0, 1))
            return self.height() - 2 - share * (self.height() - 4)

        zero = y(min(max(0.0, self.low), self.high))
        for k in range(self.count):
            left = 6 + k * step
            painter.setPen(QPen(t.color("rule"), 1) if step > 4 else Qt.PenStyle.NoPen)
            painter.setBrush(t.color("faint"))
            painter.drawRect(QRectF(left, 2, wide, self.height() - 4))
            painter.setPen(Qt.PenStyle.NoPen)
            if self.met is not None:
                painter.setBrush(t.color("heron", 0.35))
                painter.drawRect(QRectF(left, y(self.met[1, k]), wide, max(1.0, y(self.met[0, k]) - y(self.met[1, k]))))
            if self.now is not None:
                top = y(float(self.now[k]))
                painter.setBrush(t.color("tide", 0.75))
                painter.drawRect(QRectF(left, min(top, zero), wide, max(1.5, abs(zero - top))))


class ShareBar(QWidget):
    """What a term gave over an episode, against the largest term."""

    def __init__(self, value: float, most: float, role: str) -> None:
        super().__init__()
        self.value, self.most, self.role = value, most, role
        self.setFixedHeight(16)
        self.setMinimumWidth(70)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The bar."""
        painter = QPainter(self)
        t = theme()
        zero = self.width() * 0.3
        length = self.value / max(self.most, 1e-9) * (self.width() * (0.68 if self.value > 0 else 0.28))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color(self.role))
        painter.drawRect(QRectF(zero, 3, length, 10).normalized())
        painter.setPen(QPen(t.color("ink"), 1))
        painter.drawLine(QPointF(zero, 0), QPointF(zero, 16))


class Spark(QWidget):
    """What a term gave in the playing episode, with the present sample."""

    def __init__(self, values: Array, role: str) -> None:
        super().__init__()
        self.values, self.role = values, role
        self.at = 0.0
        self.setFixedHeight(20)
        self.setMinimumWidth(90)

    def show_at(self, share: float) -> None:
        """Share of the episode that has gone by."""
        self.at = share
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Zero line, course, hand."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        most = float(np.abs(self.values).max(initial=0.0)) or 1.0
        middle = self.height() / 2.0
        low, high = float(self.values.min(initial=0.0)), float(self.values.max(initial=0.0))
        zero = middle if low < 0 < high else self.height() - 3.0 if high > 0 else 3.0
        reach = (self.height() / 2.0 - 2.0) if low < 0 < high else self.height() - 6.0
        painter.setPen(QPen(t.color("rule"), 1))
        painter.drawLine(QPointF(0, zero), QPointF(self.width(), zero))
        if len(self.values) > 1:
            chosen = np.linspace(0, len(self.values) - 1, min(len(self.values), 160)).astype(int)
            # single payments must not fall between the columns: each takes the largest of its stretch
            edges = [*chosen, len(self.values)]
            points = []
            for k, first in enumerate(chosen):
                part = self.values[first : max(edges[k + 1], first + 1)]
                value = float(part[np.argmax(np.abs(part))])
                points.append(QPointF(first / (len(self.values) - 1) * self.width(), zero - value / most * reach))
            painter.setPen(QPen(t.color(self.role), 1.4))
            painter.drawPolyline(QPolygonF(points))
        painter.setPen(QPen(t.color("tide", 0.6), 1))
        painter.drawLine(QPointF(self.at * self.width(), 0), QPointF(self.at * self.width(), self.height()))
