"""Impulses that keep bodies apart, rub, and hold joints within their stops.

All constraints of a step are solved together for impulses at the velocity level by projected Gauss-Seidel
(J. J. Moreau, 1988; M. Anitescu, F. A. Potra, Nonlinear Dynamics 14, 1997), started from the last step's impulses. The
sweeps go over the speeds along the rows (`rows`), so that one update of an impulse costs one number a row. Overlap is
undone by a second, separate set of impulses that moves positions only, so that it adds no energy.
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.layout import (
    BOUNCE,
    COMPLIANCE,
    CONTACT_POINT,
    DYNAMIC_FRICTION,
    FRICTION_IMPULSE,
    GAP,
    LOWER_STOP,
    MOMENT_IMPULSE,
    NODE,
    NORMAL,
    NORMAL_IMPULSE,
    PAIR,
    ROLLING,
    SHAPE,
    SLIPPING,
    SPINNING,
    STATIC_FRICTION,
    STOP_DAMPING,
    STOP_STIFFNESS,
    SURFACE_DAMPING,
    UPPER_STOP,
)
from plucky_heron.dynamics.kernels.rows import (
    contact_rows,
    gather,
    joint_row,
    products,
    push,
    push_two,
    tangents,
    turning_rows,
)
from plucky_heron.dynamics.kernels.solving import towards_leaves
from plucky_heron.kernels import kernel

SLOP = 2e-4
"""Overlap (m) that is left alone, so that resting contacts stay."""
RECOVERY = 0.2
"""Share of the overlap that is undone in a step."""
BOUNCE_SPEED = 0.05
"""Approach (m/s) below which nothing bounces."""
SLIP_SPEED = 2e-4
"""Sliding (m/s) above which the dynamic coefficient of friction holds in the next step."""
FAINT = 1e-30
"""Impulse (N s) below which there is none: what dies away by halves would end in numbers too small to divide by."""
SETTLED = 1e-7
"""Change of a speed (m/s, rad/s) in a sweep below which the sweeps end."""

ROW = 6
"""Numbers a row of the solver, by the names that follow."""
BIAS, SOFTNESS = 0, 1
INVERSE = 2
"""Of what a row's own impulse gives it in speed; of the first tangent of a contact, of the determinant of both."""
BOUND = 3
"""Largest impulse of dry friction; of a stop its side (1 or -1); of a contact the speed of approach before the step (m/s)."""
OVERLAP_SPEED = 4
SLIP = 5
"""Of the first tangent: the multiplier of the friction circle, as it was found last."""
SIDES = 4
"""Numbers of all rows, by the names that follow: speeds along them, impulses, those of overlap, those before a bounce."""
SPEEDS, IMPULSES, OVERLAPS, COMPRESSION = range(SIDES)


