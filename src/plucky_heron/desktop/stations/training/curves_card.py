"""The card of learning curves: one chart or two under one another, what they show, against what, and how far in."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout

from plucky_heron.desktop.bench.remembering import remember, remembered
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.charts.curves import CurveChart, thinned
from plucky_heron.desktop.forms.widgets import Card, Choice, ElidedLabel, button
from plucky_heron.desktop.stations.training import model
from plucky_heron.errors import HeronError
from plucky_heron.files import write_whole
from plucky_heron.runs.freeze import frozen_problem
from plucky_heron.runs.store import RunRow
from plucky_heron.training.recipe import Recipe
from plucky_heron.training.stopping import Evaluation, Level, show_steps
from plucky_heron.training.stopping.evaluation import HEALTH_FIGURES

PART = "learning curves"
NONE = ""
"""The second chart shows nothing: there is one."""


class CurvesCard(Card):
    """Learning curves of the chosen batch.

    Signals
    -------
    changed()
        Another figure, axis or mean was chosen, or a rule was dragged.
    played(float)
        A click at a step: the policy that is nearest is wanted.
    """

    changed = Signal()
    played = Signal(float)

    def __init__(self, bench: Workbench) -> None:
        super().__init__("Learning curve")
        self.bench = bench
        self.chart, self.second = CurveChart(self._rule_dragged), CurveChart()
        self.second.plot.setAccessibleName("second learning curves")
        self.second.hide()
        for chart in (self.chart, self.second):
            chart.hovered.connect(self._read_at)
            chart.clicked.connect(self._clicked)
            chart.setToolTip(
                "click: play the kept policy that is nearest · wheel, + and −: nearer and farther · 0: all of it"
            )
        self.chart.zoomed.connect(lambda ends: self._zoomed(self.second, ends))
        self.second.zoomed.connect(lambda ends: self._zoomed(self.chart, ends))
        self._span, self._room, self.told = 1.0, 1.08, ""
        self._drawn: dict[CurveChart, object] = {}
        """What each chart was last drawn from: where it is still so, nothing is drawn again."""
        self.shown: dict[str, list[tuple[int, list[Evaluation]]]] = {}
        """What each figure in sight is drawn from, by seed."""
        self.body.addWidget(self.chart, 1)
        self.below = ElidedLabel("", "caption")
        self.below.hide()
        self.body.addWidget(self.below)
        self.body.addWidget(self.second, 1)
        self.quantity, self.beneath = Choice("quantity"), Choice("second chart")
        self.along, self.over = Choice("against"), Choice("mean over evaluations")
        self.beneath.setToolTip("a second chart under the first, by the same axis")
        self.offer(model.figures(bench.recipe))
        for words, key in model.ALONG:
            self.along.addItem(f"against {words}", key)
        for count in model.MEANS:
            self.over.addItem(f"mean of {count}" if count > 1 else "each evaluation", count)
        self._recall()
        self.all = button("all of it", self.chart.show_all, "link", "show the whole axis")
        self.all.hide()
        save = button("save …", self.save, "link", "save the chart")
        save.setToolTip("the charts as PNG or SVG, or all figures of the batch as CSV")
        self.head.addWidget(self.all)
        self.head.addWidget(save)
        switch = QHBoxLayout()
        for choice, stretch in ((self.quantity, 3), (self.beneath, 3), (self.over, 2), (self.along, 2)):
            choice.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            choice.setMinimumContentsLength(10)
            switch.addWidget(choice, stretch)
        self.body.addLayout(switch)
        for choice in (self.quantity, self.beneath, self.along, self.over):
            choice.currentIndexChanged.connect(lambda _: self._chosen())

    def chosen(self) -> tuple[str, str, str, int]:
        """Figure, second figure, what it stands against, and the evaluations that a point is the mean of."""
        return (
            str(self.quantity.currentData()),
            str(self.beneath.currentData() or NONE),
            str(self.along.currentData()),
            int(self.over.currentData()),
        )

    def _recall(self) -> None:
        told = remembered(PART)
        for key, choice in (("first", self.quantity), ("second", self.beneath), ("against", self.along), ("mean", self.over)):  # fmt: skip
            found = choice.findData(told.get(key))
            if found >= 0:
                choice.setCurrentIndex(found)

    def _chosen(self) -> None:
        first, second, along, over = self.chosen()
        remember(PART, {"first": first, "second": second, "against": along, "mean": over})
        self.changed.emit()

    def offer(self, figures: list[tuple[str, str]]) -> None:
        """What the charts can show; the figures that are shown stay."""
        if figures == [(self.quantity.itemText(k), self.quantity.itemData(k)) for k in range(self.quantity.count())]:
            return
        told = remembered(PART)
        for choice, key, wanted in (
            (self.quantity, "first", figures),
            (self.beneath, "second", [("one chart", NONE), *((f"and {words}", key) for words, key in figures)]),
        ):
            shown = choice.currentData() if choice.count() else told.get(key)
            with QSignalBlocker(choice):
                choice.clear()
                for words, data in wanted:
                    choice.addItem(words, data)
                choice.setCurrentIndex(max(0, choice.findData(shown)))

    def needs_all(self) -> bool:
        """Whether figures besides score and success are shown."""
        return any(q not in ("success", "score", NONE) for q in self.chosen()[:2])

    def show_figure(self, key: str) -> bool:
        """Show a figure on the first chart; False where it is none of them."""
        found = self.quantity.findData(key)
        if found >= 0:
            self.quantity.setCurrentIndex(found)
        return found >= 0

    def _own_recipe(self) -> Recipe | None:
        """What the shown batch used; None without a batch."""
        rows = self.bench.batch_rows()
        return self.bench.recipe_of(rows[0]) if rows else None

    def _level(self, recipe: Recipe | None, quantity: str) -> tuple[int, Level] | None:
        """The first rule of a recipe that draws a line across a chart, and the line."""
        levels = [(k, rule.level()) for k, rule in enumerate(recipe.stop)] if recipe is not None else []
        return next(((k, level) for k, level in levels if level is not None and level.quantity == quantity), None)

    def _zoomed(self, other: CurveChart, ends: tuple[float, float] | None) -> None:
        other.go_to(ends)
        self.all.setVisible(ends is not None)

    def _read_at(self, x: float | None) -> None:
        """Say what all seeds had where the mouse is, of each chart."""
        if x is None or x < 0:
            self.note.setText(self.told)
            return
        said = [model.read_at(courses, quantity, x) for quantity, courses in self.shown.items()]
        self.note.setText(" · ".join(text for text in said if text) or self.told)

    def _clicked(self, x: float) -> None:
        if self.along.currentData() == "steps" and x >= 0.0:
            self.played.emit(x)

    def save(self) -> None:
        """Write the charts, or the figures of the batch, where the person says."""
        rows = self.bench.batch_rows()
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the chart", "training.png", "Picture (*.png *.svg);;Figures (*.csv)"
        )
        if not name:
            return
        path = Path(name) if Path(name).suffix else Path(f"{name}.png")
        try:
            if path.suffix.lower() == ".csv":
                write_whole(path, model.csv_text([(row, self.bench.course(row.id, whole=True)) for row in rows]))
                paths = [path]
            else:
                charts = [self.chart, *([self.second] if self.second.isVisible() else [])]
                paths = [path, path.with_name(f"{path.stem}-2{path.suffix}")][: len(charts)]
                for chart, place in zip(charts, paths, strict=True):
                    chart.save(place)
            self.bench.noted.emit(f"written: {', '.join(map(str, paths))}")
        except (HeronError, OSError) as error:
            self.bench.say(f"{path.name} cannot be written: {error}")

    def _rule_dragged(self, value: float) -> None:
        found = self._level(self.bench.recipe, self.chosen()[0])
        self._drawn.clear()  # the line stands where it was dropped, also where the edit is refused
        if found is None:
            return
        number, level = found
        title = level.text.partition(":")[0]
        if level.quantity == "success":
            value = float(np.clip(round(value, 3), 0.0, 1.0))
            self.bench.edit(
                "recipes", ["stop", number, level.key], f"{100 * value:.1f} %", f"{title}: {100 * value:.1f} %"
            )
        else:
            self.bench.edit("recipes", ["stop", number, level.key], round(value, 2), f"{title}: {value:.1f}")
        self.changed.emit()

    def draw(self, rows: list[RunRow], courses: list[list[Evaluation]]) -> None:
        """Draw what is chosen of a batch: a course for each of its runs."""
        first, second, along, over = self.chosen()
        self.caption.setText(model.curves_caption(self.bench, first, over).upper())
        self.told = model.curves_note(self.bench, rows)
        self.note.setText(self.told)
        self.shown = {quantity: seen for quantity, seen in self.shown.items() if quantity in (first, second)}
        budget = max([r.budget for r in rows], default=self.bench.recipe.steps if self.bench.recipe else 1)
        ends = [c[-1].step for c in model.against(courses, along) if c]
        self._span = float(budget if along == "steps" else max(ends, default=1))
        # words stand behind the ends of reward terms; two charts share an axis
        self._room = 1.22 if model.TERMS in (first, second) else 1.08
        self._draw(self.chart, first, along, over, rows, courses)
        self.second.setVisible(bool(second))
        self.below.setVisible(bool(second))
        if second:
            self.below.setText(model.curves_caption(self.bench, second, over).upper())
            self._draw(self.second, second, along, over, rows, courses)

    def _draw(
        self,
        chart: CurveChart,
        quantity: str,
        along: str,
        over: int,
        rows: list[RunRow],
        courses: list[list[Evaluation]],
    ) -> None:
        bench = self.bench
        parts = quantity in (model.ENDINGS, model.TERMS)
        lines = bench.lines(quantity) if quantity in ("success", "score") else []
        own = self._own_recipe()
        mine = own is None or bench.recipe is None or own.stop == bench.recipe.stop or any(r.alive for r in rows)
        found = self._level(bench.recipe if mine else own, quantity)
        drawn = (
            quantity, along, over, self._span, self._room, lines, found, mine, id(bench.problem), bench.run if parts else None,
            [(row.id, len(course), course[-1:]) for row, course in zip(rows, courses, strict=True)],
        )  # fmt: skip
        if self._drawn.get(chart) == drawn:
            return
        self._drawn[chart] = drawn
        if along != chart.along:
            chart.show_all()
        chart.quantity, chart.along = quantity, along
        chart.clear()
        if parts:
            self._draw_parts(chart, quantity)
            return
        courses = [model.averaged(course, quantity, over) for course in model.against(courses, along)]
        steps = self._span
        values = [e.of(quantity) for c in courses for e in thinned(c)] + [value for _, value in lines]
        low, high = model.limits(values, quantity)
        chart.set_range(steps * self._room, low, high)
        if quantity in HEALTH_FIGURES:
            chart.band(HEALTH_FIGURES[quantity].low, HEALTH_FIGURES[quantity].high)
            courses = [c[1:] for c in courses]  # before the first update there is no health
        self.shown[quantity] = [(row.seed, course) for row, course in zip(rows, courses, strict=True)]
        chart.references(lines, steps, low, high)
        chart.add_courses(courses, 0, each=True)
        if found is not None:
            chart.threshold(found[1].value, found[1].text, movable=mine and chart is self.chart)
        if rows and along == "steps":
            chart.vertical(steps, f"budget {show_steps(steps)}")

    def _draw_parts(self, chart: CurveChart, quantity: str) -> None:
        """Endings or reward terms of the chosen run over its training."""
        row = self.bench.row()
        if row is None:
            return
        found = self.bench.records.details(row.id)
        own = self.bench.problem
        if own is None or self.bench.older(row):
            own = frozen_problem(self.bench.project.folder, row)
        parts = model.parts_of(found, quantity, list(own.task.rewards))
        if len(found) < 2 or not parts:
            return
        course = model.against([self.bench.course(row.id)], self.chosen()[2])[0]
        x = [float(e.step) for e in course][: len(found)]
        end = self._span if self.beneath.currentData() else x[-1]  # two charts share an axis
        if quantity == model.ENDINGS:
            chart.set_range(end * self._room, 0.0, 1.02)
            chart.stack(x, parts)
            return
        low, high = model.limits([v for values in parts.values() for v in values], quantity)
        chart.set_range(end * self._room, low, high)
        chart.named(x, parts, low, high)
