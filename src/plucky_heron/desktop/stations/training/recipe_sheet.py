"""Choosing a method and its settings: what suits, what it costs here, what goes wrong, every setting with its reason."""

from __future__ import annotations

from functools import partial
from typing import Any

import tomlkit
from PySide6.QtCore import QEvent, QObject, QSize, Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QWidget,
)

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Card, Choice, Rows, button, label, scrolled
from plucky_heron.desktop.stations.training.settings_shown import SettingsShown, is_time
from plucky_heron.desktop.theme import theme
from plucky_heron.errors import HeronError
from plucky_heron.learning.guide import GUIDES, LENGTHS, SettingFacts, guide_of, preset
from plucky_heron.task.problem import Problem
from plucky_heron.training.fitting import fit, warnings
from plucky_heron.training.forecast import Forecast, forecast, replay_megabytes
from plucky_heron.training.recipe import MOST_FILMS, Recipe, ResidualPlan, literal
from plucky_heron.training.shaping import potential_of

FAMILIES = {
    "fresh steps": "learns from fresh steps", "replay": "learns from a replay buffer", "model": "predicts by a model",
    "search": "tries weights by whole episodes",
}  # fmt: skip


ALONE = "nothing: commands alone"
POTENTIAL = "shaping.potential"
CUT = "training_time_limit"
FILMS = "evaluation.film_every"
AS_TEXT = (POTENTIAL, CUT)
"""Read as they are typed: a formula, a quantity with its unit."""


