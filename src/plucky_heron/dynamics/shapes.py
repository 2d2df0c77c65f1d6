"""Shapes as arrays: cores with a rounding radius, hulls drawn in by it, ready for the contact kernels."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics.kernels import layout
from plucky_heron.errors import StateError
from plucky_heron.machine.parts import Shape, Surface
from plucky_heron.machine.urdf import rotation

Array = np.ndarray

ROUNDING = 0.001
"""Edges of boxes, cylinders and hulls are rounded by this much (m), by less where the shape is small."""


@dataclass(frozen=True)
class Placed:
    """A shape with its node (-1: fixed) and its pose there."""

    shape: Shape
    node: int
    rotation: Array
    position: Array


def place(shape: Shape, node: int, turned: Array, at: Array) -> Placed:
    """A shape of a body that is placed in its node."""
    return Placed(shape, node, turned @ rotation(*shape.turn), at + turned @ np.array(shape.at))


def outline_corners(shape: Shape) -> Array:
    """Corners (k, 3) of a bucket or hull in the shape's own axes."""
    if shape.kind == "bucket":
        top, bottom, height = shape.size
        return np.array([
            [x * w, y * w, z]
            for w, z in ((top, height), (bottom, -height)) for x in (-1, 1) for y in (-1, 1)
        ]) / 2  # fmt: skip
    return np.array(shape.points, dtype=float).reshape(-1, 3)


def surface_triangles(shape: Shape) -> Array:
    """Faces of a shape in its own axes (k, 3 corners, 3), turning left as seen from outside; round ones of equal volume."""
    from scipy.spatial import ConvexHull

    s = shape.size
    turn = np.arange(24) * (2.0 * np.pi / 24)
    if shape.kind == "box":
        points = np.array(
            [[x * s[0], y * s[1], z * s[2]] for x in (-0.5, 0.5) for y in (-0.5, 0.5) for z in (-0.5, 0.5)]
        )
        volume = float(np.prod(s))
    elif shape.kind == "cylinder":
        points = np.array([[s[0] * np.cos(t), s[0] * np.sin(t), z * s[1]] for t in turn for z in (-0.5, 0.5)])
        volume = np.pi * s[0] ** 2 * s[1]
    elif shape.kind in ("sphere", "capsule"):
        half = 0.5 * s[1] if shape.kind == "capsule" else 0.0
        rings = np.linspace(-0.5 * np.pi, 0.5 * np.pi, 13)
        points = np.array([
            [s[0] * np.cos(p) * np.cos(t), s[0] * np.cos(p) * np.sin(t), s[0] * np.sin(p) + side * half]
            for side in ((-1, 1) if half else (0,)) for p in rings for t in turn
        ])  # fmt: skip
        volume = 4.0 / 3.0 * np.pi * s[0] ** 3 + np.pi * s[0] ** 2 * 2.0 * half
    else:
        points, volume = outline_corners(shape), 0.0
    hull = ConvexHull(points)
    corners = points[hull.simplices]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    inward = (normals * hull.equations[:, :3]).sum(axis=1) < 0.0
    corners[inward] = corners[inward][:, ::-1]
    scale = (volume / hull.volume) ** (1.0 / 3.0) if volume else 1.0
    return np.asarray(corners * scale)


def surface_numbers(surface: Surface) -> tuple[float, ...]:
    """A surface as the kernels take it (layout.SURFACE,): compliance for stiffness, damping below zero: by the kernel."""
    compliance = 1.0 / surface.stiffness if surface.stiffness else 0.0
    damping = -1.0 if surface.damping is None else surface.damping
    return (*surface.friction, surface.bounce, compliance, damping, surface.rolling, surface.spinning)


