"""Coordinates that nothing resists: a mass without a size on its own axis, a frame that carries nothing."""

from __future__ import annotations

import numpy as np

from plucky_heron.dynamics.energy import poses
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import mass_matrix
from plucky_heron.machine.schema import Machine

Array = np.ndarray

LEAST_SHARE = 1e-9
"""Inertia about an axis, of that about a point on it, below which it is a rounding error: of a thin rod it is a thousand times more."""
ROUNDING = 1e-12
"""The same as a share of mass times squared distance from the origin of the world: what is left of sums of such terms."""


def without_inertia(model: Model) -> list[str]:
    """Coordinates on which nothing has mass, or inertia about their axis, in the start pose: their acceleration is anything."""
    machine = model.machine
    diagonal = np.diag(mass_matrix(model, model.start))
    frames = poses(machine, model.pose(model.start))
    far = max(float(np.linalg.norm(frame[:3, 3])) for frame in frames.values())
    found = []
    for i, coordinate in enumerate(model.joints):
        joint = machine.joints[coordinate.partition(".")[0]]
        mass, about = _carried(machine, frames, joint.child)
        turns = machine.coordinate_unit(coordinate) == "rad"
        least = LEAST_SHARE * about + ROUNDING * mass * far**2 if turns else LEAST_SHARE * mass
        if not diagonal[i] > least:
            found.append(coordinate)
    return found


def _carried(machine: Machine, frames: dict[str, Array], body: str) -> tuple[float, float]:
    """Mass (kg) of a body with all that it carries, and its second moment about the body's origin (kg m²)."""
    mass = about = 0.0
    origin = frames[body][:3, 3]
    for name in machine.carried_by(body):
        part, frame = machine.bodies[name], frames[name]
        away = frame[:3, :3] @ np.array(part.centre) + frame[:3, 3] - origin
        mass += part.mass
        about += part.mass * float(away @ away) + 0.5 * float(sum(part.inertia[:3]))
    return mass, about
