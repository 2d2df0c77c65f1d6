"""The views: what is painted stands where the physics says, and what is said is what was recorded."""

from __future__ import annotations

import gc
import threading
import time
import tomllib
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from scipy.spatial import ConvexHull
from shiboken6 import isValid

from plucky_heron.analysis.machines.facts import derived_facts
from plucky_heron.analysis.machines.part_numbers import part_numbers
from plucky_heron.desktop.bench.playback import Playback
from plucky_heron.desktop.charts.curves import stood_apart
from plucky_heron.desktop.charts.strip_recorder import Ledger, StripRecorder, nice_range, traces_of, usual_names
from plucky_heron.desktop.forms.widgets import Choice, ElidedLabel, Mark, QuantityField
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.picture.projection import VIEWS, Frame, convex_hull, outline_points
from plucky_heron.desktop.picture.scene import Scene, natural_view
from plucky_heron.desktop.stations.compare.model import comparison_words
from plucky_heron.desktop.stations.handover.rig_card import RoundTrips
from plucky_heron.desktop.stations.machine.ladder import JointLadder
from plucky_heron.desktop.stations.proving.model import verdict
from plucky_heron.desktop.theme import FORESHORE, NIGHT_TIDE, Theme
from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import poses
from plucky_heron.errors import StateError
from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine, Shape
from plucky_heron.project import create
from plucky_heron.simulation.drivers import Rule
from plucky_heron.simulation.trials import Recording, run_trials
from plucky_heron.task.problem import Problem


@pytest.fixture(scope="module")
def recording(problem: Problem) -> Recording:
    """One rehearsal of the rule."""
    return run_trials(problem, Rule(problem, "steady"), seed=3, stream="view", count=4, record=[2]).recordings[2]


@pytest.fixture
def playback(qapp: QApplication, problem: Problem, recording: Recording) -> Playback:
    """A playback with the rehearsal loaded."""
    made = Playback()
    made.load(problem, recording, "rule · episode 2")
    return made


def luminance(color: str) -> float:
    """Relative luminance (WCAG 2)."""
    shade = QColor(color)
    parts = [c / 255 for c in (shade.red(), shade.green(), shade.blue())]
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


@pytest.mark.parametrize("theme", [FORESHORE, NIGHT_TIDE], ids=["foreshore", "night tide"])
def test_text_can_be_read_on_every_ground(theme: Theme) -> None:
    """Text is ink, soft ink or tide only; each has at least 4.5 : 1 on card and paper."""
    for text in (theme.ink, theme.soft, theme.tide):
        for ground in (theme.card, theme.paper):
            light, dark = sorted((luminance(text), luminance(ground)), reverse=True)
            assert (light + 0.05) / (dark + 0.05) >= 4.5, (text, ground)


@pytest.mark.parametrize(
    ("shape", "extent"),
    [
        (Shape(kind="box", size=(2.0, 4.0, 6.0)), (1.0, 2.0, 3.0)),
        (Shape(kind="sphere", size=(0.5,)), (0.5, 0.5, 0.5)),
        (Shape(kind="cylinder", size=(0.5, 2.0)), (0.5, 0.5, 1.0)),
        (Shape(kind="capsule", size=(0.5, 2.0)), (0.5, 0.5, 1.5)),
        (Shape(kind="bucket", size=(2.0, 1.0, 3.0)), (1.0, 1.0, 1.5)),
        (Shape(kind="box", size=(2.0, 4.0, 6.0), at=(1.0, 0.0, 0.0), turn=(np.pi / 2, 0.0, 0.0)), (2.0, 3.0, 2.0)),
    ],
    ids=lambda x: x.kind if isinstance(x, Shape) else "",
)
def test_outlines_reach_as_far_as_their_shapes(shape: Shape, extent: tuple[float, ...]) -> None:
    np.testing.assert_allclose(outline_points(shape).max(axis=0), extent, rtol=0.01)


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 2**32 - 1), st.integers(3, 60))
def test_convex_hull_is_that_of_qhull(seed: int, count: int) -> None:
    points = np.random.default_rng(seed).normal(size=(count, 2)).round(3)
    hull = convex_hull(points)
    oracle = points[ConvexHull(points).vertices]
    assert {tuple(p) for p in hull} == {tuple(p) for p in oracle}
    x, y = hull.T
    area = 0.5 * (x @ np.roll(y, -1) - y @ np.roll(x, -1))
    assert area == pytest.approx(ConvexHull(points).volume)
    line = np.array([[0.0, 0.0], [1.0, 1.0], [2.0, 2.0]])  # seen edge-on
    assert {tuple(p) for p in convex_hull(line)} == {(0.0, 0.0), (2.0, 2.0)}


