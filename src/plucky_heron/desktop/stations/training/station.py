"""Training: start, watch, stop; rules on the curve; health and seeds."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtWidgets import QFileDialog, QGridLayout, QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from plucky_heron.analysis.diagnosis.finding import Try
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.charts.curves import CurveChart
from plucky_heron.desktop.forms.widgets import (
    Card,
    Choice,
    ElidedLabel,
    QuantityField,
    Rows,
    bare_card,
    button,
    label,
    scrolled,
)
from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.stations.training import model
from plucky_heron.desktop.stations.training.diagnosis_card import DiagnosisCard, try_out
from plucky_heron.desktop.stations.training.go_on_sheet import GoOnSheet
from plucky_heron.desktop.stations.training.inside_sheet import InsideSheet
from plucky_heron.desktop.stations.training.marks import Histogram, SeedBars, Spark
from plucky_heron.desktop.stations.training.model import seeds_text
from plucky_heron.desktop.stations.training.recipe_sheet import RecipeSheet
from plucky_heron.desktop.stations.training.rules_page import RulesPage
from plucky_heron.desktop.stations.training.settings_shown import SettingsShown
from plucky_heron.desktop.stations.training.watching import Watching
from plucky_heron.desktop.theme import theme
from plucky_heron.errors import HeronError
from plucky_heron.files import write_whole
from plucky_heron.runs.freeze import frozen_problem, run_folder
from plucky_heron.runs.store import RunRow
from plucky_heron.training.inside import has_inside
from plucky_heron.training.looking_back import declared
from plucky_heron.training.recipe import Recipe
from plucky_heron.training.stopping import Evaluation, Level, show_steps
from plucky_heron.training.stopping.evaluation import HEALTH_FIGURES

SETTINGS = (
    "learning_rate", "steps_per_update", "passes", "minibatch", "updates_per_step", "random_start_steps", "model_updates", "candidates",
    "episodes", "perturbation", "weight_spread", "discount", "exploration_memory",
)  # fmt: skip
"""Those that are shown beside the curves, if the method has them."""
MOST_SHOWN = 5
FIRST_UPDATES = 3
"""Updates during which the untrained policy's commands are still shown."""


class TrainingStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self._drawn: object = None
        self.shown = SettingsShown(bench, self)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(16, 10, 16, 14)
        self.pages = QStackedWidget()
        outer.addWidget(self.pages)
        first = QWidget()
        self.pages.addWidget(first)
        self.trial = RulesPage(bench)
        self.trial.left.connect(self.close_rules)
        self.pages.addWidget(self.trial)
        grid = QGridLayout(first)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(10)
        self.curves = Card("Learning curve")
        switch = QHBoxLayout()
        self.quantity = Choice("quantity")
        for words, key in model.OWN:
            self.quantity.addItem(words, key)
        self.quantity.currentIndexChanged.connect(lambda _: self.refresh())
        self.along = Choice("against")
        for words, key in model.ALONG:
            self.along.addItem(words, key)
        self.along.currentIndexChanged.connect(lambda _: self.refresh())
        switch.addWidget(self.quantity)
        self.reading = ElidedLabel("", "soft")
        switch.addWidget(self.reading, 1)
        save = button("save …", self.save_chart, "link", "save the chart")
        save.setToolTip("the chart as PNG or SVG, or all figures of the batch as CSV")
        switch.addWidget(save)
        self.over = Choice("mean over evaluations")
        for count in model.MEANS:
            self.over.addItem(f"mean of {count}" if count > 1 else "each evaluation", count)
        self.over.currentIndexChanged.connect(lambda _: self.refresh())
        switch.addWidget(self.over)
        switch.addWidget(label("against", "soft"))
        switch.addWidget(self.along)
        self.chart = CurveChart(self._rule_dragged)
        self.chart.hovered.connect(self._read_at)
        self.chart.clicked.connect(self._play_at)
        self.chart.setToolTip("a click plays the kept policy that is nearest")
        self._shown: list[tuple[int, list[Evaluation]]] = []
        self.curves.body.addWidget(self.chart, 1)
        self.curves.body.addLayout(switch)
        self.rules = Card("Stop rules", "each seed for itself")
        self.rule_rows = Rows((0, 1), spacing=3)
        self.rules.body.addWidget(scrolled(self.rule_rows), 1)
        foot = QHBoxLayout()
        foot.addWidget(
            button("Change, replay and tune …", self.open_rules, "", "change, replay and tune the stop rules")
        )
        foot.addStretch(1)
        self.rules.body.addLayout(foot)
        self.health = Card("Health", "value · healthy band · its history")
        self.health_rows = Rows((4, 2, 5), spacing=3)
        self.health.body.addWidget(scrolled(self.health_rows), 1)
        self.inside = button("Inside the method …", self.look_inside)
        self.inside.setToolTip(
            "what the model predicted beside what followed, or the weights that were tried and their scores"
        )
        self.inside.hide()
        self.diagnosis = DiagnosisCard(bench, self.show_figure, self.try_out)
        self.told = QStackedWidget()
        self.told.addWidget(self.diagnosis)
        self.told.addWidget(self.health)
        self.to_health = button("Health figures", lambda: self.told.setCurrentWidget(self.health))
        self.to_diagnosis = button("Diagnosis", lambda: self.told.setCurrentWidget(self.diagnosis))
        for card, widgets in ((self.diagnosis, (self.to_health,)), (self.health, (self.to_diagnosis, self.inside))):
            line = QHBoxLayout()
            for widget in widgets:
                line.addWidget(widget)
            line.addStretch(1)
            card.body.addLayout(line)
        self.recipe = Card("Recipe", "")
        self.recipe_rows = Rows((3, 2, 3), spacing=4)
        self.recipes = Choice("recipe")
        self.recipes.setToolTip("recipes that may be used for this task; the standard needs no file")
        self.recipes.textActivated.connect(bench.choose_recipe)
        self.recipe.body.addWidget(self.recipe_rows)
        self.choose = button("Method and settings …", self.choose_method)
        which = QHBoxLayout()
        which.addWidget(self.recipes, 1)
        which.addWidget(self.choose, 1)
        self.recipe.body.addLayout(which)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        self.recipe.body.addWidget(self.wrong)
        self.drawing = Drawing(bench.playback)
        picture = bare_card(self.drawing, "drawing")
        self.seeds = Card("Seeds", "")
        self.bars = SeedBars()
        self.kept = ElidedLabel("", "soft")
        self.seeds.body.addWidget(self.bars)
        self.seeds.body.addWidget(self.kept)
        side = QVBoxLayout()
        side.setSpacing(10)
        side.addWidget(self.recipe)
        side.addWidget(picture, 1)
        side.addWidget(self.seeds)
        row = QHBoxLayout()
        self.start = button("Train", self.train, "primary")
        self.stop = button("Stop and keep", bench.stop_training)
        self.more = button("Go on …", self.go_on)
        self.more.setToolTip("give the chosen run more steps, or start anew from its policy")
        for widget in (self.start, self.stop, self.more):
            row.addWidget(widget)
        row.addStretch(1)
        self.watching = Watching(bench)
        side.addWidget(self.watching)
        side.addLayout(row)
        grid.addWidget(self.curves, 0, 0, 1, 2)
        grid.addWidget(self.rules, 1, 0)
        grid.addWidget(self.told, 1, 1)
        grid.addLayout(side, 0, 2, 2, 1)
        for column, stretch in enumerate((31, 33, 36)):
            grid.setColumnStretch(column, stretch)
        grid.setRowStretch(0, 62)
        grid.setRowStretch(1, 38)
        bench.runs_changed.connect(self.later)
        bench.problem_changed.connect(self._recipe_changed)
        self.shown.measured.connect(self._show_recipe)
        bench.results_changed.connect(self.later)
        self._show_recipe()
        self.refresh()

    def _recipe_changed(self) -> None:
        self._show_recipe()
        self.later()

    def _show_recipe(self) -> None:
        recipe = self.bench.recipe
        if recipe is None:
            return
        with QSignalBlocker(self.recipes):
            self.recipes.clear()
            self.recipes.addItems(self.bench.recipes())
            self.recipes.setCurrentText(self.bench.recipe_name)
        facts = self.shown.facts(recipe)
        values, fits = self.shown.values(recipe, facts), self.shown.fitted(recipe)
        changed = {f.key for f in facts if values[f.key] != f.default}
        self.recipe.note.setText(model.recipe_note(recipe, len(changed)))
        self.recipe_rows.clear()
        for fact in [f for f in facts if f.key in SETTINGS][:MOST_SHOWN]:
            field = QuantityField("", fact.name)
            field.show_value(float(values[fact.key]))
            field.edited.connect(lambda v, _t, k=fact.key, f=field: self._set(["settings", k], v, k, f))
            title = label(fact.name, "strong" if fact.key in changed else "soft")
            for widget in (field, title):
                widget.setToolTip(f"{fact.does}\nWrong: {fact.wrong}")
            beside = (
                f"standard {fact.default:g}" if fact.key in changed else "fits the task" if fact.key in fits else ""
            )
            self.recipe_rows.add(title, field, ElidedLabel(beside, "soft"))
        field = QuantityField("", "seeds")
        field.show_value(float(recipe.seeds))
        field.edited.connect(lambda v, _t, f=field: self._set(["seeds"], v, "seeds", f))
        self.recipe_rows.add(label("seeds", "soft"), field, ElidedLabel(f"{recipe.copies} episodes at a time", "soft"))
        self.recipe_rows.finish()

    def _set(self, key: list[str], value: float, text: str, field: QuantityField) -> None:
        number = int(value) if value == int(value) and abs(value) >= 1 else value
        wrong = self.bench.edit("recipes", key, number, f"{text}: {number}")
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))

    def _own_recipe(self) -> Recipe | None:
        """What the shown batch used; None without a batch."""
        rows = self.bench.batch_rows()
        return self.bench.recipe_of(rows[0]) if rows else None

    def _show_rules(self) -> None:
        recipe, own = self.bench.recipe, self._own_recipe()
        if recipe is None:
            return
        self.rule_rows.clear()
        rows = self.bench.batch_rows()
        courses = [self.bench.course(row.id) if row.alive else [] for row in rows]
        shown = own or recipe
        for rule in shown.stop:
            name = label(rule.kind.capitalize(), "strong")
            name.setStyleSheet(f"border-left: 5px solid {getattr(theme(), rule.role)}; padding-left: 8px;")
            self.rule_rows.add(
                name, ElidedLabel(model.what_it_ended(rule, rows, courses, shown.evaluation.every), "soft")
            )
            self.rule_rows.add_wide(ElidedLabel(rule.words(), ""))
        self.rules.note.setText(model.rules_note(own, recipe, self.bench.batch))
        self.rule_rows.finish()

    def _level(self, recipe: Recipe | None) -> tuple[int, Level] | None:
        """The first rule of a recipe that draws a line across the shown chart, and the line."""
        quantity = self.quantity.currentData()
        levels = [(k, rule.level()) for k, rule in enumerate(recipe.stop)] if recipe is not None else []
        return next(((k, level) for k, level in levels if level is not None and level.quantity == quantity), None)

    def _read_at(self, x: float | None) -> None:
        """Say what all seeds had where the mouse is."""
        quantity = str(self.quantity.currentData())
        self.reading.setText("" if x is None or x < 0 else model.read_at(self._shown, quantity, x))

    def save_chart(self) -> None:
        """Write the chart, or the figures of the batch, where the person says."""
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
            else:
                self.chart.save(path)
            self.bench.noted.emit(f"written: {path}")
        except (HeronError, OSError) as error:
            self.bench.say(f"{path.name} cannot be written: {error}")

    def _rule_dragged(self, value: float) -> None:
        found = self._level(self.bench.recipe)
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
        self.refresh()

    def refresh(self) -> None:
        """Seeds always; curves, rules and health only when an evaluation, a rule or the choice changed."""
        rows = self.bench.batch_rows()
        self._offer_figures(rows)
        plain = self.quantity.currentData() in ("success", "score")
        courses = [self.bench.course(r.id, whole=not plain) for r in rows]
        drawn = (
            self.quantity.currentData(), self.along.currentData(), self.over.currentData(), self.bench.run, self.bench.recipe, id(self.bench.shakedown), id(self.bench.problem),
            tuple((r.id, r.state, r.stop_rule, len(c)) for r, c in zip(rows, courses, strict=True)),
        )  # fmt: skip
        if drawn != self._drawn:
            self._drawn = drawn
            self._show_curves(rows, courses)
            # in a turn of their own, so that no turn of the event loop gets long
            QTimer.singleShot(0, self, self._show_rules)
            QTimer.singleShot(0, self, self._show_health)
            QTimer.singleShot(0, self, lambda: self.diagnosis.look_at(self.bench.batch_rows()))
        self._show_seeds(rows)

    def _offer_figures(self, rows: list[RunRow]) -> None:
        """What the chart can show of the batch; the figure that is shown stays."""
        wanted = model.figures(self.bench.recipe_of(rows[0]) if rows else self.bench.recipe)
        if wanted == [(self.quantity.itemText(k), self.quantity.itemData(k)) for k in range(self.quantity.count())]:
            return
        shown = self.quantity.currentData()
        with QSignalBlocker(self.quantity):
            self.quantity.clear()
            for words, key in wanted:
                self.quantity.addItem(words, key)
            self.quantity.setCurrentIndex(max(0, self.quantity.findData(shown)))

    def _show_curves(self, rows: list[RunRow], courses: list[list[Evaluation]]) -> None:
        bench = self.bench
        quantity, along = self.quantity.currentData(), self.along.currentData()
        self.chart.quantity, self.chart.along = quantity, along
        self.chart.clear()
        self.curves.caption.setText(model.curves_caption(bench, quantity, self.over.currentData()).upper())
        self.curves.note.setText(model.curves_note(bench, rows))
        if quantity in (model.ENDINGS, model.TERMS):
            self._show_parts(str(quantity))
            return
        budget = max([r.budget for r in rows], default=bench.recipe.steps if bench.recipe else 1)
        courses = [
            model.averaged(course, quantity, self.over.currentData()) for course in model.against(courses, along)
        ]
        steps = budget if along == "steps" else max([c[-1].step for c in courses if c], default=1)
        lines = bench.lines(quantity) if quantity in ("success", "score") else []
        values = [e.of(quantity) for c in courses for e in c] + [value for _, value in lines]
        low, high = model.limits(values, quantity)
        self.chart.set_range(steps * 1.08, low, high)
        if quantity in HEALTH_FIGURES:
            self.chart.band(HEALTH_FIGURES[quantity].low, HEALTH_FIGURES[quantity].high)
            courses = [c[1:] for c in courses]  # before the first update there is no health
        self._shown = [(row.seed, course) for row, course in zip(rows, courses, strict=True)]
        self.chart.references(lines, steps, low, high)
        self.chart.add_courses(courses, 0, each=True)
        own = self._own_recipe()
        mine = own is None or bench.recipe is None or own.stop == bench.recipe.stop or any(r.alive for r in rows)
        found = self._level(bench.recipe if mine else own)
        if found is not None:
            self.chart.threshold(found[1].value, found[1].text, movable=mine)
        if rows and along == "steps":
            self.chart.vertical(float(steps), f"budget {show_steps(steps)}")

    def _show_parts(self, quantity: str) -> None:
        """Endings or reward terms of the chosen run over its training."""
        row, self._shown = self.bench.row(), []
        if row is None:
            return
        found = self.bench.store.details(row.id)
        own = self.bench.problem
        if own is None or self.bench.older(row):
            own = frozen_problem(self.bench.project.folder, row)
        parts = model.parts_of(found, quantity, list(own.task.rewards))
        if len(found) < 2 or not parts:
            return
        course = model.against([self.bench.course(row.id)], self.along.currentData())[0]
        x = [float(e.step) for e in course][: len(found)]
        if quantity == model.ENDINGS:
            self.chart.set_range(x[-1] * 1.08, 0.0, 1.02)
            self.chart.stack(x, parts)
            return
        low, high = model.limits([v for values in parts.values() for v in values], quantity)
        self.chart.set_range(x[-1] * 1.2, low, high)
        self.chart.named(x, parts, low, high)

    def _play_at(self, x: float) -> None:
        """Play the policy that is nearest to a click."""
        if self.along.currentData() == "steps" and x >= 0.0:
            self.watching.watch_at(x)

    def _show_seeds(self, rows: list[RunRow]) -> None:
        bench = self.bench
        self.bars.rows, self.bars.chosen = rows, bench.run
        self.bars.update()
        self.seeds.note.setText(model.seeds_note(bench, rows))
        row = bench.row()
        self.kept.setText(model.kept_note(row))
        self.more.setEnabled(row is not None and not row.alive)
        self.stop.setEnabled(bool(bench.training()))
        self.watching.offer(row)
        if bench.recipe is not None:
            self.start.setText(f"{'Queue' if bench.training() else 'Train'} {seeds_text(bench.recipe.seeds)}")

    def _show_health(self) -> None:
        bench = self.bench
        at_work = next((r for r in bench.batch_rows() if r.state == "running"), None) or bench.row()
        self.health_rows.clear()
        if at_work is None:
            self.health.caption.setText("HEALTH")
            self.health_rows.add(label("shown once training has begun", "soft"))
        else:
            figures = bench.store.health(at_work.id)
            last = figures[-1][0] if figures else 0
            self.health.caption.setText(f"HEALTH OF SEED {at_work.seed} AT {last / 1000:.0f} K STEPS")
            if len(figures) < FIRST_UPDATES:
                self._show_untrained(at_work.id)
            for figure in declared(bench.recipe_of(at_work)):
                history = [h[figure.key] for _, h in figures if figure.key in h]
                if history:
                    value = label(figure.show(history[-1]), "strong")
                    value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                    self.health_rows.add(label(figure.words, "soft"), value, Spark(history, figure.low, figure.high))
        self.health_rows.finish()
        self.inside.setVisible(at_work is not None and has_inside(run_folder(bench.project.folder, at_work.id)))

    def _show_untrained(self, run: int) -> None:
        """Where the untrained policy's commands lie."""
        first: dict[str, Any] = next((d["untrained"] for _, d in self.bench.store.details(run) if "untrained" in d), {})
        for name, found in first.items():
            share = label(
                f"{100 * found['at_limit']:.0f} % at limits", "wrong" if found["at_limit"] > 0.2 else "strong"
            )
            self.health_rows.add(label(f"untrained {name}", "soft"), share, Histogram(found["histogram"], name))

    def train(self) -> None:
        """Start a batch of the recipe."""
        recipe = self.bench.recipe
        if recipe is not None:
            self.bench.train(list(range(1, recipe.seeds + 1)))

    def open_rules(self) -> None:
        """Change stop rules, replay them over recorded runs, tune them."""
        self.trial.enter()
        self.pages.setCurrentWidget(self.trial)

    def close_rules(self) -> None:
        """Back to the curves."""
        self.pages.setCurrentIndex(0)
        self._drawn = None
        self.refresh()

    def show_figure(self, key: str) -> None:
        """Show the figure that a finding speaks of: on the chart where it stands there, else among the health figures."""
        found = self.quantity.findData(key)
        if found >= 0:
            self.quantity.setCurrentIndex(found)
        else:
            self.told.setCurrentWidget(self.health)

    def try_out(self, one: Try) -> None:
        """Put what a finding advises into a copy of the run's recipe."""
        wrong = try_out(self.bench, self.bench.row(), one)
        if wrong:
            self.bench.say(wrong)
        else:
            self.bench.noted.emit(
                f"recipe {self.bench.recipe_name}: {one.text}; Train starts it, a change or Keep gives it a file"
            )

    def go_on(self) -> None:
        """Ask how the chosen run goes on."""
        row = self.bench.row()
        if row is not None and not row.alive:
            self.sheet_of_run = GoOnSheet(self.bench, row, self)
            self.sheet_of_run.open()

    def choose_method(self) -> None:
        """Open the sheet of methods and settings."""
        self.sheet = RecipeSheet(self.bench, self, self.shown)
        self.sheet.open()

    def look_inside(self) -> None:
        """Open the sheet of what the method found, of the run whose health is shown."""
        row = next((r for r in self.bench.batch_rows() if r.state == "running"), None) or self.bench.row()
        if row is not None:
            self.inside_sheet = InsideSheet(
                frozen_problem(self.bench.project.folder, row), run_folder(self.bench.project.folder, row.id), self
            )
            self.inside_sheet.open()
