"""What tasks can say: lists, stacks, choices, mixing, events, deadlines, gates, placings, zones, set-points."""

from __future__ import annotations

import math

import numpy as np
import pytest

from plucky_heron.errors import FileError
from plucky_heron.project import demo_source
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Constant, Rule
from plucky_heron.simulation.replay import signals_of
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem, read_problem
from tests.conftest import altered

LIMIT = {"control_rate": 50.0, "substeps": 5, "time_limit": 1.0}


@pytest.fixture(scope="module")
def lane() -> Problem:
    return read_problem(demo_source(), "lane")


@pytest.fixture(scope="module")
def station() -> Problem:
    return read_problem(demo_source(), "station")


def begun(problem: Problem, copies: int = 3, seed: int = 4) -> Batch:
    batch = Batch(problem, copies, seed, "parts")
    batch.start(np.arange(copies))
    return batch


def test_an_observation_may_be_a_list_an_angle_or_a_stack(problem: Problem) -> None:
    rows = [
        {"name": "place", "formula": "[trolley.position, basket.z]", "unit": "m", "range": ["-9 m", "9 m"]},
        {"name": "angle", "formula": "cable.angle", "unit": "rad", "form": "sine and cosine"},
        {"name": "speed", "formula": "trolley.velocity", "unit": "m/s", "range": ["-1 cm/s", "1 cm/s"], "stack": 3, "delay": "20 ms", "clip": True},
    ]  # fmt: skip
    other = altered(problem, observations=rows)
    assert [e.name for e in other.entries] == [
        "place 0", "place 1", "sine of angle", "cosine of angle", "speed", "speed, 1 before", "speed, 2 before",
    ]  # fmt: skip
    batch = begun(other)
    speeds = [batch.signals["trolley.velocity"].copy()]
    for _ in range(6):
        batch.step(np.tile([400.0, 0.1], (3, 1)))
        speeds.append(batch.signals["trolley.velocity"].copy())
    row = batch.observe()
    np.testing.assert_array_equal(row[:, 0], batch.signals["trolley.position"])
    np.testing.assert_allclose(row[:, 2], np.sin(batch.signals["cable.angle"]))
    np.testing.assert_allclose(row[:, 3], np.cos(batch.signals["cable.angle"]))
    for k in range(3):  # 20 ms are one sample
        np.testing.assert_array_equal(row[:, 4 + k], np.clip(speeds[-2 - k], -0.01, 0.01))


def test_an_increment_adds_up_within_its_bounds(problem: Problem) -> None:
    push = {
        "name": "push",
        "drive": "push",
        "kind": "increment",
        "limits": ["-2 kN/s", "2 kN/s"],
        "within": ["-100 N", "100 N"],
    }
    senses = [{"name": "speed", "formula": "trolley.velocity", "unit": "m/s", "range": ["-1 m/s", "1 m/s"]}]
    other = altered(
        problem,
        actions=[push, {"name": "reel", "drive": "reel"}],
        observations=senses,
        rewards={"a": {"formula": "1"}},
        rules={},
    )
    batch = begun(other)
    given = []
    for _ in range(4):
        batch.step(np.tile([2000.0, 0.0], (3, 1)))
        given.append(batch.commander.drives[0, 0])
    np.testing.assert_allclose(given, [40.0, 80.0, 100.0, 100.0])


def test_rate_limit_and_smoothing_stand_between_policy_and_drive(problem: Problem) -> None:
    push = {"name": "push", "drive": "push", "rate_limit": "1 kN/s"}
    reel = {"name": "reel", "drive": "reel", "smoothing": "100 ms"}
    batch = begun(altered(problem, actions=[push, reel]))
    found = np.array([batch.step(np.tile([50.0, 0.8], (3, 1))) and batch.commander.drives[0].copy() for _ in range(5)])
    np.testing.assert_allclose(found[:, 0], [20.0, 40.0, 50.0, 50.0, 50.0])
    np.testing.assert_allclose(found[:, 1], 0.8 * (1.0 - np.exp(-0.2 * np.arange(1, 6))), rtol=1e-9)
    np.testing.assert_array_equal(batch.signals["command.reel"][:1], found[-1:, 1])
    assert batch.signals["action.reel"][0] == 0.8


