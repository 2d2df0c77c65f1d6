"""Drawings of the page of stop rules: recorded courses with where the rules would have stopped, savings a run, and what is saved against what is lost."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from plucky_heron.analysis.stopping.replay import Recorded, Replayed, Summary
from plucky_heron.desktop.charts.curves import CurveChart
from plucky_heron.desktop.stations.training.rules_model import Map, show_steps, show_value
from plucky_heron.desktop.theme import font, theme
from plucky_heron.training.stopping import StopRule

ROW = 21


def draw_replay(
    chart: CurveChart, runs: Sequence[Recorded], replays: Sequence[Replayed], rules: Sequence[StopRule]
) -> None:
    """Courses plain as far as they would have been trained and faint beyond, with a ring at the policy that is kept."""
    t = theme()
    worst = max(range(len(replays)), key=lambda k: replays[k].lost_success, default=-1)
    kept: list[tuple[float, float]] = []
    stops: dict[str, list[tuple[float, float]]] = {}
    for k, (one, replayed) in enumerate(zip(runs, replays, strict=True)):
        values, steps = one.course.of(chart.quantity), one.course.step
        odd = k == worst and len(replays) > 1 and replayed.lost_success > 0
        colour = "plum" if odd else "tide"
        seen = replayed.seen
        chart.curve(steps[seen - 1 :], values[seen - 1 :], t.color(colour, 0.22), 1.1)
        chart.curve(steps[:seen], values[:seen], t.color(colour, 0.8), 1.4, dashed=odd)
        here = int(one.kept[seen - 1])
        kept.append((float(steps[here]), float(values[here])))
        stops.setdefault(replayed.by, []).append((float(steps[seen - 1]), float(values[seen - 1])))
        if odd:
            chart.text(f"seed {one.seed}, the worst", float(steps[seen - 1]), float(values[seen - 1]), anchor=(0, 0))
    chart.dots(kept, t.color("tide"), ring=True)
    for kind, points in stops.items():
        rule = next((r for r in rules if r.kind == kind), None)
        if rule is not None:
            chart.ticks(points, t.color(rule.role))


class SavingsTable(QWidget):
    """A row a run: where it would have stopped, what that saves, what it loses, and by which rule."""

    def __init__(self) -> None:
        super().__init__()
        self.replays: list[Replayed] = []
        self.summary: Summary | None = None
        self.setAccessibleName("what it saves and what it costs")

    def show_replays(self, replays: list[Replayed], summary: Summary | None) -> None:
        """Show these."""
        self.replays, self.summary = replays, summary
        self.setMinimumHeight(ROW * (len(replays) + 2))
        self.setAccessibleDescription("; ".join(
            f"run {r.run}: stopped at {r.stopped_at}, saves {100 * r.saved_share:.0f} %, loses {100 * r.lost_success:.1f} points" for r in replays
        ))  # fmt: skip
        self.update()

    def sizeHint(self) -> QSize:
        """All rows."""
        return QSize(360, ROW * (len(self.replays) + 2))

    def paintEvent(self, event: QPaintEvent) -> None:
        """The rows, the median last."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        width = self.width()
        columns = (0.0, 0.12 * width, 0.27 * width, 0.53 * width, 0.72 * width)
        room = 0.5 * (columns[3] - columns[2])

        def text(
            x: float, wide: float, row: int, words: str, bold: bool = False, colour: str = "ink", right: bool = False
        ) -> None:
            painter.setFont(font(12, bold=bold))
            painter.setPen(t.color(colour))
            align = (
                Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
            ) | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(
                QRectF(x, row * ROW, wide, ROW),
                align,
                painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(wide)),
            )

        heads = ("run, seed", "stopped", "steps saved", "points lost", "by")
        ends = (*columns[1:], width)
        for x, end, words in zip(columns, ends, heads, strict=True):
            text(x, end - x - 4, 0, words, colour="soft")
        most = max([r.lost_success for r in self.replays] + [0.05])
        for k, r in enumerate(self.replays):
            row = k + 1
            y = row * ROW
            text(columns[0], columns[1] - 4, row, f"{r.run}, {r.seed}")
            text(columns[1], columns[2] - columns[1] - 4, row, show_steps(r.stopped_at))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("tide", 0.45))
            painter.drawRoundedRect(QRectF(columns[2], y + 6, max(1.0, room * r.saved_share), 9), 2, 2)
            text(columns[2] + room + 4, room - 8, row, f"{100 * r.saved_share:.0f} %")
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("reed", 0.7))
            lost = 0.45 * (columns[4] - columns[3])
            painter.drawRoundedRect(
                QRectF(columns[3], y + 6, max(1.0, lost * max(r.lost_success, 0.0) / most), 9), 2, 2
            )
            text(columns[3] + lost + 6, lost, row, f"{100 * r.lost_success:.1f}")
            text(columns[4], width - columns[4], row, r.by or "none acts", colour="soft")
        if self.summary is not None and self.replays:
            row = len(self.replays) + 1
            painter.setPen(QPen(t.color("rule"), 1))
            painter.drawLine(QPointF(0, row * ROW), QPointF(width, row * ROW))
            text(columns[0], columns[1], row, "median", bold=True)
            text(columns[2] + room + 4, room, row, f"{100 * self.summary.median['saved_share']:.0f} %", bold=True)
            lost = 0.45 * (columns[4] - columns[3])
            text(columns[3] + lost + 6, lost, row, f"{100 * self.summary.median['lost_success']:.1f}", bold=True)


