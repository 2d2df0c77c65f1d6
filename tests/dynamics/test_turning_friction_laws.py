"""Surfaces that resist rolling and spinning: a ball comes to rest as its arms of the load say, at any azimuth."""

from __future__ import annotations

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site

RADIUS, MASS, GRAVITY = 0.1, 2.0, 9.81
INERTIA = 0.4 * MASS * RADIUS**2


def ball(surface: dict[str, float], ground: dict[str, float] | None = None, lean: float = 0.0) -> Plant:
    """A ball at rest on the ground, with the default step."""
    machine = Machine.model_validate({
        "name": "ball",
        "bodies": {"b": {"mass": MASS, "inertia": [INERTIA] * 3, "shapes": [{"kind": "sphere", "size": [RADIUS], "surface": surface}]}},
        "joints": {"base": {"kind": "free", "child": "b", "start": [0, 0, RADIUS / np.cos(lean), 0, 0, 0]}},
    })  # fmt: skip
    terrain = {"kind": "slope", "slope": lean} if lean else {"kind": "flat"}
    site = Site.model_validate({"terrain": {**terrain, "surface": ground or {}}})
    return Plant(build_model(machine, air_density=0.0), 1, 0.002, threads=1, surroundings=build_scene(site))


def run(plant: Plant, seconds: float) -> None:
    plant.step(np.zeros((1, 0)), round(seconds / plant.step_size))


@pytest.mark.parametrize("azimuth", np.radians([0, 20, 45, 110, 200, 317]))
def test_a_rolling_ball_slows_as_its_arm_says(azimuth: float) -> None:
    """m a = -f and I a / r = f r - m g arm: a = -arm g / r / (1 + I / (m r²)); straight on, and then it lies still."""
    arm, speed = 0.004, 1.0
    plant = ball({"rolling": arm})
    way = np.array([np.cos(azimuth), np.sin(azimuth)])
    plant.velocity[0, :2] = speed * way
    plant.velocity[0, 3:5] = speed / RADIUS * np.array([-way[1], way[0]])
    slowing = arm * GRAVITY / RADIUS / 1.4
    run(plant, 1.0)
    assert plant.velocity[0, :2] @ way == pytest.approx(speed - slowing, rel=0.01)
    run(plant, speed / slowing)
    place = plant.position[0, :2].copy()
    assert place @ way == pytest.approx(speed**2 / (2.0 * slowing), rel=0.01)
    assert abs(place @ np.array([-way[1], way[0]])) < 1e-4
    run(plant, 5.0)
    assert np.abs(plant.position[0, :2] - place).max() < 1e-5


def test_a_spinning_ball_slows_as_its_arm_says() -> None:
    arm = 0.002
    plant = ball({}, {"spinning": arm})
    plant.velocity[0, 5] = 10.0
    slowing = arm * MASS * GRAVITY / INERTIA
    run(plant, 1.0)
    assert plant.velocity[0, 5] == pytest.approx(10.0 - slowing, rel=0.01)
    run(plant, 10.0 / slowing)
    assert abs(plant.velocity[0, 5]) < 1e-6
    assert np.abs(plant.position[0, :2]).max() < 1e-4


def test_a_ball_rests_on_a_slope_up_to_its_arm() -> None:
    """tan(slope) = arm / radius is where it begins to roll."""
    for share, holds in ((0.98, True), (1.02, False)):
        plant = ball({"rolling": 0.01}, lean=float(np.arctan(0.01 * share / RADIUS)))
        run(plant, 2.0)
        plant.velocity[:] = 0.0  # settled
        place = plant.position[0, :3].copy()
        run(plant, 3.0)
        moved = float(np.linalg.norm(plant.position[0, :3] - place))
        assert moved < 1e-5 if holds else moved > 1e-3, (share, moved)


def test_without_arms_it_goes_on() -> None:
    plant = ball({})
    plant.velocity[0, 5] = 10.0
    run(plant, 5.0)
    assert plant.velocity[0, 5] == pytest.approx(10.0, rel=1e-6)
