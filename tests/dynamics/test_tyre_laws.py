"""Tyres at rest, locked, rolling out and on kerbs, under the default step."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site

G = 9.81


def car(**tyre: object) -> dict[str, Any]:
    """A plate of 100 kg on four braked wheels with springy tyres."""
    data: dict[str, Any] = {
        "name": "car",
        "bodies": {"plate": {"mass": 100.0, "inertia": [6.0, 12.0, 16.0]}},
        "joints": {"base": {"kind": "free", "child": "plate", "start": [0, 0, 0.195, 0, 0, 0]}},
        "forces": {}, "drives": {},
    }  # fmt: skip
    for name, x, y in (("fl", 0.5, 0.3), ("fr", 0.5, -0.3), ("rl", -0.5, 0.3), ("rr", -0.5, -0.3)):
        data["bodies"][name] = {"mass": 4.0, "inertia": [0.03, 0.05, 0.03]}
        data["joints"][name] = {
            "kind": "hinge",
            "parent": "plate",
            "child": name,
            "origin": [x, y, 0],
            "axis": [0, 1, 0],
        }
        data["forces"][name] = {
            "kind": "tyre", "wheel": name, "radius": 0.2, "along": 6000.0, "across": 6000.0,
            "radial_stiffness": 5e4, "radial_damping": 800.0, "friction": [0.8, 0.8], **tyre,
        }  # fmt: skip
        data["drives"][name] = {"kind": "brake", "joint": name, "limit": 500.0}
    return data


def on_site(data: dict[str, Any], site: dict[str, Any], step: float = 0.001) -> Plant:
    scene = build_scene(Site.model_validate(site))
    return Plant(build_model(Machine.model_validate(data)), 1, step, threads=1, surroundings=scene)


@pytest.mark.parametrize("heading", [0.0, 0.7, 1.57, 2.6])
def test_a_braked_car_on_a_slope_comes_to_rest_and_stays(heading: float) -> None:
    plant = on_site(car(), {"terrain": {"kind": "slope", "slope": 0.2}})
    half, yaw = 0.1, 0.5 * heading
    a, b = (0.0, -math.sin(half), 0.0, math.cos(half)), (0.0, 0.0, math.sin(yaw), math.cos(yaw))
    plant.position[0, plant.model.attitudes()[0][1]] = [
        a[3] * b[0] + a[0] * b[3] + a[1] * b[2] - a[2] * b[1], a[3] * b[1] - a[0] * b[2] + a[1] * b[3] + a[2] * b[0],
        a[3] * b[2] + a[0] * b[1] - a[1] * b[0] + a[2] * b[3], a[3] * b[3] - a[0] * b[0] - a[1] * b[1] - a[2] * b[2],
    ]  # fmt: skip
    plant.position[0, :3] = 0.195 * np.array([-math.sin(0.2), 0.0, math.cos(0.2)])
    hold = np.full((1, 4), 500.0)
    plant.step(hold, 5000)
    there = plant.position[0, :3].copy()
    plant.step(hold, 75_000)
    assert np.abs(plant.position[0, :3] - there).max() < 1e-3
    assert np.abs(plant.velocity[0]).max() < 1e-3


@pytest.mark.parametrize("stiffness", [(6000.0, 6000.0), (20000.0, 4000.0), (3000.0, 12000.0)])
@pytest.mark.parametrize("azimuth", [0, 25, 50, 110])
def test_locked_wheels_slide_straight_on_whatever_their_stiffness(stiffness: tuple[float, float], azimuth: int) -> None:
    data = car(along=stiffness[0], across=stiffness[1])
    plant = on_site(data, {"terrain": {"kind": "flat"}})
    hold = np.full((1, 4), 500.0)
    plant.step(hold, 1500)
    turn = math.radians(azimuth)
    way = np.array([math.cos(turn), math.sin(turn)])
    plant.velocity[0, :2] = 6.0 * way
    plant.step(hold, 400)
    fast = plant.velocity[0, :2].copy()
    plant.step(hold, 200)
    v = plant.velocity[0, :2]
    assert abs(math.degrees(math.atan2(v @ [-way[1], way[0]], v @ way))) < 1.5
    assert (np.hypot(*fast) - np.hypot(*v)) / 0.2 == pytest.approx(0.8 * G, rel=0.03)


@pytest.mark.parametrize("free", [False, True])
def test_rolling_resistance_slows_and_then_holds(free: bool) -> None:
    """On a slope below its coefficient a car stands; on the level it rolls out with coefficient times g."""
    data = car(rolling_resistance=0.05, rolls_freely=free)
    if free:
        for name in ("fl", "fr", "rl", "rr"):
            data["joints"][name] = {"kind": "fixed", "parent": "plate", "child": name, "origin": data["joints"][name]["origin"]}  # fmt: skip
    data["drives"] = {}
    plant = on_site(data, {"terrain": {"kind": "flat"}})
    plant.step(np.zeros((1, 0)), 1500)
    plant.velocity[0, 0] = 2.0
    if not free:
        plant.velocity[0, 6:] = 2.0 / 0.195
    plant.step(np.zeros((1, 0)), 200)
    before = plant.velocity[0, 0]
    plant.step(np.zeros((1, 0)), 1000)
    spinning = 1.0 if free else 1.0 + 4 * 0.05 / 0.195**2 / 116.0
    assert before - plant.velocity[0, 0] == pytest.approx(0.05 * G / spinning, rel=0.06)
    plant.step(np.zeros((1, 0)), 6000)
    there = plant.position[0, 0]
    plant.step(np.zeros((1, 0)), 20_000)
    assert abs(plant.position[0, 0] - there) < 1e-3


def test_a_wheel_stands_on_a_solid_and_climbs_a_kerb() -> None:
    kerb = {"kind": "box", "size": [2.0, 4.0, 0.06], "at": [1.6, 0.0, 0.03]}
    data = car()
    for name in ("rl", "rr"):
        data["drives"][name] = {"kind": "speed", "joint": name, "limit": 120.0, "top_speed": 20.0, "gain": 40.0}
    data["drives"].pop("fl")
    data["drives"].pop("fr")
    plant = on_site(data, {"terrain": {"kind": "flat"}, "solids": {"kerb": kerb}})
    plant.step(np.zeros((1, 2)), 500)
    for _ in range(4000):
        plant.step(np.full((1, 2), 4.0), 1)
        if plant.position[0, 0] > 1.5:
            break
    assert plant.position[0, 0] > 1.5
    plant.step(np.zeros((1, 2)), 1500)
    assert plant.position[0, 2] == pytest.approx(0.06 + 0.2 - 116.0 * G / 4 / 5e4, abs=0.003)
