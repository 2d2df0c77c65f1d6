"""Friction in every direction, brakes and stops in chains, servos in impacts, bounces that add no energy."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import energies
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site

G = 9.81
STEP = 0.002
RUBS = {"friction": [0.4, 0.4]}


def standing(data: dict[str, Any], site: dict[str, Any] | None = None, step: float = STEP) -> Plant:
    """A machine on a flat site, with the default integrator."""
    scene = build_scene(Site.model_validate(site or {"terrain": {"kind": "flat", "surface": RUBS}}))
    model = build_model(Machine.model_validate({"name": "law", **data}))
    return Plant(model, 1, step, threads=1, surroundings=scene)


def free(shapes: list[dict[str, Any]], height: float, yaw: float = 0.0, **body: object) -> dict[str, Any]:
    """One body that may go anywhere."""
    return {
        "bodies": {"b": {"mass": 3.0, "inertia": [0.02, 0.05, 0.06], "shapes": shapes, **body}},
        "joints": {"base": {"kind": "free", "child": "b", "start": [0, 0, height, 0, 0, yaw]}},
    }


def cart() -> dict[str, Any]:
    """A chassis on four wheels whose brakes are on: balls that roll on hinges."""
    data: dict[str, Any] = {
        "bodies": {"b": {"mass": 4.0, "inertia": [0.05, 0.08, 0.1]}},
        "joints": {"base": {"kind": "free", "child": "b", "start": [0, 0, 0.08, 0, 0, 0]}},
        "drives": {},
    }
    for k, (x, y) in enumerate(((0.2, 0.15), (0.2, -0.15), (-0.2, 0.15), (-0.2, -0.15))):
        wheel = {"mass": 0.3, "inertia": [2e-4, 3e-4, 2e-4], "shapes": [{"kind": "sphere", "size": [0.08], "surface": RUBS}]}  # fmt: skip
        data["bodies"][f"w{k}"] = wheel
        data["joints"][f"j{k}"] = {"kind": "hinge", "parent": "b", "child": f"w{k}", "origin": [x, y, 0], "axis": [0, 1, 0]}  # fmt: skip
        data["drives"][f"d{k}"] = {"kind": "brake", "joint": f"j{k}", "limit": 50.0}
    return data


SLIDERS: dict[str, tuple[dict[str, Any], int]] = {
    "box": (free([{"kind": "box", "size": [0.4, 0.1, 0.05], "surface": RUBS}], 0.0251), 0),
    "turned box": (free([{"kind": "box", "size": [0.4, 0.1, 0.05], "surface": RUBS}], 0.0251, 0.6), 0),
    "upright cylinder": (free([{"kind": "cylinder", "size": [0.1, 0.1], "surface": RUBS}], 0.0501), 0),
    "plate on balls": (
        free([{"kind": "sphere", "size": [0.03], "at": [x, y, 0], "surface": RUBS} for x in (-0.2, 0.2) for y in (-0.1, 0.1)], 0.0301),
        0,
    ),
    "braked cart": (cart(), 4),
}  # fmt: skip


@pytest.mark.parametrize("azimuth", [0, 20, 45, 77, 133, 290])
@pytest.mark.parametrize("kind", SLIDERS)
def test_friction_acts_against_the_sliding_whatever_its_direction(kind: str, azimuth: int) -> None:
    data, drives = SLIDERS[kind]
    plant = standing(data)
    hold = np.full((1, drives), 50.0)
    plant.step(hold, 100)
    turn = math.radians(azimuth)
    plant.velocity[0] = 0.0
    plant.velocity[0, :2] = 2.0 * math.cos(turn), 2.0 * math.sin(turn)
    plant.step(hold, 150)
    along, across = plant.velocity[0, :2] @ [math.cos(turn), math.sin(turn)], plant.velocity[0, :2] @ [-math.sin(turn), math.cos(turn)]  # fmt: skip
    assert abs(math.degrees(math.atan2(across, along))) < 0.5
    assert (2.0 - along) / 0.3 == pytest.approx(0.4 * G, rel=0.01)
    assert abs(plant.velocity[0, 5]) < 0.01


@pytest.mark.parametrize("azimuth", [0, 30, 45, 120])
def test_a_box_on_a_slope_holds_below_the_limit_and_slides_above(azimuth: int) -> None:
    for share, holds in ((0.99, True), (1.01, False)):
        lean = math.atan(0.4 * share)
        # gravity is not turned, the slope is: the box stands on it at every yaw
        site = {"terrain": {"kind": "slope", "slope": lean, "surface": RUBS}}
        plant = standing(free([{"kind": "box", "size": [0.2, 0.2, 0.1], "surface": RUBS}], 0.0), site)
        half, yaw = 0.5 * lean, math.radians(azimuth)
        # turn by the yaw about the normal, then lean about y
        a, b = np.array([0.0, -math.sin(half), 0.0, math.cos(half)]), np.array([0.0, 0.0, math.sin(0.5 * yaw), math.cos(0.5 * yaw)])  # fmt: skip
        plant.position[0, 3:] = [
            a[3] * b[0] + a[0] * b[3] + a[1] * b[2] - a[2] * b[1], a[3] * b[1] - a[0] * b[2] + a[1] * b[3] + a[2] * b[0],
            a[3] * b[2] + a[0] * b[1] - a[1] * b[0] + a[2] * b[3], a[3] * b[3] - a[:3] @ b[:3],
        ]  # fmt: skip
        plant.position[0, :3] = 0.0501 * np.array([-math.sin(lean), 0.0, math.cos(lean)])
        order = [3, 4, 5, 6]
        plant.position[0, order] = plant.position[0, order]
        plant.step(np.zeros((1, 0)), 250)
        moved = np.linalg.norm(plant.position[0, :2] - 0.0501 * np.array([-math.sin(lean), 0.0]))
        assert (moved < 1e-3) == holds


def arm(**joint: object) -> dict[str, Any]:
    """Six links of 20 cm, stretched out level."""
    link = {"mass": 1.0, "centre": [0.1, 0, 0], "inertia": [0.0004, 0.0035, 0.0035]}
    return {
        "bodies": {f"l{k}": link for k in range(6)},
        "joints": {
            f"j{k}": {
                "kind": "hinge", "parent": f"l{k - 1}" if k else "ground", "child": f"l{k}",
                "origin": [0.2 if k else 0.0, 0, 0], "axis": [0, 1, 0], **joint,
            }
            for k in range(6)
        },
    }  # fmt: skip


def tip(plant: Plant) -> float:
    """Height of the arm's end (m); it began at 0."""
    return float(-0.2 * np.sin(np.cumsum(plant.position[0])).sum())


