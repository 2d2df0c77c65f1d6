"""Laws of free bodies, mixed chains, drives, vehicles, boats, tanks and sensors, against oracles of their own."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError
from scipy.integrate import solve_ivp

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import energies, momenta
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.dynamics.sensing import Sensing, beam_directions
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site

G = 9.81


def plant_of(
    data: dict[str, Any], step: float = 1e-3, integrator: str = "rk4", site: dict[str, Any] | None = None
) -> Plant:
    scene = build_scene(Site.model_validate(site)) if site else None
    machine = Machine.model_validate({"name": "law", **data})
    return Plant(build_model(machine), 1, step, integrator, threads=1, surroundings=scene)


def slider(mass: float = 2.0, **drive: object) -> dict[str, Any]:
    return {
        "bodies": {"load": {"mass": mass}},
        "joints": {"slide": {"kind": "slider", "child": "load", "axis": [1, 0, 0]}},
        "drives": {"d": {"joint": "slide", **drive}},
    }


def responses(
    data: dict[str, Any], command: float, seconds: float, step: float = 1e-3
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Time, position and speed of a one-joint machine after a step of its command."""
    plant = plant_of(data, step, "semi-implicit")
    rows = []
    for k in range(round(seconds / step)):
        plant.step(np.full((1, 1), command))
        rows.append(((k + 1) * step, plant.position[0, 0], plant.velocity[0, 0]))
    time, position, speed = np.array(rows).T
    return time, position, speed


# --- free bodies and chains ------------------------------------------------------------------------------------------


def free_body(**start: object) -> dict[str, Any]:
    return {
        "bodies": {"body": {"mass": 2.0, "inertia": [0.02, 0.05, 0.06]}},
        "joints": {"free": {"kind": "free", "child": "body", **start}},
    }


def test_a_free_body_tumbles_about_its_middle_axis_and_keeps_what_it_must() -> None:
    plant = plant_of(free_body())
    plant.rows[:, -5:-2] = 0.0
    plant.velocity[0, 3:6] = 0.01, 3.0, 0.0
    machine, model = plant.model.machine, plant.model
    kept = momenta(machine, model.pose(plant.position[0]), model.speeds(plant.velocity[0]))[1]
    energy = energies(machine, model.pose(plant.position[0]), model.speeds(plant.velocity[0]), 0.0)[0]
    moments = np.array([0.02, 0.05, 0.06])
    times = np.linspace(0.0, 10.0, 101)
    euler = solve_ivp(
        lambda _, w: np.cross(moments * w, w) / moments,
        (0, 10),
        [0.01, 3.0, 0.0],
        "DOP853",
        times,
        rtol=1e-11,
        atol=1e-12,
    ).y.T
    found = [plant.velocity[0, 3:6].copy()]
    for _ in times[1:]:
        plant.step(np.zeros((1, 0)), 100)
        found.append(plant.velocity[0, 3:6].copy())
    assert np.abs(np.array(found) - euler).max() < 1e-6
    assert euler[:, 1].min() < -2.9  # it does turn over
    after = momenta(machine, model.pose(plant.position[0]), model.speeds(plant.velocity[0]))[1]
    assert after == pytest.approx(kept, abs=1e-9)
    assert energies(machine, model.pose(plant.position[0]), model.speeds(plant.velocity[0]), 0.0)[0] == pytest.approx(
        energy, rel=1e-9
    )
    assert np.linalg.norm(plant.position[0, [3, 4, 5, 6]]) == pytest.approx(1.0, abs=1e-12)


def mixed_chain() -> dict[str, Any]:
    """Ball, hinge, slider, planar and free... each on the one before; bodies with centres off their origins."""
    kinds: list[dict[str, Any]] = [
        {"kind": "hinge", "axis": [0, 1, 0]},
        {"kind": "slider", "axis": [0, 0.6, 0.8]},
        {"kind": "ball"},
        {"kind": "planar", "axis": [0, 1, 0]},
        {"kind": "hinge", "axis": [1, 0, 0]},
    ]
    bodies, joints, parent = {}, {}, "ground"
    for k, joint in enumerate(kinds):
        name = f"b{k}"
        bodies[name] = {
            "mass": 0.5 + 0.3 * k,
            "centre": [0.05, 0.02 * k, -0.1],
            "inertia": [0.02, 0.03, 0.025, 0.001, 0.002, -0.001],
        }
        joints[f"j{k}"] = {
            "parent": parent,
            "child": name,
            "origin": [0.1, 0.0, -0.2],
            "turn": [0.1 * k, 0.2, 0.0],
            **joint,
        }
        parent = name
    return {"bodies": bodies, "joints": joints}


