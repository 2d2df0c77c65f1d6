"""Convex hulls of mesh files (STL, OBJ), named relative to the machine and never outside its project."""

from __future__ import annotations

import math
import tempfile
from functools import lru_cache
from pathlib import Path

import numpy as np

from plucky_heron.errors import FileError
from plucky_heron.files import inside, is_file, read_bytes
from plucky_heron.machine.schema import Machine

FARTHEST = 1e5
MOST_CORNERS = 64
"""Corners a hull keeps at most; of a finer one those that stand out most."""


def project_of(path: Path) -> Path:
    """The project folder a file belongs to: the one that holds project.toml, else the file's own."""
    for folder in path.resolve().parents:
        if is_file(folder / "project.toml"):
            return folder
    return path.resolve().parent


def hull_points(
    source: Path, name: str, scale: tuple[float, float, float] = (1.0, 1.0, 1.0)
) -> tuple[tuple[float, float, float], ...]:
    """Corners of the convex hull of a mesh file that stands beside `source`, in metres.

    Raises
    ------
    FileError
        No such file, outside the project, not a mesh, or flat.
    """
    if "://" in name or Path(name).is_absolute():
        raise FileError(source, "file", name, "wanted a path relative to this file, inside the project")
    path = inside(project_of(source), source.resolve().parent / name)
    if path.suffix.lower() not in (".stl", ".obj"):
        raise FileError(source, "file", name, "wanted a mesh as .stl or .obj")
    data = read_bytes(path)
    return _corners(data, path.suffix.lower()[1:], scale, str(source), name)


@lru_cache(maxsize=64)
def _corners(
    data: bytes, kind: str, scale: tuple[float, float, float], source: str, name: str
) -> tuple[tuple[float, float, float], ...]:
    import meshio
    from scipy.spatial import ConvexHull

    try:
        # the package reads by path alone: a copy of the bytes that were looked at, so that nothing is swapped between
        with tempfile.NamedTemporaryFile(suffix=f".{kind}") as file:
            file.write(data)
            file.flush()
            points = np.asarray(meshio.read(file.name, file_format=kind).points, dtype=float) * scale
        if not np.isfinite(points).all() or np.abs(points).max(initial=0.0) > FARTHEST:
            raise ValueError(f"a corner is not finite, or farther than {FARTHEST:g} m")
        hull = ConvexHull(points)
    except (
        Exception,
        SystemExit,
    ) as error:  # the packages name what is damaged by many kinds of error, down to an exit
        reason = (str(error).splitlines() or [type(error).__name__])[0]
        raise FileError(source, "file", name, f"cannot be made a convex hull: {reason}") from error
    corners = points[hull.vertices]
    if len(corners) > MOST_CORNERS:
        corners = corners[_outstanding(corners)]
    return tuple((float(x), float(y), float(z)) for x, y, z in corners)


def _outstanding(corners: np.ndarray) -> np.ndarray:
    """Corners that are farthest along evenly spread directions (a Fibonacci spiral on the sphere)."""
    k = np.arange(4 * MOST_CORNERS)
    height = 1.0 - 2.0 * (k + 0.5) / len(k)
    turn = k * math.pi * (3.0 - math.sqrt(5.0))
    flat = np.sqrt(1.0 - height**2)
    directions = np.stack([flat * np.cos(turn), flat * np.sin(turn), height])
    chosen, times = np.unique(np.argmax(corners @ directions, axis=0), return_counts=True)
    return np.asarray(chosen[np.argsort(-times, kind="stable")][:MOST_CORNERS])


def with_meshes(machine: Machine, source: Path) -> Machine:
    """The machine with the corners of its hull files filled in."""
    bodies = {}
    for name, body in machine.bodies.items():
        if any(shape.file for shape in body.shapes):
            shapes = tuple(
                shape.model_copy(update={"points": hull_points(source, shape.file, (shape.scale,) * 3)})
                if shape.file
                else shape
                for shape in body.shapes
            )
            bodies[name] = body.model_copy(update={"shapes": shapes})
    return machine.model_copy(update={"bodies": {**machine.bodies, **bodies}}) if bodies else machine
