"""The card of the reward: terms, weights, and what each of them gave."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QWidget

from plucky_heron.desktop.charts.gauges import ShareBar, Spark
from plucky_heron.desktop.forms.entry_sheet import Field
from plucky_heron.desktop.forms.formula_field import FormulaField
from plucky_heron.desktop.forms.widgets import QuantityField, Rows, button, label, scrolled
from plucky_heron.desktop.stations.task.cards import EditCard, free_name, menu_button, name_button
from plucky_heron.desktop.stations.task.model import TaskModel
from plucky_heron.desktop.theme import SERIES
from plucky_heron.task.problem import Problem
from plucky_heron.task.wording import wishes

Array = np.ndarray

TERM = [
    Field("formula", "formula", "formula", default="1"), Field("weight", "weight", default="1"),
    Field("when", "given", "choice", ("each second", "each step"), "each second"), Field("muted", "muted", "switch", default=False),
]  # fmt: skip

EVENT_TERM = [
    Field("formula", "formula", "formula", default="1"), Field("event", "when this begins", "formula"), Field("weight", "weight", default="1"),
    Field("muted", "muted", "switch", default=False),
]  # fmt: skip

ENDING_TERM = [
    Field("formula", "formula", "formula", default="1"), Field("ending", "ending"), Field("weight", "weight", default="1"),
    Field("muted", "muted", "switch", default=False),
]  # fmt: skip


class RewardCard(EditCard):
    """The terms of the reward, and what each of them gave."""

    def __init__(self, model: TaskModel, reference: Callable[[], object]) -> None:
        super().__init__("Reward", model)
        self.rows = Rows((2, 11, 0, 0, 4, 3, 0), spacing=3)
        self.body.addWidget(scrolled(self.rows), 1)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        self.body.addWidget(self.wrong)
        foot = QHBoxLayout()
        self.adding, self.menu = menu_button("Add a term")
        self.menu.aboutToShow.connect(self._fill)
        foot.addWidget(self.adding)
        foot.addWidget(button("formula reference", reference, "link"))
        foot.addStretch(1)
        self.advice = label("", "soft")
        foot.addWidget(self.advice)
        self.body.addLayout(foot)
        self.sparks: list[Spark] = []

    def _fill(self) -> None:
        self.menu.clear()
        problem = self.model.bench.problem
        for wish in wishes(problem) if problem is not None else []:
            self.menu.addAction(f"{wish.name}: {wish.purpose}", lambda w=wish: self.add(w.name, w.term))

    def add(self, name: str, term: dict[str, Any]) -> None:
        """A term to start from."""
        problem = self.model.bench.problem
        assert problem is not None
        name = free_name(name, problem.task.rewards)
        self.append(("rewards", name), term, f"term {name}")
        self._open_term(name)

    def _open_term(self, name: str) -> None:
        problem = self.model.bench.problem
        if problem is None or name not in problem.task.rewards:
            return
        when = problem.task.rewards[name].when
        fields = {"on event": EVENT_TERM, "at ending": ENDING_TERM}.get(when, TERM)
        self.open_entry(name, ("rewards", name), fields)

    def refresh(self, problem: Problem) -> None:
        """Show all terms."""
        model = self.model
        self.rows.clear()
        self.sparks = []
        trials = model.rehearsed()
        paid = (
            trials.terms.mean(axis=0) if trials is not None and trials.terms.shape[1] == len(problem.rewards) else None
        )
        recording = model.bench.playback.recording
        course = (
            recording.terms if recording is not None and recording.terms.shape[1:] == (len(problem.rewards),) else None
        )
        self.note.setText(
            f"mean of {len(trials.score)} episodes, {trials.driver}" if trials is not None and paid is not None
            else "rehearse to see what each term gives"
        )  # fmt: skip
        heads = [
            "term",
            "formula",
            "weight",
            "when",
            "in this episode" if course is not None else "",
            "reward over an episode" if paid is not None else "",
            "",
        ]
        self.rows.add(*[label(h, "soft") for h in heads])
        most = float(np.abs(paid).max()) if paid is not None else 1.0
        for k, (name, reward) in enumerate(problem.task.rewards.items()):
            role = SERIES[k % 5]
            cells: list[QWidget | None] = [
                name_button(name + ("  (muted)" if reward.muted else ""), partial(self._open_term, name))
            ]
            cells += [self._formula(name, reward, problem), self._weight(name, reward)]
            when = {"at ending": f"at {reward.ending}", "on event": "on event"}.get(
                reward.when, reward.when.removeprefix("each ")
            )
            cells.append(label(when, "soft"))
            spark = Spark(course[:, k], role) if course is not None else None
            if spark is not None:
                self.sparks.append(spark)
            cells.append(spark)
            if paid is not None:
                value = float(paid[k])
                text = f"{value:+.1f}".replace("-", "−") if abs(value) >= 0.05 else "0"
                cells += [ShareBar(value, most, role), label(text, "strong")]
            self.rows.add(*cells)
        if paid is not None:
            total = label(f"{float(paid.sum()):+.1f}".replace("-", "−"), "strong")
            self.rows.add(label("sum = score", "strong"), None, None, None, None, None, total)
        self.rows.finish()
        self.advice.setText(model.advice())

    def _formula(self, name: str, reward: Any, problem: Problem) -> QWidget:
        if reward.when == "at ending" and reward.formula == "1":
            return label("once", "soft")
        field = FormulaField(f"{name} formula")
        field.set_problem(problem)
        field.show_formula(reward.formula)
        field.settled.connect(
            lambda text: field.mark_wrong(self.model.change(("rewards", name, "formula"), text, f"formula of {name}"))
        )
        field.judged.connect(lambda: self.say(field.problem_text))
        return field

    def _weight(self, name: str, reward: Any) -> QWidget:
        weight = QuantityField("", f"{name} weight")
        weight.setFixedWidth(56)
        weight.show_value(reward.weight)
        weight.edited.connect(
            lambda v, _t: self.model.change(("rewards", name, "weight"), v, f"weight of {name}: {v:g}")
        )
        return weight

    def say(self, text: str) -> None:
        """What is wrong with what is typed."""
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))

    def show_index(self, share: float) -> None:
        """Hands on the courses."""
        for spark in self.sparks:
            spark.show_at(share)
