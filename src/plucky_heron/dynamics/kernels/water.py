"""Water on bodies: what hulls displace, and their added mass and damping."""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.kernels.forces import direction_of, point_of, push_at
from plucky_heron.dynamics.kernels.layout import AXIS, CARRIED, FLOAT, FORCE, HULL, MEAN, TWIST
from plucky_heron.dynamics.kernels.places import water_at
from plucky_heron.kernels import kernel

BOX_FACES = np.array([
    [0, 4, 6], [0, 6, 2], [1, 3, 7], [1, 7, 5], [0, 1, 5], [0, 5, 4],
    [2, 6, 7], [2, 7, 3], [0, 2, 3], [0, 3, 1], [4, 5, 7], [4, 7, 6],
])  # fmt: skip
"""Triangles of a box, turning left as seen from outside; bits 1, 2 and 4 of a corner are its sides in x, y and z."""
AFLOAT = 0.2
"""Share of its floats under water from which on a hull has all of its added mass and damping."""


@kernel(inline=True)
def _pressed(ax, ay, az, bx, by, bz, cx, cy, cz, out):
    """Add the push of the water (a unit of weight density) on a triangle wholly below the level 0: force and moment."""
    nx = 0.5 * ((by - ay) * (cz - az) - (bz - az) * (cy - ay))
    ny = 0.5 * ((bz - az) * (cx - ax) - (bx - ax) * (cz - az))
    nz = 0.5 * ((bx - ax) * (cy - ay) - (by - ay) * (cx - ax))
    depth = -(az + bz + cz) / 3.0
    # depth and place are linear over the triangle: their product integrates to the sum of sums over twelve
    x = ((ax + bx + cx) * -(az + bz + cz) - (ax * az + bx * bz + cx * cz)) / 12.0
    y = ((ay + by + cy) * -(az + bz + cz) - (ay * az + by * bz + cy * cz)) / 12.0
    z = (-((az + bz + cz) ** 2) - (az * az + bz * bz + cz * cz)) / 12.0
    out[0] -= y * nz - z * ny
    out[1] -= z * nx - x * nz
    out[2] -= x * ny - y * nx
    out[3] -= depth * nx
    out[4] -= depth * ny
    out[5] -= depth * nz


@kernel
def _wet(t, out):
    """The same of the part below the level of a triangle with corners t (9), whose heights are above the level."""
    below = 0
    for k in range(3):
        if t[3 * k + 2] < 0.0:
            below += 1
    if below == 0:
        return
    if below == 3:
        _pressed(t[0], t[1], t[2], t[3], t[4], t[5], t[6], t[7], t[8], out)
        return
    # turned so that the corner that is alone on its side comes first
    first = 0
    for k in range(3):
        if (t[3 * k + 2] < 0.0) == (below == 1):
            first = k
    a, b, c = 3 * first, 3 * ((first + 1) % 3), 3 * ((first + 2) % 3)
    f, g = t[a + 2] / (t[a + 2] - t[b + 2]), t[a + 2] / (t[a + 2] - t[c + 2])
    px, py = t[a] + f * (t[b] - t[a]), t[a + 1] + f * (t[b + 1] - t[a + 1])
    qx, qy = t[a] + g * (t[c] - t[a]), t[a + 1] + g * (t[c + 1] - t[a + 1])
    if below == 1:
        _pressed(t[a], t[a + 1], t[a + 2], px, py, 0.0, qx, qy, 0.0, out)
        return
    _pressed(px, py, 0.0, t[b], t[b + 1], t[b + 2], t[c], t[c + 1], t[c + 2], out)
    _pressed(px, py, 0.0, t[c], t[c + 1], t[c + 2], qx, qy, 0.0, out)


@kernel
def _lift_panels(panels, first, last, i, x, y, level, weight, w, pushes, work):
    """Push of still water on a closed surface of triangles (rows of `panels`, in the axes of node `i`)."""
    t, out = work[0], work[1]
    for k in range(6):
        out[k] = 0.0
    for p in range(first, last):
        for k in range(3):
            a, b, c = point_of(w, i, panels[p, 3 * k], panels[p, 3 * k + 1], panels[p, 3 * k + 2])
            t[3 * k], t[3 * k + 1], t[3 * k + 2] = a - x, b - y, c - level
        _wet(t, out)
    _push(pushes, i, x, y, level, weight, out)


