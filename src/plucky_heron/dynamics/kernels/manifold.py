"""Touching points of two shapes: up to four a pair.

The two features that face each other are clipped against each other (I. Sutherland, G. Hodgman, CACM 17, 1974); of what is
left, the deepest point and the three that span most area are kept.
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.geometry import core_distance, least_overlap
from plucky_heron.dynamics.kernels.layout import BOX, CAPSULE, CYLINDER, SPHERE
from plucky_heron.kernels import kernel

MOST_CORNERS = 24
"""Corners of a feature and of what clipping may leave of it."""
_FLAT = 0.985
"""Cosine above which a face counts as facing the contact."""
POINT = 7
"""Numbers a touching point: place (3), gap, normal (3)."""


@kernel
def feature(shapes, k, at, dx, dy, dz, corners, both_ends):
    """The corners of the core that face a direction, in order around a face.

    Returns their number and how squarely the face meets the direction (its cosine; below zero: no face).
    `both_ends`: a segment or the side of a cylinder gives both ends, however it lies.
    """
    kind = shapes.kind[k]
    if kind == SPHERE:
        for e in range(3):
            corners[0, e] = at[9 + e]
        return 1, -1.0
    lx = at[0] * dx + at[3] * dy + at[6] * dz
    ly = at[1] * dx + at[4] * dy + at[7] * dz
    lz = at[2] * dx + at[5] * dy + at[8] * dz
    size = shapes.size[k]
    count, square = 0, -1.0
    if kind == CAPSULE:
        for sign in (-1.0, 1.0):
            if both_ends or abs(lz) < 0.1 or sign * lz > 0.0:
                corners[count, 0], corners[count, 1], corners[count, 2] = 0.0, 0.0, sign * size[0]
                count += 1
    elif kind == BOX:
        ux, uy, uz = abs(lx), abs(ly), abs(lz)
        x, y, z = size[0], size[1], size[2]
        count = 4
        if ux >= uy and ux >= uz:
            square = ux
            x = math.copysign(x, lx)
            for e in range(4):
                corners[e, 0] = x
                corners[e, 1] = y if e == 0 or e == 3 else -y
                corners[e, 2] = z if e < 2 else -z
        elif uy >= uz:
            square = uy
            y = math.copysign(y, ly)
            for e in range(4):
                corners[e, 0] = x if e == 0 or e == 3 else -x
                corners[e, 1] = y
                corners[e, 2] = z if e < 2 else -z
        else:
            square = uz
            z = math.copysign(z, lz)
            for e in range(4):
                corners[e, 0] = x if e == 0 or e == 3 else -x
                corners[e, 1] = y if e < 2 else -y
                corners[e, 2] = z
    elif kind == CYLINDER:
        if abs(lz) > 0.7:
            square = abs(lz)
            count = 8
            # tilted, its lowest point must be one of the corners; upright, they must not wander
            first = math.atan2(ly, lx) if lx * lx + ly * ly > 1e-8 else 0.0
            for e in range(8):
                turn = first + 0.25 * math.pi * e
                corners[e, 0], corners[e, 1] = size[0] * math.cos(turn), size[0] * math.sin(turn)
                corners[e, 2] = math.copysign(size[1], lz)
        else:
            across = math.sqrt(lx * lx + ly * ly)
            for sign in (-1.0, 1.0):
                if both_ends or abs(lz) < 0.1 or sign * lz > 0.0:
                    corners[count, 0], corners[count, 1] = size[0] * lx / across, size[0] * ly / across
                    corners[count, 2] = sign * size[1]
                    count += 1
    else:
        best = -1
        for f in range(shapes.face_range[k, 0], shapes.face_range[k, 1]):
            value = shapes.face_normals[f, 0] * lx + shapes.face_normals[f, 1] * ly + shapes.face_normals[f, 2] * lz
            if value > square:
                square, best = value, f
        if best >= 0:
            for e in range(shapes.faces.shape[1]):
                v = shapes.faces[best, e]
                if v < 0 or count >= MOST_CORNERS // 2:
                    break
                for d in range(3):
                    corners[count, d] = shapes.vertices[v, d]
                count += 1
    for e in range(count):
        x, y, z = corners[e, 0], corners[e, 1], corners[e, 2]
        corners[e, 0] = at[9] + at[0] * x + at[1] * y + at[2] * z
        corners[e, 1] = at[10] + at[3] * x + at[4] * y + at[5] * z
        corners[e, 2] = at[11] + at[6] * x + at[7] * y + at[8] * z
    return count, square


@kernel
def _clip(corners, count, face, sides, nx, ny, nz, spare):
    """Clip a polygon (or segment) to the prism over a face with outer normal n; returns how many corners are left."""
    mx, my, mz = 0.0, 0.0, 0.0
    for e in range(sides):
        mx += face[e, 0] / sides
        my += face[e, 1] / sides
        mz += face[e, 2] / sides
    for e in range(sides):
        o = (e + 1) % sides
        ex, ey, ez = face[o, 0] - face[e, 0], face[o, 1] - face[e, 1], face[o, 2] - face[e, 2]
        sx, sy, sz = ey * nz - ez * ny, ez * nx - ex * nz, ex * ny - ey * nx
        limit = sx * face[e, 0] + sy * face[e, 1] + sz * face[e, 2]
        if sx * mx + sy * my + sz * mz > limit:
            sx, sy, sz, limit = -sx, -sy, -sz, -limit
        size = math.sqrt(sx * sx + sy * sy + sz * sz)
        slack = 1e-9 * size
        left = 0
        for a in range(count):
            b = (a + 1) % count
            da = sx * corners[a, 0] + sy * corners[a, 1] + sz * corners[a, 2] - limit
            db = sx * corners[b, 0] + sy * corners[b, 1] + sz * corners[b, 2] - limit
            if da <= slack and left < MOST_CORNERS:
                for d in range(3):
                    spare[left, d] = corners[a, d]
                left += 1
            # a segment is not closed: its way back would give every cut twice
            crosses = (da > slack and db < -slack) or (da < -slack and db > slack)
            if crosses and left < MOST_CORNERS and not (count == 2 and a == 1):
                f = da / (da - db)
                for d in range(3):
                    spare[left, d] = corners[a, d] + f * (corners[b, d] - corners[a, d])
                left += 1
        for a in range(left):
            for d in range(3):
                corners[a, d] = spare[a, d]
        count = left
        if count == 0:
            break
    return count


@kernel
def keep_four(points, count):
    """Keep the deepest point and the three that span the widest area with it; rows as `POINT` says."""
    if count <= 4:
        return count
    deepest = 0
    for k in range(1, count):
        if points[k, 3] < points[deepest, 3] - 1e-9:
            deepest = k
    _swap(points, 0, deepest)
    best, far = -1.0, 1
    for k in range(1, count):
        size = 0.0
        for d in range(3):
            size += (points[k, d] - points[0, d]) ** 2
        if size > best + 1e-15:
            best, far = size, k
    _swap(points, 1, far)
    # the third and the fourth lie farthest to either side of the line through the first two
    for wanted in (2, 3):
        best, far = -1.0, wanted
        for k in range(wanted, count):
            c0, c1, c2 = _cross(points, 0, 1, k)
            size = c0 * c0 + c1 * c1 + c2 * c2
            if wanted == 3:
                d0, d1, d2 = _cross(points, 0, 1, 2)
                if c0 * d0 + c1 * d1 + c2 * d2 > 0.0:
                    continue
            if size > best + 1e-15:
                best, far = size, k
        if best < 0.0:
            return wanted
        _swap(points, wanted, far)
    return 4


@kernel(inline=True)
def _swap(points, a, b):
    for d in range(POINT):
        points[a, d], points[b, d] = points[b, d], points[a, d]


@kernel(inline=True)
def _cross(p, a, b, c):
    ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    vx, vy, vz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
    return uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx


@kernel
def collide(shapes_a, a, at_a, shapes_b, b, at_b, margin, points, g, corners):
    """Touching points of two shapes that are nearer than `margin`.

    Writes rows as `POINT` says, with the normal from b to a, to `points`; returns their number (at most four).
    `g` (6, 9) and `corners` (3, MOST_CORNERS, 3) are scratch.
    """
    ra, rb = shapes_a.radius[a], shapes_b.radius[b]
    distance = core_distance(shapes_a, a, at_a, shapes_b, b, at_b, g)
    if distance < 0.0:
        distance = least_overlap(shapes_a, a, at_a, shapes_b, b, at_b, g)
    gap = distance - ra - rb
    if gap > margin:
        return 0
    out = g[0]
    nx, ny, nz = out[0], out[1], out[2]
    points[0, 3] = gap
    for d in range(3):
        points[0, d] = out[6 + d] + out[d] * (rb + 0.5 * gap)
        points[0, 4 + d] = out[d]
    if shapes_a.kind[a] == SPHERE or shapes_b.kind[b] == SPHERE:
        return 1
    count_a, square_a = feature(shapes_a, a, at_a, -nx, -ny, -nz, corners[0], False)
    count_b, square_b = feature(shapes_b, b, at_b, nx, ny, nz, corners[1], False)
    if max(square_a, square_b) < _FLAT:
        return 1
    if square_a > square_b + 1e-6:
        face, other, sides, count, sign = corners[0], corners[1], count_a, count_b, -1.0
        shown, other_radius = ra, rb
    else:
        face, other, sides, count, sign = corners[1], corners[0], count_b, count_a, 1.0
        shown, other_radius = rb, ra
    # outer normal of the face itself, from its corners: exact where the found normal is nearly so
    fx, fy, fz = _cross(face, 0, 1, 2)
    size = math.sqrt(fx * fx + fy * fy + fz * fz)
    if size < 1e-15:
        return 1
    if (fx * nx + fy * ny + fz * nz) * sign < 0.0:
        size = -size
    fx, fy, fz = fx / size, fy / size, fz / size
    count = _clip(other, count, face, sides, fx, fy, fz, corners[2])
    found = 0
    for e in range(count):
        high = (
            ((other[e, 0] - face[0, 0]) * fx + (other[e, 1] - face[0, 1]) * fy + (other[e, 2] - face[0, 2]) * fz)
            - shown
            - other_radius
        )
        if high < margin:
            back = other_radius + 0.5 * high
            points[found, 0] = other[e, 0] - back * fx
            points[found, 1] = other[e, 1] - back * fy
            points[found, 2] = other[e, 2] - back * fz
            points[found, 3] = high
            points[found, 4], points[found, 5], points[found, 6] = sign * fx, sign * fy, sign * fz
            found += 1
    if found == 0:
        return 1
    return keep_four(points, found)
