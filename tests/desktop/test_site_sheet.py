"""A site edited on its drawing: points dragged, set, moved by keys, taken away; every change in the file, and undone."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.shell.site_sheet import SiteSheet
from plucky_heron.desktop.window import Window
from plucky_heron.machine.site import Site
from tests.conftest import copy_demo

LEFT = Qt.MouseButton.LeftButton
FOREIGN = """# A yard that nobody has built for.
format = 2
name = "yard"
ground = [["-9 m", "0 m"], ["2 m", "0 m"], ["2 m", "-1 m"]]
[terrain]
kind = "profile"
points = [["-10 m", "0 m"], ["0 m", "0.2 m"], ["12 m", "1 m"]]
[solids.crate]
kind = "box"
size = ["1 m", "1 m", "1 m"]
at = ["3 m", "-4 m", "0.5 m"]
[walls.fence]
points = [["-300 m", "2 m"], ["5 m", "250 m"]]
[courses.loop]
points = [["0 m", "0 m"], ["10 m", "0 m"], ["14 m", "5 m"]]
gates = [["10 m", "0 m"]]
[marks]
post = ["-2 m", "1 m", "0.3 m"]
"""


@pytest.fixture
def window(qtbot: QtBot, tmp_path: Path) -> Iterator[Window]:
    """A window on a copy of the demo whose quay is the foreign yard."""
    folder = copy_demo(tmp_path / "quillmere")
    (folder / "sites" / "quay.toml").write_text(FOREIGN)
    made = Window(folder)
    qtbot.addWidget(made)
    made.show()
    made.bench.choose_task("lift")
    yield made
    made.close()


@pytest.fixture
def sheet(qtbot: QtBot, window: Window) -> SiteSheet:
    """Its sheet, opened by the menu."""
    window.project_menu.edit_all("sites")
    made = window.project_menu.sheet
    assert isinstance(made, SiteSheet)
    qtbot.waitUntil(made.drawing.isVisible, timeout=180_000)
    return made


def site(sheet: SiteSheet) -> Site:
    """As it is read again from what was written."""
    assert sheet.bench.problem is not None
    return sheet.bench.project.problem("lift").site


def spot(sheet: SiteSheet, *key: str | int) -> QPoint:
    """Where a point is on the screen."""
    drawing = sheet.drawing
    point = next(p for p in drawing.points if p.key == key)
    return drawing.frame().place(np.array(point.place)).toPoint()


def drag(qtbot: QtBot, sheet: SiteSheet, start: QPoint, way: QPoint) -> None:
    """By the mouse."""
    qtbot.mousePress(sheet.drawing, LEFT, pos=start)
    for k in range(1, 5):
        qtbot.mouseMove(sheet.drawing, start + way * (k / 4))
    qtbot.mouseRelease(sheet.drawing, LEFT, pos=start + way)


def test_all_points_of_a_site_are_in_sight(sheet: SiteSheet) -> None:
    drawing = sheet.drawing
    assert drawing.view == "top" and len(drawing.points) == 14
    for view, count in (("top", 14), ("side", 14), ("end", 14)):
        while drawing.view != view:
            drawing.next_view()
        assert len(drawing.seen()) == count
        for point in drawing.points:
            at = drawing.frame().place(np.array(point.place))
            assert 0 <= at.x() <= drawing.width() and 0 <= at.y() <= drawing.height(), (view, point.words)


@pytest.mark.parametrize(
    ("key", "view", "axes"),
    [
        (("solids", "crate", "at"), "top", (0, 1)), (("walls", "fence", "points", 1), "top", (0, 1)), (("courses", "loop", "gates", 0), "top", (0, 1)),
        (("marks", "post"), "side", (0, 2)), (("ground", 1), "side", (0, 2)), (("terrain", "points", 2), "side", (0, 2)), (("walls", "fence", "points", 0), "end", (1,)),
    ],
)  # fmt: skip
def test_a_point_goes_where_it_is_dragged(
    qtbot: QtBot, sheet: SiteSheet, key: tuple[str | int, ...], view: str, axes: tuple[int, ...]
) -> None:
    drawing = sheet.drawing
    drawing.zoom = 20.0  # a fence of 400 m makes points stand near each other
    while drawing.view != view:
        drawing.next_view()
    point = next(p for p in drawing.points if p.key == key)
    towards = drawing.frame()
    at = towards.place(np.array(point.place))
    drawing.shift = ((at.x() - drawing.width() / 2) / towards.scale, (drawing.height() / 2 - at.y()) / towards.scale)
    start, scale, before, text = spot(sheet, *key), drawing.frame().scale, site(sheet), sheet.bench.path_of("sites")
    kept = text.read_text()
    others = {p.key: p.place for p in drawing.points if p.key != key}
    drag(qtbot, sheet, start, QPoint(37, -52))
    found = {p.key: p.place for p in drawing.points}
    wanted = np.array(point.place)
    right, up = {"top": (0, 1), "side": (0, 2), "end": (1, 2)}[view]
    for axis, way in ((right, 37 / scale), (up, 52 / scale)):
        if axis in axes:
            wanted[axis] += way
    assert np.allclose(found[key], wanted, atol=1.1 * drawing.grain())
    assert not np.allclose(found[key], point.place) and all(found[k] == place for k, place in others.items())
    assert sheet.at == point.entry and site(sheet) != before
    sheet.bench.undo.undo()
    assert text.read_text() == kept and site(sheet) == before


def test_lines_and_gates_are_drawn_by_hand(qtbot: QtBot, sheet: SiteSheet) -> None:
    sheet.go(("courses", "loop"))
    qtbot.mouseDClick(sheet.drawing, LEFT, pos=QPoint(40, 60))
    assert len(site(sheet).courses["loop"].points) == 4
    qtbot.mouseDClick(sheet.drawing, LEFT, Qt.KeyboardModifier.ShiftModifier, pos=QPoint(60, 60))
    assert len(site(sheet).courses["loop"].gates) == 2
    sheet.go(("walls", "fence"))
    qtbot.mouseDClick(sheet.drawing, LEFT, pos=QPoint(90, 200))
    assert len(site(sheet).walls["fence"].points) == 3
    sheet.go(())
    qtbot.mouseDClick(sheet.drawing, LEFT, pos=QPoint(120, 90))
    assert set(site(sheet).marks) == {"post", "mark"}
    assert sheet.wrong.isHidden()


def test_by_keys_alone(qtbot: QtBot, sheet: SiteSheet) -> None:
    drawing = sheet.drawing
    drawing.setFocus()
    qtbot.keyClick(drawing, Qt.Key.Key_PageDown)
    post: tuple[str | int, ...] = ("marks", "post")
    assert drawing.point == post
    before = site(sheet).marks["post"]
    qtbot.keyClick(drawing, Qt.Key.Key_Right)
    qtbot.keyClick(drawing, Qt.Key.Key_Up)
    after = site(sheet).marks["post"]
    assert after[0] > before[0] and after[1] > before[1] and after[2] == before[2]
    for _ in range(3):
        qtbot.keyClick(drawing, Qt.Key.Key_PageDown)
    end: tuple[str | int, ...] = ("walls", "fence", "points", 1)
    assert drawing.point == end
    qtbot.keyClick(drawing, Qt.Key.Key_Delete)
    # a wall needs two points: said, and nothing is lost
    assert len(site(sheet).walls["fence"].points) == 2 and not sheet.wrong.isHidden()
    view = drawing.view
    qtbot.keyClick(drawing, Qt.Key.Key_V)
    assert drawing.view != view and not drawing.seen()  # from aside and above nothing can be taken hold of
    while drawing.view != view:
        qtbot.keyClick(drawing, Qt.Key.Key_V)
    for _ in range(20):
        qtbot.keyClick(drawing, Qt.Key.Key_PageUp)
        if drawing.point[-2:] == ("gates", 0):
            break
    qtbot.keyClick(drawing, Qt.Key.Key_Delete)
    assert site(sheet).courses["loop"].gates == ()


def test_a_click_beside_changes_nothing(qtbot: QtBot, sheet: SiteSheet) -> None:
    text = sheet.bench.path_of("sites").read_text()
    drawing = sheet.drawing
    qtbot.mouseClick(drawing, LEFT, pos=spot(sheet, "marks", "post"))
    drag(qtbot, sheet, spot(sheet, "marks", "post"), QPoint(2, 1))
    drag(qtbot, sheet, QPoint(15, drawing.height() // 2), QPoint(60, 20))
    assert sheet.bench.path_of("sites").read_text() == text
