"""Impulses that keep bodies apart, rub, and hold joints within their stops.

All constraints of a step are solved together for impulses at the velocity level by projected Gauss-Seidel
(J. J. Moreau, 1988; M. Anitescu, F. A. Potra, Nonlinear Dynamics 14, 1997), started from the last step's impulses.
Rows are kept as y = L^-1 J' with the Cholesky factor L of the mass matrix, so that J M^-1 J' = y'y and one update of an
impulse costs two products of length n. Overlap is undone by a second, separate set of impulses that moves positions
only, so that it adds no energy.
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.layout import (
    AXIS,
    BOUNCE,
    COMPLIANCE,
    CONTACT_POINT,
    DYNAMIC_FRICTION,
    FRICTION_IMPULSE,
    GAP,
    LOWER_STOP,
    NODE,
    NORMAL,
    NORMAL_IMPULSE,
    PAIR,
    SHAPE,
    SLIPPING,
    STATIC_FRICTION,
    STOP_DAMPING,
    STOP_STIFFNESS,
    SURFACE_DAMPING,
    UPPER_STOP,
)
from plucky_heron.dynamics.kernels.solving import back_substitute, forward_substitute
from plucky_heron.kernels import kernel

SLOP = 2e-4
"""Overlap (m) that is left alone, so that resting contacts stay."""
RECOVERY = 0.2
"""Share of the overlap that is undone in a step."""
BOUNCE_SPEED = 0.05
"""Approach (m/s) below which nothing bounces."""
SLIP_SPEED = 2e-4
"""Sliding (m/s) above which the dynamic coefficient of friction holds in the next step."""

ROW = 10
"""Numbers a row of the solver, by the names that follow."""
DIAGONAL, BIAS, SOFTNESS, IMPULSE = 0, 1, 2, 3
BOUND = 4
"""Largest impulse of a stop or of dry friction; of a contact, the speed of approach before the step (m/s)."""
FREE_SPEED, OVERLAP_SPEED, OVERLAP_IMPULSE, COMPRESSION, BOUNCES = 5, 6, 7, 8, 9
CROSS = BOUND
"""Of the first tangent of a contact: how an impulse along it moves the point along the second."""


@kernel(inline=True)
def _jacobian(w, parent, node, px, py, pz, dx, dy, dz, sign, row):
    """Add how fast each coordinate moves a point of `node` along a direction."""
    mx, my, mz = py * dz - pz * dy, pz * dx - px * dz, px * dy - py * dx
    i = node
    while i >= 0:
        row[i] += sign * (
            w[i, AXIS] * mx
            + w[i, AXIS + 1] * my
            + w[i, AXIS + 2] * mz
            + w[i, AXIS + 3] * dx
            + w[i, AXIS + 4] * dy
            + w[i, AXIS + 5] * dz
        )
        i = parent[i]


@kernel(inline=True)
def _tangents(nx, ny, nz):
    """Two directions across a normal; the same for the same normal, so that kept friction impulses keep their meaning."""
    if abs(nx) < 0.7:
        tx, ty, tz = 0.0, -nz, ny
    else:
        tx, ty, tz = nz, 0.0, -nx
    k = 1.0 / math.sqrt(tx * tx + ty * ty + tz * tz)
    tx, ty, tz = k * tx, k * ty, k * tz
    return tx, ty, tz, ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx


@kernel(inline=True)
def _finish_row(n, r, factor, rows, numbers, v, start):
    """From J in `rows[r]` to y = L^-1 J'; the speed along the row before and the diagonal."""
    speed = 0.0
    first = n
    for i in range(n):
        if rows[r, i] != 0.0:
            speed += rows[r, i] * v[i]
            if first == n:
                first = i
    forward_substitute(n, first, factor, rows[r])
    size = 0.0
    for i in range(first, n):
        size += rows[r, i] * rows[r, i]
    numbers[r, DIAGONAL] = size + 1e-12
    numbers[r, FREE_SPEED] = speed
    numbers[r, IMPULSE] = start
    numbers[r, SOFTNESS] = 0.0
    numbers[r, BIAS] = 0.0
    numbers[r, OVERLAP_SPEED] = 0.0
    numbers[r, OVERLAP_IMPULSE] = 0.0