@pytest.mark.parametrize("holds", ["brakes", "dry friction"])
def test_what_holds_a_chain_of_six_holds_it(holds: str) -> None:
    data = arm() if holds == "brakes" else arm(friction=100.0)
    if holds == "brakes":
        data["drives"] = {f"b{k}": {"kind": "brake", "joint": f"j{k}", "limit": 100.0} for k in range(6)}
    plant = standing(data)
    plant.step(np.full((1, len(plant.model.drives)), 100.0), round(10.0 / STEP))
    assert abs(tip(plant)) < 2e-3


def test_stops_of_a_chain_sag_as_their_springs_say() -> None:
    """Each joint rests on its stop with the moment of all that hangs beyond it."""
    stiffness = 400.0
    plant = standing(arm(limits=[-2.0, 0.0], stop_stiffness=stiffness, stop_damping=20.0))
    plant.step(np.zeros((1, 0)), round(5.0 / STEP))
    angles = plant.position[0]
    along = np.cumsum(angles)
    ends = np.concatenate([[0.0], np.cumsum(0.2 * np.cos(along))])
    middles = ends[:-1] + 0.1 * np.cos(along)
    wanted = [sum(G * (middles[m] - ends[k]) for m in range(k, 6)) / stiffness for k in range(6)]
    assert angles == pytest.approx(wanted, rel=0.01)


def hammer(limit: float, gain: float, rate_gain: float) -> Plant:
    """A slider held by a servo, hit by a heavy ball that flies into it."""
    ball = {"mass": 5.0, "inertia": [0.02] * 3, "shapes": [{"kind": "sphere", "size": [0.1]}]}
    data = {
        "bodies": {"rod": {"mass": 1.0, "inertia": [0.01] * 3, "shapes": [{"kind": "box", "size": [0.2, 0.2, 0.2]}]}, "ball": ball},
        "joints": {
            "slide": {"kind": "slider", "child": "rod", "axis": [1, 0, 0]},
            "fly": {"kind": "slider", "child": "ball", "axis": [1, 0, 0], "origin": [-0.3, 0, 0]},
        },
        "drives": {"d": {"kind": "position", "joint": "slide", "limit": limit, "gain": gain, "rate_gain": rate_gain}},
    }  # fmt: skip
    plant = standing(data, {}, 0.001)
    plant.velocity[0, 1] = 2.0
    return plant


@pytest.mark.parametrize(("gain", "rate_gain"), [(2000.0, 400.0), (1e5, 2000.0), (50.0, 5.0)])
def test_a_servo_gives_no_more_than_its_limit_when_it_is_hit(gain: float, rate_gain: float) -> None:
    plant = hammer(20.0, gain, rate_gain)
    momentum = 10.0
    for _ in range(400):
        before = plant.velocity[0, 0] * 1.0 + plant.velocity[0, 1] * 5.0
        plant.step(np.zeros((1, 1)), 1)
        after = plant.velocity[0, 0] * 1.0 + plant.velocity[0, 1] * 5.0
        assert abs(after - before) <= 20.0 * 0.001 * 1.01
        assert abs(plant.efforts[0, 0]) <= 20.0 * 1.01
    assert plant.velocity[0, 0] * 1.0 + plant.velocity[0, 1] * 5.0 < momentum - 1.0