class TuningMap(QWidget):
    """Every rule that was tried as a dot, saved against lost; the line of those that none beats; the present one as a ring to drag along it.

    Parameters
    ----------
    on_taken
        Called with the number of what the ring was dragged to.
    """

    def __init__(self, on_taken: Callable[[int], None]) -> None:
        super().__init__()
        self.found: Map | None = None
        self.at: int | None = None
        self.words = ""
        self.on_taken = on_taken
        self._dragging = False
        self.setMinimumSize(220, 150)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("saved against lost")
        self.empty = ""

    def show_map(self, found: Map | None, at: int | None, words: str, empty: str = "") -> None:
        """Show a sweep, the present rule at `at`, with its numbers in `words`."""
        self.found, self.at, self.words, self.empty = found, at, words, empty
        self.setAccessibleDescription(words)
        self.update()

    def _box(self) -> QRectF:
        return QRectF(44, 24, self.width() - 70, self.height() - 60)

    def _limits(self) -> tuple[float, float]:
        assert self.found is not None
        edge = [self.found.tried[k] for k in self.found.edge]
        worst = max([float(t.lost.max()) for t in edge if t.mean_lost <= 0.04] + [0.03])
        return 1.0, min(1.0, 1.2 * worst)

    def point(self, k: int, worst: bool = False) -> QPointF:
        """Where one of them stands."""
        assert self.found is not None
        one, box, (x, y) = self.found.tried[k], self._box(), self._limits()
        lost = float(one.lost.max()) if worst else one.mean_lost
        return QPointF(
            box.left() + box.width() * one.median_saved / x, box.bottom() - box.height() * min(lost / y, 1.05)
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        """Axes, dots, lines, ring."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        painter.setFont(font(11))
        if self.found is None or not self.found.tried:
            painter.setPen(t.color("soft"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.empty)
            return
        box, (_, top) = self._box(), self._limits()
        for k in range(5):
            y = box.bottom() - k / 4 * box.height()
            painter.setPen(QPen(t.color("faint"), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            painter.setPen(t.color("soft"))
            painter.drawText(
                QRectF(0, y - 8, 40, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{100 * top * k / 4:.1f}",
            )
            x = box.left() + k / 4 * box.width()
            painter.drawText(QRectF(x - 24, box.bottom() + 3, 48, 14), Qt.AlignmentFlag.AlignCenter, f"{25 * k} %")
        painter.drawText(
            QRectF(box.left(), box.bottom() + 18, box.width(), 16), Qt.AlignmentFlag.AlignRight, "steps saved, median"
        )
        at = 2.0
        for words, role in (("points of success lost:", "soft"), ("mean", "tide"), ("worst run", "plum")):
            painter.setPen(t.color(role))
            painter.drawText(QPointF(at, 14.0), words)
            at += painter.fontMetrics().horizontalAdvance(words) + 6.0
        painter.save()
        painter.setClipRect(box.adjusted(-8, -8, 8, 8))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("heron", 0.4))
        for k in range(len(self.found.tried)):
            painter.drawEllipse(self.point(k), 2.4, 2.4)
        edge = self.found.edge
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(t.color("tide"), 2.2))
        painter.drawPolyline(QPolygonF([self.point(k) for k in edge]))
        painter.setPen(QPen(t.color("plum"), 1.4, Qt.PenStyle.DashLine))
        painter.drawPolyline(QPolygonF([self.point(k, worst=True) for k in edge]))
        if self.at is not None:
            here = self.point(self.at)
            painter.setPen(QPen(t.color("ink"), 2.2))
            painter.setBrush(t.color("card"))
            painter.drawEllipse(here, 7, 7)
            painter.setFont(font(12, bold=True))
            if self.words:  # what saves little loses little: above that the room is free
                corner = QPointF(box.left() + 10.0, box.top() + 12.0)
                painter.drawEllipse(corner, 4, 4)
                painter.drawText(corner + QPointF(10.0, 4.5), self.words)
        painter.restore()
        if self.hasFocus():
            painter.setPen(QPen(t.color("tide"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 4, 4)

    def nearest(self, at: QPointF) -> int | None:
        """The one on the line that lies nearest."""
        if self.found is None or not self.found.edge:
            return None
        return min(
            self.found.edge, key=lambda k: float(np.hypot(self.point(k).x() - at.x(), self.point(k).y() - at.y()))
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin to drag."""
        self._dragging = self.found is not None
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """The ring follows along the line."""
        if self._dragging and self.found is not None:
            k = self.nearest(event.position())
            if k is not None and k != self.at:
                self.at, self.words = k, ""
                self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """The rule follows."""
        if self._dragging and self.at is not None:
            self._dragging = False
            self.on_taken(self.at)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Left and right go along the line."""
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key()), 0)
        if not step or self.found is None or not self.found.edge:
            super().keyPressEvent(event)
            return
        edge = self.found.edge
        here = edge.index(self.at) if self.at in edge else 0
        self.on_taken(edge[max(0, min(len(edge) - 1, here + step))])


__all__ = ["SavingsTable", "TuningMap", "draw_replay", "show_value"]
