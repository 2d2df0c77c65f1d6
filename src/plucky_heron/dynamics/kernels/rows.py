"""Rows of what constrains a step: how coordinates move a contact, stop or brake, and how impulses on one move the others.

Of a row J of the Jacobian y = L^-T J' is kept, with the factor M = L'L of the mass matrix, so that J M^-1 J' = y'y
(`solving`). A row has entries only on the way from its bodies to the root. The products of all rows with each other are
worked out once, so that the sweeps that follow touch nothing but them (E. Delassus, 1917; J. J. Moreau, 1988).
"""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.dynamics.kernels.layout import AXIS
from plucky_heron.kernels import kernel


@kernel(inline=True)
def tangents(nx, ny, nz):
    """Two directions across a normal; the same for the same normal, so that kept friction impulses keep their meaning."""
    if abs(nx) < 0.7:
        tx, ty, tz = 0.0, -nz, ny
    else:
        tx, ty, tz = nz, 0.0, -nx
    k = 1.0 / math.sqrt(tx * tx + ty * ty + tz * tz)
    tx, ty, tz = k * tx, k * ty, k * tz
    return tx, ty, tz, ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx


@kernel(inline=True)
def _jacobian(w, parent, node, px, py, pz, nx, ny, nz, tx, ty, tz, bx, by, bz, sign, v, free, r, rows):
    """Add how fast each coordinate moves a point of `node` along three directions, in columns `r` to `r` + 2.

    Returns what moves so along the first at the speeds `v` (n), and along the three at `free` (n).
    """
    i = node
    before, s0, s1, s2 = 0.0, 0.0, 0.0, 0.0
    while i >= 0:
        ax, ay, az = sign * w[i, AXIS], sign * w[i, AXIS + 1], sign * w[i, AXIS + 2]
        x = sign * w[i, AXIS + 3] + ay * pz - az * py
        y = sign * w[i, AXIS + 4] + az * px - ax * pz
        z = sign * w[i, AXIS + 5] + ax * py - ay * px
        j0, j1, j2 = x * nx + y * ny + z * nz, x * tx + y * ty + z * tz, x * bx + y * by + z * bz
        before += j0 * v[i]
        s0 += j0 * free[i]
        s1 += j1 * free[i]
        s2 += j2 * free[i]
        rows[i, r] += j0
        rows[i, r + 1] += j1
        rows[i, r + 2] += j2
        i = parent[i]
    return before, s0, s1, s2


@kernel
def contact_rows(parent, way, depth, w, factor, a, b, place, v, free, r, rows, speeds):
    """The three rows of a contact of nodes `a` and `b` (-1: the site) from column `r` on: along its normal, then across.

    `place` holds point (3) and normal (3). Speeds along the rows with the coordinates at `free` go into `speeds`; returned
    is that along the normal at `v`.
    """
    px, py, pz, nx, ny, nz = place
    tx, ty, tz, bx, by, bz = tangents(nx, ny, nz)
    one = _jacobian(w, parent, a, px, py, pz, nx, ny, nz, tx, ty, tz, bx, by, bz, 1.0, v, free, r, rows)
    two = _jacobian(w, parent, b, px, py, pz, nx, ny, nz, tx, ty, tz, bx, by, bz, -1.0, v, free, r, rows)
    speeds[r], speeds[r + 1], speeds[r + 2] = one[1] + two[1], one[2] + two[2], one[3] + two[3]
    _three_towards_root(way, depth, factor, a, b, r, rows)
    return one[0] + two[0]


@kernel
def turning_rows(parent, way, depth, w, factor, a, b, nx, ny, nz, free, r, rows, speeds):
    """How nodes `a` and `b` turn against each other, from column `r` on: about the normal of a contact, then across."""
    tx, ty, tz, bx, by, bz = tangents(nx, ny, nz)
    s0, s1, s2 = 0.0, 0.0, 0.0
    for side in range(2):
        i, sign = (a, 1.0) if side == 0 else (b, -1.0)
        while i >= 0:
            x, y, z = sign * w[i, AXIS], sign * w[i, AXIS + 1], sign * w[i, AXIS + 2]
            j0, j1, j2 = x * nx + y * ny + z * nz, x * tx + y * ty + z * tz, x * bx + y * by + z * bz
            s0 += j0 * free[i]
            s1 += j1 * free[i]
            s2 += j2 * free[i]
            rows[i, r] += j0
            rows[i, r + 1] += j1
            rows[i, r + 2] += j2
            i = parent[i]
    speeds[r], speeds[r + 1], speeds[r + 2] = s0, s1, s2
    _three_towards_root(way, depth, factor, a, b, r, rows)


