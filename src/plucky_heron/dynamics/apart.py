"""Distances between named things: what `clearance(a, b)` in a formula reads."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np

from plucky_heron.dynamics.kernels import layout, manifold
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import Surroundings
from plucky_heron.dynamics.shapes import Placed, build_shapes, place
from plucky_heron.machine.parts import Shape
from plucky_heron.machine.urdf import rotation

Array = np.ndarray

GROUND_SURFACE = "ground"
"""Name by which distances mean the terrain."""
FAR = 1e6
"""Distance, m, from what is not there in this scene."""


def known_places(model: Model, surroundings: Surroundings, zones: Iterable[str] = ()) -> dict[str, str]:
    """What distances may name: name to "body", "solid" or "zone"."""
    found = dict.fromkeys(zones, "zone")
    for scene in surroundings.solids:
        found |= {name: "solid" for name, *_ in scene}
    if (surroundings.arrays.ground_kind != layout.NO_GROUND).any():
        found[GROUND_SURFACE] = "solid"
    return found | dict.fromkeys(model.bodies, "body")


class Apart:
    """Distances of some pairs in a plant's copies.

    Parameters
    ----------
    pairs
        (body, other) names; see `known_places`.
    zones
        Shapes that stand for places and touch nothing.

    Attributes
    ----------
    values : (B, pairs)
        Metres; negative: how deep the two are in each other. Updated in place by `read`.

    Notes
    -----
    All shapes of a body count, those that touch nothing too; a body without shapes is its origin.
    """

    def __init__(
        self, plant: Plant, pairs: Iterable[tuple[str, str]], zones: Mapping[str, Shape] | None = None
    ) -> None:
        self.plant, model, zones = plant, plant.model, zones or {}
        pairs = list(pairs)
        moving: list[Placed] = []
        ranges: dict[str, tuple[int, int, int]] = {GROUND_SURFACE: (0, 0, 2)}
        fixed: list[Placed] = []
        scenes: list[int] = []
        wanted = {name for pair in pairs for name in pair}
        point = Shape(kind="sphere", size=(1e-6,))
        for b, name in enumerate(model.bodies):
            if name in wanted:
                first = len(moving)
                turned, at = model.body_rotation[b].reshape(3, 3), model.body_position[b]
                shapes = model.machine.bodies[name].shapes or (point,)
                moving += [place(shape, int(model.body_node[b]), turned, at) for shape in shapes]
                ranges[name] = first, len(moving), 0
        for name in sorted(wanted - set(model.bodies) - {GROUND_SURFACE}):
            first = len(fixed)
            if name in zones:
                fixed.append(Placed(zones[name], -1, rotation(*zones[name].turn), np.array(zones[name].at)))
                scenes.append(-1)
            for s, solids in enumerate(plant.surroundings.solids):
                own = [Placed(shape, -1, turn, at) for solid, shape, turn, at in solids if solid == name]
                fixed += own
                scenes += [s] * len(own)
            ranges[name] = first, len(fixed), 1
        self._queries = np.array(
            [(*ranges[a][:2], *ranges[b][:2], ranges[b][2], 0) for a, b in pairs], dtype=np.int64
        ).reshape(-1, 6)
        self._moving, self._fixed = build_shapes(moving), build_shapes(fixed)
        self._fixed_scene = np.array(scenes, dtype=np.int64)
        self._standing = np.zeros((len(moving), 13))
        self._work = np.zeros((len(model.joints), layout.WORK))
        self._simplex, self._corners = np.zeros((6, 9)), np.zeros((3, manifold.MOST_CORNERS, 3))
        self.values: Array = np.full((plant.copies, len(pairs)), FAR)

    def read(self) -> Array:
        """Bring `values` (B, pairs), m, up to the present state."""
        from plucky_heron.dynamics.kernels import apart

        plant = self.plant
        if len(self._queries):
            apart.apart(
                0, plant.copies, plant.model.tree, self._queries, self._moving, self._fixed, self._fixed_scene,
                plant.surroundings.arrays, plant.state(np.zeros((plant.copies, len(plant.model.drives)))), self._standing,
                self._work, self._simplex, self._corners, self.values,
            )  # fmt: skip
            np.minimum(self.values, FAR, out=self.values)
        return self.values
