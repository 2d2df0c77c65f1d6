"""Edits of the window beside those of an editor or of another window: nobody's lines are written over, and what is wrong is shown where it is."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PySide6.QtWidgets import QMessageBox
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.bench import workbench as workbench_module
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.task.station import TaskStation
from plucky_heron.desktop.window import Window
from plucky_heron.task.problem import Problem
from tests.desktop.test_window import LEFT


@pytest.fixture
def bench(qapp: object, folder: Path):  # type: ignore[no-untyped-def]
    """A workbench without a window."""
    made = Workbench(folder)
    yield made
    made.close()


def weight(bench: Workbench, name: str = "effort") -> float:
    """A weight of the shown task."""
    assert bench.problem is not None
    return float(bench.problem.task.rewards[name].weight)


def saved_outside(path: Path, old: str, new: str) -> None:
    """An editor saves the file."""
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1))


def test_undo_takes_out_its_own_change_and_leaves_what_others_saved(bench: Workbench, folder: Path) -> None:
    path, before = folder / "tasks" / "lift.toml", weight(bench)
    assert bench.edit("tasks", ("rewards", "effort", "weight"), -3.5, "weight") == ""
    saved_outside(path, 'time_limit = "12 s"', 'time_limit = "9 s"')
    bench.undo.undo()
    assert weight(bench) == before and 'time_limit = "9 s"' in path.read_text()
    assert bench.problem is not None and bench.problem.task.timing.time_limit == 9.0
    bench.undo.redo()
    assert weight(bench) == -3.5 and 'time_limit = "9 s"' in path.read_text()


def test_undo_of_a_line_that_others_changed_refuses_and_says_so(bench: Workbench, folder: Path) -> None:
    path = folder / "tasks" / "lift.toml"
    assert bench.edit("tasks", ("rewards", "effort", "weight"), -3.5, "weight of effort") == ""
    saved_outside(path, "-3.5", "-7.25")
    text = path.read_text()
    bench.undo.undo()
    assert path.read_text() == text and weight(bench) == -7.25
    assert "cannot be undone" in bench.trouble and "lift.toml" in bench.trouble
    assert not bench.undo.canRedo()


def test_the_window_reads_again_what_an_editor_saved(qtbot: QtBot, bench: Workbench, folder: Path) -> None:
    with qtbot.waitSignal(bench.noted, timeout=180_000) as noted:
        saved_outside(folder / "machines" / "hoist.toml", "mass", "mass")  # nothing new is no change
        saved_outside(folder / "tasks" / "lift.toml", 'time_limit = "12 s"', 'time_limit = "7 s"')
    assert noted.args is not None and "lift.toml" in noted.args[0]
    assert bench.problem is not None and bench.problem.task.timing.time_limit == 7.0
    saved_outside(folder / "tasks" / "lift.toml", 'time_limit = "7 s"', 'time_limit = "late"')
    qtbot.waitUntil(lambda: "time_limit" in bench.trouble, timeout=180_000)
    saved_outside(folder / "tasks" / "lift.toml", 'time_limit = "late"', 'time_limit = "8 s"')
    qtbot.waitUntil(lambda: bench.trouble == "", timeout=180_000)
    (folder / "tasks" / "another.toml").write_text((folder / "tasks" / "lift.toml").read_text())
    with qtbot.waitSignal(bench.problem_changed, timeout=180_000):
        pass


@pytest.mark.parametrize("keep", ["mine", "theirs"])
def test_an_edit_against_a_changed_file_is_a_choice(qtbot: QtBot, folder: Path, keep: str) -> None:
    window = Window(folder)
    qtbot.addWidget(window)
    window.show()
    bench, path = window.bench, folder / "tasks" / "lift.toml"
    bench._timer.stop()  # the moment before the window looks again
    saved_outside(path, 'time_limit = "12 s"', 'time_limit = "9 s"')
    assert "choose" in bench.edit("tasks", ("rewards", "effort", "weight"), -3.5, "weight")
    assert "-3.5" not in path.read_text()
    (box,) = window.findChildren(QMessageBox)
    assert "-3.5" in box.informativeText() and '9 s"' in box.informativeText()
    role = QMessageBox.ButtonRole.AcceptRole if keep == "mine" else QMessageBox.ButtonRole.RejectRole
    qtbot.mouseClick(next(b for b in box.buttons() if box.buttonRole(b) == role), LEFT)
    assert bench.problem is not None and bench.problem.task.timing.time_limit == 9.0
    assert (weight(bench) == -3.5) == (keep == "mine") and ("-3.5" in path.read_text()) == (keep == "mine")
    window.close()


def test_an_edit_reads_the_project_once(bench: Workbench, monkeypatch: pytest.MonkeyPatch) -> None:
    bound: list[object] = []
    real = workbench_module.bind

    def counted(*given: Any) -> Problem:
        bound.append(given)
        return real(*given)

    monkeypatch.setattr(workbench_module, "bind", counted)
    monkeypatch.setattr(bench.project, "problem", lambda *_: pytest.fail("read again"))
    assert bench.edit("tasks", ("rewards", "effort", "weight"), -2.25, "weight") == ""
    assert weight(bench) == -2.25 and len(bound) == 1


def test_one_wrong_formula_does_not_blank_the_station_and_is_repaired_there(qtbot: QtBot, folder: Path) -> None:
    path = folder / "tasks" / "lift.toml"
    formula = Workbench(folder).problem.task.rewards["effort"].formula
    saved_outside(path, formula, formula + " + hieght")
    window = Window(folder)
    qtbot.addWidget(window)
    window.show()
    bench = window.bench
    assert bench.problem is not None and "rewards.effort.formula" in bench.faults
    assert "did you mean height" in bench.trouble
    assert "waits for rewards.effort.formula" in bench.train([1]) and not bench.store.runs()
    window.enter(1)
    station = window.station
    assert isinstance(station, TaskStation)
    field = next(f for f in station.findChildren(type(station.ends.measure)) if "hieght" in f.text())
    assert field.problem_text and field.isVisible()
    assert "did you mean" in bench.edit("tasks", ("rewards", "effort", "formula"), formula + " + dirft", "still wrong")
    assert bench.edit("tasks", ("rewards", "effort", "weight"), -0.5, "something else meanwhile") == ""
    assert bench.edit("tasks", ("rewards", "effort", "formula"), formula, "repaired") == ""
    assert not bench.faults and bench.trouble == ""
    window.close()
