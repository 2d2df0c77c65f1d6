"""Wishes of machines that are much slower or much quicker than a rover or an arm: a ship, a mirror of a millimetre, a motor on a bench."""

from __future__ import annotations

import tomllib
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.inertia import without_inertia
from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import LONGEST_DRAWN, Site
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import Problem, bind
from plucky_heron.task.schema import Task
from plucky_heron.task.wishes.catalogue import WISHES
from plucky_heron.task.wishes.draft import Draft, said_within
from plucky_heron.task.wishes.look import Look, look_at
from plucky_heron.task.wishes.vehicle import speed_of
from plucky_heron.units import parse

MASS, ADDED, SLOPE, SQUARE, PUSH = 2e7, 1e6, 3e4, 6e4, 3e6
SHIP = tomllib.loads((Path(__file__).parent / "foreign" / "ship.toml").read_text())
"""A hull of 180 m between two thrusters at its stern, with those numbers ahead."""


def mirror(stiffness: float, inertia: float, push: float) -> Machine:
    """A mirror on one sprung hinge."""
    return validate(
        Machine,
        {
            "bodies": {"mirror": {"mass": 2e-7, "inertia": [inertia] * 3}},
            "joints": {"tilt": {"kind": "hinge", "child": "mirror", "axis": [0, 1, 0], "limits": [-0.2, 0.2], "stiffness": stiffness}},
            "drives": {"comb": {"kind": "effort", "joint": "tilt", "limit": push}},
        },
        "mirror",
    )  # fmt: skip


def written(look: Look, name: str) -> tuple[dict[str, float], Draft]:
    """What a wish proposes, and its task."""
    found = next(w for w in WISHES if w.name == name)
    assert found.unfit(look) == ""
    proposed = {q.key: q.value for q in found.questions(look)}
    return proposed, found.write(look, proposed)


def bound(machine: Machine, site: Site, draft: Draft) -> Problem:
    return bind(machine, site, validate(Task, {"name": "t", "machine": "m", "site": "s", **draft.task}, "task"))


@pytest.fixture(scope="module")
def ship() -> Look:
    return look_at(validate(Machine, SHIP, "ship"), validate(Site, {}, "site"))


def test_a_ship_is_watched_until_it_is_as_fast_as_it_gets(ship: Look) -> None:
    """Against the speed at which drag takes all thrust, and the time to six tenths of it by integration."""
    top = (-SLOPE + np.sqrt(SLOPE**2 + 4.0 * SQUARE * PUSH)) / (2.0 * SQUARE)
    assert 0.7 * top < ship.travel.ahead <= top  # nine of ten copies, most of which held less
    speed, time = 0.0, 0.0
    while speed < 0.6 * top:
        speed += 0.01 * (PUSH - SLOPE * speed - SQUARE * speed**2) / (MASS + ADDED)
        time += 0.01
    assert ship.travel.rise == pytest.approx(time, rel=0.1)
    assert ship.travel.seconds >= 64.0 and not ship.faces_left


def test_what_a_ship_is_asked_fits_its_pace(ship: Look) -> None:
    far, _ = written(ship, "reach a place")
    assert far["limit"] > 2.0 * far["far"] / speed_of(ship) and far["limit"] * far["rate"] <= 2000
    follow, draft = written(ship, "follow a set-point")
    assert follow["every"] >= 1.5 * ship.travel.rise and follow["limit"] == pytest.approx(3.0 * follow["every"])
    turn = next(o for o in draft.task["observations"] if o["name"] == "turn rate")
    assert float(str(turn["range"][1]).split()[0]) < 0.02
    course, _ = written(ship, "go along a course")
    assert course["length"] < LONGEST_DRAWN and course["limit"] * course["rate"] <= 2000


