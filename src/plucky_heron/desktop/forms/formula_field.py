"""A field for formulas: completes names while typing, marks the character where it is wrong, says what it is worth now."""

from __future__ import annotations

import re

from PySide6.QtCore import QPointF, QStringListModel, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractItemView, QCompleter, QLineEdit

from plucky_heron.desktop.theme import theme
from plucky_heron.errors import FormulaError
from plucky_heron.formula import FUNCTIONS, Expression, parse_formula
from plucky_heron.task.problem import Problem

_WORD = re.compile(r"[A-Za-z_][\w.\[\]]*$")
_ACCEPT = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab)


class FormulaField(QLineEdit):
    """The field.

    Signals
    -------
    settled(str)
        A formula that can be read, after Enter or when the field is left; never one that cannot.
    judged()
        The text was looked at: `expression` or `problem_text` says what came of it.
    """

    settled = Signal(str)
    judged = Signal()

    def __init__(self, name: str, *, lists: bool = False, unit: str | None = None) -> None:
        super().__init__()
        self.lists, self.unit = lists, unit
        self.expression: Expression | None = None
        self.problem_text = ""
        self._column = 0
        self._shown = ""
        self._units: dict[str, str] = {}
        self._places: dict[str, str] = {}
        self._words = QStringListModel([], self)
        self.helper = QCompleter(self._words, self)
        self.helper.setWidget(self)
        self.helper.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        self.helper.setFilterMode(Qt.MatchFlag.MatchContains)
        self.helper.activated.connect(self.complete)
        self.setAccessibleName(name)
        self.textEdited.connect(self._typed)
        self.editingFinished.connect(self._finish)

    def _popup(self) -> QAbstractItemView:
        """The list of names that complete what is typed."""
        popup = self.helper.popup()
        assert popup is not None  # the helper has its mode from the start
        return popup

    def mark_wrong(self, wrong: str) -> None:
        """Show what is wrong with what stands in the field; "" if nothing is."""
        self.setProperty("wrong", bool(wrong))
        self.setToolTip(wrong)
        self.style().unpolish(self)
        self.style().polish(self)

    def set_problem(self, problem: Problem) -> None:
        """What names mean."""
        self._units = problem.units
        self._places = dict.fromkeys(problem.task.zones, "zone")
        for scene in problem.surroundings.solids:
            self._places |= {name: "solid" for name, *_ in scene}
        self._places |= dict.fromkeys(problem.model.bodies, "body") | {"ground": "solid"}
        calls = [f"{name}(" for name in FUNCTIONS]
        lists = sorted({n.partition("[")[0] for n in self._units if n.endswith("[0]")})
        self._words.setStringList([*sorted(n for n in self._units if "(" not in n), *lists, *calls])

    def show_formula(self, text: str) -> None:
        """Show a formula of the file; what a person is typing is left alone."""
        if self.hasFocus() and self.isModified():
            return
        self._shown = text
        self.setText(text)
        self.setCursorPosition(0)
        self._judge()

    def _typed(self, _: str) -> None:
        self._judge()
        word = self._word()
        if len(word) < 2:
            self._popup().hide()
            return
        self.helper.setCompletionPrefix(word)
        if self.helper.completionCount() and self.helper.currentCompletion() != word:
            self._popup().setMinimumWidth(220)
            self.helper.complete()
        else:
            self._popup().hide()

    def _word(self) -> str:
        found = _WORD.search(self.text()[: self.cursorPosition()])
        return found.group() if found is not None else ""

    def complete(self, word: str) -> None:
        """Put a whole name where the begun one stands."""
        at, begun = self.cursorPosition(), self._word()
        text = self.text()
        self.setText(text[: at - len(begun)] + word + text[at:])
        self.setCursorPosition(at - len(begun) + len(word))
        self.setModified(True)
        self._judge()

    def _judge(self) -> None:
        try:
            self.expression = parse_formula(self.text(), self._units, self.unit, lists=self.lists, places=self._places)
            self.problem_text, self._column = "", 0
        except FormulaError as error:
            self.expression, self.problem_text, self._column = (
                None,
                f"column {error.column}: {error.message}",
                error.column,
            )
        self.setProperty("wrong", bool(self.problem_text))
        self.setToolTip(self.problem_text)
        self.setAccessibleDescription(self.problem_text)
        self.style().unpolish(self)
        self.style().polish(self)
        self.judged.emit()

    def _finish(self) -> None:
        if self._popup().isVisible() or self.text() == self._shown or self.expression is None:
            return
        self._shown = self.text()
        self.setModified(False)
        self.settled.emit(self.text())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Keys of the list of names; Escape goes back to the last formula that stood."""
        popup = self._popup()
        if popup.isVisible() and event.key() in _ACCEPT and popup.currentIndex().isValid():
            popup.hide()
            self.complete(str(popup.currentIndex().data()))
            return
        if event.key() == Qt.Key.Key_Escape and (popup.isVisible() or self.text() != self._shown):
            if popup.isVisible():
                popup.hide()
            else:
                self.setText(self._shown)
                self._judge()
            return
        super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The field, and a wave under the character where it is wrong."""
        super().paintEvent(event)
        if not self._column:
            return
        metrics = self.fontMetrics()
        begin = self.cursorRect().center().x() - metrics.horizontalAdvance(self.text()[: self.cursorPosition()])
        x = begin + metrics.horizontalAdvance(self.text()[: self._column - 1])
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme().color("rust"), 1.4))
        y = self.height() - 4.0
        points = [QPointF(x + 3 * k, y + (1.5 if k % 2 else -1.0)) for k in range(5)]
        painter.drawPolyline(points)
