"""The Machine station as an editor, driven with mouse and keys in the real window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.picture.handles import Handle
from plucky_heron.desktop.stations.machine.station import MachineStation
from plucky_heron.desktop.window import Window
from plucky_heron.project import Project, create
from tests.desktop.test_window import LEFT, field, opened, type_into

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def window(qtbot: QtBot, folder: Path):  # type: ignore[no-untyped-def]
    """A window on a fresh project."""
    yield from opened(qtbot, folder)


def station_on(qtbot: QtBot, window: Window, task: str, body: str, view: str = "side") -> MachineStation:
    """The Machine station with a task's machine, a body chosen, as it stands in a view."""
    window.bench.choose_task(task)
    window.enter(0)
    station = window.station
    assert isinstance(station, MachineStation)
    station.drawing.view = view
    station.choose("bodies", body)
    qtbot.waitUntil(
        lambda: station.drawing.scene is not None and body in station.drawing.scene.outlines, timeout=180_000
    )
    station.drawing.repaint()
    return station


def drag(
    qtbot: QtBot,
    station: MachineStation,
    start: QPointF,
    way: QPointF,
    modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
) -> None:
    """Press, move in steps, release."""
    drawing = station.drawing
    qtbot.mousePress(drawing, LEFT, modifier, start.toPoint())
    for k in range(1, 6):
        event_place = (start + way * (k / 5)).toPoint()
        move(drawing, event_place, modifier)
    qtbot.mouseRelease(drawing, LEFT, modifier, (start + way).toPoint())


def move(drawing: QWidget, place: QPoint, modifier: Qt.KeyboardModifier) -> None:
    """A mouse move with the left button down, as the window system would send it."""
    from PySide6.QtCore import QEvent
    from PySide6.QtGui import QMouseEvent

    at = QPointF(place)
    event = QMouseEvent(QEvent.Type.MouseMove, at, at, Qt.MouseButton.NoButton, LEFT, modifier)
    QApplication.sendEvent(drawing, event)


def handle(station: MachineStation, shape: int, index: int, side: float = 1.0) -> Handle:
    """A handle of the chosen body."""
    return next(
        h for h in station.drawing._handles() if h.shape == shape and h.index == index and h.side in (side, 0.0)
    )


def free_spot(station: MachineStation, body: str) -> QPointF:
    """A point of a body away from all handles."""
    drawing = station.drawing
    outline = drawing.scene.outlines[body][0]
    box = outline.boundingRect()
    for u in np.linspace(0.15, 0.85, 15):
        for v in np.linspace(0.15, 0.85, 15):
            point = QPointF(box.left() + u * box.width(), box.top() + v * box.height())
            if drawing.body_at(point) == body and drawing._handle_at(point, drawing.frame()) is None:
                return QPointF(point.toPoint())
    raise AssertionError(f"no free spot on {body}")


def test_a_body_is_dragged_into_a_pose_that_is_kept_and_undone(qtbot: QtBot, window: Window) -> None:
    station = station_on(qtbot, window, "hang", "forearm")
    drawing, model = station.drawing, window.bench.problem.model
    before = window.bench.path_of("machines").read_text()
    drag(qtbot, station, free_spot(station, "forearm"), QPointF(-20.0, 60.0))
    changed = np.flatnonzero(np.abs(drawing.pose - model.start) > 1e-6)
    assert [model.joints[i] for i in changed] == ["fold"]
    assert drawing.pose is not None and drawing.pose[changed[0]] < model.start[changed[0]]
    assert window.bench.path_of("machines").read_text() == before  # a pose is not an edit
    assert station.keep.isVisible() and "held" in station.follows.text()
    qtbot.mouseClick(station.keep, LEFT)
    start = window.bench.problem.machine.joints["fold"].start
    assert isinstance(start, float)
    assert start == pytest.approx(float(np.float64(start)), abs=1e-3) and start != pytest.approx(np.radians(-60.0))
    assert not station.keep.isVisible()
    assert "# A post-mounted arm" in window.bench.path_of("machines").read_text()
    window.bench.undo.undo()
    assert window.bench.path_of("machines").read_text() == before
    # with Shift the whole limb follows, and keys move one joint
    station.drop_pose()
    drawing.repaint()
    drag(qtbot, station, free_spot(station, "forearm"), QPointF(-30.0, -20.0), SHIFT)
    assert (np.abs(drawing.pose - model.start) > 1e-6).sum() >= 2
    station.drop_pose()
    drawing.setFocus()
    qtbot.keyClicks(drawing, "+")
    assert drawing.pose is not None and drawing.pose[model.joints.index("fold")] == pytest.approx(
        model.start[model.joints.index("fold")] + np.radians(2.0)
    )