@kernel(inline=True)
def _push(pushes, i, x, y, z, weight, out):
    """A force and its moment about (x, y, z), times `weight`, to the outer forces of a node."""
    fx, fy, fz = weight * out[3], weight * out[4], weight * out[5]
    pushes[i, 0] += weight * out[0] + y * fz - z * fy
    pushes[i, 1] += weight * out[1] + z * fx - x * fz
    pushes[i, 2] += weight * out[2] + x * fy - y * fx
    pushes[i, 3] += fx
    pushes[i, 4] += fy
    pushes[i, 5] += fz


@kernel
def buoyancy(row, b, k, i, weight, w, pushes, flows, profile, s, field, panels, panel_range, work):
    """A column of the hull, or a body's shapes, pushed up by the water they displace (Archimedes).

    The column is a box that stands along the body's z axis. As long as the water cuts its four long edges only, the
    displaced volume and its centre are closed expressions (the metacentric formula with the second moment of the
    section); else, as for shapes, the pressure of the water is summed over the wet part of its faces, which is exact.
    `weight` is the weight density of the water (N/m^3).
    """
    x, y, z = point_of(
        w, i, row[b + layout.FLOAT_BOTTOM], row[b + layout.FLOAT_BOTTOM + 1], row[b + layout.FLOAT_BOTTOM + 2]
    )
    level = water_at(flows, profile, s, field, x, y, z)[3]
    if level == -math.inf:
        return
    if panel_range[k, 1] > panel_range[k, 0]:
        _lift_panels(panels, panel_range[k, 0], panel_range[k, 1], i, x, y, level, weight, w, pushes, work)
        return
    high = row[b + layout.FLOAT_HEIGHT]
    c = b + layout.FLOAT_AXES
    ux, uy, uz = direction_of(w, i, row[c + 2], row[c + 5], row[c + 8])
    ex, ey, ez = direction_of(w, i, row[c], row[c + 3], row[c + 6])
    fx, fy, fz = direction_of(w, i, row[c + 1], row[c + 4], row[c + 7])
    turned = uz < 0.0
    if turned:  # upside down: seen from the other end
        x, y, z = x + high * ux, y + high * uy, z + high * uz
        ux, uy, uz = -ux, -uy, -uz
    half_x, half_y = 0.5 * row[b + layout.FLOAT_LENGTH], 0.5 * row[b + layout.FLOAT_WIDTH]
    area = row[b + layout.FLOAT_AREA]
    # clearly above the water
    if z - half_x * abs(ez) - half_y * abs(fz) >= level:
        return
    if uz > 0.1:
        wet = (level - z) / uz
        along, across = -ez / uz, -fz / uz
        spread = half_x * abs(along) + half_y * abs(across)
        if wet - spread >= high:
            wet, along, across, spread = high, 0.0, 0.0, 0.0
        if wet - spread >= 0.0 and wet + spread <= high:
            mx, my = along * half_x * half_x / 3.0, across * half_y * half_y / 3.0
            dx, dy = mx / wet, my / wet
            dz = 0.5 * wet + 0.5 * (along * mx + across * my) / wet
            push_at(
                pushes, i, x + dx * ex + dy * fx + dz * ux, y + dx * ey + dy * fy + dz * uy,
                z + dx * ez + dy * fz + dz * uz, 0.0, 0.0, weight * area * wet,
            )  # fmt: skip
            return
    t, out = work[0], work[1]
    for d in range(6):
        out[d] = 0.0
    for f in range(BOX_FACES.shape[0]):
        for e in range(3):
            corner = BOX_FACES[f, e]
            lx = half_x if corner & 1 else -half_x
            ly = half_y if corner & 2 else -half_y
            lz = high if corner & 4 else 0.0
            t[3 * e] = lx * ex + ly * fx + lz * ux
            t[3 * e + 1] = lx * ey + ly * fy + lz * uy
            t[3 * e + 2] = z - level + lx * ez + ly * fz + lz * uz
        # seen from the other end, left is right
        if turned:
            for d in range(3):
                t[3 + d], t[6 + d] = t[6 + d], t[3 + d]
        _wet(t, out)
    _push(pushes, i, x, y, level, weight, out)