@kernel(inline=True)
def _speed_along(n, rows, r, z):
    total = 0.0
    for i in range(n):
        total += rows[r, i] * z[i]
    return total


@kernel(inline=True)
def _push(n, rows, r, amount, z):
    for i in range(n):
        z[i] += rows[r, i] * amount


@kernel
def impulses(
    n, parent, row, w, q, v, free, h, factor, found, list_, old, old_count, nodes, surfaces, dry, kept,
    iterations, rows, numbers, z, zp, work,
):  # fmt: skip
    """Impulses of contacts, stops and dry friction in one step.

    `v` are the speeds before, `free` (n) the speeds the step would end with; `free` becomes what it does end with, and
    `zp` (n) the speeds by which positions are corrected besides. `kept` (2, n) are the last step's impulses of dry
    friction and of stops, and become this one's. Returns whether there is such a correction.
    """
    for i in range(n):
        z[i] = 0.0
        zp[i] = 0.0
    made = 0
    overlap = False
    for c in range(found):
        contact = list_[c]
        nx, ny, nz = contact[NORMAL], contact[NORMAL + 1], contact[NORMAL + 2]
        px, py, pz = contact[CONTACT_POINT], contact[CONTACT_POINT + 1], contact[CONTACT_POINT + 2]
        _remember(contact, old, old_count)
        tx, ty, tz, bx, by, bz = _tangents(nx, ny, nz)
        a, b = nodes[c, 0], nodes[c, 1]
        before = 0.0
        for d in range(3):
            r = made + d
            dx, dy, dz = (nx, ny, nz) if d == 0 else (tx, ty, tz) if d == 1 else (bx, by, bz)
            for i in range(n):
                rows[r, i] = 0.0
            _jacobian(w, parent, a, px, py, pz, dx, dy, dz, 1.0, rows[r])
            _jacobian(w, parent, b, px, py, pz, dx, dy, dz, -1.0, rows[r])
            if d == 0:
                for i in range(n):
                    before += rows[r, i] * v[i]
                start = contact[NORMAL_IMPULSE]
            else:
                start = (
                    contact[FRICTION_IMPULSE] * dx
                    + contact[FRICTION_IMPULSE + 1] * dy
                    + contact[FRICTION_IMPULSE + 2] * dz
                )
            _finish_row(n, r, factor, rows, numbers, free, start)
            if start != 0.0:
                _push(n, rows, r, start, z)
        cross = 0.0
        for i in range(n):
            cross += rows[made + 1, i] * rows[made + 2, i]
        numbers[made + 1, CROSS] = cross
        gap = contact[GAP]
        compliance = surfaces[c, COMPLIANCE]
        numbers[made, BOUND] = before
        if gap > 0.0:
            numbers[made, BIAS] = gap / h
        elif compliance > 0.0:
            stiffness = 1.0 / compliance
            damping = surfaces[c, SURFACE_DAMPING]
            if damping < 0.0:
                damping = 1.4 * math.sqrt(stiffness / numbers[made, DIAGONAL])
            both = damping + h * stiffness
            numbers[made, SOFTNESS] = 1.0 / (h * both)
            numbers[made, BIAS] = stiffness / both * gap
        elif gap < -SLOP:
            numbers[made, OVERLAP_SPEED] = -RECOVERY * (gap + SLOP) / h
            overlap = True
        made += 3
    contact_rows = made
    for i in range(n):
        b = i * NODE
        before, kept[1, i] = kept[1, i], 0.0
        for side in range(2):
            over = q[i] - row[b + UPPER_STOP] if side == 0 else row[b + LOWER_STOP] - q[i]
            if over > 0.0:
                sign = 1.0 if side == 0 else -1.0
                kept[1, i] = max(0.0, sign * before)
                for k in range(n):
                    rows[made, k] = 0.0
                rows[made, i] = -sign
                _finish_row(n, made, factor, rows, numbers, free, kept[1, i])
                _push(n, rows, made, kept[1, i], z)
                # a spring and damper that only push, implicit in the step
                both = row[b + STOP_DAMPING] + h * row[b + STOP_STIFFNESS]
                numbers[made, SOFTNESS] = 1.0 / (h * both)
                numbers[made, BIAS] = -row[b + STOP_STIFFNESS] / both * over
                numbers[made, BOUND] = sign
                made += 1
    stop_rows = made
    for i in range(n):
        if dry[i] > 0.0:
            for k in range(n):
                rows[made, k] = 0.0
            rows[made, i] = 1.0
            most = h * dry[i]
            start = min(max(kept[0, i], -most), most)
            _finish_row(n, made, factor, rows, numbers, free, start)
            _push(n, rows, made, start, z)
            numbers[made, BOUND] = most
            made += 1
        else:
            kept[0, i] = 0.0
    if made == 0:
        return False
    for _ in range(iterations):
        worst = 0.0
        for r in range(contact_rows, stop_rows):
            change = _one_sided(n, rows, numbers, r, numbers[r, BIAS], z)
            worst = max(worst, abs(change) * numbers[r, DIAGONAL])
        for r in range(stop_rows, made):
            speed = numbers[r, FREE_SPEED] + _speed_along(n, rows, r, z)
            now = min(max(numbers[r, IMPULSE] - speed / numbers[r, DIAGONAL], -numbers[r, BOUND]), numbers[r, BOUND])
            change = now - numbers[r, IMPULSE]
            numbers[r, IMPULSE] = now
            _push(n, rows, r, change, z)
            worst = max(worst, abs(change) * numbers[r, DIAGONAL])
        for c in range(found):
            r = 3 * c
            friction = surfaces[c, DYNAMIC_FRICTION] if list_[c, SLIPPING] > 0.0 else surfaces[c, STATIC_FRICTION]
            change = _rub(n, rows, numbers, r, friction, z)
            worst = max(worst, change)
            change = _one_sided(n, rows, numbers, r, numbers[r, BIAS], z)
            worst = max(worst, abs(change) * numbers[r, DIAGONAL])
        if worst < 1e-7:
            break
    r = contact_rows
    for i in range(n):
        if kept[1, i] != 0.0 or q[i] > row[i * NODE + UPPER_STOP] or q[i] < row[i * NODE + LOWER_STOP]:
            for side in range(2):
                over = q[i] - row[i * NODE + UPPER_STOP] if side == 0 else row[i * NODE + LOWER_STOP] - q[i]
                if over > 0.0:
                    kept[1, i] = numbers[r, BOUND] * numbers[r, IMPULSE]
                    r += 1
    for i in range(n):
        if dry[i] > 0.0:
            kept[0, i] = numbers[r, IMPULSE]
            r += 1
    _bounce(n, rows, numbers, found, surfaces, list_, factor, v, free, z, work)
    if overlap:
        for _ in range(8):
            for c in range(found):
                r = 3 * c
                if numbers[r, OVERLAP_SPEED] > 0.0:
                    speed = _speed_along(n, rows, r, zp)
                    now = max(
                        0.0, numbers[r, OVERLAP_IMPULSE] + (numbers[r, OVERLAP_SPEED] - speed) / numbers[r, DIAGONAL]
                    )
                    _push(n, rows, r, now - numbers[r, OVERLAP_IMPULSE], zp)
                    numbers[r, OVERLAP_IMPULSE] = now
        back_substitute(n, factor, zp)
    for c in range(found):
        r = 3 * c
        contact = list_[c]
        nx, ny, nz = contact[NORMAL], contact[NORMAL + 1], contact[NORMAL + 2]
        tx, ty, tz, bx, by, bz = _tangents(nx, ny, nz)
        contact[NORMAL_IMPULSE] = numbers[r, IMPULSE]
        f, e = numbers[r + 1, IMPULSE], numbers[r + 2, IMPULSE]
        contact[FRICTION_IMPULSE], contact[FRICTION_IMPULSE + 1], contact[FRICTION_IMPULSE + 2] = (
            f * tx + e * bx,
            f * ty + e * by,
            f * tz + e * bz,
        )
        u = numbers[r + 1, FREE_SPEED] + _speed_along(n, rows, r + 1, z)
        t = numbers[r + 2, FREE_SPEED] + _speed_along(n, rows, r + 2, z)
        contact[SLIPPING] = 1.0 if contact[NORMAL_IMPULSE] > 0.0 and math.sqrt(u * u + t * t) > SLIP_SPEED else 0.0
    back_substitute(n, factor, z)
    for i in range(n):
        free[i] += z[i]
    return overlap


