"""Handles of shapes and joints: where they stand on a body, and what dragging one makes of the machine file."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from plucky_heron.machine.parts import Shape
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.urdf import rotation

Array = np.ndarray
Change = tuple[tuple[str | int, ...], object]
"""Key in the machine file and what is written there."""


@dataclass(frozen=True)
class Handle:
    """Something on a body that can be taken hold of.

    Attributes
    ----------
    at, along : (3,)
        Its place in the world, and the direction it moves in; without one it moves in the plane of the view.
    index
        Which number of the size it changes; -1: the place of a shape, -2: the origin of the joint above.
    factor
        Change of the number a metre along; `side` moves the shape by half of that, so that its other end stays.
    """

    body: str
    shape: int
    index: int
    at: Array
    along: Array | None = None
    factor: float = 1.0
    side: float = 0.0
    share: float = 1.0
    """How much of the direction is seen, squared."""


def handles_of(machine: Machine, body: str, frames: dict[str, Array], towards: Array) -> Iterator[Handle]:
    """The handles of a body seen from `towards` (3): its shapes' sizes and places, and the origin of its joint."""
    placed = frames[body]
    for k, shape in enumerate(machine.bodies[body].shapes):
        turned = placed[:3, :3] @ rotation(*shape.turn)
        centre = placed[:3, :3] @ np.array(shape.at) + placed[:3, 3]
        for index, local, direction, factor, side in _ends(shape, turned.T @ towards):
            along = turned @ direction
            share = 1.0 - float(along @ towards) ** 2
            if share > 0.12:
                yield Handle(body, k, index, centre + turned @ local, along, factor, side, share)
        yield Handle(body, k, -1, centre)
    joint = machine.joints[machine.joint_above(body)]
    place = (frames[joint.parent] @ np.array([*joint.origin, 1.0]))[:3]
    yield Handle(body, -1, -2, place)


def _ends(shape: Shape, eye: Array) -> Iterator[tuple[int, Array, Array, float, float]]:
    """Number, place, direction, factor and side of each end of a shape, in its own axes; `eye` points to the viewer."""
    x, y, z = np.eye(3)
    s = shape.size
    across = x if abs(eye[0]) < abs(eye[1]) else y
    if shape.kind == "box":
        for k, axis in enumerate((x, y, z)):
            for sign in (1.0, -1.0):
                yield k, sign * 0.5 * s[k] * axis, sign * axis, 1.0, sign
    elif shape.kind == "sphere":
        flat = z if abs(eye[2]) < 0.7 else across
        yield 0, s[0] * flat, flat, 1.0, 0.0
    elif shape.kind in ("capsule", "cylinder"):
        cap = s[0] if shape.kind == "capsule" else 0.0
        for sign in (1.0, -1.0):
            yield 1, sign * (0.5 * s[1] + cap) * z, sign * z, 1.0, sign
        yield 0, s[0] * across, across, 1.0, 0.0
    elif shape.kind == "bucket":
        for sign in (1.0, -1.0):
            yield 2, sign * 0.5 * s[2] * z, sign * z, 1.0, sign
        yield 0, 0.5 * (s[0] * across + s[2] * z), across, 2.0, 0.0
        yield 1, 0.5 * (s[1] * across - s[2] * z), across, 2.0, 0.0


def changes(machine: Machine, frames: dict[str, Array], handle: Handle, way: Array, grain: float) -> list[Change]:
    """What the file becomes when a handle is dragged by `way` (3, world, in the plane of the view).

    Sizes and places are rounded to `grain` metres.
    """
    if handle.index == -2:
        name = machine.joint_above(handle.body)
        joint = machine.joints[name]
        turned = np.eye(3) if joint.parent == GROUND else frames[joint.parent][:3, :3]
        return [(("joints", name, "origin"), _point(np.array(joint.origin) + turned.T @ way, grain))]
    shape = machine.bodies[handle.body].shapes[handle.shape]
    key: tuple[str | int, ...] = ("bodies", handle.body, "shapes", handle.shape)
    turned = frames[handle.body][:3, :3]
    if handle.along is None:
        return [((*key, "at"), _point(np.array(shape.at) + turned.T @ way, grain))]
    far = float(way @ handle.along) / handle.share
    before = shape.size[handle.index]
    size = max(grain, round((before + handle.factor * far) / grain) * grain)
    found: list[Change] = [((*key, "size", handle.index), _length(size))]
    if handle.side:
        shift = 0.5 * handle.side * (size - before) * (rotation(*shape.turn) @ _axis(shape, handle))
        found.append(((*key, "at"), _point(np.array(shape.at) + shift, 0.5 * grain)))
    return found


def _axis(shape: Shape, handle: Handle) -> Array:
    return np.asarray(np.eye(3)[handle.index if shape.kind == "box" else 2])


def _point(place: Array, grain: float) -> list[str]:
    return [_length(round(float(v) / grain) * grain) for v in place]


def _length(value: float) -> str:
    return f"{value + 0.0:.6g} m"
