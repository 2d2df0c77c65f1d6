"""What touches: broad phase by reach, then touching points of shapes with ground, site and each other."""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.geometry import place_shape
from plucky_heron.dynamics.kernels.layout import (
    BOUNCE,
    BOX,
    CAPSULE,
    COMPLIANCE,
    CONTACT_POINT,
    CONVEX,
    CYLINDER,
    DYNAMIC_FRICTION,
    GAP,
    GRID,
    NO_GROUND,
    NORMAL,
    NORMAL_IMPULSE,
    PAIR,
    SHAPE,
    SLIPPING,
    SPHERE,
    STATIC_FRICTION,
    SURFACE_DAMPING,
    TWIST,
)
from plucky_heron.dynamics.kernels.manifold import POINT, collide, feature, keep_four
from plucky_heron.dynamics.kernels.places import ground_at
from plucky_heron.kernels import kernel

MARGIN = 0.01
"""Shapes nearer than this (m) are given to the solver, which lets them meet but not cross."""


@kernel(inline=True)
def surface_of(first, second, out):
    """Two surfaces together: geometric mean of friction, the livelier restitution, springs in series."""
    out[STATIC_FRICTION] = math.sqrt(first[STATIC_FRICTION] * second[STATIC_FRICTION])
    out[DYNAMIC_FRICTION] = math.sqrt(first[DYNAMIC_FRICTION] * second[DYNAMIC_FRICTION])
    out[BOUNCE] = max(first[BOUNCE], second[BOUNCE])
    out[COMPLIANCE] = first[COMPLIANCE] + second[COMPLIANCE]
    out[SURFACE_DAMPING] = max(first[SURFACE_DAMPING], second[SURFACE_DAMPING])


@kernel(inline=True)
def _add(found, capacity, points, count, pair, shape, node_a, node_b, surface, list_, nodes, surfaces):
    for k in range(count):
        if found >= capacity:
            break
        row = list_[found]
        row[PAIR] = pair
        for d in range(3):
            row[CONTACT_POINT + d] = points[k, d]
            row[NORMAL + d] = points[k, 4 + d]
        for d in range(NORMAL_IMPULSE, SLIPPING + 1):
            row[d] = 0.0
        row[GAP] = points[k, 3]
        row[SHAPE] = shape
        nodes[found, 0], nodes[found, 1] = node_a, node_b
        for d in range(5):
            surfaces[found, d] = surface[d]
        found += 1
    return found


@kernel(inline=True)
def _reach_in_step(i, reach, w, at, h):
    """How far a shape may move in a step, generously."""
    if i < 0:
        return 0.0
    ux = w[i, TWIST + 3] + w[i, TWIST + 1] * at[11] - w[i, TWIST + 2] * at[10]
    uy = w[i, TWIST + 4] + w[i, TWIST + 2] * at[9] - w[i, TWIST] * at[11]
    uz = w[i, TWIST + 5] + w[i, TWIST] * at[10] - w[i, TWIST + 1] * at[9]
    turning = math.sqrt(w[i, TWIST] ** 2 + w[i, TWIST + 1] ** 2 + w[i, TWIST + 2] ** 2)
    return 1.5 * h * (math.sqrt(ux * ux + uy * uy + uz * uz) + turning * reach)


