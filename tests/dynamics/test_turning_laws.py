"""What turns freely keeps its energy and its momentum under the default step, at any speed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import energies, momenta
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.plant import Plant
from plucky_heron.machine.schema import Machine

STEP = 0.002


def weightless(data: Mapping[str, Any], step: float = STEP) -> Plant:
    """A machine in empty space, with the default integrator."""
    machine = Machine.model_validate({"name": "tumbler", **data})
    return Plant(build_model(machine, gravity=0.0, air_density=0.0), 1, step, threads=1)


def kept(plant: Plant) -> tuple[float, np.ndarray]:
    """Kinetic energy, and angular momentum about the centre of mass, from the file's own numbers."""
    model = plant.model
    position, speeds = model.pose(plant.position[0]), model.speeds(plant.velocity[0])
    linear, angular = momenta(model.machine, position, speeds)
    plant.locate()
    bodies = [model.machine.bodies[b] for b in model.bodies]
    places = [plant.located[0, k, :3] + plant.located[0, k, 6:15].reshape(3, 3) @ np.array(b.centre) for k, b in enumerate(bodies)]  # fmt: skip
    mass = sum(b.mass for b in bodies)
    centre = sum((b.mass * p for b, p in zip(bodies, places, strict=True)), np.zeros(3)) / mass
    return energies(model.machine, position, speeds, 0.0)[0], angular - np.cross(centre, linear)


def losses(plant: Plant, seconds: float, every: float = 0.1) -> tuple[float, float, float]:
    """Largest relative change of energy and of momentum, and the largest turn of the momentum in degrees."""
    energy, momentum = kept(plant)
    worst = np.zeros(3)
    for _ in range(round(seconds / every)):
        plant.step(np.zeros((1, len(plant.model.drives))), round(every / plant.step_size))
        now, turned = kept(plant)
        size = np.linalg.norm(turned) / np.linalg.norm(momentum)
        angle = np.degrees(np.arccos(np.clip(turned @ momentum / size / (momentum @ momentum), -1.0, 1.0)))
        worst = np.maximum(worst, [abs(now / energy - 1.0), abs(size - 1.0), angle])
    return float(worst[0]), float(worst[1]), float(worst[2])


def spun(plant: Plant, rates: tuple[float, float, float], seed: int = 0) -> Plant:
    """Its base turns at these rates (body axes); what hangs on it at random ones of half the size."""
    generator = np.random.default_rng(seed)
    names = list(plant.model.joints)
    plant.velocity[0] = 0.5 * np.linalg.norm(rates) * generator.uniform(-1.0, 1.0, len(names))
    plant.velocity[0, :3] = 0.0
    plant.velocity[0, [names.index(f"base.{e}") for e in ("rx", "ry", "rz")]] = rates
    return plant


SOLID = {"bodies": {"b": {"mass": 1.2, "centre": [0.05, -0.03, 0.02], "inertia": [0.01, 0.02, 0.03]}}, "joints": {"base": {"kind": "free", "child": "b"}}}  # fmt: skip
RATES = [(6.0, 7.0, 4.0), (0.1, 10.0, 0.1), (-9.0, 0.5, 4.0)]


@pytest.mark.parametrize("rates", RATES)
def test_a_free_body_keeps_what_it_has_at_10_rad_s(rates: tuple[float, float, float]) -> None:
    energy, momentum, angle = losses(spun(weightless(SOLID), rates), 10.0)
    assert energy < 0.005 and momentum < 0.005 and angle < 1.0


@pytest.mark.parametrize("rates", RATES)
def test_and_at_30(rates: tuple[float, float, float]) -> None:
    fast = (3.0 * rates[0], 3.0 * rates[1], 3.0 * rates[2])
    energy, momentum, _ = losses(spun(weightless(SOLID), fast), 10.0)
    assert energy < 0.02 and momentum < 0.02


def tumblers() -> dict[str, dict[str, Any]]:
    """A chain of two links, one with limbs on hinges and a ball, a satellite with a reaction wheel."""
    body = {"mass": 1.0, "inertia": [0.01, 0.03, 0.035]}
    link = {"mass": 0.8, "centre": [0.0, 0.0, -0.2], "inertia": [0.012, 0.012, 0.001]}
    base = {"kind": "free", "child": "b"}
    return {
        "chain": {
            "bodies": {"b": link, "c": link},
            "joints": {
                "base": base,
                "elbow": {"kind": "hinge", "parent": "b", "child": "c", "origin": [0, 0, -0.4], "axis": [0, 1, 0]},
            },
        },
        "limbs": {
            "bodies": {"b": body, "c": link, "d": link, "e": link},
            "joints": {
                "base": base,
                "one": {"kind": "hinge", "parent": "b", "child": "c", "origin": [0.1, 0.1, 0], "axis": [1, 0, 0]},
                "two": {"kind": "hinge", "parent": "b", "child": "d", "origin": [-0.1, 0.1, 0], "axis": [0, 0.6, 0.8]},
                "three": {"kind": "ball", "parent": "b", "child": "e", "origin": [0, -0.1, 0]},
            },
        },
        "wheel": {
            "bodies": {"b": body, "w": {"mass": 0.3, "inertia": [0.001, 0.001, 0.002]}},
            "joints": {
                "base": base,
                "spin": {"kind": "hinge", "parent": "b", "child": "w", "origin": [0.02, 0, 0.05], "axis": [0, 0, 1]},
            },
        },
    }


@pytest.mark.parametrize("kind", ["chain", "limbs", "wheel"])
@pytest.mark.parametrize("rates", RATES[:2])
def test_trees_keep_what_they_have(kind: str, rates: tuple[float, float, float]) -> None:
    energy, momentum, angle = losses(spun(weightless(tumblers()[kind]), rates), 10.0)
    assert energy < 0.005 and momentum < 0.005 and angle < 1.0, (energy, momentum, angle)