def lagrangian_accelerations(machine: Machine, model: Model, position: np.ndarray, velocity: np.ndarray) -> np.ndarray:
    """M v' = d/dq-terms by finite differences of the energies alone (Hamel's equations for ball rates).

    Independent of the kernels: kinetic energy T(q, v), potential V(q), and the motion of the frames by `_moved`.
    """
    n = len(velocity)

    def kinetic(q: np.ndarray, v: np.ndarray) -> float:
        return energies(machine, model.pose(q), model.speeds(v))[0]

    def potential(q: np.ndarray) -> float:
        return energies(machine, model.pose(q), {})[1]

    def moved(q: np.ndarray, v: np.ndarray, h: float) -> np.ndarray:
        out = q.copy()
        from scipy.spatial.transform import Rotation

        for i in range(n):
            if model.tree.kind[i] < 2:
                out[i] += h * v[i]
        for _, entries in model.attitudes():
            out[entries] = (Rotation.from_quat(q[entries]) * Rotation.from_rotvec(h * v[entries[:3]])).as_quat()
        return out

    unit = np.eye(n)
    h = 1e-5

    def momentum(q: np.ndarray, v: np.ndarray) -> np.ndarray:
        # T is quadratic in v: differences are exact
        return np.array([(kinetic(q, v + e) - kinetic(q, v - e)) / 2.0 for e in unit])

    mass = np.array([momentum(position, e) for e in unit])
    p = momentum(position, velocity)
    rate = (momentum(moved(position, velocity, h), velocity) - momentum(moved(position, velocity, -h), velocity)) / (
        2 * h
    )
    slope = np.array([
        (kinetic(moved(position, e, h), velocity) - kinetic(moved(position, e, -h), velocity)) / (2 * h)
        - (potential(moved(position, e, h)) - potential(moved(position, e, -h))) / (2 * h)
        for e in unit
    ])  # fmt: skip
    turning = np.zeros(n)
    for _, entries in model.attitudes():
        w = entries[:3]
        turning[w] = np.cross(p[w], velocity[w])
    return np.linalg.solve(mass, slope + turning - rate)


def test_a_chain_of_five_mixed_joints_follows_hamels_equations() -> None:
    """Against accelerations derived from the energies alone, integrated by DOP853."""
    plant = plant_of(mixed_chain(), 5e-4)
    model, machine = plant.model, plant.model.machine
    generator = np.random.default_rng(4)
    n = len(model.joints)
    plant.position[0, :n] += 0.3 * generator.standard_normal(n)
    for _, entries in model.attitudes():
        plant.position[0, entries] /= np.linalg.norm(plant.position[0, entries])
    plant.velocity[0] = 0.8 * generator.standard_normal(n)
    wanted = lagrangian_accelerations(machine, model, plant.position[0], plant.velocity[0])
    found, _ = plant.free_accelerations()
    assert found == pytest.approx(wanted, rel=1e-5, abs=1e-4)

    def right(_: float, y: np.ndarray) -> np.ndarray:
        q, v = y[: len(model.positions)], y[len(model.positions) :]
        rate = np.zeros(len(model.positions))
        rate[:n] = v
        for _name, e in model.attitudes():
            x, w = q[e], v[e[:3]]
            rate[e[:3]] = 0.5 * (x[3] * w + np.cross(x[:3], w))
            rate[e[3]] = -0.5 * x[:3] @ w
        return np.concatenate([rate, lagrangian_accelerations(machine, model, q, v)])

    y0 = np.concatenate([plant.position[0], plant.velocity[0]])
    wanted_end = solve_ivp(right, (0, 0.3), y0, "DOP853", rtol=1e-6, atol=1e-7, max_step=0.1).y[:, -1]
    plant.step(np.zeros((1, 0)), 600)
    assert np.concatenate([plant.position[0], plant.velocity[0]]) == pytest.approx(wanted_end, abs=2e-4)


JOINTS = st.sampled_from([
    {"kind": "hinge", "axis": [0, 1, 0]}, {"kind": "hinge", "axis": [1, 1, 0]}, {"kind": "slider", "axis": [0, 0, 1]},
    {"kind": "ball"}, {"kind": "planar", "axis": [0, 0, 1]}, {"kind": "free"},
])  # fmt: skip


@settings(max_examples=25, deadline=None)
@given(kinds=st.lists(st.tuples(JOINTS, st.integers(0, 3)), min_size=1, max_size=4), seed=st.integers(0, 999))
def test_random_trees_keep_energy_and_momentum(kinds: list[Any], seed: int) -> None:
    """Hung on a free base in empty space nothing is lost, whatever joints there are."""
    generator = np.random.default_rng(seed)
    bodies: dict[str, Any] = {"b0": {"mass": 2.0, "inertia": [0.05, 0.06, 0.07]}}
    joints: dict[str, Any] = {"base": {"kind": "free", "child": "b0"}}
    for k, (joint, parent) in enumerate(kinds, start=1):
        centre = generator.uniform(-0.1, 0.1, 3).tolist()
        bodies[f"b{k}"] = {"mass": float(generator.uniform(0.3, 1.5)), "centre": centre, "inertia": [0.02, 0.025, 0.03]}
        joints[f"j{k}"] = {"parent": f"b{min(parent, k - 1)}", "child": f"b{k}", "origin": [0.1, 0.0, 0.1], **joint}
    plant = plant_of({"bodies": bodies, "joints": joints}, 1e-3)
    plant.rows[:, -5:-2] = 0.0
    plant.velocity[0] = generator.uniform(-1.0, 1.0, plant.velocity.shape[1])
    model, machine = plant.model, plant.model.machine

    def kept() -> np.ndarray:
        pose, speeds = model.pose(plant.position[0]), model.speeds(plant.velocity[0])
        return np.concatenate([[energies(machine, pose, speeds, 0.0)[0]], *momenta(machine, pose, speeds)])

    before = kept()
    plant.step(np.zeros((1, 0)), 1000)
    assert kept() == pytest.approx(before, rel=1e-6, abs=1e-6)


