"""The real window, offscreen, driven with mouse and keys through all seven stations."""

from __future__ import annotations

import shutil
import time
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QObject, QPoint, Qt
from PySide6.QtWidgets import QApplication, QLabel, QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.forms.widgets import Card, QuantityField
from plucky_heron.desktop.stations.catalogue import STATIONS
from plucky_heron.desktop.window import Finder, Window
from plucky_heron.handover.pack import write_pack
from plucky_heron.project import Project
from plucky_heron.runs.results import PACK
from plucky_heron.runs.store import RunRow

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def window(qtbot: QtBot, folder: Path):  # type: ignore[no-untyped-def]
    """A window on a fresh project."""
    yield from opened(qtbot, folder)


@pytest.fixture
def trained_window(qtbot: QtBot, trained: tuple[Project, RunRow]):  # type: ignore[no-untyped-def]
    """A window on a project with a finished run."""
    yield from opened(qtbot, trained[0].folder)


def opened(qtbot: QtBot, folder: Path):  # type: ignore[no-untyped-def]
    """Open, hand over, close."""
    made = Window(folder)
    qtbot.addWidget(made)
    made.show()
    qtbot.waitExposed(made)
    yield made
    made.close()


def go(qtbot: QtBot, window: Window, number: int) -> None:
    """Click a stake."""
    stakes = window.causeway.stakes
    qtbot.mouseClick(stakes, LEFT, pos=QPoint(int(stakes.centre(number)), 30))
    assert window.stack.currentIndex() == number


def settled(qtbot: QtBot, window: Window, limit: int = 300_000) -> None:
    """Wait until no job is at work."""
    qtbot.waitUntil(lambda: window.bench.job is None, timeout=limit)
    assert window.bench.trouble == ""


Kind = TypeVar("Kind", bound=QWidget)


def visible(qtbot: QtBot, window: Window, kind: type[Kind], name: str) -> Kind:
    """A visible widget of the station by its accessible name; rows that were just rebuilt appear with the next event."""

    def found() -> list[Kind]:
        return [w for w in window.station.findChildren(kind) if w.accessibleName() == name and w.isVisible()]

    qtbot.waitUntil(lambda: len(found()) == 1, timeout=180_000)
    return found()[0]


def field(qtbot: QtBot, window: Window, name: str) -> QuantityField:
    """A visible number field."""
    return visible(qtbot, window, QuantityField, name)


def type_into(qtbot: QtBot, widget: QWidget, text: str) -> None:
    """Replace a field's text by typing."""
    assert isinstance(widget, QLineEdit)
    qtbot.mouseClick(widget, LEFT)
    widget.selectAll()
    qtbot.keyClick(widget, Qt.Key.Key_Delete)
    qtbot.keyClicks(widget, text)
    qtbot.keyClick(widget, Qt.Key.Key_Return)


def test_every_station_is_reached_by_mouse_and_by_keys(qtbot: QtBot, window: Window) -> None:
    for number in range(7):
        go(qtbot, window, number)
        assert window.causeway.stakes.current == number
        assert window.causeway.stakes.facts[number]
    for number in range(7):
        qtbot.keyClick(window, Qt.Key(Qt.Key.Key_1.value + number), Qt.KeyboardModifier.ControlModifier)
        assert window.stack.currentIndex() == number
    window.causeway.stakes.setFocus()
    qtbot.keyClick(window.causeway.stakes, Qt.Key.Key_Left)
    assert window.stack.currentIndex() == 5


def test_f6_goes_from_card_to_card_and_all_is_named(qtbot: QtBot, window: Window) -> None:
    for number in range(7):
        go(qtbot, window, number)
        cards = [c for c in window.station.findChildren(Card) if c.isVisible()]
        seen = set()
        for _ in cards:
            qtbot.keyClick(window, Qt.Key.Key_F6)
            seen.add(QApplication.focusWidget())
        assert seen == set(cards)
        for button in window.station.findChildren(QPushButton):
            assert button.accessibleName()


