"""Training: start, watch, stop; rules on the curve; health and seeds."""

from __future__ import annotations

import os
from typing import Any

from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from plucky_heron.analysis.diagnosis.finding import Try
from plucky_heron.desktop.bench.workbench import Workbench
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
from plucky_heron.desktop.stations.training.curves_card import CurvesCard
from plucky_heron.desktop.stations.training.diagnosis_card import DiagnosisCard, try_out
from plucky_heron.desktop.stations.training.go_on_sheet import GoOnSheet
from plucky_heron.desktop.stations.training.inside_sheet import InsideSheet
from plucky_heron.desktop.stations.training.marks import Histogram, SeedBars, Spark
from plucky_heron.desktop.stations.training.recipe_sheet import RecipeSheet
from plucky_heron.desktop.stations.training.rules_page import RulesPage
from plucky_heron.desktop.stations.training.settings_shown import SettingsShown
from plucky_heron.desktop.stations.training.watching import Watching
from plucky_heron.desktop.theme import theme
from plucky_heron.runs.executors import choose_at_once, chosen_at_once
from plucky_heron.runs.freeze import frozen_problem
from plucky_heron.runs.store import RunRow, run_folder
from plucky_heron.training.inside import has_inside
from plucky_heron.training.looking_back import declared
from plucky_heron.training.recipe import Recipe
from plucky_heron.units import counted

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
        self.curves = CurvesCard(bench)
        self.curves.changed.connect(self.refresh)
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
        self.drawing.setMinimumHeight(96)  # at the smallest window the settings beside it need the room
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
        self.curves.played.connect(self.watching.watch_at)
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

    def _workers(self) -> Choice:
        """How many runs of the project may be at work at the same time."""
        folder = self.bench.project.folder
        choice, chosen, cores = Choice("runs at once"), chosen_at_once(folder), len(os.sched_getaffinity(0))
        choice.setToolTip(
            "how many runs of this project may be at work at the same time; those that are at work are not stopped"
        )
        choice.addItem("one a core", None)
        for count in sorted({1, 2, cores // 2 or 1, cores, 2 * cores} | ({chosen} if chosen is not None else set())):
            choice.addItem(f"{count} at once", count)
        choice.setCurrentIndex(choice.findData(chosen))
        choice.activated.connect(lambda index: choose_at_once(folder, choice.itemData(index)))
        return choice

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
        field.setToolTip(f"trained one after another, or so many at once; each has {recipe.copies} episodes at a time")
        self.recipe_rows.add(label("seeds", "soft"), field, self._workers())
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

    def refresh(self) -> None:
        """Seeds always; curves, rules and health only when an evaluation, a rule or the choice changed."""
        rows = self.bench.batch_rows()
        self.curves.offer(model.figures(self.bench.recipe_of(rows[0]) if rows else self.bench.recipe))
        courses = [self.bench.course(r.id, whole=self.curves.needs_all()) for r in rows]
        drawn = (
            self.curves.chosen(), self.bench.run, self.bench.recipe, id(self.bench.shakedown), id(self.bench.problem),
            tuple((r.id, r.state, r.stop_rule, len(c)) for r, c in zip(rows, courses, strict=True)),
        )  # fmt: skip
        if drawn != self._drawn:
            self._drawn = drawn
            self.curves.draw(rows, courses)
            # in a turn of their own, so that no turn of the event loop gets long
            QTimer.singleShot(0, self, self._show_rules)
            QTimer.singleShot(0, self, self._show_health)
            QTimer.singleShot(0, self, lambda: self.diagnosis.look_at(self.bench.batch_rows()))
        self._show_seeds(rows)

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
            self.start.setText(f"{'Queue' if bench.training() else 'Train'} {counted(bench.recipe.seeds, 'seed')}")

    def _show_health(self) -> None:
        bench = self.bench
        at_work = next((r for r in bench.batch_rows() if r.state == "running"), None) or bench.row()
        self.health_rows.clear()
        if at_work is None:
            self.health.caption.setText("HEALTH")
            self.health_rows.add(label("shown once training has begun", "soft"))
        else:
            figures = bench.records.health(at_work.id)
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
        first: dict[str, Any] = next(
            (d["untrained"] for _, d in self.bench.records.details(run) if "untrained" in d), {}
        )
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
        if not self.curves.show_figure(key):
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
