"""Scores of every rehearsal, a dot an episode."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from plucky_heron.analysis.shakedown.rehearsals import Shakedown
from plucky_heron.desktop.theme import font, theme
from plucky_heron.simulation.trials import Recording


class Dots(QWidget):
    """Scores of every rehearsal, a dot an episode, one row a driver; click a dot to see that episode."""

    picked = Signal(str, int)

    def __init__(self) -> None:
        super().__init__()
        self.shaken: Shakedown | None = None
        self.person: list[Recording] = []
        self.setMinimumHeight(110)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("rehearsals")
        self.marked = (0, 0)
        self._points: list[tuple[QPointF, str, int]] = []

    def rows(self) -> list[tuple[str, np.ndarray, float]]:
        """Name, scores, success share."""
        if self.shaken is None:
            return []
        found = [(n, t.score, float(t.success.mean())) for n, t in self.shaken.rehearsals.items()]
        if self.person:
            scores = np.array([r.score for r in self.person])
            found.append(("you, by hand", scores, float(np.mean([r.success for r in self.person]))))
        return found

    def paintEvent(self, event: QPaintEvent) -> None:
        """Rows of dots on one axis."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        rows = self.rows()
        self._points = []
        if not rows:
            painter.setPen(t.color("soft"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Not rehearsed yet")
            return
        every = np.concatenate([scores for _, scores, _ in rows])
        low, high = float(every.min()), float(every.max())
        left, right = 122.0, self.width() - 62.0
        height = (self.height() - 34) / len(rows)
        painter.setFont(font(11))
        painter.setPen(t.color("soft"))
        painter.drawText(QRectF(0, 0, 120, 14), Qt.AlignmentFlag.AlignLeft, "who drives")
        painter.drawText(QRectF(self.width() - 60, 0, 60, 14), Qt.AlignmentFlag.AlignRight, "success")

        def x(score: float) -> float:
            return left + (score - low) / max(high - low, 1e-9) * (right - left)

        for k, (name, scores, share) in enumerate(rows):
            y = 16 + (k + 0.5) * height
            best = k == int(np.argmax([s.mean() for _, s, _ in rows]))
            painter.setFont(font(13, bold=best))
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(0, y - 10, 120, 20), Qt.AlignmentFlag.AlignVCenter, name)
            painter.drawText(
                QRectF(self.width() - 60, y - 10, 60, 20),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                f"{100 * share:.0f} %",
            )
            painter.setPen(QPen(t.color("rule"), 1))
            painter.drawLine(QPointF(left, y), QPointF(right, y))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("reed" if name.startswith(("you", "rule")) else "tide" if best else "heron", 0.5))
            for number, score in enumerate(scores):
                point = QPointF(x(float(score)), y + (number % 5 - 2) * 1.6)
                painter.drawEllipse(point, 3, 3)
                self._points.append((point, name, number))
            painter.setPen(QPen(t.color("ink"), 2))
            painter.drawLine(QPointF(x(float(np.median(scores))), y - 7), QPointF(x(float(np.median(scores))), y + 7))
        painter.setFont(font(11))
        painter.setPen(t.color("soft"))
        base = self.height() - 14
        painter.drawText(QRectF(0, base, 120, 14), Qt.AlignmentFlag.AlignLeft, "score")
        for value in np.linspace(low, high, 5):
            painter.drawText(
                QRectF(x(value) - 30, base, 60, 14), Qt.AlignmentFlag.AlignCenter, f"{value:.0f}".replace("-", "−")
            )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Pick the nearest dot."""
        here = event.position()
        near = min(self._points, key=lambda p: (p[0] - here).manhattanLength(), default=None)
        if near is not None and (near[0] - here).manhattanLength() < 14:
            self.picked.emit(near[1], near[2])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down choose a driver, Enter plays its first episode."""
        rows = self.rows()
        if rows and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            row = (self.marked[0] + (1 if event.key() == Qt.Key.Key_Down else -1)) % len(rows)
            self.marked = (row, 0)
            self.picked.emit(rows[row][0], 0)
        else:
            super().keyPressEvent(event)