def test_the_finder_finds_by_typing(qtbot: QtBot, window: Window) -> None:
    finder = Finder(window)
    qtbot.addWidget(finder)
    finder.show()
    qtbot.keyClicks(finder.text, "prov stat")
    assert [e[0] for e in finder.found] == ["Proving, station"]
    qtbot.keyClick(finder.text, Qt.Key.Key_Return)
    assert window.stack.currentIndex() == [s.name for s in STATIONS].index("Proving")


def test_a_number_of_the_machine_is_edited_undone_and_seen(qtbot: QtBot, window: Window) -> None:
    go(qtbot, window, 0)
    station = window.stations[0]
    place = next(box for box, kind, name in station.ladder._places if (kind, name) == ("bodies", "trolley"))
    qtbot.mouseClick(station.ladder, LEFT, pos=place.center().toPoint())
    assert station.selected == ("bodies", "trolley")
    before = window.bench.path_of("machines").read_text()
    type_into(qtbot, field(qtbot, window, "trolley mass"), "0.2 t")
    assert window.bench.problem.machine.bodies["trolley"].mass == pytest.approx(200.0)
    text = window.bench.path_of("machines").read_text()
    assert 'mass = "0.2 t"' in text and "# A trolley on a quay portal" in text
    type_into(qtbot, field(qtbot, window, "trolley mass"), "5 m")
    assert "wanted kg" in field(qtbot, window, "trolley mass").problem
    assert field(qtbot, window, "trolley mass").text() == "5 m"  # never discarded
    assert window.bench.problem.machine.bodies["trolley"].mass == pytest.approx(200.0)
    qtbot.keyClick(field(qtbot, window, "trolley mass"), Qt.Key.Key_Escape)
    window.bench.undo.undo()
    assert window.bench.path_of("machines").read_text() == before
    assert window.bench.problem.machine.bodies["trolley"].mass == 120.0
    window.bench.undo.redo()
    assert window.bench.problem.machine.bodies["trolley"].mass == pytest.approx(200.0)
    qtbot.waitUntil(lambda: "basket" in station.drawing.scene.outlines, timeout=180_000)
    body = station.drawing.scene.outlines["basket"][1].boundingRect().center().toPoint()
    qtbot.mouseClick(station.drawing, LEFT, pos=body)
    assert station.selected == ("bodies", "basket")


def test_letting_go_plays_and_the_transport_moves_everything(qtbot: QtBot, window: Window) -> None:
    go(qtbot, window, 0)
    window.stations[0].setFocus()
    qtbot.keyClick(window.stations[0], Qt.Key.Key_L)
    settled(qtbot, window)
    playback = window.bench.playback
    qtbot.waitUntil(lambda: playback.index > 3, timeout=180_000)
    window.stations[0].setFocus()
    qtbot.keyClick(window, Qt.Key.Key_Space)
    assert not playback.playing and window.stations[0].loose is None
    at = playback.index
    qtbot.keyClick(window, Qt.Key.Key_Left)
    assert playback.index == at - 1
    qtbot.keyClick(window, Qt.Key.Key_Right)
    assert playback.index == at
    qtbot.keyClick(window, Qt.Key.Key_Home)
    assert playback.index == 0
    qtbot.keyClick(window, Qt.Key.Key_Space)
    assert playback.playing
    chart = window.stations[0].strip.chart
    qtbot.mouseClick(chart, LEFT, pos=QPoint(int(chart._x(0.06)), 20))
    assert not playback.playing and playback.time == pytest.approx(0.06, abs=0.03)


def test_reward_terms_and_weights_are_edited(qtbot: QtBot, window: Window) -> None:
    go(qtbot, window, 1)
    type_into(qtbot, field(qtbot, window, "effort weight"), "0.7")
    assert window.bench.problem.task.rewards["effort"].weight == 0.7
    formula = visible(qtbot, window, QLineEdit, "effort formula")
    type_into(qtbot, formula, "-(action.psh / 500)**2")
    assert (
        "action.push" in window.stations[1].rewards_card.wrong.text()
        and "column 3" in window.stations[1].rewards_card.wrong.text()
    )
    assert formula.text() == "-(action.psh / 500)**2"
    assert "psh" not in window.bench.path_of("tasks").read_text()
    type_into(qtbot, formula, "-abs(action.push / 500)")
    assert window.bench.problem.task.rewards["effort"].formula == "-abs(action.push / 500)"
    assert not window.stations[1].rewards_card.wrong.isVisible()


