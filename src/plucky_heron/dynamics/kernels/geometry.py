"""Distances and touching points of convex shapes.

Every shape is a core (point, segment, box, cylinder, convex hull) with a rounding radius. The distance of two cores is
found by the method of Gilbert, Johnson and Keerthi (IEEE J. Robotics and Automation 4, 1988), with the closest
point of a simplex by its Voronoi regions (C. Ericson, Real-Time Collision Detection, 2005, 5.1).
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.layout import BOX, CAPSULE, CONVEX, CYLINDER, ORIGIN, SPHERE
from plucky_heron.kernels import kernel


@kernel(inline=True)
def place_shape(nodes, poses, k, w, out):
    """Rotation (9) and place (3) of shape `k` in the world, into `out` (12)."""
    i = nodes[k]
    t = poses[k]
    if i < 0:
        for a in range(12):
            out[a] = t[a]
        return
    for a in range(3):
        for b in range(3):
            out[3 * a + b] = w[i, 3 * a] * t[b] + w[i, 3 * a + 1] * t[3 + b] + w[i, 3 * a + 2] * t[6 + b]
        out[9 + a] = w[i, ORIGIN + a] + w[i, 3 * a] * t[9] + w[i, 3 * a + 1] * t[10] + w[i, 3 * a + 2] * t[11]


@kernel(inline=True)
def core_of(shapes, k):
    """What `support` asks of a shape: kind, three sizes, corners of hulls, and which of those are its own."""
    size, own = shapes.size[k], shapes.vertex_range[k]
    return shapes.kind[k], size[0], size[1], size[2], shapes.vertices, own[0], own[1]


@kernel(inline=True)
def support(kind, sx, sy, sz, vertices, first, last, at, dx, dy, dz):
    """The point of a core that lies farthest along a world direction; `vertices` first..last are a hull's."""
    if kind == SPHERE:
        return at[9], at[10], at[11]
    lx = at[0] * dx + at[3] * dy + at[6] * dz
    ly = at[1] * dx + at[4] * dy + at[7] * dz
    lz = at[2] * dx + at[5] * dy + at[8] * dz
    if kind == CAPSULE:
        x, y, z = 0.0, 0.0, math.copysign(sx, lz)
    elif kind == BOX:
        x, y, z = math.copysign(sx, lx), math.copysign(sy, ly), math.copysign(sz, lz)
    elif kind == CYLINDER:
        across = math.sqrt(lx * lx + ly * ly)
        f = sx / across if across > 1e-12 else 0.0
        x, y, z = f * lx, f * ly, math.copysign(sy, lz)
    else:
        best, at_best = -math.inf, first
        for v in range(first, last):
            value = vertices[v, 0] * lx + vertices[v, 1] * ly + vertices[v, 2] * lz
            if value > best:
                best, at_best = value, v
        x, y, z = vertices[at_best, 0], vertices[at_best, 1], vertices[at_best, 2]
    return (
        at[9] + at[0] * x + at[1] * y + at[2] * z,
        at[10] + at[3] * x + at[4] * y + at[5] * z,
        at[11] + at[6] * x + at[7] * y + at[8] * z,
    )


@kernel(inline=True)
def _dot(s, a, b):
    return s[a, 0] * s[b, 0] + s[a, 1] * s[b, 1] + s[a, 2] * s[b, 2]


@kernel
def _triangle(s, a, b, c):
    """Weights of the point of a triangle that is closest to the origin (Ericson 2005, 5.1.5)."""
    ab0, ab1, ab2 = s[b, 0] - s[a, 0], s[b, 1] - s[a, 1], s[b, 2] - s[a, 2]
    ac0, ac1, ac2 = s[c, 0] - s[a, 0], s[c, 1] - s[a, 1], s[c, 2] - s[a, 2]
    d1 = -(ab0 * s[a, 0] + ab1 * s[a, 1] + ab2 * s[a, 2])
    d2 = -(ac0 * s[a, 0] + ac1 * s[a, 1] + ac2 * s[a, 2])
    if d1 <= 0.0 and d2 <= 0.0:
        return 1.0, 0.0, 0.0
    d3 = -(ab0 * s[b, 0] + ab1 * s[b, 1] + ab2 * s[b, 2])
    d4 = -(ac0 * s[b, 0] + ac1 * s[b, 1] + ac2 * s[b, 2])
    if d3 >= 0.0 and d4 <= d3:
        return 0.0, 1.0, 0.0
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        f = d1 / (d1 - d3)
        return 1.0 - f, f, 0.0
    d5 = -(ab0 * s[c, 0] + ab1 * s[c, 1] + ab2 * s[c, 2])
    d6 = -(ac0 * s[c, 0] + ac1 * s[c, 1] + ac2 * s[c, 2])
    if d6 >= 0.0 and d5 <= d6:
        return 0.0, 0.0, 1.0
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        f = d2 / (d2 - d6)
        return 1.0 - f, 0.0, f
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        f = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return 0.0, 1.0 - f, f
    k = 1.0 / (va + vb + vc)
    return 1.0 - (vb + vc) * k, vb * k, vc * k


