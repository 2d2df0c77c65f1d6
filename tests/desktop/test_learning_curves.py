"""Learning curves: means over evaluations, many seeds as one item, and no drawing where nothing changed."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.charts.curves import MOST_POINTS, CurveChart
from plucky_heron.desktop.stations.training.model import averaged
from plucky_heron.desktop.window import Window
from plucky_heron.project import Project
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.training.stopping import Evaluation


def course(values: list[float], quantity: str = "success") -> list[Evaluation]:
    """An evaluation a value, 100 steps apart."""
    return [
        Evaluation(100 * k, float(k), k, v if quantity == "score" else 0.0, v if quantity == "success" else 0.0, True, {quantity: v})
        for k, v in enumerate(values)
    ]  # fmt: skip


@given(
    st.lists(st.floats(-1e6, 1e6) | st.just(float("nan")), max_size=40),
    st.sampled_from((1, 3, 5, 10, 20)),
    st.sampled_from(("success", "score", "kl")),
)
def test_a_mean_is_over_the_evaluation_and_those_before_it(values: list[float], over: int, quantity: str) -> None:
    found = [e.of(quantity) for e in averaged(course(values, quantity), quantity, over)]
    wanted = [np.mean(values[max(0, k - over + 1) : k + 1]) for k in range(len(values))]
    assert np.allclose(found, wanted, rtol=1e-9, atol=1e-6, equal_nan=True)


def test_seeds_are_one_item_and_none_is_joined_to_the_next(qtbot: QtBot) -> None:
    chart = CurveChart()
    qtbot.addWidget(chart)
    seeds = [course([0.0, 0.5, 1.0]), course(list(np.linspace(0.0, 1.0, 2 * MOST_POINTS))), course([0.2, 0.4])]
    chart._bundle([seeds[0], seeds[2]], "black")
    [item] = chart.plot.getPlotItem().items
    assert item.xData.tolist() == [0, 100, 200, 0, 100] and item.yData.tolist() == [0, 0.5, 1, 0.2, 0.4]
    assert item.opts["connect"].tolist() == [1, 1, 0, 1, 0]
    chart.clear()
    chart.add_courses(seeds, 0, each=True)
    assert max(len(item.xData) for item in chart.plot.getPlotItem().items if hasattr(item, "xData")) == MOST_POINTS + 5


def test_a_chart_is_drawn_again_only_where_something_in_it_changed(
    qtbot: QtBot, trained: tuple[Project, RunRow], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "quillmere"
    shutil.copytree(trained[0].folder, folder)
    window = Window(folder)
    qtbot.addWidget(window)
    window.enter(3)
    card = window.station.curves
    card.quantity.setCurrentIndex(card.quantity.findData("success"))
    card.beneath.setCurrentIndex(card.beneath.findData("length"))
    card.over.setCurrentIndex(0)
    drawn: list[str] = []
    clear = CurveChart.clear

    def noted(chart: CurveChart) -> None:
        drawn.append("first" if chart is card.chart else "second")
        clear(chart)

    monkeypatch.setattr(CurveChart, "clear", noted)
    window.station._drawn = None
    window.station.refresh()
    assert not drawn
    card.quantity.setCurrentIndex(card.quantity.findData("score"))
    assert drawn == ["first"] and set(card.shown) == {"score", "length"}
    card.over.setCurrentIndex(2)
    assert drawn == ["first", "first", "second"]
    run = window.bench.batch_rows()[0].id
    store = RunStore(folder)
    step = store.extent(run)[1]
    with store.writing():
        store.connection.execute(
            "INSERT INTO evaluations VALUES (?, ?, ?, ?, ?, ?, ?, ?)", [run, step + 1, 1.0, 1, 0.5, 0.5, 1, "{}"]
        )
    store.close()
    window.station.refresh()
    assert drawn[3:] == ["first", "second"] and card.shown["score"][0][1][-1].step == step + 1
    card.over.setCurrentIndex(0)
    card.beneath.setCurrentIndex(0)
    card.quantity.setCurrentIndex(0)
    window.close()