def test_shakedown_rehearses_checks_and_keeps_the_ledger(qtbot: QtBot, window: Window) -> None:
    go(qtbot, window, 2)
    station = window.stations[2]
    qtbot.mouseClick(station.again, LEFT)
    settled(qtbot, window)
    assert "pass" in window.causeway.stakes.facts[2]
    playback = window.bench.playback
    playback.seek(playback.recording.steps)
    assert sum(station.ledger.sums().values()) == pytest.approx(playback.recording.score)
    station.dots.repaint()
    point, _, _ = next(p for p in station.dots._points if p[1] == "random" and p[2] == 40)
    qtbot.mouseClick(station.dots, LEFT, pos=point.toPoint())
    settled(qtbot, window)
    shown = playback.recording
    assert shown.driver == "random"
    assert shown.score == pytest.approx(window.bench.shakedown.rehearsals["random"].score[shown.episode])
    # an edit makes the shakedown older than the task, and says so
    window.bench.edit("tasks", ["rewards", "effort", "weight"], 0.9, "test")
    assert window.causeway.stakes.older[2]


def test_driving_by_keyboard_moves_the_machine_and_is_scored(qtbot: QtBot, window: Window) -> None:
    go(qtbot, window, 2)
    station = window.stations[2]
    qtbot.mouseClick(station.drive, LEFT)
    assert station.takes_keys()
    start = station.person.batch.plant.position[0, 0]
    qtbot.keyPress(window, Qt.Key.Key_Right)
    qtbot.waitUntil(lambda: len(station.person._commands) > 25, timeout=180_000)
    qtbot.keyRelease(window, Qt.Key.Key_Right)
    assert station.person.batch.plant.position[0, 0] > start + 0.05
    assert window.bench.playback.recording.commands[:, 0].max() == pytest.approx(300.0)
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    assert not station.takes_keys() and len(station.driven) == 1
    assert [row[0] for row in station.dots.rows()] == []  # nothing else rehearsed yet
    assert "you" in window.bench.playback.title


def test_the_good_enough_line_is_dragged(qtbot: QtBot, window: Window) -> None:
    go(qtbot, window, 3)
    chart = window.stations[3].curves.chart
    chart.rule.setValue(0.9)
    chart.rule.sigPositionChangeFinished.emit(chart.rule)
    assert window.bench.recipe.stop[0].at_least == pytest.approx(0.9)
    assert 'at_least = "90.0 %"' in window.bench.path_of("recipes").read_text()
    window.bench.undo.undo()
    assert window.bench.recipe.stop[0].at_least == pytest.approx(0.98)


class Stalls(QObject):
    """The longest time between two turns of the event loop."""

    def __init__(self) -> None:
        super().__init__()
        self.longest, self.last = 0.0, time.perf_counter()
        self.timer = self.startTimer(5)

    def timerEvent(self, event: QEvent) -> None:
        """One turn."""
        now = time.perf_counter()
        self.longest, self.last = max(self.longest, now - self.last), now


def longest_stall(qtbot: QtBot, window: Window) -> float:
    """Watch for three seconds, visiting every station while the curve grows."""
    stalls = Stalls()
    qtbot.wait(1200)
    for number in (0, 1, 2, 4, 5, 6, 3):
        go(qtbot, window, number)
        qtbot.wait(150)
    qtbot.wait(800)
    stalls.killTimer(stalls.timer)
    return stalls.longest