def test_a_handle_sizes_a_shape_and_its_other_end_stays(qtbot: QtBot, window: Window) -> None:
    station = station_on(qtbot, window, "lift", "trolley")
    drawing = station.drawing
    drawing.zoom = 3.0
    drawing.repaint()
    body = window.bench.problem.machine.bodies["trolley"]
    shape = next(k for k, s in enumerate(body.shapes) if s.kind == "box")
    before = body.shapes[shape]
    grip = handle(station, shape, 0)
    frame = drawing.frame()
    drag(qtbot, station, frame.place(grip.at), QPointF(0.5 * frame.scale, 0.0))
    after = window.bench.problem.machine.bodies["trolley"].shapes[shape]
    assert after.size[0] == pytest.approx(before.size[0] + 0.5, abs=0.05)
    assert after.size[1:] == before.size[1:]
    left = [s.at[0] - 0.5 * s.size[0] for s in (before, after)]
    assert left[0] == pytest.approx(left[1], abs=0.01)
    window.bench.undo.undo()
    assert window.bench.problem.machine.bodies["trolley"].shapes[shape] == before
    # the joint's own ring moves its place in the parent
    ring = handle(station, -1, -2)
    drag(
        qtbot, station, drawing.frame().place(ring.at) + QPointF(-8.0, 0.0), QPointF(0.0, -0.4 * drawing.frame().scale)
    )
    moved = window.bench.problem.machine.joints["trolley"].origin[2]
    window.bench.undo.undo()
    assert moved - window.bench.problem.machine.joints["trolley"].origin[2] == pytest.approx(0.4, abs=0.06)


def test_limbs_are_copied_mirrored_removed_and_carried_by_keys(qtbot: QtBot, window: Window, tmp_path: Path) -> None:
    station = station_on(qtbot, window, "hang", "hand", "free")
    station.setFocus()
    names = set(window.bench.problem.machine.bodies)
    for key in (Qt.Key.Key_D, Qt.Key.Key_M):
        qtbot.keyClick(station, key, CTRL)
        assert set(window.bench.problem.machine.bodies) - names == {"hand_2", "basket_2"}
        assert station.selected == ("bodies", "hand_2")
        qtbot.keyClick(station, Qt.Key.Key_Delete)
        assert set(window.bench.problem.machine.bodies) == names
        assert station.selected == ("bodies", "forearm")
        station.choose("bodies", "hand")
    qtbot.keyClick(station, Qt.Key.Key_C, CTRL)
    # what the task needs is not removed, and the reason stands there
    qtbot.keyClick(station, Qt.Key.Key_Delete)
    assert "hand" in window.bench.problem.machine.bodies and station.problem_text.isVisible()
    assert "\n" not in station.problem_text.text()
    # into another project
    create(tmp_path / "other", "crab")
    other = Window(tmp_path / "other")
    qtbot.addWidget(other)
    other.show()
    qtbot.waitExposed(other)
    second = station_on(qtbot, other, Project(tmp_path / "other").tasks()[0], "shell", "free")
    second.setFocus()
    qtbot.keyClick(second, Qt.Key.Key_V, CTRL)
    machine = other.bench.problem.machine
    assert machine.joints["wrist"].parent == "shell" and machine.bodies["basket"].mass == 12.0
    other.close()


