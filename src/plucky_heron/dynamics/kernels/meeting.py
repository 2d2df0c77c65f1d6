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
    MOMENT_IMPULSE,
    NO_GROUND,
    NORMAL,
    NORMAL_IMPULSE,
    PAIR,
    ROLLING,
    SHAPE,
    SLIPPING,
    SPHERE,
    SPINNING,
    STATIC_FRICTION,
    SURFACE,
    SURFACE_DAMPING,
    TWIST,
)
from plucky_heron.dynamics.kernels.manifold import collide, feature, keep_four
from plucky_heron.dynamics.kernels.places import ground_at
from plucky_heron.dynamics.kernels.rough import ball_on_grid, edges_on_grid, ground_on_grid
from plucky_heron.kernels import kernel

MARGIN = 0.01
"""Shapes nearer than this (m) are given to the solver, which lets them meet but not cross."""
SLACK = 0.25
"""How far (m) a shape may move before it is asked anew which shapes of the site are near it."""
EDGE_MARGIN = 0.002
"""The same for edges and peaks of rough ground, of which many are near and few are met."""


@kernel(inline=True)
def surface_of(first, second, out):
    """Two surfaces together: geometric mean of friction, the livelier restitution, springs in series, the longer arms."""
    out[STATIC_FRICTION] = math.sqrt(first[STATIC_FRICTION] * second[STATIC_FRICTION])
    out[DYNAMIC_FRICTION] = math.sqrt(first[DYNAMIC_FRICTION] * second[DYNAMIC_FRICTION])
    out[BOUNCE] = max(first[BOUNCE], second[BOUNCE])
    out[COMPLIANCE] = first[COMPLIANCE] + second[COMPLIANCE]
    out[SURFACE_DAMPING] = max(first[SURFACE_DAMPING], second[SURFACE_DAMPING])
    out[ROLLING] = max(first[ROLLING], second[ROLLING])
    out[SPINNING] = max(first[SPINNING], second[SPINNING])


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
        for d in range(3):
            row[MOMENT_IMPULSE + d] = 0.0
        row[GAP] = points[k, 3]
        row[SHAPE] = shape
        nodes[found, 0], nodes[found, 1] = node_a, node_b
        for d in range(SURFACE):
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


@kernel(inline=True)
def find_contacts(shapes, contacts, scene, s, w, h, scratch, fresh):
    """All touching points of one copy into `scratch.contacts`, `.nodes`, `.surfaces`; returns their number.

    What of the site is near each shape stands in `scratch.near` from one step to the next (L. Verlet, Physical Review
    159, 1967); `fresh` says that it is of another copy.
    """
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
    near, near_about = scratch.near, scratch.near_about
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
        around, about = near[t], near_about[t]
        dx, dy, dz = at[9] - about[0], at[10] - about[1], at[11] - about[2]
        if fresh or math.sqrt(dx * dx + dy * dy + dz * dz) + margin > about[3]:
            _look_around(
                first, last, reaches[k], at, margin + SLACK, apart[t], other_reaches, other_poses, around, about
            )
        for e in range(1, around[0] + 1):
            b = around[e]
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


