"""The tree of bodies: poses, velocities, mass matrix, bias efforts.

Mass matrix by the composite-rigid-body algorithm, bias forces by recursive Newton-Euler (R. Featherstone, Rigid Body
Dynamics Algorithms, 2008, sections 5.3 and 6.2). A ball is three nodes that share one attitude,
with its body axes as joint axes: its speeds are the body's own rates.
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.layout import (
    AIR_DENSITY,
    ARMATURE,
    AXIS,
    BALL_X,
    BALL_Y,
    CARRIED,
    DRAG_AREA,
    DRAG_POINT,
    GEARED,
    GRAVITY,
    HELD_INERTIA,
    HELD_MASS,
    HELD_MOMENT,
    INERTIA,
    LOAD,
    MASS,
    MEAN,
    MOMENT,
    NODE,
    ORIGIN,
    OWN,
    SLIDER,
    TAIL,
    TWIST,
    WIND,
    WORK,
)
from plucky_heron.kernels import kernel


@kernel(inline=True)
def _turn_ball(i, scalar, q, v, w, px, py, pz, r, before):
    """First node of a ball: the body's attitude, and its x axis as the joint axis."""
    x, y, z, s = q[i], q[i + 1], q[i + 2], q[scalar]
    k = 2.0 / (x * x + y * y + z * z + s * s)
    a00, a01, a02 = 1.0 - k * (y * y + z * z), k * (x * y - s * z), k * (x * z + s * y)
    a10, a11, a12 = k * (x * y + s * z), 1.0 - k * (x * x + z * z), k * (y * z - s * x)
    a20, a21, a22 = k * (x * z - s * y), k * (y * z + s * x), 1.0 - k * (x * x + y * y)
    w[i, 0] = r[0] * a00 + r[1] * a10 + r[2] * a20
    w[i, 1] = r[0] * a01 + r[1] * a11 + r[2] * a21
    w[i, 2] = r[0] * a02 + r[1] * a12 + r[2] * a22
    w[i, 3] = r[3] * a00 + r[4] * a10 + r[5] * a20
    w[i, 4] = r[3] * a01 + r[4] * a11 + r[5] * a21
    w[i, 5] = r[3] * a02 + r[4] * a12 + r[5] * a22
    w[i, 6] = r[6] * a00 + r[7] * a10 + r[8] * a20
    w[i, 7] = r[6] * a01 + r[7] * a11 + r[8] * a21
    w[i, 8] = r[6] * a02 + r[7] * a12 + r[8] * a22
    w[i, ORIGIN], w[i, ORIGIN + 1], w[i, ORIGIN + 2] = px, py, pz
    _ball_axis(i, 0, v[i], w, before)


@kernel(inline=True)
def _ball_axis(i, column, rate, w, before):
    """Joint axis along a column of the node's own attitude, and the velocity it adds."""
    sx, sy, sz = w[i, column], w[i, 3 + column], w[i, 6 + column]
    px, py, pz = w[i, ORIGIN], w[i, ORIGIN + 1], w[i, ORIGIN + 2]
    w[i, AXIS], w[i, AXIS + 1], w[i, AXIS + 2] = sx, sy, sz
    w[i, AXIS + 3], w[i, AXIS + 4], w[i, AXIS + 5] = py * sz - pz * sy, pz * sx - px * sz, px * sy - py * sx
    for k in range(6):
        w[i, TWIST + k] = before[k] + w[i, AXIS + k] * rate


@kernel(inline=True)
def _rest_of_ball(i, j, column, v, w):
    """Second and third node of a ball: the same attitude, its y or z axis."""
    for k in range(12):
        w[i, k] = w[j, k]
    _ball_axis(
        i,
        column,
        v[i],
        w,
        (w[j, TWIST], w[j, TWIST + 1], w[j, TWIST + 2], w[j, TWIST + 3], w[j, TWIST + 4], w[j, TWIST + 5]),
    )