def test_mixing_makes_drive_values_from_commands(station: Problem) -> None:
    actions = [
        {"name": "surge", "unit": "N", "limits": ["0 N", "200 N"]}, {"name": "turn", "limits": [-1.0, 1.0]},
    ]  # fmt: skip
    mixed = {"stern": "command.surge", "bow": "command.turn * 60", "rudder": "-command.turn * 0.4"}
    other = altered(station, actions=actions, mixing=mixed, rewards={"still": {"formula": "near(away, 1)"}}, rules={})
    batch = begun(other)
    batch.step(np.tile([150.0, 0.5], (3, 1)))
    drives = dict(zip(other.model.drives, batch.commander.drives[0], strict=True))
    assert (drives["stern"], drives["bow"], drives["rudder"]) == (150.0, 30.0, -0.2)
    assert not other.plain


def test_of_choices_the_best_available_is_taken_and_carried_out(problem: Problem) -> None:
    choices = {
        "left": {"drives": {"push": "-100"}}, "right": {"drives": {"push": "100"}},
        "steady": {"drives": {"push": "-300 * trolley.velocity"}, "lasts": "100 ms", "available": "time > 0.03"},
    }  # fmt: skip
    other = altered(
        problem, actions=[{"name": "way", "choices": choices}],
        observations=[{"name": "speed", "formula": "trolley.velocity", "unit": "m/s", "range": ["-1 m/s", "1 m/s"]}],
        rewards={"alive": {"formula": "1"}}, rules={}, regulator={},
    )  # fmt: skip
    assert [c.name for c in other.commands] == ["way left", "way right", "way steady"]
    batch = begun(other)
    at_work = []
    for scores in (
        [0.1, 0.2, 0.9],
        [0.5, 0.2, 0.9],
        [0.5, 0.2, 0.9],
        [0.9, 0.0, 0.0],
        [0.9, 0.0, 0.0],
        [0.9, 0, 0],
        [0.9, 0, 0],
        [0.9, 0, 0],
    ):
        batch.step(np.tile(scores, (3, 1)))
        at_work.append(int(batch.signals["action.way"][0]))
    assert at_work == [1, 0, 2, 2, 2, 2, 2, 0]  # a manoeuvre of five samples is not broken off
    assert batch.commander.drives[0, 0] == -100.0


def test_a_term_on_an_event_is_paid_once_for_each(problem: Problem) -> None:
    rewards = {
        "crossed": {"formula": "2", "weight": 3.0, "when": "on event", "event": "trolley.position > 0"},
        "quiet": {"formula": "1", "when": "each step", "muted": True},
    }
    other = altered(problem, rewards=rewards, starts={"trolley.position": -0.3}, endings={}, timing=LIMIT, rules={})
    batch = begun(other)
    paid = np.array([batch.step(np.tile([500.0, 0.0], (3, 1))).terms.copy() for _ in range(50)])
    assert batch.signals["trolley.position"].min() > 0.0
    np.testing.assert_array_equal(paid[:, :, 0].sum(axis=0), 6.0)
    assert not paid[:, :, 1].any()


def test_a_deadline_is_an_ending_and_its_time_left_may_be_sensed(problem: Problem) -> None:
    endings = {"late": {"kind": "failure", "deadline": "0.4 s"}}
    rewards = {"late": {"when": "at ending", "ending": "late", "weight": -7.0}}
    senses = [{"name": "left", "formula": "time.left", "unit": "s", "range": ["0 s", "1 s"]}]
    other = altered(
        problem, endings=endings, rewards=rewards, observations=senses, timing=LIMIT, rules={}, regulator={}
    )
    trials = run_trials(other, Constant(other), seed=1, stream="late", count=4, record=[0])
    assert trials.tally() == {"late": 4}
    np.testing.assert_array_equal(trials.steps, 20)
    np.testing.assert_array_equal(trials.score, -7.0)
    np.testing.assert_allclose(np.diff(trials.recordings[0].observations[:, 0]), -0.02)
    with pytest.raises(FileError, match="time\\.left"):
        altered(problem, observations=senses, rules={}, regulator={})