@kernel(inline=True)
def _three_towards_root(way, depth, factor, a, b, r, rows):
    """From J to y in the three columns from `r` on: both ways to the root at once, from the leaves, each node once."""
    i, j = a, b
    while i >= 0 or j >= 0:
        k = max(i, j)
        inverse = factor[k, k]
        y0, y1, y2 = inverse * rows[k, r], inverse * rows[k, r + 1], inverse * rows[k, r + 2]
        rows[k, r], rows[k, r + 1], rows[k, r + 2] = y0, y1, y2
        for t in range(depth[k]):
            e = way[k, t]
            entry = factor[k, e]
            rows[e, r] -= entry * y0
            rows[e, r + 1] -= entry * y1
            rows[e, r + 2] -= entry * y2
        after = np.int64(way[k, 0]) if depth[k] > 0 else -1
        i = after if i == k else i
        j = after if j == k else j


@kernel
def joint_row(way, depth, factor, i, sign, free, r, rows, speeds):
    """The row of a joint's own coordinate `i`, in column `r`."""
    rows[i, r] = sign
    speeds[r] = sign * free[i]
    k = i
    while k >= 0:
        y = rows[k, r] * factor[k, k]
        rows[k, r] = y
        for t in range(depth[k]):
            e = way[k, t]
            rows[e, r] -= factor[k, e] * y
        k = np.int64(way[k, 0]) if depth[k] > 0 else -1


@kernel
def products(n, made, rows, response):
    """How an impulse along each row moves each other: y'y of all pairs, `wide` numbers a row of the flat `response`.

    `wide` is `made` in whole fours, as what comes in fours is worked out four at a time; the rest stands at zero.
    """
    fours = (made + 3) // 4
    wide = 4 * fours
    for k in range(made * wide):
        response[k] = 0.0
    for i in range(n):
        for r in range(made):
            y = rows[i, r]
            if y == 0.0:
                continue
            at = r * wide
            for q in range(r // 4 + 1):
                s = 4 * q
                g0, g1, g2, g3 = response[at], response[at + 1], response[at + 2], response[at + 3]
                g0 += y * rows[i, s]
                g1 += y * rows[i, s + 1]
                g2 += y * rows[i, s + 2]
                g3 += y * rows[i, s + 3]
                response[at], response[at + 1], response[at + 2], response[at + 3] = g0, g1, g2, g3
                at += 4
    for r in range(made):
        response[r * wide + r] += 1e-12
        for s in range(r):
            response[s * wide + r] = response[r * wide + s]
    return wide


@kernel(inline=True)
def push(wide, response, r, amount, speeds):
    """What an impulse along row `r` adds to the speeds along all rows."""
    at = r * wide
    for q in range(wide // 4):
        s = 4 * q
        u0, u1, u2, u3 = speeds[s], speeds[s + 1], speeds[s + 2], speeds[s + 3]
        u0 += amount * response[at]
        u1 += amount * response[at + 1]
        u2 += amount * response[at + 2]
        u3 += amount * response[at + 3]
        speeds[s], speeds[s + 1], speeds[s + 2], speeds[s + 3] = u0, u1, u2, u3
        at += 4


@kernel(inline=True)
def push_two(wide, response, r, first, second, speeds):
    """What impulses along the rows `r` and `r` + 1 add to the speeds along all rows."""
    at, after = r * wide, (r + 1) * wide
    for q in range(wide // 4):
        s = 4 * q
        u0, u1, u2, u3 = speeds[s], speeds[s + 1], speeds[s + 2], speeds[s + 3]
        u0 += first * response[at] + second * response[after]
        u1 += first * response[at + 1] + second * response[after + 1]
        u2 += first * response[at + 2] + second * response[after + 2]
        u3 += first * response[at + 3] + second * response[after + 3]
        speeds[s], speeds[s + 1], speeds[s + 2], speeds[s + 3] = u0, u1, u2, u3
        at += 4
        after += 4


@kernel(inline=True)
def gather(n, wide, rows, amounts, out):
    """What impulses along all rows give in sum, y times each (n)."""
    for i in range(n):
        t0, t1, t2, t3 = 0.0, 0.0, 0.0, 0.0
        for q in range(wide // 4):
            s = 4 * q
            t0 += rows[i, s] * amounts[s]
            t1 += rows[i, s + 1] * amounts[s + 1]
            t2 += rows[i, s + 2] * amounts[s + 2]
            t3 += rows[i, s + 3] * amounts[s + 3]
        out[i] = (t0 + t1) + (t2 + t3)