@kernel(inline=True)
def _remember(contact, old, old_count):
    """Take over the impulses of the nearest point of the same pair in the last step."""
    best, at = 4e-4, -1
    for k in range(old_count):
        if old[k, PAIR] == contact[PAIR] and old[k, SHAPE] == contact[SHAPE]:
            size = (
                (old[k, CONTACT_POINT] - contact[CONTACT_POINT]) ** 2
                + (old[k, CONTACT_POINT + 1] - contact[CONTACT_POINT + 1]) ** 2
                + (old[k, CONTACT_POINT + 2] - contact[CONTACT_POINT + 2]) ** 2
            )
            if size < best:
                best, at = size, k
    if at >= 0:
        for d in range(5):
            contact[NORMAL_IMPULSE + d] = old[at, NORMAL_IMPULSE + d]


@kernel(inline=True)
def _one_sided(n, rows, numbers, r, bias, z):
    """One update of an impulse that may only push."""
    speed = numbers[r, FREE_SPEED] + _speed_along(n, rows, r, z)
    soft = numbers[r, SOFTNESS]
    now = numbers[r, IMPULSE] - (speed + bias + soft * numbers[r, IMPULSE]) / (numbers[r, DIAGONAL] + soft)
    now = max(0.0, now)
    change = now - numbers[r, IMPULSE]
    numbers[r, IMPULSE] = now
    if change != 0.0:
        _push(n, rows, r, change, z)
    return change


