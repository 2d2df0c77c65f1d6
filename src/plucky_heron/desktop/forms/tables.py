"""Tables of many rows: an item model over plain objects, and a view of it that makes no widget a row."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QFont, QFontMetrics, QPixmap, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QWidget

from plucky_heron.desktop.theme import font, theme

Index = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True)
class Column:
    """One column: its head, what it says of a row, and how."""

    head: str
    text: Callable[[Any], str]
    stretch: bool = False
    """Takes the width that is left."""
    right: bool = False
    strong: Callable[[Any], bool] = field(default=lambda _: False)
    soft: bool = False
    tip: Callable[[Any], str] | None = None
    sign: Callable[[Any], QPixmap | None] = field(default=lambda _: None)
    """A small picture before the text."""


class RowsModel(QAbstractTableModel):
    """Rows of any objects, by columns that say what each shows."""

    def __init__(self, columns: Sequence[Column], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.columns = tuple(columns)
        self.rows: list[Any] = []

    def show_rows(self, rows: Sequence[Any]) -> None:
        """Other rows; where there are as many as before, the view keeps its place."""
        if len(rows) == len(self.rows):
            self.rows = list(rows)
            if rows:
                self.dataChanged.emit(self.index(0, 0), self.index(len(rows) - 1, len(self.columns) - 1))
            return
        self.beginResetModel()
        self.rows = list(rows)
        self.endResetModel()

    def rowCount(self, parent: Index | None = None) -> int:
        """How many rows."""
        return 0 if parent is not None and parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index | None = None) -> int:
        """How many columns."""
        return 0 if parent is not None and parent.isValid() else len(self.columns)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """What a cell shows."""
        if not index.isValid() or index.row() >= len(self.rows):
            return None
        column, row = self.columns[index.column()], self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return column.text(row)
        if role == Qt.ItemDataRole.ToolTipRole:
            return column.tip(row) if column.tip is not None else column.text(row)
        if role == Qt.ItemDataRole.DecorationRole:
            return column.sign(row)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if column.right else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ForegroundRole:
            return theme().color("soft" if column.soft else "ink")
        if role == Qt.ItemDataRole.FontRole:
            return font(13, bold=column.strong(row))
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Heads of the columns."""
        if orientation == Qt.Orientation.Horizontal and section < len(self.columns):
            if role == Qt.ItemDataRole.DisplayRole:
                return self.columns[section].head
            if role == Qt.ItemDataRole.FontRole:
                return QFont(font(11))
            if role == Qt.ItemDataRole.TextAlignmentRole:
                side = Qt.AlignmentFlag.AlignRight if self.columns[section].right else Qt.AlignmentFlag.AlignLeft
                return side | Qt.AlignmentFlag.AlignVCenter
            if role == Qt.ItemDataRole.ForegroundRole:
                return theme().color("soft")
        return None


class Table(QTableView):
    """The view: one row at a time is chosen, by mouse or keys.

    Signals
    -------
    picked(object)
        A row was clicked, or Enter was pressed on it.
    """

    picked = Signal(object)

    def __init__(self, columns: Sequence[Column], name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.rows = RowsModel(columns, self)
        self.setModel(self.rows)
        self.setAccessibleName(name)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)
        self.setWordWrap(False)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        rows, heads = self.verticalHeader(), self.horizontalHeader()
        rows.setVisible(False)
        # a fixed height: thousands of rows are then laid out without looking at one of them
        rows.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        rows.setDefaultSectionSize(24)
        heads.setHighlightSections(False)
        heads.setMinimumSectionSize(30)
        self.clicked.connect(self._pick)
        self.activated.connect(self._pick)

    def show_rows(self, rows: Sequence[Any]) -> None:
        """Show these rows."""
        self.rows.show_rows(rows)
        self._share_room()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Columns share the room anew."""
        super().resizeEvent(event)
        self._share_room()

    def _share_room(self) -> None:
        """Columns are as wide as what they say; those that stretch take what the others leave."""
        text, head = QFontMetrics(font(13, bold=True)), QFontMetrics(font(11))
        heads = self.horizontalHeader()
        wide = [k for k, column in enumerate(self.rows.columns) if column.stretch]
        left = self.viewport().width()
        for k, column in enumerate(self.rows.columns):
            if k not in wide:
                shown = {column.text(row) for row in self.rows.rows[:40]}
                longest = max([head.horizontalAdvance(column.head), *map(text.horizontalAdvance, shown)])
                signs = any(column.sign(row) is not None for row in self.rows.rows[:40])
                width = longest + (44 if signs else 20)
                heads.resizeSection(k, width)
                left -= width
        for k in wide:
            heads.resizeSection(k, max(60, left // len(wide)))

    def _pick(self, index: QModelIndex) -> None:
        if index.isValid():
            self.picked.emit(self.rows.rows[index.row()])