def test_gates_are_passed_in_order(lane: Problem) -> None:
    rewards = {"gate": {"formula": "1", "when": "on event", "event": "gate.passing"}}
    other = altered(lane, gates={"body": "frame", "radius": "1.5 m", "every": "6 m"}, rewards=rewards)
    trials = run_trials(other, Rule(other, "pursuit"), seed=2, stream="gates", count=6, record=[0])
    arrived = trials.ending == list(other.task.endings).index("arrived")
    assert arrived.any()
    np.testing.assert_array_equal(trials.score[arrived], 10.0)
    batch = begun(other)
    far = other.model.joints.index("base.x")
    batch.plant.position[:, far] += 40.0  # past many gates in one sample: at most the first of them counts
    batch.step(np.zeros((3, 2)))
    assert batch.signals["gate.passed"].max() <= 1.0


def test_a_fast_body_does_not_slip_through_a_gate_between_samples(station: Problem) -> None:
    gates = {"body": "hull", "radius": "0.1 m", "places": [["1 m", "0 m", "0 m"], ["2 m", "0 m", "0 m"]], "laps": 2}
    keeper = begun(altered(station, gates=gates)).gates
    assert keeper is not None
    located = np.zeros((3, 1, 18))
    located[:, :, 6] = located[:, :, 10] = located[:, :, 14] = 1.0
    keeper.look(located, np.zeros(3, dtype=np.int64), np.arange(3), False)
    signals = keeper.signals()
    assert signals["gate.count"][0] == 4 and signals["gate.distance"][0] == 1.0
    located[:, 0, 0] = 1.6
    keeper.look(located, np.zeros(3, dtype=np.int64), None, False)
    assert signals["gate.passing"][0] == 1 and signals["gate.x"][0] == 2.0 and signals["gate.bearing"][0] == 0.0
    assert signals["gate.after.distance"][0] == pytest.approx(0.6)
    assert abs(signals["gate.after.bearing"][0]) == pytest.approx(math.pi)


def test_starts_along_the_course_stand_on_it(lane: Problem) -> None:
    placing = {"base": {"along": ["5 m", "40 m"], "offset": ["-0.4 m", "0.4 m"], "heading": ["-10 deg", "10 deg"]}}
    batch = begun(altered(lane, placing=placing, starts={}), 64)
    assert np.abs(batch.signals["lane.offset"]).max() < 0.75  # the sensor sits 0.45 m before the origin
    assert np.abs(batch.signals["lane.heading"]).max() < math.radians(25)
    assert batch.signals["lane.progress"].min() < 10.0 and batch.signals["lane.progress"].max() > 35.0


def test_starts_on_a_circle_keep_away_from_solids(station: Problem) -> None:
    circle = {"circle": ["4 m", "8 m"], "facing": "inwards", "heading": ["-20 deg", "20 deg"]}
    free = begun(altered(station, placing={"base": circle}, starts={}), 64)
    away = np.hypot(free.signals["hull.x"], free.signals["hull.y"])
    assert away.min() >= 4.0 and away.max() <= 8.0
    inward = np.arctan2(-free.signals["hull.y"], -free.signals["hull.x"])
    assert np.abs(np.angle(np.exp(1j * (free.signals["hull.yaw"] - inward)))).max() <= math.radians(20) + 1e-9
    clear = altered(
        station, placing={"base": circle | {"apart": "30 cm"}}, starts={},
        signals={"away": {"formula": "norm(hull.x, hull.y)", "unit": "m"}, "gap": {"formula": "clearance(hull, north_pier)", "unit": "m"}},
        endings={"adrift": {"formula": "gap > 99", "kind": "failure"}},
    )  # fmt: skip
    batch = begun(clear, 64)
    assert batch.starts.attempts.max() > 0
    assert batch.signals["clearance(hull, north_pier)"].min() >= 0.3
    again = begun(clear, 64)
    again.restore(batch.keep())
    np.testing.assert_array_equal(again.starts.wind, batch.starts.wind)


