"""Stop rules, diagnosis and going on, in the real window with mouse and keys, over runs that were recorded."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QComboBox, QFileDialog, QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from plucky_heron.analysis.diagnosis.finding import Finding
from plucky_heron.analysis.diagnosis.of_runs import findings_apart
from plucky_heron.desktop.charts.curves import CurveChart
from plucky_heron.desktop.charts.strip_recorder import StripChart
from plucky_heron.desktop.forms.widgets import Choice
from plucky_heron.desktop.shell.causeway import JobLine
from plucky_heron.desktop.stations.compare.station import CompareStation
from plucky_heron.desktop.stations.training import diagnosis_card, model
from plucky_heron.desktop.stations.training.rules_page import RulesPage
from plucky_heron.desktop.window import Window
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.runs.executors import at_once
from plucky_heron.runs.store import RunStore
from plucky_heron.training.recipe import with_changes
from plucky_heron.training.stopping import Evaluation
from plucky_heron.training.stopping.good_enough import GoodEnough
from tests.conftest import copy_demo

LEFT = Qt.MouseButton.LeftButton
OPENER = "change, replay and tune the stop rules"


@pytest.fixture(scope="module")
def recorded(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A project with a batch of two short runs."""
    folder = copy_demo(tmp_path_factory.mktemp("recorded") / "quillmere")
    recipe = with_changes(
        Project(folder).recipe("ppo"),
        {
            "steps": "16000",
            "evaluation.every": "1024",
            "evaluation.episodes": "16",
            "copies": "32",
            "steps_per_update": "1024",
        },
    )
    rows = launch.wait(folder, launch.train(folder, "lift", recipe, [1, 2]))
    assert [row.state for row in rows] == ["done", "done"]
    return folder


@pytest.fixture
def window(qtbot: QtBot, recorded: Path, tmp_path: Path) -> Iterator[Window]:
    """The window on a copy of it, in the Training station."""
    folder = tmp_path / "quillmere"
    shutil.copytree(recorded, folder)
    made = Window(folder)
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    made.enter(3)
    yield made
    made.close()


def named(inside: QWidget, name: str) -> QWidget:
    """The one visible widget of a name."""
    found = [w for w in inside.findChildren(QWidget) if w.accessibleName() == name and w.isVisible()]
    assert len(found) == 1, f"{name}: {len(found)}"
    return found[0]


def shown(qtbot: QtBot, inside: QWidget, name: str) -> QWidget:
    """The widget of a name, once it is shown: rows are made anew after a change."""
    qtbot.waitUntil(
        lambda: any(w.accessibleName() == name and w.isVisible() for w in inside.findChildren(QWidget)), timeout=180_000
    )
    return named(inside, name)


def press(qtbot: QtBot, inside: QWidget, text: str) -> None:
    """Press the button with these words."""

    def buttons() -> list[QPushButton]:
        return [b for b in inside.findChildren(QPushButton) if text in (b.text(), b.accessibleName()) and b.isVisible()]

    qtbot.waitUntil(lambda: len(buttons()) == 1, timeout=180_000)
    qtbot.mouseClick(buttons()[0], LEFT)


def typed(qtbot: QtBot, inside: QWidget, name: str, text: str) -> None:
    """Type into a field and press Enter."""
    field = shown(qtbot, inside, name)
    assert isinstance(field, QLineEdit)
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, text)
    qtbot.keyClick(field, Qt.Key.Key_Return)


@pytest.fixture
def page(qtbot: QtBot, window: Window) -> RulesPage:
    """The page of rules, opened by its button, when what is recorded was read and swept."""
    press(qtbot, window.station, OPENER)
    found: RulesPage = window.station.trial
    qtbot.waitUntil(lambda: found.trial is not None and found.map is not None, timeout=180_000)
    return found


