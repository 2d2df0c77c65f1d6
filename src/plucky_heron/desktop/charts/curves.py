"""Learning curves: every seed, the median and its band, reference lines, and rules that can be dragged."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyqtgraph as pg
from pyqtgraph.GraphicsScene.mouseEvents import MouseClickEvent
from PySide6.QtCore import QEvent, QPointF, Qt, QTimer, Signal
from PySide6.QtGui import QBrush, QKeyEvent, QPainter, QShowEvent
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QApplication, QVBoxLayout, QWidget

from plucky_heron.analysis.statistics import spread_of
from plucky_heron.desktop.theme import LETTERS, SERIES, font, pen_style, theme
from plucky_heron.training.stopping import Evaluation, show_steps, show_value
from plucky_heron.training.stopping.evaluation import HEALTH_FIGURES


class _StepAxis(pg.AxisItem):  # type: ignore[misc]  # the package states no types
    def __init__(self, chart: CurveChart) -> None:
        super().__init__("bottom")
        self.chart = chart

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        if self.chart.along == "minutes":
            short = max(values, default=0.0) < 120_000.0  # milliseconds
            return [f"{v / 1000.0:.3g} s" if short else f"{v / 60_000.0:.3g} min" for v in values]
        return [f"{v:.0f}" for v in values] if self.chart.along == "episodes" else [show_steps(v) for v in values]


class _ValueAxis(pg.AxisItem):  # type: ignore[misc]
    def __init__(self, chart: CurveChart) -> None:
        super().__init__("left")
        self.chart = chart

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        if self.chart.quantity in ("success", "endings"):
            return [f"{100 * v:.0f} %" if -0.001 <= v <= 1.001 else "" for v in values]
        if self.chart.quantity in HEALTH_FIGURES and HEALTH_FIGURES[self.chart.quantity].unit == "%":
            return [f"{100 * v:.3g} %".replace("-", "−") for v in values]
        return [f"{v:g}".replace("-", "−") for v in values]


WORD = 16.0
"""Height of a word beside a line (px)."""
ZOOM_LIMIT = 0.01
"""The smallest share of the horizontal axis that can be looked at."""
MOST_POINTS = 300
"""Points of a curve that are drawn: more than a picture of a thousand pixels shows cost time alone."""


def thinned(course: Sequence[Evaluation]) -> Sequence[Evaluation]:
    """At most so many evaluations of a course, evenly, the first and the last among them."""
    if len(course) <= MOST_POINTS:
        return course
    return [course[k] for k in np.unique(np.linspace(0, len(course) - 1, MOST_POINTS).astype(int))]


AFTER_THE_REST = 30
"""Milliseconds after which curves that come into sight are painted: a timer of none runs before the page is."""


def stood_apart(values: Sequence[float], apart: float, low: float, high: float) -> list[float]:
    """Rising values moved as little as it takes to stand `apart` from each other between `low` and `high`; closer where there is no room."""
    from scipy.optimize import isotonic_regression

    count = len(values)
    apart = min(apart, (high - low) / max(count - 1, 1))
    steps = apart * np.arange(count)
    # rising by at least a step is not falling once the steps are taken off: least squares under an order (Barlow and others 1972)
    free = isotonic_regression(np.asarray(values, dtype=float) - steps).x
    return [float(y) for y in np.clip(free, low, high - steps[-1]) + steps]


class CurveChart(QWidget):
    """A chart of evaluations against control steps.

    Signals
    -------
    hovered(object)
        Where the mouse is on the horizontal axis; None where it has left.
    clicked(float)
        A click without a drag, by its place on the horizontal axis.
    zoomed(object)
        The ends of the horizontal axis that a person chose by wheel, drag or key; None for all of it.
    """

    hovered = Signal(object)
    clicked = Signal(float)
    zoomed = Signal(object)

    def __init__(self, on_rule_dragged: Callable[[float], None] | None = None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.quantity = "success"
        self.along = "steps"
        """What the curves stand against: control steps, minutes or episodes."""
        self.on_rule_dragged = on_rule_dragged
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        axes = {"bottom": _StepAxis(self), "left": _ValueAxis(self)}
        self.plot = pg.PlotWidget(axisItems=axes, background=theme().color("card"))
        self.plot.setAccessibleName("learning curves")
        layout.addWidget(self.plot)
        item = self.plot.getPlotItem()
        item.setMenuEnabled(False)
        item.hideButtons()
        item.disableAutoRange()  # ranges are set by hand: following each new item costs a redraw of all
        item.setMouseEnabled(x=True, y=False)
        item.showGrid(x=False, y=True, alpha=0.25)
        for name in ("bottom", "left"):
            axis = item.getAxis(name)
            axis.setPen(pg.mkPen(theme().color("rule")))
            axis.setTextPen(theme().color("soft"))
            axis.setStyle(tickFont=font(11), tickLength=-4)
        item.getAxis("left").setWidth(46)
        self.rule: pg.InfiniteLine | None = None
        self.near: tuple[float, float] | None = None
        """The ends of the horizontal axis that a person chose; None while all is in sight."""
        self._whole = (0.0, 1.0)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.plot.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        item.vb.sigRangeChangedManually.connect(lambda _: self._chosen(tuple(item.vb.viewRange()[0])))
        self._words: tuple[float, list[tuple[float, Any, Any]], float, float] | None = None
        self.plot.getViewBox().sigResized.connect(self._place_words)
        self.plot.scene().sigMouseMoved.connect(self._moved)
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        self._at = 0.0
        self._click = QTimer(self, singleShot=True)  # a click is one once it is not the first half of two
        self._click.timeout.connect(lambda: self.clicked.emit(self._at))

    def showEvent(self, event: QShowEvent) -> None:
        """Let the rest of the page be painted first: the curves take as long as all of it, and no turn should be long."""
        self.plot.setUpdatesEnabled(False)
        QTimer.singleShot(AFTER_THE_REST, self, lambda: self.plot.setUpdatesEnabled(True))
        super().showEvent(event)

    def _moved(self, place: QPointF) -> None:
        item = self.plot.getPlotItem()
        inside = item.sceneBoundingRect().contains(place)
        self.hovered.emit(float(item.vb.mapSceneToView(place).x()) if inside else None)

    def _clicked(self, event: MouseClickEvent) -> None:
        item = self.plot.getPlotItem()
        if event.button() == Qt.MouseButton.LeftButton and item.vb.sceneBoundingRect().contains(event.scenePos()):
            if event.double():
                self._click.stop()
                self.show_all()
                return
            self._at = float(item.vb.mapSceneToView(event.scenePos()).x())
            self._click.start(QApplication.doubleClickInterval())

    def _chosen(self, ends: tuple[float, float] | None) -> None:
        self.go_to(ends)
        self.zoomed.emit(self.near)

    def go_to(self, ends: tuple[float, float] | None) -> None:
        """Show a part of the horizontal axis, within what there is; None for all of it."""
        low, high = self._whole
        if ends is not None:
            width = min(max(ends[1] - ends[0], ZOOM_LIMIT * (high - low)), high - low)
            first = min(max(ends[0], low), high - width)
            ends = (first, first + width) if width < 0.999 * (high - low) else None
        self.near = ends
        self._to_sight()

    def show_all(self) -> None:
        """All of the horizontal axis."""
        self._chosen(None)

    def _to_sight(self) -> None:
        self.plot.setXRange(*(self.near or self._whole), padding=0.0 if self.near else 0.02)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Plus and minus zoom, arrows move, 0 shows all."""
        low, high = self.near or self._whole
        width = high - low
        steps = {
            Qt.Key.Key_Plus: (0.25, -0.25), Qt.Key.Key_Minus: (-0.5, 0.5), Qt.Key.Key_Left: (-0.2, -0.2),
            Qt.Key.Key_Right: (0.2, 0.2),
        }  # fmt: skip
        key = Qt.Key(event.key())
        if key == Qt.Key.Key_0:
            self.show_all()
        elif key in steps:
            first, last = steps[key]
            self._chosen((low + first * width, high + last * width))
        else:
            super().keyPressEvent(event)

    def leaveEvent(self, event: QEvent) -> None:
        """The mouse has left."""
        super().leaveEvent(event)
        self.hovered.emit(None)

    def save(self, path: Path) -> None:
        """Write the chart as it is shown: .svg, else .png."""
        if path.suffix.lower() != ".svg":
            if not self.grab().save(str(path)):
                raise OSError("no picture can be written there")
            return
        drawing = QSvgGenerator()
        drawing.setFileName(str(path))
        drawing.setSize(self.size())
        drawing.setViewBox(self.rect())
        painter = QPainter()
        if not painter.begin(drawing):
            raise OSError("no drawing can be written there")
        self.plot.render(painter)
        painter.end()

    def clear(self) -> None:
        """An empty chart."""
        self.plot.clear()
        self.rule = self._words = None

    def set_range(self, steps: float, low: float, high: float) -> None:
        """What is in sight."""
        self._whole = (0.0, max(steps, 1.0))
        self.go_to(self.near)
        self.plot.setYRange(low, high, padding=0.04)

    def add_courses(self, courses: Sequence[Sequence[Evaluation]], number: int, *, each: bool) -> None:
        """One batch: its seeds if `each`, its median, its quartiles, its worst."""
        t = theme()
        color = t.color(SERIES[number % len(SERIES)])
        begun = [thinned(course) for course in courses if course]
        spread = spread_of(begun, self.quantity)
        if spread is None:
            return
        if each:
            self._bundle(begun, t.color(SERIES[number % len(SERIES)], 0.45))
        elif len(courses) > 1:
            edge = pg.mkPen(None)
            upper = pg.PlotCurveItem(spread.steps, spread.upper, pen=edge)
            lower = pg.PlotCurveItem(spread.steps, spread.lower, pen=edge)
            self.plot.addItem(
                pg.FillBetweenItem(upper, lower, brush=pg.mkBrush(t.color(SERIES[number % len(SERIES)], 0.18)))
            )
        if len(courses) > 1:
            worst = pg.mkPen(t.color("plum") if each else color, width=1.6, style=Qt.PenStyle.DashLine)
            self._curve(spread.worst_steps, spread.worst, worst)
        self._curve(spread.steps, spread.median, pg.mkPen(color, width=2.6, style=pen_style(0 if each else number)))
        if not each:
            self.text(
                LETTERS[number % len(LETTERS)],
                float(spread.steps[-1]),
                float(spread.median[-1]),
                bold=True,
                anchor=(0, 0.5),
            )
        elif len(courses) > 1:
            median = np.asarray(spread.median)
            # beside its rise: at its end the rules' lines would cross the word
            rising = int(np.argmax(median >= 0.5 * (median.min() + median.max())))
            of = "" if spread.whole else f" of {len(begun)}, as far as all have been"
            self.text(f" median{of}", float(spread.steps[rising]), float(median[rising]), bold=True, anchor=(0, 0))
        if (
            each
            and len(courses) > 1
            and abs(spread.worst[-1] - spread.median[-1]) > 0.06 * (np.ptp(spread.median) + 1e-9)
        ):
            self.text("worst", float(spread.worst_steps[-1]), float(spread.worst[-1]), anchor=(0, 0.5))

    def _bundle(self, courses: Sequence[Sequence[Evaluation]], colour: object) -> None:
        """Thin lines of one colour as one item. At most a pixel wide: wider ones are drawn as shapes, which takes thirty times as long."""
        x = np.array([e.step for course in courses for e in course], dtype=float)
        y = np.array([e.of(self.quantity) for course in courses for e in course], dtype=float)
        goes_on = np.ones(len(x), dtype=np.int32)
        goes_on[np.cumsum([len(course) for course in courses]) - 1] = 0
        self.plot.addItem(pg.PlotCurveItem(x, y, connect=goes_on, pen=pg.mkPen(colour, width=1), antialias=True))

    def _curve(
        self, steps: Sequence[float] | np.ndarray, values: Sequence[float] | np.ndarray, pen: object
    ) -> pg.PlotCurveItem:
        """A line; the plain item, several times cheaper than the one with symbols."""
        x, y = np.asarray(steps, dtype=float), np.asarray(values, dtype=float)
        item = pg.PlotCurveItem(x, y, pen=pen, antialias=True)
        self.plot.addItem(item)
        return item

    def curve(self, steps: np.ndarray, values: np.ndarray, colour: object, width: float, dashed: bool = False) -> None:
        """A line of its own colour."""
        style = Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine
        self._curve(steps, values, pg.mkPen(colour, width=width, style=style))

    def stack(self, x: Sequence[float], parts: Mapping[str, Sequence[float]]) -> None:
        """Shares that make a whole, one above the other, each named where it is widest; those that are trouble come by their hatching."""
        t, below, steps = theme(), np.zeros(len(x)), np.asarray(x, dtype=float)
        hatched = (
            Qt.BrushStyle.SolidPattern,
            Qt.BrushStyle.BDiagPattern,
            Qt.BrushStyle.FDiagPattern,
            Qt.BrushStyle.Dense5Pattern,
        )
        for number, (name, values) in enumerate(parts.items()):
            above = below + np.asarray(values, dtype=float)
            edge = pg.mkPen(t.color("ink", 0.5), width=1)
            lower, upper = (pg.PlotCurveItem(steps, y, pen=edge) for y in (below, above))
            brush = QBrush(t.color(SERIES[number % len(SERIES)], 0.35), hatched[number % len(hatched)])
            for item in (lower, upper, pg.FillBetweenItem(lower, upper, brush=brush)):
                self.plot.addItem(item)
            widest = int(np.argmax(above - below))
            if above[widest] - below[widest] > 0.05:
                side = 1.0 if steps[widest] > 0.6 * steps[-1] else 0.0
                self.text(
                    name, float(steps[widest]), float(0.5 * (above + below)[widest]), bold=True, anchor=(side, 0.5)
                )
            below = above

    def named(self, x: Sequence[float], parts: Mapping[str, Sequence[float]], low: float, high: float) -> None:
        """Lines that are named at their ends, in styles of their own; words that would lie on each other stand apart."""
        t, steps = theme(), np.asarray(x, dtype=float)
        words = []
        for number, name in enumerate(parts):
            pen = pg.mkPen(t.color(SERIES[number % len(SERIES)]), width=1.8, style=pen_style(number))
            self._curve(steps, parts[name], pen)
            end = float(parts[name][-1])
            words.append((end, self._curve(steps[-1:], [end], pen), self.text(name, 0.0, end, anchor=(0, 0.5))))
        self._words = (float(steps[-1]), sorted(words, key=lambda word: word[0]), low, high)
        self._place_words()

    def _place_words(self) -> None:
        """Words at the ends of lines, as high as the chart is tall; each led to by the end of its line."""
        if self._words is None:
            return
        last, words, low, high = self._words
        apart = WORD / max(self.plot.getViewBox().height(), WORD) * max(high - low, 1e-9)
        places = stood_apart([end for end, _, _ in words], apart, low, high)
        for (end, lead, text), y in zip(words, places, strict=True):
            lead.setData([last, 1.02 * last], [end, y])
            text.setPos(1.02 * last, y)

    def dots(self, points: Sequence[tuple[float, float]], colour: object, ring: bool = False) -> None:
        """Dots, or rings."""
        brush = pg.mkBrush(theme().color("card")) if ring else pg.mkBrush(colour)
        self.plot.addItem(pg.ScatterPlotItem(pos=list(points), size=7, pen=pg.mkPen(colour, width=1.6), brush=brush))

    def ticks(self, points: Sequence[tuple[float, float]], colour: object) -> None:
        """Upright strokes where something ends."""
        item = pg.ScatterPlotItem(
            pos=list(points), size=15, symbol="|", pen=pg.mkPen(colour, width=1), brush=pg.mkBrush(colour)
        )
        self.plot.addItem(item)

    def references(self, lines: Sequence[tuple[str, float]], steps: float, low: float, high: float) -> None:
        """Dashed lines of opponents; those that reach the same share a line and its words."""
        pen = pg.mkPen(theme().color("heron"), width=1.3, style=Qt.PenStyle.DashDotLine)
        span = max(high - low, 1e-9)
        groups: list[tuple[list[str], float]] = []
        for name, value in sorted(lines, key=lambda line: line[1]):
            if groups and value - groups[-1][1] < 0.02 * span:
                groups[-1][0].append(name)
            else:
                groups.append(([name], value))
        before, place = -np.inf, 0.0
        for names, value in groups:
            self.plot.addItem(pg.InfiniteLine(value, angle=0, pen=pen))
            # words of lines that lie close stand beside each other
            rest = 0.4 if value - low < 0.33 * span else 0.0  # where curves seldom are
            place = (place + 0.3) % 0.9 if value - before < 0.09 * span else rest
            self.text(
                f"{', '.join(names)} {show_value(self.quantity, value)}",
                place * steps,
                value,
                anchor=(0, 0 if value > high - 0.08 * span else 1),
            )
            before = value

    def text(
        self, text: str, x: float, y: float, bold: bool = False, anchor: tuple[float, float] = (0, 0)
    ) -> pg.TextItem:
        """A word beside a line."""
        item = pg.TextItem(text, color=theme().color("ink"), anchor=anchor)
        item.setFont(font(12, bold=bold))
        item.setPos(x, y)
        self.plot.addItem(item)
        return item

    def band(self, low: float | None, high: float | None) -> None:
        """Where a health figure lies in healthy runs."""
        if low is None and high is None:
            return
        ends = (-1e9 if low is None else low, 1e9 if high is None else high)
        brush = pg.mkBrush(theme().color("moss", 0.12))
        self.plot.addItem(
            pg.LinearRegionItem(ends, orientation="horizontal", brush=brush, pen=pg.mkPen(None), movable=False)
        )

    def threshold(self, value: float, text: str, movable: bool = True) -> None:
        """The good-enough rule, to be dragged where it is that of the recipe."""
        t = theme()
        self.rule = pg.InfiniteLine(
            value, angle=0, movable=movable, pen=pg.mkPen(t.color("moss"), width=2), hoverPen=pg.mkPen(t.color("moss"), width=4),
            label=f"⇕ {text}" if movable else text,
            labelOpts={"position": 0.5, "color": t.color("ink"), "fill": t.color("card"), "border": pg.mkPen(t.color("moss")), "movable": False},
        )  # fmt: skip
        self.rule.label.setFont(font(12, bold=True))
        self.rule.sigPositionChangeFinished.connect(self._dragged)
        self.plot.addItem(self.rule)

    def vertical(self, step: float, text: str) -> None:
        """The budget."""
        t = theme()
        pen = pg.mkPen(t.color("plum"), width=1.6)
        line = pg.InfiniteLine(
            step, angle=90, pen=pen, label=text,
            labelOpts={"position": 0.08, "color": t.color("ink"), "fill": t.color("card"), "border": pg.mkPen(t.color("plum")), "anchors": [(1, 0.5), (1, 0.5)]},
        )  # fmt: skip
        line.label.setFont(font(12))
        self.plot.addItem(line)

    def _dragged(self) -> None:
        if self.rule is not None and self.on_rule_dragged is not None:
            self.on_rule_dragged(float(self.rule.value()))
