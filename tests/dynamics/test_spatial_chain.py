"""A spatial chain of five mixed joints against its equations derived by SymPy and integrated by SciPy's DOP853."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
import sympy as sp
from scipy.integrate import solve_ivp

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.plant import Plant, mass_matrix
from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine

GRAVITY = 9.81
CHAIN = (
    # kind, axis, origin in the parent, mass, centre, inertia xx yy zz xy xz yz
    ("hinge", (0, 0, 1), (0.1, -0.2, 1.0), 3.0, (0.1, 0.05, -0.2), (0.05, 0.06, 0.03, 0.004, -0.002, 0.001)),
    ("slider", (1, 0, 0), (0.3, 0.0, 0.2), 1.5, (0.0, 0.1, 0.1), (0.02, 0.03, 0.025, 0.0, 0.003, 0.0)),
    ("hinge", (0, 0.6, 0.8), (0.0, 0.2, -0.1), 2.0, (0.2, 0.0, 0.1), (0.03, 0.02, 0.04, 0.001, 0.002, -0.003)),
    ("hinge", (1, 0, 0), (0.4, 0.0, 0.1), 1.0, (0.05, -0.15, 0.0), (0.01, 0.008, 0.012, 0.0, 0.001, 0.0)),
    ("slider", (0, -0.6, 0.8), (0.1, 0.1, 0.3), 0.7, (0.0, 0.0, 0.2), (0.004, 0.005, 0.003, 0.0005, 0.0, 0.0002)),
)


def machine() -> Machine:
    """The chain as a machine file would say it."""
    bodies, joints = {}, {}
    for k, (kind, axis, origin, mass, centre, inertia) in enumerate(CHAIN):
        bodies[f"b{k}"] = {"mass": mass, "centre": centre, "inertia": inertia}
        joints[f"j{k}"] = {"kind": kind, "child": f"b{k}", "axis": axis, "origin": origin}
        if k:
            joints[f"j{k}"]["parent"] = f"b{k - 1}"
    return validate(Machine, {"bodies": bodies, "joints": joints}, "chain")


def turned(axis: sp.Matrix, angle: sp.Symbol) -> sp.Matrix:
    """Rotation by Rodrigues' formula."""
    x, y, z = axis
    cross = sp.Matrix([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return sp.eye(3) + sp.sin(angle) * cross + (1 - sp.cos(angle)) * cross * cross


@pytest.fixture(scope="module")
def equations() -> tuple[Callable[..., Any], Callable[..., Any], Callable[..., Any]]:
    """Mass matrix, its derivatives by each coordinate, and the gradient of the potential, from the Lagrangian."""
    q = sp.symbols("q0:5")
    rotation, place = sp.eye(3), sp.zeros(3, 1)
    turning = sp.zeros(3, 5)
    mass, potential = sp.zeros(5, 5), sp.Integer(0)
    for k, (kind, axis, origin, m, centre, inertia) in enumerate(CHAIN):
        along = sp.Matrix([sp.nsimplify(v) for v in axis])
        place = place + rotation * sp.Matrix([sp.nsimplify(v) for v in origin])
        if kind == "hinge":
            turning = turning.copy()
            turning[:, k] = rotation * along
            rotation = rotation * turned(along, q[k])
        else:
            place = place + rotation * along * q[k]
        middle = place + rotation * sp.Matrix([sp.nsimplify(v) for v in centre])
        xx, yy, zz, xy, xz, yz = (sp.nsimplify(v) for v in inertia)
        own = sp.Matrix([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]])
        moving, spinning = middle.jacobian(q), rotation.T * turning
        mass += sp.nsimplify(m) * moving.T * moving + spinning.T * own * spinning
        potential += sp.nsimplify(m) * sp.Float(GRAVITY) * middle[2]
    slopes = [mass.diff(v) for v in q]
    return (
        sp.lambdify([q], mass, cse=True),
        sp.lambdify([q], slopes, cse=True),
        sp.lambdify([q], sp.Matrix([potential]).jacobian(q), cse=True),
    )


def accelerations(
    equations: tuple[Callable[..., Any], Callable[..., Any], Callable[..., Any]], q: np.ndarray, v: np.ndarray
) -> np.ndarray:
    """M a = -dM/dt v + 1/2 d(v' M v)/dq - dV/dq (Lagrange)."""
    mass, slopes, pull = (np.asarray(f(q), dtype=float) for f in equations)
    rate = np.einsum("kij,k->ij", slopes, v)
    return np.linalg.solve(mass, -rate @ v + 0.5 * np.einsum("kij,i,j->k", slopes, v, v) - pull.ravel())


def test_mass_matrix_and_accelerations_are_those_of_the_lagrangian(
    equations: tuple[Callable[..., Any], Callable[..., Any], Callable[..., Any]],
) -> None:
    model = build_model(machine(), gravity=GRAVITY)
    generator = np.random.default_rng(3)
    for _ in range(5):
        q, v = generator.uniform(-1.5, 1.5, 5), generator.uniform(-3.0, 3.0, 5)
        plant = Plant(model, 1, 1e-3)
        plant.position[0], plant.velocity[0] = q, v
        found, _ = plant.free_accelerations()
        assert mass_matrix(model, q) == pytest.approx(np.asarray(equations[0](q), dtype=float), rel=1e-10, abs=1e-12)
        assert found == pytest.approx(accelerations(equations, q, v), rel=1e-9, abs=1e-9)


def test_the_chain_moves_as_dop853_says(
    equations: tuple[Callable[..., Any], Callable[..., Any], Callable[..., Any]],
) -> None:
    """Half a second of tumbling with the fourth-order steps, and the second order of the semi-implicit ones."""
    start = np.array([0.3, 0.1, -0.6, 0.8, 0.05]), np.array([1.0, -0.4, 2.0, -1.5, 0.3])
    wanted = solve_ivp(
        lambda _, y: np.concatenate([y[5:], accelerations(equations, y[:5], y[5:])]),
        (0.0, 0.5), np.concatenate(start), method="DOP853", rtol=1e-12, atol=1e-12,
    ).y[:5, -1]  # fmt: skip
    model = build_model(machine(), gravity=GRAVITY)

    def after(step: float, integrator: str) -> float:
        plant = Plant(model, 1, step, integrator)
        plant.position[0], plant.velocity[0] = start
        plant.step(np.zeros((1, 0)), round(0.5 / step))
        return float(np.abs(plant.position[0] - wanted).max())

    assert after(1e-3, "rk4") < 1e-8
    errors = [after(step, "semi-implicit") for step in (1e-3, 5e-4, 2.5e-4)]
    assert errors[2] < 2e-6
    assert np.log2(errors[0] / errors[2]) == pytest.approx(4.0, abs=0.5)
