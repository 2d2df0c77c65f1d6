"""Rods and pins close loops: against closed forms, with the default step, free of drift and of gain."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.special import ellipk

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import energies, poses
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.plant import Plant, accelerations, static_load
from plucky_heron.dynamics.posing import free_directions
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.errors import StateError
from plucky_heron.machine.schema import Machine, Pin, Rod
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import rotation

GRAVITY = 9.81


def link(mass: float, length: float) -> dict[str, Any]:
    """A slender link along x."""
    inertia = mass * length**2 / 12.0
    return {"mass": mass, "centre": [0.5 * length, 0, 0], "inertia": [1e-5, inertia, inertia]}


def four_bar(turn: float = 0.0, lean: tuple[float, float, float] = (0.0, 0.0, 0.0)) -> Machine:
    """Crank 0.1, coupler 0.3, rocker 0.25, frame 0.3 m: a loop closed by a pin, its plane turned by `lean`."""
    return Machine.model_validate({
        "name": "four bar",
        "bodies": {"crank": link(0.3, 0.1), "coupler": link(0.6, 0.3), "rocker": link(0.5, 0.25)},
        "joints": {
            "a": {"kind": "hinge", "child": "crank", "axis": [0, -1, 0], "start": turn, "turn": list(lean)},
            "b": {"kind": "hinge", "parent": "crank", "child": "coupler", "origin": [0.1, 0, 0], "axis": [0, -1, 0], "start": 0.7 - turn},
            "c": {"kind": "hinge", "child": "rocker", "origin": (rotated(lean) @ [0.3, 0, 0]).tolist(), "axis": [0, -1, 0], "start": 1.4, "turn": list(lean)},
        },
        "forces": {"d": {"kind": "pin", "a": "coupler", "at_a": [0.3, 0, 0], "b": "rocker", "at_b": [0.25, 0, 0]}},
    })  # fmt: skip


def rotated(lean: tuple[float, float, float]) -> np.ndarray:
    """Rotation matrix of roll, pitch and yaw."""
    return np.asarray(rotation(*lean))


def open_by(plant: Plant) -> float:
    """The largest error of a rod or pin (m), from the file's own numbers."""
    model = plant.model
    frames, worst = poses(model.machine, model.pose(plant.position[0])), 0.0
    for force in model.machine.forces.values():
        if isinstance(force, Rod | Pin):
            ends = [frames[body] @ np.append(at, 1.0) for body, at in ((force.a, force.at_a), (force.b, force.at_b))]
            apart = float(np.linalg.norm(ends[1] - ends[0]))
            worst = max(worst, abs(apart - ((force.length or np.nan) if isinstance(force, Rod) else 0.0)))
    return worst


def energy(plant: Plant, gravity: float = GRAVITY) -> float:
    model = plant.model
    return sum(energies(model.machine, model.pose(plant.position[0]), model.speeds(plant.velocity[0]), gravity))


@pytest.mark.parametrize("lean", [(0.0, 0.0, 0.0), (0.5, 0.3, -0.8)])
@pytest.mark.parametrize("spin", [0.0, 12.0])
def test_a_four_bar_stays_closed_and_keeps_its_energy(lean: tuple[float, float, float], spin: float) -> None:
    """Swinging under gravity, and with the crank going round and round: 10 s at 2 ms."""
    plant = Plant(build_model(four_bar(0.4, lean), air_density=0.0), 1, 0.002, threads=1)
    assert open_by(plant) < 1e-8
    plant.velocity[0, 0] = spin
    plant.step(np.zeros((1, 0)), 10)  # the speeds of the others find their way
    before, worst, drift = energy(plant), 0.0, 0.0
    scale = max(abs(before), 0.5 * 0.01 * spin**2, 1.0)
    for _ in range(200):
        plant.step(np.zeros((1, 0)), 25)
        worst, drift = max(worst, open_by(plant)), max(drift, abs(energy(plant) - before))
    assert worst < 1e-4, worst
    assert drift < 0.005 * scale, drift


