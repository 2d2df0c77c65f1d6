"""Inside a method: what its model foresaw beside what came, or the weights it tried and what they scored."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from plucky_heron.desktop.forms.widgets import Card, Choice, Rows, button, label, scrolled
from plucky_heron.desktop.theme import font, theme
from plucky_heron.learning.ensemble import Inspection
from plucky_heron.task.problem import Problem
from plucky_heron.training.inside import read_inside

Array = np.ndarray
GOOD = 0.1
"""Share of the weights tried that counts as good."""
MOST_DOTS = 4000


class InsideSheet(QDialog):
    """The sheet of one run."""

    def __init__(self, problem: Problem, folder: Path, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Inside the method")
        self.resize(1040, 700)
        found = read_inside(folder)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.setSpacing(10)
        self.view: ModelView | LandscapeView
        if "truth" in found:
            inspection = Inspection(found["truth"], found["one_step"], found["open_loop"])
            names = [(e.name, e.si) for e in problem.entries]
            self.view = ModelView(inspection, names, problem.sample_time)
        else:
            self.view = LandscapeView(
                found["weights"], found["scores"], found["kept"], weight_names(problem, found["kept"])
            )
        layout.addWidget(self.view, 1)
        foot = QHBoxLayout()
        foot.addStretch(1)
        foot.addWidget(button("Close", self.accept, "primary", name="close inside the method"))
        layout.addLayout(foot)


def weight_names(problem: Problem, kept: Array) -> list[str]:
    """Names of a linear policy's weights; numbers for others."""
    sensed, commands = [e.name for e in problem.sensed], [c.name for c in problem.commands]
    if len(kept) != (len(sensed) + 1) * len(commands):
        return [f"weight {k + 1}" for k in range(len(kept))]
    return [f"{c} ← {s}" for s in [*sensed, "constant"] for c in commands]


def _plot(name: str) -> pg.PlotWidget:
    plot = pg.PlotWidget(background=theme().color("card"))
    plot.setAccessibleName(name)
    item = plot.getPlotItem()
    item.setMenuEnabled(False)
    item.hideButtons()
    item.showGrid(x=True, y=True, alpha=0.2)
    for side in ("bottom", "left"):
        axis = item.getAxis(side)
        axis.setPen(pg.mkPen(theme().color("rule")))
        axis.setTextPen(theme().color("soft"))
        axis.setStyle(tickFont=font(11), tickLength=-4)
    return plot


class ModelView(QWidget):
    """Predictions beside the truth: every observation with its errors, and the chosen one over time."""

    def __init__(self, found: Inspection, names: list[tuple[str, str]], sample_time: float) -> None:
        super().__init__()
        self.found, self.names = found, names
        self.time = sample_time * np.arange(1, len(found.truth) + 1)
        one, far = found.missed()
        apart = (found.open_loop.std(axis=0) / (found.truth.std(axis=0) + 1e-9)).mean(axis=0)
        self.order = np.argsort(far)[::-1]
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        errors = Card("Prediction errors", "share of the truth's spread")
        self.list = QListWidget()
        self.list.setAccessibleName("observations")
        for k in self.order:
            item = QListWidgetItem(
                f"{names[k][0]}\none step {_percent(one[k])} · open loop {_percent(far[k])} · members apart {_percent(apart[k])}"
            )
            item.setSizeHint(QSize(0, 50))
            self.list.addItem(item)
        self.list.currentRowChanged.connect(self.show_observation)
        errors.body.addWidget(self.list)
        errors.setMinimumWidth(370)
        self.chart = Card("Predictions")
        self.plot = _plot("predictions and truth")
        self.plot.getPlotItem().setLabel("bottom", "time", units="s")
        self.chart.body.addWidget(self.plot, 1)
        self.chart.body.addWidget(
            label(
                f"Black: measured. Dotted: each step predicted from the true one before. Band: predicted from the first state alone by the same "
                f"commands, mean and range of {len(found.one_step)} members.",
                "soft",
                wrap=True,
            )
        )
        layout.addWidget(errors, 38)
        layout.addWidget(self.chart, 62)
        self.list.setCurrentRow(0)

    def show_observation(self, row: int) -> None:
        """Draw one observation."""
        k, t = int(self.order[row]), theme()
        name, unit = self.names[k]
        self.chart.caption.setText(f"{name}{', ' + unit if unit else ''}, {self.time[-1]:.1f} s of one episode".upper())
        self.plot.clear()
        far = self.found.open_loop[:, :, k]
        edge = pg.mkPen(None)
        upper, lower = (pg.PlotCurveItem(self.time, v, pen=edge) for v in (far.max(axis=0), far.min(axis=0)))
        self.plot.addItem(pg.FillBetweenItem(upper, lower, brush=pg.mkBrush(t.color("reed", 0.3))))
        self._curve(far.mean(axis=0), pg.mkPen(t.color("reed"), width=2))
        self._curve(self.found.truth[:, k], pg.mkPen(t.color("ink"), width=2))
        one = self.found.one_step[:, :, k].mean(axis=0)
        self._curve(one, pg.mkPen(t.color("tide"), width=2, style=Qt.PenStyle.DotLine))
        together = np.concatenate([far.ravel(), self.found.truth[:, k], one])
        low, high = np.percentile(together, (1, 99))
        room = 0.1 * max(high - low, 1e-6)
        self.plot.setYRange(low - room, high + room, padding=0)
        self.plot.setXRange(0, self.time[-1], padding=0.02)

    def _curve(self, values: Array, pen: object) -> None:
        self.plot.addItem(pg.PlotCurveItem(self.time, values.astype(float), pen=pen, antialias=True))


