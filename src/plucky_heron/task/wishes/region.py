"""What a tip can reach, and a region of it in which every place can be reached."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from plucky_heron.task.wishes.look import HOLDS, Look, nice
from plucky_heron.task.wishes.poses import SAMPLES

Array = np.ndarray

CELLS = (1, 24, 14, 9)
"""Along each coordinate, where none, one, two or three of them vary."""
SEEDS = 80
SLOPE = 1e-5
"""Change of a joint by which it is seen how the tip moves."""
MARGIN = 0.02
"""Share of the reach by which the rim of what can be reached is kept away from."""
MOST_ELBOWS = 2
"""Elbows whose side is kept; further ones have room enough by the others."""
THIN = 0.1
"""Share of the reach below which a box is tried to be made wider: the cells are too coarse for it."""
FLAT = 0.02
"""Share of the reach below which a coordinate is taken to be one value."""


@dataclass(frozen=True)
class Region:
    """A box in the coordinates of the limb's first joint: about its axis, or along the world's axes.

    Attributes
    ----------
    names : tuple of str
        bearing, radius, height about an axis; x, y, z else.
    low, high : (3,)
        Its bounds, rad and m.
    turned : bool
        Whether it is about an axis.
    origin, axes : (3,), (3, 3)
        Where the axis passes, and right, ahead and along (rows).
    reach : float
        How far the tip gets from there.
    tips : (N, 3)
        Places that were reached.
    homes : dict
        For each joint of the limb the part of its way that it is on while the tip is in the region.
    bent : dict
        For each elbow where it is straight, and to which side it is bent (1 or -1).
    """

    names: tuple[str, ...]
    low: Array
    high: Array
    turned: bool
    origin: Array
    axes: Array
    reach: float
    tips: Array
    homes: dict[str, tuple[float, float]]
    bent: dict[str, tuple[float, float]]

    def formulas(self, prefix: str) -> tuple[str, str, str]:
        """World x, y, z of a place given by set-points ``prefix.NAME``; those that have one value stand as numbers."""
        held = [
            f"{prefix}.{n}" if high > low else f"{0.5 * (low + high):.6g}"
            for n, low, high in zip(self.names, self.low, self.high, strict=True)
        ]
        if not self.turned:
            return held[0], held[1], held[2]
        angle, radius, height = held
        turning = f"{radius} * cos({angle})", f"{radius} * sin({angle})", height
        found = []
        for k in range(3):
            at = [(1.0, f"{self.origin[k]:.6g}")] if abs(self.origin[k]) > 1e-6 else []
            found.append(summed(at + [(self.axes[i, k], part) for i, part in enumerate(turning)]) or "0")
        return found[0], found[1], found[2]

    def varying(self) -> list[int]:
        """Axes of the world along which the tip gets anywhere."""
        return [k for k in range(3) if np.ptp(self.tips[:, k]) > FLAT * self.reach]


def summed(parts: list[tuple[float, str]]) -> str:
    """A sum of parts with factors as a person writes it; what has no factor or is nothing is left out."""
    text = ""
    for factor, part in parts:
        if abs(factor) > 1e-6 and part != "0":
            size = "" if abs(abs(factor) - 1.0) < 1e-6 else f"{abs(factor):.6g} * "
            text += (" - " if factor < 0.0 else " + ") + size + part
    return text[3:] if text.startswith(" + ") else "-" + text[3:] if text else ""


@functools.lru_cache(maxsize=8)
def region_of(look: Look) -> Region | None:
    """The region of a limb's tip, from poses that its drives hold and that are clear of the ground; None without any."""
    joints, body = look.reaching, look.limb[1]
    if not joints:
        return None
    positions, good = look.drawn(joints, 0.9)
    good &= look.lowest(positions) > look.ground + 0.01
    if look.site.gravity > 0.1:
        loads = look.loads(positions[good])
        mine = [look.driven.index(j) for j in joints]
        good[good] = (loads[:, mine] < HOLDS).all(axis=1)
    tips = look.points(positions, body, look.tip)
    first = look.machine.joints[joints[0]]
    frames = look.frames(look.model.start[None])[0]
    carrier = frames[look.model.bodies.index(first.child)]
    origin = carrier[:3]
    turned = (
        first.kind == "hinge" and joints[0] not in look.loop_joints and body in look.machine.carried_by(first.child)
    )
    axes: Array = np.eye(3)
    if turned:
        axis = carrier[3:].reshape(3, 3) @ np.array(first.axis)
        side = np.eye(3)[0] if abs(axis[0]) < 0.9 else np.eye(3)[1]
        side = side - (side @ axis) * axis
        side /= np.linalg.norm(side)
        axes = np.round(np.array([side, np.cross(axis, side), axis]), 9)
        # in front of it: what it reaches over its back it could mostly reach by turning round, and a policy need not learn both
        away = (tips - origin) @ axes.T
        turned_by = positions[:, look.index(joints[0])]
        ahead = away[:, 0] * np.cos(turned_by) + away[:, 1] * np.sin(turned_by)
        left = away[:, 1] * np.cos(turned_by) - away[:, 0] * np.sin(turned_by)
        straight = axes @ (look.points(look.sampled([], 1.0, 1), body, look.tip)[0] - origin)
        front = straight[:2] if np.linalg.norm(straight[:2]) > 0.05 * np.linalg.norm(straight) else np.array([1.0, 0.0])
        start = float(look.model.start[look.index(joints[0])])
        c, s = np.cos(-start), np.sin(-start)
        front = np.array([c * front[0] - s * front[1], s * front[0] + c * front[1]])
        good &= ahead * front[0] + left * front[1] > 0.0
    bent = sides_of(look, joints, body, positions[good])
    for joint, (straight, side) in bent.items():
        good &= side * (positions[:, look.index(joint)] - straight) > 0.0
    if good.sum() < SAMPLES // 100:
        return None
    tips = tips[good]
    away = (tips - origin) @ axes.T
    reach = float(np.linalg.norm(away, axis=1).max())
    if turned:
        places = np.stack([np.arctan2(away[:, 1], away[:, 0]), np.hypot(away[:, 0], away[:, 1]), away[:, 2]], axis=1)
        scale = np.array([1.0, reach, reach])
        names: tuple[str, ...] = ("bearing", "radius", "height")
    else:
        places, scale, names = tips, np.full(3, reach), ("x", "y", "z")
    low, high = largest_box(places, scale, 1 if turned else None)

    def reached(points: Array) -> Array:
        """Whether the tip comes to places given in the region's coordinates (K, 3)."""
        at = points
        if turned:
            flat = np.stack([points[:, 1] * np.cos(points[:, 0]), points[:, 1] * np.sin(points[:, 0]), points[:, 2]], axis=1)  # fmt: skip
            at = origin + flat @ axes
        seeds = positions[good][[int(np.argmin(np.linalg.norm(tips - a, axis=1))) for a in at]]
        return comes_to(look, joints, body, seeds, at, 2e-3 * reach)

    margin = np.array([0.0, MARGIN * reach, MARGIN * reach]) if turned else np.full(3, MARGIN * reach)
    low, high = drawn_in(low, high, margin, reached)
    low, high = widened(low, high, margin, reached, scale * THIN)
    within = ((places >= low - 1e-9) & (places <= high + 1e-9))[:, high > low].all(axis=1)
    there = positions[good][within] if within.any() else positions[good]
    spans = np.quantile(there[:, [look.index(j) for j in joints]], [0.1, 0.9], axis=0).T
    homes = {j: (float(a), float(b)) for j, (a, b) in zip(joints, spans, strict=True)}
    return Region(names, low, high, turned, origin, axes, reach, tips, homes, bent)