def test_bodies_are_painted_where_the_physics_says(qapp: QApplication, problem: Problem, recording: Recording) -> None:
    scene = Scene(problem)
    left, right, low, high = scene.extent("side")
    frame = Frame(((left + right) / 2, (low + high) / 2), 40.0, 800, 500)
    image = QImage(800, 500, QImage.Format.Format_RGB32)
    for index in (0, recording.steps // 2, recording.steps):
        image.fill(QColor("white"))
        painter = QPainter(image)
        scene.paint_machine(painter, frame, recording.position[index])
        painter.end()
        frames = poses(problem.machine, dict(zip(problem.model.joints, recording.position[index], strict=True)))
        bucket = frames["basket"] @ np.array([0.0, 0.0, -0.48, 1.0])
        there = frame.at(bucket[0], bucket[2])
        outline = scene.outlines["basket"][1]
        assert outline.containsPoint(there, Qt.FillRule.OddEvenFill)
        assert image.pixelColor(there.toPoint()) != QColor("white")
        middle = outline.boundingRect().center()
        assert (middle - there).manhattanLength() < 6


def test_everything_the_machine_can_reach_is_in_sight(problem: Problem) -> None:
    left, right, low, high = Scene(problem).extent("side")
    for trolley in (-6.0, 6.0):
        for reel in (1.5, 7.0):
            place = poses(problem.machine, {"trolley": trolley, "cable": 0.0, "reel": reel})["basket"][:3, 3]
            assert left < place[0] < right and low < place[2] < high


@pytest.mark.parametrize("view", VIEWS)
@pytest.mark.parametrize("origin", [0.0, 1.7])
def test_what_travels_is_whole_in_sight_wherever_its_origin_is(tmp_path: Path, view: str, origin: float) -> None:
    # a post of 1.8 m on a wheel; its origin at its foot, or at its head
    (tmp_path / "post.toml").write_text(f"""
format = 2
name = "post"
[bodies.post]
mass = "6 kg"
centre = ["0 m", "0 m", "{0.9 - origin} m"]
inertia = ["1 kg*m**2", "1 kg*m**2", "0.1 kg*m**2"]
shapes = [{{ kind = "box", size = ["0.2 m", "0.2 m", "1.8 m"], at = ["0 m", "0 m", "{0.9 - origin} m"] }}]
[bodies.wheel]
mass = "1 kg"
inertia = ["0.01 kg*m**2", "0.01 kg*m**2", "0.01 kg*m**2"]
shapes = [{{ kind = "cylinder", size = ["0.1 m", "0.05 m"], turn = ["90 deg", "0 deg", "0 deg"] }}]
[joints.base]
kind = "free"
child = "post"
start = ["0 m", "0 m", "{0.1 + origin} m", "0 deg", "0 deg", "0 deg"]
[joints.axle]
kind = "hinge"
parent = "post"
child = "wheel"
axis = [0, 1, 0]
origin = ["0 m", "0 m", "{-origin} m"]
[drives.axle]
kind = "effort"
joint = "axle"
limit = "3 N*m"
""")
    project = create(tmp_path / "own", str(tmp_path / "post.toml"), wish="balance")
    left, right, low, high = Scene(project.problem("balance")).extent(view)
    corners = [np.array([x, y, z]) for x in (-0.1, 0.1) for y in (-0.1, 0.1) for z in (0.1, 1.9)]
    for across, up in (VIEWS[view][:2] @ corner for corner in corners):
        assert left < across < right and low < up < high


@pytest.mark.parametrize("view", ["side", "end", "top", "free"])
def test_every_view_paints_with_ghost_and_overlays(qtbot: QtBot, playback: Playback, view: str) -> None:
    drawing = Drawing(playback)
    qtbot.addWidget(drawing)
    drawing.resize(500, 400)
    drawing.view = view
    alone = drawing.grab().toImage()
    assert playback.recording is not None
    playback.ghosts = (playback.recording, playback.recording)
    playback.seek(60)
    assert drawing.grab().toImage() != alone


def test_drawing_zooms_pans_and_finds_what_is_clicked(qtbot: QtBot, playback: Playback) -> None:
    drawing = Drawing(playback)
    qtbot.addWidget(drawing)
    drawing.resize(600, 450)
    drawing.show()
    qtbot.waitUntil(lambda: "trolley" in drawing.scene.outlines, timeout=180_000)
    centre = drawing.scene.outlines["trolley"][0].boundingRect().center()
    assert drawing.body_at(centre) == "trolley"
    assert drawing.body_at(QPointF(3, 3)) == ""
    before = drawing.frame()
    qtbot.mousePress(drawing, Qt.MouseButton.MiddleButton, pos=QPoint(100, 100))
    qtbot.mouseMove(drawing, QPoint(140, 130))
    qtbot.mouseRelease(drawing, Qt.MouseButton.MiddleButton, pos=QPoint(140, 130))
    moved = drawing.frame()
    assert moved.centre[0] == pytest.approx(before.centre[0] - 40 / before.scale, abs=0.1)
    assert moved.centre[1] == pytest.approx(before.centre[1] + 30 / before.scale, abs=0.1)
    drawing.zoom = 2.0
    assert drawing.frame().scale == pytest.approx(2 * before.scale)
    qtbot.mouseDClick(drawing, Qt.MouseButton.LeftButton)
    assert drawing.frame() == before


def test_strip_recorder_shows_what_was_recorded(problem: Problem, recording: Recording) -> None:
    traces = {t.name: t for t in traces_of(problem, recording, [*usual_names(problem), "cable angle"])}
    most = np.degrees(np.abs(recording.observations[:, 4]).max())
    assert traces["cable angle"].unit == "deg" and most <= traces["cable angle"].high <= 30.0
    np.testing.assert_allclose(traces["cable angle"].values, np.degrees(recording.observations[:, 4]))
    np.testing.assert_array_equal(traces["push"].values[1:], recording.commands[:, 0])
    assert traces["reward a step"].values.sum() == pytest.approx(recording.score)
    assert all(len(t.values) == recording.steps + 1 for t in traces.values())


@pytest.mark.parametrize(
    ("most", "wanted"),
    [(0.8, (-1.0, 1.0)), (1.2, (-1.5, 1.5)), (4.0, (-5.0, 5.0)), (9.0, (-6.0, 8.0)), (0.0, (-6.0, 8.0))],
)
def test_traces_show_a_round_part_of_the_stated_range(most: float, wanted: tuple[float, float]) -> None:
    assert nice_range(np.array([0.0, -most]), -6.0, 8.0) == pytest.approx(wanted)
    assert nice_range(np.array([most]), 1.5, 7.0) == (1.5, 7.0)


def test_scrubbing_moves_drawing_recorder_and_ledger_together(
    qtbot: QtBot, playback: Playback, recording: Recording
) -> None:
    recorder, ledger = StripRecorder(playback), Ledger(playback)
    for widget in (recorder, ledger):
        qtbot.addWidget(widget)
        widget.resize(700, 260)
        widget.show()
    chart = recorder.chart
    for seconds in (0.0, 2.5, 7.0, 12.0):
        qtbot.mouseClick(chart, Qt.MouseButton.LeftButton, pos=QPoint(round(chart._x(seconds)), 40))
        assert playback.time == pytest.approx(seconds, abs=0.03)
        paid = recording.terms[: playback.index].sum(axis=0)
        assert list(ledger.sums().values()) == pytest.approx(list(paid))
    qtbot.mouseClick(recorder.start, Qt.MouseButton.LeftButton)
    assert playback.index == 0
    qtbot.mouseClick(recorder.forward, Qt.MouseButton.LeftButton)
    assert playback.index == 1
    qtbot.mouseClick(recorder.rate, Qt.MouseButton.LeftButton)
    assert playback.speed == 2.0 and recorder.rate.text() == "×2"


def test_a_growing_episode_is_told_as_growing_and_another_one_as_another(
    qtbot: QtBot, playback: Playback, recording: Recording
) -> None:
    def until(steps: int) -> Recording:
        rows = {
            name: getattr(recording, name)[: steps + 1] for name in ("position", "velocity", "observations", "wind")
        }
        return replace(
            recording, commands=recording.commands[:steps], terms=recording.terms[:steps], contacts=(), **rows
        )

    problem, told = playback.problem, []
    assert problem is not None
    recorder = StripRecorder(playback)
    qtbot.addWidget(recorder)
    playback.loaded.connect(lambda: told.append("loaded"))
    playback.grown.connect(lambda: told.append("grown"))
    playback.show(problem, until(10), "by hand")
    playback.show(problem, until(20), "by hand")
    assert told == ["loaded", "grown"] and playback.index == 20
    assert len(recorder.chart.traces[0].values) == 21
    playback.show(problem, until(30), "by hand, start 2")
    playback.show(problem, until(5), "by hand, start 2")  # begun anew
    playback.load(problem, recording, "by hand, start 2")
    playback.show(problem, until(20), "by hand, start 2")
    assert told[2:] == ["loaded"] * 4


def test_playback_runs_in_real_time_times_its_speed(qtbot: QtBot, playback: Playback, recording: Recording) -> None:
    playback.set_speed(2.0)
    began = time.monotonic()
    playback.play()
    qtbot.wait(600)
    elapsed = time.monotonic() - began
    assert playback.time == pytest.approx(2.0 * elapsed, rel=0.35)
    playback.toggle()
    at = playback.index
    qtbot.wait(80)
    assert playback.index == at and not playback.playing
    playback.seek(10**9)
    assert playback.index == recording.steps
    playback.play()  # from the end it starts anew
    assert playback.index == 0
    playback.pause()
    playback.seek(-5)
    assert playback.index == 0


def test_quantity_field_takes_units_arithmetic_and_explains(qtbot: QtBot) -> None:
    field = QuantityField("N", "force", check=lambda v: "must not be negative" if v < 0 else "")
    qtbot.addWidget(field)
    field.show()
    field.show_value(900.0)
    assert field.text() == "900 N"
    seen: list[float] = []
    field.edited.connect(lambda value, _: seen.append(value))
    for typed, value in (("2 kN", 2000.0), ("9.81/2", 4.905), ("1e3", 1000.0)):
        field.selectAll()
        qtbot.keyClicks(field, typed)
        qtbot.keyClick(field, Qt.Key.Key_Return)
        assert seen[-1] == pytest.approx(value) and not field.problem
    for typed, words in (("3 kg", "wanted N"), ("abc", "not a quantity"), ("-1", "negative")):
        field.selectAll()
        qtbot.keyClicks(field, typed)
        qtbot.keyClick(field, Qt.Key.Key_Return)
        assert words in field.problem and field.text() == typed and len(seen) == 3
        assert field.property("wrong") is True
    qtbot.keyClick(field, Qt.Key.Key_Escape)
    assert field.text() == "1e3" and not field.problem


def test_small_widgets_paint_and_are_named(qtbot: QtBot) -> None:
    images = []
    for state in ("passed", "look", "wrong", "open"):
        mark = Mark(state)
        qtbot.addWidget(mark)
        assert mark.accessibleName() == state
        images.append(mark.grab().toImage())
    assert all(a != b for k, a in enumerate(images) for b in images[k + 1 :])  # a shape of its own for each state
    text = ElidedLabel("a rather long text that does not fit")
    qtbot.addWidget(text)
    assert text.toolTip() == text.text()
    choice = Choice("how fast")
    qtbot.addWidget(choice)
    assert choice.accessibleName() == "how fast"
    trips = RoundTrips()
    qtbot.addWidget(trips)
    trips.resize(300, 90)
    empty = trips.grab().toImage()
    trips.trips = [1e-4, 2e-4, 5e-3]
    assert trips.grab().toImage() != empty


def test_joint_ladder_goes_through_all_parts_by_keys(qtbot: QtBot, problem: Problem) -> None:
    ladder = JointLadder()
    qtbot.addWidget(ladder)
    ladder.resize(480, 220)
    ladder.show_machine(problem.machine, ("bodies", "trolley"))
    ladder.grab()
    ladder.chosen.connect(lambda kind, name: ladder.show_machine(problem.machine, (kind, name)))
    seen = set()
    for _ in range(20):
        seen.add(ladder.selected)
        qtbot.keyClick(ladder, Qt.Key.Key_Down)
    wanted = {("bodies", b) for b in problem.machine.bodies} | {("joints", j) for j in problem.machine.joints}
    assert seen == wanted | {("drives", d) for d in problem.machine.drives}


def test_numbers_and_facts_of_the_machine(problem: Problem) -> None:
    numbers = {n.title: n for n in part_numbers(problem, "bodies", "basket")}
    assert numbers["mass"].value == 50.0 and numbers["mass"].key == ("bodies", "basket", "mass")
    assert numbers["drag area"].note == "55 N at 10 m/s"  # half rho A v²
    reel = {n.title: n for n in part_numbers(problem, "drives", "reel")}
    assert reel["lag"].note == "6.0 samples" and reel["top speed"].unit == "m/s"
    cable = {n.title for n in part_numbers(problem, "joints", "cable")}
    assert cable == {"start", "damping", "place, x", "place, y", "place, z"}
    assert reel["limit"].allowed == "0 or more" and "Largest effort" in reel["limit"].meaning
    facts = dict(derived_facts(problem))
    assert facts["mass"] == "172 kg, centre at 0, 0, 6.70 m" and facts["freedom"] == "3 coordinates, 2 driven, 1 free"
    assert facts["reel holds"].startswith("490 N of its 2500 N")
    assert 0.25 < float(facts["swing"].split()[0]) < 0.30


def test_jobs_report_progress_results_stops_and_failures(qtbot: QtBot) -> None:
    shares: list[float] = []

    def work(job: Job) -> int:
        for k in range(1000):
            if not job.tell(k / 1000):
                return -1
            time.sleep(0.002)
        return 1

    job = Job("counting", work)
    job.progressed.connect(shares.append)
    with qtbot.waitSignal(job.done, timeout=180_000) as ended:
        job.start()
        qtbot.waitUntil(lambda: len(shares) > 3, timeout=180_000)
        job.stop()
    assert ended.args == [-1] and shares == sorted(shares)

    def refuse(_: Job) -> None:
        raise StateError("no such thing; there is another")

    job = Job("refusing", refuse)
    with qtbot.waitSignal(job.failed, timeout=180_000) as failed:
        job.start()
    assert failed.args == ["no such thing; there is another"]


def test_a_job_goes_on_telling_after_its_window_has_gone(qtbot: QtBot) -> None:
    """The thread never touches what the window deletes; an earlier form of the job crashed here within a second."""
    told: list[float] = []
    jobs = []
    for k in range(300):
        window = QObject()
        job = Job("telling", lambda job: [job.tell(0.5) for _ in range(2000)], window)
        job.progressed.connect(told.append)
        jobs.append(job.start())
        time.sleep(0.0005 * (k % 5))
        window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        QApplication.processEvents()
        assert not isValid(job)
    for job in jobs:
        job.wait(5.0)
        assert not job.busy


def test_garbage_is_collected_in_the_window_s_thread_only(qtbot: QtBot) -> None:
    threads: set[str] = set()
    watching = lambda *_: threads.add(threading.current_thread().name)  # noqa: E731

    def work(job: Job) -> int:
        for k in range(300):
            for _ in range(1000):
                cycle: list[Any] = []
                cycle.append(cycle)
            job.tell(k / 300)
            time.sleep(0.001)
        return 1

    job = Job("making garbage", work)
    gc.callbacks.append(watching)
    try:
        with qtbot.waitSignal(job.done, timeout=180_000):
            job.start()
    finally:
        gc.callbacks.remove(watching)
    assert threads == {threading.main_thread().name}
    qtbot.waitUntil(gc.isenabled, timeout=180_000)


def test_what_is_said_of_proofs_and_batches_is_what_the_numbers_allow() -> None:
    def driver(success: float, difference: tuple[float, float], score: float = 1.0) -> dict[str, Any]:
        interval = [success - 0.03, min(1.0, success + 0.02)]
        return {
            "success": success,
            "success_interval": interval,
            "against_policy": difference,
            "score": {"mean": score},
        }

    ours = driver(0.97, (0.0, 0.0), 88.0)
    assert "Better than the best" in verdict({"policy": ours, "rule": driver(0.6, (-0.37, 0.05))}, 200)
    assert "does not differ beyond chance" in verdict({"policy": ours, "lq": driver(0.96, (-0.01, 0.02))}, 200)
    assert "lq succeeds more often" in verdict({"policy": ours, "lq": driver(1.0, (0.03, 0.01))}, 200)
    assert "at least 94.0 %" in verdict({"policy": ours, "lq": driver(1.0, (0.03, 0.01))}, 200)
    few = comparison_words({"A": [0.9, 0.95], "B": [0.1, 0.2]})
    assert few[0] == "Best by its median seed: A, 92.5 % (worst 90.0 %)." and few[1].startswith(
        "77.5 points ahead of B"
    )
    assert few[2] == "A is at least as good as B in 4 of 4 pairs of seeds: not established with so few seeds."
    many = comparison_words({"A": [0.5] * 5, "B": [0.9] * 5, "C": [0.1] * 5, "D": [0.2] * 5})
    assert len(many) == 3 and many[0].startswith("Best by its median seed: B"), (
        "one sentence a question, however many batches"
    )
    assert many[-1].endswith("25 of 25 pairs of seeds: established.") and "of A" in many[1]
    assert "one batch alone" in comparison_words({"A": [0.9], "B": []})[0]


LINKAGE = """
name = "linkage"
[bodies]
crank = { mass = 0.3, centre = [0.05, 0, 0], inertia = [1e-5, 2.5e-4, 2.5e-4] }
coupler = { mass = 0.6, centre = [0.15, 0, 0], inertia = [1e-5, 4.5e-3, 4.5e-3] }
rocker = { mass = 0.5, centre = [0.125, 0, 0], inertia = [1e-5, 2.6e-3, 2.6e-3] }
[joints]
a = { kind = "hinge", child = "crank", axis = [0, -1, 0], start = 0.4 }
b = { kind = "hinge", parent = "crank", child = "coupler", origin = [0.1, 0, 0], axis = [0, -1, 0], start = 0.3 }
c = { kind = "hinge", child = "rocker", origin = [0.3, 0, 0], axis = [0, -1, 0], start = 1.4 }
[forces]
closure = { kind = "pin", a = "coupler", at_a = [0.3, 0, 0], b = "rocker", at_b = [0.25, 0, 0] }
stay = { kind = "rod", a = "coupler", at_a = [0.2, 0, 0.1], b = "ground", at_b = [0.2, 0, 0.9] }
pull = { kind = "spring", a = "rocker", at_a = [0.2, 0, 0], b = "ground", at_b = [0.9, 0, 0.1], stiffness = 20 }
"""


@pytest.mark.parametrize("open_end", [0.3, 0.9])
def test_springs_rods_and_pins_are_painted_where_they_hold(
    qapp: QApplication, problem: Problem, open_end: float
) -> None:
    """Also in the pose of a machine that cannot close: there both ends of the pin are marked."""
    machine = Machine.model_validate(tomllib.loads(LINKAGE.replace("at_a = [0.3,", f"at_a = [{open_end},")))
    scene = Scene(replace(problem, machine=machine, model=build_model(machine)))
    start = scene.problem.model.start
    frame, image = Frame((0.4, 0.4), 400.0, 800, 600), QImage(800, 600, QImage.Format.Format_RGB32)
    image.fill(QColor("white"))
    painter = QPainter(image)
    scene.paint_machine(painter, frame, start)
    painter.end()
    frames = poses(machine, dict(zip(scene.problem.model.joints, start, strict=True)))

    def painted(place: np.ndarray) -> bool:
        at = frame.at(place[0], place[2]).toPoint()
        return any(image.pixelColor(at + QPoint(x, y)) != QColor("white") for x in range(-6, 7) for y in range(-6, 7))

    one, two = frames["coupler"] @ [0.2, 0, 0.1, 1.0], np.array([0.2, 0, 0.9, 1.0])
    assert all(painted(one + share * (two - one)) for share in (0.1, 0.5, 0.9))
    one, two = frames["rocker"] @ [0.2, 0, 0, 1.0], np.array([0.9, 0, 0.1, 1.0])
    assert all(painted(one + share * (two - one)) for share in (0.1, 0.5, 0.9))
    assert painted(frames["coupler"] @ [open_end, 0, 0, 1.0]) and painted(frames["rocker"] @ [0.25, 0, 0, 1.0])
    assert not painted(np.array([0.0, 0, 0.8]))


@given(st.lists(st.floats(-50.0, 150.0), min_size=1, max_size=14), st.floats(0.1, 40.0))
def test_words_stand_apart_and_in_sight(values: list[float], apart: float) -> None:
    values = sorted(min(max(v, 0.0), 100.0) for v in values)
    places = stood_apart(values, apart, 0.0, 100.0)
    room = min(apart, 100.0 / (len(values) - 1)) if len(values) > 1 else apart
    assert all(b - a >= room * 0.999 for a, b in pairwise(places))
    assert places[0] >= -1e-9 and places[-1] <= 100.0 + 1e-9
    if all(b - a >= room for a, b in pairwise(values)):
        assert places == pytest.approx(values, abs=1e-9)  # nothing is moved that need not be


def test_a_choice_that_does_not_fit_is_said_whole(qtbot: QtBot) -> None:
    choice = Choice("what")
    qtbot.addWidget(choice)
    choice.addItems(["short", "a choice of very many words"])
    choice.resize(120, 26)
    choice.show()
    choice.grab()
    assert choice.toolTip() == ""
    choice.setCurrentIndex(1)
    choice.grab()
    assert choice.toolTip() == "a choice of very many words"


@pytest.mark.parametrize(
    ("joints", "view"),
    [
        ([("slider", "1 0 0", "0 0 0"), ("hinge", "0 1 0", "0 0 0")], "side"),
        ([("slider", "0 1 0", "0 0 0"), ("hinge", "1 0 0", "0 0 0")], "end"),
        ([("slider", "1 0 0", "0 0 1.5708"), ("hinge", "0 1 0", "0 0 0")], "end"),  # the same by a turn of its first joint
        ([("planar", "1 0 0", "0 0 0"), ("hinge", "0 1 0", "0 0 0")], "end"),
        ([("planar", "0 0 1", "0 0 0"), ("hinge", "0 1 0", "0 0 0")], "top"),
        ([("hinge", "0 0 1", "0 0 0"), ("hinge", "0 0 -1", "0 0 0")], "top"),
        ([("hinge", "0 0 1", "0 0 0"), ("hinge", "0 0 1", "-1.5708 0 0")], "free"),  # all z as written, not as they stand
        ([("hinge", "0 0 1", "0 0 0"), ("slider", "0 0 1", "0 0 0")], "free"),
        ([("slider", "1 0 0", "0 0 0"), ("slider", "0 1 0", "0 0 0")], "top"),
        ([("slider", "0 1 0", "0 0 0")], "end"),
        ([("free", "0 0 1", "0 0 0")], "free"),
    ],
)  # fmt: skip
def test_a_machine_is_shown_in_the_plane_in_which_it_moves(joints: list[tuple[str, str, str]], view: str) -> None:
    links = [f"part{k}" for k in range(len(joints))]
    data = {
        "bodies": {name: {"mass": 1.0, "inertia": [0.1, 0.1, 0.1]} for name in links},
        "joints": {
            f"joint{k}": {
                "kind": kind, "child": links[k], "axis": [float(v) for v in axis.split()],
                "turn": [float(v) for v in turn.split()], **({"parent": links[k - 1]} if k else {}),
            }
            for k, (kind, axis, turn) in enumerate(joints)
        },
    }  # fmt: skip
    machine = validate(Machine, data, "machine")
    shown = cast("Problem", SimpleNamespace(machine=machine, model=build_model(machine)))
    assert natural_view(shown) == view