@pytest.mark.alone
def test_training_on_both_cores_never_stalls_the_window(qtbot: QtBot, window: Window) -> None:
    """Two seeds at work, all stations visited: nothing long is done in the window's thread.

    How long the longest turn of the event loop is depends on the machine's other users (docs/results.md has figures);
    here it is only kept from a quarter of a second, in the quietest of six watches.
    """
    for number in range(7):
        go(qtbot, window, number)
    go(qtbot, window, 3)

    def endless(recipe: Any) -> None:
        """On a fast machine the recipe is done before the watches are."""
        recipe["steps"] = 100_000_000
        del recipe["stop"]

    assert window.bench.rewrite("recipes", endless, "no rules") == ""
    type_into(qtbot, field(qtbot, window, "seeds"), "2")
    qtbot.mouseClick(window.stations[3].start, LEFT)
    rows = window.bench.batch_rows
    qtbot.waitUntil(lambda: sum(r.steps > 5000 for r in rows()) == 2, timeout=180_000)
    assert "seeds" in window.causeway.stakes.facts[3]
    watches: list[float] = []
    while len(watches) < 6 and (not watches or min(watches) >= 0.1):
        watches.append(longest_stall(qtbot, window))
    assert len(window.bench.training()) == 2
    qtbot.mouseClick(window.stations[3].stop, LEFT)
    qtbot.waitUntil(lambda: not window.bench.training(), timeout=180_000)
    assert {r.stop_rule for r in rows()} == {"by hand"}
    assert min(watches) < 0.25, watches


def test_compare_shows_median_and_worst(qtbot: QtBot, trained_window: Window) -> None:
    go(qtbot, trained_window, 4)
    station = trained_window.stations[4]
    assert station.chosen == [1]
    assert station.dots.groups[0][0] == "A"
    qtbot.mouseClick(station.list.viewport(), LEFT, pos=QPoint(60, 14))
    assert station.chosen == []
    station.list.setFocus()
    qtbot.keyClick(station.list, Qt.Key.Key_Return)
    assert station.chosen == [1]
    runs = station.run_table
    qtbot.waitUntil(lambda: runs.rows.rowCount() == 1)
    assert runs.rows.data(runs.rows.index(0, 1)) == "7"
    qtbot.mouseClick(runs.viewport(), LEFT, pos=runs.visualRect(runs.rows.index(0, 6)).center())
    assert trained_window.bench.run == 1


def test_proof_is_started_and_its_worst_trial_replayed(qtbot: QtBot, trained_window: Window) -> None:
    go(qtbot, trained_window, 5)
    station = trained_window.stations[5]
    qtbot.mouseClick(station.start, LEFT)
    settled(qtbot, trained_window)
    settled(qtbot, trained_window)
    assert set(station.bars.summary) == {"policy", "nobody", "random", "rule steady", "regulator"}
    worst = station.bars.summary["policy"]["worst"]
    qtbot.waitUntil(lambda: trained_window.bench.playback.recording is not None, timeout=240_000)
    qtbot.keyClick(station.bars, Qt.Key.Key_Down)
    assert station.driver == "nobody"
    station.choose("policy")
    replay = visible(qtbot, trained_window, QPushButton, f"replay trial {worst[2]}")
    qtbot.mouseClick(replay, LEFT)
    settled(qtbot, trained_window)
    shown = trained_window.bench.playback
    assert shown.recording.episode == worst[2] and f"trial {worst[2]} of 200" in shown.title
    assert shown.ghosts[0].driver == "regulator"


def test_a_pack_that_the_command_wrote_is_rolled_out_from_the_window_too(
    qtbot: QtBot, trained: tuple[Project, RunRow], tmp_path: Path
) -> None:
    project = tmp_path / "own"
    shutil.copytree(trained[0].folder, project, ignore=shutil.ignore_patterns("packs"))
    window = Window(project)
    qtbot.addWidget(window)
    window.show()
    bench = window.bench
    row = bench.row()
    assert row is not None
    write_pack(project, row, tmp_path / "elsewhere")
    bench.results_changed.emit()
    go(qtbot, window, 6)
    station = window.stations[6]
    qtbot.waitUntil(lambda: "is not in this project" in station.note.text())
    assert not station.roll.isEnabled() and str(tmp_path / "elsewhere") in station.note.text()
    write_pack(project, row, project / "packs" / "by hand")
    bench.results_changed.emit()
    qtbot.waitUntil(station.roll.isEnabled)
    assert station.note.text().endswith("by hand")
    station.mode.setCurrentIndex(1)
    qtbot.mouseClick(station.roll, LEFT)
    settled(qtbot, window)
    assert "0 missed" in window.causeway.stakes.facts[6]
    for named in ("../..", "/etc", "packs/gone"):  # as a stranger's store may say
        last = bench.store.last_result(row.id, PACK)
        assert last is not None
        bench.store.add_result(row.id, PACK, last | {"within_project": named})
        bench.results_changed.emit()
        qtbot.waitUntil(lambda: not station.roll.isEnabled())
    window.close()