class GoodRange(QWidget):
    """Where the good weights lie among all tried, and the kept one; a click shows it along the chart."""

    chosen = Signal()

    def __init__(self, span: tuple[float, float], good: tuple[float, float], kept: float, name: str) -> None:
        super().__init__()
        self.span, self.good, self.kept = span, good, kept
        self.setFixedHeight(18)
        self.setMinimumWidth(120)
        self.setAccessibleName(f"good range of {name}")
        self.setToolTip(
            "line: all weights tried; bar: where nine in ten of the good ones lie; stroke: the kept one. Click to see it."
        )

    def mousePressEvent(self, event: object) -> None:
        """Choose it."""
        self.chosen.emit()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Line, bar, stroke."""
        painter = QPainter(self)
        t = theme()
        low, high = self.span
        width = self.width() - 6

        def x(value: float) -> float:
            return 3 + width * (value - low) / max(high - low, 1e-9)

        painter.setPen(QPen(t.color("rule"), 1))
        painter.drawLine(QPointF(3, 9.5), QPointF(3 + width, 9.5))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("tide", 0.55))
        painter.drawRect(QRectF(x(self.good[0]), 6, max(2.0, x(self.good[1]) - x(self.good[0])), 7))
        painter.setPen(QPen(t.color("ink"), 2.2))
        painter.drawLine(QPointF(x(self.kept), 2), QPointF(x(self.kept), 17))


class LandscapeView(QWidget):
    """Weights against score: two of them as a map, and how far each may move before the score falls."""

    def __init__(self, weights: Array, scores: Array, kept: Array, names: list[str]) -> None:
        super().__init__()
        self.weights, self.scores, self.kept, self.names = weights, scores, kept, names
        good = scores >= np.quantile(scores, 1.0 - GOOD)
        ranks = np.argsort(np.argsort(scores)) / max(1, len(scores) - 1)
        centred = weights - weights.mean(axis=0)
        tells = np.abs(centred.T @ (ranks - ranks.mean())) / (weights.std(axis=0) * len(ranks) + 1e-9)
        # what tells most: where the good ones lie close together, measured by all that was tried
        tells = np.maximum(tells, 1.0 - weights[good].std(axis=0) / (weights.std(axis=0) + 1e-9))
        self.ranks, self.order = ranks, np.argsort(tells)[::-1]
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        left = Card(
            "Weights tried", f"{len(scores)} tried · scores {scores.min():.0f} to {scores.max():.0f}".replace("-", "−")
        )
        axes = QHBoxLayout()
        self.choices = [Choice("weight across"), Choice("weight upwards")]
        for text, choice, first in zip(("across", "upwards"), self.choices, self.order[:2], strict=True):
            choice.addItems(names)
            choice.setCurrentIndex(int(first))
            choice.currentIndexChanged.connect(lambda _: self.draw())
            axes.addWidget(label(text, "soft"))
            axes.addWidget(choice, 1)
        left.body.addLayout(axes)
        self.plot = _plot("weights and scores")
        left.body.addWidget(self.plot, 1)
        left.body.addWidget(label("Dark: among the best tenth. Pale: worse. Ring: the weights that are kept.", "soft"))
        right = Card("Search spread", "those that tell most first")
        rows = Rows((5, 2, 5), spacing=4)
        for k in self.order:
            mine = weights[:, k]
            span = float(np.quantile(mine, 0.01)), float(np.quantile(mine, 0.99))
            low, high = np.quantile(mine[good], (0.05, 0.95))
            bar = GoodRange(
                (min(*span, low, kept[k]), max(*span, high, kept[k])),
                (float(low), float(high)),
                float(kept[k]),
                names[k],
            )
            bar.chosen.connect(lambda k=k: self.choices[0].setCurrentIndex(int(k)))
            rows.add(label(names[k]), label(f"{kept[k]:.2f}".replace("-", "−"), "strong"), bar)
        rows.finish()
        right.body.addWidget(scrolled(rows), 1)
        layout.addWidget(left, 58)
        layout.addWidget(right, 42)
        self.draw()

    def draw(self) -> None:
        """The map of the two chosen weights; the best are drawn last."""
        t = theme()
        a, b = (choice.currentIndex() for choice in self.choices)
        self.plot.clear()
        newest = np.arange(max(0, len(self.scores) - MOST_DOTS), len(self.scores))
        order = newest[np.argsort(self.ranks[newest])]
        pale, dark = t.color("faint"), t.color("tide")
        for low, high, mix in ((0.0, 0.5, 0.12), (0.5, 0.8, 0.35), (0.8, 1.0 - GOOD, 0.6), (1.0 - GOOD, 1.01, 1.0)):
            some = order[(self.ranks[order] >= low) & (self.ranks[order] < high)]
            color = t.color("tide", max(mix, 0.12)) if mix < 1.0 else dark
            brush, pen = pg.mkBrush(color), pg.mkPen(pale, width=0.5)
            self.plot.addItem(
                pg.ScatterPlotItem(self.weights[some, a], self.weights[some, b], size=5 + 3 * mix, brush=brush, pen=pen)
            )
        ring = pg.ScatterPlotItem(
            [self.kept[a]], [self.kept[b]], size=18, brush=pg.mkBrush(None), pen=pg.mkPen(t.color("rust"), width=2.5)
        )
        self.plot.addItem(ring)
        item = self.plot.getPlotItem()
        item.setLabel("bottom", self.names[a])
        item.setLabel("left", self.names[b])


def _percent(share: float) -> str:
    return f"{100 * share:.0f} %" if share < 99.95 else "far off"