@kernel
def find_contacts(shapes, contacts, scene, s, w, h, scratch):
    """All touching points of one copy into `scratch.contacts`, `.nodes`, `.surfaces`; returns their number."""
    found = 0
    capacity = contacts.capacity
    places, list_, nodes, surfaces = scratch.places, scratch.contacts, scratch.nodes, scratch.surfaces
    points, g, corners = scratch.points, scratch.simplex, scratch.corners
    surface = surfaces[capacity]
    shape_kinds, shape_nodes, radii, reaches, poses = shapes.kind, shapes.node, shapes.radius, shapes.reach, shapes.pose
    grounds, planes, grids, heights = scene.ground_kind, scene.plane, scene.grid, scene.heights
    for k in range(shape_kinds.shape[0]):
        place_shape(shape_nodes, poses, k, w, places[k])
        places[k, 12] = _reach_in_step(shape_nodes[k], reaches[k], w, places[k], h)
    ground = grounds[s] != NO_GROUND
    first, last = scene.shape_range[s, 0], scene.shape_range[s, 1]
    other = scene.shapes
    other_reaches, other_poses = other.reach, other.pose
    touching, pairs, apart = contacts.touching, contacts.pairs, contacts.apart
    for t in range(touching.shape[0]):
        k = touching[t]
        at = places[k]
        margin = MARGIN + at[12]
        if ground and not apart[t, 0]:
            count = _on_ground(
                shapes,
                k,
                shape_kinds[k],
                radii[k],
                reaches[k],
                at,
                margin,
                grounds,
                planes,
                grids,
                heights,
                s,
                points,
                corners,
            )
            if count > 0:
                surface_of(shapes.surface[k], scene.ground_surface[s], surface)
                found = _add(found, capacity, points, count, -1.0, k, shapes.node[k], -1, surface, list_, nodes, surfaces)  # fmt: skip
        for b in range(first, last):
            if apart[t, 1 + b]:
                continue
            far = reaches[k] + margin + other_reaches[b]
            dx, dy, dz = at[9] - other_poses[b, 9], at[10] - other_poses[b, 10], at[11] - other_poses[b, 11]
            if dx * dx + dy * dy + dz * dz > far * far:
                continue
            at_b = other_poses[b]
            count = collide(shapes, k, at, other, b, at_b, margin, points, g, corners)
            if count > 0:
                surface_of(shapes.surface[k], other.surface[b], surface)
                found = _add(found, capacity, points, count, -2.0 - b, k, shapes.node[k], -1, surface, list_, nodes, surfaces)  # fmt: skip
    for p in range(pairs.shape[0]):
        a, b = pairs[p, 0], pairs[p, 1]
        at, at_b = places[a], places[b]
        margin = MARGIN + at[12] + at_b[12]
        far = reaches[a] + reaches[b] + margin
        dx, dy, dz = at[9] - at_b[9], at[10] - at_b[10], at[11] - at_b[11]
        if dx * dx + dy * dy + dz * dz > far * far:
            continue
        count = collide(shapes, a, at, shapes, b, at_b, margin, points, g, corners)
        if count > 0:
            surface_of(shapes.surface[a], shapes.surface[b], surface)
            found = _add(found, capacity, points, count, float(p), a, shapes.node[a], shapes.node[b], surface, list_, nodes, surfaces)  # fmt: skip
    return found


@kernel(inline=True)
def _on_ground(shapes, k, kind, radius, reach, at, margin, grounds, planes, grids, heights, s, points, corners):
    """Touching points of a shape on plane or rough ground: corners that face it, each against the slope below it."""
    height, nx, ny, nz = ground_at(grounds, planes, grids, heights, s, at[9], at[10])
    grid = grounds[s] == GRID
    # rough ground may rise by this much within reach of the shape (slopes up to 45 degrees)
    rise = reach if grid else 0.0
    if (at[11] - height) * nz - rise > reach + margin:
        return 0
    if kind == SPHERE:
        if grid:
            found = _ball_on_grid(0, at[9], at[10], at[11], radius, margin, grounds, planes, grids, heights, s, points)
            return keep_four(points, found)
        gap = (at[11] - height) * nz - radius
        if gap > margin:
            return 0
        _touch(points, 0, at[9], at[10], at[11], nx, ny, nz, radius, gap)
        return 1
    count, _ = feature(shapes, k, at, -nx, -ny, -nz, corners[0], True)
    found = 0
    if grid and kind == CAPSULE:
        for e in range(count):
            x, y, z = corners[0, e, 0], corners[0, e, 1], corners[0, e, 2]
            found = _ball_on_grid(found, x, y, z, radius, margin, grounds, planes, grids, heights, s, points)
        found = _peaks(found, shapes, k, kind, radius, reach, at, margin, grids, heights, s, points)
        return keep_four(points, found)
    for e in range(count):
        x, y, z = corners[0, e, 0], corners[0, e, 1], corners[0, e, 2]
        height, nx, ny, nz = ground_at(grounds, planes, grids, heights, s, x, y)
        gap = (z - height) * nz - radius
        if gap < margin:
            _touch(points, found, x, y, z, nx, ny, nz, radius, gap)
            found += 1
    if grid:
        found = _peaks(found, shapes, k, kind, radius, reach, at, margin, grids, heights, s, points)
    return keep_four(points, found)


