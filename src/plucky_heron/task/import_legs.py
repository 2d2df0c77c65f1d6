"""Legs of an imported machine: which limbs its trunk may stand on, and a pose in which it stands on them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.wishes.look import Look
from plucky_heron.task.wishes.poses import Array, Poses

SPREAD = 0.6
"""Of legs that spread out from the trunk: how far beside and how far below its hip a foot stands, as a share of how deep it could reach."""
LIMBS = 4
"""Limbs that spread out and could bear a trunk: with fewer it may be a hand, or arms."""
BALANCED = 3
"""Times that the feet of a machine with fewer legs than that are moved below the middle of all mass."""
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
    poses = Look(machine, Site())
    start = poses.model.start[None]
    moving = {n: j for n, j in machine.joints.items() if j.letters and j.parent != GROUND}
    carried = {n: machine.carried_by(j.child) for n, j in moving.items()}
    trunk = set(machine.bodies).difference(*carried.values())
    limbs = [n for n, j in moving.items() if j.parent in trunk]
    depth = {n: float(poses.lowest(start, carried[n])[0]) for n in limbs}
    long = [n for n in limbs if np.isfinite(depth[n]) and len(set(joints_of(machine, n)) - set(poses.wheels)) >= 2]
    if len(long) < 2:
        return []
    if spread := _spread(poses, long, trunk):
        return spread
    low = min(depth.values())
    root = next(j.child for j in machine.joints.values() if j.parent == GROUND)
    rest = [float(poses.lowest(start, trunk)[0]), float(poses.frames(start)[0, poses.model.bodies.index(root), 2])]
    rest += [depth[n] for n in limbs if n not in long]
    return [n for n in long if depth[n] < low + LEVEL * (min(rest) - low)] if min(rest) > low else []


def _spread(poses: Look, limbs: list[str], trunk: set[str]) -> list[str]:
    """Limbs that spread out level round a trunk at the start, alike, and could stand below it: legs of what crawls."""
    machine, start = poses.machine, poses.model.start[None]
    frames = poses.frames(start)[0]
    middle = np.mean([frames[poses.model.bodies.index(b), :3] for b in trunk], axis=0)
    under = float(poses.lowest(start, trunk)[0])
    found, ways = [], []
    for leg in limbs:
        hip, way = _outward(poses, leg)
        level = abs(way[2]) < 0.5 * float(np.linalg.norm(way[:2])) and (hip - middle)[:2] @ way[:2] > 0.0
        if level and _Leg(poses, leg).deepest > hip[2] - under + 1e-6:
            found.append(leg)
            ways.append(way[:2] / np.linalg.norm(way[:2]))
    lengths = [len(joints_of(machine, leg)) for leg in found]
    round_about = len(found) >= LIMBS and float(np.linalg.norm(np.mean(ways, axis=0))) < 0.5
    return found if round_about and len(set(lengths)) == 1 else []


def _outward(poses: Poses, leg: str) -> tuple[Array, Array]:
    """Where a limb begins, and from there to the middle of its farthest corners, (3,) each, at the start."""
    machine = poses.machine
    frames = poses.frames(poses.model.start[None])[0]
    hip = frames[poses.model.bodies.index(machine.joints[leg].child)][:3]
    corners = [np.zeros((1, 3))]
    for body in sorted(machine.carried_by(machine.joints[leg].child)):
        at = frames[poses.model.bodies.index(body)]
        corners.append(at[:3] + poses.corners[body] @ at[3:].reshape(3, 3).T - hip)
    away = np.concatenate(corners)
    far = np.linalg.norm(away, axis=1)
    return hip, np.asarray(away[far >= 0.98 * far.max()].mean(axis=0))


def standing(machine: Machine, legs: list[str]) -> dict[str, float]:
    """Positions of the legs' joints (rad, m) in which each foot is below its hip, the leg bent, and a flat foot level.

    Of legs that spread out, each foot stands beside its hip. Where there are few legs the feet stand below the middle of all mass, or
    it tips over. Where a leg cannot, as near as it can; drawn with the same numbers every time.
    """
    look = Look(machine, Site())
    found = [_Leg(look, leg) for leg in legs]
    shift: Array = np.zeros(2)
    stands = {joint: at for leg in found for joint, at in leg.stance(shift).items()}
    for _ in range(BALANCED if 0 < len(found) < LIMBS else 0):
        position = look.model.start.copy()
        position[[look.index(j) for j in stands]] = list(stands.values())
        positions = look.followed(position[None])
        feet = np.mean([leg.placed(positions[:, leg.entries])[0][0] for leg in found], axis=0)
        shift = shift + look.middles(positions)[0, :2] - feet
        stands = {joint: at for leg in found for joint, at in leg.stance(shift).items()}
    return stands


class _Leg:
    """One leg, from its hip to its foot.

    Attributes
    ----------
    spread : bool
        Whether it reaches out level at the start, not down.
    deepest : float
        How far below its hip its foot can be at most, m.
    """

    def __init__(self, poses: Look, leg: str) -> None:
        machine = poses.machine
        self.poses, self.joints = poses, [j for j in joints_of(machine, leg) if j not in poses.wheels]
        self.low, self.high = np.array([machine.joints[j].limits or (-np.pi, np.pi) for j in self.joints]).T
        self.entries = [poses.index(j) for j in self.joints]
        self.hip, way = _outward(poses, leg)
        self.spread = bool(abs(way[2]) < 0.5 * np.linalg.norm(way[:2]))
        self.way = way[:2] / max(float(np.linalg.norm(way[:2])), 1e-9)
        start = poses.model.start
        frames = poses.frames(start[None])[0]
        carried = [b for b in sorted(machine.carried_by(machine.joints[leg].child)) if len(poses.corners[b])]

        def far(body: str) -> Array:
            at = frames[poses.model.bodies.index(body)]
            points = at[:3] + poses.corners[body] @ at[3:].reshape(3, 3).T - self.hip
            return np.asarray(np.linalg.norm(points, axis=1) if self.spread else -points[:, 2])

        foot = max(carried, key=lambda b: float(far(b).max()), default=machine.joints[leg].child)
        corners, self.number = poses.corners[foot], poses.model.bodies.index(foot)
        self.corners = corners if len(corners) else np.zeros((1, 3))
        self.middle, flat = self.corners.mean(axis=0), np.ptp(self.corners, axis=0)
        if len(corners) and np.ptp(far(foot)) > 1.5 * flat.min():  # a shank without a foot stands on its end
            self.middle = corners[far(foot) > far(foot).max() - 0.1 * np.ptp(far(foot))].mean(axis=0)
        self.level = float(flat[:2].min() > flat[2] + 1e-9)
        """Whether it has a sole, which should lie as it does at the start."""
        self.sole = frames[self.number][9:12]
        at = frames[self.number]
        self.beside = float((at[:3] + at[3:].reshape(3, 3) @ self.middle)[1])
        self.deepest = max(
            float(self.placed(_least(lambda d: -self.placed(d)[1], self.low, self.high)[None])[1][0]), 1e-6
        )

    def placed(self, drawn: Array) -> tuple[Array, Array, Array]:
        """Where a foot is (B, 2), how far below its hip (B,), and how tilted (B,)."""
        positions = np.tile(self.poses.model.start, (len(drawn), 1))
        positions[:, self.entries] = drawn
        frame = self.poses.frames(self.poses.followed(positions))[:, self.number]
        at = frame[:, :3] + frame[:, 3:].reshape(-1, 3, 3) @ self.middle
        deep = self.hip[2] - frame[:, 2] - (frame[:, 9:12] @ self.corners.T).min(axis=1)
        return at[:, :2], deep, self.level * (1.0 - frame[:, 9:12] @ self.sole)

    def stance(self, shift: Array) -> dict[str, float]:
        """Where its joints stand, with the foot a way (2,) from where it would be."""
        rest, half = np.clip(0.0, self.low, self.high), 0.5 * (self.high - self.low)
        place = shift + np.array([self.hip[0], self.beside])
        if self.spread:
            place = shift + self.hip[:2] + SPREAD * self.deepest * self.way

        def cost(drawn: Array) -> Array:
            at, deep, tilt = self.placed(drawn)
            off = np.linalg.norm(at - place, axis=1)
            away = np.mean(((drawn - rest) / half) ** 2, axis=1)
            depth = SPREAD if self.spread else STRETCHED
            return np.asarray(
                (deep / self.deepest - depth) ** 2 + (off / self.deepest) ** 2 + 0.1 * tilt + 0.0005 * away
            )

        best = _least(cost, self.low, self.high)
        return {joint: round(float(value), 2) + 0.0 for joint, value in zip(self.joints, best, strict=True)}


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
    carried = machine.carried_by(machine.joints[leg].child)
    return [
        n
        for n, j in machine.joints.items()
        if j.child in carried and j.kind in ("hinge", "slider") and n not in followers
    ]