@pytest.mark.parametrize("name", ["reach a place", "follow a set-point", "dock", "go along a course"])
def test_tasks_of_a_ship_are_bound_and_their_step_is_fine_enough(ship: Look, name: str) -> None:
    """At half of the physics step it is in the same place."""
    _, draft = written(ship, name)
    machine, site = ship.machine, ship.site
    if draft.sensors or draft.courses:
        machine = validate(Machine, {**SHIP, "sensors": draft.sensors}, "ship")
        site = validate(Site, {"courses": draft.courses}, "site")
    places = []
    for finer in (1, 2):
        timing = draft.task["timing"] | {"substeps": finer * draft.task["timing"]["substeps"]}
        problem = bind(machine, site, validate(Task, {"name": "t", "machine": "m", "site": "s", **draft.task, "timing": timing}, "task"))  # fmt: skip
        batch = Batch(problem, 4, 1, "evaluation", 1)
        batch.start(np.arange(4))
        for k in range(30):
            batch.step(np.tile(problem.high if k < 20 else problem.low, (4, 1)))
        places.append(batch.plant.position.copy())
    travelled = np.abs(places[0]).max()
    assert travelled > 30.0
    np.testing.assert_allclose(places[0], places[1], atol=2e-3 * travelled)


def test_what_swings_on_its_spring_sets_rate_and_ranges() -> None:
    """At 60 Hz it swings; a rehearsal of a few milliseconds a step would damp that away."""
    stiffness, inertia = 4e-7, 4e-7 / (2.0 * np.pi * 60.0) ** 2
    look = look_at(mirror(stiffness, inertia, 6e-8), validate(Site, {"gravity": 0.0}, "site"))
    proposed, draft = written(look, "hold a pose")
    assert proposed["rate"] == 1000.0
    speed = next(o for o in draft.task["observations"] if o["name"] == "tilt speed")
    wanted = 6e-8 / stiffness * 2.0 * np.pi * 60.0
    assert wanted <= float(str(speed["range"][1]).split()[0]) * 1.3 <= 2.0 * wanted
    assert proposed["limit"] * proposed["rate"] <= 5000


def test_a_strong_drive_alone_asks_for_no_more_than_the_usual_rate() -> None:
    machine = mirror(0.0, 1e-6, 1.0)
    proposed, _ = written(look_at(machine, validate(Site, {"gravity": 0.0}, "site")), "hold a pose")
    assert proposed["rate"] == 200.0


@pytest.mark.parametrize("push", [1e-8, 1e-6, 1e-4, 1.0])
def test_set_points_stay_long_enough_to_be_held(push: float) -> None:
    """However quick the drive is: what is to be held for longer than it stays can never be reached."""
    look = look_at(mirror(0.0, 1e-6, push), validate(Site, {"gravity": 0.0}, "site"))
    proposed, _ = written(look, "follow a set-point")
    assert 2.0 * proposed["hold"] <= proposed["every"] * 1.01 and proposed["limit"] >= 3.0 * proposed["every"]


def test_what_is_small_is_not_taken_for_nothing() -> None:
    """Against the polar moment of what a joint carries: a mirror of a millimetre has inertia, a kilogram on its own axis has none."""
    small = mirror(4e-7, 2e-14, 6e-8)
    assert without_inertia(build_model(small)) == []
    for turn in ([0, 0, 0], [0, 1.5708, 0]):  # nearly a quarter of a turn, as files have it
        data = {
            "bodies": {"stand": {"mass": 1.0}, "bob": {"mass": 1.0, "centre": [0.3 * (turn[1] > 0), 0, 0.3 * (turn[1] == 0)]}},
            "joints": {
                "weld": {"kind": "fixed", "child": "stand"},
                "spin": {"kind": "hinge", "parent": "stand", "child": "bob", "axis": [float(turn[1] > 0), 0, float(turn[1] == 0)], "turn": turn},
            },
        }  # fmt: skip
        assert without_inertia(build_model(validate(Machine, data, "machine"))) == ["spin"]
    rod = {"bodies": {"rod": {"mass": 1.0, "inertia": [1 / 12, 1 / 12, 0.5e-6]}}, "joints": {"spin": {"kind": "hinge", "child": "rod", "axis": [0, 0, 1]}}}  # fmt: skip
    assert without_inertia(build_model(validate(Machine, rod, "rod"))) == []


