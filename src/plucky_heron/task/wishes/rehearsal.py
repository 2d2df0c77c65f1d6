"""What a short rehearsal with chance at the drives shows of how far and how fast a machine gets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plucky_heron.task.wishes.poses import STEP, Array, Poses

COPIES, FEW = 64, 12
"""Copies of a rehearsal, and of one that only shows whether it has to be longer."""
SECONDS = 4.0
HELD = 0.4
"""Seconds for which a drawn command is held."""
TOO_SHORT, LONG_ENOUGH = 1.8, 1.2
"""Speed at the end of a rehearsal, half-way through taken as one, above which it was too short, and up to which a longer one tells no more.

Twice is steady acceleration.
"""
MUCH_FASTER = 1.5
"""Speed in a longer rehearsal, that in the usual one taken as one, above which the longer one counts."""
LEAST_PACE = 1e-3
"""Speed (m/s) that counts as going anywhere."""


@dataclass(frozen=True)
class Travel:
    """What a rehearsal showed, SI units.

    Attributes
    ----------
    joints : dict
        Speed that each coordinate came to in nine of ten copies.
    ahead, across, turning, upward : float
        The same of the body that travels: speeds in its own axes, and its fastest rate of turning.
    way : float
        How far the farthest copy came.
    turning_most : float
        The same, also of copies that held one command throughout, at an edge of what its drives take.
    turning_slow : float
        Rate of turning that was met while it hardly moved; little of what has to drive to turn.
    least, most : (3,)
        Where the body came at all.
    rise : float
        Time (s) in which copies that held one command came to six tenths of their speed: nine of ten of them are no faster.
    seconds : float
        How long the rehearsal was.
    """

    joints: dict[str, float]
    ahead: float
    across: float
    upward: float
    turning: float
    turning_most: float
    turning_slow: float
    way: float
    least: Array
    most: Array
    rise: float
    seconds: float


def rehearse_slow(poses: Poses, body: str, longest: float, coarsest: float) -> Travel:
    """A rehearsal, and a longer one where the speed of the body still grows at its end and no longer does in a longer one.

    A rover is as fast as it gets within seconds, a ship within minutes; what nothing brakes gets faster without end.
    """
    first, growth = rehearse(poses, body)
    if growth <= TOO_SHORT:
        return first
    found, seconds, step = first, SECONDS, STEP
    while growth > LONG_ENOUGH and 4.0 * seconds <= longest:
        seconds, step = 4.0 * seconds, min(4.0 * step, coarsest)
        found, growth = rehearse(poses, body, seconds, step, FEW)
    faster = max(found.ahead, found.across) > MUCH_FASTER * max(first.ahead, first.across)
    return rehearse(poses, body, seconds, step)[0] if growth <= TOO_SHORT and faster else first


def rehearse(
    poses: Poses, body: str, seconds: float = SECONDS, step: float = STEP, copies: int = COPIES
) -> tuple[Travel, float]:
    """A rehearsal: drawn commands held for a while in half of the copies, one command throughout in the others.

    Also by how much the body was faster at the end than half-way, where one command was held.
    """
    generator = np.random.default_rng(11)
    plant = poses.plant(copies, step)
    low, high = np.array([poses.machine.command_range(d) for d in poses.model.drives]).reshape(-1, 2).T
    edges = np.where(generator.random((copies, len(low))) < 0.5, low, high)
    if len(low):
        edges[copies // 2], edges[copies // 2 + 1] = low, high
    substeps, fastest = 10, np.zeros((copies, len(poses.model.joints)))
    own, reached, pace, rate = np.zeros((copies, 6)), [], [], []
    base = poses.model.bodies.index(body) if body else 0
    first = plant.locate()[:, base, :3].copy()
    commands = edges.copy()
    for k in range(round(seconds / step / substeps)):
        if k % max(round(HELD * seconds / SECONDS / step / substeps), 1) == 0:
            commands[: copies // 2] = generator.uniform(low, high, (copies // 2, len(low)))
        plant.step(commands, substeps)
        plant.active[:] &= np.isfinite(plant.velocity).all(axis=1) & (np.abs(plant.velocity) < 1e4).all(axis=1)
        alive = plant.active[:, None]
        fastest = np.maximum(fastest, np.where(alive, np.abs(plant.velocity), 0.0))
        plant.locate()
        own = np.maximum(own, np.where(alive, np.abs(plant.own[:, base]), 0.0))
        pace.append(np.linalg.norm(plant.own[:, base, :2], axis=1))
        rate.append(np.where(plant.active, np.abs(plant.own[:, base, 5]), 0.0))
        reached.append(np.where(alive, plant.located[:, base, :3] - first, 0.0))
    places = np.array(reached)
    drawn = slice(0, copies // 2)
    joints = dict(zip(poses.model.joints, np.quantile(fastest[drawn], 0.9, axis=0).tolist(), strict=True))
    quick = np.quantile(own, 0.9, axis=0)
    rates = np.quantile(own[drawn], 0.9, axis=0)
    slow = np.array(pace) < 0.1 * max(float(quick[:2].max()), 1e-9)
    turns = np.array(rate)[slow]
    way = float(np.linalg.norm(places[:, :, :2], axis=2).max())
    course = np.quantile(np.where(plant.active, np.array(pace), 0.0)[:, copies // 2 :], 0.9, axis=1)
    growth = float(course[-1] / max(course[len(course) // 2 - 1], 1e-9)) if course[-1] > LEAST_PACE else 1.0
    rise = float(np.argmax(course >= 0.6 * course.max()) + 1) * substeps * step
    travel = Travel(
        joints, float(quick[0]), float(quick[1]), float(quick[2]), float(rates[3:].max()), float(quick[5]),
        float(np.quantile(turns, 0.9)) if turns.size else 0.0, way,
        places.min(axis=(0, 1)), places.max(axis=(0, 1)), rise, seconds,
    )  # fmt: skip
    return travel, growth
