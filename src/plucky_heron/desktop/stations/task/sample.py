"""The card of one sample, and the way of one command through it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from plucky_heron.desktop.forms.widgets import Card, button
from plucky_heron.desktop.stations.task.model import TaskModel, transport_text
from plucky_heron.desktop.theme import font, theme
from plucky_heron.simulation.replay import Way
from plucky_heron.task.problem import Problem
from plucky_heron.units import pretty_unit, short_time, show

Array = np.ndarray


class SampleCard(Card):
    """One sample in order, and the way of one command through it."""

    def __init__(self, model: TaskModel, follow: Callable[[], object]) -> None:
        super().__init__("One sample")
        self.model = model
        self.line = SampleLine()
        self.body.addWidget(self.line, 1)
        self.follow = button("Follow one command", follow)
        self.body.addWidget(self.follow)

    def refresh(self, problem: Problem) -> None:
        """What happens in a sample."""
        task = problem.task
        timing = task.timing
        late = max(
            [o.delay for o in task.observations] + [s.dead_time for s in problem.machine.sensors.values()], default=0.0
        )
        steps = [
            ("0", "sense", f"up to {short_time(late)} old" if late else "as it is now"),
            ("", "policy", "to be learned"),
        ]
        shaped = [n for n, on in (
            ("increments", any(c.increment for c in problem.commands)), ("rates", any(c.rate_limit for c in problem.commands)),
            ("smoothing", any(c.smoothing for c in problem.commands)), ("mixing", bool(problem.mixing)), ("choice", bool(problem.options)),
        ) if on]  # fmt: skip
        steps.append(("", "limits" + (", " + ", ".join(shaped) if shaped else ""), f"{len(problem.commands)} numbers"))
        lags = [problem.machine.drives[problem.model.drives[c.drive]].lag for c in problem.commands if c.drive >= 0]
        lag = max(lags, default=0.0)
        if timing.dead_time or timing.jitter or timing.lost:
            steps.append(("", "on the way", transport_text(timing)))
        steps.append(("", "drives follow", f"lag up to {short_time(lag)}" if lag else "at once"))
        steps.append(("", f"{timing.substeps} substeps", f"of {short_time(timing.physics_step)}, same command"))
        steps.append((short_time(timing.sample_time), "next sample", self.model.spanned(problem)))
        self.line.show_steps(steps)

    def show_way(self, way: Way | None, name: str) -> None:
        """Numbers of one command instead of words, or back."""
        self.caption.setText(f"ONE COMMAND: {name}".upper() if way is not None else "ONE SAMPLE")
        self.follow.setText("Back to one sample" if way is not None else "Follow one command")
        self.line.show_way(way)


class SampleLine(QWidget):
    """A line downwards with what happens on it."""

    def __init__(self) -> None:
        super().__init__()
        self.steps: list[tuple[str, str, str]] = []
        self.way: Way | None = None
        self.setMinimumWidth(130)
        self.setAccessibleName("one sample")

    def show_steps(self, steps: list[tuple[str, str, str]]) -> None:
        """Time, title and note of each step."""
        self.steps = steps
        self.update()

    def show_way(self, way: Way | None) -> None:
        """The numbers of one command."""
        self.way = way
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Line, knots, texts; for a command its course over the substeps."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        steps = self.steps
        if self.way is not None:
            steps = [("", _worth(value, unit), name) for name, value, unit in self.way.stages]
        if not steps:
            return
        chart = 96 if self.way is not None else 0
        painter.setFont(font(11))
        times = max(painter.fontMetrics().horizontalAdvance(time) for time, _, _ in steps)
        x, first, last = max(34.0, times + 10.0) if self.way is None else 10.0, 10.0, self.height() - 24.0 - chart
        painter.setPen(QPen(t.color("ink"), 1.6))
        painter.drawLine(QPointF(x, first), QPointF(x, last))
        for k, (time, title, note) in enumerate(steps):
            y = first + (last - first) * k / max(len(steps) - 1, 1)
            painter.setPen(QPen(t.color("ink"), 1.6))
            painter.setBrush(t.color("tide" if title == "policy" or (self.way is not None and k == 0) else "card"))
            painter.drawEllipse(QPointF(x, y), 4.5, 4.5)
            painter.setFont(font(11))
            painter.setPen(t.color("soft"))
            painter.drawText(
                QRectF(0, y - 8, x - 8, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, time
            )
            width = self.width() - x - 12
            painter.drawText(QRectF(x + 12, y + 6, width, 30), Qt.TextFlag.TextWordWrap, note)
            painter.setFont(font(13, bold=True))
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(x + 12, y - 10, width, 18), Qt.AlignmentFlag.AlignVCenter, title)
        if self.way is not None:
            self._course(painter, QRectF(2, self.height() - chart + 14, self.width() - 6, chart - 34))

    def _course(self, painter: QPainter, box: QRectF) -> None:
        assert self.way is not None
        t, way = theme(), self.way
        painter.setFont(font(11))
        painter.setPen(QPen(t.color("rule"), 1))
        painter.drawRect(box)
        for values, role, unit, place in (
            (way.followed, "tide", way.unit, 0),
            (way.effort, "plum", way.effort_unit, 1),
        ):
            if place == 1 and not values.any():
                continue
            low, high = float(values.min()), float(values.max())
            room = 0.15 * (high - low) or max(abs(high), 1e-9) * 0.1
            points = [
                QPointF(
                    box.left() + box.width() * k / max(len(values) - 1, 1),
                    box.bottom() - box.height() * (float(v) - low + room) / (high - low + 2 * room),
                )
                for k, v in enumerate(values)
            ]
            painter.setPen(QPen(t.color(role), 1.6))
            painter.drawPolyline(QPolygonF(points))
            painter.setPen(t.color("ink"))
            text = f"{'follows' if place == 0 else 'effort'} {show(low)} … {show(high)} {pretty_unit(unit)}"
            y = box.top() - 14 if place == 0 else box.bottom() + 1
            painter.drawText(QRectF(box.left(), y, box.width(), 14), Qt.AlignmentFlag.AlignLeft, text)


def _worth(value: float, unit: str) -> str:
    return f"{show(value)} {pretty_unit(unit)}".strip()