@kernel
def _peaks(found, shapes, k, kind, radius, reach, at, margin, grids, heights, s, points):
    """Grid points that stand out of the ground against the shape's own faces: what lies between its corners.

    Only points higher than the middle of two neighbours count: on even ground the corners say everything.
    """
    g = grids[s]
    columns, rows, first = int(g[4]), int(g[5]), int(g[6])
    far = reach + margin
    i0, i1 = max(1, int(math.ceil((at[9] - far - g[0]) / g[2]))), min(columns - 2, int((at[9] + far - g[0]) / g[2]))
    j0, j1 = max(1, int(math.ceil((at[10] - far - g[1]) / g[3]))), min(rows - 2, int((at[10] + far - g[1]) / g[3]))
    if rows < 2:
        j0, j1 = 0, 0
    size = shapes.size[k]
    for i in range(i0, i1 + 1):
        for j in range(j0, j1 + 1):
            if found >= points.shape[0]:
                return found
            here = first + j * columns + i
            z = heights[here]
            stands = z - 0.5 * (heights[here - 1] + heights[here + 1])
            if rows >= 2:
                stands = max(stands, z - 0.5 * (heights[here - columns] + heights[here + columns]))
            x, y = g[0] + i * g[2], g[1] + j * g[3] if rows >= 2 else at[10]
            dx, dy, dz = x - at[9], y - at[10], z - at[11]
            if stands < 1e-6 or dx * dx + dy * dy + dz * dz > far * far:
                continue
            lx = at[0] * dx + at[3] * dy + at[6] * dz
            ly = at[1] * dx + at[4] * dy + at[7] * dz
            lz = at[2] * dx + at[5] * dy + at[8] * dz
            # gap and outer normal of the face that the point is least inside of
            ox, oy, oz, gap = 0.0, 0.0, 0.0, -math.inf
            if kind == BOX:
                if abs(lx) - size[0] > gap:
                    gap, ox, oy, oz = abs(lx) - size[0], math.copysign(1.0, lx), 0.0, 0.0
                if abs(ly) - size[1] > gap:
                    gap, ox, oy, oz = abs(ly) - size[1], 0.0, math.copysign(1.0, ly), 0.0
                if abs(lz) - size[2] > gap:
                    gap, ox, oy, oz = abs(lz) - size[2], 0.0, 0.0, math.copysign(1.0, lz)
            elif kind == CONVEX:
                for f in range(shapes.face_range[k, 0], shapes.face_range[k, 1]):
                    nx, ny, nz = shapes.face_normals[f, 0], shapes.face_normals[f, 1], shapes.face_normals[f, 2]
                    v = shapes.faces[f, 0]
                    away = nx * (lx - shapes.vertices[v, 0]) + ny * (ly - shapes.vertices[v, 1]) + nz * (lz - shapes.vertices[v, 2])  # fmt: skip
                    if away > gap:
                        gap, ox, oy, oz = away, nx, ny, nz
            else:
                half = size[0] if kind == CAPSULE else size[1]
                thick = 0.0 if kind == CAPSULE else size[0]
                across = math.sqrt(lx * lx + ly * ly)
                if across > 1e-9 and abs(lz) <= half:
                    gap, ox, oy, oz = across - thick, lx / across, ly / across, 0.0
                if kind == CYLINDER and abs(lz) - half > gap and across <= thick:
                    gap, ox, oy, oz = abs(lz) - half, 0.0, 0.0, math.copysign(1.0, lz)
            gap -= radius
            nx = -(at[0] * ox + at[1] * oy + at[2] * oz)
            ny = -(at[3] * ox + at[4] * oy + at[5] * oz)
            nz = -(at[6] * ox + at[7] * oy + at[8] * oz)
            # what stands beside the shape, not below it, does not carry it
            if gap < margin and gap > -far and nz > 0.3:
                points[found, 0], points[found, 1], points[found, 2] = x + 0.5 * gap * nx, y + 0.5 * gap * ny, z + 0.5 * gap * nz  # fmt: skip
                points[found, 3] = gap
                points[found, 4], points[found, 5], points[found, 6] = nx, ny, nz
                found += 1
    return found