@kernel(inline=True)
def kinematics(i, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w):
    """Pose, joint axis and velocity of node `i` in world axes, from its parent's."""
    kind = kinds[i]
    j = parent[i]
    if kind >= BALL_Y:
        _rest_of_ball(i, j, kind - BALL_X, v, w)
        return
    ax, ay, az = axes[i, 0], axes[i, 1], axes[i, 2]
    tx, ty, tz = tree_position[i, 0], tree_position[i, 1], tree_position[i, 2]
    if j < 0:
        r00, r01, r02 = tree_rotation[i, 0], tree_rotation[i, 1], tree_rotation[i, 2]
        r10, r11, r12 = tree_rotation[i, 3], tree_rotation[i, 4], tree_rotation[i, 5]
        r20, r21, r22 = tree_rotation[i, 6], tree_rotation[i, 7], tree_rotation[i, 8]
        px, py, pz = tx, ty, tz
        v0, v1, v2, v3, v4, v5 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    else:
        px = w[j, ORIGIN] + w[j, 0] * tx + w[j, 1] * ty + w[j, 2] * tz
        py = w[j, ORIGIN + 1] + w[j, 3] * tx + w[j, 4] * ty + w[j, 5] * tz
        pz = w[j, ORIGIN + 2] + w[j, 6] * tx + w[j, 7] * ty + w[j, 8] * tz
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
        v0, v1, v2, v3, v4, v5 = (
            w[j, TWIST],
            w[j, TWIST + 1],
            w[j, TWIST + 2],
            w[j, TWIST + 3],
            w[j, TWIST + 4],
            w[j, TWIST + 5],
        )
    if kind == BALL_X:
        _turn_ball(i, scalar[i], q, v, w, px, py, pz, (r00, r01, r02, r10, r11, r12, r20, r21, r22), (v0, v1, v2, v3, v4, v5))  # fmt: skip
        return
    # the joint axis is fixed in both bodies, so it may be turned by the rotation before the joint
    sx = r00 * ax + r01 * ay + r02 * az
    sy = r10 * ax + r11 * ay + r12 * az
    sz = r20 * ax + r21 * ay + r22 * az
    if kind == SLIDER:
        px += sx * q[i]
        py += sy * q[i]
        pz += sz * q[i]
        w[i, AXIS], w[i, AXIS + 1], w[i, AXIS + 2] = 0.0, 0.0, 0.0
        w[i, AXIS + 3], w[i, AXIS + 4], w[i, AXIS + 5] = sx, sy, sz
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
        w[i, AXIS], w[i, AXIS + 1], w[i, AXIS + 2] = sx, sy, sz
        w[i, AXIS + 3] = py * sz - pz * sy
        w[i, AXIS + 4] = pz * sx - px * sz
        w[i, AXIS + 5] = px * sy - py * sx
    w[i, ORIGIN], w[i, ORIGIN + 1], w[i, ORIGIN + 2] = px, py, pz
    rate = v[i]
    w[i, TWIST] = v0 + w[i, AXIS] * rate
    w[i, TWIST + 1] = v1 + w[i, AXIS + 1] * rate
    w[i, TWIST + 2] = v2 + w[i, AXIS + 2] * rate
    w[i, TWIST + 3] = v3 + w[i, AXIS + 3] * rate
    w[i, TWIST + 4] = v4 + w[i, AXIS + 4] * rate
    w[i, TWIST + 5] = v5 + w[i, AXIS + 5] * rate


