"""Laws of mechanics, against oracles that share nothing with the kernels."""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
import pytest
import sympy as sp
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import solve_ivp

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import energies
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.open_loop import simulate
from plucky_heron.dynamics.plant import Plant, accelerations, mass_matrix
from plucky_heron.dynamics.second_thread import SecondThread
from plucky_heron.errors import StateError
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.project import demo_source
from plucky_heron.task.problem import read_problem

M1, L1, C1, I1 = 1.3, 0.8, 0.35, 0.07
M2, C2, I2 = 0.9, 0.45, 0.05


def double_pendulum() -> Machine:
    """Two hinged bars, swinging about y; angle zero hangs down."""
    return Machine.model_validate(
        {
            "name": "double pendulum",
            "bodies": {
                "upper": {"mass": M1, "centre": [0, 0, -C1], "inertia": [I1, I1, 0.0]},
                "lower": {"mass": M2, "centre": [0, 0, -C2], "inertia": [I2, I2, 0.0]},
            },
            "joints": {
                "first": {"kind": "hinge", "child": "upper", "axis": [0, 1, 0]},
                "second": {
                    "kind": "hinge",
                    "parent": "upper",
                    "child": "lower",
                    "axis": [0, 1, 0],
                    "origin": [0, 0, -L1],
                },
            },
        }
    )


def lagrange_equations() -> Callable[..., Any]:
    """Accelerations of the double pendulum from its Lagrangian, by SymPy."""
    t = sp.symbols("t")
    a, b = sp.Function("a")(t), sp.Function("b")(t)
    x1, z1 = -C1 * sp.sin(a), -C1 * sp.cos(a)
    x2, z2 = -L1 * sp.sin(a) - C2 * sp.sin(a + b), -L1 * sp.cos(a) - C2 * sp.cos(a + b)
    kinetic = sum(m * (x.diff(t) ** 2 + z.diff(t) ** 2) / 2 for m, x, z in ((M1, x1, z1), (M2, x2, z2)))
    kinetic += I1 * a.diff(t) ** 2 / 2 + I2 * (a + b).diff(t) ** 2 / 2
    lagrangian = kinetic - 9.81 * (M1 * z1 + M2 * z2)
    equations = [lagrangian.diff(q.diff(t)).diff(t) - lagrangian.diff(q) for q in (a, b)]
    symbols = sp.symbols("q1 q2 v1 v2 w1 w2")
    swaps = [
        (a.diff(t, 2), symbols[4]),
        (b.diff(t, 2), symbols[5]),
        (a.diff(t), symbols[2]),
        (b.diff(t), symbols[3]),
        (a, symbols[0]),
        (b, symbols[1]),
    ]
    plain = [e.subs(swaps) for e in equations]
    system: Callable[..., Any] = sp.lambdify(symbols[:4], sp.linear_eq_to_matrix(plain, symbols[4:]), cse=True)

    def right(*state: float) -> np.ndarray:
        mass, force = system(*state)
        return np.linalg.solve(mass, force[:, 0])

    return right


@pytest.fixture(scope="module")
def oracle() -> Callable[..., np.ndarray]:
    """The SymPy equations under DOP853."""
    right = lagrange_equations()

    def solve(start: tuple[float, float], times: np.ndarray) -> np.ndarray:
        done = solve_ivp(
            lambda _, y: [y[2], y[3], *right(*y)],
            (0, times[-1]),
            [*start, 0, 0],
            "DOP853",
            times,
            rtol=1e-12,
            atol=1e-13,
        )
        return done.y.T

    return solve


@pytest.mark.parametrize("start", [(0.4, -0.2), (1.2, 0.5), (-1.2, 1.2)])
def test_double_pendulum_follows_its_lagrangian(oracle: Callable[..., np.ndarray], start: tuple[float, float]) -> None:
    track = simulate(double_pendulum(), 5.0, start={"first": start[0], "second": start[1]}, integrator="rk4", every=50)
    wanted = oracle(start, track.column("time"))
    assert np.abs(track.column("first.position") - wanted[:, 0]).max() < 1e-7
    assert np.abs(track.column("second.position") - wanted[:, 1]).max() < 1e-7


@pytest.mark.parametrize(("integrator", "order"), [("semi-implicit", 2), ("rk4", 4)])
def test_convergence_order(oracle: Callable[..., np.ndarray], integrator: str, order: int) -> None:
    wanted = oracle((0.9, 0.4), np.array([0.0, 1.0]))[-1, 0]
    errors = []
    for rate in (200.0, 400.0, 800.0):
        track = simulate(
            double_pendulum(),
            1.0,
            start={"first": 0.9, "second": 0.4},
            rate=rate,
            integrator=integrator,
            every=int(rate),
        )
        errors.append(abs(track.column("first.position")[-1] - wanted))
    slopes = np.log2(np.array(errors[:-1]) / np.array(errors[1:]))
    assert slopes == pytest.approx([order, order], abs=0.35)