# --- drives, couplings, springs, tanks -------------------------------------------------------------------------------


def test_an_effort_drive_with_lag_and_dead_time_answers_like_its_transfer_function() -> None:
    time, _, speed = responses(slider(kind="effort", limit=100.0, lag=0.1, dead_time=0.05), 10.0, 1.0)
    late = np.maximum(time - 0.05, 0.0)
    wanted = 10.0 / 2.0 * (late - 0.1 * (1.0 - np.exp(-late / 0.1)))
    assert np.abs(speed - wanted).max() < 0.02


def test_a_speed_drive_answers_like_its_transfer_function() -> None:
    time, _, speed = responses(slider(kind="speed", limit=1e4, top_speed=5.0, gain=40.0), 1.0, 0.5)
    assert np.abs(speed - (1.0 - np.exp(-time * 40.0 / 2.0))).max() < 0.01


def test_a_position_drive_answers_like_its_transfer_function() -> None:
    time, position, _ = responses(slider(kind="position", limit=1e4, gain=200.0, rate_gain=8.0), 0.3, 2.0, 5e-4)
    pulse, damping = math.sqrt(200.0 / 2.0), 8.0 / 2.0 / (2.0 * math.sqrt(200.0 / 2.0))
    fast = pulse * math.sqrt(1.0 - damping**2)
    wanted = 0.3 * (
        1.0 - np.exp(-damping * pulse * time) * (np.cos(fast * time) + damping * pulse / fast * np.sin(fast * time))
    )
    assert np.abs(position - wanted).max() < 0.003


def test_the_torque_speed_line_ends_at_the_no_load_speed() -> None:
    time, _, speed = responses(slider(kind="effort", limit=10.0, no_load_speed=3.0), 10.0, 4.0)
    assert np.abs(speed - 3.0 * (1.0 - np.exp(-time * 10.0 / (2.0 * 3.0)))).max() < 0.01


def test_rate_limit_dead_zone_and_backlash() -> None:
    ramp = slider(kind="position", limit=1e6, gain=1e6, rate_gain=1e4, rate_limit=0.5)
    time, position, _ = responses(ramp, 0.4, 1.0)
    assert np.abs(position - np.minimum(0.5 * time, 0.4)).max() < 0.02
    _, _, speed = responses(slider(kind="effort", limit=10.0, dead_zone=2.0), 1.9, 0.2)
    assert np.abs(speed).max() == 0.0
    _, _, speed = responses(slider(kind="effort", limit=10.0, dead_zone=2.0), 6.0, 1.0)
    assert speed[-1] == pytest.approx(4.0 / 2.0, rel=1e-2)
    plant = plant_of(slider(kind="position", limit=1e6, gain=1e6, rate_gain=1e4, backlash=0.04), 1e-3, "semi-implicit")
    for command, wanted in ((0.3, 0.28), (0.29, 0.28), (0.2, 0.22)):
        plant.step(np.full((1, 1), command), 400)
        assert plant.position[0, 0] == pytest.approx(wanted, abs=1e-3)


@pytest.mark.parametrize("kind", ["effort", "brake", "speed"])
def test_backlash_of_what_commands_no_place_is_refused(kind: str) -> None:
    drive: dict[str, Any] = {"kind": kind, "limit": 10.0, "backlash": 0.02} | (
        {"top_speed": 1.0, "gain": 5.0} if kind == "speed" else {}
    )
    with pytest.raises(ValidationError, match=f"backlash: 0.02 .*only a position drive has it.*kind {kind}"):
        Machine.model_validate(slider(**drive))


def test_gear_and_rotor_add_the_rotor_inertia_times_the_square_of_the_gear() -> None:
    plain = responses(slider(kind="effort", limit=10.0), 10.0, 0.1)[2][-1]
    geared = responses(slider(kind="effort", limit=10.0, gear=20.0, rotor_inertia=0.01), 10.0, 0.1)[2][-1]
    assert plain / geared == pytest.approx((2.0 + 400 * 0.01) / 2.0, rel=1e-6)


