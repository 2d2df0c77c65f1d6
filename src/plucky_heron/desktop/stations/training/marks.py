"""Small drawings of the Training station: histories with their healthy band, histograms of commands, seeds."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from plucky_heron.desktop.theme import font, theme
from plucky_heron.runs.store import DEAD, FAILED, RunRow
from plucky_heron.training.stopping import show_value


class Spark(QWidget):
    """A value's healthy band with its hand, and its history."""

    def __init__(self, history: list[float], low: float | None, high: float | None) -> None:
        super().__init__()
        self.history, self.low, self.high = history, low, high
        self.setFixedHeight(18)
        self.setMinimumWidth(110)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Band left, history right."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        values = np.array(self.history[-200:])
        half = self.width() * 0.42
        if self.low is not None and self.high is not None and len(values):
            top = max(self.high * 1.6, float(values[-1]) * 1.1, 1e-9)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("faint"))
            painter.drawRoundedRect(QRectF(0, 7, half, 5), 2, 2)
            painter.setBrush(t.color("moss", 0.55))
            painter.drawRect(QRectF(half * self.low / top, 7, half * (min(self.high, top) - self.low) / top, 5))
            painter.setPen(QPen(t.color("ink"), 2.4))
            x = half * float(np.clip(values[-1] / top, 0, 1))
            painter.drawLine(QPointF(x, 3), QPointF(x, 16))
        if len(values) > 1:
            low, high = float(values.min()), float(values.max())
            xs = np.linspace(half + 12, self.width() - 2, len(values))
            ys = 15 - 12 * (values - low) / max(high - low, 1e-9)
            painter.setPen(QPen(t.color("tide"), 1.4))
            painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in zip(xs, ys, strict=True)]))


class Histogram(QWidget):
    """Shares of equal parts of a command's range, low to high."""

    def __init__(self, shares: list[float], name: str) -> None:
        super().__init__()
        self.shares = shares
        self.setFixedHeight(18)
        self.setMinimumWidth(110)
        self.setAccessibleName(f"untrained commands of {name}")
        self.setToolTip("where the untrained policy's commands lie, from the lower limit to the upper")

    def paintEvent(self, event: QPaintEvent) -> None:
        """Bars on a line."""
        painter = QPainter(self)
        t = theme()
        width, most = self.width() / max(1, len(self.shares)), max([*self.shares, 1e-9])
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("tide", 0.7))
        for k, share in enumerate(self.shares):
            height = 15 * share / most
            painter.drawRect(QRectF(k * width, 16 - height, width - 1, height))
        painter.setPen(QPen(t.color("rule"), 1))
        painter.drawLine(QPointF(0, 16.5), QPointF(self.width(), 16.5))


class SeedBars(QWidget):
    """One bar a seed: how far, and what it keeps."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[RunRow] = []
        self.chosen: int | None = None
        self.setFixedHeight(38)
        self.setAccessibleName("seeds")

    def paintEvent(self, event: QPaintEvent) -> None:
        """The bars."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        if not self.rows:
            painter.setPen(t.color("soft"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignVCenter, "no run of this task yet")
            return
        count = len(self.rows)
        width = self.width() / count
        worst = min(
            (r for r in self.rows if r.best_success is not None), key=lambda r: r.best_success or 0.0, default=None
        )
        for k, row in enumerate(self.rows):
            x = k * width
            painter.setFont(font(12, bold=row.id == self.chosen))
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(x, 2, 18, 16), Qt.AlignmentFlag.AlignVCenter, str(row.seed))
            box = QRectF(x + 18, 6, max(8.0, width - 28), 8)
            painter.setPen(QPen(t.color("rule"), 1))
            painter.setBrush(t.color("faint"))
            painter.drawRoundedRect(box, 4, 4)
            share = min(1.0, row.steps / max(1, row.budget)) if row.alive else 1.0
            wrong = row.state in (DEAD, FAILED)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("rust" if wrong else "plum" if row is worst and count > 1 else "tide"))
            painter.drawRoundedRect(QRectF(box.left(), box.top(), box.width() * share, 8), 4, 4)
            kept = show_value("success", row.best_success) if row.best_success is not None else row.state
            if painter.fontMetrics().horizontalAdvance(kept) > width - 20:  # many seeds: whole points
                kept = kept.replace(" %", "").partition(".")[0]
            painter.setPen(t.color("ink"))
            said = row.state if wrong else kept
            # where it does not fit under its bar it begins further left
            left = min(18.0, max(0.0, width - 3 - painter.fontMetrics().horizontalAdvance(said)))
            painter.drawText(QRectF(x + left, 18, width - left, 16), Qt.AlignmentFlag.AlignVCenter, said)
