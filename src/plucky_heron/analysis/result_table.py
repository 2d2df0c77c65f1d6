"""Results as tables: aligned text, HTML for notebooks, rows for other programs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape
from importlib import import_module
from typing import Any

from plucky_heron.errors import StateError


@dataclass(frozen=True, repr=False)
class ResultTable:
    """A title, names of columns, and rows of values.

    Numbers are shown with four digits; shares, named with a trailing "%", as per cent.
    """

    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[Any, ...], ...]

    def __len__(self) -> int:
        return len(self.rows)

    def __repr__(self) -> str:
        cells = [[self._shown(name, value) for name, value in zip(self.columns, row, strict=True)] for row in self.rows]
        widths = [max([len(name), *(len(row[k]) for row in cells)]) for k, name in enumerate(self.columns)]
        lines = [
            "  ".join(text.ljust(width) for text, width in zip(row, widths, strict=True)).rstrip()
            for row in (self.columns, *cells)
        ]
        return "\n".join([self.title, *lines])

    def _repr_html_(self) -> str:
        head = "".join(f"<th>{escape(name)}</th>" for name in self.columns)
        body = "".join(
            "<tr>"
            + "".join(
                f"<td>{escape(self._shown(name, value))}</td>" for name, value in zip(self.columns, row, strict=True)
            )
            + "</tr>"
            for row in self.rows
        )
        return (
            f"<table><caption>{escape(self.title)}</caption><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>"
        )

    @staticmethod
    def _shown(name: str, value: Any) -> str:
        if isinstance(value, float):
            return f"{100 * value:.1f}" if name.endswith("%") else f"{value:.4g}"
        return "" if value is None else str(value)

    def column(self, name: str) -> list[Any]:
        """The values of one column.

        Raises
        ------
        StateError
            There is none of this name.
        """
        if name not in self.columns:
            raise StateError(f"no column {name!r}; there are {', '.join(self.columns)}")
        return [row[self.columns.index(name)] for row in self.rows]

    def to_frame(self) -> Any:
        """A pandas DataFrame, where pandas is installed.

        Raises
        ------
        StateError
            It is not.
        """
        try:
            pandas: Any = import_module("pandas")
        except ImportError as error:
            raise StateError("to_frame needs pandas: pip install pandas") from error
        return pandas.DataFrame(list(self.rows), columns=list(self.columns))


def table_of(title: str, columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> ResultTable:
    """A table of plain lists."""
    return ResultTable(title, tuple(columns), tuple(tuple(row) for row in rows))
