"""Tyres on the ground and on the site's shapes."""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.kernels.forces import direction_of, point_of, push_at, velocity_at
from plucky_heron.dynamics.kernels.layout import BOX, CAPSULE, CONVEX, CYLINDER, FORCE, TYRE
from plucky_heron.dynamics.kernels.places import ground_at
from plucky_heron.kernels import kernel

CARCASS = 0.02
"""Damping of the carcass along and across: this many seconds times its stiffness, where the wheel stands."""


@kernel
def _off_shape(shapes, b, x, y, z):
    """Distance of a point outside a shape from its surface, and the direction away from it; inside: 0 and upwards."""
    at, size, kind = shapes.pose[b], shapes.size[b], shapes.kind[b]
    dx, dy, dz = x - at[9], y - at[10], z - at[11]
    lx = at[0] * dx + at[3] * dy + at[6] * dz
    ly = at[1] * dx + at[4] * dy + at[7] * dz
    lz = at[2] * dx + at[5] * dy + at[8] * dz
    # what is left of the way to the core
    if kind == BOX:
        lx -= min(max(lx, -size[0]), size[0])
        ly -= min(max(ly, -size[1]), size[1])
        lz -= min(max(lz, -size[2]), size[2])
    elif kind == CAPSULE:
        lz -= min(max(lz, -size[0]), size[0])
    elif kind == CYLINDER:
        across = math.sqrt(lx * lx + ly * ly)
        keep = max(across - size[0], 0.0) / across if across > 1e-12 else 0.0
        lx, ly = keep * lx, keep * ly
        lz -= min(max(lz, -size[1]), size[1])
    elif kind == CONVEX:
        # the face that it is farthest outside of: exact over faces, a little short over edges
        best, nx, ny, nz = -math.inf, 0.0, 0.0, 1.0
        for f in range(shapes.face_range[b, 0], shapes.face_range[b, 1]):
            v = shapes.faces[f, 0]
            fx, fy, fz = shapes.face_normals[f, 0], shapes.face_normals[f, 1], shapes.face_normals[f, 2]
            away = (
                fx * (lx - shapes.vertices[v, 0])
                + fy * (ly - shapes.vertices[v, 1])
                + fz * (lz - shapes.vertices[v, 2])
            )
            if away > best:
                best, nx, ny, nz = away, fx, fy, fz
        lx, ly, lz = max(best, 0.0) * nx, max(best, 0.0) * ny, max(best, 0.0) * nz
    far = math.sqrt(lx * lx + ly * ly + lz * lz)
    if far < 1e-9:
        return 0.0, 0.0, 0.0, 1.0
    lx, ly, lz = lx / far, ly / far, lz / far
    return (
        far - shapes.radius[b], at[0] * lx + at[1] * ly + at[2] * lz, at[3] * lx + at[4] * ly + at[5] * lz,
        at[6] * lx + at[7] * ly + at[8] * lz,
    )  # fmt: skip


