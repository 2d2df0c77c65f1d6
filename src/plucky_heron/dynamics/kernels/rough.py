"""Rough ground as triangles: two to a cell of the grid, divided from its far x to its far y corner.

Balls, capsules, edges of boxes and hulls, rays, tyres and heights all see the same triangles; beyond the grid its border
goes on.
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.geometry import core_of, support
from plucky_heron.dynamics.kernels.layout import BOX, CAPSULE, CONVEX, CYLINDER
from plucky_heron.kernels import kernel


@kernel(inline=True)
def _extent(g):
    """Columns and rows of a grid, and where its heights begin."""
    return int(g[4]), int(g[5]), int(g[6])


@kernel(inline=True)
def _height(extent, heights, i, j):
    columns, rows, first = extent
    return heights[first + min(max(j, 0), rows - 1) * columns + min(max(i, 0), columns - 1)]


@kernel
def ground_on_grid(g, heights, x, y):
    """Height and unit normal of the ground at (x, y)."""
    gx, gy, extent = g[2], g[3], _extent(g)
    u, t = (x - g[0]) / gx, (y - g[1]) / gy
    i, j = math.floor(u), math.floor(t)
    u, t, i, j = u - i, t - j, int(i), int(j)
    b, c = _height(extent, heights, i + 1, j), _height(extent, heights, i, j + 1)
    if u + t <= 1.0:
        a = _height(extent, heights, i, j)
        high, sx, sy = a + (b - a) * u + (c - a) * t, (b - a) / gx, (c - a) / gy
    else:
        d = _height(extent, heights, i + 1, j + 1)
        high, sx, sy = d + (c - d) * (1.0 - u) + (b - d) * (1.0 - t), (d - c) / gx, (d - b) / gy
    k = 1.0 / math.sqrt(1.0 + sx * sx + sy * sy)
    return high, -sx * k, -sy * k, k


@kernel(inline=True)
def _edge(g, extent, heights, i, j, which):
    """Ends of an edge of cell (i, j), and the corners that lie opposite to it in its two triangles.

    0: from the near corner along x; 1: from it along y; 2: the diagonal.
    """
    gx, gy = g[2], g[3]
    x, y = g[0] + i * gx, g[1] + j * gy
    if which == 0:
        return (
            x, y, _height(extent, heights, i, j), x + gx, y, _height(extent, heights, i + 1, j),
            x, y + gy, _height(extent, heights, i, j + 1), x + gx, y - gy, _height(extent, heights, i + 1, j - 1),
        )  # fmt: skip
    if which == 1:
        return (
            x, y, _height(extent, heights, i, j), x, y + gy, _height(extent, heights, i, j + 1),
            x + gx, y, _height(extent, heights, i + 1, j), x - gx, y + gy, _height(extent, heights, i - 1, j + 1),
        )  # fmt: skip
    return (
        x + gx, y, _height(extent, heights, i + 1, j), x, y + gy, _height(extent, heights, i, j + 1),
        x, y, _height(extent, heights, i, j), x + gx, y + gy, _height(extent, heights, i + 1, j + 1),
    )  # fmt: skip


@kernel(inline=True)
def _stands_out(ex, ey, ez, nx, ny, nz, ax, ay, az, bx, by, bz):
    """Whether a plane through a point of an edge leaves both opposite corners on its far side: it touches there first."""
    return (
        (ax - ex) * nx + (ay - ey) * ny + (az - ez) * nz <= 1e-9
        and (bx - ex) * nx + (by - ey) * ny + (bz - ez) * nz <= 1e-9
    )  # fmt: skip


@kernel(inline=True)
def _note(points, found, x, y, z, nx, ny, nz, gap):
    points[found, 0], points[found, 1], points[found, 2] = x, y, z
    points[found, 3] = gap
    points[found, 4], points[found, 5], points[found, 6] = nx, ny, nz


@kernel
def ball_on_grid(first, x, y, z, radius, margin, g, heights, points):
    """Touching points of a ball on the triangles, from row `first`; returns where they end.

    Every triangle that its centre stands over gives one; an edge or a corner only where it is nearer than all of them.
    """
    gx, gy, extent = g[2], g[3], _extent(g)
    reach = radius + margin
    if z - reach > g[7]:
        return first
    found, lowest = first, math.inf
    i0, i1 = int(math.floor((x - reach - g[0]) / gx)), int(math.floor((x + reach - g[0]) / gx))
    j0, j1 = int(math.floor((y - reach - g[1]) / gy)), int(math.floor((y + reach - g[1]) / gy))
    best, bx, by, bz = math.inf, 0.0, 0.0, 0.0
    for i in range(i0, i1 + 1):
        for j in range(j0, j1 + 1):
            b, c = _height(extent, heights, i + 1, j), _height(extent, heights, i, j + 1)
            a, d = _height(extent, heights, i, j), _height(extent, heights, i + 1, j + 1)
            if z - reach > max(max(a, b), max(c, d)):
                continue
            px, py = g[0] + i * gx, g[1] + j * gy
            for half in range(2):
                sx, sy = ((b - a) / gx, (c - a) / gy) if half == 0 else ((d - c) / gx, (d - b) / gy)
                k = 1.0 / math.sqrt(1.0 + sx * sx + sy * sy)
                low = a + sx * (x - px) + sy * (y - py) if half == 0 else d + sx * (x - px - gx) + sy * (y - py - gy)
                away = (z - low) * k
                u, t = (x + sx * k * away - px) / gx, (y + sy * k * away - py) / gy
                inside = u >= 0.0 and t >= 0.0 and u + t <= 1.0 if half == 0 else u <= 1.0 and t <= 1.0 and u + t > 1.0
                # on the line between two triangles that lie in one plane: once
                known = False
                if inside and found > first:
                    last = points[found - 1]
                    known = abs(last[4] + sx * k) + abs(last[5] + sy * k) + abs(last[3] - away + radius) < 1e-9
                if inside and away - radius < margin and found < points.shape[0] and not known:
                    back = radius + 0.5 * (away - radius)
                    _note(
                        points,
                        found,
                        x + sx * k * back,
                        y + sy * k * back,
                        z - k * back,
                        -sx * k,
                        -sy * k,
                        k,
                        away - radius,
                    )
                    lowest = min(lowest, away - radius)
                    found += 1
            for which in range(3):
                x0, y0, z0, x1, y1, z1, ax, ay, az, cx, cy, cz = _edge(g, extent, heights, i, j, which)
                if z0 + z1 - az - cz < 1e-9:
                    continue
                ex, ey, ez = x1 - x0, y1 - y0, z1 - z0
                f = ((x - x0) * ex + (y - y0) * ey + (z - z0) * ez) / (ex * ex + ey * ey + ez * ez)
                f = min(max(f, 0.0), 1.0)
                qx, qy, qz = x0 + f * ex, y0 + f * ey, z0 + f * ez
                nx, ny, nz = x - qx, y - qy, z - qz
                size = math.sqrt(nx * nx + ny * ny + nz * nz)
                if size < 1e-9 or size >= best or nz <= 0.0:
                    continue
                if _stands_out(qx, qy, qz, nx / size, ny / size, nz / size, ax, ay, az, cx, cy, cz):
                    best, bx, by, bz = size, nx / size, ny / size, nz / size
    gap = best - radius
    if gap < margin and gap < lowest - 1e-6 and found < points.shape[0]:
        back = radius + 0.5 * gap
        _note(points, found, x - bx * back, y - by * back, z - bz * back, bx, by, bz, gap)
        found += 1
    return found


@kernel
def _crossing(found, shapes, k, at, x0, y0, z0, x1, y1, z1, thick, radius, depth, margin, g, heights, points):
    """Touching points of one edge of a shape (a segment, `thick` around) with edges of the ground that stand out."""
    wide = thick + radius + margin
    if min(z0, z1) - wide > g[7]:
        return found
    gx, gy, extent = g[2], g[3], _extent(g)
    i0, i1 = int(math.floor((min(x0, x1) - wide - g[0]) / gx)), int(math.floor((max(x0, x1) + wide - g[0]) / gx))
    dx, dy, dz = x1 - x0, y1 - y0, z1 - z0
    per_x = 1.0 / dx if abs(dx) > 1e-9 else 0.0
    kind, sx, sy, sz, vertices, first, last = core_of(shapes, k)
    for i in range(i0, i1 + 1):
        # the piece of the segment that comes near this column of cells, and how low it comes there
        f0, f1 = 0.0, 1.0
        if per_x != 0.0:
            f0 = (g[0] + (i if per_x > 0.0 else i + 1) * gx - math.copysign(wide, per_x) - x0) * per_x
            f1 = (g[0] + (i + 1 if per_x > 0.0 else i) * gx + math.copysign(wide, per_x) - x0) * per_x
            f0, f1 = max(f0, 0.0), min(f1, 1.0)
        low = z0 + min(f0 * dz, f1 * dz) - wide
        near, far = y0 + min(f0 * dy, f1 * dy) - wide, y0 + max(f0 * dy, f1 * dy) + wide
        for j in range(int(math.floor((near - g[1]) / gy)), int(math.floor((far - g[1]) / gy)) + 1):
            a, b = _height(extent, heights, i, j), _height(extent, heights, i + 1, j)
            c = _height(extent, heights, i, j + 1)
            if low > max(max(a, b), c):
                continue
            for which in range(3):
                if found >= points.shape[0]:
                    return found
                ax, ay, az, bx, by, bz, px, py, pz, qx, qy, qz = _edge(g, extent, heights, i, j, which)
                # the middle of the opposite corners is below that of the edge, or it is a valley
                if low > max(az, bz) or az + bz - pz - qz < 1e-9:
                    continue
                ex, ey, ez = bx - ax, by - ay, bz - az
                nx, ny, nz = dy * ez - dz * ey, dz * ex - dx * ez, dx * ey - dy * ex
                size = math.sqrt(nx * nx + ny * ny + nz * nz)
                if size < 1e-9 or abs(nz) < 0.1 * size:
                    continue
                size = math.copysign(size, nz)
                nx, ny, nz = nx / size, ny / size, nz / size
                # where the two lines come nearest: both are crossed by the plane of the other and n
                wx, wy, wz = ax - x0, ay - y0, az - z0
                mx, my, mz = ey * nz - ez * ny, ez * nx - ex * nz, ex * ny - ey * nx
                s = (wx * mx + wy * my + wz * mz) / (dx * mx + dy * my + dz * mz)
                mx, my, mz = dy * nz - dz * ny, dz * nx - dx * nz, dx * ny - dy * nx
                t = -(wx * mx + wy * my + wz * mz) / (ex * mx + ey * my + ez * mz)
                if not (0.0 <= s <= 1.0 and 0.0 <= t <= 1.0):
                    continue
                cx, cy, cz = ax + t * ex, ay + t * ey, az + t * ez
                gap = (x0 + s * dx - cx) * nx + (y0 + s * dy - cy) * ny + (z0 + s * dz - cz) * nz - thick - radius
                if gap >= margin or gap < -depth or not _stands_out(cx, cy, cz, nx, ny, nz, px, py, pz, qx, qy, qz):
                    continue
                if kind == BOX or kind == CONVEX:
                    # the edge must be what the shape turns downwards along this normal
                    lx, ly, lz = support(kind, sx, sy, sz, vertices, first, last, at, -nx, -ny, -nz)
                    if (lx - x0 - s * dx) * nx + (ly - y0 - s * dy) * ny + (lz - z0 - s * dz) * nz < -1e-6:
                        continue
                _note(points, found, cx + 0.5 * gap * nx, cy + 0.5 * gap * ny, cz + 0.5 * gap * nz, nx, ny, nz, gap)
                found += 1
    return found


@kernel
def edges_on_grid(found, shapes, k, kind, radius, at, margin, g, heights, points):
    """Touching points of a shape's edges (of a capsule's middle, of a cylinder's side) with edges of the ground."""
    size = shapes.size[k]
    if at[11] - shapes.reach[k] - margin > g[7]:
        return found
    if kind == CAPSULE or kind == CYLINDER:
        half, thick = (size[0], 0.0) if kind == CAPSULE else (size[1], size[0])
        ox, oy, oz = half * at[2], half * at[5], half * at[8]
        return _crossing(
            found, shapes, k, at, at[9] - ox, at[10] - oy, at[11] - oz, at[9] + ox, at[10] + oy, at[11] + oz, thick,
            radius, thick + radius + half, margin, g, heights, points,
        )  # fmt: skip
    if kind == BOX:
        for axis in range(3):
            for corner in range(4):
                p, q = 1.0 if corner & 1 else -1.0, 1.0 if corner & 2 else -1.0
                # how squarely it can look down between its two faces: no ground is met that is steeper than all there is
                one = -(p * at[6] if axis > 0 else p * at[7])
                two = -(q * at[7] if axis == 2 else q * at[8])
                down = math.sqrt(one * one + two * two) if one > 0.0 and two > 0.0 else max(one, two)
                if down < g[8] - 1e-6:
                    continue
                lx = 0.0 if axis == 0 else p * size[0]
                ly = 0.0 if axis == 1 else (p if axis == 0 else q) * size[1]
                lz = 0.0 if axis == 2 else q * size[2]
                mx = at[9] + at[0] * lx + at[1] * ly + at[2] * lz
                my = at[10] + at[3] * lx + at[4] * ly + at[5] * lz
                mz = at[11] + at[6] * lx + at[7] * ly + at[8] * lz
                ox, oy, oz = size[axis] * at[axis], size[axis] * at[3 + axis], size[axis] * at[6 + axis]
                found = _crossing(
                    found, shapes, k, at, mx - ox, my - oy, mz - oz, mx + ox, my + oy, mz + oz, 0.0, radius,
                    shapes.reach[k], margin, g, heights, points,
                )  # fmt: skip
        return found
    if kind == CONVEX:
        for f in range(shapes.face_range[k, 0], shapes.face_range[k, 1]):
            for e in range(shapes.faces.shape[1]):
                v = shapes.faces[f, e]
                if v < 0:
                    break
                after = shapes.faces[f, e + 1] if e + 1 < shapes.faces.shape[1] else -1
                o = after if after >= 0 else shapes.faces[f, 0]
                if v > o:  # each edge once: the other face has it the other way round
                    continue
                a, b = shapes.vertices[v], shapes.vertices[o]
                found = _crossing(
                    found, shapes, k, at,
                    at[9] + at[0] * a[0] + at[1] * a[1] + at[2] * a[2], at[10] + at[3] * a[0] + at[4] * a[1] + at[5] * a[2],
                    at[11] + at[6] * a[0] + at[7] * a[1] + at[8] * a[2],
                    at[9] + at[0] * b[0] + at[1] * b[1] + at[2] * b[2], at[10] + at[3] * b[0] + at[4] * b[1] + at[5] * b[2],
                    at[11] + at[6] * b[0] + at[7] * b[1] + at[8] * b[2],
                    0.0, radius, shapes.reach[k], margin, g, heights, points,
                )  # fmt: skip
    return found


