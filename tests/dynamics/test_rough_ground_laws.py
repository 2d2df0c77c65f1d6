"""Shapes and rays on rough ground see its triangles: nothing sinks in between corners, no crest is missed."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import Surroundings, build_scene
from plucky_heron.dynamics.sensing import Sensing
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site

ROUGH = {"terrain": {"kind": "rough", "height": 0.15, "spacing": 0.12, "wavelength": 0.8, "size": [8, 8], "seed": 3, "surface": {"friction": [0.8, 0.8]}}}  # fmt: skip
SHAPES: list[dict[str, Any]] = [
    {"kind": "capsule", "size": [0.05, 0.8]},
    {"kind": "box", "size": [0.6, 0.3, 0.1]},
    {"kind": "cylinder", "size": [0.08, 0.7]},
    {"kind": "sphere", "size": [0.07]},
    {"kind": "hull", "points": [[x, y, z] for x in (-0.3, 0.3) for y in (-0.1, 0.15) for z in (-0.05, 0.07)]},
]


def heights_at(scene: Surroundings, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Of the triangles, by their own definition."""
    g = scene.arrays.grid[0]
    columns, rows = int(g[4]), int(g[5])
    table = scene.arrays.heights[int(g[6]) :][: columns * rows].reshape(rows, columns)
    u, t = (x - g[0]) / g[2], (y - g[1]) / g[3]
    i, j = np.floor(u).astype(int), np.floor(t).astype(int)
    u, t = u - i, t - j
    a, b, c, d = table[j, i], table[j, i + 1], table[j + 1, i], table[j + 1, i + 1]
    found: np.ndarray = np.where(
        u + t <= 1.0, a + (b - a) * u + (c - a) * t, d + (c - d) * (1.0 - u) + (b - d) * (1.0 - t)
    )
    return found


def depth_inside(shape: dict[str, Any], points: np.ndarray) -> float:
    """How deep the deepest of these points (own axes) is in the shape."""
    size: list[float] = shape.get("size", [])
    if shape["kind"] == "sphere":
        away = np.linalg.norm(points, axis=1) - size[0]
    elif shape["kind"] == "capsule":
        along = np.clip(points[:, 2], -size[1] / 2, size[1] / 2)
        away = np.linalg.norm(points - np.stack([0 * along, 0 * along, along], axis=1), axis=1) - size[0]
    elif shape["kind"] == "cylinder":
        away = np.maximum(np.hypot(points[:, 0], points[:, 1]) - size[0], np.abs(points[:, 2]) - size[1] / 2)
    else:
        corners = np.array(shape["points"]) if not size else np.array([size, [-s for s in size]]) / 2
        away = np.maximum(points - corners.max(axis=0), corners.min(axis=0) - points).max(axis=1)
    return float(-away.min())


@pytest.mark.parametrize("shape", SHAPES, ids=[s["kind"] for s in SHAPES])
@pytest.mark.parametrize("seed", range(6))
def test_what_lies_on_rough_ground_does_not_sink_in(shape: dict[str, Any], seed: int) -> None:
    generator = np.random.default_rng(seed)
    scene = build_scene(Site.model_validate(ROUGH))
    machine = {
        "name": "thing",
        "bodies": {"b": {"mass": 2.0, "inertia": [0.05, 0.05, 0.05], "shapes": [shape]}},
        "joints": {"base": {"kind": "free", "child": "b"}},
    }
    plant = Plant(build_model(Machine.model_validate(machine)), 1, 0.002, threads=1, surroundings=scene)
    plant.position[0, :3] = *generator.uniform(-2.0, 2.0, 2), 0.6
    turn = generator.standard_normal(4)
    plant.position[0, 3:] = turn / np.linalg.norm(turn)
    plant.step(np.zeros((1, 0)), 1500)
    plant.locate()
    place, axes = plant.located[0, 0, :3], plant.located[0, 0, 6:15].reshape(3, 3)
    near = np.arange(-0.6, 0.6, 0.004)
    x, y = (place[k] + grid.ravel() for k, grid in enumerate(np.meshgrid(near, near)))
    ground = np.stack([x, y, heights_at(scene, x, y)], axis=1)
    inside = depth_inside(shape, (ground - place) @ axes)
    assert inside < (0.01 if shape["kind"] == "cylinder" else 0.004), f"{1e3 * inside:.1f} mm deep"
    assert place[2] > heights_at(scene, place[:1], place[1:2])[0] - 0.01
    assert np.abs(plant.velocity[0, :3]).max() < 1.0


