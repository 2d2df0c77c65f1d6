"""Mass properties of bodies from their shapes, filled evenly: mass, centre, inertia."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

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
