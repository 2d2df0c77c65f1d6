"""Compiled kernels: the motion of a tree of bodies, for many copies in one call.

Method: all spatial quantities are kept in world axes about the world origin, so that velocities, inertias and
forces of different bodies are simply added. Mass matrix by the composite-rigid-body algorithm, bias forces by
recursive Newton-Euler (R. Featherstone, Rigid Body Dynamics Algorithms, 2008, sections 5.3 and 6.2), solution by
Cholesky. Dampers, stops and speed servos are linearised implicitly in the semi-implicit step.

The model is data (what stands where is said at `NODE`, `DRIVE` and `TAIL`): no edit of a machine recompiles anything here.
Keep this file quiet: every change to it costs each user a recompilation.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

NODE = 22
"""Numbers a node: mass, first moment (3), inertia about the node's origin xx yy zz xy xz yz (6), damping,
stiffness, rest, lower, upper, stop stiffness, stop damping, armature, drag area, drag point (3)."""
DRIVE = 5
"""Numbers a drive: effort limit, gain, integral gain, lag, command limit."""
TAIL = 4
"""Numbers at the end of a row: gravity vector (3), air density."""

HINGE, SLIDER = 0, 1
EFFORT, SPEED = 0, 1

_WORK = 46
"""Scratch numbers a node: rotation 9, position 3, axis 6, velocity 6, acceleration 6, force 6, inertia 10."""
_F = 30


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy", forceinline=True)
def _kinematics(i, parent, kind, axis, tree_rotation, tree_position, q, v, w):
    """Pose, joint axis and velocity of node `i` in world axes, from its parent's."""
    ax, ay, az = axis[i, 0], axis[i, 1], axis[i, 2]
    j = parent[i]
    tx, ty, tz = tree_position[i, 0], tree_position[i, 1], tree_position[i, 2]
    if j < 0:
        r00, r01, r02 = tree_rotation[i, 0], tree_rotation[i, 1], tree_rotation[i, 2]
        r10, r11, r12 = tree_rotation[i, 3], tree_rotation[i, 4], tree_rotation[i, 5]
        r20, r21, r22 = tree_rotation[i, 6], tree_rotation[i, 7], tree_rotation[i, 8]
        px, py, pz = tx, ty, tz
        v0, v1, v2, v3, v4, v5 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    else:
        px = w[j, 9] + w[j, 0] * tx + w[j, 1] * ty + w[j, 2] * tz
        py = w[j, 10] + w[j, 3] * tx + w[j, 4] * ty + w[j, 5] * tz
        pz = w[j, 11] + w[j, 6] * tx + w[j, 7] * ty + w[j, 8] * tz
        if tree_rotation[i, 0] == 1.0 and tree_rotation[i, 4] == 1.0 and tree_rotation[i, 8] == 1.0:
            r00, r01, r02, r10, r11, r12, r20, r21, r22 = (
                w[j, 0],
                w[j, 1],
                w[j, 2],
                w[j, 3],
                w[j, 4],
                w[j, 5],
                w[j, 6],
                w[j, 7],
                w[j, 8],
            )
        else:
            r00 = w[j, 0] * tree_rotation[i, 0] + w[j, 1] * tree_rotation[i, 3] + w[j, 2] * tree_rotation[i, 6]
            r01 = w[j, 0] * tree_rotation[i, 1] + w[j, 1] * tree_rotation[i, 4] + w[j, 2] * tree_rotation[i, 7]
            r02 = w[j, 0] * tree_rotation[i, 2] + w[j, 1] * tree_rotation[i, 5] + w[j, 2] * tree_rotation[i, 8]
            r10 = w[j, 3] * tree_rotation[i, 0] + w[j, 4] * tree_rotation[i, 3] + w[j, 5] * tree_rotation[i, 6]
            r11 = w[j, 3] * tree_rotation[i, 1] + w[j, 4] * tree_rotation[i, 4] + w[j, 5] * tree_rotation[i, 7]
            r12 = w[j, 3] * tree_rotation[i, 2] + w[j, 4] * tree_rotation[i, 5] + w[j, 5] * tree_rotation[i, 8]
            r20 = w[j, 6] * tree_rotation[i, 0] + w[j, 7] * tree_rotation[i, 3] + w[j, 8] * tree_rotation[i, 6]
            r21 = w[j, 6] * tree_rotation[i, 1] + w[j, 7] * tree_rotation[i, 4] + w[j, 8] * tree_rotation[i, 7]
            r22 = w[j, 6] * tree_rotation[i, 2] + w[j, 7] * tree_rotation[i, 5] + w[j, 8] * tree_rotation[i, 8]
        v0, v1, v2, v3, v4, v5 = w[j, 18], w[j, 19], w[j, 20], w[j, 21], w[j, 22], w[j, 23]
    # the joint axis is fixed in both bodies, so it may be turned by the rotation before the joint
    sx = r00 * ax + r01 * ay + r02 * az
    sy = r10 * ax + r11 * ay + r12 * az
    sz = r20 * ax + r21 * ay + r22 * az
    if kind[i] == SLIDER:
        px += sx * q[i]
        py += sy * q[i]
        pz += sz * q[i]
        w[i, 12], w[i, 13], w[i, 14] = 0.0, 0.0, 0.0
        w[i, 15], w[i, 16], w[i, 17] = sx, sy, sz
        w[i, 0], w[i, 1], w[i, 2], w[i, 3], w[i, 4], w[i, 5], w[i, 6], w[i, 7], w[i, 8] = (
            r00,
            r01,
            r02,
            r10,
            r11,
            r12,
            r20,
            r21,
            r22,
        )
    else:
        # Rodrigues' formula in the world axes: R <- R + sin [s]R + (1 - cos) [s][s]R
        s, c1 = math.sin(q[i]), 2.0 * math.sin(0.5 * q[i]) ** 2
        k00, k01, k02 = c1 * (sx * sx - 1.0), c1 * sx * sy - s * sz, c1 * sx * sz + s * sy
        k10, k11, k12 = c1 * sx * sy + s * sz, c1 * (sy * sy - 1.0), c1 * sy * sz - s * sx
        k20, k21, k22 = c1 * sx * sz - s * sy, c1 * sy * sz + s * sx, c1 * (sz * sz - 1.0)
        w[i, 0] = r00 + k00 * r00 + k01 * r10 + k02 * r20
        w[i, 1] = r01 + k00 * r01 + k01 * r11 + k02 * r21
        w[i, 2] = r02 + k00 * r02 + k01 * r12 + k02 * r22
        w[i, 3] = r10 + k10 * r00 + k11 * r10 + k12 * r20
        w[i, 4] = r11 + k10 * r01 + k11 * r11 + k12 * r21
        w[i, 5] = r12 + k10 * r02 + k11 * r12 + k12 * r22
        w[i, 6] = r20 + k20 * r00 + k21 * r10 + k22 * r20
        w[i, 7] = r21 + k20 * r01 + k21 * r11 + k22 * r21
        w[i, 8] = r22 + k20 * r02 + k21 * r12 + k22 * r22
        w[i, 12], w[i, 13], w[i, 14] = sx, sy, sz
        w[i, 15] = py * sz - pz * sy
        w[i, 16] = pz * sx - px * sz
        w[i, 17] = px * sy - py * sx
    w[i, 9], w[i, 10], w[i, 11] = px, py, pz
    rate = v[i]
    w[i, 18] = v0 + w[i, 12] * rate
    w[i, 19] = v1 + w[i, 13] * rate
    w[i, 20] = v2 + w[i, 14] * rate
    w[i, 21] = v3 + w[i, 15] * rate
    w[i, 22] = v4 + w[i, 16] * rate
    w[i, 23] = v5 + w[i, 17] * rate


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy", forceinline=True)
def _inertia_to_world(i, row, w):
    """Mass, first moment and inertia of node `i` about the world origin, in world axes."""
    b = i * NODE
    m = row[b]
    hx, hy, hz = row[b + 1], row[b + 2], row[b + 3]
    xx, yy, zz, xy, xz, yz = row[b + 4], row[b + 5], row[b + 6], row[b + 7], row[b + 8], row[b + 9]
    r00, r01, r02, r10, r11, r12, r20, r21, r22 = (
        w[i, 0],
        w[i, 1],
        w[i, 2],
        w[i, 3],
        w[i, 4],
        w[i, 5],
        w[i, 6],
        w[i, 7],
        w[i, 8],
    )
    gx = r00 * hx + r01 * hy + r02 * hz
    gy = r10 * hx + r11 * hy + r12 * hz
    gz = r20 * hx + r21 * hy + r22 * hz
    a00, a01, a02 = (r00 * xx + r01 * xy + r02 * xz, r00 * xy + r01 * yy + r02 * yz, r00 * xz + r01 * yz + r02 * zz)
    a10, a11, a12 = (r10 * xx + r11 * xy + r12 * xz, r10 * xy + r11 * yy + r12 * yz, r10 * xz + r11 * yz + r12 * zz)
    a20, a21, a22 = (r20 * xx + r21 * xy + r22 * xz, r20 * xy + r21 * yy + r22 * yz, r20 * xz + r21 * yz + r22 * zz)
    px, py, pz = w[i, 9], w[i, 10], w[i, 11]
    gp = gx * px + gy * py + gz * pz
    pp = px * px + py * py + pz * pz
    w[i, 36] = m
    w[i, 37], w[i, 38], w[i, 39] = gx + m * px, gy + m * py, gz + m * pz
    w[i, 40] = a00 * r00 + a01 * r01 + a02 * r02 + 2.0 * (gp - gx * px) + m * (pp - px * px)
    w[i, 41] = a10 * r10 + a11 * r11 + a12 * r12 + 2.0 * (gp - gy * py) + m * (pp - py * py)
    w[i, 42] = a20 * r20 + a21 * r21 + a22 * r22 + 2.0 * (gp - gz * pz) + m * (pp - pz * pz)
    w[i, 43] = a00 * r10 + a01 * r11 + a02 * r12 - gx * py - gy * px - m * px * py
    w[i, 44] = a00 * r20 + a01 * r21 + a02 * r22 - gx * pz - gz * px - m * px * pz
    w[i, 45] = a10 * r20 + a11 * r21 + a12 * r22 - gy * pz - gz * py - m * py * pz


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy", forceinline=True)
def _apply(w, i, x0, x1, x2, x3, x4, x5):
    """Spatial inertia of the node with number `i` times a motion vector (angular, linear)."""
    m, hx, hy, hz = w[i, 36], w[i, 37], w[i, 38], w[i, 39]
    f0 = w[i, 40] * x0 + w[i, 43] * x1 + w[i, 44] * x2 + hy * x5 - hz * x4
    f1 = w[i, 43] * x0 + w[i, 41] * x1 + w[i, 45] * x2 + hz * x3 - hx * x5
    f2 = w[i, 44] * x0 + w[i, 45] * x1 + w[i, 42] * x2 + hx * x4 - hy * x3
    f3 = m * x3 + x1 * hz - x2 * hy
    f4 = m * x4 + x2 * hx - x0 * hz
    f5 = m * x5 + x0 * hy - x1 * hx
    return f0, f1, f2, f3, f4, f5


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy", forceinline=True)
def _mass_and_bias(n, parent, kind, axis, tree_rotation, tree_position, row, wind, q, v, w, mass, bias):
    """Mass matrix (n, n) and bias efforts (n): gravity, velocity terms and wind drag, moved to the left side."""
    tail = row.shape[0] - TAIL
    g0, g1, g2, air = -row[tail], -row[tail + 1], -row[tail + 2], row[tail + 3]
    for i in range(n):
        _kinematics(i, parent, kind, axis, tree_rotation, tree_position, q, v, w)
        _inertia_to_world(i, row, w)
        j = parent[i]
        if j < 0:
            b0, b1, b2, b3, b4, b5 = 0.0, 0.0, 0.0, g0, g1, g2
        else:
            b0, b1, b2, b3, b4, b5 = w[j, 24], w[j, 25], w[j, 26], w[j, 27], w[j, 28], w[j, 29]
        v0, v1, v2, v3, v4, v5 = w[i, 18], w[i, 19], w[i, 20], w[i, 21], w[i, 22], w[i, 23]
        s0, s1, s2 = w[i, 12] * v[i], w[i, 13] * v[i], w[i, 14] * v[i]
        s3, s4, s5 = w[i, 15] * v[i], w[i, 16] * v[i], w[i, 17] * v[i]
        b0 += v1 * s2 - v2 * s1
        b1 += v2 * s0 - v0 * s2
        b2 += v0 * s1 - v1 * s0
        b3 += v1 * s5 - v2 * s4 + v4 * s2 - v5 * s1
        b4 += v2 * s3 - v0 * s5 + v5 * s0 - v3 * s2
        b5 += v0 * s4 - v1 * s3 + v3 * s1 - v4 * s0
        w[i, 24], w[i, 25], w[i, 26], w[i, 27], w[i, 28], w[i, 29] = b0, b1, b2, b3, b4, b5
        f0, f1, f2, f3, f4, f5 = _apply(w, i, b0, b1, b2, b3, b4, b5)
        l0, l1, l2, l3, l4, l5 = _apply(w, i, v0, v1, v2, v3, v4, v5)
        f0 += v1 * l2 - v2 * l1 + v4 * l5 - v5 * l4
        f1 += v2 * l0 - v0 * l2 + v5 * l3 - v3 * l5
        f2 += v0 * l1 - v1 * l0 + v3 * l4 - v4 * l3
        f3 += v1 * l5 - v2 * l4
        f4 += v2 * l3 - v0 * l5
        f5 += v0 * l4 - v1 * l3
        area = row[i * NODE + 18]
        if area > 0.0:
            d = i * NODE + 19
            cx = w[i, 9] + w[i, 0] * row[d] + w[i, 1] * row[d + 1] + w[i, 2] * row[d + 2]
            cy = w[i, 10] + w[i, 3] * row[d] + w[i, 4] * row[d + 1] + w[i, 5] * row[d + 2]
            cz = w[i, 11] + w[i, 6] * row[d] + w[i, 7] * row[d + 1] + w[i, 8] * row[d + 2]
            x = wind[0] - (v3 + v1 * cz - v2 * cy)
            y = wind[1] - (v4 + v2 * cx - v0 * cz)
            h = wind[2] - (v5 + v0 * cy - v1 * cx)
            k = 0.5 * air * area * math.sqrt(x * x + y * y + h * h)
            x, y, h = k * x, k * y, k * h
            f0 -= cy * h - cz * y
            f1 -= cz * x - cx * h
            f2 -= cx * y - cy * x
            f3 -= x
            f4 -= y
            f5 -= h
        w[i, 30], w[i, 31], w[i, 32], w[i, 33], w[i, 34], w[i, 35] = f0, f1, f2, f3, f4, f5
    for i in range(n - 1, -1, -1):
        s0, s1, s2, s3, s4, s5 = w[i, 12], w[i, 13], w[i, 14], w[i, 15], w[i, 16], w[i, 17]
        bias[i] = s0 * w[i, 30] + s1 * w[i, 31] + s2 * w[i, 32] + s3 * w[i, 33] + s4 * w[i, 34] + s5 * w[i, 35]
        f0, f1, f2, f3, f4, f5 = _apply(w, i, s0, s1, s2, s3, s4, s5)
        mass[i, i] = s0 * f0 + s1 * f1 + s2 * f2 + s3 * f3 + s4 * f4 + s5 * f5 + row[i * NODE + 17]
        for k in range(i):
            mass[i, k] = 0.0
        j = parent[i]
        if j >= 0:
            for k in range(_F, _WORK):
                w[j, k] += w[i, k]
        while j >= 0:
            mass[i, j] = w[j, 12] * f0 + w[j, 13] * f1 + w[j, 14] * f2 + w[j, 15] * f3 + w[j, 16] * f4 + w[j, 17] * f5
            j = parent[j]


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy", forceinline=True)
def _solve(n, mass, right):
    """Solve in place with the lower triangle of the symmetric positive definite `mass` (Cholesky)."""
    for i in range(n):
        for j in range(i):
            total = mass[i, j]
            for k in range(j):
                total -= mass[i, k] * mass[j, k]
            mass[i, j] = total * mass[j, j]
        total = mass[i, i]
        for k in range(i):
            total -= mass[i, k] * mass[i, k]
        mass[i, i] = 1.0 / math.sqrt(total)
        total = right[i]
        for k in range(i):
            total -= mass[i, k] * right[k]
        right[i] = total * mass[i, i]
    for i in range(n - 1, -1, -1):
        total = right[i]
        for k in range(i + 1, n):
            total -= mass[k, i] * right[k]
        right[i] = total * mass[i, i]


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy", forceinline=True)
def _efforts(n, drives, drive_joint, drive_kind, row, q, v, lagged, integral, h, effort, stiff):
    """Joint efforts of springs, dampers, stops and drives; `stiff` (n) takes what the implicit step adds to the mass.

    With h = 0 everything is explicit and `stiff` stays zero (Runge-Kutta).
    """
    for i in range(n):
        b = i * NODE
        damping, lower, upper = row[b + 10], row[b + 13], row[b + 14]
        total = -damping * v[i] - row[b + 11] * (q[i] - row[b + 12])
        extra = h * damping
        over = 0.0
        if q[i] > upper:
            over = q[i] - upper
        elif q[i] < lower:
            over = q[i] - lower
        if over != 0.0:
            k, d = row[b + 15], row[b + 16]
            push = -k * (over + h * v[i]) - d * v[i]
            # a stop pushes, it never pulls back what is already leaving
            if push * over < 0.0:
                total += push
                extra += h * d + h * h * k
        effort[i] = total
        stiff[i] = extra
    for a in range(drives):
        b = n * NODE + a * DRIVE
        i = drive_joint[a]
        limit = row[b]
        if drive_kind[a] == EFFORT:
            effort[i] += min(max(lagged[a], -limit), limit)
        else:
            gain = row[b + 1]
            force = gain * (lagged[a] - v[i]) + row[b + 2] * integral[a]
            if abs(force) < limit:
                stiff[i] += h * gain
                effort[i] += force
            else:
                effort[i] += min(max(force, -limit), limit)


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy", forceinline=True)
def _drive_step(n, drives, drive_joint, drive_kind, delay, row, v, command, lagged, integral, ring, head, h, follow):
    """Dead time, then first-order lag (exact for a held command), then the servo's integral (with anti-windup)."""
    for a in range(drives):
        b = n * NODE + a * DRIVE
        bound = row[b + 4]
        given = min(max(command[a], -bound), bound)
        if delay[a] > 0:
            length = delay[a]
            slot = head % length
            late = ring[a, slot]
            ring[a, slot] = given
            given = late
        lagged[a] += (given - lagged[a]) * follow[a]
        if drive_kind[a] == SPEED and row[b + 2] > 0.0:
            limit = row[b]
            error = lagged[a] - v[drive_joint[a]]
            moved = integral[a] + h * error
            if abs(row[b + 1] * error + row[b + 2] * moved) < limit:
                integral[a] = moved


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy")
def advance(
    first, last, parent, kind, axis, tree_rotation, tree_position, drive_joint, drive_kind, delay,
    rows, winds, commands, q, v, lagged, integral, ring, heads, efforts, active, h, substeps, fourth_order,
):  # fmt: skip
    """Advance copies `first` to `last` by `substeps` steps of `h` seconds under held commands.

    Shapes, with B copies, n joints and m drives: rows (B, P), winds (B, 3), commands (B, m), q, v and
    efforts (B, n), lagged and integral (B, m), ring (B, m, longest delay), heads (B), active (B).
    """
    n = parent.shape[0]
    drives = drive_joint.shape[0]
    w = np.zeros((n, _WORK))
    mass = np.zeros((n, n))
    bias = np.zeros(n)
    effort = np.zeros(n)
    stiff = np.zeros(n)
    q0, v0 = np.zeros(n), np.zeros(n)
    dq, dv = np.zeros(n), np.zeros(n)
    follow = np.zeros(drives)
    for c in range(first, last):
        if not active[c]:
            continue
        row, wind, qc, vc = rows[c], winds[c], q[c], v[c]
        command, lag_state, sum_state, late = commands[c], lagged[c], integral[c], ring[c]
        for a in range(drives):
            lag = row[n * NODE + a * DRIVE + 3]
            follow[a] = 1.0 - math.exp(-h / lag) if lag > 0.0 else 1.0
        for _ in range(substeps):
            _drive_step(
                n,
                drives,
                drive_joint,
                drive_kind,
                delay,
                row,
                vc,
                command,
                lag_state,
                sum_state,
                late,
                heads[c],
                h,
                follow,
            )
            heads[c] += 1
            if not fourth_order:
                _mass_and_bias(n, parent, kind, axis, tree_rotation, tree_position, row, wind, qc, vc, w, mass, bias)
                _efforts(n, drives, drive_joint, drive_kind, row, qc, vc, lag_state, sum_state, h, effort, stiff)
                for i in range(n):
                    bias[i] = effort[i] - bias[i]
                    mass[i, i] += stiff[i]
                _solve(n, mass, bias)
                for i in range(n):
                    vc[i] += h * bias[i]
                    qc[i] += h * vc[i]
            else:
                for i in range(n):
                    q0[i], v0[i], dq[i], dv[i] = qc[i], vc[i], 0.0, 0.0
                for stage in range(4):
                    _mass_and_bias(
                        n, parent, kind, axis, tree_rotation, tree_position, row, wind, qc, vc, w, mass, bias
                    )
                    _efforts(n, drives, drive_joint, drive_kind, row, qc, vc, lag_state, sum_state, 0.0, effort, stiff)
                    for i in range(n):
                        bias[i] = effort[i] - bias[i]
                    _solve(n, mass, bias)
                    weight = h / 6.0 if stage == 0 or stage == 3 else h / 3.0
                    reach = h if stage == 2 else 0.5 * h
                    for i in range(n):
                        dq[i] += weight * vc[i]
                        dv[i] += weight * bias[i]
                        step = reach * vc[i]
                        vc[i] = v0[i] + reach * bias[i]
                        qc[i] = q0[i] + step
                for i in range(n):
                    qc[i] = q0[i] + dq[i]
                    vc[i] = v0[i] + dv[i]
        for i in range(n):
            efforts[c, i] = effort[i] - stiff[i] * bias[i]


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy")
def accelerations(
    parent, kind, axis, tree_rotation, tree_position, drive_joint, drive_kind, row, wind, q, v, lagged, integral
):
    """Joint accelerations (n) of one copy, everything explicit; also returns its mass matrix (lower triangle)."""
    n = parent.shape[0]
    w = np.zeros((n, _WORK))
    mass = np.zeros((n, n))
    bias = np.zeros(n)
    effort = np.zeros(n)
    stiff = np.zeros(n)
    _mass_and_bias(n, parent, kind, axis, tree_rotation, tree_position, row, wind, q, v, w, mass, bias)
    kept = mass.copy()
    _efforts(n, drive_joint.shape[0], drive_joint, drive_kind, row, q, v, lagged, integral, 0.0, effort, stiff)
    for i in range(n):
        bias[i] = effort[i] - bias[i]
    _solve(n, mass, bias)
    return bias, kept


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy")
def locate(
    first, last, parent, kind, axis, tree_rotation, tree_position, body_node, body_rotation, body_position, q, v, out
):
    """Where the bodies are: out (B, bodies, 18) = origin (3), its velocity (3), rotation (9), angular velocity (3)."""
    n = parent.shape[0]
    w = np.zeros((n, _WORK))
    for c in range(first, last):
        for i in range(n):
            _kinematics(i, parent, kind, axis, tree_rotation, tree_position, q[c], v[c], w)
        for k in range(body_node.shape[0]):
            o = out[c, k]
            p, t = body_position[k], body_rotation[k]
            i = body_node[k]
            if i < 0:
                for a in range(3):
                    o[a] = p[a]
                    o[3 + a] = 0.0
                    o[15 + a] = 0.0
                for a in range(9):
                    o[6 + a] = t[a]
                continue
            z = w[i]
            for a in range(3):
                o[a] = z[9 + a] + z[3 * a] * p[0] + z[3 * a + 1] * p[1] + z[3 * a + 2] * p[2]
                for b in range(3):
                    o[6 + 3 * a + b] = z[3 * a] * t[b] + z[3 * a + 1] * t[3 + b] + z[3 * a + 2] * t[6 + b]
                o[15 + a] = z[18 + a]
            o[3] = z[21] + z[19] * o[2] - z[20] * o[1]
            o[4] = z[22] + z[20] * o[0] - z[18] * o[2]
            o[5] = z[23] + z[18] * o[1] - z[19] * o[0]