def test_energy_is_kept_by_runge_kutta_for_a_minute() -> None:
    track = simulate(double_pendulum(), 60.0, start={"first": 1.0, "second": 0.5}, integrator="rk4", every=200)
    total = track.column("energy.kinetic") + track.column("energy.potential")
    assert np.abs(total - total[0]).max() < 1e-6 * abs(total[0])


def test_semi_implicit_energy_is_bounded_without_drift() -> None:
    track = simulate(double_pendulum(), 60.0, start={"first": 0.1, "second": 0.05}, every=20)
    total = track.column("energy.kinetic") + track.column("energy.potential")
    lowest = simulate(double_pendulum(), 0.01).column("energy.potential")[0]
    swing = (total - lowest) / (total[0] - lowest)
    assert np.abs(swing - 1.0).max() < 0.02
    assert abs(swing[-600:].mean() - swing[:600].mean()) < 1e-3


def test_hoist_swings_at_its_formula() -> None:
    """With the trolley free, w² = g (M + m) / (M l) for a point load; here with the load's own inertia."""
    source = read_machine(demo_source() / "machines" / "hoist.toml").model_dump()
    for joint in source["joints"].values():
        joint["damping"] = 0.0
    source["joints"]["trolley"]["limits"] = None
    source["joints"]["reel"] |= {"kind": "fixed", "origin": [0.0, 0.0, -4.0], "limits": None, "start": 0.0}
    source["drives"] = {}
    machine = Machine.model_validate(source)
    track = simulate(machine, 40.0, start={"cable": 0.01}, integrator="rk4", rate=500.0, every=5)
    angle, time = track.column("cable.position"), track.column("time")
    up = np.flatnonzero((angle[:-1] < 0) & (angle[1:] >= 0))
    crossings = time[up] - angle[up] * (time[up + 1] - time[up]) / (angle[up + 1] - angle[up])
    measured = 2 * math.pi / np.diff(crossings).mean()
    trolley, basket, cable = (machine.bodies[n] for n in ("trolley", "basket", "cable"))
    swinging = basket.mass + cable.mass
    first = basket.mass * (4.0 - basket.centre[2]) - cable.mass * cable.centre[2]
    about = (
        basket.mass * (4.0 - basket.centre[2]) ** 2
        + cable.mass * cable.centre[2] ** 2
        + basket.inertia[1]
        + cable.inertia[1]
    )
    formula = math.sqrt(9.81 * first / (about - first**2 / (trolley.mass + swinging)))
    assert measured == pytest.approx(formula, rel=2e-4)


@st.composite
def trees(draw: st.DrawFn) -> Machine:
    """Random trees of two to five bodies on random hinges and sliders, some welded."""
    count = draw(st.integers(2, 5))
    number = st.floats(-1.0, 1.0).map(lambda x: round(x, 3))
    bodies, joints = {}, {}
    for k in range(count):
        half = [0.1 + abs(draw(number)) for _ in range(3)]
        mass = 0.5 + abs(draw(number))
        inertia = [mass * (half[(a + 1) % 3] ** 2 + half[(a + 2) % 3] ** 2) / 3 for a in range(3)]
        bodies[f"b{k}"] = {"mass": mass, "centre": [draw(number) * 0.3 for _ in range(3)], "inertia": inertia}
        axis = [draw(number) for _ in range(3)]
        if sum(x * x for x in axis) < 0.05:
            axis = [0.0, 1.0, 0.0]
        joints[f"j{k}"] = {
            "kind": draw(st.sampled_from(["hinge", "hinge", "slider", "fixed"])) if k else "hinge",
            "parent": "ground" if k == 0 else f"b{draw(st.integers(0, k - 1))}", "child": f"b{k}", "axis": axis,
            "origin": [draw(number) for _ in range(3)], "turn": [draw(number) for _ in range(3)],
            "stiffness": draw(st.sampled_from([0.0, 5.0])) if k else 0.0,
        }  # fmt: skip
        if joints[f"j{k}"]["kind"] == "slider":
            joints[f"j{k}"]["stiffness"] = 40.0
    return Machine.model_validate({"name": "tree", "bodies": bodies, "joints": joints})


