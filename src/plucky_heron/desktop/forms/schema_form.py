"""A form made from a schema: every key with a field that fits it, its unit, and what it means.

Values are kept as they are written, with their units. A value that is refused stays in its field, with the reason under the form.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from pydantic import BaseModel
from PySide6.QtCore import QEvent, QObject, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QLineEdit, QPlainTextEdit, QWidget

from plucky_heron.desktop.forms.schema import Spec, specs_of
from plucky_heron.desktop.forms.widgets import Choice, ElidedLabel, label
from plucky_heron.units import plain_number, pretty_unit, whole_number

Path = tuple[str | int, ...]
Options = Callable[[str], Sequence[str] | None]


class SchemaForm(QWidget):
    """The form of one table; groups in it follow under their names, lists and tables of entries stand elsewhere.

    Signals
    -------
    edited(object, object)
        Path of keys from the table, and the new value as it is to be written; None: the key goes.
    told(str)
        What the key means that has the focus.
    """

    edited = Signal(object, object)
    told = Signal(str)

    def __init__(self, model: type[BaseModel], values: dict[str, Any], options: Options) -> None:
        super().__init__()
        self.options = options
        self.editors: dict[Path, QWidget] = {}
        self.grid = QGridLayout(self)
        self.grid.setContentsMargins(0, 0, 8, 0)
        self.grid.setHorizontalSpacing(10)
        self.grid.setVerticalSpacing(5)
        self.grid.setColumnStretch(1, 4)
        self.grid.setColumnStretch(2, 3)
        self._row = 0
        self._fill(model, values, ())
        self.grid.setRowStretch(self._row, 1)

    def _fill(self, model: type[BaseModel], values: dict[str, Any], path: Path, above: tuple[object, ...] = ()) -> None:
        groups = []
        for spec in specs_of(model):
            if spec.kind in ("list", "table"):
                continue
            if spec.kind == "group":
                groups.append(spec)
                continue
            self._add(spec, values.get(spec.key), (*path, spec.key))
        for spec in groups:
            inner = spec.inner
            value = values.get(spec.key)
            if inner is None or inner in above:
                continue  # a draw for proofs has no other draw for proofs
            self.grid.addWidget(label(spec.key.replace("_", " ").upper(), "caption"), self._row, 0, 1, 3)
            self._row += 1
            told = value if isinstance(value, dict) else {"fixed": value} if value is not None else {}
            self._fill(
                inner, told, (*path, spec.key), (*above, model) if inner is not model else (*above, model, inner)
            )

    def _add(self, spec: Spec, value: Any, path: Path) -> None:
        editor = self._editor(spec, value, path)
        editor.setMinimumHeight(24)
        editor.setAccessibleName(" ".join(str(part).replace("_", " ") for part in path))
        editor.setAccessibleDescription(spec.says)
        editor.setToolTip(spec.says)
        editor.setProperty("says", spec.says)
        for watched in (editor, *editor.findChildren(QLineEdit)):
            watched.installEventFilter(self)
        self.editors[path] = editor
        name = label(spec.key.replace("_", " "), "soft")
        name.setToolTip(spec.says)
        self.grid.addWidget(name, self._row, 0)
        self.grid.addWidget(editor, self._row, 1)
        self.grid.addWidget(ElidedLabel(_note(spec), "soft"), self._row, 2)
        self._row += 1

    def _editor(self, spec: Spec, value: Any, path: Path) -> QWidget:
        if spec.kind == "switch":
            switch = QCheckBox()
            switch.setChecked(bool(spec.default if value is None else value))
            switch.clicked.connect(lambda on: self.edited.emit(path, bool(on)))
            return switch
        names = spec.options or self.options(spec.key)
        if names is not None and spec.kind in ("choice", "text"):
            return self._choice(spec, value, path, list(names))
        if spec.kind == "numbers":
            return self._numbers(spec, value, path)
        if spec.kind in ("rows", "pairs"):
            return self._lines(spec, value, path)
        line = QLineEdit(_line(value))
        line.setCursorPosition(0)
        line.setPlaceholderText(_placeholder(spec))
        line.setProperty("shown", line.text())
        line.editingFinished.connect(lambda: self._typed(line, spec, path))
        return line

    def _choice(self, spec: Spec, value: Any, path: Path, names: list[str]) -> QWidget:
        choice = Choice(spec.key)
        free = not spec.required and spec.default is None
        choice.addItems([*([""] if free else []), *names])
        given = str(value if value is not None else ("" if spec.default is None else spec.default))
        if given and given not in names:
            choice.addItem(given)
        choice.setCurrentText(given)
        choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        choice.activated.connect(lambda _: self.edited.emit(path, choice.currentText() or None))
        return choice

    def _numbers(self, spec: Spec, value: Any, path: Path) -> QWidget:
        box = QWidget()
        row = QGridLayout(box)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        given = list(value) if isinstance(value, list | tuple) else []
        texts = [_line(given[k]) if k < len(given) else "" for k in range(spec.count)]
        shown = list(spec.default) if isinstance(spec.default, list | tuple) else []
        lines = []
        for k, text in enumerate(texts):
            line = QLineEdit(text)
            line.setCursorPosition(0)
            line.setMinimumHeight(24)
            line.setAccessibleName(f"{spec.key} {k + 1}")
            line.setPlaceholderText(f"{shown[k]:g}" if k < len(shown) and isinstance(shown[k], int | float) else "")
            lines.append(line)
            row.addWidget(line, k // 3, k % 3)  # of an inertia the products in a row of their own
        box.setProperty("shown", texts)

        def typed() -> None:
            now = [line.text().strip() for line in lines]
            # of an inertia the three about the axes will do
            whole = all(now) or not any(now) or (spec.count == 6 and all(now[:3]) and not any(now[3:]))
            if now == box.property("shown") or not whole:
                return
            box.setProperty("shown", now)
            self.edited.emit(path, [written(t) for t in now if t] if any(now) else None)

        for line in lines:
            line.editingFinished.connect(typed)
        box.setFocusProxy(lines[0])
        return box

    def _lines(self, spec: Spec, value: Any, path: Path) -> QWidget:
        """Several lines: a point each, or a name with its value each; taken when the field is left."""
        text = QPlainTextEdit()
        text.setFixedHeight(84)
        text.setTabChangesFocus(True)
        if spec.kind == "pairs":
            text.setPlainText("\n".join(f"{k} = {_line(v)}" for k, v in (value or {}).items()))
            text.setPlaceholderText("one a line, such as name = value")
        else:
            text.setPlainText("\n".join(", ".join(map(_line, row)) for row in (value or [])))
            text.setPlaceholderText("one a line, such as 0 m, 1 m")
        text.setProperty("shown", text.toPlainText())
        text.setProperty("leaves", lambda: self._left(text, spec, path))
        return text

    def _left(self, text: QPlainTextEdit, spec: Spec, path: Path) -> None:
        now = text.toPlainText()
        if now == text.property("shown"):
            return
        text.setProperty("shown", now)
        lines = [line.strip() for line in now.splitlines() if line.strip()]
        if spec.kind == "pairs":
            pairs = [line.partition("=") for line in lines]
            several = spec.count > 1
            self.edited.emit(
                path,
                {
                    k.strip(): [written(p.strip()) for p in v.split(",")] if several else written(v.strip())
                    for k, _, v in pairs
                }
                if pairs
                else None,
            )
        else:
            self.edited.emit(path, [[written(part.strip()) for part in line.split(",")] for line in lines] or None)

    def _typed(self, line: QLineEdit, spec: Spec, path: Path) -> None:
        text = line.text().strip()
        if text == line.property("shown"):
            return
        line.setProperty("shown", text)
        if spec.kind == "line":
            parts = [part.strip() for part in text.split(",") if part.strip()]
            self.edited.emit(path, [written(part) for part in parts] or None)
        else:
            self.edited.emit(path, written(text) if text else None)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """What a key means, while it has the focus; texts of several lines are taken when they are left."""
        if event.type() == QEvent.Type.FocusIn:
            self.told.emit(str(watched.property("says") or (watched.parent() or watched).property("says") or ""))
        elif event.type() == QEvent.Type.FocusOut and callable(leave := watched.property("leaves")):
            leave()
        return super().eventFilter(watched, event)


def written(text: str) -> Any:
    """A typed value as it stands in a file: a number as one, anything else as a text."""
    text = text.replace("−", "-")
    if plain_number(text):
        whole = whole_number(text)
        return float(text) if whole is None else whole
    return text


def _line(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, list | tuple):
        return ", ".join(map(_line, value))
    return f"{value:g}" if isinstance(value, float) else str(value)


def _placeholder(spec: Spec) -> str:
    if spec.default is None or spec.default == "" or isinstance(spec.default, list | tuple | dict):
        return ""
    return (
        f"{spec.default:g} {pretty_unit(spec.unit)}".strip()
        if isinstance(spec.default, int | float)
        else str(spec.default)
    )


def _note(spec: Spec) -> str:
    unit = "a whole number" if spec.whole else f"in {pretty_unit(spec.unit)}" if spec.unit else ""
    return "; ".join(part for part in (unit, spec.says) if part)
