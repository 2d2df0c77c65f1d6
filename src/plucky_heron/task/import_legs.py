"""Legs of an imported machine: which limbs its trunk may stand on, and a pose in which it stands on them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.wishes.poses import Array, Poses

STRETCHED = 0.85
"""Share of its whole length that a leg has when it stands: with bent knees it can push up and down."""
ROUNDS, DRAWN, KEPT = 30, 300, 20
"""Of the search for a standing pose: rounds of drawn poses, each about the best of the last."""
LEVEL = 0.1
"""Share of the legs' length by which their lowest points may differ."""


def legs_of(machine: Machine) -> list[str]:
    """Limbs that a trunk may stand on: of two joints at least, that reach equally far below it, and below all else, at the start.

    Returns
    -------
    list of str
        The first joint of each.
    """
    poses = Poses(machine, Site())
    start = poses.model.start[None]
    moving = {n: j for n, j in machine.joints.items() if j.letters and j.parent != GROUND}
    carried = {n: carried_by(machine, j.child) for n, j in moving.items()}
    trunk = set(machine.bodies).difference(*carried.values())
    limbs = [n for n, j in moving.items() if j.parent in trunk]
    depth = {n: float(poses.lowest(start, carried[n])[0]) for n in limbs}
    long = [n for n in limbs if np.isfinite(depth[n]) and len(joints_of(machine, n)) >= 2]
    if len(long) < 2:
        return []
    low = min(depth.values())
    root = next(j.child for j in machine.joints.values() if j.parent == GROUND)
    rest = [float(poses.lowest(start, trunk)[0]), float(poses.frames(start)[0, poses.model.bodies.index(root), 2])]
    rest += [depth[n] for n in limbs if n not in long]
    return [n for n in long if depth[n] < low + LEVEL * (min(rest) - low)] if min(rest) > low else []


def carried_by(machine: Machine, body: str) -> set[str]:
    """A body and all that hangs on it."""
    found = {body}
    while more := {j.child for j in machine.joints.values() if j.parent in found} - found:
        found |= more
    return found


def standing(machine: Machine, legs: list[str]) -> dict[str, float]:
    """Positions of the legs' joints (rad, m) in which each foot is below its hip, the leg bent, and a flat foot level.

    Where a leg cannot, as near as it can; drawn with the same numbers every time.
    """
    poses = Poses(machine, Site())
    found: dict[str, float] = {}
    for leg in legs:
        found |= _stance(poses, leg)
    return found


def _stance(poses: Poses, leg: str) -> dict[str, float]:
    """Where the joints of one leg stand."""
    joints = joints_of(poses.machine, leg)
    carried = carried_by(poses.machine, poses.machine.joints[leg].child)
    low, high = np.array([poses.machine.joints[j].limits or (-np.pi, np.pi) for j in joints]).T
    rest, half = np.clip(0.0, low, high), 0.5 * (high - low)

    def height(drawn: Array) -> Array:
        return -_below(poses, leg, joints, carried, drawn)[2]

    length = -float(height(_least(height, low, high)[None])[0])

    def cost(drawn: Array) -> Array:
        ahead, aside, deep, tilt = _below(poses, leg, joints, carried, drawn)
        away = np.mean(((drawn - rest) / half) ** 2, axis=1)
        return np.asarray(
            (deep / length - STRETCHED) ** 2 + (ahead**2 + aside**2) / length**2 + 0.1 * tilt + 0.003 * away
        )

    best = _least(cost, low, high)
    return {joint: round(float(value), 2) + 0.0 for joint, value in zip(joints, best, strict=True)}


def _least(cost: Callable[[Array], Array], low: Array, high: Array) -> Array:
    """The best of drawn rows between bounds: each round is drawn about the best of the last."""
    generator = np.random.default_rng(3)
    drawn = generator.uniform(low, high, (5 * DRAWN, len(low)))
    for _ in range(ROUNDS):
        best = drawn[np.argsort(cost(drawn))[:KEPT]]
        spread = np.maximum(best.std(axis=0), 1e-4)
        drawn = np.clip(best.mean(axis=0) + 1.5 * spread * generator.normal(size=(DRAWN, len(low))), low, high)
        drawn[0] = best[0]
    return np.asarray(best[0])


def joints_of(machine: Machine, leg: str) -> list[str]:
    """Hinges and sliders of a limb, in the order of the machine."""
    carried = carried_by(machine, machine.joints[leg].child)
    return [n for n, j in machine.joints.items() if j.child in carried and j.kind in ("hinge", "slider")]


def _below(poses: Poses, leg: str, joints: list[str], carried: set[str], drawn: Array) -> tuple[Array, Array, Array, Array]:  # fmt: skip
    """How far ahead of and beside its hip a foot is, how far below, and how much more tilted than at the start, each (B,)."""
    positions = np.tile(poses.model.start, (len(drawn), 1))
    start = positions[:1].copy()
    for k, joint in enumerate(joints):
        positions[:, poses.index(joint)] = drawn[:, k]
    low = {b: float(poses.lowest(start, {b})[0]) for b in carried}
    foot = min(low, key=lambda b: low[b])
    middle = poses.corners[foot].mean(axis=0)
    at, then = poses.points(positions, foot, middle), poses.points(start, foot, middle)[0]
    hip = poses.frames(start)[0, poses.model.bodies.index(poses.machine.joints[leg].child)]
    depth = hip[2] - poses.lowest(positions, {foot})
    turned, before = (poses.frames(p)[:, poses.model.bodies.index(foot), 9:12] for p in (positions, start))
    flat = np.ptp(poses.corners[foot], axis=0)
    level = 1.0 - turned @ before[0] if flat[:2].min() > flat[2] + 1e-9 else np.zeros(len(drawn))
    return at[:, 0] - hip[0], at[:, 1] - then[1], depth, level