def test_rules_are_typed_added_removed_and_taken_back(qtbot: QtBot, page: RulesPage) -> None:
    trial = page.trial
    before = list(trial.rules)
    assert [r.kind for r in before] == ["good enough", "no more gain", "budget", "gone wrong"] and len(trial.runs) == 2
    typed(qtbot, page, "good enough: at least", "50 %")
    typed(qtbot, page, "good enough: running", "2")
    qtbot.waitUntil(lambda: QApplication.focusWidget() is shown(qtbot, page, "good enough: running"))
    assert isinstance(trial.rules[0], GoodEnough) and trial.rules[0].at_least == 0.5 and trial.rules[0].running == 2
    press(qtbot, page, "Add a rule")
    assert trial.rules[-1].kind == "formula"
    typed(qtbot, page, "formula: when", "running(length > 1 s and score > -1000, 3)")
    assert page.trial.replays()[0].by == "formula" and page._replays[0].stopped_at < 5000
    typed(qtbot, page, "formula: when", "running(lenght > 1 s, 3)")
    assert page.wrong.isVisible() and "did you mean length" in page.wrong.text()
    assert trial.rules[-1].model_dump()["when"] == "running(length > 1 s and score > -1000, 3)", "it stays as it was"
    press(qtbot, page, "remove rule 2, no more gain")
    assert [r.kind for r in trial.rules] == ["good enough", "budget", "gone wrong", "formula"]
    for _ in range(5):
        press(qtbot, page, "Undo")
    assert trial.rules == before and not page.undo.isEnabled()


def test_a_rule_is_dragged_on_the_replay(qtbot: QtBot, page: RulesPage) -> None:
    page.chart.rule.setValue(0.25)
    page.chart.rule.sigPositionChangeFinished.emit(page.chart.rule)
    assert page.trial.rules[0].model_dump()["at_least"] == pytest.approx(0.25)
    assert "25.0 %" in page.chart.rule.label.format


def test_the_ring_is_dragged_along_the_line_and_the_rule_follows(qtbot: QtBot, page: RulesPage) -> None:
    found, picture = page.map, page.picture
    goal = found.edge[-1]
    at = picture.point(goal).toPoint()
    qtbot.mousePress(picture, LEFT, pos=QPoint(60, picture.height() - 60))
    qtbot.mouseMove(picture, at)
    qtbot.mouseRelease(picture, LEFT, pos=at)
    rule = page.trial.rules[0].model_dump()
    near = picture.nearest(picture.point(goal))
    assert near is not None
    assert (rule["at_least"], rule["running"]) == pytest.approx(found.tried[near].values)
    qtbot.waitUntil(lambda: page.map is not found, timeout=180_000)
    picture.setFocus()
    was = list(page.trial.rules)
    edge = page.map.edge
    if len(edge) > 1:
        qtbot.keyClick(picture, Qt.Key.Key_Left)
        assert page.trial.rules != was, "by the keyboard too"


def test_rules_go_into_the_recipe_in_one_change(qtbot: QtBot, page: RulesPage, window: Window) -> None:
    path = window.bench.path_of("recipes")
    text = path.read_text()
    typed(qtbot, page, "no more gain: within", "9")
    press(qtbot, page, "Add a rule")
    press(qtbot, page, "Use these rules")
    kept = Project(window.bench.project.folder).recipe("ppo")
    assert [r.kind for r in kept.stop] == ["good enough", "no more gain", "budget", "gone wrong", "formula"]
    assert kept.stop[1].model_dump()["within"] == 9 and kept.stop == tuple(page.trial.rules)
    assert window.station.pages.currentIndex() == 0
    qtbot.waitUntil(lambda: "the recipe has others" in window.station.rules.note.text(), timeout=180_000)
    window.bench.undo.undo()
    assert path.read_text() == text


def test_other_runs_and_other_numbers(qtbot: QtBot, page: RulesPage) -> None:
    assert isinstance(page.first, Choice)
    names = [page.first.itemText(k) for k in range(page.first.count())]
    assert "budget: steps" in names and "no more gain: within" in names
    before = page.map
    page.first.setCurrentText("budget: steps")
    page.first.activated.emit(page.first.currentIndex())
    qtbot.waitUntil(lambda: page.map is not before, timeout=180_000)
    assert {a.key for a in page.map.axes} == {"steps", "running"}
    page.quantity.setCurrentIndex(1)
    assert page.chart.quantity == "score"


def test_a_project_without_runs_says_what_to_do(qtbot: QtBot, folder: Path) -> None:
    window = Window(folder)
    qtbot.addWidget(window)
    window.show()
    window.enter(3)
    press(qtbot, window.station, OPENER)
    page = window.station.trial
    qtbot.waitUntil(lambda: page.trial is not None, timeout=180_000)
    assert "train without stop rules first" in page.sentence.text() and page.picture.empty
    typed(qtbot, page, "good enough: running", "3")
    press(qtbot, page, "Use these rules")
    assert Project(folder).recipe("ppo").stop[0].model_dump()["running"] == 3
    window.close()