@kernel
def tyre(row, b, a, carrier, w, pushes, slip, kinds, planes, grids, heights, solids, first, last, s, h):
    """One tyre: deflections along and across grow with slip and relax over the distance rolled, on a friction ellipse.

    The relaxation-length model (H. B. Pacejka, Tyre and Vehicle Dynamics, 2012, section 7.2) with straight
    characteristics cut off at the ellipse; it holds at standstill, where slip as a ratio has no meaning. What is beyond
    the ellipse slides in the direction of greatest dissipation (the closest-point return of plasticity: J. C. Simo,
    T. J. R. Hughes, Computational Inelasticity, 1998, section 3.3), so that a locked tyre brakes against its motion
    whatever its stiffnesses are. It stands on the ground or on that of the site's shapes which it presses deepest.
    """
    x, y, z = point_of(
        w, a, row[b + layout.TYRE_CENTRE], row[b + layout.TYRE_CENTRE + 1], row[b + layout.TYRE_CENTRE + 2]
    )
    ax, ay, az = direction_of(
        w, a, row[b + layout.TYRE_AXIS], row[b + layout.TYRE_AXIS + 1], row[b + layout.TYRE_AXIS + 2]
    )
    ground, nx, ny, nz = ground_at(kinds, planes, grids, heights, s, x, y)
    radius = row[b + layout.TYRE_RADIUS]
    load = row[b + layout.TYRE_LOAD]
    low = radius
    ux, uy, uz = velocity_at(w, carrier, x, y, z)
    if row[b + layout.TYRE_RADIAL_STIFFNESS] > 0.0:
        low = (z - ground) * nz
        for k in range(first, last):
            dx, dy, dz = x - solids.pose[k, 9], y - solids.pose[k, 10], z - solids.pose[k, 11]
            far = radius + solids.reach[k]
            if dx * dx + dy * dy + dz * dz > far * far:
                continue
            off, ox, oy, oz = _off_shape(solids, k, x, y, z)
            # a wall beside the wheel is none that it rolls on
            if off < low and abs(ox * ax + oy * ay + oz * az) < 0.7:
                low, nx, ny, nz = off, ox, oy, oz
        sunk = radius - low
        if sunk <= 0.0:
            slip[0] = 0.0
            slip[1] = 0.0
            slip[2] = 0.0
            return
        sinking = -(ux * nx + uy * ny + uz * nz)
        load = max(0.0, row[b + layout.TYRE_RADIAL_STIFFNESS] * sunk + row[b + layout.TYRE_RADIAL_DAMPING] * sinking)
    elif ground == -math.inf:
        nx, ny, nz = 0.0, 0.0, 1.0
    # along = axis x normal, across = normal x along
    tx, ty, tz = ay * nz - az * ny, az * nx - ax * nz, ax * ny - ay * nx
    k = 1.0 / math.sqrt(tx * tx + ty * ty + tz * tz + 1e-30)
    tx, ty, tz = k * tx, k * ty, k * tz
    cx, cy, cz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
    forward = ux * tx + uy * ty + uz * tz
    sideways = ux * cx + uy * cy + uz * cz
    px, py, pz = x - low * nx, y - low * ny, z - low * nz
    length = row[b + layout.TYRE_RELAXATION]
    kx, ky = row[b + layout.TYRE_STIFFNESS] / length, row[b + layout.TYRE_STIFFNESS + 1] / length
    most_x, most_y = row[b + layout.TYRE_FRICTION] * load, row[b + layout.TYRE_FRICTION + 1] * load
    slipping, rolling, gives = forward, forward, False
    if row[b + layout.TYRE_ROLLS_FREELY] == 0.0:
        wx, wy, wz = velocity_at(w, a, px, py, pz)
        slipping = wx * tx + wy * ty + wz * tz
        rolling = forward - slipping
        along = (slip[0] - h * slipping) / (1.0 + h * abs(rolling) / length)
    else:
        # rolling resistance of a wheel without a joint of its own: it holds at standstill and then gives way
        most = row[b + layout.TYRE_ROLLING_RESISTANCE] * load / kx
        along = slip[0] - h * forward
        gives = abs(along) >= most
        along = min(max(along, -most), most)
    # what has left the ground is straight again: by the way rolled, so not under a locked wheel
    across = (slip[1] - h * sideways) / (1.0 + h * abs(rolling) / length)
    # a little damping in the carcass, or a standing vehicle would rock for ever
    still = CARCASS * math.exp(-abs(forward))
    fx, fy = kx * along, ky * across
    fx, fy, slides = _within(fx, fy, kx, ky, most_x, most_y)
    slip[0], slip[1], slip[2] = fx / kx, fy / ky, load
    if not slides:
        if not gives:
            fx -= still * kx * slipping
        fy -= still * ky * sideways
    stands = load if row[b + layout.TYRE_RADIAL_STIFFNESS] > 0.0 else 0.0
    push_at(
        pushes, a, px, py, pz, fx * tx + fy * cx + stands * nx, fx * ty + fy * cy + stands * ny,
        fx * tz + fy * cz + stands * nz,
    )  # fmt: skip


@kernel(inline=True)
def _within(fx, fy, kx, ky, most_x, most_y):
    """The force on the friction ellipse that is nearest in the tyre's own compliance, and whether it had to be moved."""
    if most_x <= 0.0 or most_y <= 0.0:
        return 0.0, 0.0, True
    over = (fx / most_x) ** 2 + (fy / most_y) ** 2
    if over <= 1.0:
        return fx, fy, False
    gx, gy = kx / (most_x * most_x), ky / (most_y * most_y)
    slide = 0.0
    for _ in range(12):
        ex, ey = fx / (1.0 + slide * gx), fy / (1.0 + slide * gy)
        px, py = (ex / most_x) ** 2, (ey / most_y) ** 2
        over = px + py
        if abs(over - 1.0) < 1e-9:
            break
        # Newton's step on 1 / sqrt(over), which is nearly straight in `slide`
        bent = px * gx / (1.0 + slide * gx) + py * gy / (1.0 + slide * gy)
        slide = max(0.0, slide + over * (math.sqrt(over) - 1.0) / bent)
    k = 1.0 / math.sqrt(over)
    return k * ex, k * ey, True


@kernel
def rolling_friction(first, count, kinds, nodes, memory, row, slip, dry):
    """Rolling resistance of driven and braked wheels, as dry friction about their joints: it holds without creeping."""
    for k in range(count):
        b = first + k * FORCE
        if kinds[k] == TYRE and row[b + layout.TYRE_ROLLS_FREELY] == 0.0:
            resistance = row[b + layout.TYRE_ROLLING_RESISTANCE]
            if resistance > 0.0:
                dry[nodes[k]] += resistance * slip[memory[k], 2] * row[b + layout.TYRE_RADIUS]