def test_a_four_bar_accelerates_as_its_one_coordinate_does() -> None:
    """Lagrange's equation for the crank angle alone, with all positions by Freudenstein's closed form."""
    machine = four_bar(0.4)
    model = build_model(machine, air_density=0.0)
    plant = Plant(model, 1, 0.002, threads=1)

    def angles(crank: float) -> np.ndarray:
        """All joints for a crank angle, coupler above: circles about both ends of the missing point."""
        tip = 0.1 * np.array([np.cos(crank), np.sin(crank)])
        way = np.array([0.3, 0.0]) - tip
        far = float(np.hypot(*way))
        along = (0.3**2 - 0.25**2 + far**2) / (2.0 * far)
        corner = tip + along / far * way + np.sqrt(0.3**2 - along**2) / far * np.array([-way[1], way[0]])
        coupler = np.arctan2(*(corner - tip)[::-1])
        return np.array([crank, coupler - crank, np.arctan2(*(corner - np.array([0.3, 0.0]))[::-1])])

    def rates(crank: float) -> np.ndarray:
        return np.asarray((angles(crank + 1e-5) - angles(crank - 1e-5)) / 2e-5)

    def parts(crank: float) -> tuple[float, float]:
        """Inertia felt by the crank, potential energy."""
        names = list(model.joints)
        position = dict(zip(names, angles(crank), strict=True))
        moving = energies(machine, position, dict(zip(names, rates(crank), strict=True)), GRAVITY)
        return 2.0 * moving[0], moving[1]

    def acceleration(crank: float, rate: float) -> float:
        (more, high), (less, low) = parts(crank + 1e-4), parts(crank - 1e-4)
        return float((-(more - less) / 2e-4 * rate**2 / 2.0 - (high - low) / 2e-4) / parts(crank)[0])

    crank = float(plant.position[0, 0])
    np.testing.assert_allclose(plant.position[0], angles(crank), atol=1e-8)
    for rate in (0.0, 5.0):
        found = accelerations(model, plant.position[0], rates(crank) * rate)
        assert found[0] == pytest.approx(acceleration(crank, rate), rel=2e-4)
    # and over a second, with the default step
    plant.velocity[0] = 3.0 * rates(crank)
    plant.step(np.zeros((1, 0)), 500)
    wanted = solve_ivp(lambda _, y: [y[1], acceleration(*y)], (0.0, 1.0), [crank, 3.0], rtol=1e-8, atol=1e-8).y[0, -1]
    assert plant.position[0, 0] == pytest.approx(wanted, abs=5e-3)


def test_a_ball_on_a_rod_is_a_pendulum() -> None:
    """Free body, rod to the ground, from 2 rad: the period is that of the elliptic integral."""
    length, start = 0.5, 2.0
    machine = Machine.model_validate({
        "name": "pendulum",
        "bodies": {"b": {"mass": 2.0, "inertia": [0.001] * 3}},
        "joints": {"j": {"kind": "free", "child": "b", "start": [length * np.sin(start), 0, -length * np.cos(start), 0, 0, 0]}},
        "forces": {"rod": {"kind": "rod", "a": "b", "length": length}},
    })  # fmt: skip
    plant = Plant(build_model(machine, air_density=0.0), 1, 0.002, threads=1)
    period = 4.0 * np.sqrt(length / GRAVITY) * ellipk(np.sin(0.5 * start) ** 2)
    turned = []
    for k in range(round(4.2 * period / 0.002)):
        before = float(plant.position[0, 0])
        plant.step(np.zeros((1, 0)), 1)
        if before < 0.0 <= plant.position[0, 0]:
            turned.append(k)
        assert open_by(plant) < 1e-4
    assert np.mean(np.diff(turned)) * 0.002 == pytest.approx(period, rel=2e-3)


@pytest.mark.parametrize("integrator", ["semi-implicit", "rk4"])
def test_a_plate_on_three_rods_stays_on_them(integrator: str) -> None:
    """A parallel mechanism in space with one rod too many for a swing: still closed after 10 s."""
    corners = [[0.2, 0, 0], [-0.1, 0.17, 0], [-0.1, -0.17, 0]]
    rods = {f"r{k}": {"kind": "rod", "a": "b", "at_a": at, "at_b": [1.2 * at[0], 1.2 * at[1], 1.0], "length": 1.0} for k, at in enumerate(corners)}  # fmt: skip
    machine = Machine.model_validate({
        "name": "swing",
        "bodies": {"b": {"mass": 3.0, "inertia": [0.03, 0.03, 0.06]}},
        "joints": {"j": {"kind": "free", "child": "b", "start": [0.0, 0, 0.01, 0, 0, 0]}},
        "forces": rods,
    })  # fmt: skip
    plant = Plant(build_model(machine, air_density=0.0), 1, 0.002, integrator, threads=1)
    plant.velocity[0, :2] = 0.8, -0.5
    plant.step(np.zeros((1, 0)), 5)
    before = energy(plant)
    for _ in range(100):
        plant.step(np.zeros((1, 0)), 50)
        assert open_by(plant) < 1e-4
        assert abs(energy(plant) - before) < 0.02


def test_what_cannot_close_is_named_in_one_line() -> None:
    data = four_bar().model_dump()
    data["forces"]["d"]["at_a"] = [0.9, 0, 0]
    with pytest.raises(StateError, match=r"four bar: forces.d: its ends are .* mm apart instead of 0 mm") as caught:
        Plant(build_model(Machine.model_validate(data)), 1, 0.002, threads=1)
    assert "\n" not in str(caught.value)


def test_a_loop_through_one_body_is_refused() -> None:
    data = four_bar().model_dump()
    data["forces"]["d"] |= {"b": "coupler"}
    with pytest.raises(ValueError, match="ties two bodies"):
        Machine.model_validate(data)