@kernel
def ray_to_grid(g, heights, ox, oy, oz, dx, dy, dz, farthest):
    """Distance along a ray (unit) to the triangles, or infinity: cell by cell as it crosses them."""
    gx, gy, extent = g[2], g[3], _extent(g)
    if oz <= ground_on_grid(g, heights, ox, oy)[0]:
        return 0.0
    u, t = (ox - g[0]) / gx, (oy - g[1]) / gy
    i, j = int(math.floor(u)), int(math.floor(t))
    # way along the ray to the next line of the grid in each direction, and between two of them
    step_i, step_j = 1 if dx > 0.0 else -1, 1 if dy > 0.0 else -1
    across_x = gx / abs(dx) if abs(dx) > 1e-12 else math.inf
    across_y = gy / abs(dy) if abs(dy) > 1e-12 else math.inf
    next_x = ((i + 1 - u) if dx > 0.0 else (u - i)) * across_x if across_x < math.inf else math.inf
    next_y = ((j + 1 - t) if dy > 0.0 else (t - j)) * across_y if across_y < math.inf else math.inf
    enter = 0.0
    while enter <= farthest:
        leave = min(next_x, next_y)
        a, b = _height(extent, heights, i, j), _height(extent, heights, i + 1, j)
        c, d = _height(extent, heights, i, j + 1), _height(extent, heights, i + 1, j + 1)
        top = max(max(a, b), max(c, d))
        if oz + enter * dz <= top or leave == math.inf or oz + leave * dz <= top:
            best = math.inf
            px, py = ox - g[0] - i * gx, oy - g[1] - j * gy
            for half in range(2):
                sx, sy = ((b - a) / gx, (c - a) / gy) if half == 0 else ((d - c) / gx, (d - b) / gy)
                low = a + sx * px + sy * py if half == 0 else d + sx * (px - gx) + sy * (py - gy)
                fall = dz - sx * dx - sy * dy
                if fall >= -1e-12:
                    continue
                way = (oz - low) / -fall
                if way < enter - 1e-9 or way > min(leave, farthest) + 1e-9:
                    continue
                share = (px + way * dx) / gx + (py + way * dy) / gy
                if share <= 1.0 + 1e-9 if half == 0 else share >= 1.0 - 1e-9:
                    best = min(best, way)
            if best < math.inf:
                return max(best, 0.0)
        if leave == math.inf:
            break
        enter = leave
        if next_x <= next_y:
            i += step_i
            next_x += across_x
        else:
            j += step_j
            next_y += across_y
    return math.inf