def test_clearance_and_overlap_against_closed_forms(lane: Problem) -> None:
    zones = {
        "buoy": {"kind": "sphere", "size": ["0.5 m"], "at": ["10 m", "0 m", "0.34 m"]},
        "shed": {"kind": "box", "size": ["4 m", "4 m", "4 m"], "at": ["0 m", "0 m", "0 m"]},
    }
    seen = [
        {"name": "gap", "formula": "clearance(frame, buoy)", "unit": "m", "range": ["0 m", "20 m"]},
        {"name": "in", "formula": "overlap(frame, shed)", "range": [0.0, 1.0]},
        {"name": "depth", "formula": "clearance(frame, shed)", "unit": "m", "range": ["-9 m", "9 m"]},
    ]
    other = altered(lane, zones=zones, observations=seen, starts={}, placing={}, variation={})
    batch = begun(other, 2)
    x, y, turn = (other.model.joints.index(f"base.{c}") for c in ("x", "y", "turn"))
    for place, gap, inside in (
        (0.0, 10.0 - 0.5 - 0.625, 1.0),
        (3.0, 7.0 - 0.5 - 0.625, 0.0),
        (-4.0, 14.0 - 0.5 - 0.625, 0.0),
    ):
        batch.plant.position[:, [x, y, turn]] = place, 0.0, 0.0
        batch._refresh(again=True)
        row = batch._program.results[:3, 0]
        assert row[0] == pytest.approx(gap, abs=1e-6)
        assert row[1] == inside and (row[2] < 0.0) == bool(inside)
    assert row[2] == pytest.approx(4.0 - 2.0 - 0.625, abs=1e-6)
    batch.plant.position[:, [x, y, turn]] = 10.0, 3.0, math.pi / 2.0  # beside the buoy, nose away from it
    batch._refresh(again=True)
    assert batch._program.results[0, 0] == pytest.approx(3.0 - 0.5 - 0.625, abs=1e-6)


def test_set_points_are_drawn_again_and_may_be_steered(problem: Problem) -> None:
    points = {
        "mark.x": {"unit": "m", "draw": {"uniform": ["-4 m", "4 m"]}, "every": "0.2 s"},
        "mark.z": {"unit": "m", "draw": "3 m"},
    }
    other = altered(problem, setpoints=points)
    batch = begun(other)
    seen = [batch.signals["mark.x"].copy()]
    for _ in range(30):
        batch.step(np.zeros((3, 2)))
        seen.append(batch.signals["mark.x"].copy())
    changes = np.flatnonzero(np.diff(np.array(seen)[:, 0])) + 1
    np.testing.assert_array_equal(changes, [10, 20, 30])
    batch.starts.steered["mark.x"] = 1.25
    batch.step(np.zeros((3, 2)))
    np.testing.assert_array_equal(batch.signals["mark.x"], 1.25)


def test_an_episode_ends_with_the_set_point_that_it_had(problem: Problem) -> None:
    """Twelve seconds with a new one every four: nobody is asked in the last sample for what there is no time for."""
    points = {
        "mark.x": {"unit": "m", "draw": {"uniform": ["-4 m", "4 m"]}, "every": "0.5 s"},
        "mark.z": {"unit": "m", "draw": "3 m"},
    }
    timing = problem.task.timing.model_copy(update={"time_limit": 2.0})
    batch = begun(altered(problem, setpoints=points, timing=timing.model_dump()), 6)
    each, last = round(0.5 / problem.sample_time), round(2.0 / problem.sample_time)
    seen = []
    for _ in range(last):
        batch.step(np.zeros((6, 2)))
        seen.append(batch.signals["mark.x"].copy())
    assert batch.age.max() == last == 4 * each
    np.testing.assert_array_equal(seen[-1], seen[-2])
    assert (seen[-1] != seen[last - each - 3]).any(), "it was drawn again before"


def test_proving_has_ranges_of_its_own(problem: Problem) -> None:
    wide = {"uniform": ["20 kg", "30 kg"], "nominal": "22 kg", "proving": {"uniform": ["60 kg", "80 kg"]}}
    other = altered(problem, variation={"basket.mass": wide})
    assert begun(other, 32).signals["basket.mass"].max() <= 30.0
    assert begun(other.for_proving(), 32).signals["basket.mass"].min() >= 60.0
    assert other.task.variation["basket.mass"].middle("kg") == 22.0


