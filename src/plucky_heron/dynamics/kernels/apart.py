"""How far named things are from each other: bodies, fixed solids, zones and the ground, in all copies."""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.geometry import core_distance, least_overlap, place_shape
from plucky_heron.dynamics.kernels.layout import NO_GROUND
from plucky_heron.dynamics.kernels.manifold import feature
from plucky_heron.dynamics.kernels.places import ground_at
from plucky_heron.dynamics.kernels.tree import place_nodes
from plucky_heron.kernels import kernel


@kernel(entry=True)
def apart(first, last, tree, queries, moving, fixed, fixed_scene, scene, state, standing, w, g, corners, out):
    """Smallest distances, out (B, queries); negative: how deep they are in each other.

    A row of `queries` (6): first and last shape of a in `moving`; first and last shape of b; 1 if b stands in `fixed`,
    2 if it is the ground, else 0; spare. `fixed_scene`: the scene a fixed shape belongs to, -1 for all.
    """
    parent, kinds, base, scalar, massless, axes, tree_rotation, tree_position, _, _ = tree
    n = parent.shape[0]
    for c in range(first, last):
        q, v, s = state.position[c], state.velocity[c], state.scene[c]
        place_nodes(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w)
        for k in range(standing.shape[0]):
            place_shape(moving.node, moving.pose, k, w, standing[k])
        for e in range(queries.shape[0]):
            best = math.inf
            for a in range(queries[e, 0], queries[e, 1]):
                at = standing[a]
                if queries[e, 4] == 2:
                    if scene.ground_kind[s] == NO_GROUND:
                        continue
                    height, nx, ny, nz = ground_at(
                        scene.ground_kind, scene.plane, scene.grid, scene.heights, s, at[9], at[10]
                    )
                    count, _ = feature(moving, a, at, -nx, -ny, -nz, corners[0], True)
                    for p in range(count):
                        height, nx, ny, nz = ground_at(
                            scene.ground_kind,
                            scene.plane,
                            scene.grid,
                            scene.heights,
                            s,
                            corners[0, p, 0],
                            corners[0, p, 1],
                        )
                        best = min(best, (corners[0, p, 2] - height) * nz - moving.radius[a])
                    continue
                for b in range(queries[e, 2], queries[e, 3]):
                    if queries[e, 4] == 1:
                        if fixed_scene[b] >= 0 and fixed_scene[b] != s:
                            continue
                        other, at_b = fixed, fixed.pose[b]
                    else:
                        other, at_b = moving, standing[b]
                    found = core_distance(moving, a, at, other, b, at_b, g)
                    if found < 0.0:
                        found = least_overlap(moving, a, at, other, b, at_b, g)
                    best = min(best, found - moving.radius[a] - other.radius[b])
            out[c, e] = best
