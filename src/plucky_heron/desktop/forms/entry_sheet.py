"""A small form for one entry of a file: an observation, a command, a reward term, an ending, a draw."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QFrame, QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from plucky_heron.desktop.forms.formula_field import FormulaField
from plucky_heron.desktop.forms.widgets import Choice, button, label
from plucky_heron.simulation.replay import Series
from plucky_heron.task.problem import Problem
from plucky_heron.units import pretty_unit, show, whole_number


@dataclass(frozen=True)
class Field:
    """One line of the form.

    kind: "text" (also quantities, kept as written), "formula", "list" (a formula that may give a list), "whole", "switch",
    "choice" (of `options`), "pair" (two quantities), "line" (text over the whole width).
    """

    key: str
    caption: str
    kind: str = "text"
    options: tuple[str, ...] = ()
    default: Any = ""
    hint: str = ""


class EntrySheet(QFrame):
    """The form.

    Signals
    -------
    edited(str, object)
        Key and new value; None: the key is to go.
    removed()
    closed()
    """

    edited = Signal(str, object)
    removed = Signal()
    closed = Signal()

    def __init__(self, title: str, fields: Sequence[Field], values: Mapping[str, Any], problem: Problem) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self.setAccessibleName(f"entry {title}")
        self.fields = {f.key: f for f in fields}
        self.editors: dict[str, QWidget] = {}
        self.series: Series | None = None
        self.index = 0
        self._worth: Any = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 10, 8)
        layout.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(label(title, "strong"))
        self.worth = label("", "soft")
        head.addWidget(self.worth, 1, Qt.AlignmentFlag.AlignRight)
        head.addWidget(button("Remove", self.removed.emit, name=f"remove {title}"))
        head.addWidget(button("Close", self.closed.emit, name=f"close {title}"))
        layout.addLayout(head)
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        for column in (1, 3):
            grid.setColumnStretch(column, 1)
        layout.addLayout(grid)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        layout.addWidget(self.wrong)
        place = 0
        for field in fields:
            editor = self._editor(field, values.get(field.key, field.default), problem)
            self.editors[field.key] = editor
            editor.setToolTip(field.hint)
            wide = field.kind in ("formula", "list", "pair", "line")
            place += place % 2 if wide else 0
            row, column = divmod(place, 2)
            grid.addWidget(label(field.caption, "soft"), row, 2 * column)
            grid.addWidget(editor, row, 2 * column + 1, 1, 3 if wide else 1)
            place += 2 if wide else 1

    def _editor(self, field: Field, value: Any, problem: Problem) -> QWidget:
        if field.kind in ("formula", "list"):
            formula = FormulaField(field.caption, lists=field.kind == "list")
            formula.set_problem(problem)
            formula.show_formula(str(value))
            formula.judged.connect(lambda f=formula: self._judged(f))
            formula.settled.connect(lambda text, k=field.key: self.edited.emit(k, text or None))
            return formula
        if field.kind == "choice":
            choice = Choice(field.caption)
            choice.addItems([*field.options])
            choice.setCurrentText(str(value))
            choice.activated.connect(lambda _, c=choice, k=field.key: self.edited.emit(k, c.currentText()))
            return choice
        if field.kind == "switch":
            switch = QCheckBox()
            switch.setAccessibleName(field.caption)
            switch.setChecked(bool(value))
            switch.clicked.connect(lambda on, k=field.key: self.edited.emit(k, bool(on)))
            return switch
        if field.kind == "pair":
            return self._pair(field, value)
        line = QLineEdit(_text(value))
        line.setCursorPosition(0)
        line.setAccessibleName(field.caption)
        line.setPlaceholderText(field.hint)
        line.editingFinished.connect(lambda w=line, f=field: self._line(w, f))
        line.setProperty("shown", line.text())
        return line

    def _pair(self, field: Field, value: Any) -> QWidget:
        both = QWidget()
        row = QHBoxLayout(both)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        given = list(value) if isinstance(value, list | tuple) else ["", ""]
        lines = [QLineEdit(_text(v)) for v in given]
        for line, which in zip(lines, ("from", "to"), strict=True):
            line.setAccessibleName(f"{field.caption} {which}")
            line.setPlaceholderText(which)
            line.setCursorPosition(0)
            row.addWidget(line)
            line.editingFinished.connect(lambda k=field.key, w=lines: self._both(k, w))
        both.setProperty("shown", [line.text() for line in lines])
        return both

    def _line(self, line: QLineEdit, field: Field) -> None:
        text = line.text().strip()
        if text == line.property("shown"):
            return
        whole = whole_number(text)
        if field.kind == "whole" and text and whole is None:
            self.say(f"{field.caption}: {text!r} is no whole number")
            return
        line.setProperty("shown", text)
        self.edited.emit(field.key, (whole if field.kind == "whole" else text) if text else None)

    def _both(self, key: str, lines: list[QLineEdit]) -> None:
        texts = [line.text().strip() for line in lines]
        box = self.editors[key]
        if texts == box.property("shown") or any(texts) != all(texts):
            return
        box.setProperty("shown", texts)
        self.edited.emit(key, texts if all(texts) else None)

    def _judged(self, field: FormulaField) -> None:
        self.say(field.problem_text)
        self._worth = None
        if field.expression is not None and self.series is not None:
            known = set(self.series.names) | set(self.series.problem.definitions)
            if set(field.expression.signals) <= known:
                self._worth = self.series.of(field.expression)
        self.show_index(self.index)

    def show_series(self, series: Series | None) -> None:
        """Formulas are worth something now."""
        self.series = series
        field = next((e for e in self.editors.values() if isinstance(e, FormulaField)), None)
        if field is not None:
            self._judged(field)

    def show_index(self, index: int) -> None:
        """What the first formula is worth at a sample, and over the episode."""
        self.index = index
        if self._worth is None or not len(self._worth):
            self.worth.setText("")
            return
        row = self._worth[min(index, len(self._worth) - 1)]
        formula = next(e for e in self.editors.values() if isinstance(e, FormulaField))
        unit = formula.unit or ""
        now = ", ".join(show(float(v)) for v in row[:4]) + (" …" if len(row) > 4 else "")
        span = f"{show(float(self._worth.min()))} … {show(float(self._worth.max()))}"
        self.worth.setText(f"now {now} {pretty_unit(unit)}  in this episode {span}")

    def say(self, text: str) -> None:
        """What is wrong; nothing is discarded."""
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))


def _text(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)
