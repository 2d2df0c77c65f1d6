"""Vehicles that fall over by themselves: which way they lean, how quickly, and how they move while they are held upright."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site, Terrain
from plucky_heron.task.wishes.poses import STEP, Array, Poses

PUSH = 0.02
"""Speed of all coordinates (rad/s, m/s) by which a vehicle is pushed to see whether it stands."""
LEANS = 0.3
"""Lean (rad) from which it is falling; it grows from a third of it in the time that is measured."""
WATCHED = 4.0
"""Seconds for which it is watched: a tall one falls slowly."""
HELD_FOR = 200.0
"""Inertia (kg m²) for every N m that could tilt it: under its whole torque it leans by 0.04 rad in four seconds."""


@dataclass(frozen=True)
class Fall:
    """How a vehicle falls over that nothing balances.

    Attributes
    ----------
    ways : tuple of str
        Its leans: "pitch", "roll" or, what stands on a ball or a single wheel, both; "turn" of a planar base.
    upright : tuple of float
        Those angles (rad) at the start, where it stands on end.
    seconds : float
        Time in which a lean grows to three times itself.
    """

    ways: tuple[str, ...]
    upright: tuple[float, ...]
    seconds: float


def fall_of(poses: Poses, base: str, base_joint: str) -> Fall | None:
    """How a vehicle with idle drives falls over from its start; None if it stands. It is asked on level ground: on a ramp all roll and pitch."""
    letters = poses.machine.joints[base_joint].letters
    poses = Poses(poses.machine, levelled(poses))
    body = poses.model.bodies.index(base)
    plant = poses.plant(2)
    plant.velocity[1] += PUSH
    idle = np.zeros((2, len(poses.model.drives)))
    planar = "turn" in letters
    if planar and "z" not in letters:
        return None
    was, since, step = 0.0, 0.0, 2
    names = ("turn",) if planar else ("roll", "pitch")

    def angles() -> Array:
        plant.locate()
        found = plant.position[:, [poses.index(f"{base_joint}.turn")]] if planar else plant.attitude[:, body, :2]
        return np.asarray(found.copy())

    first = angles()
    for k in range(int(WATCHED / STEP / step)):
        plant.step(idle, step)
        leans = np.arctan2(np.sin(angles() - first), np.cos(angles() - first))
        now, time = float(np.abs(leans).max()), (k + 1) * step * STEP
        if was < LEANS / 3.0 <= now:
            since = time
        if now > LEANS:
            # the first lean tells: what lies on its face has turned about everything
            ways = [i for i in range(len(names)) if np.abs(leans[:, i]).max() > LEANS / 3.0]
            upright = tuple(round(float(first[0, i]), 6) + 0.0 for i in ways)
            return Fall(tuple(names[i] for i in ways), upright, max(time - since, STEP))
        was = now
    return None


def levelled(poses: Poses) -> Site:
    """The site with level ground under the start, and nothing on it."""
    site = poses.site
    if site.terrain is None:
        return site
    low = float(poses.lowest(poses.model.start[None])[0])
    flat = Terrain(kind="flat", level=low if np.isfinite(low) else poses.ground, surface=site.terrain.surface)
    return site.model_copy(update={"terrain": flat, "solids": {}, "walls": {}})


def steadied(poses: Poses, base: str) -> Poses:
    """The same machine with so much inertia against leaning that it stays upright whatever its drives do."""
    machine: Machine = poses.machine
    start = poses.frames(poses.model.start[None])[0][poses.model.bodies.index(base)]
    up = start[3:].reshape(3, 3).T @ np.array([0.0, 0.0, 1.0])
    torque = sum(float(d.limit) for d in machine.drives.values() if d.limit is not None)
    height = float(poses.heights(poses.model.start[None])[0]) - poses.ground if np.isfinite(poses.ground) else 1.0
    added = HELD_FOR * (torque + poses.mass * poses.site.gravity * max(height, 0.0)) * (np.eye(3) - np.outer(up, up))
    own = machine.bodies[base].inertia
    more = (added[0, 0], added[1, 1], added[2, 2], added[0, 1], added[0, 2], added[1, 2])
    body = machine.bodies[base].model_copy(update={"inertia": tuple(a + b for a, b in zip(own, more, strict=True))})
    held = machine.model_copy(update={"bodies": {**machine.bodies, base: body}})
    return Poses(held, poses.site)