@kernel(inline=True)
def _rub(n, rows, numbers, r, friction, z):
    """One update of both friction impulses of a contact together, within the cone's circle.

    Minimises the kinetic energy of this contact's sliding over the circle, so that friction acts against the sliding
    whatever the two directions are (maximal dissipation: J. J. Moreau, 1988; the multiplier of the circle by Newton's
    method on its reciprocal: J. J. More, D. C. Sorensen, SIAM J. Sci. Stat. Comput. 4, 1983, section 3).
    """
    most = friction * numbers[r, IMPULSE]
    f, e = numbers[r + 1, IMPULSE], numbers[r + 2, IMPULSE]
    if most == 0.0 and f == 0.0 and e == 0.0:
        return 0.0
    one, two = 0.0, 0.0
    d1, d2, d12 = numbers[r + 1, DIAGONAL], numbers[r + 2, DIAGONAL], numbers[r + 1, CROSS]
    if most > 0.0:
        # sliding without any friction impulse of this contact
        b1 = numbers[r + 1, FREE_SPEED] + _speed_along(n, rows, r + 1, z) - d1 * f - d12 * e
        b2 = numbers[r + 2, FREE_SPEED] + _speed_along(n, rows, r + 2, z) - d12 * f - d2 * e
        size = 1.0 / (d1 * d2 - d12 * d12 + 1e-9 * d1 * d2)
        one, two = -size * (d2 * b1 - d12 * b2), -size * (d1 * b2 - d12 * b1)
        long = math.sqrt(one * one + two * two)
        if long > most:
            slip = 0.0
            for _ in range(8):
                # (D + slip) x = -b; the derivative of |x| by slip is -x (D + slip)^-1 x / |x|
                g1, g2 = d1 + slip, d2 + slip
                size = 1.0 / (g1 * g2 - d12 * d12)
                one, two = -size * (g2 * b1 - d12 * b2), -size * (g1 * b2 - d12 * b1)
                long = math.sqrt(one * one + two * two)
                if abs(long - most) <= 1e-9 * most:
                    break
                bent = size * (g2 * one * one - 2.0 * d12 * one * two + g1 * two * two)
                slip = max(0.0, slip + long * long * (long - most) / (most * bent))
            long = max(long, 1e-300)
            one *= most / long
            two *= most / long
    _push(n, rows, r + 1, one - f, z)
    _push(n, rows, r + 2, two - e, z)
    numbers[r + 1, IMPULSE], numbers[r + 2, IMPULSE] = one, two
    return max(abs(one - f) * d1, abs(two - e) * d2)


