"""The velocity terms of a step at the mean of the speeds before and after it.

With the terms at the speeds before, whatever turns freely gains energy. At the mean, a rigid body keeps its energy to
the last digit (the implicit midpoint rule for Euler's equations in body axes, where the inertia is constant), and a
tree keeps it without drift, because the whole step is symmetric in time (E. Hairer, C. Lubich, G. Wanner, Geometric
Numerical Integration, 2006, sections V.1 and VI.3).
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.solving import towards_leaves, towards_root
from plucky_heron.dynamics.kernels.tree import velocity_terms
from plucky_heron.dynamics.kernels.water import hulls_in_motion
from plucky_heron.kernels import kernel

TURNS = 8e-3
"""Turning (rad) of a body in a step below which the predicted mean is good enough."""
FAST = 0.1
"""Turning (rad) in a step from which on the mean is searched for in contact too: there the impulses of the step before, which
the prediction has, say more about the mean than the accelerations without any."""
UNSURE = 1e-5
"""Error of the predicted motion in a step (m, rad) below which it is good enough."""
SURE = 1e-6
"""Error in a step at which the search for the mean ends."""
MOST = 12
"""Evaluations of the velocity terms in one step, at most."""


@kernel
def at_mean_speeds(
    n, parent, way, depth, base, massless, v, h, factor, first_force, forced, force_kinds, nodes, row, flows, profile, s, field, w,
    work, vectors, guess, found,
):  # fmt: skip
    """Accelerations (n) for which the velocity terms were taken at the mean speeds v + h/2 `found`; into `found`.

    `guess` (n) is what the mean speeds were predicted with when `found` was solved for. The equation
    a = F(a) = a1 + M^-1 (c(v + h/2 guess) - c(v + h/2 a)) is solved by Anderson's method with two earlier differences
    (D. G. Anderson, J. ACM 12, 1965; H. F. Walker, P. Ni, SIAM J. Numer. Anal. 49, 2011), which also finds it where
    plain repetition runs away: the gyroscopic terms of a fast rotor.
    """
    first, terms, value, residual = vectors[10], vectors[11], vectors[12], vectors[13]
    v1, r1, v2, r2, mean = vectors[14], vectors[15], vectors[16], vectors[17], vectors[18]
    solved = vectors[19]
    for i in range(n):
        mean[i] = v[i] + 0.5 * h * guess[i]
        solved[i] = found[i]
        value[i] = found[i]
        residual[i] = found[i] - guess[i]
    _terms(n, parent, base, massless, mean, first_force, forced, force_kinds, nodes, row, flows, profile, s, field, w, work, first)  # fmt: skip
    best = math.inf
    for turn in range(MOST):
        # where the next evaluation is made: the last value, less what the last two differences explain
        a11, a12, a22, b1, b2 = 0.0, 0.0, 0.0, 0.0, 0.0
        if turn > 0:
            for i in range(n):
                d1 = residual[i] - r1[i]
                a11 += d1 * d1
                b1 += d1 * residual[i]
                if turn > 1:
                    d2 = r1[i] - r2[i]
                    a12 += d1 * d2
                    a22 += d2 * d2
                    b2 += d2 * residual[i]
        g1, g2 = 0.0, 0.0
        size = a11 * a22 - a12 * a12
        if size > 1e-9 * a11 * a22:
            g1, g2 = (b1 * a22 - b2 * a12) / size, (b2 * a11 - b1 * a12) / size
        elif a11 > 0.0:
            g1 = b1 / a11
        for i in range(n):
            next_ = value[i] - g1 * (value[i] - v1[i]) - g2 * (v1[i] - v2[i])
            v2[i], r2[i] = v1[i], r1[i]
            v1[i], r1[i] = value[i], residual[i]
            residual[i] = next_
            mean[i] = v[i] + 0.5 * h * next_
        _terms(n, parent, base, massless, mean, first_force, forced, force_kinds, nodes, row, flows, profile, s, field, w, work, terms)  # fmt: skip
        for i in range(n):
            terms[i] = first[i] - terms[i]
        towards_root(n, way, depth, factor, terms)
        towards_leaves(n, way, depth, factor, terms)
        off = 0.0
        for i in range(n):
            value[i] = solved[i] + terms[i]
            residual[i] = value[i] - residual[i]
            off = max(off, abs(residual[i]))
        if off < best:
            best = off
            for i in range(n):
                found[i] = value[i]
        if not off * 0.5 * h * h > SURE:
            break


@kernel
def _terms(n, parent, base, massless, mean, first_force, forced, force_kinds, nodes, row, flows, profile, s, field, w, work, out):  # fmt: skip
    velocity_terms(n, parent, base, massless, row, mean, w, out)
    if forced > 0:
        hulls_in_motion(first_force, forced, force_kinds, nodes, row, parent, w, flows, profile, s, field, out, work)