def sides_of(look: Look, joints: list[str], body: str, positions: Array) -> dict[str, tuple[float, float]]:
    """For each elbow where it is straight, and the side to which it is bent in most of some positions (B, entries).

    A place is mostly reached with an elbow bent to either side. A policy takes one, and where that comes to a stop it stays.
    An elbow is a hinge along the axis of the hinge before it; straight is where it takes the tip farthest from that one.
    """
    frames = look.frames(look.model.start[None])[0]
    axes = {}
    for joint in joints:
        turn = frames[look.model.bodies.index(look.machine.joints[joint].child), 3:].reshape(3, 3)
        axes[joint] = turn @ np.array(look.machine.joints[joint].axis)
    straight: dict[str, float] = {}
    if look.loops:
        return {}
    for before, joint in itertools.pairwise(joints):
        kinds = {look.machine.joints[before].kind, look.machine.joints[joint].kind}
        if kinds != {"hinge"} or abs(float(axes[before] @ axes[joint])) < 0.99:
            continue
        low, high = look.span(joint)
        tried = np.tile(look.model.start, (181, 1))
        tried[:, look.index(joint)] = np.linspace(low, high, 181)
        hub = look.points(tried, look.machine.joints[before].child, np.zeros(3))
        away = np.linalg.norm(look.points(tried, body, look.tip) - hub, axis=1)
        straight[joint] = float(tried[np.argmax(away), look.index(joint)])
        if len(straight) == MOST_ELBOWS:
            break
    if not straight:
        return {}
    sides = np.array([positions[:, look.index(joint)] > at for joint, at in straight.items()])
    counts = np.bincount(sides.T @ (2 ** np.arange(len(sides))), minlength=2 ** len(sides))
    # of sides that are as good as each other the positive one
    best = max(range(len(counts)), key=lambda k: (round(counts[k] / max(counts.max(), 1), 1), k))
    return {joint: (at, 1.0 if best >> k & 1 else -1.0) for k, (joint, at) in enumerate(straight.items())}


