"""Tables of many rows: what a cell shows, picking by mouse and keys, thousands of rows without a widget each."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.forms.tables import Column, Table
from plucky_heron.desktop.theme import font
from tests.desktop.test_window import LEFT

COLUMNS = (
    Column("number", str, right=True, strong=lambda row: row == 3),
    Column("square", lambda row: str(row * row), stretch=True, tip=lambda row: f"{row} times {row}"),
)


def test_cells_heads_and_signs(qtbot: QtBot) -> None:
    table = Table(COLUMNS, "squares")
    qtbot.addWidget(table)
    table.show_rows(range(5))
    rows = table.rows
    assert (rows.rowCount(), rows.columnCount()) == (5, 2)
    assert (
        rows.data(rows.index(4, 1)) == "16" and rows.data(rows.index(4, 1), Qt.ItemDataRole.ToolTipRole) == "4 times 4"
    )
    assert rows.headerData(0, Qt.Orientation.Horizontal) == "number"
    assert (
        rows.data(rows.index(3, 0), Qt.ItemDataRole.FontRole).bold()
        and not rows.data(rows.index(2, 0), Qt.ItemDataRole.FontRole).bold()
    )
    assert rows.data(rows.index(0, 0), Qt.ItemDataRole.TextAlignmentRole) & Qt.AlignmentFlag.AlignRight


def test_columns_are_as_wide_as_what_they_say(qtbot: QtBot) -> None:
    """Also where a head has as many characters as a wider text below it, and where that is bold."""
    table = Table((Column("kept at", str, strong=lambda _: True), Column("rest", str, stretch=True)), "shares")
    qtbot.addWidget(table)
    table.resize(400, 200)
    table.show_rows(["100.0 %", "98.4 %"])
    assert table.columnWidth(0) >= QFontMetrics(font(13, bold=True)).horizontalAdvance("100.0 %") + 16


def test_rows_are_picked_by_mouse_and_keys_and_the_place_is_kept(qtbot: QtBot) -> None:
    picked: list[int] = []
    table = Table(COLUMNS, "squares")
    qtbot.addWidget(table)
    table.picked.connect(picked.append)
    table.resize(300, 200)
    table.show_rows(list(range(5000)))
    table.show()
    qtbot.mouseClick(table.viewport(), LEFT, pos=table.visualRect(table.rows.index(2, 1)).center())
    qtbot.keyClick(table, Qt.Key.Key_Down)
    qtbot.keyClick(table, Qt.Key.Key_Return)
    assert picked == [2, 3]
    table.verticalScrollBar().setValue(table.verticalScrollBar().maximum())
    place = table.verticalScrollBar().value()
    table.show_rows(list(range(5000, 10_000)))
    assert table.verticalScrollBar().value() == place and table.rows.data(table.rows.index(4999, 0)) == "9999"
    assert len(table.findChildren(QWidget)) < 20