@kernel(inline=True)
def impulses(
    n, parent, way, depth, row, w, q, v, free, h, factor, found, list_, old, old_count, nodes, surfaces, dry, kept,
    iterations, rows, numbers, response, sides, z, zp, work,
):  # fmt: skip
    """Impulses of contacts, stops and dry friction in one step.

    `v` are the speeds before, `free` (n) the speeds the step would end with; `free` becomes what it does end with, and
    `zp` (n) the speeds by which positions are corrected besides. `kept` (2, n) are the last step's impulses of dry
    friction and of stops, and become this one's. Returns what the last sweep still changed (m/s, rad/s), and whether
    there is a correction of positions.
    """
    speeds, given = sides[SPEEDS], sides[IMPULSES]
    turned, turning = 3 * found, 3 * found
    for c in range(found):
        if surfaces[c, ROLLING] + surfaces[c, SPINNING] > 0.0:
            turning += 3
    made = turning
    for i in range(n):
        z[i] = 0.0
        zp[i] = 0.0
        if q[i] > row[i * NODE + UPPER_STOP] or q[i] < row[i * NODE + LOWER_STOP]:
            made += 1
        if dry[i] > 0.0:
            made += 1
    if made == 0:
        return 0.0, False
    for i in range(n):
        for r in range(made + 3):
            rows[i, r] = 0.0
    for r in range(made, made + 3):
        speeds[r], given[r] = 0.0, 0.0
    for c in range(found):
        contact, r = list_[c], 3 * c
        _remember(contact, old, old_count)
        nx, ny, nz = contact[NORMAL], contact[NORMAL + 1], contact[NORMAL + 2]
        place = (contact[CONTACT_POINT], contact[CONTACT_POINT + 1], contact[CONTACT_POINT + 2], nx, ny, nz)
        numbers[r, BOUND] = contact_rows(
            parent, way, depth, w, factor, nodes[c, 0], nodes[c, 1], place, v, free, r, rows, speeds
        )
        tx, ty, tz, bx, by, bz = tangents(nx, ny, nz)
        fx, fy, fz = contact[FRICTION_IMPULSE], contact[FRICTION_IMPULSE + 1], contact[FRICTION_IMPULSE + 2]
        given[r] = contact[NORMAL_IMPULSE]
        given[r + 1] = fx * tx + fy * ty + fz * tz
        given[r + 2] = fx * bx + fy * by + fz * bz
    r = turned
    for c in range(found):
        if surfaces[c, ROLLING] + surfaces[c, SPINNING] > 0.0:
            contact = list_[c]
            nx, ny, nz = contact[NORMAL], contact[NORMAL + 1], contact[NORMAL + 2]
            turning_rows(parent, way, depth, w, factor, nodes[c, 0], nodes[c, 1], nx, ny, nz, free, r, rows, speeds)
            tx, ty, tz, bx, by, bz = tangents(nx, ny, nz)
            mx, my, mz = contact[MOMENT_IMPULSE], contact[MOMENT_IMPULSE + 1], contact[MOMENT_IMPULSE + 2]
            given[r] = mx * nx + my * ny + mz * nz
            given[r + 1] = mx * tx + my * ty + mz * tz
            given[r + 2] = mx * bx + my * by + mz * bz
            r += 3
    for i in range(n):
        b = i * NODE
        before, kept[1, i] = kept[1, i], 0.0
        side = 1.0 if q[i] > row[b + UPPER_STOP] else -1.0 if q[i] < row[b + LOWER_STOP] else 0.0
        if side != 0.0:
            joint_row(way, depth, factor, i, -side, free, r, rows, speeds)
            given[r] = max(0.0, side * before)
            # a spring and damper that only push, implicit in the step
            over = q[i] - row[b + UPPER_STOP] if side > 0.0 else row[b + LOWER_STOP] - q[i]
            both = row[b + STOP_DAMPING] + h * row[b + STOP_STIFFNESS]
            numbers[r, SOFTNESS] = 1.0 / (h * both)
            numbers[r, BIAS] = -row[b + STOP_STIFFNESS] / both * over
            numbers[r, BOUND] = side
            r += 1
    stop_rows = r
    for i in range(n):
        if dry[i] > 0.0:
            most = h * dry[i]
            joint_row(way, depth, factor, i, 1.0, free, r, rows, speeds)
            given[r] = min(max(kept[0, i], -most), most)
            numbers[r, BOUND] = most
            r += 1
        else:
            kept[0, i] = 0.0
    wide = products(n, made, rows, response)
    overlap = _resistances(found, turned, turning, stop_rows, made, wide, h, list_, surfaces, numbers, response)
    for r in range(made):
        if given[r] != 0.0:
            push(wide, response, r, given[r], speeds)
    worst = _sweep(found, turned, turning, stop_rows, made, wide, iterations, list_, surfaces, numbers, response, sides)
    _bounce(n, way, depth, found, turned, turning, stop_rows, made, wide, list_, surfaces, numbers, response, sides, rows, factor, v, free, z, work)  # fmt: skip
    r = turning
    for i in range(n):
        if q[i] > row[i * NODE + UPPER_STOP] or q[i] < row[i * NODE + LOWER_STOP]:
            kept[1, i] = numbers[r, BOUND] * given[r]
            r += 1
    for i in range(n):
        if dry[i] > 0.0:
            kept[0, i] = given[r]
            r += 1
    if overlap:
        _part(found, wide, numbers, response, sides[OVERLAPS], made)
        gather(n, wide, rows, sides[OVERLAPS], zp)
        towards_leaves(n, way, depth, factor, zp)
    at = turned
    for c in range(found):
        contact, r = list_[c], 3 * c
        tx, ty, tz, bx, by, bz = tangents(contact[NORMAL], contact[NORMAL + 1], contact[NORMAL + 2])
        f, e = given[r + 1], given[r + 2]
        contact[NORMAL_IMPULSE] = given[r]
        contact[FRICTION_IMPULSE], contact[FRICTION_IMPULSE + 1], contact[FRICTION_IMPULSE + 2] = (
            f * tx + e * bx,
            f * ty + e * by,
            f * tz + e * bz,
        )
        sliding = math.sqrt(speeds[r + 1] ** 2 + speeds[r + 2] ** 2)
        contact[SLIPPING] = 1.0 if given[r] > 0.0 and sliding > SLIP_SPEED else 0.0
        if surfaces[c, ROLLING] + surfaces[c, SPINNING] > 0.0:
            m, f, e = given[at], given[at + 1], given[at + 2]
            contact[MOMENT_IMPULSE] = m * contact[NORMAL] + f * tx + e * bx
            contact[MOMENT_IMPULSE + 1] = m * contact[NORMAL + 1] + f * ty + e * by
            contact[MOMENT_IMPULSE + 2] = m * contact[NORMAL + 2] + f * tz + e * bz
            at += 3
    gather(n, wide, rows, given, z)
    towards_leaves(n, way, depth, factor, z)
    for i in range(n):
        free[i] += z[i]
    return worst, overlap


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
        for d in range(3):
            contact[MOMENT_IMPULSE + d] = old[at, MOMENT_IMPULSE + d]


