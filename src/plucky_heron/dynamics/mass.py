"""Mass properties of bodies from their shapes, filled evenly: mass, centre, inertia."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import permutations

import numpy as np
from scipy.spatial.transform import Rotation

from plucky_heron.dynamics.shapes import surface_triangles
from plucky_heron.errors import StateError
from plucky_heron.machine.parts import Shape
from plucky_heron.machine.urdf import rotation

Array = np.ndarray


def volume_moments(triangles: Array) -> tuple[float, Array, Array]:
    """Volume (m3), first moments (3,) and second moments (3, 3) about the origin of what triangles (k, 3, 3) enclose.

    Sum over the tetrahedra between the origin and each face (F. Tonon, J. Math. Stat. 1, 2005).
    """
    a, b, c = triangles[:, 0], triangles[:, 1], triangles[:, 2]
    six = np.einsum("ki,ki->k", a, np.cross(b, c))
    volume = float(six.sum()) / 6.0
    total = a + b + c
    first = (six[:, None] * total).sum(axis=0) / 24.0
    second = np.einsum("k,ki,kj->ij", six, total, total)
    for corner in (a, b, c):
        second += np.einsum("k,ki,kj->ij", six, corner, corner)
    return volume, first, second / 120.0


def solid(
    shapes: Sequence[Shape], *, mass: float | None = None, density: float | None = None
) -> tuple[float, Array, Array]:
    """Mass (kg), centre (3,) and inertia (6,: xx, yy, zz, xy, xz, yz about the centre) of shapes filled evenly.

    Where shapes lie in one another, what they share counts twice.

    Raises
    ------
    StateError
        No shape with a volume, or neither mass nor density.
    """
    if (mass is None) == (density is None):
        raise StateError("mass properties: wanted either a mass or a density")
    volume, first, second = 0.0, np.zeros(3), np.zeros((3, 3))
    for shape in shapes:
        corners = surface_triangles(shape) @ rotation(*shape.turn).T + np.array(shape.at)
        v, f, s = volume_moments(corners)
        volume, first, second = volume + v, first + f, second + s
    if not volume > 0.0:
        raise StateError("mass properties: the body has no shape with a volume")
    even = mass / volume if mass is not None else float(density or 0.0)
    centre = first / volume
    about = even * (second - volume * np.outer(centre, centre))
    inertia = np.trace(about) * np.eye(3) - about
    picked = inertia[[0, 1, 2, 0, 0, 1], [0, 1, 2, 1, 2, 2]]
    picked[np.abs(picked) < 1e-9 * np.abs(picked).max()] = 0.0
    return even * volume, np.where(np.abs(centre) < 1e-9, 0.0, centre), picked


def principal(inertia: Sequence[float]) -> tuple[Array, Array]:
    """Principal values (3,) of an inertia (6,: xx, yy, zz, xy, xz, yz), and the turn (3,: roll, pitch, yaw, rad) of their axes.

    Of all orders and signs of the axes, those nearest to the body's own: without products nothing is turned.
    """
    xx, yy, zz, xy, xz, yz = inertia
    tensor = np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]])
    if max(abs(xy), abs(xz), abs(yz)) <= 1e-9 * max(abs(xx), abs(yy), abs(zz)):
        return np.array([xx, yy, zz]), np.zeros(3)
    values, axes = np.linalg.eigh(tensor)
    orders = [list(order) for order in permutations(range(3))]
    order = max(orders, key=lambda p: float(np.abs(np.diag(axes[:, p])).sum()))
    values, axes = values[order], axes[:, order]
    axes = axes * np.where(np.diag(axes) < 0.0, -1.0, 1.0)
    if np.linalg.det(axes) < 0.0:
        axes[:, np.argmin(np.abs(np.diag(axes)))] *= -1.0
    return values, Rotation.from_matrix(axes).as_euler("xyz")


def inertia_of(values: Sequence[float], turn: Sequence[float]) -> Array:
    """Inertia (6,: xx, yy, zz, xy, xz, yz) with these principal values (3,) about axes turned by roll, pitch, yaw (rad)."""
    axes = rotation(*(float(angle) for angle in turn))
    tensor = axes @ np.diag(values) @ axes.T
    picked = tensor[[0, 1, 2, 0, 0, 1], [0, 1, 2, 1, 2, 2]]
    picked[np.abs(picked) < 1e-9 * np.abs(picked).max(initial=0.0)] = 0.0
    return np.asarray(picked)


def equal_box(mass: float, values: Sequence[float] | Array) -> Array:
    """Sides (3,), m, of the solid box of this mass (kg) with these principal values; zero where no solid has them."""
    first, second, third = values
    squares = np.array([second + third - first, first + third - second, first + second - third])
    return np.sqrt(np.maximum(6.0 * squares / mass, 0.0)) if mass > 0.0 else np.zeros(3)