@kernel(inline=True)
def inertia_to_world(i, row, w):
    """Mass, first moment and inertia of node `i` about the world origin, in world axes."""
    b = i * NODE
    m = row[b + MASS]
    hx, hy, hz = row[b + MOMENT], row[b + MOMENT + 1], row[b + MOMENT + 2]
    xx, yy, zz, xy, xz, yz = (
        row[b + INERTIA],
        row[b + INERTIA + 1],
        row[b + INERTIA + 2],
        row[b + INERTIA + 3],
        row[b + INERTIA + 4],
        row[b + INERTIA + 5],
    )
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
    px, py, pz = w[i, ORIGIN], w[i, ORIGIN + 1], w[i, ORIGIN + 2]
    gp = gx * px + gy * py + gz * pz
    pp = px * px + py * py + pz * pz
    w[i, HELD_MASS] = m
    w[i, HELD_MOMENT], w[i, HELD_MOMENT + 1], w[i, HELD_MOMENT + 2] = gx + m * px, gy + m * py, gz + m * pz
    w[i, HELD_INERTIA] = a00 * r00 + a01 * r01 + a02 * r02 + 2.0 * (gp - gx * px) + m * (pp - px * px)
    w[i, HELD_INERTIA + 1] = a10 * r10 + a11 * r11 + a12 * r12 + 2.0 * (gp - gy * py) + m * (pp - py * py)
    w[i, HELD_INERTIA + 2] = a20 * r20 + a21 * r21 + a22 * r22 + 2.0 * (gp - gz * pz) + m * (pp - pz * pz)
    w[i, HELD_INERTIA + 3] = a00 * r10 + a01 * r11 + a02 * r12 - gx * py - gy * px - m * px * py
    w[i, HELD_INERTIA + 4] = a00 * r20 + a01 * r21 + a02 * r22 - gx * pz - gz * px - m * px * pz
    w[i, HELD_INERTIA + 5] = a10 * r20 + a11 * r21 + a12 * r22 - gy * pz - gz * py - m * py * pz


@kernel(inline=True)
def apply_inertia(w, i, column, x0, x1, x2, x3, x4, x5):
    """Spatial inertia that stands in row `i` from `column` on times a motion vector (angular, linear)."""
    m, hx, hy, hz = w[i, column], w[i, column + 1], w[i, column + 2], w[i, column + 3]
    xx, yy, zz = w[i, column + 4], w[i, column + 5], w[i, column + 6]
    xy, xz, yz = w[i, column + 7], w[i, column + 8], w[i, column + 9]
    return (
        xx * x0 + xy * x1 + xz * x2 + hy * x5 - hz * x4,
        xy * x0 + yy * x1 + yz * x2 + hz * x3 - hx * x5,
        xz * x0 + yz * x1 + zz * x2 + hx * x4 - hy * x3,
        m * x3 + x1 * hz - x2 * hy,
        m * x4 + x2 * hx - x0 * hz,
        m * x5 + x0 * hy - x1 * hx,
    )


@kernel(inline=True)
def forward(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w):
    """Poses, axes and velocities of all nodes.

    Arrays one by one, not the whole `Tree`: taking an array out of a tuple counts references, atomically, each time.
    """
    for i in range(n):
        kinematics(i, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w)


@kernel
def place_nodes(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w):
    """`forward` as a function of its own, for callers that do not run in every step: it is compiled only once."""
    forward(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w)


@kernel(inline=True)
def carried_along(i, k, rate, w):
    """Acceleration that node `i` has because node `k`, moving, carries its joint axis along: v x S times the rate."""
    u0, u1, u2, u3, u4, u5 = (
        w[k, TWIST],
        w[k, TWIST + 1],
        w[k, TWIST + 2],
        w[k, TWIST + 3],
        w[k, TWIST + 4],
        w[k, TWIST + 5],
    )
    s0, s1, s2 = w[i, AXIS] * rate, w[i, AXIS + 1] * rate, w[i, AXIS + 2] * rate
    s3, s4, s5 = w[i, AXIS + 3] * rate, w[i, AXIS + 4] * rate, w[i, AXIS + 5] * rate
    return (
        u1 * s2 - u2 * s1,
        u2 * s0 - u0 * s2,
        u0 * s1 - u1 * s0,
        u1 * s5 - u2 * s4 + u4 * s2 - u5 * s1,
        u2 * s3 - u0 * s5 + u5 * s0 - u3 * s2,
        u0 * s4 - u1 * s3 + u3 * s1 - u4 * s0,
    )