def comes_to(look: Look, joints: list[str], body: str, seeds: Array, places: Array, near: float) -> Array:
    """Whether the tip comes within `near` of places (K, 3), each looked for from a pose (K, entries).

    Damped least squares (C. W. Wampler, IEEE Trans. SMC 16, 1986) within the stops, all places at once.
    """
    columns = [look.index(j) for j in joints]
    low, high = np.array([look.span(j, 0.95) for j in joints]).T
    now, count = seeds.copy(), len(joints)
    for _ in range(25):
        trials = np.repeat(now, count + 1, axis=0)
        for k, column in enumerate(columns):
            trials[k + 1 :: count + 1, column] += SLOPE
        tips = look.points(look.followed(trials), body, look.tip).reshape(len(places), count + 1, 3)
        miss = places - tips[:, 0]
        slopes = (tips[:, 1:] - tips[:, :1]).transpose(0, 2, 1) / SLOPE
        damped = slopes @ slopes.transpose(0, 2, 1) + 1e-4 * look_size(slopes) * np.eye(3)
        step = (slopes.transpose(0, 2, 1) @ np.linalg.solve(damped, miss[:, :, None]))[:, :, 0]
        step *= np.minimum(1.0, 0.5 / np.maximum(np.abs(step).max(axis=1), 1e-12))[:, None]
        now[:, columns] = np.clip(now[:, columns] + step, low, high)
    return np.asarray(np.linalg.norm(places - look.points(look.followed(now), body, look.tip), axis=1) < near)


def look_size(slopes: Array) -> Array:
    """Size of each set of slopes, as a factor for damping (K, 1, 1)."""
    return np.asarray((slopes**2).sum(axis=(1, 2))[:, None, None] + 1e-12)


def drawn_in(low: Array, high: Array, margin: Array, reached: Callable[[Array], Array]) -> tuple[Array, Array]:
    """The box with those faces moved inwards, a part at a time, beyond which something cannot be reached.

    Looked at are the corners, the middles of edges and faces, and the middle of the box widened by `margin`.
    """
    low, high = low.copy(), high.copy()
    axes = np.flatnonzero(high > low)
    if not len(axes):
        return low, high
    for _ in range(40):
        wide = high - low
        grid, points = _looked_at(low, high, margin)
        missed = ~reached(points)
        if not missed.any():
            break
        worst = max(
            ((axis, side) for axis in range(len(axes)) for side in (0.0, 1.0)),
            key=lambda face: (missed & (grid[:, face[0]] == face[1])).sum() - 0.9 * (missed & (grid[:, face[0]] == 1.0 - face[1])).sum(),
        )  # fmt: skip
        axis = axes[worst[0]]
        if worst[1] == 0.0:
            low[axis] += 0.1 * wide[axis]
        else:
            high[axis] -= 0.1 * wide[axis]
    return rounded_in(low, high)