def test_the_effort_sensor_reads_what_presses_against_the_ground() -> None:
    """A servo that pushes a foot down with all it has reads its limit; a brake that holds a weight reads the weight."""
    data = {
        "bodies": {"foot": {"mass": 1.0, "inertia": [0.01] * 3, "shapes": [{"kind": "box", "size": [0.2, 0.2, 0.1]}]}},
        "joints": {"lift": {"kind": "slider", "child": "foot", "axis": [0, 0, 1], "origin": [0, 0, 0.06]}},
        "drives": {"d": {"kind": "position", "joint": "lift", "limit": 3000.0, "gain": 1e5, "rate_gain": 1e3}},
    }
    plant = standing(data)
    plant.step(np.full((1, 1), -0.02), 1000)
    rests = plant.contact_forces()[:, 5].sum()
    assert plant.efforts[0, 0] == pytest.approx(G - rests, rel=1e-3) and rests > 900.0
    data["drives"] = {"b": {"kind": "brake", "joint": "lift", "limit": 100.0}}
    data["joints"] = {"lift": {"kind": "slider", "child": "foot", "axis": [0, 0, 1], "origin": [0, 0, 0.5]}}
    plant = standing(data)
    plant.step(np.full((1, 1), 100.0), 500)
    assert plant.efforts[0, 0] == pytest.approx(G, rel=1e-3)


@pytest.mark.parametrize("seed", range(40))
def test_a_bounce_adds_no_energy(seed: int) -> None:
    generator = np.random.default_rng(seed)
    lively = {"friction": [0.6, 0.6], "bounce": 0.9}
    size = generator.uniform(0.1, 0.4, 3)
    mass = 2.0
    inertia = mass / 12.0 * (size @ size - size**2)
    plant = standing(
        free([{"kind": "box", "size": size.tolist(), "surface": lively}], 0.6, mass=mass, inertia=inertia.tolist()),
        {"terrain": {"kind": "flat", "surface": lively}},
    )
    attitude = generator.standard_normal(4)
    plant.position[0, 3:] = attitude / np.linalg.norm(attitude)
    plant.velocity[0] = [*generator.uniform(-2.0, 2.0, 2), -2.0, *generator.uniform(-6.0, 6.0, 3)]
    model = plant.model

    def energy() -> float:
        return sum(energies(model.machine, model.pose(plant.position[0]), model.speeds(plant.velocity[0])))

    highest = energy()
    for _ in range(750):
        plant.step(np.zeros((1, 0)), 1)
        now = energy()
        assert now < highest * 1.005
        highest = min(highest, now) if now < 0.98 * highest else highest


def test_a_ball_still_bounces_to_the_square_of_its_restitution() -> None:
    lively = {"bounce": 0.9}
    plant = standing(free([{"kind": "sphere", "size": [0.1], "surface": lively}], 1.1), {"terrain": {"kind": "flat", "surface": lively}}, 0.001)  # fmt: skip
    heights = []
    for _ in range(1400):
        plant.step(np.zeros((1, 0)), 1)
        heights.append(plant.position[0, 2])
    bounced = int(np.argmin(heights[:700]))
    assert max(heights[bounced:]) - 0.1 == pytest.approx(0.81, rel=0.02)


@pytest.mark.parametrize("dead_time", [0.0005, 0.002, 0.0033, 0.0205])
def test_a_dead_time_is_as_long_as_it_says(dead_time: float) -> None:
    """Also where it is no whole number of steps: a ramp arrives late by just so much."""
    data = {
        "bodies": {"load": {"mass": 2.0}},
        "joints": {"slide": {"kind": "slider", "child": "load", "axis": [1, 0, 0]}},
        "drives": {"d": {"kind": "effort", "joint": "slide", "limit": 100.0, "dead_time": dead_time}},
    }
    plant = standing(data, {})
    for k in range(100):
        plant.step(np.full((1, 1), 10.0 * k * STEP), 1)
    assert plant.played[0, 0] == pytest.approx(10.0 * (99 * STEP - dead_time), abs=1e-9)


@pytest.mark.parametrize("yaw", [0, 10, 22, 30, 147])
def test_an_upright_cylinder_tips_where_its_rim_says_at_any_yaw(yaw: int) -> None:
    """tan(slope) = radius / half height; edges rounded by 1 mm take 1 % of this radius."""
    radius, height = 0.1, 0.6
    grips = {"friction": [2.0, 2.0]}
    for share, stands in ((0.965, True), (1.01, False)):
        lean = math.atan(share * radius / (0.5 * height))
        site = {"terrain": {"kind": "slope", "slope": lean, "surface": grips}}
        plant = standing(free([{"kind": "cylinder", "size": [radius, height], "surface": grips}], 0.0), site)
        plant.position[0, :3] = -0.5 * height * math.sin(lean), 0.0, 0.5 * height * math.cos(lean)
        a, b = 0.5 * lean, 0.5 * math.radians(yaw)
        # turned by the yaw about its own axis, then leant with the slope
        turned = -math.sin(a) * math.sin(b), -math.sin(a) * math.cos(b), math.cos(a) * math.sin(b), math.cos(a) * math.cos(b)  # fmt: skip
        plant.position[0, 3:] = turned
        plant.step(np.zeros((1, 0)), 1500)
        x, y = plant.position[0, 3:5]
        upright = 1.0 - 2.0 * (x * x + y * y)
        assert (upright > math.cos(lean) - 0.02) == stands, (share, upright)