def test_a_brake_and_dry_friction_hold_and_slow() -> None:
    data = slider(kind="brake", limit=50.0)
    plant = plant_of(data, 1e-3, "semi-implicit")
    plant.velocity[0, 0] = 2.0
    plant.step(np.full((1, 1), 5.0), 400)
    assert plant.velocity[0, 0] == pytest.approx(2.0 - 5.0 / 2.0 * 0.4, rel=1e-3)
    plant.step(np.full((1, 1), 5.0), 800)
    assert plant.velocity[0, 0] == pytest.approx(0.0, abs=1e-9)
    data["joints"]["slide"]["friction"] = 3.0
    data["drives"]["d"] |= {"kind": "effort"}
    assert responses(data, 2.9, 0.5)[2][-1] == pytest.approx(0.0, abs=1e-9)
    assert responses(data, 5.0, 0.5)[2][-1] == pytest.approx((5.0 - 3.0) / 2.0 * 0.5, rel=0.01)


@pytest.mark.parametrize("integrator", ["semi-implicit", "rk4"])
def test_couplings_hold_their_ratio_and_share_their_inertia(integrator: str) -> None:
    data = {
        "bodies": {"a": {"mass": 1.0, "inertia": [0.1, 0.1, 0.1]}, "b": {"mass": 1.0, "inertia": [0.02, 0.02, 0.02]}},
        "joints": {"a": {"kind": "hinge", "child": "a"}, "b": {"kind": "hinge", "child": "b", "origin": [1, 0, 0]}},
        "drives": {"d": {"kind": "effort", "joint": "a", "limit": 10.0}},
        "couplings": {"gear": {"joint": "b", "follows": "a", "ratio": -3.0}},
    }
    plant = plant_of(data, 1e-3, integrator)
    plant.step(np.ones((1, 1)), 1000)
    assert plant.velocity[0, 0] == pytest.approx(1.0 / (0.1 + 9.0 * 0.02), rel=1e-4)
    assert plant.position[0, 1] == pytest.approx(-3.0 * plant.position[0, 0], rel=1e-4)


def test_a_steering_linkage_turns_both_wheels_about_one_point() -> None:
    body = {"mass": 1.0, "inertia": [0.1, 0.1, 0.1]}
    data = {
        "bodies": {"m": body, "l": body, "r": body},
        "joints": {k: {"kind": "hinge", "child": k} for k in "mlr"},
        "drives": {"d": {"kind": "position", "joint": "m", "limit": 1e3, "gain": 100.0, "rate_gain": 20.0}},
        "couplings": {
            "l": {"kind": "steering", "joint": "l", "follows": "m", "wheelbase": 1.2, "left": 0.4},
            "r": {"kind": "steering", "joint": "r", "follows": "m", "wheelbase": 1.2, "left": -0.4},
        },
    }
    plant = plant_of(data, 1e-3, "semi-implicit")
    plant.step(np.full((1, 1), 0.5), 3000)
    middle, left, right = plant.position[0]
    assert middle == pytest.approx(0.5, abs=1e-3)
    assert 1.2 / math.tan(left) + 0.4 == pytest.approx(1.2 / math.tan(middle), rel=1e-3)
    assert 1.2 / math.tan(right) - 0.4 == pytest.approx(1.2 / math.tan(middle), rel=1e-3)


def test_a_four_bar_closed_by_a_stiff_spring_follows_its_closure() -> None:
    """Crank 0.2, coupler 0.5, rocker 0.4, base 0.5: the rocker's angle by the closure equation (circle meets circle)."""

    def bar(length: float) -> dict[str, Any]:
        side = 0.5 * length**2 / 12
        return {"mass": 0.5, "centre": [length / 2, 0, 0], "inertia": [1e-3, side, side]}

    data = {
        "bodies": {"crank": bar(0.2), "coupler": bar(0.5), "rocker": bar(0.4)},
        "joints": {
            "crank": {"kind": "hinge", "child": "crank", "axis": [0, 0, 1], "start": 0.5},
            "coupler": {
                "kind": "hinge",
                "parent": "crank",
                "child": "coupler",
                "axis": [0, 0, 1],
                "origin": [0.2, 0, 0],
            },
            "rocker": {"kind": "hinge", "child": "rocker", "axis": [0, 0, 1], "origin": [0.5, 0, 0]},
        },
        "drives": {"turn": {"kind": "speed", "joint": "crank", "limit": 1e3, "top_speed": 5.0, "gain": 500.0}},
        "forces": {
            "pin": {
                "kind": "spring",
                "a": "coupler",
                "at_a": [0.5, 0, 0],
                "b": "rocker",
                "at_b": [0.4, 0, 0],
                "stiffness": 2e5,
                "damping": 300.0,
            }
        },
    }

    def closed(crank: float) -> tuple[float, float]:
        x, y = 0.5 - 0.2 * math.cos(crank), -0.2 * math.sin(crank)
        far = math.hypot(x, y)
        rocker = math.atan2(-y, -x) - math.acos((far**2 + 0.4**2 - 0.5**2) / (2 * far * 0.4))
        tip = 0.5 + 0.4 * math.cos(rocker), 0.4 * math.sin(rocker)
        return math.atan2(tip[1] - 0.2 * math.sin(crank), tip[0] - 0.2 * math.cos(crank)) - crank, rocker

    plant = plant_of(data, 5e-4, "semi-implicit")
    plant.rows[:, -5:-2] = 0.0
    plant.position[0, 1:] = closed(0.5)
    worst = 0.0
    for _ in range(3000):
        plant.step(np.full((1, 1), 2.0))
        _, rocker = closed(plant.position[0, 0])
        worst = max(worst, abs(math.remainder(rocker - plant.position[0, 2], 2 * math.pi)))
    assert plant.position[0, 0] > 2.5
    assert worst < 0.01