def test_parts_of_every_kind_are_added_chosen_and_edited(qtbot: QtBot, window: Window) -> None:
    station = station_on(qtbot, window, "hover", "frame", "free")
    station.parts.fill()
    actions = {action.text(): action for action in station.parts.menu.actions()}
    actions["Inertial unit on frame"].trigger()
    assert station.selected == ("sensors", "frame_inertial")
    type_into(qtbot, field(qtbot, window, "frame_inertial noise"), "0.02")
    assert window.bench.problem.machine.sensors["frame_inertial"].noise == 0.02
    actions["Body hinged to frame"].trigger()
    assert station.selected == ("bodies", "part")
    before = window.bench.problem.machine.bodies["part"].inertia
    type_into(qtbot, field(qtbot, window, "part inertia xx"), "40 kg*m**2")
    assert "no solid has this inertia" in station.problem_text.text() and "Ctrl+E" in station.problem_text.text()
    assert window.bench.problem.machine.bodies["part"].inertia == before
    station.ladder.repaint()
    for kind, name in (
        ("tanks", "hopper"),
        ("sensors", "frame_inertial"),
        ("drives", "front"),
        ("joints", "part_joint"),
    ):
        box = next(b for b, k, n in station.ladder._places if (k, n) == (kind, name))
        spot = QPointF(box.left() + 4, box.center().y()).toPoint()
        assert station.ladder.part_at(QPointF(spot)) == (kind, name)
        qtbot.mouseClick(station.ladder, LEFT, pos=spot)
        assert station.selected == (kind, name)
        station.ladder.repaint()
    type_into(qtbot, field(qtbot, window, "part_joint place, x"), "30 cm")
    assert window.bench.problem.machine.joints["part_joint"].origin[0] == pytest.approx(0.3)
    focused = field(qtbot, window, "part_joint damping")
    qtbot.mouseClick(focused, LEFT)
    assert "0 or more" in station.meaning.text()


def test_a_loose_machine_falls_is_pushed_and_is_held_again(qtbot: QtBot, window: Window) -> None:
    station = station_on(qtbot, window, "brace", "shell", "side")
    drawing, playback = station.drawing, window.bench.playback
    station.setFocus()
    qtbot.keyClick(station, Qt.Key.Key_L)
    assert station.loose is not None and station.loose.running
    qtbot.waitUntil(lambda: playback.recording.steps > 40, timeout=180_000)
    lying = playback.recording.position[-1]
    assert lying[2] < window.bench.problem.model.start[2] - 0.05  # it sank: its drives are off
    assert {trace.name.partition(".")[0] for trace in station.strip.chart.traces} <= set(
        window.bench.problem.machine.sensors
    )
    drawing.repaint()
    outline = drawing.scene.outlines["shell"][0].boundingRect().center()
    qtbot.mousePress(drawing, LEFT, Qt.KeyboardModifier.NoModifier, outline.toPoint())
    for k in range(1, 6):
        move(drawing, (outline + QPointF(0.0, -24.0 * k)).toPoint(), Qt.KeyboardModifier.NoModifier)
    body = drawing._body
    assert body and "pushing" in drawing.caption
    count = playback.recording.steps
    qtbot.waitUntil(lambda: playback.recording.steps > count + 40, timeout=180_000)
    assert playback.recording.position[-1][2] > lying[2] + 0.05  # the hand lifted it
    qtbot.mouseRelease(drawing, LEFT)
    assert station.loose.batch.plant.fields[0, 8] == 0.0 and drawing.caption == ""
    qtbot.keyClick(station, Qt.Key.Key_H)
    assert station.loose is None and drawing.pose == pytest.approx(window.bench.problem.model.start)
    # a loose run ends when something else is played or chosen
    station.let_go()
    playback.load(window.bench.problem, None, "")
    assert station.loose is None
    station.let_go()
    window.enter(1)
    window.bench.choose_task("lift")
    assert station.loose is None


def test_troubles_stand_in_the_drawing_the_ladder_and_the_facts(qtbot: QtBot, window: Window) -> None:
    station = station_on(qtbot, window, "hang", "hand", "side")
    assert window.bench.edit("machines", ["bodies", "hand", "inertia"], [30.0, 30.0, 30.0], "too much") == ""
    qtbot.waitUntil(lambda: bool(station.drawing.troubles), timeout=180_000)
    trouble = station.drawing.troubles[0]
    assert (trouble.state, trouble.name) == ("look", "hand") and "fits them" in trouble.remedy
    assert station.ladder._marks == {("bodies", "hand"): "look"}
    window.bench.undo.undo()
    qtbot.waitUntil(lambda: not station.drawing.troubles, timeout=180_000)
