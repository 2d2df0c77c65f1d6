"""Laws of contact: friction, restitution, rolling, stacking, collisions, and scenes nobody thought of."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import momenta
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.dynamics.sensing import Sensing
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site

G = 9.81


def solids(*bodies: dict[str, Any], **site: object) -> Plant:
    """A plant of free bodies at 500 Hz; each with shape, mass, start and surface."""
    data: dict[str, Any] = {"name": "solids", "bodies": {}, "joints": {}}
    for k, body in enumerate(bodies):
        shape, size, mass = body["shape"], body["size"], body.get("mass", 1.0)
        if shape == "sphere":
            inertia = [0.4 * mass * size[0] ** 2] * 3
        elif shape == "box":
            x, y, z = size
            inertia = [mass / 12 * (y * y + z * z), mass / 12 * (x * x + z * z), mass / 12 * (x * x + y * y)]
        else:
            r, length = size
            side = mass * (3 * r * r + length * length) / 12
            inertia = [side, side, 0.5 * mass * r * r]
        look = {"kind": shape, "size": size, "surface": body.get("surface", {})}
        data["bodies"][f"b{k}"] = {"mass": mass, "inertia": inertia, "shapes": [look]}
        data["joints"][f"j{k}"] = {"kind": body.get("joint", "free"), "child": f"b{k}", "start": body["start"]}
    scene = build_scene(Site.model_validate(site)) if site else None
    step = 0.002
    return Plant(build_model(Machine.model_validate(data)), 1, step, threads=1, surroundings=scene)


def run(plant: Plant, seconds: float) -> None:
    plant.step(np.zeros((plant.copies, 0)), round(seconds / plant.step_size))


def slope(angle: float, **surface: object) -> dict[str, Any]:
    return {"terrain": {"kind": "slope", "slope": angle, "surface": surface}}


def on_slope(angle: float, x: float, height: float) -> list[float]:
    """Start of a body that lies on a slope through the origin."""
    s, c = math.sin(angle), math.cos(angle)
    return [x * c - height * s, 0.0, x * s + height * c, 0.0, -angle, 0.0]


def along(plant: Plant, angle: float) -> tuple[float, float]:
    """Distance and speed up the slope of the first body."""
    s, c = math.sin(angle), math.cos(angle)
    q, v = plant.position[0], plant.velocity[0]
    return float(q[0] * c + q[2] * s), float(v[0] * c + v[2] * s)


@pytest.mark.parametrize("friction", [0.3, 0.6])
def test_a_block_holds_below_the_friction_angle_and_slides_above_it(friction: float) -> None:
    critical = math.atan(friction)
    surface = {"friction": [friction, friction]}
    block = {"shape": "box", "size": [0.2, 0.2, 0.1], "surface": surface}
    below = 0.93 * critical
    plant = solids(block | {"start": on_slope(below, 0, 0.05)}, **slope(below, **surface))
    run(plant, 3.0)
    assert abs(along(plant, below)[0]) < 1e-3
    above = 1.15 * critical
    plant = solids(block | {"start": on_slope(above, 0, 0.05)}, **slope(above, **surface))
    run(plant, 0.2)
    first = along(plant, above)[1]
    run(plant, 1.0)
    measured = along(plant, above)[1] - first
    assert measured == pytest.approx(-G * (math.sin(above) - friction * math.cos(above)), rel=0.01)


def test_stick_and_slip_with_two_coefficients() -> None:
    """A block pulled by a spring whose end moves steadily sticks until static friction gives way, then slips on.

    In a slip m y'' = -k y + (static - dynamic) m g holds for y, the way ahead of the steady end, until the block rests.
    """
    mass, stiffness, speed, static, dynamic = 1.0, 40.0, 0.05, 0.5, 0.3
    data = {
        "name": "stick and slip",
        "bodies": {
            "puller": {"mass": 1.0},
            "block": {
                "mass": mass,
                "inertia": [0.01] * 3,
                "shapes": [{"kind": "box", "size": [0.2, 0.2, 0.1], "surface": {"friction": [static, dynamic]}}],
            },
        },
        "joints": {
            "pull": {"kind": "slider", "child": "puller", "axis": [1, 0, 0]},
            "block": {"kind": "planar", "child": "block", "axis": [0, 1, 0], "start": [0.0, 0.05, 0.0]},
        },
        "drives": {"pull": {"kind": "speed", "joint": "pull", "limit": 1e5, "top_speed": 1.0, "gain": 1e5}},
        "forces": {
            "spring": {
                "kind": "spring",
                "a": "puller",
                "b": "block",
                "stiffness": stiffness,
                "rest": 1.0,
                "at_a": [1, 0, 0.05],
            }
        },  # ahead, at the block's height
    }
    terrain = {"kind": "flat", "surface": {"friction": [static, dynamic]}}
    scene = build_scene(Site.model_validate({"terrain": terrain}))
    plant = Plant(build_model(Machine.model_validate(data)), 1, 0.001, threads=1, surroundings=scene)
    places = []
    for _ in range(14000):
        plant.step(np.full((1, 1), speed))
        places.append(plant.position[0, 1])
    moving = np.abs(np.diff(places)) > 2e-6
    starts = np.flatnonzero(~moving[:-1] & moving[1:])
    ends = np.flatnonzero(moving[:-1] & ~moving[1:])
    first = places[starts[0]]
    assert starts[0] * 0.001 * speed * stiffness == pytest.approx(static * mass * G, rel=0.02)
    assert abs(first) < 1e-3
    slips = [places[e] - places[s] for s, e in zip(starts, ends[ends > starts[0]], strict=False)]
    assert len(slips) >= 3
    pulse, middle = math.sqrt(stiffness / mass), (static - dynamic) * mass * G / stiffness
    end = (2 * math.pi - 2 * math.atan(middle * pulse / speed)) / pulse
    way = middle * (1 - math.cos(pulse * end)) - speed / pulse * math.sin(pulse * end) + speed * end
    assert np.mean(slips[1:]) == pytest.approx(way, rel=0.02)


def test_a_sphere_rolls_down_at_five_sevenths() -> None:
    angle = 0.3
    surface = {"friction": [0.8, 0.8]}
    plant = solids(
        {"shape": "sphere", "size": [0.1], "start": on_slope(angle, 0, 0.1), "surface": surface},
        **slope(angle, **surface),
    )
    run(plant, 1.0)
    distance, speed = along(plant, angle)
    assert speed == pytest.approx(-5 / 7 * G * math.sin(angle), rel=2e-3)
    assert distance == pytest.approx(-0.5 * 5 / 7 * G * math.sin(angle), rel=5e-3)
    turning = plant.velocity[0, 3:6]
    assert np.linalg.norm(turning) * 0.1 == pytest.approx(abs(speed), rel=1e-3)


@pytest.mark.parametrize("bounce", [0.3, 0.6, 0.9])
def test_bounce_heights_follow_restitution(bounce: float) -> None:
    surface = {"bounce": bounce}
    plant = solids(
        {"shape": "sphere", "size": [0.05], "start": [0, 0, 1.05, 0, 0, 0], "surface": surface},
        terrain={"kind": "flat", "surface": surface},
    )
    heights, speeds = [], []
    for _ in range(1500):
        run(plant, 0.002)
        heights.append(plant.position[0, 2] - 0.05)
        speeds.append(plant.velocity[0, 2])
    tops = [heights[k] for k in range(1, 1499) if speeds[k - 1] > 0 >= speeds[k] and heights[k] > 0.02]
    wanted = [bounce ** (2 * (k + 1)) for k in range(len(tops))]
    assert tops
    assert tops[0] == pytest.approx(wanted[0], rel=0.05)
    assert tops[:3] == pytest.approx(wanted[:3], rel=0.12)


def test_a_stack_of_five_boxes_stands() -> None:
    boxes = [{"shape": "box", "size": [0.2, 0.2, 0.2], "start": [0, 0, 0.1 + 0.2 * k, 0, 0, 0]} for k in range(5)]
    plant = solids(*boxes, terrain={"kind": "flat"})
    run(plant, 1.0)
    settled = plant.position.copy()
    run(plant, 10.0)
    places = (plant.position - settled)[0].copy()[:30].reshape(5, 6)[:, :3]
    assert np.abs(places).max() < 1e-3
    assert abs(plant.position[0, 24 + 2] - 0.9) < 0.005


def test_collisions_conserve_momentum() -> None:
    """Two boxes and a sphere in empty space, meeting off their centres, lively and rough."""
    surface = {"bounce": 0.5}
    plant = solids(
        {"shape": "box", "size": [0.2, 0.3, 0.2], "mass": 2.0, "start": [0, 0, 0, 0.2, 0.1, 0.3], "surface": surface},
        {
            "shape": "box",
            "size": [0.2, 0.2, 0.2],
            "mass": 1.0,
            "start": [0.6, 0.05, 0.03, 0, 0.4, 0],
            "surface": surface,
        },
        {"shape": "sphere", "size": [0.1], "mass": 0.5, "start": [0.0, 0.7, 0.05, 0, 0, 0], "surface": surface},
    )
    plant.rows[:, -5:-2] = 0.0
    plant.velocity[0, [0, 6, 13]] = 0.5, -1.0, -1.5
    machine, model = plant.model.machine, plant.model
    before = momenta(machine, model.pose(plant.position[0]), model.speeds(plant.velocity[0]))
    hit = 0
    for _ in range(750):
        run(plant, 0.002)
        hit = max(hit, int(plant.contact_count[0]))
    after = momenta(machine, model.pose(plant.position[0]), model.speeds(plant.velocity[0]))
    assert hit > 0
    assert after[0] == pytest.approx(before[0], abs=1e-9)
    assert np.abs(after[1] - before[1]).max() < 0.02 * max(1.0, np.abs(before[1]).max())
    assert not np.allclose(plant.velocity[0, :3], [0.5, 0, 0], atol=0.05)


@pytest.mark.parametrize("rate", [200.0, 500.0, 1000.0])
def test_soft_ground_sinks_by_weight_over_stiffness(rate: float) -> None:
    surface = {"stiffness": 5000.0}
    plant = solids(
        {"shape": "sphere", "size": [0.1], "mass": 2.0, "start": [0, 0, 0.1, 0, 0, 0]},
        terrain={"kind": "flat", "surface": surface},
    )
    plant.step_size = 1.0 / rate
    run(plant, 4.0)
    assert 0.1 - plant.position[0, 2] == pytest.approx(2.0 * G / 5000.0, rel=1e-3)


def test_contact_converges_with_the_step() -> None:
    """A sphere that slides, then rolls: v = 5/7 v0 whatever the step, the place with first order."""
    errors = []
    for step in (0.004, 0.002, 0.001):
        surface = {"friction": [0.3, 0.3]}
        plant = solids(
            {"shape": "sphere", "size": [0.1], "start": [0, 0, 0.1, 0, 0, 0], "surface": surface},
            terrain={"kind": "flat", "surface": surface},
        )
        plant.step_size = step
        plant.velocity[0, 0] = 2.0
        run(plant, 1.0)
        slide = 2 / 7 * 2.0 / (0.3 * G)
        wanted = 2.0 * slide - 0.5 * 0.3 * G * slide**2 + 10 / 7 * (1.0 - slide)
        assert plant.velocity[0, 0] == pytest.approx(10 / 7, rel=1e-3)
        errors.append(abs(plant.position[0, 0] - wanted))
    assert errors[2] < 0.35 * errors[0] + 1e-6


def shape_strategy() -> st.SearchStrategy[dict[str, Any]]:
    edge = st.floats(0.06, 0.3)
    return st.one_of(
        st.tuples(edge).map(lambda s: {"shape": "sphere", "size": [s[0] / 2]}),
        st.tuples(edge, edge, edge).map(lambda s: {"shape": "box", "size": list(s)}),
        st.tuples(edge, edge).map(lambda s: {"shape": "cylinder", "size": [s[0] / 2, s[1]]}),
        st.tuples(edge, edge).map(lambda s: {"shape": "capsule", "size": [s[0] / 2, s[1]]}),
    )


@settings(max_examples=150, deadline=None)
@given(
    shapes=st.lists(shape_strategy(), min_size=1, max_size=5),
    seed=st.integers(0, 10_000),
    rough=st.booleans(),
    bounce=st.floats(0.0, 0.8),
)
def test_random_scenes_stay_finite_and_apart(
    shapes: list[dict[str, Any]], seed: int, rough: bool, bounce: float
) -> None:
    generator = np.random.default_rng(seed)
    surface = {"bounce": bounce}
    bodies = [
        shape
        | {
            "start": [*generator.uniform(-0.15, 0.15, 2), 0.35 + 0.5 * k, *generator.uniform(-3, 3, 3)],
            "surface": surface,
        }
        for k, shape in enumerate(shapes)
    ]
    terrain = {"kind": "rough", "height": 0.05, "size": [6, 6]} if rough else {"kind": "flat"}
    plant = solids(*bodies, terrain=terrain)
    plant.velocity[0] = generator.uniform(-1.0, 1.0, plant.velocity.shape[1])
    deepest = 0.0
    for _ in range(750):
        run(plant, 0.002)
        assert np.isfinite(plant.position).all()
        gaps = plant.contacts[0, : plant.contact_count[0], layout.GAP]
        deepest = max(deepest, float(-gaps.min(initial=0.0)))
    assert np.abs(plant.velocity.reshape(-1, 6)[:, :3]).max() < 12.0
    # of the corners of a cap four are kept: deep between them until the next step finds the lowest of the rim
    round_ = max((b["size"][0] for b in bodies if b["shape"] == "cylinder"), default=0.0)
    assert deepest < 0.005 + 0.08 * round_ + (0.003 if rough else 0.0), [b["shape"] for b in bodies]


@pytest.mark.parametrize("kind", ["slider", "hinge"])
def test_what_hangs_on_a_joint_to_the_ground_meets_the_site(kind: str) -> None:
    """A carriage is stopped by a wall and a swung bar by a post; neither by the foot that it is mounted on."""
    wall = {"kind": "box", "size": [0.2, 2.0, 2.0], "at": [1.0, 0.0, 0.5]}
    mount = {"kind": "box", "size": [0.2, 0.2, 0.9], "at": [0.0, 0.0, 0.45]}
    shape = {"kind": "box", "size": [0.3, 0.2, 0.2], "at": [0.15 if kind == "hinge" else 0.0, 0, 0]}
    data: dict[str, Any] = {
        "name": "carriage",
        "bodies": {"b": {"mass": 1.0, "inertia": [0.01, 0.01, 0.01], "shapes": [shape]}},
        "joints": {"j": {"kind": kind, "child": "b", "origin": [0.0, 0, 0.95], "axis": [1, 0, 0]}},
    }
    if kind == "hinge":
        data["joints"]["j"] |= {"axis": [0, 0, 1]}
        wall |= {"size": [0.2, 0.2, 2.0], "at": [0.0, 0.3, 1.0]}
    site = Site.model_validate({"solids": {"wall": wall, "mount": mount}, "terrain": {"kind": "flat"}})
    plant = Plant(build_model(Machine.model_validate(data)), 1, 0.002, threads=1, surroundings=build_scene(site))
    plant.velocity[0] = 2.0
    plant.step(np.zeros((1, 0)), 1500)
    if kind == "slider":
        assert plant.position[0, 0] == pytest.approx(0.75, abs=0.002)
    else:
        assert 0.6 < plant.position[0, 0] < 1.5
    assert abs(plant.velocity[0, 0]) < 1e-6


def test_a_box_on_the_floor_is_held_by_both_walls_of_a_corner() -> None:
    """Three faces touch at once, twelve points of one shape: none may be lost."""
    walls = {"x": {"kind": "box", "size": [0.2, 2, 1], "at": [0.5, 0, 0.5]}, "y": {"kind": "box", "size": [2, 0.2, 1], "at": [0, 0.5, 0.5]}}  # fmt: skip
    data = {
        "name": "box",
        "bodies": {"b": {"mass": 3.0, "inertia": [0.02, 0.02, 0.02], "shapes": [{"kind": "box", "size": [0.2, 0.2, 0.2]}]}},
        "joints": {"j": {"kind": "free", "child": "b", "start": [0.1, 0.1, 0.1, 0, 0, 0]}},
    }  # fmt: skip
    site = Site.model_validate({"solids": walls, "terrain": {"kind": "flat"}})
    plant = Plant(build_model(Machine.model_validate(data)), 1, 0.002, threads=1, surroundings=build_scene(site))
    for _ in range(40):
        plant.velocity[0, :2] += 0.3
        plant.step(np.zeros((1, 0)), 50)
        assert (plant.position[0, :2] < 0.301).all() and plant.position[0, 2] > 0.098
    assert plant.position[0, :2].min() > 0.29


def test_a_contact_that_dies_away_stays_a_number() -> None:
    """A bar that comes to rest against a post with less impulse each step, for as long as numbers go."""
    post = {"kind": "box", "size": [0.2, 0.2, 2.0], "at": [0.0, 0.3, 1.0]}
    data = {
        "name": "bar",
        "bodies": {"b": {"mass": 1.0, "inertia": [0.01, 0.01, 0.01], "shapes": [{"kind": "box", "size": [0.3, 0.2, 0.2], "at": [0.15, 0, 0]}]}},
        "joints": {"j": {"kind": "hinge", "child": "b", "origin": [0, 0, 0.95], "axis": [0, 0, 1]}},
    }  # fmt: skip
    site = Site.model_validate({"solids": {"post": post}})
    plant = Plant(build_model(Machine.model_validate(data)), 1, 0.002, threads=1, surroundings=build_scene(site))
    plant.velocity[0] = 2.0
    plant.step(np.zeros((1, 0)), 3000)
    assert 0.6 < plant.position[0, 0] < 1.5 and abs(plant.velocity[0, 0]) < 1e-9


def test_a_box_tips_where_its_edge_is() -> None:
    """A small box on a slope: it stands while its centre is above its base, whatever its edges are rounded by."""
    width, height = 0.1, 0.3
    for share, stands in ((0.97, True), (1.0 / 0.97, False)):
        lean = float(np.arctan(width / height * share))
        data = {
            "name": "box",
            "bodies": {"b": {"mass": 1.0, "inertia": [0.008, 0.008, 0.002], "shapes": [{"kind": "box", "size": [width, 0.4, height], "surface": {"friction": [1.5, 1.5]}}]}},
            "joints": {"j": {"kind": "free", "child": "b", "start": [-0.5 * height * np.sin(lean), 0, 0.5 * height * np.cos(lean), 0, -lean, 0]}},
        }  # fmt: skip
        site = Site.model_validate({"terrain": {"kind": "slope", "slope": lean, "surface": {"friction": [1.5, 1.5]}}})
        plant = Plant(build_model(Machine.model_validate(data)), 1, 0.002, threads=1, surroundings=build_scene(site))
        plant.step(np.zeros((1, 0)), 1000)
        assert (plant.position[0, 2] > 0.0 and abs(plant.velocity[0]).max() < 1e-3) == stands, (share, plant.velocity)


@pytest.mark.parametrize("deep", [0.005, 0.03, 0.08])
def test_clearance_tells_how_deep_boxes_stand_in_each_other(deep: float) -> None:
    wall = {"kind": "box", "size": [0.2, 2.0, 2.0], "at": [1.0, 0.0, 0.5]}
    data = {
        "name": "box",
        "bodies": {"b": {"mass": 1.0, "inertia": [0.01, 0.01, 0.01], "shapes": [{"kind": "box", "size": [0.2, 0.2, 0.2]}]}},
        "joints": {"j": {"kind": "slider", "child": "b", "origin": [0, 0, 0.5], "axis": [1, 0, 0], "start": 0.8 + deep}},
        "sensors": {"s": {"kind": "clearance", "body": "b"}},
    }  # fmt: skip
    site = Site.model_validate({"solids": {"wall": wall}})
    model, scene = build_model(Machine.model_validate(data)), build_scene(site)
    plant = Plant(model, 1, 0.002, threads=1, surroundings=scene)
    np.testing.assert_allclose(Sensing(model, scene).readings(plant, np.zeros((1, 2)))[0], [0.0, deep], atol=1e-6)