def _looked_at(low: Array, high: Array, margin: Array) -> tuple[Array, Array]:
    """Corners, middles of edges and faces, and the middle of a box widened by `margin`: as shares of it, and as points."""
    axes = np.flatnonzero(high > low)
    grid = np.array(list(itertools.product((0.0, 0.5, 1.0), repeat=len(axes)))).reshape(-1, len(axes))
    points = np.tile(0.5 * (low + high), (len(grid), 1))
    points[:, axes] = (low - margin)[axes] + grid * (high - low + 2.0 * margin)[axes]
    return grid, points


def widened(
    low: Array, high: Array, margin: Array, reached: Callable[[Array], Array], thin: Array
) -> tuple[Array, Array]:
    """The box with the faces of those coordinates that are narrower than `thin` moved outwards, as long as all of it is reached."""
    low, high = low.copy(), high.copy()
    for axis in np.flatnonzero((high > low) & (high - low < thin) & (margin > 0.0)):
        part = 0.05 * thin[axis]
        for side in (0, 1):
            for _ in range(20):
                tried = (low.copy(), high.copy())
                tried[side][axis] += part if side else -part
                if tried[1][axis] - tried[0][axis] > thin[axis] or not reached(_looked_at(*tried, margin)[1]).all():
                    break
                low, high = tried
    return rounded_in(low, high)


def rounded_in(low: Array, high: Array) -> tuple[Array, Array]:
    """The box with bounds that a person would write, none farther out: to a fiftieth of its width or so; of one value three digits."""
    found = []
    for a, b in zip(low, high, strict=True):
        if b > a:
            step = nice((b - a) / 50.0, (1.0, 2.0, 5.0, 10.0))
            a, b = np.ceil(a / step - 1e-9) * step, np.floor(b / step + 1e-9) * step
        found.append((float(f"{a:.6g}"), float(f"{b:.6g}")))
    return np.array(found)[:, 0], np.array(found)[:, 1]


def largest_box(places: Array, scale: Array, radius: int | None = None) -> tuple[Array, Array]:
    """Bounds (k,), (k,) of a large box all of whose cells hold one of the places (N, k); `radius` is the coordinate that is one.

    Coordinates that hardly vary beside `scale` get their middle. From each of some full cells the box grows by whole faces,
    one side after the other, as long as all cells of the new face are full; of these boxes the largest is taken.
    """
    least, most = places.min(axis=0), places.max(axis=0)
    wide = (most - least) > FLAT * scale
    low, high = 0.5 * (least + most), 0.5 * (least + most)
    axes = np.flatnonzero(wide)
    if not len(axes):
        return low, high
    many = CELLS[len(axes)]
    width = (most - least)[axes] / many
    cells = np.minimum(((places[:, axes] - least[axes]) / width).astype(int), many - 1)
    full = np.zeros((many,) * len(axes), dtype=bool)
    full[tuple(cells.T)] = True
    places_full = np.argwhere(full)
    seeds = places_full[:: max(1, len(places_full) // SEEDS)]

    def volume(box: tuple[Array, Array]) -> float:
        size = float(np.prod(box[1] - box[0] + 1))
        if radius is not None and radius in axes:  # a ring is larger the farther out it is
            k = axes.tolist().index(radius)
            size *= float(least[radius] + 0.5 * (box[0][k] + box[1][k] + 1) * width[k])
        return size

    best = max((_grown(full, seed) for seed in seeds), key=volume)
    low[axes] = least[axes] + best[0] * width
    high[axes] = least[axes] + (best[1] + 1) * width
    # the faces at the rim of what was reached stand back by half a cell, as their cells are only partly reached
    low[axes] += 0.5 * width
    high[axes] -= 0.5 * width
    same = high[axes] - low[axes] < 1e-9
    high[axes[same]] = low[axes[same]]
    return low, high


def _grown(full: Array, seed: Array) -> tuple[Array, Array]:
    low, high = seed.copy(), seed.copy()
    growing = True
    while growing:
        growing = False
        for axis in range(full.ndim):
            for side in (0, 1):
                face = [slice(a, b + 1) for a, b in zip(low, high, strict=True)]
                at = low[axis] - 1 if side == 0 else high[axis] + 1
                if not 0 <= at < full.shape[axis]:
                    continue
                face[axis] = slice(at, at + 1)
                if full[tuple(face)].all():
                    (low if side == 0 else high)[axis] = at
                    growing = True
    return low, high