def test_what_turns_on_the_spot_reaches_no_places() -> None:
    """A flywheel far along its axle: from where the axle begins its middle is away, but it stays there."""
    wheel = {
        "mass": 1.1,
        "centre": [0, 0, 0.07],
        "inertia": [3e-3] * 3,
        "shapes": [{"kind": "sphere", "size": [0.08], "at": [0, 0, 0.0775], "turn": [0, 0.3, 0]}],
    }
    data = {
        "bodies": {"wheel": wheel},
        "joints": {"axle": {"kind": "hinge", "child": "wheel", "axis": [0, 0, -1], "turn": [-1.5708, 0, 0], "origin": [0.1, -0.1, 0.1]}},
        "drives": {"motor": {"kind": "effort", "joint": "axle", "limit": 0.1}},
    }  # fmt: skip
    look = look_at(validate(Machine, data, "wheel"), validate(Site, {}, "site"))
    reach = next(w for w in WISHES if w.name == "reach a place")
    assert reach.unfit(look) == "its tip moves on a line or surface: hold a pose instead"


def test_a_mass_without_a_size_on_its_axis_is_found_wherever_it_is() -> None:
    """What sums of large terms leave over is now above zero, now below it."""
    generator = np.random.default_rng(3)
    for _ in range(40):
        axis, origin, turn = generator.normal(size=(3, 3))
        data = {
            "bodies": {"stand": {"mass": 180.0, "inertia": [600.0] * 3}, "bob": {"mass": 64.0}},
            "joints": {
                "base": {"kind": "free", "child": "stand"},
                "spin": {"kind": "hinge", "parent": "stand", "child": "bob", "axis": list(axis / np.linalg.norm(axis)), "origin": list(3.0 * origin), "turn": list(turn)},
            },
        }  # fmt: skip
        assert without_inertia(build_model(validate(Machine, data, "machine"))) == ["spin"]


@pytest.mark.parametrize(("second", "third", "third_follows"), [(-1.0, -2.0, "a"), (2.0, -0.5, "a"), (-1.5, 0.7, "b")])
def test_a_leader_moves_all_that_follows_it_together(second: float, third: float, third_follows: str) -> None:
    """A straight chain of three links: against the kinetic energy of its motion, worked out by hand."""
    length, mass, own = 0.4, 1.5, 0.02
    link = {"mass": mass, "centre": [0, 0, length], "inertia": [own] * 3}
    hinges = {
        name: {"kind": "hinge", "child": child, "axis": [0, 1, 0], **more}
        for name, child, more in (
            ("a", "one", {}),
            ("b", "two", {"parent": "one", "origin": [0, 0, length]}),
            ("c", "three", {"parent": "two", "origin": [0, 0, length]}),
        )
    }
    couplings = {
        "first": {"joint": "b", "follows": "a", "ratio": second},
        "second": {"joint": "c", "follows": third_follows, "ratio": third},
    }
    drives = {"motor": {"kind": "effort", "joint": "a", "limit": 5.0}}
    machine = validate(
        Machine,
        {"bodies": dict.fromkeys(("one", "two", "three"), link), "joints": hinges, "couplings": couplings, "drives": drives},
        "chain",
    )  # fmt: skip
    look = look_at(machine, validate(Site, {}, "site"))
    rates = np.cumsum([1.0, second, third if third_follows == "a" else third * second])
    wanted = float(mass * ((length * np.cumsum(rates)) ** 2).sum() + own * (rates**2).sum())
    assert look.inertia(look.model.start[None])[0][look.index("a")] == pytest.approx(wanted, rel=1e-9)


@pytest.mark.parametrize("stops", [(-3.14, 3.14), (0.2, 1.5707), (-np.pi, np.pi), (-0.001, 0.0012345678), (-50.0, 0.0)])
def test_ranges_are_written_within_what_they_stand_for(stops: tuple[float, float]) -> None:
    low, high = (parse(text, "rad") for text in said_within(*stops, "rad"))
    assert stops[0] <= low + 1e-12 and high <= stops[1] + 1e-12
    assert high - low == pytest.approx(stops[1] - stops[0], rel=3e-4)