class RecipeSheet(QDialog):
    """The sheet; everything it changes goes into the recipe's file at once, and can be undone."""

    def __init__(self, bench: Workbench, parent: QWidget | None, shown: SettingsShown) -> None:
        super().__init__(parent)
        self.bench, self.shown = bench, shown
        self.measured: dict[tuple[str, str], Forecast] = {}
        self.editors: dict[str, QWidget] = {}
        self.reasons: dict[QObject, str] = {}
        self._shown: object = None
        self.setWindowTitle("Method and settings")
        self.resize(1040, 700)
        grid = QGridLayout(self)
        grid.setContentsMargins(16, 14, 16, 14)
        grid.setSpacing(10)
        self.methods = QListWidget()
        self.methods.setAccessibleName("methods")
        for key, guide in GUIDES.items():
            item = QListWidgetItem(f"{guide.name}\n{FAMILIES[guide.family]}")
            item.setData(Qt.ItemDataRole.UserRole, key)
            item.setSizeHint(QSize(0, 52))
            self.methods.addItem(item)
        self.methods.currentRowChanged.connect(lambda _: self._method_chosen())
        left = Card("Method")
        left.body.addWidget(self.methods, 1)
        self.advice = Card("What to expect")
        self.advice_rows = Rows((1, 5), spacing=5)
        self.advice.body.addWidget(self.advice_rows)
        row = QHBoxLayout()
        self.cost = label("", "strong", wrap=True)
        row.addWidget(self.cost, 1)
        self.measure_button = button("Measure for two seconds", self.measure)
        row.addWidget(self.measure_button)
        self.advice.body.addLayout(row)
        self.settings = Card("Settings")
        top = QHBoxLayout()
        top.addWidget(label("budget", "soft"))
        self.presets = {
            name: button(name.capitalize(), partial(self.use_preset, name), name=f"preset {name}") for name in LENGTHS
        }
        for widget in self.presets.values():
            top.addWidget(widget)
        top.addStretch(1)
        self.only_changed = QCheckBox("only what is changed")
        self.only_changed.toggled.connect(lambda _: self.show_recipe(force=True))
        top.addWidget(self.only_changed)
        self.settings.body.addLayout(top)
        self.rows = Rows((4, 3, 1, 10), spacing=4)
        self.settings.body.addWidget(scrolled(self.rows), 1)
        self.explained = label(
            "Point at a setting to see what it does and how one notices that it is wrong.", "soft", wrap=True
        )
        self.explained.setMinimumHeight(40)
        self.settings.body.addWidget(self.explained)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        self.settings.body.addWidget(self.wrong)
        grid.addWidget(left, 0, 0, 2, 1)
        grid.addWidget(self.advice, 0, 1)
        grid.addWidget(self.settings, 1, 1)
        grid.setColumnStretch(0, 22)
        grid.setColumnStretch(1, 78)
        grid.setRowStretch(1, 1)
        foot = QHBoxLayout()
        foot.addStretch(1)
        foot.addWidget(button("Close", self.accept, "primary", name="close method and settings"))
        grid.addLayout(foot, 2, 0, 1, 2)
        bench.problem_changed.connect(self.show_recipe)
        shown.measured.connect(lambda: self.show_recipe(force=True))
        self.show_recipe()

    # --- showing -------------------------------------------------------------------------------------------------

    def show_recipe(self, force: bool = False) -> None:
        """Show the recipe as it is in its file."""
        recipe = self.bench.recipe
        if recipe is None or (not force and recipe == self._shown):
            return
        self._shown = recipe
        keys = list(GUIDES)
        self.methods.blockSignals(True)
        self.methods.setCurrentRow(keys.index(recipe.method) if recipe.method in keys else -1)
        self.methods.blockSignals(False)
        self._show_advice(recipe)
        self._show_settings(recipe)

    def _show_advice(self, recipe: Recipe) -> None:
        guide, problem = guide_of(recipe.method), self.bench.problem
        self.advice.caption.setText(guide.name.upper())
        self.advice_rows.clear()
        for title, text in (("suits", guide.suits), ("costs", guide.costs), ("goes wrong", guide.fails)):
            self.advice_rows.add(label(title, "soft"), label(text, wrap=True))
        if problem is not None:
            count = len(problem.low)
            learns = f"{count} continuous command{'s' if count > 1 else ''}: every method here can learn them"
            if problem.options:
                learns += "; choices are learned as scores, of which the highest is carried out"
            self.advice_rows.add(label("this task", "soft"), label(learns, wrap=True))
        self.advice_rows.finish()
        found = self.measured.get(self._key(recipe))
        memory = replay_megabytes(problem, recipe) if problem is not None else 0.0
        buffer = f"; replay buffer {memory:.0f} MB a seed" if memory else ""
        if found is None:
            said = "".join(f"\n{text}" for text in warnings(problem, recipe)) if problem is not None else ""
            self.cost.setText(f"{_grouped(recipe.steps)} steps a seed{buffer}{said}")
            return
        layers = "-".join(map(str, found.layers))
        fitted = ""
        if found.base_explained and recipe.residual is not None and problem is not None:
            named = zip(problem.commands, found.base_explained, strict=True)
            shares = ", ".join(f"{command.name} {100 * share:.0f} %" for command, share in named)
            fitted = f"\nof what {recipe.residual.on} commands, the sensors tell: {shares}"
        self.cost.setText(
            f"{_grouped(found.steps_per_second)} steps/s here: {_minutes(found.minutes)} a seed for {_grouped(recipe.steps)} steps{buffer}\n"
            f"policy {layers}, {_grouped(found.parameters)} numbers, {found.call_microseconds:.0f} µs a call{fitted}"
        )

    def _show_settings(self, recipe: Recipe) -> None:
        facts = self.shown.facts(recipe)
        values = self.shown.values(recipe, facts)
        # a time is shown as it was written
        values |= {f.key: recipe.settings[f.key] for f in facts if f.time and is_time(recipe.settings.get(f.key))}
        changed = [f.key for f in facts if values[f.key] != f.default]
        plan = recipe.residual
        beside = (
            (plan is not None)
            + (plan is not None and plan.reach != ResidualPlan().reach)
            + (recipe.shaping is not None)
            + (recipe.training_time_limit is not None)
            + (recipe.evaluation.film_every is not None)
        )
        self.settings.caption.setText(f"SETTINGS · {len(changed) + beside} CHANGED FROM THE STANDARD")
        self.rows.clear()
        self.editors = {}
        self.reasons = {}
        for key, name, value, does in (
            ("steps", "steps", recipe.steps, "Control steps of one seed, at most."),
            ("copies", "copies", recipe.copies, "Episodes simulated at a time."),
        ):  # fmt: skip
            self._add_row(key, name, value, None, does, "", "")
        if recipe.method in GUIDES:
            does = (
                "Settings that are not changed here take what fits this task, from two seconds of driving it untrained."
            )
            self._add_row("fit", "fit to the task", recipe.fit, None, does, "Off: the same numbers for every task.", "")
        self._add_cut(recipe)
        self._add_residual(recipe)
        self._add_shaping(recipe)
        self._add_films(recipe)
        for f in facts:
            if f.key in changed or not self.only_changed.isChecked():
                self._add_row(f.key, f.name, values[f.key], f, f.does, f.wrong, f.limits)
        self.rows.finish()

    def _add_cut(self, recipe: Recipe) -> None:
        """When training episodes are cut short, if ever."""
        does = "Training episodes end after this time, so that more starts are met; valued like the time limit, and evaluations run in full."
        wrong = "What takes longer than this from the start is never met."
        facts = SettingFacts(CUT, "training time limit", does, wrong, None, "", (), str)
        value = None if recipe.training_time_limit is None else f"{recipe.training_time_limit:g} s"
        self._add_row(CUT, "training time limit", value, facts, does, wrong, "off, or a time such as 5 s")

    def _add_residual(self, recipe: Recipe) -> None:
        """What the method corrects: nothing, the regulator, or a rule of the task."""
        plan, problem = recipe.residual, self.bench.problem
        rules = tuple(problem.rules) if problem is not None else ()
        options = (ALONE, "regulator", *rules)
        does = "Whether it commands alone, or adds a correction to a base controller, which is fitted to what the policy senses."
        wrong = "A base controller that fails where the policy should learn to succeed: larger reach, or alone."
        facts = SettingFacts("residual", "base controller", does, wrong, ALONE, "", options, str)
        self._add_row("residual", "base controller", plan.on if plan else ALONE, facts, does, wrong, "")
        if plan is not None:
            does = "Largest correction, as a share of half the command range."
            wrong = "Too small: what the base controller does wrong stays wrong. Too large: little is left of it."
            facts = SettingFacts(
                "residual.reach", "reach", does, wrong, ResidualPlan().reach, "above 0 and at most 2", (), float
            )
            self._add_row("residual.reach", "reach", plan.reach, facts, does, wrong, facts.limits)

    def _add_shaping(self, recipe: Recipe) -> None:
        """The potential whose differences shape the reward that the learner sees, if any."""
        potential = recipe.shaping.potential if recipe.shaping is not None else None
        does = "Formula over the task's signals whose changes are given while learning and taken back at an ending; the score never sees it."
        wrong = "A formula that is high where nothing is won: learning lingers there for a while."
        facts = SettingFacts(POTENTIAL, "shaping potential", does, wrong, None, "", (), str)
        self._add_row(POTENTIAL, "shaping potential", potential, facts, does, wrong, "off, or such as 0.1 * sown")

    def _add_films(self, recipe: Recipe) -> None:
        """Which evaluations are filmed, if any."""
        does = "Control steps between evaluations that are filmed, behind all other work; the first and the best are always among them."
        wrong = f"At most {MOST_FILMS} films of a run."
        facts = SettingFacts(FILMS, "film every", does, wrong, None, "", (), int)
        self._add_row(
            FILMS, "film every", recipe.evaluation.film_every, facts, does, wrong, "off, or steps such as 100000"
        )

    def _add_row(
        self, key: str, name: str, value: Any, facts: SettingFacts | None, does: str, wrong: str, limits: str
    ) -> None:
        changed = facts is not None and value != facts.default
        editor = self._editor(key, name, value, facts)
        self.editors[key] = editor
        tip = "\n".join(filter(None, [does, f"Wrong: {wrong}" if wrong else "", limits]))
        editor.setToolTip(tip)
        title = label(name, "strong" if changed else "soft")
        title.setToolTip(tip)
        reset: QWidget = label("")
        if changed and facts is not None:
            title.setStyleSheet(f"border-left: 4px solid {theme().reed}; padding-left: 6px;")
            reset = button("Reset", lambda: self.reset(key), name=f"reset {name}")
            reset.setToolTip(f"back to {_text(facts.default)}")
        why = label(does, "soft", wrap=True)
        why.setToolTip(tip)
        self.reasons[editor] = (
            f"{name}: {does} " + (f"Wrong: {wrong} " if wrong else "") + (f"({limits})" if limits else "")
        )
        for widget in (title, editor, why):
            widget.installEventFilter(self)
            self.reasons[widget] = self.reasons[editor]
        self.rows.add(title, editor, reset, why)

    def _editor(self, key: str, name: str, value: Any, facts: SettingFacts | None) -> QWidget:
        if isinstance(value, bool):
            box = QCheckBox()
            box.setAccessibleName(name)
            box.setChecked(value)
            box.toggled.connect(lambda on: self.set_value(key, on))
            return box
        if facts is not None and facts.options:
            choice = Choice(name)
            choice.addItems(facts.options)
            choice.setCurrentText(str(value))
            choice.currentTextChanged.connect(lambda text: self.set_value(key, text))
            return choice
        line = QLineEdit(_text(value))
        line.setAccessibleName(name)
        line.editingFinished.connect(lambda: self._typed(key, line))
        return line

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Explain the setting that the mouse or the keyboard is at."""
        if event.type() in (QEvent.Type.Enter, QEvent.Type.FocusIn) and watched in self.reasons:
            self.explained.setText(self.reasons[watched])
        return super().eventFilter(watched, event)

    # --- changing ------------------------------------------------------------------------------------------------

    def _typed(self, key: str, line: QLineEdit) -> None:
        if line.isModified():
            line.setModified(False)
            typed = line.text()
            text = typed.replace("−", "-").strip()
            if key in AS_TEXT:
                self.set_value(key, None if text.lower() in ("", "off", "none") else text)
            else:
                self.set_value(key, literal(f"[{text}]" if "," in text and not text.startswith("[") else text))
            if not self.wrong.isHidden() and isinstance(editor := self.editors[key], QLineEdit):
                editor.setText(typed)  # what was typed stands beside what is wrong with it

    def set_value(self, key: str, value: Any) -> None:
        """Write one setting (or key of the recipe) into the file; None switches a part off."""
        if key in ("residual", "residual.reach"):
            self._say(self.bench.rewrite("recipes", lambda d: _put_residual(d, key, value), f"{key}: {_text(value)}"))
            return
        if key == POTENTIAL:
            self._say(self._lend(value))
            return
        if key in ("steps", "copies", "fit", CUT):
            where = [key]
        else:
            where = key.split(".") if key == FILMS else ["settings", key]
        recipe = self.bench.recipe
        if recipe is not None and key.endswith("hidden") and value is not None and not isinstance(value, list):
            value = [value]

        def change(document: Any) -> None:
            table = document if len(where) == 1 else document.setdefault(where[0], tomlkit.table())
            if value is not None or where[0] == "settings":
                table[where[-1]] = "off" if value is None else value
            else:
                table.pop(where[-1], None)

        self._say(self.bench.rewrite("recipes", change, f"{key}: {_text(value)}"))

    def _lend(self, formula: str | None) -> str:
        """Write the potential, once it is a formula over this task's signals; what is wrong otherwise."""
        if formula is not None and self.bench.problem is not None:
            try:
                potential_of(self.bench.problem, formula)
            except HeronError as error:
                return str(error)

        def change(document: Any) -> None:
            if formula is None:
                document.pop("shaping", None)
            else:
                document.setdefault("shaping", tomlkit.table())["potential"] = formula

        return self.bench.rewrite("recipes", change, f"shaping potential: {_text(formula)}")

    def reset(self, key: str) -> None:
        """Back to the standard."""
        if key in AS_TEXT or key == FILMS:
            self.set_value(key, None)
            return
        if key in ("residual", "residual.reach"):
            self.set_value(key, ALONE if key == "residual" else ResidualPlan().reach)
            return
        self._say(self.bench.rewrite("recipes", lambda d: d["settings"].pop(key, None), f"{key}: standard"))

    def use_preset(self, length: str) -> None:
        """Steps, copies and settings of a preset; stop rules and seeds stay."""
        recipe = self.bench.recipe
        if recipe is not None:
            self._rewrite(recipe.method, length)

    def _method_chosen(self) -> None:
        key = self.methods.currentItem().data(Qt.ItemDataRole.UserRole)
        if self.bench.recipe is not None and key != self.bench.recipe.method:
            self.bench.choose_method(key)

    def _rewrite(self, method: str, length: str) -> None:
        wanted = preset(method, length)

        def change(document: Any) -> None:
            document["method"], document["steps"], document["copies"] = method, wanted["steps"], wanted["copies"]
            document["settings"] = tomlkit.table()
            document["fit"] = wanted["fit"]
            document.setdefault("evaluation", tomlkit.table())["every"] = wanted["evaluation"]["every"]
            for rule in document.get("stop", []):  # rules stay, to the measure of the new budget
                if rule.get("kind") == "budget" and "steps" in rule:
                    rule["steps"] = wanted["steps"]
                if "after" in rule:
                    rule["after"] = min(int(rule["after"]), wanted["steps"] // 2)

        self._say(self.bench.rewrite("recipes", change, f"{guide_of(method).name}, {length}"))

    def _say(self, wrong: str) -> None:
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))
        self.show_recipe(force=bool(wrong))

    # --- measuring -----------------------------------------------------------------------------------------------

    def _key(self, recipe: Recipe) -> tuple[str, str]:
        return self.bench.task, repr((recipe.method, recipe.copies, recipe.fit, recipe.settings, recipe.residual))

    def _forecast(self, problem: Problem, recipe: Recipe) -> Forecast:
        project = self.bench.project.folder
        return forecast(problem, fit(recipe, problem, project), project=project)

    def measure(self) -> None:
        """Two seconds of training, thrown away, say what it costs on this machine."""
        recipe, problem = self.bench.recipe, self.bench.problem
        if recipe is None or problem is None:
            return
        self.measure_button.setEnabled(False)

        def then(found: Forecast) -> None:
            self.measured[self._key(recipe)] = found
            self.measure_button.setEnabled(True)
            self.show_recipe(force=True)

        if self.bench.start_job("measuring the method", lambda _: self._forecast(problem, recipe), then) is None:
            self.measure_button.setEnabled(True)


def _put_residual(document: Any, key: str, value: Any) -> None:
    if key == "residual" and value == ALONE:
        document.pop("residual", None)
    else:
        table = document.setdefault("residual", tomlkit.table())
        table["on" if key == "residual" else "reach"] = value


def _text(value: Any) -> str:
    if value is None:
        return "off"
    if isinstance(value, tuple | list):
        return ", ".join(map(str, value))
    return f"{value:g}" if isinstance(value, float) else str(value)


def _grouped(number: float) -> str:
    return f"{number:,.0f}".replace(",", "\u202f")


def _minutes(minutes: float) -> str:
    return (
        f"{60 * minutes:.0f} s" if minutes < 2 else f"{minutes:.0f} min" if minutes < 120 else f"{minutes / 60:.1f} h"
    )