def test_what_a_drive_in_a_loop_carries_holds_it() -> None:
    """The load that is told for the crank's motor is the torque under which the whole linkage stays where it is."""
    data = four_bar(0.4).model_dump()
    data["drives"] = {"motor": {"kind": "effort", "joint": "a", "limit": 50.0}}
    model = build_model(Machine.model_validate(data), air_density=0.0)
    plant = Plant(model, 1, 0.002, threads=1)
    position = plant.position[0].copy()
    ways = free_directions(model, position)
    assert ways.shape == (3, 1)
    torque = -float(ways[:, 0] @ static_load(model, position, model.row)) / ways[0, 0]
    assert abs(torque) > 0.3
    plant.played[:] = plant.lagged[:] = torque
    plant.step(np.array([[torque]]), 50)
    np.testing.assert_allclose(plant.position[0], position, atol=1e-6)


@pytest.mark.parametrize("crank", [-1.0, 0.3, 2.5])
def test_what_is_set_stays_and_the_rest_gives_way(crank: float) -> None:
    model = build_model(four_bar())
    plant = Plant(model, 3, 0.002, threads=1)
    plant.position[1, 0] = crank
    plant.close_loops(np.array([1]), [0])
    assert plant.position[1, 0] == pytest.approx(crank, abs=1e-3)
    np.testing.assert_array_equal(plant.position[[0, 2]], [model.start, model.start])
    plant.position[0] = plant.position[1]
    assert open_by(plant) < 1e-8


@pytest.mark.parametrize("step", [0.002, 0.005])
def test_a_pinned_body_moves_as_one_on_a_ball_joint(step: float) -> None:
    """Six coordinates and a pin, or three and none: the same motion to the last digits but a few."""
    body = {"mass": 1.5, "centre": [0.1, 0.05, -0.2], "inertia": [0.02, 0.03, 0.015]}
    pin = {"p": {"kind": "pin", "a": "b", "b": "ground"}}
    plants = []
    for kind, forces in (("free", pin), ("ball", {})):
        data = {"name": kind, "bodies": {"b": body}, "joints": {"j": {"kind": kind, "child": "b"}}, "forces": forces}
        plants.append(Plant(build_model(Machine.model_validate(data), air_density=0.0), 1, step, threads=1))
        plants[-1].velocity[0, -3:] = [2.0, -1.0, 4.0]
        plants[-1].step(np.zeros((1, 0)), round(2.0 / step))
        plants[-1].locate()
    np.testing.assert_allclose(plants[0].located[0, 0], plants[1].located[0, 0], atol=1e-6)


def test_a_leg_on_a_four_bar_stands_and_steps() -> None:
    """Loop, contact and servos in one solve: it stays closed, on the ground, and solved."""
    bar = {"mass": 0.3, "centre": [0, 0, -0.15], "inertia": [0.003, 0.003, 1e-4]}
    machine = Machine.model_validate({
        "name": "leg",
        "bodies": {
            "hip": {"mass": 3.0, "inertia": [0.02] * 3}, "thigh": bar, "bar": bar,
            "shank": bar | {"shapes": [{"kind": "box", "size": [0.16, 0.1, 0.04], "at": [0, 0, -0.3]}]},
            "crank": {"mass": 0.1, "centre": [0.03, 0, 0], "inertia": [1e-5, 1e-4, 1e-4]},
        },
        "joints": {
            "base": {"kind": "slider", "child": "hip", "axis": [0, 0, 1], "start": 0.6},
            "thigh": {"kind": "hinge", "parent": "hip", "child": "thigh", "axis": [0, 1, 0], "start": 0.4},
            "knee": {"kind": "hinge", "parent": "thigh", "child": "shank", "origin": [0, 0, -0.3], "axis": [0, 1, 0], "start": -0.8},
            "crank": {"kind": "hinge", "parent": "hip", "child": "crank", "axis": [0, 1, 0], "start": 0.3},
            "bar": {"kind": "hinge", "parent": "crank", "child": "bar", "origin": [0.06, 0, 0], "axis": [0, 1, 0], "start": 0.1},
        },
        "forces": {"close": {"kind": "pin", "a": "bar", "at_a": [0, 0, -0.3], "b": "shank", "at_b": [0.06, 0, 0]}},
        "drives": {
            name: {"kind": "position", "joint": name, "limit": 80, "gain": 400, "rate_gain": 12} for name in ("thigh", "crank")
        },
    })  # fmt: skip
    site = build_scene(Site.model_validate({"terrain": {"kind": "flat"}}))
    plant = Plant(build_model(machine), 1, 0.002, threads=1, surroundings=site)
    plant.settle_drives(np.arange(1))
    held, unsolved, stood = plant.limited[0].copy(), 0, 0
    for k in range(100):
        plant.step(held[None] + 0.12 * np.sin(0.3 * k), 25)
        unsolved += int(plant.unsolved[0])
        stood += int(plant.contact_count[0] > 0)
        assert (
            open_by(plant) < 1e-4 and plant.contacts[0, : plant.contact_count[0], layout.GAP].min(initial=0.0) > -2e-3
        )
    assert stood > 80 and unsolved < 25