def test_a_fast_reaction_wheel_turns_its_satellite_and_nothing_else() -> None:
    plant = spun(weightless(tumblers()["wheel"]), (0.3, 0.2, 0.1))
    plant.velocity[0, -1] = 600.0
    energy, momentum, angle = losses(plant, 10.0)
    assert energy < 0.005 and momentum < 0.005 and angle < 1.0


@pytest.mark.parametrize("spin", [50.0, 300.0, 1000.0])
def test_a_gyro_nods_at_the_rate_of_the_theory(spin: float) -> None:
    """A disc in two gimbals: small nutation at spin * axial / across (both gimbals weightless but for a trace)."""
    axial, across = 0.002, 0.0011
    plant = weightless({
        "bodies": {
            "outer": {"mass": 1e-6, "inertia": [1e-9, 1e-9, 1e-9]},
            "inner": {"mass": 1e-6, "inertia": [1e-9, 1e-9, 1e-9]},
            "disc": {"mass": 0.4, "inertia": [across, across, axial]},
        },
        "joints": {
            "yaw": {"kind": "hinge", "child": "outer", "axis": [0, 1, 0]},
            "pitch": {"kind": "hinge", "parent": "outer", "child": "inner", "axis": [1, 0, 0]},
            "spin": {"kind": "hinge", "parent": "inner", "child": "disc", "axis": [0, 0, 1]},
        },
    })  # fmt: skip
    plant.velocity[0] = [0.5, 0.0, spin]
    wanted = spin * axial / across
    steps = round(min(40 * 2 * np.pi / wanted, 4.0) / STEP)
    seen = np.empty(steps)
    for k in range(steps):
        plant.step(np.zeros((1, 0)), 1)
        seen[k] = plant.velocity[0, 0]
    assert np.abs(seen).max() < 0.55
    if wanted * STEP < 1.0:  # faster than the step can show, it must only stay bounded
        crossings = np.flatnonzero((seen[:-1] < 0.0) & (seen[1:] >= 0.0))
        found = 2.0 * np.pi * (len(crossings) - 1) / ((crossings[-1] - crossings[0]) * STEP)
        assert found == pytest.approx(wanted, rel=0.05)


def test_a_free_hull_keeps_kirchhoffs_energy() -> None:
    """In ideal fluid the energy of body and added mass stays, whichever way it tumbles and drifts."""
    added, turned = np.array([0.3, 1.1, 1.4]), np.array([0.004, 0.02, 0.015])
    plant = weightless({
        "bodies": {"b": {"mass": 1.2, "inertia": [0.01, 0.02, 0.03]}},
        "joints": {"base": {"kind": "free", "child": "b"}},
        "forces": {"h": {"kind": "hull", "body": "b", "added_mass": added.tolist(), "added_inertia": turned.tolist()}},
    })  # fmt: skip
    plant.fields[0, layout.WATER_LEVEL] = 1e3
    plant.velocity[0] = [1.0, -0.5, 0.3, 5.0, 6.0, 4.0]

    def energy() -> float:
        plant.locate()
        axes = plant.located[0, 0, 6:15].reshape(3, 3)
        u, w = axes.T @ plant.velocity[0, :3], plant.velocity[0, 3:]
        return float(0.5 * (u @ ((1.2 + added) * u) + w @ ((np.array([0.01, 0.02, 0.03]) + turned) * w)))

    before = energy()
    for _ in range(100):
        plant.step(np.zeros((1, 0)), 50)
        assert energy() == pytest.approx(before, rel=0.005)


def test_the_step_is_of_second_order() -> None:
    """A quarter of the error at half the step, for a tree in free fall and turning."""
    ends = []
    for step in (0.001, 0.0005, 0.00025, 0.0000625):
        plant = spun(weightless(tumblers()["limbs"], step), (2.0, 3.0, 1.0))
        plant.step(np.zeros((1, 0)), round(0.4 / step))
        ends.append(plant.position[0].copy())
    errors = [np.abs(e - ends[-1]).max() for e in ends[:-1]]
    assert errors[1] < 0.3 * errors[0] and errors[2] < 0.3 * errors[1]


@pytest.mark.parametrize(("step", "share"), [(0.002, 0.12), (0.0005, 0.008)])
@pytest.mark.parametrize("light", [0.3, 1.0, 10.0])
def test_a_heavy_link_on_a_light_one_folds_and_keeps_its_energy(light: float, step: float, share: float) -> None:
    """100 kg on 0.3 to 10 kg, swinging wildly under gravity for 10 s; the share is of what it may fall by, 300 J."""
    machine = Machine.model_validate({
        "name": "whip",
        "bodies": {
            "a": {"mass": light, "inertia": [3e-3 * light] * 3, "centre": [0.1, 0, 0]},
            "b": {"mass": 100.0, "centre": [0.3, 0, 0], "inertia": [1.0, 1.0, 1.0]},
        },
        "joints": {
            "one": {"kind": "hinge", "child": "a", "axis": [0, -1, 0]},
            "two": {"kind": "hinge", "parent": "a", "child": "b", "origin": [0.2, 0, 0], "axis": [0, -1, 0], "start": 2.0},
        },
    })  # fmt: skip
    plant = Plant(build_model(machine, air_density=0.0), 1, step, threads=1)

    def energy() -> float:
        return sum(energies(machine, plant.model.pose(plant.position[0]), plant.model.speeds(plant.velocity[0])))

    before, worst = energy(), 0.0
    for _ in range(500):
        plant.step(np.zeros((1, 0)), round(0.02 / step))
        worst = max(worst, abs(energy() - before))
    assert worst < share * 300.0, worst