@kernel(inline=True)
def _bounce(n, rows, numbers, found, surfaces, list_, factor, v, free, z, work):
    """Restitution for what met in this step: leave with e times the speed of approach, with no more energy than before.

    Newton's law alone can add energy where friction turns a body as it bounces (W. J. Stronge, Proc. R. Soc. A 431,
    1990); what it gives beyond the plastic impact is shortened until the kinetic energy is at most that before.
    """
    lively = False
    for c in range(found):
        r = 3 * c
        numbers[r, BOUNCES] = 0.0
        if surfaces[c, BOUNCE] > 0.0 and numbers[r, IMPULSE] > 0.0 and numbers[r, BOUND] < -BOUNCE_SPEED:
            numbers[r, BOUNCES] = 1.0
            lively = True
    if not lively:
        return
    for i in range(n):
        work[i] = z[i]
    for r in range(3 * found):
        numbers[r, COMPRESSION] = numbers[r, IMPULSE]
    for _ in range(30):
        worst = 0.0
        for c in range(found):
            r = 3 * c
            bias = numbers[r, BIAS]
            if numbers[r, BOUNCES] > 0.0:
                bias = surfaces[c, BOUNCE] * numbers[r, BOUND]
            # the others must not be driven through by what bounces beside them
            worst = max(worst, abs(_one_sided(n, rows, numbers, r, bias, z)) * numbers[r, DIAGONAL])
            friction = surfaces[c, DYNAMIC_FRICTION] if list_[c, SLIPPING] > 0.0 else surfaces[c, STATIC_FRICTION]
            worst = max(worst, _rub(n, rows, numbers, r, friction, z))
        if worst < 1e-7:
            break
    # twice the energy of speeds u is |L'u|^2; an impact in the middle of the step meets the mean of v and free
    first, second, start = 0.0, 0.0, 0.0
    for i in range(n):
        u = 0.5 * (v[i] + free[i]) / factor[i, i]
        for k in range(i + 1, n):
            u += 0.5 * factor[k, i] * (v[k] + free[k])
        more = z[i] - work[i]
        plastic = u + work[i]
        start += plastic * plastic - u * u
        first += 2.0 * plastic * more
        second += more * more
    if start + first + second > 0.0:
        share = 0.0
        if start < 0.0 and second > 0.0:
            root = math.sqrt(first * first - 4.0 * second * start)
            # the form without cancellation
            share = -2.0 * start / (first + root) if first > 0.0 else (root - first) / (2.0 * second)
        share = min(max(share, 0.0), 1.0)
        for i in range(n):
            z[i] = work[i] + share * (z[i] - work[i])
        for r in range(3 * found):
            numbers[r, IMPULSE] = numbers[r, COMPRESSION] + share * (numbers[r, IMPULSE] - numbers[r, COMPRESSION])