def test_everything_that_remembers_goes_on_after_a_checkpoint(lane: Problem) -> None:
    """Bit for bit: formulas with memory, gates, smoothing, stacks and set-points that are drawn again."""
    other = altered(
        lane,
        actions=[{"name": "steer", "drive": "steer", "smoothing": "0.2 s"}, {"name": "throttle", "drive": "throttle", "rate_limit": "9 rad/s**2"}],
        gates={"body": "frame", "radius": "1.5 m", "every": "4 m"},
        setpoints={"wanted": {"unit": "m/s", "draw": {"uniform": ["0.5 m/s", "2 m/s"]}, "every": "1 s"}},
        signals={"worst": {"formula": "highest(abs(lane.offset)) + integral(lane.speed) * 0.1", "unit": "m"}},
        observations=[
            {"name": "beams", "formula": "beam", "unit": "m", "range": ["0 m", "8 m"], "stack": 2, "noise": "1 cm"},
            {"name": "change", "formula": "rate(lane.offset) - wanted", "unit": "m/s", "range": ["-2 m/s", "2 m/s"]},
            {"name": "worst", "formula": "worst", "unit": "m", "range": ["0 m", "9 m"]},
        ],
        rewards={"gate": {"formula": "since(gate.passing)", "when": "on event", "event": "gate.passing"}},
    )  # fmt: skip
    generator = np.random.default_rng(3)
    given = generator.uniform(other.low, other.high, (80, 4, 2))
    whole = begun(other, 4)
    for commands in given[:40]:
        whole.step(commands)
    kept = {name: np.array(array) for name, array in whole.keep().items()}
    for commands in given[40:]:
        expected = whole.step(commands)
    resumed = Batch(other, 4, 4, "parts")
    resumed.restore(kept)
    for commands in given[40:]:
        found = resumed.step(commands)
    np.testing.assert_array_equal(found.terms, expected.terms)
    np.testing.assert_array_equal(resumed.observe(), whole.observe())
    np.testing.assert_array_equal(resumed.plant.position, whole.plant.position)


@pytest.mark.parametrize(
    ("updates", "words"),
    [
        ({"gates": {"body": "hull"}}, "no gates; give places"), ({"placing": {"bas": {"circle": [1, 2]}}}, "placing.bas"),
        ({"placing": {"base": {"along": [0, 1]}}}, "no course"), ({"mixing": {"stern": "command.stern"}}, "goes there already"),
        ({"zones": {"hull": {"kind": "sphere", "size": [1.0]}}}, "choose another name"),
        ({"actions": [{"name": "stern", "drive": "sterm"}]}, "stern"), ({"actions": [{"name": "turn"}]}, "needs a drive"),
        ({"actions": [{"name": "turn", "drive": "bow", "kind": "increment"}]}, "a second"),
        ({"observations": [{"name": "a", "formula": "hull.x"}]}, "range is missing"),
        ({"endings": {"a": {"kind": "failure"}}}, "either a formula or a deadline"),
        ({"rewards": {"a": {"when": "on event"}}}, "goes with event"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_named(station: Problem, updates: dict[str, object], words: str) -> None:
    with pytest.raises((FileError, ValueError), match=words):
        altered(station, **updates)


def test_speeds_in_own_axes_are_there_for_whatever_reads_them(station: Problem) -> None:
    """Also where only the target, or a formula that is being typed, wants them."""
    target = {"body": "hull", "x": "hull.own.velocity.x / hull.velocity.x * 1 * hull.x"}
    batch = begun(altered(station, target=target))
    turn, speed = (batch.problem.model.joints.index(f"base.{c}") for c in ("turn", "x"))
    batch.plant.position[:, turn], batch.plant.velocity[:, speed] = math.pi / 2, 1.5
    batch._refresh(again=True)
    np.testing.assert_allclose(batch.signals["hull.own.velocity.y"], -1.5, atol=1e-9)
    recording = run_trials(station, Rule(station, "ferry"), seed=1, stream="own", count=1, record=[0]).recordings[0]
    series = signals_of(station, recording)
    assert np.abs(series.values[series.names.index("hull.own.velocity.x")]).max() > 0.05
