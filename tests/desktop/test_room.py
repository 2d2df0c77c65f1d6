"""Room: at every size of the window nothing is cut, covered or squeezed."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest
from PySide6.QtCore import QRect
from PySide6.QtWidgets import QComboBox, QLabel, QLineEdit, QPushButton, QScrollArea, QWidget
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.forms.file_sheet import FileSheet
from plucky_heron.desktop.forms.widgets import ElidedLabel
from plucky_heron.desktop.shell.site_sheet import SiteSheet
from plucky_heron.desktop.window import Window
from plucky_heron.project import Project
from plucky_heron.runs.store import RunRow

SIZES = ((1024, 700), (1280, 800), (1920, 1200))
"""The last is what a screen of 3840x2400 shows at 200 %."""
LEAST = 22


@pytest.fixture(scope="module")
def trained_copy(trained: tuple[Project, RunRow], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A project with a run, of this module's own."""
    target = tmp_path_factory.mktemp("room") / "quillmere"
    shutil.copytree(trained[0].folder, target)
    return target


def in_sight(widget: QWidget, top: QWidget) -> QRect:
    """Where a widget can be seen, in the coordinates of `top`; empty where a scroll area hides it."""
    rect = QRect(widget.mapTo(top, widget.rect().topLeft()), widget.size())
    above = widget.parentWidget()
    while above is not None and above is not top.parentWidget():
        if isinstance(above.parentWidget(), QScrollArea) or above is top:
            rect &= QRect(above.mapTo(top, above.rect().topLeft()), above.size())
        if above is top:
            break
        above = above.parentWidget()
    return rect


def said_by(widget: QWidget) -> str:
    """What a widget is called, or says."""
    return widget.accessibleName() or (widget.text() if isinstance(widget, QLineEdit | QPushButton | QLabel) else "")


def faults(top: QWidget) -> list[str]:
    """What is squeezed, cut or covered in a window."""
    found = []
    shown = [w for w in top.findChildren(QWidget) if w.isVisible() and not in_sight(w, top).isEmpty()]
    for widget in shown:
        words = said_by(widget) or type(widget).__name__
        framed = isinstance(widget, QLineEdit | QComboBox) or (
            isinstance(widget, QPushButton) and widget.objectName() in ("", "primary")
        )
        if framed and widget.height() < LEAST:
            found.append(f"{words!r} is {widget.height()} px high")
        if (
            isinstance(widget, QLabel)
            and not isinstance(widget, ElidedLabel)
            and not widget.wordWrap()
            and widget.text()
        ):
            wanted = widget.fontMetrics().horizontalAdvance(widget.text())
            if wanted > widget.width() + 3 and not widget.toolTip():
                found.append(f"label {widget.text()!r} wants {wanted} px and has {widget.width()}")
        if isinstance(widget, QPushButton) and widget.text():
            wanted = widget.fontMetrics().horizontalAdvance(widget.text())
            if wanted > widget.width() + 1:
                found.append(f"button {widget.text()!r} wants {wanted} px and has {widget.width()}")
    leaves = [w for w in shown if isinstance(w, QLineEdit | QPushButton | QComboBox | QLabel) and w.width() > 0]
    for k, one in enumerate(leaves):
        for other in leaves[k + 1 :]:
            if one.parentWidget() is not other.parentWidget() or one.isAncestorOf(other):
                continue
            common = one.geometry() & other.geometry()
            if common.width() > 2 and common.height() > 2:
                a, b = said_by(one), said_by(other)
                found.append(f"{a!r} and {b!r} lie over one another")
    return found


@pytest.mark.parametrize("size", SIZES, ids=lambda s: f"{s[0]}x{s[1]}")
def test_every_station_has_room(qtbot: QtBot, trained_copy: Path, size: tuple[int, int]) -> None:
    window = Window(trained_copy)
    qtbot.addWidget(window)
    window.resize(*size)
    window.show()
    qtbot.waitExposed(window)
    wrong: dict[str, list[str]] = {}
    for number in range(7):
        window.enter(number)
        qtbot.wait(150)
        if told := faults(window):
            wrong[str(number + 1)] = told
    window.bench.choose_machine("davit")
    window.enter(1)
    window.station.new_task()
    page = window.station.wish
    qtbot.waitUntil(lambda: page.look is not None, timeout=240_000)
    qtbot.wait(100)
    if told := faults(window):
        wrong["wish"] = told
    for kind, path in (
        ("machines", ("drives", "luff")),
        ("sites", ()),
        ("tasks", ("observations", 0)),
        ("recipes", ()),
    ):
        sheet = (
            SiteSheet(window.bench, path, window) if kind == "sites" else FileSheet(window.bench, kind, path, window)
        )
        sheet.resize(min(size[0], sheet.width()), min(size[1], sheet.height()))
        sheet.show()
        qtbot.wait(50)
        if told := faults(sheet):
            wrong[kind] = told
        sheet.close()
    window.close()
    assert not wrong, "\n".join(f"{where}: {line}" for where, lines in wrong.items() for line in lines)