def test_findings_stand_in_the_station_and_what_they_advise_is_applied_to_a_copy(qtbot: QtBot, window: Window) -> None:
    station, bench = window.station, window.bench
    qtbot.waitUntil(lambda: bool(station.diagnosis.findings), timeout=180_000)
    names = [f.name for f in station.diagnosis.findings]
    assert (
        "still improving at the end" in names
        or "another driver does better" in names
        or "every episode cut by time" in names
    )
    finding = next(f for f in station.diagnosis.findings if any(t.changes for t in f.tries))
    number = next(k for k, t in enumerate(finding.tries) if t.changes)
    before = {p.name: p.read_text() for p in (bench.project.folder / "recipes").iterdir()}
    press(qtbot, station.diagnosis, f"apply to {finding.name}, {number + 1}")
    assert bench.recipe_name == "ppo-try-1" and bench.recipe is not None
    key, value = next(iter(finding.tries[number].changes.items()))
    said = bench.recipe.model_dump() | bench.recipe.settings
    assert key.split(".")[0] in said and str(value)
    assert {p.name: p.read_text() for p in (bench.project.folder / "recipes").iterdir()} == before, (
        "no file was changed"
    )


def test_where_there_is_much_to_read_a_process_of_its_own_finds_the_same(
    qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    card, bench = window.station.diagnosis, window.bench
    qtbot.waitUntil(lambda: bool(card.findings), timeout=180_000)
    by_thread = card.findings
    asked: list[list[int]] = []

    def apart(*given: object) -> list[Finding] | None:
        asked.append(list(given[1]))  # type: ignore[call-overload]
        return findings_apart(*given)  # type: ignore[arg-type]

    monkeypatch.setattr(diagnosis_card, "MUCH", 1)
    monkeypatch.setattr(diagnosis_card, "findings_apart", apart)
    card.look_at([])
    assert card.findings == []
    card.look_at([bench.store.run(run) for run in (1, 2)])
    qtbot.waitUntil(lambda: bool(card.findings), timeout=180_000)
    assert card.findings == by_thread and asked == [[1, 2]]


def test_an_ended_run_goes_on_and_a_new_batch_starts_from_it(qtbot: QtBot, window: Window) -> None:
    station, bench = window.station, window.bench
    run = bench.run
    press(qtbot, station, "Go on …")
    sheet = station.sheet_of_run
    assert "10 of 10 observations; 2 of 2 commands; critic and statistics carried over" in sheet.matched.text()
    typed(qtbot, sheet, "steps in all", "9000")
    qtbot.mouseClick(sheet.further, LEFT)
    assert sheet.wrong.isVisible() and "give it more than that" in sheet.wrong.text()
    typed(qtbot, sheet, "steps in all", "20000")
    qtbot.mouseClick(sheet.further, LEFT)
    assert not sheet.isVisible()
    qtbot.waitUntil(lambda: bench.row().state == "done" and bench.row().steps >= 20_000, timeout=180_000)
    row = bench.row()
    assert row is not None and row.id == run
    kept = bench.recipe_of(row)
    assert kept is not None and kept.steps == 20_000
    bench.edit("recipes", ["seeds"], 1, "seeds: 1")
    bench.edit("recipes", ["steps"], 3000, "steps: 3000")
    press(qtbot, station, "Go on …")
    station.sheet_of_run.which.setCurrentIndex(1)
    station.sheet_of_run.which.activated.emit(1)
    qtbot.mouseClick(station.sheet_of_run.anew, LEFT)
    qtbot.waitUntil(
        lambda: bench.batch == 2 and bool(bench.batch_rows()) and bench.batch_rows()[0].state == "done", timeout=180_000
    )
    assert bench.batch_rows()[0].facts["started_with"][0] == "10 of 10 observations"


def test_every_figure_is_a_chart_with_what_seeds_had_and_can_be_saved(
    qtbot: QtBot, window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    station = window.station
    names = [station.curves.quantity.itemText(k) for k in range(station.curves.quantity.count())]
    assert {"score", "episode length", "worst episode's score", "change an update (KL)", "critic explains"} <= set(
        names
    )
    station.show_figure("kl")
    assert (
        station.curves.chart.quantity == "kl"
        and station.curves.caption.text() == "CHANGE AN UPDATE (KL), MEAN SINCE THE LAST EVALUATION"
    )
    station.curves.chart.hovered.emit(5000.0)
    assert station.curves.note.text().count("seed ") == 2 and "0.0" in station.curves.note.text()
    station.curves.chart.hovered.emit(None)
    assert "seed" not in station.curves.note.text()
    station.curves.along.setCurrentIndex(station.curves.along.findData("minutes"))
    assert station.curves.chart.along == "minutes"
    for name in ("chart.png", "chart.svg", "figures.csv"):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, name=name: (str(tmp_path / name), ""))
        press(qtbot, station, "save the chart")
        assert (tmp_path / name).stat().st_size > 500
    rows = (tmp_path / "figures.csv").read_text().splitlines()
    assert rows[0].startswith("run,seed,step,seconds,episodes,success,score,") and "kl" in rows[0].split(",")
    assert len(rows) == 1 + sum(len(window.bench.store.course(r.id)) for r in window.bench.batch_rows())


@pytest.mark.long
def test_runs_at_work_are_asked_to_obey_changed_rules(qtbot: QtBot, window: Window) -> None:
    bench = window.bench
    bench.edit("recipes", ["seeds"], 1, "seeds: 1")
    press(qtbot, window.station, "Train 1 seed")
    qtbot.waitUntil(lambda: any(r.state == "running" and r.steps > 3000 for r in bench.rows), timeout=180_000)
    press(qtbot, window.station, OPENER)
    page = window.station.trial
    qtbot.waitUntil(lambda: page.trial is not None and page.map is not None, timeout=180_000)
    typed(qtbot, page, "budget: steps", "2000")
    press(qtbot, page, "Use these rules")
    assert page.asking.isVisible()
    press(qtbot, page.asking, "Obey the new rules")
    qtbot.waitUntil(lambda: not bench.training(), timeout=180_000)
    row = bench.rows[-1]
    assert row.stop_rule == "budget" and row.stop_text is not None and row.stop_text.endswith("of 2 000")
    assert row.facts["rules_changed"][0]["step"] >= 3000


def test_long_courses_are_read_run_by_run_in_turns_of_their_own(
    qtbot: QtBot, recorded: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "quillmere"
    shutil.copytree(recorded, folder)
    store = RunStore(folder)
    with store.writing():
        for row in store.runs():
            store.connection.execute("DELETE FROM evaluations WHERE run = ?", [row.id])
            rows = [(row.id, 40 * k, 0.01 * k, k, 1.0, k / 400, 1, "{}") for k in range(400)]
            store.connection.executemany("INSERT INTO evaluations VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
    store.close()
    window = Window(folder)
    qtbot.addWidget(window)
    read: list[int] = []
    whole = window.bench.store.course

    def noted(run: int, since: int = -1) -> list[Evaluation]:
        read.append(run)
        return whole(run, since)

    monkeypatch.setattr(window.bench.store, "course", noted)
    station = window.made(4)
    assert isinstance(station, CompareStation) and read == [1]  # one of two, and nothing is drawn yet
    qtbot.waitUntil(lambda: station._drawn is not None, timeout=180_000)
    assert read == [1, 2] and station.chosen == [1]
    _, steps = station.chart.plot.getPlotItem().vb.viewRange()[0]
    assert steps > 40 * 399
    window.close()


def test_a_batch_is_noted_marked_put_away_brought_back_and_deleted(qtbot: QtBot, window: Window) -> None:
    bench = window.bench
    window.enter(4)
    station = window.station
    qtbot.mouseClick(station.edit, LEFT)
    station.sheet.note.setText("as it was")
    station.sheet.keywords.setText("kept, kept")
    station.sheet.marked.setChecked(True)
    qtbot.keyClick(station.sheet.note, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: bench.batch_rows()[0].note == "as it was", timeout=180_000)
    assert bench.batch_rows()[0].keywords == "kept" and bench.batch_rows()[0].marked
    qtbot.waitUntil(lambda: station.list.rows.rows[0].name.startswith("★"), timeout=180_000)
    assert "as it was" in station.list.rows.rows[0].name and "kept" in station.list.rows.rows[0].name
    qtbot.mouseClick(station.edit, LEFT)
    station.sheet.put_away()
    qtbot.waitUntil(lambda: not bench.rows and station.back.isVisible(), timeout=180_000)
    qtbot.mouseClick(station.back, LEFT)
    qtbot.waitUntil(lambda: len(bench.rows) == 2, timeout=180_000)
    qtbot.mouseClick(station.edit, LEFT)
    station.sheet.ask_delete()
    assert station.sheet.asking is not None
    station.sheet.asking.reject()
    assert len(bench.rows) == 2
    station.sheet.ask_delete()
    station.sheet.asking.take()
    qtbot.waitUntil(lambda: not bench.rows, timeout=180_000)
    assert not list((bench.project.folder / "runs").glob("0*"))


def test_a_click_on_the_chart_plays_the_nearest_policy_with_other_starts_as_ghosts(
    qtbot: QtBot, window: Window
) -> None:
    station, bench = window.station, window.bench
    watching = station.watching
    qtbot.waitUntil(lambda: watching.which.count() > 3, timeout=180_000)
    watching.beside.setCurrentIndex(1)
    station.curves.chart.clicked.emit(1100.0)
    qtbot.waitUntil(lambda: bench.playback.recording is not None and bench.job is None, timeout=240_000)
    assert watching.which.currentText() == "at 1.02 k" and "at 1.02 k" in bench.playback.title
    assert len(bench.playback.ghosts) == 7
    starts = {tuple(g.position[0]) for g in (*bench.playback.ghosts, bench.playback.recording)}
    assert len(starts) == 8
    watching.beside.setCurrentIndex(2)
    qtbot.mouseClick(watching.play, LEFT)
    qtbot.waitUntil(lambda: len(bench.playback.ghosts) == 1 and bench.job is None, timeout=240_000)
    assert bench.playback.ghosts[0].driver == "policy, best"
    assert (bench.playback.ghosts[0].position[0] == bench.playback.recording.position[0]).all()


def test_endings_and_terms_are_shown_over_training_and_figures_as_means(qtbot: QtBot, window: Window) -> None:
    station, bench = window.station, window.bench
    plain = [e.success for e in bench.course(bench.batch_rows()[0].id)]
    for key in ("endings", "terms"):
        station.curves.quantity.setCurrentIndex(station.curves.quantity.findData(key))
        assert len(station.curves.chart.plot.getPlotItem().items) > 3
        assert "of seed" in station.curves.caption.text().lower()
    assert bench.run is not None
    found = bench.store.details(bench.run)
    endings = model.parts_of(found, "endings", [])
    assert all(abs(sum(values[k] for values in endings.values()) - 1.0) < 1e-9 for k in range(len(found)))
    terms = model.parts_of(found, "terms", list(bench.problem.task.rewards))
    course = bench.course(bench.run)
    for k, e in enumerate(course):
        assert abs(sum(values[k] for values in terms.values()) - e.score) < 1e-6 * max(1.0, abs(e.score))
    station.curves.quantity.setCurrentIndex(station.curves.quantity.findData("success"))
    station.curves.over.setCurrentIndex(station.curves.over.findData(5))
    assert "mean of 5 evaluations" in station.curves.caption.text().lower()
    shown = [
        e.success for e in next(c for seed, c in station.curves.shown["success"] if seed == bench.batch_rows()[0].seed)
    ]
    assert shown[:2] == [plain[0], (plain[0] + plain[1]) / 2] and abs(shown[-1] - sum(plain[-5:]) / 5) < 1e-12


def test_two_charts_share_an_axis_that_can_be_looked_into_and_are_remembered(
    qtbot: QtBot, window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    card = window.station.curves
    assert not card.second.isVisible()
    card.beneath.setCurrentIndex(card.beneath.findData("kl"))
    qtbot.waitUntil(card.second.isVisible, timeout=180_000)
    assert card.second.quantity == "kl" and card.below.text() == "CHANGE AN UPDATE (KL), MEAN SINCE THE LAST EVALUATION"
    card.chart.hovered.emit(5000.0)
    assert card.note.text().count("seed 1") == 2  # a value of each chart

    def ends(chart: CurveChart) -> tuple[float, float]:
        low, high = chart.plot.getPlotItem().vb.viewRange()[0]
        return float(low), float(high)

    whole = ends(card.chart)
    assert ends(card.second) == whole
    qtbot.keyClick(card.second, Qt.Key.Key_Plus)
    assert card.all.isVisible()
    near = ends(card.chart)
    assert near == ends(card.second) and near[1] - near[0] < 0.6 * (whole[1] - whole[0])
    window.station.refresh()
    card.draw(window.bench.batch_rows(), [window.bench.course(r.id, whole=True) for r in window.bench.batch_rows()])
    assert ends(card.chart) == near  # a new evaluation does not throw the person out
    for _ in range(30):
        qtbot.keyClick(card.chart, Qt.Key.Key_Right)
    assert ends(card.chart)[1] <= whole[1] * 1.001
    for _ in range(60):
        qtbot.keyClick(card.chart, Qt.Key.Key_Plus)
    assert ends(card.chart)[1] - ends(card.chart)[0] > 0.005 * (whole[1] - whole[0])
    qtbot.mouseClick(card.all, LEFT)
    assert ends(card.chart) == whole and not card.all.isVisible()
    qtbot.keyClick(card.chart, Qt.Key.Key_Plus)
    view = card.chart.plot.viewport()
    heard: list[float] = []
    card.chart.clicked.connect(heard.append)
    qtbot.mouseClick(view, LEFT, pos=view.rect().center())
    qtbot.mouseDClick(view, LEFT, pos=view.rect().center())
    qtbot.mouseRelease(view, LEFT, pos=view.rect().center())  # which the double-click of the library leaves out
    qtbot.waitUntil(lambda: ends(card.chart) == whole, timeout=180_000)  # and of the other chart
    assert ends(card.second) == whole and not card.all.isVisible()
    qtbot.wait(2 * QApplication.doubleClickInterval())
    assert not heard  # the first half of a double-click plays nothing
    for first, second in (("terms", "endings"), ("endings", "success"), ("success", "terms")):
        card.quantity.setCurrentIndex(card.quantity.findData(first))
        card.beneath.setCurrentIndex(card.beneath.findData(second))
        assert ends(card.chart) == ends(card.second), (first, second)
    card.quantity.setCurrentIndex(card.quantity.findData("success"))
    card.beneath.setCurrentIndex(card.beneath.findData("kl"))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "two.png"), ""))
    press(qtbot, window.station, "save the chart")
    assert (tmp_path / "two.png").stat().st_size > 500 and (tmp_path / "two-2.png").stat().st_size > 500
    again = Window(window.bench.project.folder)
    qtbot.addWidget(again)
    again.show()
    again.enter(3)
    qtbot.waitUntil(again.station.curves.second.isVisible, timeout=180_000)
    assert again.station.curves.chosen() == ("success", "kl", "steps", 1)


def test_the_critics_word_runs_along_with_what_came(qtbot: QtBot, window: Window) -> None:
    station, bench = window.station, window.bench
    qtbot.mouseClick(station.watching.play, LEFT)
    qtbot.waitUntil(lambda: bench.playback.looked is not None and bench.job is None, timeout=240_000)
    looked, recording = bench.playback.looked, bench.playback.recording
    assert looked is not None and recording is not None
    row = bench.row()
    assert row is not None
    recipe = bench.recipe_of(row)
    assert recipe is not None
    rewards, discount = recording.terms.sum(axis=1), recipe.method_settings().discount
    k = recording.steps // 2
    came = sum(discount**n * r for n, r in enumerate(rewards[k:]))
    if recording.ending == "time is up":
        came += discount ** (recording.steps - k) * looked.worth.values[-1].mean()
    assert looked.came[k] == pytest.approx(came, rel=1e-9)
    window.enter(5)
    strip = window.station.findChild(StripChart)
    names = [trace.name for trace in strip.traces]
    assert "critic's value" in names and names[-1] == "reward a step"
    trace = strip.traces[names.index("critic's value")]
    assert trace.values.tolist() == looked.worth.values.mean(axis=1).tolist() and trace.beside is looked.came


def test_a_batch_that_ends_is_told_and_runs_at_once_are_chosen(
    qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench, alerted = window.bench, []
    monkeypatch.setattr(QApplication, "alert", lambda *_: alerted.append(True))
    monkeypatch.setattr(window, "isActiveWindow", lambda: False)
    workers = next(w for w in window.station.findChildren(QComboBox) if w.accessibleName() == "runs at once")
    workers.setCurrentIndex(workers.findData(1))
    workers.activated.emit(workers.currentIndex())
    assert at_once(bench.project.folder) == 1
    monkeypatch.setenv("HERON_WORKERS", "3")
    assert at_once(bench.project.folder) == 3  # what the command line says comes first
    monkeypatch.delenv("HERON_WORKERS")
    bench.edit("recipes", ["seeds"], 2, "seeds: 2")
    bench.edit("recipes", ["steps"], 3000, "steps: 3000")
    with qtbot.waitSignal(bench.batch_ended, timeout=180_000) as told:
        press(qtbot, window.station, "Train 2 seeds")
    text = told.args[0]
    assert text.startswith("batch 2 (lift, ") and "2 seeds" in text and "worst" in text
    assert alerted and window.causeway.findChild(JobLine).note == text
    workers = next(w for w in window.station.findChildren(QComboBox) if w.accessibleName() == "runs at once")
    workers.setCurrentIndex(0)
    workers.activated.emit(0)
    assert not (bench.project.folder / "runs" / "at-once.txt").exists()
