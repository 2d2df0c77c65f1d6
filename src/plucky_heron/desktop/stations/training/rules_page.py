"""The page of stop rules: edited, replayed over recorded runs, and tuned along what is saved against what is lost."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QApplication, QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from plucky_heron.analysis.stopping.replay import Recorded, Replayed, recorded
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.charts.curves import CurveChart
from plucky_heron.desktop.forms.asking import AskFirst
from plucky_heron.desktop.forms.widgets import Card, Choice, ElidedLabel, Mark, Rows, button, label, scrolled
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.stations.training.rules_charts import SavingsTable, TuningMap, draw_replay
from plucky_heron.desktop.stations.training.rules_model import (
    NEW,
    QUANTITIES,
    SENTENCES,
    Map,
    Trial,
    judged_words,
    saving_words,
    shown,
)
from plucky_heron.desktop.theme import theme
from plucky_heron.errors import HeronError, StateError
from plucky_heron.runs import launch
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.training.stopping import StopRule

ALL = "all recorded runs"


class RuleField(QLineEdit):
    """A field of a rule; Enter or leaving it hands over what was typed."""

    def __init__(self, text: str, name: str, width: int, hand_over: Callable[[str], str]) -> None:
        super().__init__(text)
        self.setAccessibleName(name)
        self.setMinimumHeight(22)
        self.setFixedWidth(width)
        self.setToolTip(name)
        self._hand_over, self._was = hand_over, text
        self.editingFinished.connect(self._finish)

    def _finish(self) -> None:
        if self.text() != self._was:
            self._was = self.text()
            self._hand_over(self._was)


class RulesPage(QWidget):
    """The page.

    Signals
    -------
    left()
        Back to the curves.
    """

    left = Signal()

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.trial: Trial | None = None
        self.map: Map | None = None
        self.jobs: list[Job] = []
        self._replays: list[Replayed] = []
        self.setAccessibleName("stop rules over recorded runs")
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(10)
        self._build_replay(grid)
        self._build_rules(grid)
        self._build_savings(grid)
        self._build_tuning(grid)
        foot = QHBoxLayout()
        self.use = button("Use these rules", self.use_rules, "primary")
        self.as_run = button("As in the recipe", self.as_in_recipe)
        self.undo = button("Undo", self.undo_change)
        self.back = button("Back to the curves", self.left.emit)
        for widget in (self.use, self.as_run, self.undo, self.back):
            foot.addWidget(widget)
        foot.addStretch(1)
        foot.addWidget(label("nothing is trained for this: the curves are recorded", "soft"))
        grid.addLayout(foot, 2, 0, 1, 2)
        grid.setColumnStretch(0, 52)
        grid.setColumnStretch(1, 48)
        grid.setRowStretch(0, 55)
        grid.setRowStretch(1, 45)

    def _build_replay(self, grid: QGridLayout) -> None:
        self.replay = Card("Replay: where these rules would have stopped")
        self.chart = CurveChart(self._level_dragged)
        self.replay.body.addWidget(self.chart, 1)
        line = QHBoxLayout()
        self.quantity = Choice("figure of the replay")
        self.quantity.addItem("the task's measure", "success")
        self.quantity.addItem("score", "score")
        self.quantity.currentIndexChanged.connect(lambda _: self.show_replay())
        self.batches = Choice("recorded runs")
        self.batches.activated.connect(lambda _: self.load())
        line.addWidget(self.quantity)
        line.addWidget(self.batches)
        line.addWidget(ElidedLabel("plain: trained   faint: saved   ring: kept policy", "soft"), 1)
        self.replay.body.addLayout(line)
        grid.addWidget(self.replay, 0, 0)

    def _build_rules(self, grid: QGridLayout) -> None:
        self.rules = Card("Stop rules", "each seed for itself")
        self.rule_rows = QWidget()
        self.rule_lines = QVBoxLayout(self.rule_rows)
        self.rule_lines.setSpacing(4)
        self.rules.body.addWidget(scrolled(self.rule_rows), 1)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        self.rules.body.addWidget(self.wrong)
        line = QHBoxLayout()
        self.kinds = Choice("kind of the new rule")
        self.kinds.addItems(list(NEW))
        self.kinds.setCurrentText("formula")
        line.addWidget(button("Add a rule", self.add_rule))
        line.addWidget(self.kinds)
        line.addStretch(1)
        self.rules.body.addLayout(line)
        grid.addWidget(self.rules, 0, 1)

    def _build_savings(self, grid: QGridLayout) -> None:
        self.savings = Card("What it saves and what it costs")
        self.table = SavingsTable()
        self.savings.body.addWidget(scrolled(_held(self.table)), 1)
        self.sentence = ElidedLabel("", "strong")
        self.savings.body.addWidget(self.sentence)
        grid.addWidget(self.savings, 1, 0)

    def _build_tuning(self, grid: QGridLayout) -> None:
        self.tuning = Card("Other numbers: saved against lost")
        line = QHBoxLayout()
        self.first, self.second = Choice("first number to tune"), Choice("second number to tune")
        for choice in (self.first, self.second):
            choice.activated.connect(lambda _: self.tune())
            line.addWidget(choice)
        line.addStretch(1)
        self.tuning.body.addLayout(line)
        body = QHBoxLayout()
        self.picture = TuningMap(self.take)
        body.addWidget(self.picture, 3)
        self.offers = Rows((1, 0), spacing=3)
        side = QVBoxLayout()
        side.addWidget(label("Drag the ring along the line.", "soft", wrap=True))
        side.addWidget(self.offers)
        self.judged = label("", "soft", wrap=True)
        side.addWidget(self.judged)
        side.addStretch(1)
        body.addLayout(side, 2)
        self.tuning.body.addLayout(body, 1)
        grid.addWidget(self.tuning, 1, 1)

    # --- what is replayed ------------------------------------------------------------------------------------------

    def enter(self) -> None:
        """Begin with the recipe's rules and the chosen batch."""
        rows = [row for row in self.bench.rows if not row.alive and row.steps > 0]
        self.batches.clear()
        for batch in dict.fromkeys(row.batch for row in rows):
            members = [row for row in rows if row.batch == batch]
            self.batches.addItem(f"batch {batch}, {members[0].recipe}, {len(members)} runs", batch)
        if len({row.batch for row in rows}) > 1:
            self.batches.addItem(ALL, None)
        found = self.batches.findData(self.bench.batch)
        self.batches.setCurrentIndex(max(found, 0) if self.batches.count() else -1)
        self.trial = None
        self.load()

    def _rows(self) -> list[RunRow]:
        batch = self.batches.currentData()
        rows = [row for row in self.bench.rows if not row.alive and row.steps > 0]
        return [row for row in rows if batch is None or row.batch == batch] if self.batches.count() else []

    def load(self) -> None:
        """Read the recorded courses, in a job: there may be thousands of evaluations."""
        rows, folder = self._rows(), self.bench.project.folder

        def work(_: Job) -> list[Recorded]:
            if not rows:
                return []
            store = RunStore(folder)
            try:
                return recorded(store, rows)
            except StateError:
                return []
            finally:
                store.close()

        self._job("reading recorded runs", work, self._loaded)

    def _loaded(self, runs: list[Recorded]) -> None:
        recipe = self.bench.recipe
        if recipe is None:
            return
        kept = self.trial
        self.trial = Trial(recipe, runs)
        if kept is not None:
            self.trial.rules, self.trial.before = kept.rules, kept.before
        self.show_rules()

    def _job(self, name: str, work: Callable[[Job], object], then: Callable[..., None]) -> None:
        for job in self.jobs:
            job.stop()
        job = Job(name, work, self)
        job.done.connect(lambda found: then(found) if job is self.jobs[-1] else None)
        job.failed.connect(self.bench.say)
        self.jobs = [*[j for j in self.jobs if j.busy], job]
        job.start()

    # --- rules -------------------------------------------------------------------------------------------------------

    def show_rules(self) -> None:
        """Show rules, replay, savings, and begin the sweep."""
        if self.trial is None:
            return
        focus = QApplication.focusWidget()
        name = focus.accessibleName() if focus is not None and self.rule_rows.isAncestorOf(focus) else ""
        self.show_replay()
        self._show_numbers()
        self.tune()
        if name:  # the rows were made anew; they are shown in the next turn
            QTimer.singleShot(0, self, lambda: self._focus_on(name))

    def _focus_on(self, name: str) -> None:
        for widget in self.rule_rows.findChildren(QWidget):
            if widget.accessibleName() == name and widget.isVisible():
                widget.setFocus()
                return

    def _show_rule_lines(self) -> None:
        assert self.trial is not None
        while (item := self.rule_lines.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        for number, rule in enumerate(self.trial.rules):
            self.rule_lines.addWidget(self._rule_line(number, rule))
        if not self.trial.rules:
            self.rule_lines.addWidget(label("no rule: runs end with the recipe's last step", "soft"))
        self.rule_lines.addStretch(1)

    def _rule_line(self, number: int, rule: StopRule) -> QWidget:
        assert self.trial is not None
        inner = QWidget()
        box = QVBoxLayout(inner)
        box.setContentsMargins(0, 0, 0, 2)
        box.setSpacing(1)
        line = QHBoxLayout()
        line.setSpacing(5)
        name = label(rule.kind.capitalize(), "strong")
        name.setStyleSheet(f"border-left: 5px solid {getattr(theme(), rule.role)}; padding-left: 7px;")
        name.setMinimumHeight(22)
        count = self.trial.ended(number, self._replays)
        ended = label(f"ended {count or 'none'}" if self._replays else "", "strong")
        for part in SENTENCES[rule.kind]:
            if isinstance(part, str):
                line.addWidget(label(part, "soft"))
            else:
                line.addWidget(self._field(number, rule, *part))
        line.addStretch(1)
        head = QHBoxLayout()
        head.addWidget(name)
        said = self.trial.line(number, self._replays)
        if said.wrong:
            head.addWidget(Mark("look"))
        head.addWidget(ElidedLabel(said.text, "" if said.wrong else "soft"), 1)
        head.addWidget(ended)
        head.addWidget(
            button("remove", lambda: self.remove_rule(number), "link", f"remove rule {number + 1}, {rule.kind}")
        )
        box.addLayout(head)
        box.addLayout(line)
        return inner

    def _field(self, number: int, rule: StopRule, key: str, width: int) -> QWidget:
        name = f"{rule.kind}: {key.replace('_', ' ')}"
        if key == "of" and isinstance(getattr(rule, key), str) and getattr(rule, key) in QUANTITIES:
            choice = Choice(name)
            choice.addItems(list(QUANTITIES))
            choice.setCurrentText(str(getattr(rule, key)))
            choice.textActivated.connect(lambda text: self.set_field(number, key, text))
            return choice
        return RuleField(shown(rule, key), name, width, lambda text: self.set_field(number, key, text))

    def set_field(self, number: int, key: str, text: str) -> str:
        """Type into a field of a rule; what is wrong is said and changes nothing."""
        if self.trial is None:
            return ""
        wrong = self.trial.set_field(number, key, text)
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))
        if not wrong:
            self.show_rules()
        return wrong

    def add_rule(self) -> None:
        """Add a rule of the chosen kind."""
        if self.trial is not None:
            self.trial.add(self.kinds.currentText())
            self.show_rules()

    def remove_rule(self, number: int) -> None:
        """Take a rule away."""
        if self.trial is not None:
            self.trial.remove(number)
            self.show_rules()

    def undo_change(self) -> None:
        """Go back to the rules before."""
        if self.trial is not None:
            self.trial.undo()
            self.show_rules()

    def as_in_recipe(self) -> None:
        """Begin again with the recipe's rules."""
        if self.trial is not None and self.bench.recipe is not None:
            self.trial.put(list(self.bench.recipe.stop))
            self.show_rules()

    def use_rules(self) -> None:
        """Write the rules into the recipe: one change, which can be undone."""
        if self.trial is None:
            return
        idle = {"of": "success", "running": 1, "after": 0}
        tables = [
            {k: v for k, v in rule.model_dump().items() if v is not None and idle.get(k) != v}
            for rule in self.trial.rules
        ]
        wrong = self.bench.edit("recipes", ["stop"], tables, f"stop rules: {len(tables)}")
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))
        if not wrong:
            self.left.emit()
            self._ask_runs_at_work()

    def _ask_runs_at_work(self) -> None:
        """Whether runs that are at work obey the new rules; they keep those they began with unless told otherwise."""
        bench, recipe = self.bench, self.bench.recipe
        rows = [row for row in bench.training() if recipe is not None and row.recipe == recipe.name]
        if not rows or recipe is None:
            return

        def obey() -> str:
            try:
                launch.obey(bench.project.folder, [row.id for row in rows], recipe.stop)
            except HeronError as error:
                return str(error)
            bench.forget_recipes([row.id for row in rows])
            return ""

        says = f"{len(rows)} runs of this recipe are at work, by the rules that they began with. Shall they obey the new ones from now on?"
        self.asking = AskFirst("Obey the new rules", says, obey, self)
        self.asking.open()

    # --- replay ------------------------------------------------------------------------------------------------------

    def show_replay(self) -> None:
        """Curves and table."""
        trial = self.trial
        if trial is None:
            return
        self._replays = trial.replays()
        summary = trial.summary(self._replays)
        chart, quantity = self.chart, str(self.quantity.currentData())
        chart.quantity = quantity
        chart.clear()
        values = np.concatenate([one.course.of(quantity) for one in trial.runs]) if trial.runs else np.array([0.0, 1.0])
        low, high = (0.0, 1.02) if quantity == "success" else (float(values.min()), float(values.max()))
        chart.set_range(max((one.steps for one in trial.runs), default=trial.recipe.steps), low, high)
        draw_replay(chart, trial.runs, self._replays, trial.rules)
        level = self._level()
        if level is not None:
            chart.threshold(level[1], level[2])
        self.table.show_replays(self._replays, summary)
        self.savings.note.setText(f"{len(trial.runs)} runs")
        self.sentence.setText(saving_words(summary, len(trial.runs)))
        self.replay.note.setText(trial.interval_words())
        self._show_rule_lines()
        self.undo.setEnabled(bool(trial.before))
        self.use.setEnabled(self.bench.recipe is not None and list(self.bench.recipe.stop) != trial.rules)

    def _level(self) -> tuple[int, float, str] | None:
        assert self.trial is not None
        quantity = self.quantity.currentData()
        for number, rule in enumerate(self.trial.rules):
            level = rule.level()
            if level is not None and level.quantity == quantity:
                return number, level.value, level.text
        return None

    def _level_dragged(self, value: float) -> None:
        found = self._level() if self.trial is not None else None
        if found is None or self.trial is None:
            return
        number = found[0]
        success = self.quantity.currentData() == "success"
        text = f"{100 * float(np.clip(value, 0, 1)):.1f} %" if success else f"{value:.4g}"
        self.set_field(number, "at_least", text)

    # --- tuning ------------------------------------------------------------------------------------------------------

    def _show_numbers(self) -> None:
        assert self.trial is not None
        numbers = self.trial.numbers()
        for choice, default in ((self.first, 0), (self.second, 1)):
            before = choice.currentText()
            choice.clear()
            if choice is self.second:
                choice.addItem("no second number", None)
            for name, number, key in numbers:
                choice.addItem(name, (number, key))
            found = choice.findText(before)
            choice.setCurrentIndex(
                found if before and found >= 0 else min(default + (choice is self.second), choice.count() - 1)
            )

    def tune(self) -> None:
        """Sweep the chosen numbers over the runs, in a job."""
        trial = self.trial
        picked = [c.currentData() for c in (self.first, self.second)]
        wanted = list(dict.fromkeys(p for p in picked if p is not None))
        if trial is None or not trial.runs or not wanted:
            self.map = None
            self.picture.show_map(
                None,
                None,
                "",
                "no recorded run to tune on" if trial is None or not trial.runs else "no rule has a number to tune",
            )
            self._show_offers()
            return
        axes = [trial.usual_axis(number, key) for number, key in wanted]

        def work(job: Job) -> Map:
            tried = trial.tune(axes, job.tell)
            return Map.of(trial, axes, tried)

        self._job("sweeping the rules", work, self._tuned)

    def _tuned(self, found: Map) -> None:
        trial = self.trial
        if trial is None or not found.tried:
            return
        self.map = found
        at = found.present(trial.rules)
        self.picture.show_map(found, at, found.show(trial.rules, at) if at is not None else "")
        self.tuning.note.setText(f"{len(found.tried)} rules over {len(trial.runs)} runs")
        self._show_offers()

    def _show_offers(self) -> None:
        self.offers.clear()
        trial, found = self.trial, self.map
        if trial is None or found is None:
            self.judged.setText("")
            return
        at = found.present(trial.rules)
        better = [
            k
            for k in found.edge
            if at is None or found.tried[k].mean_lost <= found.tried[at].mean_lost + 1e-12 or k == found.chosen
        ]
        for k in dict.fromkeys([found.chosen, *better[-2:]]):
            if k == at:
                continue
            self.offers.add(
                label(found.show(trial.rules, k), "strong", wrap=True), button("take it", partial(self.take, k), "link")
            )
            one = found.tried[k]
            self.offers.add_wide(label(f"{100 * one.median_saved:.0f} % saved, {100 * one.mean_lost:.1f} lost", "soft"))
        self.offers.finish()
        self.judged.setText(judged_words(found))

    def take(self, k: int) -> None:
        """Set the rules to one of those that were tried."""
        if self.trial is not None and self.map is not None:
            self.trial.take(self.map.axes, self.map.tried[k])
            self.show_rules()


def _held(inner: QWidget) -> QWidget:
    """`inner` at the top of a widget of its own, to be scrolled."""
    outer = QWidget()
    layout = QVBoxLayout(outer)
    layout.addWidget(inner)
    layout.addStretch(1)
    return outer