@kernel
def _under_water(row, first, count, kinds, nodes, i, w, flows, profile, s, field, z, level, size):
    """Share (0 to 1) of its added mass and damping that the hull of node `i` at height `z` has.

    All of it while a fifth of the body's floats is under water; of a body without floats, while its middle is, fading
    within the width `size` above it. Where a site has no level, everything is water.
    """
    if level == -math.inf:
        return 1.0
    whole, wet = 0.0, 0.0
    for k in range(count):
        if kinds[k] != FLOAT or nodes[k] != i:
            continue
        b = first + k * FORCE
        high, area = row[b + layout.FLOAT_HEIGHT], row[b + layout.FLOAT_AREA]
        c = b + layout.FLOAT_BOTTOM
        px, py, pz = point_of(w, i, row[c], row[c + 1], row[c + 2])
        here = water_at(flows, profile, s, field, px, py, pz)[3]
        uz = direction_of(w, i, row[b + layout.FLOAT_AXES + 2], row[b + layout.FLOAT_AXES + 5], row[b + layout.FLOAT_AXES + 8])[2]  # fmt: skip
        bottom, top = min(pz, pz + high * uz), max(pz, pz + high * uz)
        whole += area * high
        wet += area * high * min(max((here - bottom) / max(top - bottom, 0.1 * high), 0.0), 1.0)
    if whole > 0.0:
        return min(1.0, wet / (AFLOAT * whole))
    return min(max(1.0 - (z - level) / size, 0.0), 1.0)


@kernel
def _hull_axes(row, b, i, w, first, count, kinds, nodes, flows, profile, s, field, work):
    """Axes of a hull in the world (9) into work[0]; its place, the flow at it in its own axes, its share under water."""
    r = work[0]
    for p in range(3):
        for q in range(3):
            r[3 * p + q] = (
                w[i, 3 * p] * row[b + layout.HULL_AXES + q]
                + w[i, 3 * p + 1] * row[b + layout.HULL_AXES + 3 + q]
                + w[i, 3 * p + 2] * row[b + layout.HULL_AXES + 6 + q]
            )
    x, y, z = point_of(w, i, row[b + layout.HULL_PLACE], row[b + layout.HULL_PLACE + 1], row[b + layout.HULL_PLACE + 2])
    cx, cy, cz, level = water_at(flows, profile, s, field, x, y, z)
    # a ball of the same added mass
    density = max(row[row.shape[0] - layout.TAIL + layout.WATER_DENSITY], 1e-9)
    m = max(row[b + layout.HULL_ADDED_MASS], row[b + layout.HULL_ADDED_MASS + 1], row[b + layout.HULL_ADDED_MASS + 2])
    share = _under_water(row, first, count, kinds, nodes, i, w, flows, profile, s, field, z, level, max((m / density) ** (1.0 / 3.0), 0.1))  # fmt: skip
    return (
        x, y, z,
        r[0] * cx + r[3] * cy + r[6] * cz, r[1] * cx + r[4] * cy + r[7] * cz, r[2] * cx + r[5] * cy + r[8] * cz,
        share,
    )  # fmt: skip


@kernel
def _hull_in_motion(row, b, i, w, gx, gy, gz, x, y, z, c0, c1, c2, share, work):
    """Force on a hull's added mass for its motion with the joints unaccelerated, in its own axes, into work[5].

    At the mean speeds of the step, as all velocity terms; the mass stands in work[3] afterwards. Needs `_hull_axes`.
    """
    r, u, a, m, f = work[0], work[1], work[2], work[3], work[5]
    _to_hull(r, x, y, z, w[i, MEAN], w[i, MEAN + 1], w[i, MEAN + 2], w[i, MEAN + 3], w[i, MEAN + 4], w[i, MEAN + 5], u)
    # acceleration of the body with the joints unaccelerated, without the gravity that stands in the bias
    _to_hull(r, x, y, z, w[i, CARRIED], w[i, CARRIED + 1], w[i, CARRIED + 2], w[i, CARRIED + 3] + gx, w[i, CARRIED + 4] + gy, w[i, CARRIED + 5] + gz, a)  # fmt: skip
    # that is of the point fixed in the world's axes; in the body's, it moves on, and a steady current turns backwards
    a[3] += u[1] * c2 - u[2] * c1
    a[4] += u[2] * c0 - u[0] * c2
    a[5] += u[0] * c1 - u[1] * c0
    u[3] -= c0
    u[4] -= c1
    u[5] -= c2
    for k in range(3):
        m[k], m[3 + k] = share * row[b + layout.HULL_ADDED_INERTIA + k], share * row[b + layout.HULL_ADDED_MASS + k]
    for k in range(6):
        f[k] = m[k] * a[k]
    l0, l1, l2 = m[3] * u[3], m[4] * u[4], m[5] * u[5]
    h0, h1, h2 = m[0] * u[0], m[1] * u[1], m[2] * u[2]
    f[0] += u[1] * h2 - u[2] * h1 + u[4] * l2 - u[5] * l1
    f[1] += u[2] * h0 - u[0] * h2 + u[5] * l0 - u[3] * l2
    f[2] += u[0] * h1 - u[1] * h0 + u[3] * l1 - u[4] * l0
    f[3] += u[1] * l2 - u[2] * l1
    f[4] += u[2] * l0 - u[0] * l2
    f[5] += u[0] * l1 - u[1] * l0