def test_the_tank_obeys_the_rocket_equation() -> None:
    data = {
        "bodies": {"rocket": {"mass": 10.0, "inertia": [1, 1, 1]}},
        "joints": {"up": {"kind": "slider", "child": "rocket", "axis": [0, 0, 1]}},
        "tanks": {"fuel": {"body": "rocket", "size": [0.2, 0.2, 0.5], "mass": 15.0}},
        "drives": {
            "motor": {
                "kind": "thrust",
                "body": "rocket",
                "direction": [0, 0, 1],
                "limit": 300.0,
                "tank": "fuel",
                "consumption": 0.01,
            }
        },
    }
    plant = plant_of(data, 1e-3, "semi-implicit")
    plant.rows[:, -5:-2] = 0.0
    plant.step(np.full((1, 1), 300.0), 4000)
    burnt = 4.0 * 300.0 * 0.01
    assert plant.fill[0, 0] == pytest.approx(15.0 - burnt, rel=1e-9)
    assert plant.velocity[0, 0] == pytest.approx(1.0 / 0.01 * math.log(25.0 / (25.0 - burnt)), rel=1e-3)
    plant.step(np.full((1, 1), 300.0), 4000)
    assert plant.fill[0, 0] == 0.0
    assert plant.velocity[0, 0] == pytest.approx(100.0 * math.log(25.0 / 10.0), rel=1e-3)


# --- vehicles and boats ----------------------------------------------------------------------------------------------


def cart(friction: float = 0.9) -> dict[str, Any]:
    """Four wheels on a plate that moves in the plane; the front pair steers by a linkage, the rear pair drives."""
    wheelbase, track, mass = 0.9, 0.6, 120.0
    bodies: dict[str, Any] = {"plate": {"mass": mass - 4 * 4.0, "inertia": [5, 12, 15]}}
    joints: dict[str, Any] = {"plate": {"kind": "planar", "child": "plate", "axis": [0, 0, 1]}}
    forces, couplings = {}, {}
    bodies["rod"] = {"mass": 1.0, "inertia": [0.05, 0.05, 0.05]}
    joints["steer"] = {"kind": "hinge", "parent": "plate", "child": "rod", "origin": [wheelbase / 2, 0, 0]}
    for name, x, y in (("fl", 1, 1), ("fr", 1, -1), ("rl", -1, 1), ("rr", -1, -1)):
        at = [x * wheelbase / 2, y * track / 2, 0.15]
        parent = "plate"
        if x > 0:
            bodies[f"hub_{name}"] = {"mass": 1.0, "inertia": [0.02, 0.02, 0.02]}
            joints[f"hub_{name}"] = {"kind": "hinge", "parent": "plate", "child": f"hub_{name}", "origin": at}
            couplings[name] = {
                "kind": "steering",
                "joint": f"hub_{name}",
                "follows": "steer",
                "wheelbase": wheelbase,
                "left": y * track / 2,
            }
            parent, at = f"hub_{name}", [0, 0, 0]
        bodies[f"wheel_{name}"] = {"mass": 3.0, "inertia": [0.02, 0.04, 0.02]}
        joints[f"wheel_{name}"] = {
            "kind": "hinge",
            "parent": parent,
            "child": f"wheel_{name}",
            "axis": [0, 1, 0],
            "origin": at,
        }
        forces[name] = {
            "kind": "tyre",
            "wheel": f"wheel_{name}",
            "radius": 0.15,
            "along": 3000.0,
            "across": 3000.0,
            "load": mass * G / 4,
            "friction": [friction if x > 0 else 1.2 * friction] * 2,
        }
    drives = {
        "steer": {"kind": "position", "joint": "steer", "limit": 200.0, "gain": 2000.0, "rate_gain": 100.0},
        "left": {"kind": "speed", "joint": "wheel_rl", "limit": 80.0, "top_speed": 60.0, "gain": 30.0},
        "right": {"kind": "speed", "joint": "wheel_rr", "limit": 80.0, "top_speed": 60.0, "gain": 30.0},
    }
    return {"bodies": bodies, "joints": joints, "forces": forces, "couplings": couplings, "drives": drives}