@kernel(inline=True)
def _carry(i, j, k, rate, w, c0, c1, c2, c3, c4, c5):
    """Mean velocity of node `i`, and the acceleration (c) of the one before with what its moving axis adds.

    The axis is carried along by node `k`, the body before the joint: S' = v x S.
    """
    s0, s1, s2 = w[i, AXIS] * rate, w[i, AXIS + 1] * rate, w[i, AXIS + 2] * rate
    s3, s4, s5 = w[i, AXIS + 3] * rate, w[i, AXIS + 4] * rate, w[i, AXIS + 5] * rate
    if j < 0:
        w[i, MEAN], w[i, MEAN + 1], w[i, MEAN + 2] = s0, s1, s2
        w[i, MEAN + 3], w[i, MEAN + 4], w[i, MEAN + 5] = s3, s4, s5
    else:
        w[i, MEAN], w[i, MEAN + 1], w[i, MEAN + 2] = w[j, MEAN] + s0, w[j, MEAN + 1] + s1, w[j, MEAN + 2] + s2
        w[i, MEAN + 3], w[i, MEAN + 4], w[i, MEAN + 5] = w[j, MEAN + 3] + s3, w[j, MEAN + 4] + s4, w[j, MEAN + 5] + s5
        c0, c1, c2 = w[j, CARRIED], w[j, CARRIED + 1], w[j, CARRIED + 2]
        c3, c4, c5 = w[j, CARRIED + 3], w[j, CARRIED + 4], w[j, CARRIED + 5]
        if k >= 0:
            u0, u1, u2 = w[k, MEAN], w[k, MEAN + 1], w[k, MEAN + 2]
            u3, u4, u5 = w[k, MEAN + 3], w[k, MEAN + 4], w[k, MEAN + 5]
            c0 += u1 * s2 - u2 * s1
            c1 += u2 * s0 - u0 * s2
            c2 += u0 * s1 - u1 * s0
            c3 += u1 * s5 - u2 * s4 + u4 * s2 - u5 * s1
            c4 += u2 * s3 - u0 * s5 + u5 * s0 - u3 * s2
            c5 += u0 * s4 - u1 * s3 + u3 * s1 - u4 * s0
    w[i, CARRIED], w[i, CARRIED + 1], w[i, CARRIED + 2] = c0, c1, c2
    w[i, CARRIED + 3], w[i, CARRIED + 4], w[i, CARRIED + 5] = c3, c4, c5


@kernel(inline=True)
def _moved_along(w, i):
    """Force that node `i` alone needs for its acceleration with the joints unaccelerated: I c + v x* I v."""
    f0, f1, f2, f3, f4, f5 = apply_inertia(w, i, OWN, w[i, CARRIED], w[i, CARRIED + 1], w[i, CARRIED + 2], w[i, CARRIED + 3], w[i, CARRIED + 4], w[i, CARRIED + 5])  # fmt: skip
    v0, v1, v2 = w[i, MEAN], w[i, MEAN + 1], w[i, MEAN + 2]
    v3, v4, v5 = w[i, MEAN + 3], w[i, MEAN + 4], w[i, MEAN + 5]
    l0, l1, l2, l3, l4, l5 = apply_inertia(w, i, OWN, v0, v1, v2, v3, v4, v5)
    return (
        f0 + v1 * l2 - v2 * l1 + v4 * l5 - v5 * l4,
        f1 + v2 * l0 - v0 * l2 + v5 * l3 - v3 * l5,
        f2 + v0 * l1 - v1 * l0 + v3 * l4 - v4 * l3,
        f3 + v1 * l5 - v2 * l4,
        f4 + v2 * l3 - v0 * l5,
        f5 + v0 * l4 - v1 * l3,
    )


@kernel(inline=True)
def _rotor(i, j, armature, geared, rate, w):
    """The rotor that drives hinge `i` and turns in its carrier `j`: torque it takes there (3), effort it takes at the joint.

    It turns about the joint's axis s at N times the joint's rate, besides with its carrier: its energy is A/2 (rate +
    s . v / N)^2 with the inertia A that the joint feels (the armature) and 1/N = `geared`. Velocity terms by Euler's
    equation for the carrier, at the mean speeds, as with all others.
    """
    s0, s1, s2 = w[i, AXIS], w[i, AXIS + 1], w[i, AXIS + 2]
    v0, v1, v2 = w[j, MEAN], w[j, MEAN + 1], w[j, MEAN + 2]
    spin = armature * geared * (geared * (s0 * v0 + s1 * v1 + s2 * v2) + rate)
    along = armature * geared * (s0 * w[j, CARRIED] + s1 * w[j, CARRIED + 1] + s2 * w[j, CARRIED + 2])
    return (
        geared * along * s0 + spin * (v1 * s2 - v2 * s1),
        geared * along * s1 + spin * (v2 * s0 - v0 * s2),
        geared * along * s2 + spin * (v0 * s1 - v1 * s0),
        along,
    )