@settings(max_examples=25, deadline=None)
@given(trees(), st.integers(0, 2**31))
def test_random_trees_keep_energy_and_agree_with_their_kinetic_energy(machine: Machine, seed: int) -> None:
    """Energy from the file's own numbers stays; the mass matrix is the Hessian of the kinetic energy."""
    generator = np.random.default_rng(seed)
    model = build_model(machine)
    q, v = generator.uniform(-0.5, 0.5, (2, len(model.joints)))
    matrix = mass_matrix(model, q)
    position = dict(zip(model.joints, q.tolist(), strict=True))
    kinetic, _ = energies(machine, position, dict(zip(model.joints, v.tolist(), strict=True)))
    assert 0.5 * v @ matrix @ v == pytest.approx(kinetic, rel=1e-9, abs=1e-12)
    plant = Plant(model, 1, 1e-3, "rk4", threads=1)
    plant.position[0], plant.velocity[0] = q, v
    before = sum(energies(machine, position, dict(zip(model.joints, v.tolist(), strict=True))))
    plant.step(np.zeros((1, 0)), 500)
    then, speeds = (dict(zip(model.joints, x[0].tolist(), strict=True)) for x in (plant.position, plant.velocity))
    after = sum(energies(machine, then, speeds))
    scale = max(1.0, abs(before), abs(kinetic))
    assert after == pytest.approx(before, abs=2e-5 * scale)


def one_slider(**joint: object) -> Machine:
    """A two-kilogram body sliding along x, with whatever else is given."""
    drives = joint.pop("drives", {})
    return Machine.model_validate(
        {
            "bodies": {"mass": {"mass": 2.0, "drag_area": joint.pop("drag_area", 0.0)}},
            "joints": {"slide": {"kind": "slider", "child": "mass", "axis": [1, 0, 0], **joint}},
            "drives": drives,
        }
    )


def test_effort_drive_follows_its_lag_dead_time_and_limit() -> None:
    drive = {"push": {"joint": "slide", "limit": "10 N", "lag": "100 ms", "dead_time": "50 ms"}}
    plant = Plant(build_model(one_slider(drives=drive)), 1, 1e-3, threads=1)
    speeds = []
    for _ in range(500):
        plant.step(np.array([[25.0]]))
        speeds.append(plant.velocity[0, 0])
    t = np.maximum(np.arange(1, 501) * 1e-3 - 0.05, 0.0)
    wanted = 10.0 / 2.0 * (t - 0.1 * (1 - np.exp(-t / 0.1)))  # integral of a first-order rise to the limit
    assert np.abs(np.array(speeds) - wanted).max() < 5e-3


def test_speed_drive_reaches_its_speed_against_a_load() -> None:
    machine = read_machine(demo_source() / "machines" / "hoist.toml")
    plant = Plant(build_model(machine), 1, 4e-3, threads=1)
    plant.settle_drives(np.arange(1))
    at = plant.model.joints.index("reel")
    plant.step(np.zeros((1, 2)), 250)
    assert plant.position[0, at] == pytest.approx(4.0, abs=1e-3)  # the winch holds the load from the first moment
    plant.step(np.array([[0.0, -0.4]]), 500)
    assert plant.velocity[0, at] == pytest.approx(-0.4, abs=0.01)


def test_stop_holds_and_implicit_damping_is_stable_when_stiff() -> None:
    plant = Plant(build_model(one_slider(limits=(-0.5, 0.5), damping=1e5)), 1, 4e-3, threads=1)
    plant.velocity[0, 0] = 3.0
    plant.step(np.zeros((1, 0)), 500)
    assert abs(plant.velocity[0, 0]) < 1e-6
    plant = Plant(build_model(one_slider(limits=(-0.5, 0.5))), 1, 4e-3, threads=1)
    plant.velocity[0, 0] = 3.0
    deepest = 0.0
    for _ in range(400):
        plant.step(np.zeros((1, 0)))
        deepest = max(deepest, abs(plant.position[0, 0]))
    assert 0.5 < deepest < 0.53


def test_wind_drags_by_the_square_of_the_relative_speed() -> None:
    model = build_model(one_slider(drag_area=0.8))
    for wind, speed in ((5.0, 0.0), (5.0, 7.0), (-3.0, 0.0)):
        found = accelerations(model, np.zeros(1), np.array([speed]), wind=np.array([wind, 0.0, 0.0]))[0]
        relative = wind - speed
        assert found == pytest.approx(0.5 * 1.225 * 0.8 * relative * abs(relative) / 2.0, rel=1e-12)


def test_copies_do_not_depend_on_threads_or_neighbours() -> None:
    model = build_model(read_machine(demo_source() / "machines" / "hoist.toml"))
    commands = np.random.default_rng(3).uniform(-300, 300, (256, 2))
    results = []
    for threads, copies in ((1, 256), (2, 256), (1, 7)):
        plant = Plant(model, copies, 4e-3, threads=threads)
        plant.step(commands[:copies], 100)
        results.append(plant.position[:7].copy())
    assert np.array_equal(results[0], results[1])
    assert np.array_equal(results[0], results[2])