@kernel(inline=True)
def _ball_on_grid(first, x, y, z, radius, margin, grounds, planes, grids, heights, s, points):
    """Touching points of a ball on rough ground, the nearest of each cell, from row `first`; returns where they end."""
    g = grids[s]
    reach = radius + margin
    i0, i1 = int(math.floor((x - reach - g[0]) / g[2])), int(math.floor((x + reach - g[0]) / g[2]))
    j0, j1 = int(math.floor((y - reach - g[1]) / g[3])), int(math.floor((y + reach - g[1]) / g[3]))
    if g[5] < 2.0:
        j0, j1 = 0, 0
    found, lowest, edge = first, math.inf, -1
    for i in range(i0, i1 + 1):
        for j in range(j0, j1 + 1):
            # just inside the cell, so that the slope is the cell's own
            left, right = g[0] + (i + 1e-6) * g[2], g[0] + (i + 1 - 1e-6) * g[2]
            low, high = g[1] + (j + 1e-6) * g[3], g[1] + (j + 1 - 1e-6) * g[3]
            if g[5] < 2.0:
                low, high = y, y
            u, t = min(max(x, left), right), min(max(y, low), high)
            for _ in range(2):
                height, nx, ny, nz = ground_at(grounds, planes, grids, heights, s, u, t)
                away = (x - u) * nx + (y - t) * ny + (z - height) * nz
                ex, ey = x - nx * away, y - ny * away
                u, t = min(max(ex, left), right), min(max(ey, low), high)
            inside = u == ex and t == ey
            height, nx, ny, nz = ground_at(grounds, planes, grids, heights, s, u, t)
            ex, ey, ez = x - u, y - t, z - height
            away = ex * nx + ey * ny + ez * nz
            size = math.sqrt(ex * ex + ey * ey + ez * ez)
            if away > 0.0 and size > 1e-9:
                # over an edge of the cell the nearest point is the edge's
                nx, ny, nz, away = ex / size, ey / size, ez / size, size
            gap = away - radius
            if gap >= margin or nz <= 0.0 or found >= points.shape[0]:
                continue
            # an edge counts only where it lies nearer than every face
            if inside or gap < lowest - 1e-6:
                if not inside and edge >= 0 and edge == found - 1:
                    found -= 1
                edge = -1 if inside else found
                _touch(points, found, x, y, z, nx, ny, nz, radius, gap)
                found += 1
            lowest = min(lowest, gap)
    if edge >= 0 and found > first + 1:
        # the edge came first, and a face turned out to lie nearer
        for k in range(first, found):
            if k != edge and points[k, 3] <= points[edge, 3] + 1e-6:
                for d in range(POINT):
                    points[edge, d] = points[found - 1, d]
                found -= 1
                break
    return found


@kernel(inline=True)
def _touch(points, k, x, y, z, nx, ny, nz, radius, gap):
    back = radius + 0.5 * gap
    points[k, 0], points[k, 1], points[k, 2] = x - nx * back, y - ny * back, z - nz * back
    points[k, 3] = gap
    points[k, 4], points[k, 5], points[k, 6] = nx, ny, nz