def turning_radius(speed: float, steer: float, friction: float = 0.9) -> float:
    plant = plant_of(cart(friction), 1e-3, "semi-implicit")
    radius = 0.9 / math.tan(steer)
    left, right = (speed * (1 - y / radius) / 0.15 for y in (0.3, -0.3))
    plant.step(np.array([[steer, left, right]]), 6000)
    v = plant.velocity[0]
    rear = np.hypot(v[0], v[1])  # of the plate's middle
    return float(math.sqrt(max((rear / v[2]) ** 2 - 0.45**2, 0.0)))


def test_the_turning_radius_at_low_speed_is_the_geometric_one() -> None:
    assert turning_radius(0.4, 0.3) == pytest.approx(0.9 / math.tan(0.3), rel=0.02)
    assert turning_radius(0.4, 0.15) == pytest.approx(0.9 / math.tan(0.15), rel=0.02)


def test_beyond_the_friction_limit_the_cart_slides_out() -> None:
    """v²/r above mu g cannot be held: the circle opens until it can."""
    geometric = 0.9 / math.tan(0.3)
    plant = plant_of(cart(0.5), 1e-3, "semi-implicit")
    for share in np.linspace(0.0, 1.0, 200):
        fast = share * 1.3 * math.sqrt(0.5 * G * geometric) / 0.15
        plant.step(np.array([[0.3, fast, fast]]), 50)
    v = plant.velocity[0]
    speed = float(np.hypot(v[0], v[1]))
    assert speed / v[2] > 1.2 * geometric
    assert speed * v[2] < 1.15 * 0.5 * G


def boat(**hull: object) -> dict[str, Any]:
    return {
        "bodies": {"boat": {"mass": 200.0, "inertia": [50, 100, 120]}},
        "joints": {"boat": {"kind": "planar", "child": "boat"}},
        "drives": {"screw": {"kind": "thrust", "body": "boat", "at": [-1.5, 0, 0], "limit": 400.0, "lowest": -400.0}},
        "forces": {"hull": {"kind": "hull", "body": "boat", **hull}},
    }


def test_the_boats_terminal_speed_and_added_mass() -> None:
    data = boat(added_mass=[40, 150, 0], damping=[30.0, 80.0, 0.0], square=[60.0, 300.0, 0.0])
    plant = plant_of(data, 2e-3, "semi-implicit")
    plant.step(np.full((1, 1), 300.0))
    assert plant.velocity[0, 0] / 2e-3 == pytest.approx(300.0 / 240.0, rel=1e-3)
    plant.step(np.full((1, 1), 300.0), 40000)
    speed = (-30.0 + math.sqrt(30.0**2 + 4 * 60.0 * 300.0)) / 120.0
    assert plant.velocity[0, 0] == pytest.approx(speed, rel=1e-4)


def test_a_drifting_boat_takes_on_the_current() -> None:
    data = boat(
        added_mass=[40, 150, 0], added_inertia=[0, 0, 60], damping=[60.0, 160.0, 0.0], turn_damping=[0, 0, 100.0]
    )
    plant = plant_of(data, 5e-3, "semi-implicit")
    plant.position[0, 2] = 0.7
    plant.currents[0] = 0.6, -0.3, 0.0
    plant.step(np.zeros((1, 1)), 20000)
    assert plant.velocity[0, :2] == pytest.approx([0.6, -0.3], abs=1e-3)


def test_a_hull_in_a_steady_current_moves_as_it_would_in_still_water() -> None:
    """Galilei: the same motion, carried along; the frame term of the added mass is what this asks for."""
    data = boat(added_mass=[40, 150, 0], added_inertia=[0, 0, 60], damping=[5.0, 20.0, 0.0], turn_damping=[0, 0, 10.0])
    tracks = []
    for current in (0.0, 0.8):
        plant = plant_of(data, 1e-3, "rk4")
        plant.currents[0, 0] = current
        plant.velocity[0] = 1.0 + current, 0.3, 0.6
        plant.step(np.zeros((1, 1)), 3000)
        tracks.append(plant.position[0] - [3.0 * current, 0.0, 0.0])
    assert tracks[1] == pytest.approx(tracks[0], abs=1e-6)


def test_a_float_sinks_until_it_displaces_its_weight_and_heaves_at_its_frequency() -> None:
    data = {
        "bodies": {"buoy": {"mass": 50.0, "inertia": [1, 1, 1]}},
        "joints": {"heave": {"kind": "slider", "child": "buoy", "axis": [0, 0, 1]}},
        "forces": {"column": {"kind": "float", "body": "buoy", "area": 0.25, "height": 1.0}},
    }
    plant = plant_of(data, 1e-3)
    plant.fields[0, 6] = 0.0
    depth = 50.0 / (1025.0 * 0.25)
    plant.position[0, 0] = -depth + 0.02
    heights = []
    for _ in range(6000):
        plant.step(np.zeros((1, 0)))
        heights.append(plant.position[0, 0] + depth)
    up = np.flatnonzero((np.array(heights[:-1]) < 0) & (np.array(heights[1:]) >= 0))
    pulse = 2 * math.pi / (np.diff(up).mean() * 1e-3)
    assert pulse == pytest.approx(math.sqrt(1025.0 * G * 0.25 / 50.0), rel=1e-3)