def build_shapes(placed: Sequence[Placed]) -> layout.Shapes:
    """The arrays of some shapes."""
    count = len(placed)
    kinds = {"sphere": layout.SPHERE, "capsule": layout.CAPSULE, "box": layout.BOX, "cylinder": layout.CYLINDER}
    kind, node = np.zeros(count, dtype=np.int64), np.zeros(count, dtype=np.int64)
    size, radius, reach = np.zeros((count, 3)), np.zeros(count), np.zeros(count)
    pose, surface = np.zeros((count, 12)), np.zeros((count, layout.SURFACE))
    vertices: list[Array] = []
    vertex_range = np.zeros((count, 2), dtype=np.int64)
    faces: list[list[int]] = []
    normals: list[Array] = []
    face_range = np.zeros((count, 2), dtype=np.int64)
    for k, one in enumerate(placed):
        shape, s = one.shape, one.shape.size
        kind[k], node[k] = kinds.get(shape.kind, layout.CONVEX), one.node
        pose[k, :9], pose[k, 9:] = one.rotation.reshape(9), one.position
        surface[k] = surface_numbers(shape.surface)
        if shape.kind == "sphere":
            radius[k] = reach[k] = s[0]
        elif shape.kind == "capsule":
            radius[k], size[k, 0], reach[k] = s[0], s[1] / 2, s[0] + s[1] / 2
        elif shape.kind == "box":
            radius[k] = min(ROUNDING, 0.1 * min(s))
            size[k] = np.array(s) / 2 - radius[k]
            reach[k] = float(np.linalg.norm(size[k])) + radius[k]
        elif shape.kind == "cylinder":
            radius[k] = min(ROUNDING, 0.1 * s[0], 0.1 * s[1])
            size[k, :2] = s[0] - radius[k], s[1] / 2 - radius[k]
            reach[k] = float(np.hypot(size[k, 0], size[k, 1])) + radius[k]
        else:
            radius[k], corners, polygons, outward = _drawn_in(outline_corners(shape))
            first = sum(len(v) for v in vertices)
            vertex_range[k] = first, first + len(corners)
            face_range[k] = len(faces), len(faces) + len(polygons)
            vertices.append(corners)
            faces += [[first + v for v in polygon] for polygon in polygons]
            normals += list(outward)
            reach[k] = float(np.linalg.norm(corners, axis=1).max()) + radius[k]
    longest = max((len(f) for f in faces), default=1)
    table = np.full((max(1, len(faces)), longest), -1, dtype=np.int64)
    for f, polygon in enumerate(faces):
        table[f, : len(polygon)] = polygon
    return layout.Shapes(
        kind, node, size, radius, reach, pose, surface,
        np.concatenate(vertices) if vertices else np.zeros((1, 3)), vertex_range,
        table, np.array(normals) if normals else np.zeros((1, 3)), face_range,
    )  # fmt: skip


def _drawn_in(points: Array) -> tuple[float, Array, list[list[int]], Array]:
    """A hull whose faces are moved in by the rounding radius: radius, corners, faces as corner rings, outer normals."""
    from scipy.spatial import ConvexHull, HalfspaceIntersection, QhullError

    try:
        outer = ConvexHull(points)
        middle = points[outer.vertices].mean(axis=0)
        depth = float(-(outer.equations[:, :3] @ middle + outer.equations[:, 3]).max())
        radius = min(ROUNDING, 0.1 * depth)
        planes = np.unique(np.round(outer.equations, 9), axis=0)
        moved = planes.copy()
        moved[:, 3] += radius
        corners = HalfspaceIntersection(moved, middle).intersections
        corners = np.unique(np.round(corners[np.isfinite(corners).all(axis=1)], 9), axis=0)
    except QhullError as error:
        raise StateError(f"a hull is flat or has fewer than four corners: {str(error).splitlines()[0]}") from error
    polygons, outward = [], []
    for plane in moved:
        on = np.flatnonzero(np.abs(corners @ plane[:3] + plane[3]) < 1e-7)
        if len(on) < 3:
            continue
        first = np.cross(plane[:3], [1.0, 0.0, 0.0] if abs(plane[0]) < 0.9 else [0.0, 1.0, 0.0])
        second = np.cross(plane[:3], first)
        spread = corners[on] - corners[on].mean(axis=0)
        polygons.append([int(v) for v in on[np.argsort(np.arctan2(spread @ second, spread @ first))]])
        outward.append(plane[:3])
    return radius, corners, polygons, np.array(outward)