@kernel(inline=True)
def _resistances(found, turned, turning, stop_rows, made, wide, h, list_, surfaces, numbers, response):
    """What resists along each row: softness, bias and their inverses; returns whether some overlap is to be undone."""
    overlap = False
    for c in range(found):
        r = 3 * c
        own, d1, d2, d12 = (
            response[r * wide + r], response[(r + 1) * wide + r + 1], response[(r + 2) * wide + r + 2],
            response[(r + 1) * wide + r + 2],
        )  # fmt: skip
        gap, compliance = list_[c, GAP], surfaces[c, COMPLIANCE]
        bias, soft, apart = 0.0, 0.0, 0.0
        if gap > 0.0:
            bias = gap / h
        elif compliance > 0.0:
            stiffness = 1.0 / compliance
            damping = surfaces[c, SURFACE_DAMPING]
            if damping < 0.0:
                damping = 1.4 * math.sqrt(stiffness / own)
            both = damping + h * stiffness
            soft = 1.0 / (h * both)
            bias = stiffness / both * gap
        elif gap < -SLOP:
            apart = -RECOVERY * (gap + SLOP) / h
            overlap = True
        numbers[r, BIAS], numbers[r, SOFTNESS], numbers[r, OVERLAP_SPEED] = bias, soft, apart
        numbers[r, INVERSE] = 1.0 / (own + soft)
        numbers[r + 1, INVERSE] = 1.0 / (d1 * d2 - d12 * d12 + 1e-9 * d1 * d2)
        numbers[r + 1, SLIP] = 0.0
    for r in range(turned, turning, 3):
        numbers[r, INVERSE] = 1.0 / response[r * wide + r]
        at = (r + 1) * wide + r + 1
        d1, d12, d2 = response[at], response[at + 1], response[at + wide + 1]
        numbers[r + 1, INVERSE] = 1.0 / (d1 * d2 - d12 * d12 + 1e-9 * d1 * d2)
        numbers[r + 1, SLIP] = 0.0
    for r in range(turning, made):
        soft = numbers[r, SOFTNESS] if r < stop_rows else 0.0
        numbers[r, INVERSE] = 1.0 / (response[r * wide + r] + soft)
    return overlap


@kernel
def _sweep(found, turned, turning, stop_rows, made, wide, most_sweeps, list_, surfaces, numbers, response, sides):
    """Sweeps over all rows until they change nothing more; returns what the last one still changed (m/s, rad/s)."""
    speeds, given = sides[SPEEDS], sides[IMPULSES]
    worst = 0.0
    for _ in range(most_sweeps):
        worst = 0.0
        for r in range(turning, made):
            if r < stop_rows:
                now = given[r] - numbers[r, INVERSE] * (speeds[r] + numbers[r, BIAS] + numbers[r, SOFTNESS] * given[r])
                now = max(0.0, now)
            else:
                now = min(max(given[r] - numbers[r, INVERSE] * speeds[r], -numbers[r, BOUND]), numbers[r, BOUND])
            change, given[r] = now - given[r], now
            if change != 0.0:
                push(wide, response, r, change, speeds)
                worst = max(worst, abs(change) * response[r * wide + r])
        at = turned
        for c in range(found):
            r = 3 * c
            friction = surfaces[c, DYNAMIC_FRICTION] if list_[c, SLIPPING] > 0.0 else surfaces[c, STATIC_FRICTION]
            worst = max(worst, _rub(wide, response, numbers, r + 1, friction * given[r], speeds, given))
            if surfaces[c, ROLLING] + surfaces[c, SPINNING] > 0.0:
                most = surfaces[c, SPINNING] * given[r]
                now = min(max(given[at] - numbers[at, INVERSE] * speeds[at], -most), most)
                change, given[at] = now - given[at], now
                push(wide, response, at, change, speeds)
                worst = max(worst, abs(change) * response[at * wide + at])
                worst = max(
                    worst, _rub(wide, response, numbers, at + 1, surfaces[c, ROLLING] * given[r], speeds, given)
                )
                at += 3
            now = given[r] - numbers[r, INVERSE] * (speeds[r] + numbers[r, BIAS] + numbers[r, SOFTNESS] * given[r])
            now = now if now > FAINT else 0.0
            change, given[r] = now - given[r], now
            if change != 0.0:
                push(wide, response, r, change, speeds)
                worst = max(worst, abs(change) * response[r * wide + r])
        if worst < SETTLED:
            break
    return worst


