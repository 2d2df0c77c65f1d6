"""The errors a person may meet. Each message says what was given, where, and what would be right."""

from __future__ import annotations


class HeronError(Exception):
    """Anything that the user can put right; shown as one line, never as a traceback."""


class FileError(HeronError):
    """A file that cannot be used: names the file, the key, the value and what would be right."""

    def __init__(self, file: object, key: str, value: object, wanted: str) -> None:
        self.file, self.key, self.value, self.wanted = str(file), key, value, wanted
        given = "" if value is None else f" = {_short(value)}"
        super().__init__(f"{self.file}: {key}{given}: {wanted}" if key else f"{self.file}: {wanted}")


class FormulaError(HeronError):
    """A formula that cannot be read; `column` counts from 1."""

    def __init__(self, formula: str, column: int, message: str) -> None:
        self.formula, self.column, self.message = formula, column, message
        super().__init__(f'formula "{formula}", column {column}: {message}')


class UnitError(HeronError):
    """A quantity that cannot be read or has the wrong unit."""


class StateError(HeronError):
    """Something was asked for that the present state of a run or project does not allow."""


def _short(value: object) -> str:
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "..."
