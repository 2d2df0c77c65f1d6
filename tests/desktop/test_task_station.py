"""The Task and Shakedown stations driven with mouse and keys in the real window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QLineEdit, QMessageBox, QPushButton
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.charts.gauges import Bars
from plucky_heron.desktop.charts.strip_recorder import usual_names
from plucky_heron.desktop.forms.formula_field import FormulaField
from plucky_heron.desktop.picture.task_scene import ending_lines
from plucky_heron.desktop.stations.shakedown.station import ShakedownStation
from plucky_heron.desktop.stations.task.station import TaskStation
from plucky_heron.desktop.window import Window
from plucky_heron.simulation.drivers import Rule
from plucky_heron.simulation.replay import follow_command, signals_of
from plucky_heron.simulation.trials import Recording, run_trials
from plucky_heron.task.problem import Problem, read_problem
from plucky_heron.task.wording import drawable, in_words, pickable, wishes
from tests.conftest import altered
from tests.desktop.test_window import LEFT, opened, settled, type_into


@pytest.fixture
def window(qtbot: QtBot, folder: Path):  # type: ignore[no-untyped-def]
    """A window on a fresh project."""
    yield from opened(qtbot, folder)


def task_station(qtbot: QtBot, window: Window, task: str = "lift") -> TaskStation:
    window.bench.choose_task(task)
    window.enter(1)
    station = window.station
    assert isinstance(station, TaskStation)
    qtbot.waitUntil(lambda: station.senses.rows.count > 0, timeout=180_000)
    return station


def shakedown_station(window: Window, task: str = "lift") -> ShakedownStation:
    window.bench.choose_task(task)
    window.enter(2)
    station = window.station
    assert isinstance(station, ShakedownStation)
    return station


def episode(problem: Problem) -> Recording:
    driver = Rule(problem, next(iter(problem.task.rules)))
    return run_trials(problem, driver, seed=3, stream="rehearsal", count=1, record=[0]).recordings[0]


def press(qtbot: QtBot, parent, name: str) -> None:  # type: ignore[no-untyped-def]
    """Click a button of a card by its name."""

    def found() -> list[QPushButton]:
        return [b for b in parent.findChildren(QPushButton) if b.accessibleName() == name and b.isVisible()]

    qtbot.waitUntil(lambda: bool(found()), timeout=180_000)
    qtbot.mouseClick(found()[0], LEFT)


def loaded(window: Window) -> Problem:
    """The problem that the window shows."""
    assert window.bench.problem is not None
    return window.bench.problem


def test_an_observation_is_opened_changed_and_undone(qtbot: QtBot, window: Window) -> None:
    station = task_station(qtbot, window)
    press(qtbot, station.senses, "cable angle")
    sheet = station.senses.sheet
    assert sheet is not None
    noise = sheet.editors["noise"]
    assert isinstance(noise, QLineEdit) and noise.text() == "0.1 deg"
    type_into(qtbot, noise, "0.3 deg")
    problem = window.bench.problem
    assert problem is not None and problem.task.observations[4].noise == pytest.approx(np.radians(0.3))
    text = window.bench.path_of("tasks").read_text()
    assert 'noise = "0.3 deg"' in text and "# --- what is sensed" in text
    type_into(qtbot, sheet.editors["delay"], "half a second")
    assert "delay" in sheet.wrong.text() or "half a second" in sheet.wrong.text()
    assert sheet.editors["delay"].text() == "half a second"
    window.bench.undo.undo()
    assert 'noise = "0.1 deg"' in window.bench.path_of("tasks").read_text()


def test_a_whole_number_is_typed_in_figures_and_cleared(qtbot: QtBot, window: Window) -> None:
    station = task_station(qtbot, window)
    press(qtbot, station.senses, "cable angle")
    sheet = station.senses.sheet
    assert sheet is not None

    def typed(text: str) -> int:
        type_into(qtbot, sheet.editors["stack"], text)
        problem = window.bench.problem
        assert problem is not None
        return problem.task.observations[4].stack

    for wrong in ("two", "2.5", "²", "--3", "9" * 5000):
        assert typed(wrong) == 1
        assert "is no whole number" in sheet.wrong.text()
    assert typed("3") == 3
    assert typed("") == 1


def test_the_mirror_is_stated_where_the_entry_is(qtbot: QtBot, window: Window) -> None:
    """An entry that names itself is the same on both sides; a partner that is none is refused in one line, and nothing is lost."""
    station = task_station(qtbot, window)
    press(qtbot, station.senses, "offset")
    sheet = station.senses.sheet
    assert sheet is not None and not station.senses.adding.isVisible()
    field = sheet.editors["mirrored"]
    assert isinstance(field, QLineEdit) and field.text() == "negated"
    type_into(qtbot, field, "negated hieght")
    assert window.bench.problem is not None and window.bench.problem.mirror is not None
    assert window.bench.problem.mirror.observation_sign[0] == -1.0
    assert "offset.mirrored" in sheet.wrong.text() and "did you mean height?" in sheet.wrong.text()
    type_into(qtbot, field, "offset")
    assert window.bench.problem.mirror.observation_sign[0] == 1.0
    station.senses.close_entry()
    assert station.senses.adding.isVisible()
    assert station.senses.frames.text() == "5 of 10 change in the mirror; 2 shift with mark.x and mark.z"


def test_signals_are_picked_added_and_removed(qtbot: QtBot, window: Window) -> None:
    station = task_station(qtbot, window, "lane")
    assert any(isinstance(gauge, Bars) and gauge.count == 24 for _, gauge in station.senses.gauges)
    entry = next(e for _, title, e in pickable(loaded(window)) if title == "gate.bearing")
    station.senses.add(entry)
    assert [o.name for o in window.bench.problem.task.observations][-1] == "gate bearing"
    assert station.senses.sheet is not None
    press(qtbot, station.senses, "remove gate bearing")
    assert "gate bearing" not in window.bench.path_of("tasks").read_text()
    assert station.senses.sheet is None


def test_terms_come_from_wishes_and_are_muted(qtbot: QtBot, window: Window) -> None:
    station = task_station(qtbot, window)
    wish = next(w for w in wishes(loaded(window)) if w.name == "alive")
    station.rewards_card.add(wish.name, wish.term)
    assert window.bench.problem.task.rewards["alive"].weight == 0.1
    sheet = station.rewards_card.sheet
    qtbot.waitUntil(sheet.isVisible, timeout=180_000)
    qtbot.mouseClick(sheet.editors["muted"], LEFT, pos=QPoint(8, 8))
    assert window.bench.problem.task.rewards["alive"].muted
    type_into(qtbot, sheet.editors["weight"], "0.4")
    assert window.bench.problem.task.rewards["alive"].weight == 0.4


def test_a_wrong_formula_is_marked_at_its_character_and_completed(qtbot: QtBot, window: Window) -> None:
    station = task_station(qtbot, window)
    press(qtbot, station.rewards_card, "swing")
    field = station.rewards_card.sheet.editors["formula"]
    assert isinstance(field, FormulaField)
    before = window.bench.path_of("tasks").read_text()
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, "cable.angle + trolley.veloc")
    assert field._column == 15 and "trolley.velocity" in field.problem_text
    assert field.helper.currentCompletion() == "trolley.velocity"
    assert window.bench.path_of("tasks").read_text() == before
    field.helper.popup().hide()
    field.complete("trolley.velocity")
    assert field.text() == "cable.angle + trolley.velocity"
    assert "rad" in field.problem_text or "beside" in field.problem_text  # an angle and a speed do not add
    qtbot.keyClick(field, Qt.Key.Key_Escape)
    assert field.problem_text == "" and field.text().startswith("-max(abs(cable.angle)")


def test_formulas_show_what_they_are_worth_in_the_playing_episode(qtbot: QtBot, window: Window) -> None:
    station = task_station(qtbot, window)
    problem = loaded(window)
    recording = episode(problem)
    window.bench.playback.load(problem, recording, "rule steady · episode 0")
    qtbot.waitUntil(lambda: station.model.series is not None, timeout=15000)
    window.bench.playback.seek(100)
    press(qtbot, station.senses, "cable length")
    series = signals_of(problem, recording)
    value = series.values[series.names.index("reel.position"), 100]
    assert f"now {value:.2f}" in station.senses.sheet.worth.text()
    hands = station.senses.gauges[6][1]
    assert isinstance(hands, list) and hands[0].now == pytest.approx(recording.observations[100, 6])
    assert station.rewards_card.sparks and station.rewards_card.sparks[0].at == pytest.approx(100 / recording.steps)


def test_one_command_is_followed_through_a_sample(qtbot: QtBot, window: Window) -> None:
    station = task_station(qtbot, window)
    problem = loaded(window)
    recording = episode(problem)
    window.bench.playback.load(problem, recording, "rule steady · episode 0")
    qtbot.waitUntil(lambda: station.sample.follow.isEnabled(), timeout=180_000)
    window.bench.playback.seek(30)
    qtbot.mouseClick(station.sample.follow, LEFT)
    qtbot.waitUntil(lambda: station.sample.line.way is not None, timeout=15000)
    way = station.sample.line.way
    assert way.stages[1][1] == pytest.approx(recording.commands[30, 0])
    lag = problem.machine.drives["push"].lag
    # a first-order lag towards a constant command, substep by substep
    gap = way.followed - recording.commands[30, 0]
    np.testing.assert_allclose(gap[1:] / gap[:-1], np.exp(-problem.task.timing.physics_step / lag), rtol=0.02)
    qtbot.mouseClick(station.sample.follow, LEFT)
    assert station.sample.line.way is None


def test_draws_and_endings_are_edited_as_small_tables(qtbot: QtBot, window: Window) -> None:
    station = task_station(qtbot, window)
    press(qtbot, station.commands, "basket.mass")
    sheet = station.commands.sheet
    assert sheet.editors["values"].text() == "20 kg, 80 kg"
    type_into(qtbot, sheet.editors["values"], "30 kg, 60 kg")
    type_into(qtbot, sheet.editors["nominal"], "40 kg")
    draw = window.bench.problem.task.variation["basket.mass"]
    assert draw.uniform == ("30 kg", "60 kg") and draw.middle("kg") == 40.0
    station.ends.add_deadline()
    assert window.bench.problem.task.endings["too late"].deadline == pytest.approx(9.6)
    type_into(qtbot, station.ends.limit, "20")
    assert window.bench.problem.task.timing.time_limit == 20.0
    _, _, key, draw = next(d for d in drawable(loaded(window)) if d[1] == "trolley.velocity")
    station.commands.add_draw(key, draw)
    assert "trolley.velocity" in window.bench.problem.task.starts and station.commands.sheet is not None
    station.commands.add_setpoint()
    assert window.bench.problem.task.setpoints["wanted"].unit == "m/s"
    fan = station.commands.fan
    qtbot.waitUntil(lambda: fan.positions.shape == (50, 3), timeout=10000)
    qtbot.waitUntil(lambda: fan.painted == 50, timeout=10000)


def test_rules_are_written_tried_and_compared(qtbot: QtBot, window: Window) -> None:
    station = shakedown_station(window)
    qtbot.mouseClick(station.write, LEFT)
    station.rule._new()
    name = station.rule.rule.currentText()
    assert name in window.bench.problem.task.rules
    field = station.rule.fields["push"]
    type_into(qtbot, field, "-200 * offset - 400 * trolley.velocity")
    assert window.bench.problem.task.rules[name].commands["push"] == "-200 * offset - 400 * trolley.velocity"
    qtbot.mouseClick(station.rule.trying, LEFT)
    settled(qtbot, window)
    assert f"rule {name}" in window.bench.shakedown.rehearsals
    assert window.bench.playback.recording.driver == f"rule {name}"
    # a rule changes nothing of how an episode goes: what was rehearsed is not older for it
    type_into(qtbot, field, "-300 * offset")
    assert not window.bench.shakedown_older()


def test_a_check_is_repaired_or_meant_so(qtbot: QtBot, window: Window) -> None:
    station = shakedown_station(window, "rock")
    problem = window.bench.problem
    rows = problem.task.model_dump(exclude_defaults=True)["observations"]
    assert [r["name"] for r in rows][2] == "rate"
    assert not window.bench.edit("tasks", ("observations", 2, "range"), ["-0.5 rad/s", "0.5 rad/s"], "narrow")
    assert not window.bench.edit("tasks", ("acknowledged",), None, "nothing is meant")
    qtbot.mouseClick(station.again, LEFT)
    settled(qtbot, window)
    names = {c.name: c for c in window.bench.shakedown.open}
    assert {"rate range", "drives carry the load"} <= set(names)
    press(qtbot, station.checks, "repair rate range")
    low, high = window.bench.problem.task.observations[2].range
    assert low < -0.5 and high > 0.5
    station.acknowledge("drives carry the load", "it is to be rocked")
    assert "drives carry the load" not in {c.name for c in window.bench.shakedown.open}
    assert window.bench.problem.task.acknowledged == {"drives carry the load": "it is to be rocked"}
    station.play_end(best=False)
    settled(qtbot, window)
    worst = window.bench.shakedown.rehearsals["rule rocking"].score.min()
    assert window.bench.playback.recording.score == pytest.approx(worst)
    kept = (window.bench.project.folder / "tasks" / "rock.scores.json").read_text()
    assert "rule rocking" in kept and window.bench.lines("score")[0][0] == "nobody"


def test_driving_with_sliders_set_points_and_the_mouse(qtbot: QtBot, window: Window) -> None:
    station = shakedown_station(window)
    qtbot.mouseClick(station.drive, LEFT)
    person, panel = station.person, station.panel
    panel.pause()
    assert person.paused
    panel.sliders[0].slider.setValue(900)
    panel.step()
    assert person.batch.commands[0, 0] == pytest.approx(400.0)
    person.steer("mark.x", 2.5)
    panel.step()
    assert person.batch.signals["mark.x"][0] == 2.5
    panel.pace.setCurrentIndex(2)
    panel.pace.activated.emit(2)
    assert person.pace == 0.25
    # a hand pulls the basket to the right
    speed = person.batch.signals["basket.velocity.x"][0]
    station._pull("basket", np.zeros(3), np.array([9.0, 0.0, 4.0]))
    assert "pulling basket" in station.drawing.caption
    for _ in range(10):
        panel.step()
    assert person.batch.signals["basket.velocity.x"][0] > speed + 0.2
    station._release()
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    assert len(station.driven) == 1 and not station.takes_keys()
    qtbot.mouseClick(station.keeping, LEFT)
    path = window.bench.project.folder / "recordings" / "lift-hand 1.csv"
    assert path.read_text().startswith("push,reel\n")


def test_choices_and_mixing_are_put_in_words(problem: Problem) -> None:
    assert in_words(problem) == "2 continuous: push ±500 N, reel ±0.8 m/s"
    sow = read_problem(Path(__file__).parents[2] / "demo" / "quillmere", "sow")
    assert in_words(sow) == "3 continuous: lift 0..200 N, tilt ±25 N, spreader 0..0.4 kg/s"
    way = follow_command(sow, episode(sow), 20, 1)
    assert way.drive == "front" and way.stages[-2][0] == "mixed into front"
    choices = {"left": {"drives": {"push": "-100"}}, "right": {"drives": {"push": "100"}}}
    chosen = altered(
        problem, actions=[{"name": "way", "choices": choices}], rewards={"a": {"formula": "1"}}, rules={}, regulator={},
        observations=[{"name": "speed", "formula": "trolley.velocity", "unit": "m/s", "range": ["-1 m/s", "1 m/s"]}],
    )  # fmt: skip
    assert in_words(chosen) == "one of 2 choices, way: left, right"


@pytest.mark.parametrize("task", ["lift", "dock", "lane", "walk", "follow", "sow", "hang", "climb", "rock"])
def test_everything_offered_can_be_read(task: str) -> None:
    """Wishes and pickable signals of every machine are formulas of its task."""
    problem = read_problem(Path(__file__).parents[2] / "demo" / "quillmere", task)
    observations = problem.task.model_dump(exclude_defaults=True)["observations"]
    taken = {o["name"] for o in observations}
    more = [e for _, _, e in pickable(problem) if e["name"] not in taken]
    unique = list({e["name"]: e for e in more}.values())
    rewards = {w.name: w.term for w in wishes(problem)}
    raw = problem.task.model_dump(exclude_defaults=True)
    draws = {"starts": dict(raw.get("starts", {})), "variation": dict(raw.get("variation", {}))}
    for _, _, (kind, name), draw in drawable(problem):
        draws[kind][name] = draw
    bound = altered(problem, observations=[*observations, *unique], rewards=rewards, **draws)
    assert len(bound.draws) > len(problem.draws)
    assert len(bound.entries) > len(problem.entries)


def test_keys_of_others_and_comments_survive_the_editor(qtbot: QtBot, window: Window) -> None:
    path = window.bench.path_of("tasks")
    path.write_text(path.read_text().replace("[timing]", 'x_reviewed = "by the night watch"   # keep me\n[timing]', 1))
    window.bench.reload()
    station = task_station(qtbot, window)
    type_into(qtbot, station.ends.limit, "15")
    text = path.read_text()
    assert 'x_reviewed = "by the night watch"   # keep me' in text and 'time_limit = "15 s"' in text
    assert text.count("# ---") == path.read_text().count("# ---") > 5


def test_code_of_a_stranger_is_asked_for_once(qtbot: QtBot, window: Window) -> None:
    folder = window.bench.project.folder
    (folder / "code").mkdir()
    (folder / "code" / "own.py").write_text("def twice(signals):\n    return 2 * signals['time']\n")
    path = window.bench.path_of("tasks")
    path.write_text(path.read_text() + '\n[code]\nfile = "code/own.py"\nsignals = { twice = "s" }\n')
    window.bench.reload()
    assert "not trusted" in window.bench.trouble and len(window._asked) == 1
    box = window.findChild(QMessageBox)
    assert "own.py" in box.text() and "def twice" in box.detailedText()
    box.buttons()[0].click() if "Trust" in box.buttons()[0].text() else box.buttons()[1].click()
    qtbot.waitUntil(lambda: window.bench.problem is not None and window.bench.problem.code is not None, timeout=180_000)
    assert window.bench.trouble == "" and "own.twice" in window.bench.problem.units


class Stick:
    """A gamepad with two sticks, as the package gives it."""

    values = [0.5, -1.0, 0.02, 0.0]

    def get_name(self) -> str:
        return "two sticks"

    def get_numaxes(self) -> int:
        return len(self.values)

    def get_axis(self, number: int) -> float:
        return self.values[number]


def test_a_gamepad_drives_where_there_is_one(qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    """The package is really asked, and has no gamepad here; then a made-up one stands in its place."""
    station = shakedown_station(window)
    assert not station.gamepad.open() and station.gamepad.axes() == []
    monkeypatch.setattr(station.gamepad, "open", lambda: True)
    station.gamepad._stick = Stick()
    assert station.gamepad.axes() == [0.5, 1.0, 0.0, 0.0]
    qtbot.mouseClick(station.drive, LEFT)
    assert "two sticks" in station.checks.note.text()
    station.panel.pause()
    np.testing.assert_allclose(station.person.commands(), [250.0, 0.8])
    station.panel.sliders[0].slider.setValue(1000)
    np.testing.assert_allclose(station.person.commands(), [500.0, 0.8])


def test_endings_that_lie_at_a_place_are_drawn(problem: Problem) -> None:
    rewards = {"a": {"formula": "1"}}
    endings = {
        "low": {"kind": "failure", "formula": "basket.z < 0.5"}, "wide": {"kind": "failure", "formula": "abs(basket.x) > 6 or time > 99"},
        "there": {"kind": "success", "formula": "3.5 < trolley.x"}, "swung": {"kind": "failure", "formula": "abs(cable.angle) > 0.5"},
    }  # fmt: skip
    lines = ending_lines(altered(problem, endings=endings, rewards=rewards))
    assert lines == [
        ("low", "failure", 2, 0.5), ("wide", "failure", 0, 6.0), ("wide", "failure", 0, -6.0), ("there", "success", 0, 3.5),
    ]  # fmt: skip


def test_the_recorder_shows_wishes_and_single_numbers_first() -> None:
    demo = Path(__file__).parents[2] / "demo" / "quillmere"
    assert usual_names(read_problem(demo, "lane"))[:3] == [
        "steering",
        "speed",
        "turn rate",
    ]  # not the first three of 24 beams
    assert usual_names(read_problem(demo, "follow"))[:2] == ["wanted speed", "wanted turn"]