@kernel(inline=True)
def _outside(s, a, b, c, d):
    """Whether the origin lies on the other side of plane abc than d."""
    n0 = (s[b, 1] - s[a, 1]) * (s[c, 2] - s[a, 2]) - (s[b, 2] - s[a, 2]) * (s[c, 1] - s[a, 1])
    n1 = (s[b, 2] - s[a, 2]) * (s[c, 0] - s[a, 0]) - (s[b, 0] - s[a, 0]) * (s[c, 2] - s[a, 2])
    n2 = (s[b, 0] - s[a, 0]) * (s[c, 1] - s[a, 1]) - (s[b, 1] - s[a, 1]) * (s[c, 0] - s[a, 0])
    origin = -(n0 * s[a, 0] + n1 * s[a, 1] + n2 * s[a, 2])
    other = n0 * (s[d, 0] - s[a, 0]) + n1 * (s[d, 1] - s[a, 1]) + n2 * (s[d, 2] - s[a, 2])
    return origin * other <= 0.0


@kernel
def _closest(s, count, weight):
    """Weights of the point of the simplex closest to the origin; returns False when the origin is inside."""
    for k in range(4):
        weight[k] = 0.0
    if count == 1:
        weight[0] = 1.0
        return True
    if count == 2:
        e = _dot(s, 0, 0) - 2.0 * _dot(s, 0, 1) + _dot(s, 1, 1)
        f = min(max((_dot(s, 0, 0) - _dot(s, 0, 1)) / e, 0.0), 1.0) if e > 0.0 else 0.0
        weight[0], weight[1] = 1.0 - f, f
        return True
    if count == 3:
        weight[0], weight[1], weight[2] = _triangle(s, 0, 1, 2)
        return True
    best = math.inf
    for face in range(4):
        a, b, c, d = 0, 1, 2, 3
        if face == 1:
            a, b, c, d = 0, 2, 3, 1
        elif face == 2:
            a, b, c, d = 0, 3, 1, 2
        elif face == 3:
            a, b, c, d = 1, 3, 2, 0
        if not _outside(s, a, b, c, d):
            continue
        u, v, t = _triangle(s, a, b, c)
        x = u * s[a, 0] + v * s[b, 0] + t * s[c, 0]
        y = u * s[a, 1] + v * s[b, 1] + t * s[c, 1]
        z = u * s[a, 2] + v * s[b, 2] + t * s[c, 2]
        size = x * x + y * y + z * z
        if size < best:
            best = size
            for k in range(4):
                weight[k] = 0.0
            weight[a], weight[b], weight[c] = u, v, t
    return best < math.inf