@kernel(inline=True)
def _rub(wide, response, numbers, r, most, speeds, given):
    """One update of both friction impulses of a contact, along the rows `r` and `r` + 1, together, in a circle of size `most`.

    Minimises the kinetic energy of this contact's sliding over the circle, so that friction acts against the sliding
    whatever the two directions are (maximal dissipation: J. J. Moreau, 1988; the multiplier of the circle by Newton's
    method on its reciprocal: J. J. More, D. C. Sorensen, SIAM J. Sci. Stat. Comput. 4, 1983, section 3).
    """
    f, e = given[r], given[r + 1]
    most = most if most > FAINT else 0.0
    if most == 0.0 and f == 0.0 and e == 0.0:
        return 0.0
    one, two = 0.0, 0.0
    at = r * wide + r
    d1, d12, d2 = response[at], response[at + 1], response[at + wide + 1]
    if most > 0.0:
        # sliding without any friction impulse of this contact
        b1 = speeds[r] - d1 * f - d12 * e
        b2 = speeds[r + 1] - d12 * f - d2 * e
        size = numbers[r, INVERSE]
        one, two = -size * (d2 * b1 - d12 * b2), -size * (d1 * b2 - d12 * b1)
        if one * one + two * two > most * most:
            slip, long = numbers[r, SLIP], most
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
            numbers[r, SLIP] = slip
            long = max(long, 1e-300)
            one *= most / long
            two *= most / long
    push_two(wide, response, r, one - f, two - e, speeds)
    given[r], given[r + 1] = one, two
    return max(abs(one - f) * d1, abs(two - e) * d2)


@kernel
def _part(found, wide, numbers, response, given, made):
    """Impulses along the normals that move what overlaps apart, by eight sweeps."""
    for r in range(made + 3):
        given[r] = 0.0
    for _ in range(8):
        for c in range(found):
            r = 3 * c
            if numbers[r, OVERLAP_SPEED] > 0.0:
                speed = 0.0
                for d in range(found):
                    speed += response[r * wide + 3 * d] * given[3 * d]
                given[r] = max(0.0, given[r] + (numbers[r, OVERLAP_SPEED] - speed) / response[r * wide + r])


@kernel
def _bounce(
    n, way, depth, found, turned, turning, stop_rows, made, wide, list_, surfaces, numbers, response, sides, rows, factor, v,
    free, z, work,
):  # fmt: skip
    """Restitution for what met in this step: leave with e times the speed of approach, with no more energy than before.

    Newton's law alone can add energy where friction turns a body as it bounces (W. J. Stronge, Proc. R. Soc. A 431,
    1990); what it gives beyond the plastic impact is shortened until the kinetic energy is at most that before.
    """
    speeds, given, plastic = sides[SPEEDS], sides[IMPULSES], sides[COMPRESSION]
    lively = False
    for c in range(found):
        r = 3 * c
        if surfaces[c, BOUNCE] > 0.0 and given[r] > 0.0 and numbers[r, BOUND] < -BOUNCE_SPEED:
            # the others keep their own: they must not be driven through by what bounces beside them
            numbers[r, BIAS] = surfaces[c, BOUNCE] * numbers[r, BOUND]
            lively = True
    if not lively:
        return
    for r in range(made):
        plastic[r] = given[r]
    for r in range(made, made + 3):
        plastic[r] = 0.0
    _sweep(found, turned, turning, stop_rows, made, wide, 30, list_, surfaces, numbers, response, sides)
    # twice the energy of speeds u is |L u|^2; an impact in the middle of the step meets the mean of v and free
    gather(n, wide, rows, plastic, work)
    gather(n, wide, rows, given, z)
    first, second, start = 0.0, 0.0, 0.0
    for k in range(n):
        u = 0.5 * (v[k] + free[k]) / factor[k, k]
        for t in range(depth[k]):
            a = way[k, t]
            u += 0.5 * factor[k, a] * (v[a] + free[a])
        more = z[k] - work[k]
        now = u + work[k]
        start += now * now - u * u
        first += 2.0 * now * more
        second += more * more
    if start + first + second > 0.0:
        share = 0.0
        if start < 0.0 and second > 0.0:
            root = math.sqrt(first * first - 4.0 * second * start)
            # the form without cancellation
            share = -2.0 * start / (first + root) if first > 0.0 else (root - first) / (2.0 * second)
        share = min(max(share, 0.0), 1.0)
        for r in range(made):
            change = (share - 1.0) * (given[r] - plastic[r])
            given[r] += change
            push(wide, response, r, change, speeds)