def free_hoist() -> Machine:
    """The hoist without damping, stops and drives."""
    source = read_machine(demo_source() / "machines" / "hoist.toml").model_dump()
    for joint in source["joints"].values():
        joint |= {"damping": 0.0, "limits": None}
    for body in source["bodies"].values():
        body["drag_area"] = 0.0
    return Machine.model_validate(source | {"drives": {}})


def test_sideways_momentum_is_conserved_without_sideways_forces() -> None:
    """Nothing pushes the undamped hoist along the rail, so the momentum along it stays zero while the basket swings."""
    machine = free_hoist()
    track = simulate(machine, 3.0, start={"cable": 0.5}, integrator="rk4", every=100)
    masses = {n: b.mass for n, b in machine.bodies.items()}
    from plucky_heron.dynamics.energy import poses

    joints = ("trolley", "cable", "reel")
    places = []
    for row in range(len(track.rows)):
        frames = poses(machine, {j: track.column(f"{j}.position")[row] for j in joints})
        centre = [masses[n] * (frames[n] @ [*b.centre, 1.0])[0] for n, b in machine.bodies.items()]
        places.append(sum(centre) / sum(masses.values()))
    assert np.abs(np.array(places) - places[0]).max() < 1e-9


def test_a_falling_load_falls_freely() -> None:
    track = simulate(free_hoist(), 0.5, integrator="rk4", every=100)
    wanted = 4.0 + 0.5 * 9.81 * track.column("time") ** 2
    np.testing.assert_allclose(track.column("reel.position"), wanted, rtol=1e-9)
    np.testing.assert_allclose(track.column("cable.position"), 0.0, atol=1e-12)


@pytest.mark.parametrize("stiffness", [50.0, 800.0])
def test_spring_and_damper_follow_the_closed_form(stiffness: float) -> None:
    damping, mass = 6.0, 2.0
    machine = one_slider(stiffness=stiffness, damping=damping, rest=0.2)
    track = simulate(machine, 2.0, integrator="rk4", every=20)
    rate, decay = math.sqrt(stiffness / mass - (damping / 2 / mass) ** 2), damping / 2 / mass
    t = track.column("time")
    wanted = 0.2 - 0.2 * np.exp(-decay * t) * (np.cos(rate * t) + decay / rate * np.sin(rate * t))
    np.testing.assert_allclose(track.column("slide.position"), wanted, atol=1e-8)


def test_a_varied_mass_is_the_same_as_another_file() -> None:
    """Setting a parameter of a copy gives what the file with that number gives."""
    source = read_machine(demo_source() / "machines" / "hoist.toml").model_dump()
    model = build_model(Machine.model_validate(source))
    rows = np.tile(model.row, (2, 1))
    model.vary(rows, np.array([1]), "basket.mass", np.array([80.0]))
    scale = 80.0 / source["bodies"]["basket"]["mass"]
    source["bodies"]["basket"]["mass"] = 80.0
    source["bodies"]["basket"]["inertia"] = tuple(scale * x for x in source["bodies"]["basket"]["inertia"])
    other = build_model(Machine.model_validate(source))
    nodes = slice(0, 3 * layout.NODE)
    changed = np.isclose(rows[1, nodes], other.row[nodes], rtol=1e-12)
    # stops that the file leaves open follow the nominal mass, everything else the copy's
    assert set(np.flatnonzero(~changed) % layout.NODE) <= {15, 16}
    np.testing.assert_array_equal(rows[0], model.row)
    q = np.array([0.2, 0.3, 3.0])
    np.testing.assert_allclose(mass_matrix(model, q, rows[1]), mass_matrix(other, q), rtol=1e-12)


def test_what_fails_in_the_second_thread_is_raised_in_the_first() -> None:
    second = SecondThread("test")
    done: list[int] = []
    for k in range(50):
        second.give(partial(done.append, k))
        second.wait()
    assert done == list(range(50))

    def wrong() -> None:
        raise StateError("wrong")

    second.give(wrong)
    with pytest.raises(StateError, match="wrong"):
        second.wait()
    second.give(lambda: done.append(50))  # it goes on afterwards
    second.wait()
    assert done[-1] == 50
    before = threading.active_count()
    second.end()
    while threading.active_count() >= before:
        time.sleep(0.001)


def test_threads_and_pieces_do_not_change_the_bits() -> None:
    problem = read_problem(demo_source(), "brace")
    ends = []
    for threads, took in ((1, 0.0), (2, 0.0), (2, 0.011), (2, 1.0)):
        plant = Plant(problem.model, 70, 2e-3, threads=threads, surroundings=problem.surroundings)
        plant.position[:, 2] += np.linspace(0.0, 0.05, 70)
        for _ in range(3):
            plant._took["step"] = took
            plant.step(np.zeros((70, len(problem.model.drives))), 20)
        ends.append(plant.position.copy())
    for end in ends[1:]:
        assert (end == ends[0]).all()