@kernel(inline=True)
def mass_and_bias(n, parent, base, massless, row, field, in_air, mean, w, pushes, pushed, mass, bias):
    """Mass matrix (n, n) and bias efforts (n): gravity, velocity terms, less the outer forces.

    Needs `forward` first. `mean` (n) are the speeds at which the velocity terms are taken; `pushes` (n, 6) outer forces
    on the nodes, looked at only when `pushed`; the drag of bodies is here where there is no water (`in_air`), as it costs
    least here. Returns the fastest turning of a body (rad/s).
    """
    tail = row.shape[0] - TAIL
    g0, g1, g2, air = -row[tail + GRAVITY], -row[tail + GRAVITY + 1], -row[tail + GRAVITY + 2], row[tail + AIR_DENSITY]
    fastest = 0.0
    for i in range(n):
        _carry(i, parent[i], base[i], mean[i], w, 0.0, 0.0, 0.0, g0, g1, g2)
        if massless[i]:
            for k in range(LOAD, WORK - 6):
                w[i, k] = 0.0
            if pushed:
                for k in range(6):
                    w[i, LOAD + k] -= pushes[i, k]
            continue
        inertia_to_world(i, row, w)
        for k in range(10):
            w[i, OWN + k] = w[i, HELD_MASS + k]
        f0, f1, f2, f3, f4, f5 = _moved_along(w, i)
        fastest = max(fastest, w[i, MEAN] ** 2 + w[i, MEAN + 1] ** 2 + w[i, MEAN + 2] ** 2)
        area = row[i * NODE + DRAG_AREA]
        if in_air and area > 0.0:
            d = i * NODE + DRAG_POINT
            v0, v1, v2 = w[i, TWIST], w[i, TWIST + 1], w[i, TWIST + 2]
            cx = w[i, ORIGIN] + w[i, 0] * row[d] + w[i, 1] * row[d + 1] + w[i, 2] * row[d + 2]
            cy = w[i, ORIGIN + 1] + w[i, 3] * row[d] + w[i, 4] * row[d + 1] + w[i, 5] * row[d + 2]
            cz = w[i, ORIGIN + 2] + w[i, 6] * row[d] + w[i, 7] * row[d + 1] + w[i, 8] * row[d + 2]
            x = field[WIND] - (w[i, TWIST + 3] + v1 * cz - v2 * cy)
            y = field[WIND + 1] - (w[i, TWIST + 4] + v2 * cx - v0 * cz)
            z = field[WIND + 2] - (w[i, TWIST + 5] + v0 * cy - v1 * cx)
            k = 0.5 * air * area * math.sqrt(x * x + y * y + z * z)
            x, y, z = k * x, k * y, k * z
            f0 -= cy * z - cz * y
            f1 -= cz * x - cx * z
            f2 -= cx * y - cy * x
            f3 -= x
            f4 -= y
            f5 -= z
        if pushed:
            f0 -= pushes[i, 0]
            f1 -= pushes[i, 1]
            f2 -= pushes[i, 2]
            f3 -= pushes[i, 3]
            f4 -= pushes[i, 4]
            f5 -= pushes[i, 5]
        w[i, LOAD], w[i, LOAD + 1], w[i, LOAD + 2], w[i, LOAD + 3], w[i, LOAD + 4], w[i, LOAD + 5] = (
            f0,
            f1,
            f2,
            f3,
            f4,
            f5,
        )
    for i in range(n - 1, -1, -1):
        s0, s1, s2 = w[i, AXIS], w[i, AXIS + 1], w[i, AXIS + 2]
        s3, s4, s5 = w[i, AXIS + 3], w[i, AXIS + 4], w[i, AXIS + 5]
        bias[i] = _along_axis(w, i, LOAD)
        f0, f1, f2, f3, f4, f5 = apply_inertia(w, i, HELD_MASS, s0, s1, s2, s3, s4, s5)
        armature, geared = row[i * NODE + ARMATURE], row[i * NODE + GEARED]
        mass[i, i] = s0 * f0 + s1 * f1 + s2 * f2 + s3 * f3 + s4 * f4 + s5 * f5 + armature
        for k in range(i):
            mass[i, k] = 0.0
        j = parent[i]
        if j >= 0 and armature * geared > 0.0:
            t0, t1, t2, effort = _rotor(i, j, armature, geared, mean[i], w)
            bias[i] += effort
            w[j, LOAD] += t0
            w[j, LOAD + 1] += t1
            w[j, LOAD + 2] += t2
            both, carried = armature * geared, armature * geared * geared
            f0 += both * s0
            f1 += both * s1
            f2 += both * s2
            w[j, HELD_INERTIA] += carried * s0 * s0
            w[j, HELD_INERTIA + 1] += carried * s1 * s1
            w[j, HELD_INERTIA + 2] += carried * s2 * s2
            w[j, HELD_INERTIA + 3] += carried * s0 * s1
            w[j, HELD_INERTIA + 4] += carried * s0 * s2
            w[j, HELD_INERTIA + 5] += carried * s1 * s2
        if j >= 0:
            for k in range(LOAD, OWN):
                w[j, k] += w[i, k]
        while j >= 0:
            mass[i, j] = w[j, AXIS] * f0 + w[j, AXIS + 1] * f1 + w[j, AXIS + 2] * f2 + w[j, AXIS + 3] * f3 + w[j, AXIS + 4] * f4 + w[j, AXIS + 5] * f5  # fmt: skip
            j = parent[j]
    return math.sqrt(fastest)


