"""Floats, hulls, foils and propellers in water, air, current and waves, against closed forms."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site

G, WATER, AIR = 9.81, 1025.0, 1.225


def afloat(data: dict[str, Any], site: dict[str, Any] | None = None, level: float = 0.0, step: float = 0.002) -> Plant:
    """A machine on water of some level."""
    scene = build_scene(Site.model_validate(site or {}))
    plant = Plant(build_model(Machine.model_validate({"name": "law", **data})), 1, step, threads=1, surroundings=scene)
    plant.fields[0, layout.WATER_LEVEL] = level
    return plant


def pushes(plant: Plant) -> np.ndarray:
    """Force and moment (6,) on a free body of 1 kg and 1 kg m^2 at rest, about its origin, without its weight; body axes."""
    found, _ = plant.free_accelerations()
    found[2] += G
    return found


def barge(columns: tuple[int, int], heel: float, height: float, **column: object) -> Plant:
    """2 m long, 1 m wide, 0.5 m high, of columns that fill it; its origin in the middle."""
    across, along = 1.0 / columns[1], 2.0 / columns[0]
    forces = {
        f"f{i}{j}": {
            "kind": "float", "body": "b", "area": along * across, "height": 0.5, "length": along,
            "at": [-1.0 + (i + 0.5) * along, -0.5 + (j + 0.5) * across, -0.25], **column,
        }
        for i in range(columns[0]) for j in range(columns[1])
    }  # fmt: skip
    return afloat({
        "bodies": {"b": {"mass": 1.0, "inertia": [1.0, 1.0, 1.0]}},
        "joints": {"base": {"kind": "free", "child": "b", "start": [0, 0, height, heel, 0, 0]}}, "forces": forces,
    })  # fmt: skip


def by_sampling(heel: float, height: float) -> tuple[float, float]:
    """Volume under water of the whole barge, and the moment of its lift about the origin, by a fine grid."""
    y, z = np.meshgrid((np.arange(2000) + 0.5) / 2000 - 0.5, ((np.arange(1000) + 0.5) / 1000 - 0.5) * 0.5)
    across, up = y * math.cos(heel) - z * math.sin(heel), y * math.sin(heel) + z * math.cos(heel) + height
    under = up < 0.0
    cell = 2.0 * (1.0 / 2000) * (0.5 / 1000)
    return float(under.sum() * cell), float(across[under].sum() * cell)


@pytest.mark.parametrize("columns", [(1, 1), (5, 2), (3, 4)])
@pytest.mark.parametrize("heel", [0.0, 5.0, -20.0, 45.0, 90.0, 120.0, 180.0])
@pytest.mark.parametrize("height", [0.05, -0.1, 0.2])
def test_a_barge_of_columns_rights_itself_as_its_form_says(columns: tuple[int, int], heel: float, height: float) -> None:  # fmt: skip
    angle = math.radians(heel)
    volume, moment = by_sampling(angle, height)
    found = pushes(barge(columns, angle, height))
    scale = WATER * G * 0.5
    assert found[2] == pytest.approx(WATER * G * volume, abs=2e-3 * scale)
    assert found[3] == pytest.approx(WATER * G * moment, abs=2e-3 * scale)


@pytest.mark.parametrize(
    "shape",
    [
        {"kind": "box", "size": [2.0, 1.0, 0.5]},
        {"kind": "hull", "points": [[x, y, z] for x in (-1, 1) for y in (-0.5, 0.5) for z in (-0.25, 0.25)]},
    ],
)
def test_a_body_floats_by_its_shapes_as_by_its_columns(shape: dict[str, Any]) -> None:
    for heel in (0.3, 1.2, 2.5):
        plant = afloat({
            "bodies": {"b": {"mass": 1.0, "inertia": [1.0, 1.0, 1.0], "shapes": [shape]}},
            "joints": {"base": {"kind": "free", "child": "b", "start": [0, 0, 0.05, heel, 0.2, 0.4]}},
            "forces": {"f": {"kind": "float", "body": "b"}},
        })  # fmt: skip
        other = barge((1, 1), heel, 0.05)
        other.position[:] = plant.position
        assert pushes(plant) == pytest.approx(pushes(other), rel=1e-6, abs=1e-6)


def test_a_ball_displaces_its_cap() -> None:
    for height in (-0.3, -0.1, 0.0, 0.15, 0.4):
        plant = afloat({
            "bodies": {"b": {"mass": 1.0, "inertia": [1, 1, 1], "shapes": [{"kind": "sphere", "size": [0.3]}]}},
            "joints": {"base": {"kind": "free", "child": "b", "start": [0, 0, height, 0.3, 0.2, 0]}},
            "forces": {"f": {"kind": "float", "body": "b"}},
        })  # fmt: skip
        sunk = min(max(0.3 - height, 0.0), 0.6)
        wanted = WATER * G * math.pi * sunk**2 * (0.3 - sunk / 3.0)
        found = pushes(plant)
        assert found[2] == pytest.approx(wanted, abs=0.01 * WATER * G * 4 / 3 * math.pi * 0.027)
        assert np.abs(found[[0, 1]]).max() < 1e-6


def boat(**screw: object) -> dict[str, Any]:
    """A boat in the plane with a propeller of 4 m/s and linear damping."""
    return {
        "bodies": {"boat": {"mass": 200.0, "inertia": [50, 100, 120]}},
        "joints": {"boat": {"kind": "planar", "child": "boat"}},
        "drives": {"screw": {"kind": "thrust", "body": "boat", "limit": 400.0, "no_load_speed": 4.0, **screw}},
        "forces": {"hull": {"kind": "hull", "body": "boat", "damping": [100.0, 100.0, 0.0]}},
    }


@pytest.mark.parametrize("level", [0.0, -math.inf])
@pytest.mark.parametrize("current", [(0.0, 0.0), (2.0, 0.0), (-2.0, 0.0), (0.7, 1.5)])
def test_a_boat_goes_as_fast_through_the_water_in_any_current(level: float, current: tuple[float, float]) -> None:
    plant = afloat(boat(), level=level)
    plant.currents[0, :2] = current
    plant.step(np.full((1, 1), 400.0), 10_000)
    wanted = 400.0 / (100.0 + 400.0 / 4.0)
    assert plant.velocity[0, :2] == pytest.approx([current[0] + wanted, current[1]], abs=1e-3)


def test_a_fan_in_the_air_feels_the_wind() -> None:
    data = boat()
    data["joints"] = {"boat": {"kind": "slider", "child": "boat", "axis": [1, 0, 0], "damping": 100.0}}
    data["forces"] = {}
    plant = afloat(data, level=-math.inf)
    plant.winds[0, 0] = 1.0
    plant.currents[0, 0] = 3.0
    plant.step(np.full((1, 1), 400.0), 10_000)
    assert plant.velocity[0, 0] == pytest.approx((400.0 + 100.0) / 200.0, rel=1e-6)


def test_a_hull_and_a_foil_out_of_the_water_are_in_the_air() -> None:
    data = {
        "bodies": {"b": {"mass": 10.0, "inertia": [1, 1, 1]}},
        "joints": {"base": {"kind": "free", "child": "b"}},
        "forces": {
            "hull": {"kind": "hull", "body": "b", "added_mass": [5, 5, 20], "damping": [50, 50, 50]},
            "foil": {"kind": "wing", "body": "b", "area": 0.04, "in_water": True},
            "float": {"kind": "float", "body": "b", "area": 0.1, "height": 0.2, "at": [0, 0, -0.1]},
        },
    }
    plant = afloat(data)
    plant.position[0, 2], plant.velocity[0, 0] = 3.0, 2.0
    found, mass = plant.free_accelerations()
    assert found[2] == pytest.approx(-G, rel=1e-9) and mass[2, 2] == pytest.approx(10.0)
    assert found[0] == pytest.approx(-0.5 * AIR * 0.04 * 0.01 * 4.0 / 10.0, rel=1e-6)
    plant.position[0, 2] = -1.0
    found, mass = plant.free_accelerations()
    assert mass[2, 2] == pytest.approx(30.0)
    assert found[0] == pytest.approx(-(50.0 * 2.0 + 0.5 * WATER * 0.04 * 0.01 * 4.0) / 15.0, rel=1e-6)


def test_drag_below_the_level_is_of_water() -> None:
    plant = afloat({
        "bodies": {"b": {"mass": 10.0, "inertia": [1, 1, 1], "drag_area": 0.02}},
        "joints": {"base": {"kind": "free", "child": "b"}},
    })  # fmt: skip
    plant.velocity[0, 0], plant.currents[0, 0] = 2.0, 0.5
    plant.position[0, 2] = -1.0
    assert plant.free_accelerations()[0][0] == pytest.approx(-0.5 * WATER * 0.02 * 1.5**2 / 10.0, rel=1e-9)
    plant.position[0, 2] = 1.0
    assert plant.free_accelerations()[0][0] == pytest.approx(-0.5 * AIR * 0.02 * 4.0 / 10.0, rel=1e-9)


@pytest.mark.parametrize("depth", [0.0, 0.5, 2.0])
def test_waves_carry_what_drifts_in_circles_that_shrink_with_the_depth(depth: float) -> None:
    """A body with much drag goes with the water: circles of the amplitude times exp(-k depth)."""
    height, length = 0.1, 4.0
    number = 2.0 * math.pi / length
    pulse = math.sqrt(G * number)
    data: dict[str, Any] = {
        "bodies": {"b": {"mass": 1.0, "inertia": [1, 1, 1]}},
        "joints": {"x": {"kind": "slider", "child": "c", "axis": [1, 0, 0]}, "z": {"kind": "slider", "parent": "c", "child": "b", "axis": [0, 0, 1]}},
        "forces": {"hull": {"kind": "hull", "body": "b", "damping": [1e5, 1e5, 1e5]}},
    }  # fmt: skip
    data["bodies"]["c"] = {"mass": 1e-3}
    plant = afloat(data, {"water_level": 0.0, "wave": [height, length]})
    plant.rows[:, -5:-2] = 0.0
    plant.position[0] = 0.0, -depth
    seen = []
    for _ in range(round(2.0 * 2.0 * math.pi / pulse / 0.002)):
        plant.step(np.zeros((1, 0)), 1)
        seen.append(plant.position[0].copy())
    places = np.array(seen)
    reach = 0.5 * (places[:, 1].max() - places[:, 1].min())
    assert reach == pytest.approx(height * math.exp(-number * depth), rel=0.08)
    assert 0.5 * (places[:, 0].max() - places[:, 0].min()) > 0.9 * reach