def test_a_capsule_lies_across_a_ridge() -> None:
    """Between its ends there is nothing but a crest: it hangs there, it does not fall through."""
    scene = build_scene(Site.model_validate({"terrain": {"kind": "rough", "height": 0.4, "spacing": 0.5, "wavelength": 2.0, "size": [8, 8], "seed": 5}}))  # fmt: skip
    x = np.linspace(-3.0, 3.0, 400)
    grid = np.meshgrid(x, x)
    high = heights_at(scene, grid[0].ravel(), grid[1].ravel()).reshape(400, 400)
    row, column = np.unravel_index(np.argmax(high), high.shape)
    machine: dict[str, Any] = {
        "name": "bar",
        "bodies": {"b": {"mass": 2.0, "inertia": [0.1, 0.1, 0.002], "shapes": [{"kind": "capsule", "size": [0.04, 1.6]}]}},
        "joints": {"rail": {"kind": "slider", "child": "b", "axis": [-1, 0, 0], "origin": [x[column], x[row], 0.0], "turn": [0.0, 1.5708, 0.4]}},
    }  # fmt: skip
    plant = Plant(build_model(Machine.model_validate(machine)), 1, 0.002, threads=1, surroundings=scene)
    plant.position[0, 0] = high.max() + 0.5
    plant.step(np.zeros((1, 0)), 1500)
    plant.locate()
    assert plant.located[0, 0, 2] - high.max() == pytest.approx(0.04, abs=0.015)


def test_beams_meet_the_triangles_wherever_they_run() -> None:
    """Against a march in steps of a tenth of a millimetre."""
    scene = build_scene(Site.model_validate(ROUGH))
    machine = Machine.model_validate({
        "name": "eye", "bodies": {"eye": {"mass": 1.0, "inertia": [0.1, 0.1, 0.1]}}, "joints": {"base": {"kind": "free", "child": "eye"}},
        "sensors": {"b": {"kind": "beams", "body": "eye", "beams": 1, "range": 6.0}},
    })  # fmt: skip
    plant = Plant(build_model(machine), 1, 0.002, threads=1, surroundings=scene)
    sensing = Sensing(plant.model, scene)
    generator = np.random.default_rng(2)
    met = 0
    for _ in range(150):
        start = np.array([*generator.uniform(-1.5, 1.5, 2), generator.uniform(0.16, 0.4)])
        yaw, pitch = generator.uniform(-3.1, 3.1), generator.uniform(0.0, 0.25)
        plant.model.set_start(plant.position[0], {"base.x": start[0], "base.y": start[1], "base.z": start[2], "base.rx": 0.0, "base.ry": pitch, "base.rz": yaw})  # fmt: skip
        found = sensing.readings(plant, np.zeros((1, 1)))[0, 0]
        way = np.arange(0.0, 6.0, 1e-4)
        heading = np.array([np.cos(pitch) * np.cos(yaw), np.cos(pitch) * np.sin(yaw), -np.sin(pitch)])
        track = start + way[:, None] * heading
        track = track[(np.abs(track[:, :2]) < 3.9).all(axis=1)]
        below = np.flatnonzero(track[:, 2] <= heights_at(scene, track[:, 0], track[:, 1]))
        if len(below):
            met += 1
            assert found == pytest.approx(way[below[0]], abs=2e-4)
        elif len(track) == len(way):
            assert found == 6.0
    assert met > 60


@pytest.mark.parametrize("place", [(0.0, 0.0), (0.03, 0.07), (0.05, 0.05), (0.1, -0.2), (0.025, 0.075)])
def test_a_ball_touches_even_ground_of_triangles_once(place: tuple[float, float]) -> None:
    """In a triangle, on its edge and on a corner: twice would be friction twice against turning on the spot."""
    site = {"terrain": {"kind": "rough", "height": 0.0, "spacing": 0.1, "size": [4, 4]}}
    machine = {
        "name": "ball",
        "bodies": {"b": {"mass": 2.0, "inertia": [0.008] * 3, "shapes": [{"kind": "sphere", "size": [0.1]}]}},
        "joints": {"base": {"kind": "free", "child": "b", "start": [*place, 0.1, 0, 0, 0]}},
    }
    plant = Plant(build_model(Machine.model_validate(machine)), 1, 0.002, threads=1, surroundings=build_scene(Site.model_validate(site)))  # fmt: skip
    plant.step(np.zeros((1, 0)), 250)
    assert plant.contact_count[0] == 1
    assert plant.position[0, 2] == pytest.approx(0.1, abs=1e-4)
