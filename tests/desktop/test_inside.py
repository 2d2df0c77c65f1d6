"""What a method shows of itself: kept with the run, and looked at in the real window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.stations.training.inside_sheet import GoodRange, LandscapeView, ModelView, weight_names
from plucky_heron.desktop.window import Window
from plucky_heron.errors import FileError
from plucky_heron.learning.guide import preset
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.training.inside import NAME, has_inside, read_inside
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import Recipe, with_changes
from tests.conftest import copy_demo

LEFT = Qt.MouseButton.LeftButton


def small(method: str, **changes: str) -> Recipe:
    """A recipe that is over in seconds."""
    few = {"evaluation.episodes": "2", "copies": "8"}
    return with_changes(Recipe.model_validate(preset(method, "quick look")), few | changes)


def test_a_model_shows_what_it_foresaw_beside_what_came(folder: Path, tmp_path: Path) -> None:
    recipe = small("model-based", steps="1024", random_start_steps="512", model_updates="5", updates_per_step="0.2")
    run = Run(Project(folder).problem("lift"), recipe, 1, tmp_path)
    assert not has_inside(tmp_path)
    with pytest.raises(FileError, match="nothing to show"):
        read_inside(tmp_path)
    run.work(lambda *_: None, lambda *_: None, lambda: False)
    found = read_inside(tmp_path)
    steps, width = found["truth"].shape
    assert width == 10 and 10 < steps <= 100
    assert found["one_step"].shape == found["open_loop"].shape == (5, steps, 10)
    # both begin with the same step from the same true state
    np.testing.assert_allclose(found["one_step"][:, 0], found["open_loop"][:, 0], rtol=1e-4, atol=1e-5)
    (tmp_path / NAME).write_bytes(b"no archive")
    with pytest.raises(FileError, match="damaged"):
        read_inside(tmp_path)


def test_methods_without_anything_to_show_keep_no_file(folder: Path, tmp_path: Path) -> None:
    run = Run(Project(folder).problem("lift"), small("ppo", steps="1024", steps_per_update="512"), 1, tmp_path)
    run.work(lambda *_: None, lambda *_: None, lambda: False)
    assert not has_inside(tmp_path)


@pytest.fixture(scope="module")
def searched(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A project with a run of a search and one with a model."""
    folder = copy_demo(tmp_path_factory.mktemp("inside") / "quillmere")
    recipes = (
        small("cross-entropy", steps="24000", candidates="8", episodes="1", **{"evaluation.every": "12000"}),
        small("model-based", steps="1024", random_start_steps="512", model_updates="5", updates_per_step="0.2"),
    )
    for recipe in recipes:
        assert launch.wait(folder, launch.train(folder, "lift", recipe, [1]))[0].state == "done"
    return folder


@pytest.mark.long
def test_the_sheet_is_opened_from_the_health_of_a_run(qtbot: QtBot, searched: Path) -> None:
    window = Window(searched)
    qtbot.addWidget(window)
    window.show()
    window.enter(3)
    station = window.station
    qtbot.mouseClick(station.to_health, LEFT)
    qtbot.waitUntil(station.inside.isVisible, timeout=180_000)
    qtbot.mouseClick(station.inside, LEFT)
    view = station.inside_sheet.view
    assert isinstance(view, ModelView) and view.list.count() == 10
    view.list.setFocus()
    before = view.chart.caption.text()
    qtbot.keyClick(view.list, Qt.Key.Key_Down)
    assert view.chart.caption.text() != before and "S OF ONE EPISODE" in view.chart.caption.text()
    station.inside_sheet.reject()

    window.bench.choose_run(next(r.id for r in window.bench.store.runs() if r.method == "cross-entropy"))
    qtbot.waitUntil(lambda: window.bench.row().method == "cross-entropy", timeout=180_000)
    qtbot.mouseClick(station.inside, LEFT)
    view = station.inside_sheet.view
    assert isinstance(view, LandscapeView) and len(view.names) == 22 and "push ← offset" in view.names
    bars = view.findChildren(GoodRange)
    assert len(bars) == 22
    bar = next(b for b in bars if b.accessibleName() == "good range of push ← cable rate")
    qtbot.mouseClick(bar, LEFT, pos=QPoint(20, 9))
    assert view.choices[0].currentText() == "push ← cable rate"
    assert view.plot.getPlotItem().getAxis("bottom").labelText == "push ← cable rate"
    station.inside_sheet.reject()
    window.close()


def test_weights_without_names_are_numbered(folder: Path) -> None:
    problem = Project(folder).problem("lift")
    assert weight_names(problem, np.zeros(3)) == ["weight 1", "weight 2", "weight 3"]
    assert weight_names(problem, np.zeros(22))[-1] == "reel ← constant"
