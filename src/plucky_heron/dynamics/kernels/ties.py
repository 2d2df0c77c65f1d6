"""What closes loops: rods between two points and pins that hold two points together, as constraints on the accelerations.

A tie wants that its error g is gone at the middle of the next step, g(q + h v) = 0 with the speeds v of the step's end:
the impulse acts where the bodies are now, along the way that is barred there, as in SHAKE (J. P. Ryckaert, G. Ciccotti,
H. J. C. Berendsen, J. Comput. Phys. 23, 1977), which keeps energy as the step itself does. To second order that is
J (v + h a) + h c / 2 = -g / h with c = J' v, so there is nothing to be repeated. Ties enter the equations as very heavy
rows, so that whatever else is solved with the mass matrix, contacts too, respects them, and too many of them do no harm.
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.forces import along, point_of
from plucky_heron.dynamics.kernels.layout import (
    CARRIED,
    FORCE,
    LOOSENESS,
    MEAN,
    NODE,
    PIN,
    ROD,
    TIE_A,
    TIE_B,
    TIE_LENGTH,
)
from plucky_heron.kernels import kernel

TIE_WEIGHT = 1e7
"""How much heavier than what it moves a tie weighs; what it leaves of a force's effect is one part in this."""
UNKNOWN = 1e-200
CLOSING = 1.0
"""Speed (m/s) at which a tie closes at most. What turns most of a radian a step, as about a dead centre, opens it by more than
is told by the way that is barred at the start; to make up for that at once would give it energy without bound."""
RETURN = 50.0
"""Rate (1/s) at which Runge-Kutta, whose stages need a smooth correction, brings a tie back."""


@kernel(inline=True)
def _moving(w, i, x, y, z, gx, gy, gz):
    """Velocity of the point of node `i` at a place at the mean speeds, and its acceleration with the joints unaccelerated.

    The ground's accelerates upwards by gravity, as everything does in the bias.
    """
    if i < 0:
        return 0.0, 0.0, 0.0, -gx, -gy, -gz
    w0, w1, w2 = w[i, MEAN], w[i, MEAN + 1], w[i, MEAN + 2]
    u0, u1, u2 = w[i, MEAN + 3] + w1 * z - w2 * y, w[i, MEAN + 4] + w2 * x - w0 * z, w[i, MEAN + 5] + w0 * y - w1 * x
    c0, c1, c2 = w[i, CARRIED], w[i, CARRIED + 1], w[i, CARRIED + 2]
    return (
        u0, u1, u2,
        w[i, CARRIED + 3] + c1 * z - c2 * y + w1 * u2 - w2 * u1,
        w[i, CARRIED + 4] + c2 * x - c0 * z + w2 * u0 - w0 * u2,
        w[i, CARRIED + 5] + c0 * y - c1 * x + w0 * u1 - w1 * u0,
    )  # fmt: skip


@kernel(inline=True)
def _hold(n, column, row, target, mass, right):
    """Add a heavy row J a = target to the equations; J stands in `column` (n)."""
    loose = 0.0
    for i in range(n):
        loose += column[i] * column[i] * row[i * NODE + LOOSENESS]
    if loose <= UNKNOWN:  # the looseness itself is being looked for
        return
    weight = TIE_WEIGHT / loose
    for i in range(n):
        if column[i] != 0.0:
            right[i] += weight * target * column[i]
            for j in range(i + 1):
                mass[i, j] += weight * column[i] * column[j]


@kernel
def tie(kind, row, b, a, e, n, parent, w, v, h, gx, gy, gz, mass, right, column):
    """One rod (one row) or pin (three rows, along the world's axes) between points of nodes `a` and `e`.

    With h = 0 everything is explicit (Runge-Kutta). Needs the mean speeds of the nodes (`tree.mass_and_bias`).
    """
    x0, y0, z0 = point_of(w, a, row[b + TIE_A], row[b + TIE_A + 1], row[b + TIE_A + 2])
    x1, y1, z1 = point_of(w, e, row[b + TIE_B], row[b + TIE_B + 1], row[b + TIE_B + 2])
    u0, u1, u2, a0, a1, a2 = _moving(w, a, x0, y0, z0, gx, gy, gz)
    t0, t1, t2, c0, c1, c2 = _moving(w, e, x1, y1, z1, gx, gy, gz)
    dx, dy, dz = x1 - x0, y1 - y0, z1 - z0
    count = 3 if kind == PIN else 1
    length = math.sqrt(dx * dx + dy * dy + dz * dz)
    if kind == ROD and length < 1e-9:
        return
    for k in range(count):
        if kind == ROD:
            px, py, pz = dx / length, dy / length, dz / length
            error = length - row[b + TIE_LENGTH]
        else:
            px, py, pz = (1.0, 0.0, 0.0) if k == 0 else (0.0, 1.0, 0.0) if k == 1 else (0.0, 0.0, 1.0)
            error = dx if k == 0 else dy if k == 1 else dz
        bent = (c0 - a0) * px + (c1 - a1) * py + (c2 - a2) * pz
        if kind == ROD:
            s0, s1, s2 = t0 - u0, t1 - u1, t2 - u2
            straight = s0 * px + s1 * py + s2 * pz
            bent += (s0 * s0 + s1 * s1 + s2 * s2 - straight * straight) / length
        for i in range(n):
            column[i] = 0.0
        along(w, parent, e, x1, y1, z1, px, py, pz, 1.0, column)
        along(w, parent, a, x0, y0, z0, px, py, pz, -1.0, column)
        rate = 0.0
        for i in range(n):
            rate += column[i] * v[i]
        if h > 0.0:
            closing = min(max(error / h, -CLOSING), CLOSING)
            target = -(closing + 0.5 * h * bent + rate) / h
        else:
            target = -bent - 2.0 * RETURN * rate - RETURN * RETURN * error
        _hold(n, column, row, target, mass, right)


@kernel
def brought_together(first, count, kinds, nodes_a, nodes_b, row, n, parent, w, mass, right, column):
    """For joints at rest: move by `right` after the solve, and all ties close, to first order. Returns the largest error (m)."""
    worst = 0.0
    for k in range(count):
        if kinds[k] != ROD and kinds[k] != PIN:
            continue
        b, a, e = first + k * FORCE, nodes_a[k], nodes_b[k]
        x0, y0, z0 = point_of(w, a, row[b + TIE_A], row[b + TIE_A + 1], row[b + TIE_A + 2])
        x1, y1, z1 = point_of(w, e, row[b + TIE_B], row[b + TIE_B + 1], row[b + TIE_B + 2])
        dx, dy, dz = x1 - x0, y1 - y0, z1 - z0
        length = math.sqrt(dx * dx + dy * dy + dz * dz)
        off = abs(length - row[b + TIE_LENGTH]) if kinds[k] == ROD else length
        worst = max(worst, off)
        if off == 0.0 or length < 1e-12:
            continue
        for d in range(3 if kinds[k] == PIN else 1):
            if kinds[k] == ROD:
                px, py, pz, error = dx / length, dy / length, dz / length, length - row[b + TIE_LENGTH]
            else:
                px, py, pz = (1.0, 0.0, 0.0) if d == 0 else (0.0, 1.0, 0.0) if d == 1 else (0.0, 0.0, 1.0)
                error = dx if d == 0 else dy if d == 1 else dz
            for i in range(n):
                column[i] = 0.0
            along(w, parent, e, x1, y1, z1, px, py, pz, 1.0, column)
            along(w, parent, a, x0, y0, z0, px, py, pz, -1.0, column)
            _hold(n, column, row, -error, mass, right)
    return worst
