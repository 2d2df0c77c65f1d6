"""Wishes for what is free in space: a satellite that turns by its wheels, a flyer that is pushed by thrusters."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.project import create
from plucky_heron.simulation.drivers import Constant, Rule
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.project_files import stands_of
from plucky_heron.task.wishes.attitude import TURN, time_to_turn, torques
from plucky_heron.task.wishes.catalogue import WISHES
from plucky_heron.task.wishes.look import Look, look_at
from tests.conftest import altered

FOREIGN = Path(__file__).parent / "foreign"
SPACE = Site(gravity=0.0, air_density=0.0)
AXES = {"x": "roll", "y": "pitch", "z": "yaw"}


def machine_with(**changes: Any) -> Machine:
    """The satellite with other parts."""
    data = tomllib.loads((FOREIGN / "satellite.toml").read_text())
    return validate(Machine, data | changes, "satellite")


def fits(look: Look) -> set[str]:
    """Names of the wishes that fit."""
    return {wish.name for wish in WISHES if not wish.unfit(look)}


def test_torques_and_time_are_those_of_its_wheels() -> None:
    look = look_at(machine_with(), SPACE)
    assert np.abs(torques(look)) == pytest.approx(0.4 * np.eye(3), abs=1e-9)
    # the slowest axis is pitch: 4 kg m² and what its wheels, of 0.005 and 0.003 twice, bring along; full torque up and down
    assert time_to_turn(look) == pytest.approx(2.0 * np.sqrt(TURN * 4.011 / 0.4), rel=1e-3)
    slow = {n: d.model_dump(exclude_defaults=True) | {"no_load_speed": 50.0} for n, d in look.machine.drives.items()}
    # a wheel of 0.005 kg m² at 50 rad/s takes up 0.25 N m s: 0.062 rad/s
    assert time_to_turn(look_at(machine_with(drives=slow), SPACE)) == pytest.approx(
        TURN / (0.005 * 50.0 / 4.011), rel=1e-3
    )


def test_it_is_in_space_and_is_wished_attitudes() -> None:
    machine = machine_with()
    assert stands_of(machine) == "in space"
    assert fits(look_at(machine, SPACE)) == {"hold a pose", "follow a set-point"}
    assert fits(look_at(machine, Site())) == set()


def test_with_two_wheels_it_is_told_what_it_lacks() -> None:
    drives = {n: d.model_dump(exclude_defaults=True) for n, d in machine_with().drives.items() if n != "wheel_y"}
    look = look_at(machine_with(drives=drives), SPACE)
    assert (
        WISHES[[w.name for w in WISHES].index("hold a pose")].unfit(look)
        == "its drives turn it about two of three axes"
    )


@pytest.mark.parametrize(("wish", "task"), [("hold a pose", "hold_an_attitude"), ("follow a set-point", "follow_an_attitude")])  # fmt: skip
def test_the_law_of_the_textbook_holds_it(wish: str, task: str, tmp_path: Path) -> None:
    project = create(tmp_path / "orbit", str(FOREIGN / "satellite.toml"), wish)
    problem = project.problem(task)
    assert problem.site.gravity == 0.0
    commands = {f"wheel_{a}": f"-clip(2 * miss.{angle} - 5 * bus.own.rate.{a}, -0.4, 0.4)" for a, angle in AXES.items()}
    rule = altered(problem, rules={"hand": {"commands": commands}})
    assert run_trials(rule, Rule(rule, "hand"), seed=1, stream="hand", count=64).success.mean() > 0.95
    assert run_trials(problem, Constant(problem), seed=1, stream="hand", count=64).success.mean() < 0.05


def test_a_flyer_in_space_is_wished_to_fly_to_points() -> None:
    thrusters = {
        f"{a}{s}": {"kind": "thrust", "body": "bus", "direction": [sign * (a == b) for b in "xyz"], "limit": 2.0}
        for a in "xyz"
        for s, sign in (("p", 1.0), ("n", -1.0))
    }
    drives = {n: d.model_dump(exclude_defaults=True) for n, d in machine_with().drives.items()}
    look = look_at(machine_with(drives={**drives, **thrusters}), SPACE)
    assert {"hover and fly to points", "hold a pose"} <= fits(look)
    hover = next(w for w in WISHES if w.name.startswith("hover"))
    asked = {q.key: q.value for q in hover.questions(look)}
    # 44.5 kg by 2 N: across its own size in tens of seconds
    assert asked["limit"] > 30.0
