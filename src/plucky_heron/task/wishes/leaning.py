"""Vehicles that fall over by themselves: which way they lean, how quickly, and how they move while they are held upright."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plucky_heron.machine.schema import Machine
from plucky_heron.task.wishes.poses import STEP, Poses

PUSH = 0.02
"""Speed of all coordinates (rad/s, m/s) by which a vehicle is pushed to see whether it stands."""
LEANS = 0.3
"""Lean (rad) from which it is falling; it grows from a third of it in the time that is measured."""
WATCHED, ON_FEET = 4.0, 1.5
"""Seconds for which it is watched: a tall one falls slowly, and legs whose drives are idle fold up."""
HELD_FOR = 200.0
"""Inertia (kg m²) for every N m that could tilt it: under its whole torque it leans by 0.04 rad in four seconds."""


@dataclass(frozen=True)
class Fall:
    """How a vehicle falls over that nothing balances.

    Attributes
    ----------
    ways : tuple of str
        Its leans: "pitch", "roll" or, what stands on a ball or a single wheel, both; "turn" of a planar base.
    seconds : float
        Time in which a lean grows to three times itself.
    """

    ways: tuple[str, ...]
    seconds: float


def fall_of(poses: Poses, base: str, base_joint: str, seconds: float = WATCHED) -> Fall | None:
    """How a vehicle with idle drives falls over from its start; None if it stands."""
    letters = poses.machine.joints[base_joint].letters
    body = poses.model.bodies.index(base)
    plant = poses.plant(2)
    plant.velocity[1] += PUSH
    idle = np.zeros((2, len(poses.model.drives)))
    planar = "turn" in letters
    if planar and "z" not in letters:
        return None
    was, since, step = 0.0, 0.0, 2
    for k in range(int(seconds / STEP / step)):
        plant.step(idle, step)
        plant.locate()
        if planar:
            leans = {"turn": plant.position[:, poses.index(f"{base_joint}.turn")]}
            leans = {"turn": leans["turn"] - poses.model.start[poses.index(f"{base_joint}.turn")]}
        else:
            leans = {"roll": plant.attitude[:, body, 0], "pitch": plant.attitude[:, body, 1]}
        worst = {letter: float(np.abs(lean).max()) for letter, lean in leans.items()}
        now, time = max(worst.values()), (k + 1) * step * STEP
        if was < LEANS / 3.0 <= now:
            since = time
        if now > LEANS:
            # the first lean tells: what lies on its face has turned about everything
            return Fall(tuple(w for w, lean in worst.items() if lean > LEANS / 3.0), max(time - since, STEP))
        was = now
    return None


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