@kernel
def _look_around(first, last, reach, at, allowance, apart, other_reaches, other_poses, around, about):
    """Which shapes `first` to `last` of the site may come near a shape that moves no further than `allowance` (m)."""
    about[0], about[1], about[2], about[3] = at[9], at[10], at[11], allowance
    count = 0
    for b in range(first, last):
        far = reach + allowance + other_reaches[b]
        dx, dy, dz = at[9] - other_poses[b, 9], at[10] - other_poses[b, 10], at[11] - other_poses[b, 11]
        if dx * dx + dy * dy + dz * dz <= far * far and not apart[1 + b]:
            count += 1
            around[count] = b
    around[0] = count


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
            found = ball_on_grid(0, at[9], at[10], at[11], radius, margin, grids[s], heights, points)
            return keep_four(points, found)
        gap = (at[11] - height) * nz - radius
        if gap > margin:
            return 0
        _touch(points, 0, at[9], at[10], at[11], nx, ny, nz, radius, gap)
        return 1
    found = 0
    near = margin - MARGIN + EDGE_MARGIN
    if grid and (kind == BOX or kind == CONVEX):
        # any corner may be the one that meets a slope: the one below the middle says little
        found = _corners_on_grid(shapes, k, kind, radius, at, margin, grids[s], heights, points)
        found = _peaks(found, shapes, k, kind, radius, reach, at, near, grids, heights, s, points)
        found = edges_on_grid(found, shapes, k, kind, radius, at, near, grids[s], heights, points)
        return keep_four(points, found)
    count, _ = feature(shapes, k, at, -nx, -ny, -nz, corners[0], True)
    if grid and kind == CAPSULE:
        for e in range(count):
            x, y, z = corners[0, e, 0], corners[0, e, 1], corners[0, e, 2]
            found = ball_on_grid(found, x, y, z, radius, margin, grids[s], heights, points)
        found = _peaks(found, shapes, k, kind, radius, reach, at, near, grids, heights, s, points)
        if kind == CYLINDER:
            found = _rims(found, shapes.size[k], radius, at, margin, grids[s], heights, points)
        found = edges_on_grid(found, shapes, k, kind, radius, at, near, grids[s], heights, points)
        return keep_four(points, found)
    for e in range(count):
        x, y, z = corners[0, e, 0], corners[0, e, 1], corners[0, e, 2]
        height, nx, ny, nz = ground_at(grounds, planes, grids, heights, s, x, y)
        gap = (z - height) * nz - radius
        if gap < margin:
            _touch(points, found, x, y, z, nx, ny, nz, radius, gap)
            found += 1
    if grid:
        found = _peaks(found, shapes, k, kind, radius, reach, at, near, grids, heights, s, points)
        if kind == CYLINDER:
            found = _rims(found, shapes.size[k], radius, at, margin, grids[s], heights, points)
        found = edges_on_grid(found, shapes, k, kind, radius, at, near, grids[s], heights, points)
    return keep_four(points, found)


@kernel
def _corners_on_grid(shapes, k, kind, radius, at, margin, g, heights, points):
    """The corners of a box or hull, each against the slope below it."""
    found = 0
    size, first, last = shapes.size[k], 0, 8
    if kind == CONVEX:
        first, last = shapes.vertex_range[k, 0], shapes.vertex_range[k, 1]
    for v in range(first, last):
        if kind == BOX:
            lx = size[0] if v & 1 else -size[0]
            ly = size[1] if v & 2 else -size[1]
            lz = size[2] if v & 4 else -size[2]
        else:
            lx, ly, lz = shapes.vertices[v, 0], shapes.vertices[v, 1], shapes.vertices[v, 2]
        x = at[9] + at[0] * lx + at[1] * ly + at[2] * lz
        y = at[10] + at[3] * lx + at[4] * ly + at[5] * lz
        z = at[11] + at[6] * lx + at[7] * ly + at[8] * lz
        height, nx, ny, nz = ground_on_grid(g, heights, x, y)
        gap = (z - height) * nz - radius
        if gap < margin and found < points.shape[0] // 2:
            _touch(points, found, x, y, z, nx, ny, nz, radius, gap)
            found += 1
    return found