def test_pack_is_written_and_rolled_out_with_the_recorder_running(qtbot: QtBot, trained_window: Window) -> None:
    go(qtbot, trained_window, 6)
    station = trained_window.stations[6]
    qtbot.mouseClick(station.write, LEFT)
    settled(qtbot, trained_window)
    assert station.roll.isEnabled()
    lengths = []
    playback = trained_window.bench.playback
    for signal in (playback.loaded, playback.grown):
        signal.connect(lambda: lengths.append(playback.recording.steps))
    station.mode.setCurrentIndex(1)
    qtbot.mouseClick(station.roll, LEFT)
    settled(qtbot, trained_window)
    assert len(lengths) > 10 and np.diff(lengths[:5]).min() > 0  # it grew while it ran
    assert "0 missed" in trained_window.causeway.stakes.facts[6]
    assert trained_window.bench.playback.recording.ending


def test_a_damaged_project_file_is_explained_and_the_window_stays(qtbot: QtBot, window: Window) -> None:
    path = window.bench.path_of("tasks")
    good = path.read_text()
    path.write_text(good.replace('formula = "offset"', 'formula = "ofset"'))
    window.bench.reload()
    assert "ofset" in window.bench.trouble and "ofset" in window.causeway.line.text.text()
    for number in range(7):
        go(qtbot, window, number)
    path.write_text(good)
    window.bench.reload()
    assert window.bench.trouble == ""


def test_other_forms_and_rigs_with_faults_and_the_rig_s_delay_into_the_task(
    qtbot: QtBot, trained_window: Window
) -> None:
    go(qtbot, trained_window, 6)
    station, bench = trained_window.stations[6], trained_window.bench
    path = bench.project.folder / "tasks" / "lift.toml"
    before = path.read_text()
    station.extra["st"].setChecked(True)
    station.safe.setCurrentIndex(2)
    qtbot.mouseClick(station.write, LEFT)
    settled(qtbot, trained_window)
    folder = station._folder()
    assert (folder / "policy.st").is_file() and '"kind": "hold"' in (folder / "pack.json").read_text()
    assert station.extra["st"].isChecked() and not station.extra["fmu"].isChecked()
    station.rig.which.setCurrentIndex(station.rig.which.findData("plc"))
    station.rig.faults.setText("loss=10")
    qtbot.mouseClick(station.roll, LEFT)
    assert "between 0 and 1" in bench.trouble
    station.rig.faults.setText("loss=10%")
    station.mode.setCurrentIndex(1)
    qtbot.mouseClick(station.roll, LEFT)
    settled(qtbot, trained_window)
    shown = [w.text() for w in station.rig.rows.findChildren(QLabel)]
    assert any("plc, lock-step" in text for text in shown) and any("lost" in text for text in shown)
    assert bench.playback.ghosts and bench.playback.ghosts[0].driver == "inside"
    assert not station.rig.take.isVisible()
    station.rig._show_delay({"mode": "real time", "round_trip_ms": {"median": 12.34}})
    assert station.rig.take.isVisible() and "12.3 ms" in station.rig.slower.text()
    qtbot.mouseClick(station.rig.take, LEFT)
    qtbot.waitUntil(lambda: bench.problem.task.timing.dead_time == pytest.approx(0.0123), timeout=180_000)
    path.write_text(before)  # other tests have this project, too