def test_a_wing_lifts_by_its_slope_and_stalls() -> None:
    data = {
        "bodies": {"glider": {"mass": 1.0, "inertia": [1, 1, 1]}},
        "joints": {"fly": {"kind": "planar", "child": "glider", "axis": [0, 1, 0]}},
        "forces": {
            "wing": {"kind": "wing", "body": "glider", "area": 0.5, "lift_slope": 5.0, "drag": 0.02, "induced": 0.05}
        },
    }
    plant = plant_of(data)
    plant.rows[:, -5:-2] = 0.0
    speed, angle = 10.0, 0.1
    plant.velocity[0, :2] = speed * math.cos(angle), -speed * math.sin(angle)
    pull, _ = plant.free_accelerations()
    pressure = 0.5 * 1.225 * 0.5 * speed**2
    drag, lift = pressure * (0.02 + 0.05 * 0.25), pressure * 5.0 * angle
    assert pull[0] == pytest.approx(-drag * math.cos(angle) + lift * math.sin(angle), rel=1e-6)
    assert pull[1] == pytest.approx(drag * math.sin(angle) + lift * math.cos(angle), rel=1e-6)


# --- sensors ---------------------------------------------------------------------------------------------------------


def watcher(
    sensors: dict[str, Any], site: dict[str, Any], start: tuple[float, ...] = (0.0,) * 6
) -> tuple[Sensing, Plant]:
    data = {
        "bodies": {"eye": {"mass": 1.0, "inertia": [0.1, 0.1, 0.1], "shapes": [{"kind": "sphere", "size": [0.05]}]}},
        "joints": {"eye": {"kind": "free", "child": "eye", "start": list(start)}},
        "sensors": sensors,
    }
    plant = plant_of(data, 1e-3, "semi-implicit", site)
    return Sensing(plant.model, plant.surroundings, Site.model_validate(site)), plant


def read(sensing: Sensing, plant: Plant) -> dict[str, float]:
    out = sensing.readings(plant, np.zeros((1, len(sensing.channels))))
    return {name: float(value) for (name, _, _), value in zip(sensing.channels, out[0], strict=True)}


@pytest.mark.parametrize(("shape", "wanted"), [
    ({"kind": "sphere", "size": [0.5]}, lambda y, z: 3.0 - math.sqrt(0.25 - y * y - z * z)),
    ({"kind": "box", "size": [0.6, 2.0, 2.0]}, lambda y, z: 2.7),
    ({"kind": "cylinder", "size": [0.5, 2.0]}, lambda y, z: 3.0 - math.sqrt(0.25 - y * y)),
    ({"kind": "cylinder", "size": [0.5, 2.0], "turn": [0, math.pi / 2, 0]}, lambda y, z: 2.0),
    ({"kind": "capsule", "size": [0.5, 1.0]}, lambda y, z: 3.0 - math.sqrt(0.25 - y * y)),
    ({"kind": "capsule", "size": [0.5, 1.0], "turn": [0, math.pi / 2, 0]}, lambda y, z: 2.5 - math.sqrt(0.25 - y * y - z * z)),
    ({"kind": "hull", "points": [[x, y, z] for x in (-0.3, 0.3) for y in (-1, 1) for z in (-1, 1)]}, lambda y, z: 2.7),
])  # fmt: skip
def test_beams_meet_each_shape_where_geometry_says(
    shape: dict[str, Any], wanted: Callable[[float, float], float]
) -> None:
    site = {"solids": {"thing": shape | {"at": [3.0, 0.0, 0.0]}}}
    sensor = {"kind": "beams", "body": "eye", "beams": 1, "range": 20.0}
    for y, z in ((0.0, 0.0), (0.2, 0.1), (-0.3, 0.25)):
        sensing, plant = watcher({"b": sensor}, site, (0.0, y, z, 0, 0, 0))
        assert read(sensing, plant)["b[0]"] == pytest.approx(wanted(y, z), abs=1e-9)
    sensing, plant = watcher({"b": sensor}, site, (0.0, 0.0, 0.0, 0, 0, 1.2))
    assert read(sensing, plant)["b[0]"] == 20.0


def test_beams_meet_the_ground_and_walls() -> None:
    site = {
        "terrain": {"kind": "slope", "slope": 0.2},
        "walls": {"w": {"points": [[2, -3], [2, 3]], "thickness": 0.1, "height": 3}},
    }
    sensors = {
        "down": {
            "kind": "beams",
            "body": "eye",
            "beams": 1,
            "axis": [0, 0, -1],
            "range": 9.0,
            "shape": "cone",
            "spread": 1e-6,
        },
        "fan": {"kind": "beams", "body": "eye", "beams": 3, "spread": 1.0, "range": 9.0},
    }
    sensing, plant = watcher(sensors, site, (0.0, 0.0, 1.5, 0, 0, 0))
    readings = read(sensing, plant)
    assert readings["down[0]"] == pytest.approx(1.5, abs=1e-5)
    assert [readings[f"fan[{k}]"] for k in range(3)] == pytest.approx(
        [1.95 / math.cos(0.5), 1.95, 1.95 / math.cos(0.5)]
    )
    profile = {"terrain": {"kind": "profile", "points": [[-5, 0], [0, 0], [5, 1.0]], "spacing": 0.1}}
    sensing, plant = watcher(
        {"f": {"kind": "beams", "body": "eye", "beams": 1, "range": 9.0}}, profile, (0.0, 0.0, 0.5, 0, 0, 0)
    )
    assert read(sensing, plant)["f[0]"] == pytest.approx(2.5, abs=1e-6)


