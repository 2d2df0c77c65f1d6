"""Legs of an imported machine: which limbs its trunk may stand on, and a pose in which it stands on them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.wishes.poses import Array, Poses

STRETCHED = 0.85
"""Share of its whole length that a leg has when it stands: with bent knees it can push up and down."""
ROUNDS, DRAWN, KEPT = 25, 200, 20
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
    machine = poses.machine
    joints = joints_of(machine, leg)
    low, high = np.array([machine.joints[j].limits or (-np.pi, np.pi) for j in joints]).T
    rest, half = np.clip(0.0, low, high), 0.5 * (high - low)
    start, entries = poses.model.start, [poses.index(j) for j in joints]
    carried = sorted(carried_by(machine, machine.joints[leg].child))
    foot = min(carried, key=lambda b: float(poses.lowest(start[None], {b})[0]))
    corners, number = poses.corners[foot], poses.model.bodies.index(foot)
    middle, flat = corners.mean(axis=0), np.ptp(corners, axis=0)
    level = float(flat[:2].min() > flat[2] + 1e-9)
    """Whether it has a sole, which should lie as it does at the start."""
    began = poses.frames(start[None])[0]
    hip = began[poses.model.bodies.index(machine.joints[leg].child)][:3]
    sole = began[number][9:12]
    beside = float((began[number][:3] + began[number][3:].reshape(3, 3) @ middle)[1])

    def placed(drawn: Array) -> tuple[Array, Array, Array]:
        """How far off its place a foot is, how far below its hip, and how tilted, each (B,)."""
        positions = np.tile(start, (len(drawn), 1))
        positions[:, entries] = drawn
        frame = poses.frames(poses.followed(positions))[:, number]
        at = frame[:, :3] + frame[:, 3:].reshape(-1, 3, 3) @ middle
        deep = hip[2] - frame[:, 2] - (frame[:, 9:12] @ corners.T).min(axis=1)
        return np.hypot(at[:, 0] - hip[0], at[:, 1] - beside), deep, level * (1.0 - frame[:, 9:12] @ sole)

    length = max(float(placed(_least(lambda drawn: -placed(drawn)[1], low, high)[None])[1][0]), 1e-6)

    def cost(drawn: Array) -> Array:
        off, deep, tilt = placed(drawn)
        away = np.mean(((drawn - rest) / half) ** 2, axis=1)
        return np.asarray((deep / length - STRETCHED) ** 2 + (off / length) ** 2 + 0.1 * tilt + 0.0005 * away)

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
    """Hinges and sliders of a limb that move by themselves, in the order of the machine."""
    followers = {c.joint for c in machine.couplings.values()}
    carried = carried_by(machine, machine.joints[leg].child)
    return [
        n
        for n, j in machine.joints.items()
        if j.child in carried and j.kind in ("hinge", "slider") and n not in followers
    ]