@kernel
def core_distance(shapes_a, a, at_a, shapes_b, b, at_b, g):
    """Distance of two cores and the closest points, into g[0]: normal from b to a (3), point on a (3), on b (3).

    Returns the distance, or -1 when the cores overlap. `g` is scratch (at least 16, 9).
    """
    s = g[1:5]
    weight = g[5]
    kind_a, xa, ya, za, vertices_a, first_a, last_a = core_of(shapes_a, a)
    kind_b, xb, yb, zb, vertices_b, first_b, last_b = core_of(shapes_b, b)
    dx, dy, dz = at_a[9] - at_b[9], at_a[10] - at_b[10], at_a[11] - at_b[11]
    count = 0
    distance = math.inf
    for _ in range(40):
        ax, ay, az = support(kind_a, xa, ya, za, vertices_a, first_a, last_a, at_a, -dx, -dy, -dz)
        bx, by, bz = support(kind_b, xb, yb, zb, vertices_b, first_b, last_b, at_b, dx, dy, dz)
        wx, wy, wz = ax - bx, ay - by, az - bz
        if count > 0:
            # no support point lies clearly nearer: done
            if distance * distance - (dx * wx + dy * wy + dz * wz) <= 1e-12 * (1.0 + distance * distance):
                break
            twice = False
            for k in range(count):
                if s[k, 0] == wx and s[k, 1] == wy and s[k, 2] == wz:
                    twice = True
            if twice:
                break
        s[count, 0], s[count, 1], s[count, 2] = wx, wy, wz
        s[count, 3], s[count, 4], s[count, 5] = ax, ay, az
        s[count, 6], s[count, 7], s[count, 8] = bx, by, bz
        count += 1
        if not _closest(s, count, weight):
            return -1.0
        kept = 0
        for k in range(count):
            if weight[k] > 0.0:
                if kept != k:
                    weight[kept] = weight[k]
                    for e in range(9):
                        s[kept, e] = s[k, e]
                kept += 1
        count = kept
        dx, dy, dz = 0.0, 0.0, 0.0
        for k in range(count):
            dx += weight[k] * s[k, 0]
            dy += weight[k] * s[k, 1]
            dz += weight[k] * s[k, 2]
        now = math.sqrt(dx * dx + dy * dy + dz * dz)
        if now < 1e-9:
            return -1.0
        if now >= distance:
            break
        distance = now
    out = g[0]
    for e in range(9):
        out[e] = 0.0
    for k in range(count):
        for e in range(6):
            out[3 + e] += weight[k] * s[k, 3 + e]
    out[0], out[1], out[2] = out[3] - out[6], out[4] - out[7], out[5] - out[8]
    distance = math.sqrt(out[0] * out[0] + out[1] * out[1] + out[2] * out[2])
    if distance < 1e-9:
        return -1.0
    for e in range(3):
        out[e] /= distance
    return distance


@kernel
def least_overlap(shapes_a, a, at_a, shapes_b, b, at_b, g):
    """Normal (b to a) of the least overlap over the face directions and the line of centres; cores overlap."""
    best = -math.inf
    out = g[0]
    kind_a, xa, ya, za, vertices_a, first_a, last_a = core_of(shapes_a, a)
    kind_b, xb, yb, zb, vertices_b, first_b, last_b = core_of(shapes_b, b)
    for side in range(3):
        faces = 1
        if side < 2:
            shapes, k, at = (shapes_a, a, at_a) if side == 0 else (shapes_b, b, at_b)
            kind = shapes.kind[k]
            faces = 6 if kind == BOX or kind == CYLINDER else 0
            if kind == CONVEX:
                faces = shapes.face_range[k, 1] - shapes.face_range[k, 0]
        for f in range(faces):
            if side == 2:
                nx, ny, nz = at_a[9] - at_b[9], at_a[10] - at_b[10], at_a[11] - at_b[11]
                size = math.sqrt(nx * nx + ny * ny + nz * nz)
                if size < 1e-9:
                    nx, ny, nz, size = 0.0, 0.0, 1.0, 1.0
                nx, ny, nz = nx / size, ny / size, nz / size
            else:
                if kind == CONVEX:
                    v = shapes.face_normals[shapes.face_range[k, 0] + f]
                    x, y, z = v[0], v[1], v[2]
                else:
                    x, y, z = 0.0, 0.0, 0.0
                    sign = 1.0 if f < 3 else -1.0
                    if f % 3 == 0:
                        x = sign
                    elif f % 3 == 1:
                        y = sign
                    else:
                        z = sign
                nx = at[0] * x + at[1] * y + at[2] * z
                ny = at[3] * x + at[4] * y + at[5] * z
                nz = at[6] * x + at[7] * y + at[8] * z
                if side == 0:
                    nx, ny, nz = -nx, -ny, -nz
            ax, ay, az = support(kind_a, xa, ya, za, vertices_a, first_a, last_a, at_a, -nx, -ny, -nz)
            bx, by, bz = support(kind_b, xb, yb, zb, vertices_b, first_b, last_b, at_b, nx, ny, nz)
            gap = (ax - bx) * nx + (ay - by) * ny + (az - bz) * nz
            if gap > best:
                best = gap
                out[0], out[1], out[2] = nx, ny, nz
                out[3], out[4], out[5] = ax, ay, az
                out[6], out[7], out[8] = bx, by, bz
    return best
