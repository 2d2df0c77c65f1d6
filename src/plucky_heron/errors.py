"""The errors a person may meet. Each message says what was given, where, and what would be right, in one line."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from typing import Any

LONGEST = 300
"""Characters of a message: a line that is read at once, whatever a file put into it."""
_KEY, _VALUE = 90, 60


class HeronError(Exception):
    """Anything that the user can put right; shown as one line, never as a traceback."""

    def __init__(self, text: str = "") -> None:
        super().__init__(one_line(text))

    def facts(self) -> dict[str, Any]:
        """The error for a program: file, key, value, what would be right, and the line."""
        return {"file": None, "key": None, "value": None, "wanted": str(self), "text": str(self)}


class FileError(HeronError):
    """A file that cannot be used: names the file, the key, the value and what would be right."""

    def __init__(self, file: object, key: str, value: object, wanted: str) -> None:
        self.file, self.key, self.value, self.wanted = str(file), key, value, one_line(wanted)
        what = shortened(printable(key), _KEY)
        given = "" if value is None else f" = {_short(value)}"
        front = f"{what}{given}: " if key else ""
        place = shortened(
            printable(self.file), max(60, LONGEST - len(front) - min(len(self.wanted), 120) - 2), tail=True
        )
        super().__init__(f"{place}: {front}{self.wanted}")

    def __reduce__(self) -> tuple[type[FileError], tuple[object, ...]]:
        """What another process makes it anew from."""
        return type(self), (self.file, self.key, self.value, self.wanted)

    def facts(self) -> dict[str, Any]:
        """See `HeronError.facts`."""
        value = None if self.value is None else _short(self.value)
        return {"file": self.file, "key": self.key, "value": value, "wanted": self.wanted, "text": str(self)}


class FormulaError(HeronError):
    """A formula that cannot be read; `column` counts from 1."""

    def __init__(self, formula: str, column: int, message: str) -> None:
        self.formula, self.column, self.message = formula, column, one_line(message, 200)
        super().__init__(f'formula "{shortened(formula, 80)}", column {column}: {self.message}')

    def __reduce__(self) -> tuple[type[FormulaError], tuple[object, ...]]:
        """See `FileError`."""
        return type(self), (self.formula, self.column, self.message)


class UnitError(HeronError):
    """A quantity that cannot be read or has the wrong unit."""


class StateError(HeronError):
    """Something was asked for that the present state of a run or project does not allow."""


def one_line(text: str, most: int = LONGEST) -> str:
    """`text` in one line of at most `most` characters, none of which moves the cursor or hides another."""
    return shortened(" ".join(printable(text).split()), most)


def printable(text: str) -> str:
    """`text` with everything that is no visible character or blank written as its code: a file may hold anything."""
    return "".join(
        c if c.isprintable() or c in "\n\t" else c.encode("unicode_escape", "surrogatepass").decode() for c in text
    )


def shortened(text: str, most: int, *, tail: bool = False) -> str:
    """`text` of at most `most` characters: its two ends, or with `tail` its end alone."""
    if len(text) <= most:
        return text
    if tail:
        return "..." + text[len(text) - most + 3 :]
    front = (2 * most) // 3
    return text[:front] + "..." + text[len(text) - (most - front - 3) :]


def quoted(value: object, most: int = _VALUE) -> str:
    """A value as it would be written, short enough for a message."""
    return _short(value, most)


def did_you_mean(given: object, known: Iterable[object], most: int = 3) -> str:
    """The known names nearest to `given`, or some of the known ones: the end of "unknown; ..."."""
    names = sorted({shortened(printable(str(name)), 40) for name in known})
    near = difflib.get_close_matches(str(given)[:80], names, n=most, cutoff=0.55)
    if near:
        return f"did you mean {' or '.join(near)}?"
    if not names:
        return "there are none"
    return f"there are {', '.join(names[:12])}" + (f" and {len(names) - 12} more" if len(names) > 12 else "")


def _short(value: object, most: int = _VALUE) -> str:
    try:
        text = printable(repr(value))
    except (ValueError, RecursionError):  # a whole number of thousands of digits, or lists without end
        text = "a value too long to show"
    return shortened(text, most)