def test_an_inertial_unit_feels_gravity_at_rest_nothing_in_free_fall_and_the_pull_of_a_turn() -> None:
    sensors = {"imu": {"kind": "inertial", "body": "eye", "at": [0.3, 0.0, 0.0]}}
    sensing, plant = watcher(sensors, {"terrain": {"kind": "flat"}}, (0.0, 0.0, 0.05, 0.0, 0.0, 0.0))
    plant.step(np.zeros((1, 0)), 500)
    at_rest = read(sensing, plant)
    assert [at_rest[f"imu.force.{a}"] for a in "xyz"] == pytest.approx([0, 0, G], abs=1e-3)
    sensing, plant = watcher(sensors, {}, (0.0, 0.0, 5.0, 0.3, 0.4, 0.5))
    plant.velocity[0, 5] = 2.0
    plant.step(np.zeros((1, 0)), 100)
    falling = read(sensing, plant)
    assert falling["imu.rate.z"] == pytest.approx(2.0)
    assert [falling[f"imu.force.{a}"] for a in "xyz"] == pytest.approx([-0.3 * 2.0**2, 0, 0], abs=1e-9)


def test_contact_and_clearance_sensors() -> None:
    sensors = {"foot": {"kind": "contact", "body": "eye"}, "near": {"kind": "clearance", "body": "eye"}}
    site = {
        "terrain": {"kind": "flat"},
        "solids": {"post": {"kind": "cylinder", "size": [0.1, 2.0], "at": [1.0, 0, 0]}},
    }
    sensing, plant = watcher(sensors, site, (0.0, 0.0, 0.05, 0, 0, 0))
    plant.step(np.zeros((1, 0)), 500)
    readings = read(sensing, plant)
    assert readings["foot.force"] == pytest.approx(G, rel=1e-3)
    assert readings["foot.touching"] == 1.0
    plant.position[0, 2] = 0.7
    readings = read(sensing, plant)
    assert readings["near.distance"] == pytest.approx(0.65, abs=1e-6)
    plant.position[0, 0] = 0.5
    assert read(sensing, plant)["near.distance"] == pytest.approx(0.35, abs=1e-6)
    plant.position[0, 0] = 0.87
    readings = read(sensing, plant)
    assert readings["near.overlap"] == pytest.approx(0.02, abs=1e-6)


def test_course_and_bearing_sensors() -> None:
    sensors = {
        "lane": {"kind": "course", "body": "eye", "ahead": 1.0},
        "mark": {"kind": "bearing", "body": "eye", "mark": "buoy"},
    }
    site = {"courses": {"l": {"points": [[0, 0], [4, 0], [4, 4]]}}, "marks": {"buoy": [3.0, 3.0, 0.0]}}
    sensing, plant = watcher(sensors, site, (3.5, 0.2, 0.0, 0, 0, 0.1))
    readings = read(sensing, plant)
    assert readings["lane.progress"] == pytest.approx(3.5)
    assert readings["lane.offset"] == pytest.approx(0.2)
    assert readings["lane.heading"] == pytest.approx(0.1)
    assert readings["lane.length"] == pytest.approx(8.0)
    assert readings["lane.ahead.offset"] == pytest.approx(-math.sin(0.1) * 0.5 + math.cos(0.1) * 0.3)
    assert readings["mark.distance"] == pytest.approx(math.hypot(0.5, 2.8))
    assert readings["mark.bearing"] == pytest.approx(math.atan2(2.8, -0.5) - 0.1)


def test_a_fan_is_even_and_a_cone_stays_within_its_opening() -> None:
    machine = Machine.model_validate(free_body() | {"sensors": {
        "fan": {"kind": "beams", "body": "body", "beams": 5, "spread": 2.0},
        "cone": {"kind": "beams", "body": "body", "beams": 64, "shape": "cone", "spread": 1.0, "axis": [0, 1, 0]},
    }})  # fmt: skip
    fan = beam_directions(machine.sensors["fan"])
    assert np.arctan2(fan[:, 1], fan[:, 0]) == pytest.approx([-1.0, -0.5, 0.0, 0.5, 1.0])
    cone = beam_directions(machine.sensors["cone"])
    assert np.linalg.norm(cone, axis=1) == pytest.approx(np.ones(64))
    assert cone[:, 1].min() >= math.cos(0.5)
    assert cone[:, 1].min() < math.cos(0.45)