@kernel
def _rims(found, size, radius, at, margin, g, heights, points):
    """The point of each rim of a cylinder that the ground below it faces: it need not be one below the middle's slope."""
    for end in range(2):
        half = size[1] if end == 0 else -size[1]
        x, y, z = at[9] + half * at[2], at[10] + half * at[5], at[11] + half * at[8]
        px, py, pz = x, y, z
        for _ in range(3):
            height, nx, ny, nz = ground_on_grid(g, heights, px, py)
            along = nx * at[2] + ny * at[5] + nz * at[8]
            lx, ly, lz = -nx + along * at[2], -ny + along * at[5], -nz + along * at[8]
            across = math.sqrt(lx * lx + ly * ly + lz * lz)
            if across < 1e-6:
                break
            k = size[0] / across
            px, py, pz = x + k * lx, y + k * ly, z + k * lz
        height, nx, ny, nz = ground_on_grid(g, heights, px, py)
        gap = (pz - height) * nz - radius
        if gap < margin and found < points.shape[0]:
            _touch(points, found, px, py, pz, nx, ny, nz, radius, gap)
            found += 1
    return found


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
    # how far down it reaches
    low = at[11] - far
    if kind == BOX:
        low = at[11] - (abs(at[6]) * size[0] + abs(at[7]) * size[1] + abs(at[8]) * size[2]) - radius - margin
    elif kind == CAPSULE:
        low = at[11] - abs(at[8]) * size[0] - radius - margin
    elif kind == CYLINDER:
        low = at[11] - abs(at[8]) * size[1] - math.sqrt(max(1.0 - at[8] ** 2, 0.0)) * size[0] - radius - margin
    if low > g[7]:
        return found
    for i in range(i0, i1 + 1):
        for j in range(j0, j1 + 1):
            if found >= points.shape[0]:
                return found
            here = first + j * columns + i
            z = heights[here]
            if z < low:
                continue
            stands = z - 0.5 * (heights[here - 1] + heights[here + 1])
            if rows >= 2:
                stands = max(stands, z - 0.5 * (heights[here - columns] + heights[here + columns]))
                stands = max(stands, z - 0.5 * (heights[here - columns + 1] + heights[here + columns - 1]))
            x, y = g[0] + i * g[2], g[1] + j * g[3] if rows >= 2 else at[10]
            dx, dy, dz = x - at[9], y - at[10], z - at[11]
            if stands < 1e-6 or dx * dx + dy * dy + dz * dz > far * far:
                continue
            lx = at[0] * dx + at[3] * dy + at[6] * dz
            ly = at[1] * dx + at[4] * dy + at[7] * dz
            lz = at[2] * dx + at[5] * dy + at[8] * dz
            # gap and outer normal of the face below which the point is least deep, of those that look down: the others
            # only say whether it is beside the shape
            ox, oy, oz, gap, beside = 0.0, 0.0, 0.0, -math.inf, -math.inf
            if kind == BOX:
                for face in range(6):
                    axis = face // 2
                    sign = 1.0 if face % 2 == 0 else -1.0
                    away = sign * (lx if axis == 0 else ly if axis == 1 else lz) - size[axis]
                    if sign * at[6 + axis] < -0.3:
                        if away > gap:
                            gap = away
                            ox, oy, oz = (
                                (sign if axis == 0 else 0.0),
                                (sign if axis == 1 else 0.0),
                                (sign if axis == 2 else 0.0),
                            )
                    else:
                        beside = max(beside, away)
            elif kind == CONVEX:
                for f in range(shapes.face_range[k, 0], shapes.face_range[k, 1]):
                    nx, ny, nz = shapes.face_normals[f, 0], shapes.face_normals[f, 1], shapes.face_normals[f, 2]
                    v = shapes.faces[f, 0]
                    away = nx * (lx - shapes.vertices[v, 0]) + ny * (ly - shapes.vertices[v, 1]) + nz * (lz - shapes.vertices[v, 2])  # fmt: skip
                    if at[6] * nx + at[7] * ny + at[8] * nz < -0.3:
                        if away > gap:
                            gap, ox, oy, oz = away, nx, ny, nz
                    else:
                        beside = max(beside, away)
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
            if gap < margin and gap > -far and nz > 0.3 and beside <= radius:
                points[found, 0], points[found, 1], points[found, 2] = x + 0.5 * gap * nx, y + 0.5 * gap * ny, z + 0.5 * gap * nz  # fmt: skip
                points[found, 3] = gap
                points[found, 4], points[found, 5], points[found, 6] = nx, ny, nz
                found += 1
    return found


@kernel(inline=True)
def _touch(points, k, x, y, z, nx, ny, nz, radius, gap):
    back = radius + 0.5 * gap
    points[k, 0], points[k, 1], points[k, 2] = x - nx * back, y - ny * back, z - nz * back
    points[k, 3] = gap
    points[k, 4], points[k, 5], points[k, 6] = nx, ny, nz