@kernel
def hull(row, b, i, n, parent, w, gravity, first, count, kinds, nodes, flows, profile, s, field, h, mass, right, work):
    """Added mass and damping of a body in water that flows past it.

    Kirchhoff's equations for the velocity relative to the water, f = A du/dt + u x* (A u) + D(u) (H. Lamb,
    Hydrodynamics, 1932, art. 124-126; T. I. Fossen, Handbook of Marine Craft Hydrodynamics, 2011, 6.3 and 8.1),
    with a diagonal A about the hull's own axes. Damping is implicit.
    """
    x, y, z, c0, c1, c2, share = _hull_axes(row, b, i, w, first, count, kinds, nodes, flows, profile, s, field, work)
    _hull_in_motion(row, b, i, w, gravity[0], gravity[1], gravity[2], x, y, z, c0, c1, c2, share, work)
    r, u, m, extra, f = work[0], work[1], work[3], work[4], work[5]
    _to_hull(r, x, y, z, w[i, TWIST], w[i, TWIST + 1], w[i, TWIST + 2], w[i, TWIST + 3], w[i, TWIST + 4], w[i, TWIST + 5], u)  # fmt: skip
    u[3] -= c0
    u[4] -= c1
    u[5] -= c2
    for k in range(6):
        slot = k + 3 if k < 3 else k - 3
        slow, fast = share * row[b + layout.HULL_DAMPING + slot], share * row[b + layout.HULL_SQUARE + slot] * abs(u[k])
        f[k] += (slow + fast) * u[k]
        extra[k] = h * (slow + 2.0 * fast)
    j = i
    while j >= 0:
        s_j = work[6]
        _to_hull(r, x, y, z, w[j, AXIS], w[j, AXIS + 1], w[j, AXIS + 2], w[j, AXIS + 3], w[j, AXIS + 4], w[j, AXIS + 5], s_j)  # fmt: skip
        for k in range(6):
            right[j] -= s_j[k] * f[k]
        e = j
        while e >= 0:
            s_e = work[7]
            _to_hull(r, x, y, z, w[e, AXIS], w[e, AXIS + 1], w[e, AXIS + 2], w[e, AXIS + 3], w[e, AXIS + 4], w[e, AXIS + 5], s_e)  # fmt: skip
            total = 0.0
            for k in range(6):
                total += s_j[k] * (m[k] + extra[k]) * s_e[k]
            mass[j, e] += total
            e = parent[e]
        j = parent[j]


@kernel
def hulls_in_motion(first, count, kinds, nodes, row, parent, w, flows, profile, s, field, out, work):
    """Add to `out` (n) the efforts that the added mass of all hulls asks for by its motion alone."""
    for k in range(count):
        if kinds[k] != HULL:
            continue
        b, i = first + k * FORCE, nodes[k]
        x, y, z, c0, c1, c2, share = _hull_axes(
            row, b, i, w, first, count, kinds, nodes, flows, profile, s, field, work
        )
        _hull_in_motion(row, b, i, w, 0.0, 0.0, 0.0, x, y, z, c0, c1, c2, share, work)
        r, f, along = work[0], work[5], work[6]
        j = i
        while j >= 0:
            _to_hull(r, x, y, z, w[j, AXIS], w[j, AXIS + 1], w[j, AXIS + 2], w[j, AXIS + 3], w[j, AXIS + 4], w[j, AXIS + 5], along)  # fmt: skip
            for k6 in range(6):
                out[j] += along[k6] * f[k6]
            j = parent[j]


@kernel(inline=True)
def _to_hull(r, x, y, z, w0, w1, w2, v0, v1, v2, out):
    """A motion vector at a point, in axes whose columns in the world are r."""
    v0, v1, v2 = v0 + w1 * z - w2 * y, v1 + w2 * x - w0 * z, v2 + w0 * y - w1 * x
    out[0] = r[0] * w0 + r[3] * w1 + r[6] * w2
    out[1] = r[1] * w0 + r[4] * w1 + r[7] * w2
    out[2] = r[2] * w0 + r[5] * w1 + r[8] * w2
    out[3] = r[0] * v0 + r[3] * v1 + r[6] * v2
    out[4] = r[1] * v0 + r[4] * v1 + r[7] * v2
    out[5] = r[2] * v0 + r[5] * v1 + r[8] * v2
