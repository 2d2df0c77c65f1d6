"""Setting a pose by hand: a point of a body is taken somewhere, and the joints give way."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from plucky_heron.dynamics.energy import poses
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.machine.parts import Pin, Rod
from plucky_heron.machine.schema import GROUND
from plucky_heron.units import parse

Array = np.ndarray
_DAMPING = 1e-3
_STEPS = 12


def moved(model: Model, position: Array, coordinates: Sequence[int], change: Array) -> Array:
    """The position (entries,) with some coordinates moved by `change` (k,), m or rad; those of a ball by a turn about the body's own axes."""
    new = np.array(position, dtype=float)
    for i, delta in zip(coordinates, change, strict=True):
        if model.tree.kind[i] < layout.BALL_X:
            new[i] += delta
    for _, entries in model.attitudes():
        turn = np.zeros(3)
        for i, delta in zip(coordinates, change, strict=True):
            if i in entries[:3]:
                turn[i - entries[0]] = delta
        angle = float(np.linalg.norm(turn))
        if angle > 0.0:
            half = np.sin(0.5 * angle) / angle * turn
            x, y, z, s = new[entries]
            c = np.cos(0.5 * angle)
            turned = np.array([
                s * half[0] + x * c + y * half[2] - z * half[1],
                s * half[1] + y * c + z * half[0] - x * half[2],
                s * half[2] + z * c + x * half[1] - y * half[0],
                s * c - x * half[0] - y * half[1] - z * half[2],
            ])  # fmt: skip
            new[entries] = turned / np.linalg.norm(turned)
    return new


def joint_above(model: Model, body: str) -> str:
    """The nearest joint towards the ground that moves the body; "" if none does."""
    machine = model.machine
    while body != GROUND:
        name = machine.joint_above(body)
        if machine.joints[name].letters:
            return name
        body = machine.joints[name].parent
    return ""


def coordinates_of(model: Model, joint: str) -> list[int]:
    """Indices of a joint's coordinates."""
    return [i for i, name in enumerate(model.joints) if name.partition(".")[0] == joint]


def chain(model: Model, body: str) -> list[int]:
    """Coordinates of all joints between a body and the ground, without those that let the whole machine go anywhere."""
    machine, found = model.machine, []
    while body != GROUND:
        name = machine.joint_above(body)
        if machine.joints[name].kind not in ("free", "planar"):
            found += coordinates_of(model, name)
        body = machine.joints[name].parent
    return found


def taken(
    model: Model, position: Array, body: str, point: Array, place: Array, plane: Array, coordinates: Sequence[int]
) -> Array:
    """The position in which `point` (3, in the body's axes) lies as near to `place` (2) in a view as the joints allow.

    `plane` (2, 3) are the view's right and up. Damped least squares (C. W. Wampler, IEEE Trans. SMC 16, 1986) with the
    columns by differences; within the stops; joints that follow others follow.
    """
    machine = model.machine
    point = np.append(point, 1.0)

    def shown(at: Array) -> Array:
        return np.asarray(plane @ (poses(machine, model.pose(at))[body] @ point)[:3])

    now = np.array(position, dtype=float)
    count = len(coordinates)
    for _ in range(_STEPS if count else 0):
        here = shown(now)
        miss = place - here
        if np.abs(miss).max() < 1e-6:
            break
        columns = np.empty((2, count))
        for k in range(count):
            small = np.zeros(count)
            small[k] = 1e-6
            columns[:, k] = (shown(moved(model, now, coordinates, small)) - here) / 1e-6
        step = columns.T @ np.linalg.solve(columns @ columns.T + _DAMPING * np.eye(2), miss)
        longest = float(np.abs(step).max())
        now = within_stops(model, moved(model, now, coordinates, step * min(1.0, 0.5 / max(longest, 1e-12))))
    return following(model, now, coordinates)


def within_stops(model: Model, position: Array) -> Array:
    """The position (entries,) with hinges and sliders brought back between their stops."""
    new = np.array(position, dtype=float)
    for name, joint in model.machine.joints.items():
        if joint.limits is not None:
            i = model.joints.index(name)
            new[i] = np.clip(new[i], *joint.limits)
    return new


def following(model: Model, position: Array, held: Sequence[int] = ()) -> Array:
    """The position (entries,) with coupled joints where their leaders put them, and loops closed; what is `held` gives way last."""
    new = np.array(position, dtype=float)
    for coupling in model.machine.couplings.values():
        i, d = model.joints.index(coupling.follows), model.joints.index(coupling.joint)
        if coupling.kind == "ratio":
            new[d] = coupling.ratio * new[i] + parse(coupling.offset, model.machine.joints[coupling.joint].unit)
        else:
            across = coupling.wheelbase * np.cos(new[i]) - coupling.left * np.sin(new[i])
            new[d] = np.arctan2(coupling.wheelbase * np.sin(new[i]), across)
    if tied(model):
        plant = Plant(model, 1, 1e-3, threads=1)
        plant.position[0] = new
        plant.close_loops(np.zeros(1, dtype=np.int64), held)
        new = plant.position[0].copy()
    return new


def tied(model: Model) -> dict[str, Rod | Pin]:
    """What closes loops, by name."""
    return {name: force for name, force in model.machine.forces.items() if isinstance(force, Rod | Pin)}


def free_directions(model: Model, position: Array) -> Array:
    """Columns (n, freedom): the ways in which the coordinates may move together where rods and pins close loops."""
    n, machine = len(model.joints), model.machine

    def ends(at: Array) -> Array:
        frames, found = poses(machine, model.pose(at)), []
        for force in tied(model).values():
            one, two = (frames[b] @ np.append(p, 1.0) for b, p in ((force.a, force.at_a), (force.b, force.at_b)))
            apart = (two - one)[:3]
            found.append(apart if isinstance(force, Pin) else np.array([np.linalg.norm(apart)]))
        return np.concatenate(found) if found else np.zeros(0)

    columns = np.empty((len(ends(position)), n))
    for i in range(n):
        small = np.array([1e-6])
        columns[:, i] = (ends(moved(model, position, [i], small)) - ends(moved(model, position, [i], -small))) / 2e-6
    _, sizes, ways = np.linalg.svd(columns)
    rank = int((sizes > 1e-6 * max(1.0, sizes.max(initial=0.0))).sum())
    return np.asarray(ways[rank:].T)


def starts_of(model: Model, position: Array) -> dict[str, tuple[float, ...]]:
    """What the `start` of each joint would have to be for this position (entries,): attitudes as roll, pitch, yaw."""
    found = {}
    attitudes = dict(model.attitudes())
    for name, joint in model.machine.joints.items():
        if not joint.letters:
            continue
        numbers = [float(position[i]) for i in coordinates_of(model, name)]
        if name in attitudes:
            x, y, z, s = position[attitudes[name]]
            numbers[-3:] = [
                float(np.arctan2(2.0 * (s * x + y * z), 1.0 - 2.0 * (x * x + y * y))),
                float(np.arcsin(np.clip(2.0 * (s * y - z * x), -1.0, 1.0))),
                float(np.arctan2(2.0 * (s * z + x * y), 1.0 - 2.0 * (y * y + z * z))),
            ]
        found[name] = tuple(numbers)
    return found