@kernel(inline=True)
def _along_axis(w, i, column):
    """A force that stands in `w` from `column` on, along the joint axis of node `i`."""
    return (
        w[i, AXIS] * w[i, column] + w[i, AXIS + 1] * w[i, column + 1] + w[i, AXIS + 2] * w[i, column + 2]
        + w[i, AXIS + 3] * w[i, column + 3] + w[i, AXIS + 4] * w[i, column + 4] + w[i, AXIS + 5] * w[i, column + 5]
    )  # fmt: skip


@kernel
def velocity_terms(n, parent, base, massless, row, mean, w, out):
    """Efforts (n) that the motion alone asks for at the speeds `mean` (n): the velocity terms of `mass_and_bias`.

    Needs `mass_and_bias` first, in the same pose; leaves mean velocities and accelerations of the nodes in `w`.
    """
    for i in range(n):
        _carry(i, parent[i], base[i], mean[i], w, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0)
        if massless[i]:
            for k in range(6):
                w[i, LOAD + k] = 0.0
            continue
        f0, f1, f2, f3, f4, f5 = _moved_along(w, i)
        w[i, LOAD], w[i, LOAD + 1], w[i, LOAD + 2], w[i, LOAD + 3], w[i, LOAD + 4], w[i, LOAD + 5] = (
            f0,
            f1,
            f2,
            f3,
            f4,
            f5,
        )
    for i in range(n - 1, -1, -1):
        out[i] = _along_axis(w, i, LOAD)
        j = parent[i]
        armature, geared = row[i * NODE + ARMATURE], row[i * NODE + GEARED]
        if j >= 0 and armature * geared > 0.0:
            t0, t1, t2, effort = _rotor(i, j, armature, geared, mean[i], w)
            out[i] += effort
            w[j, LOAD] += t0
            w[j, LOAD + 1] += t1
            w[j, LOAD + 2] += t2
        if j >= 0:
            for k in range(LOAD, HELD_MASS):
                w[j, k] += w[i, k]
