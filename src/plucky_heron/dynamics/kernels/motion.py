"""Positions moved at given speeds; balls turn by the exponential map."""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.layout import BALL_X
from plucky_heron.kernels import kernel


@kernel(inline=True)
def integrate(n, kinds, scalar, q, v, h):
    """Move the position by `h` seconds at the speeds `v`; balls by the exponential of their body rates."""
    for i in range(n):
        if kinds[i] < BALL_X:
            q[i] += h * v[i]
        elif kinds[i] == BALL_X:
            s = scalar[i]
            wx, wy, wz = v[i], v[i + 1], v[i + 2]
            angle = math.sqrt(wx * wx + wy * wy + wz * wz) * h
            half = 0.5 * h * (1.0 - angle * angle / 24.0) if angle < 1e-3 else h * math.sin(0.5 * angle) / angle
            c = math.cos(0.5 * angle)
            x, y, z, u = q[i], q[i + 1], q[i + 2], q[s]
            ex, ey, ez = half * wx, half * wy, half * wz
            nx = u * ex + x * c + y * ez - z * ey
            ny = u * ey + y * c + z * ex - x * ez
            nz = u * ez + z * c + x * ey - y * ex
            nu = u * c - x * ex - y * ey - z * ez
            k = 1.0 / math.sqrt(nx * nx + ny * ny + nz * nz + nu * nu)
            q[i], q[i + 1], q[i + 2], q[s] = k * nx, k * ny, k * nz, k * nu


@kernel(inline=True)
def position_rate(n, kinds, scalar, q, v, out):
    """Time derivative of the position (for Runge-Kutta): the speeds, for balls half q times (rates, 0)."""
    for i in range(n):
        if kinds[i] < BALL_X:
            out[i] = v[i]
        elif kinds[i] == BALL_X:
            s = scalar[i]
            x, y, z, u = q[i], q[i + 1], q[i + 2], q[s]
            a, b, c = 0.5 * v[i], 0.5 * v[i + 1], 0.5 * v[i + 2]
            out[i] = u * a + y * c - z * b
            out[i + 1] = u * b + z * a - x * c
            out[i + 2] = u * c + x * b - y * a
            out[s] = -x * a - y * b - z * c


@kernel(inline=True)
def normalise(n, kinds, scalar, q):
    """Bring every quaternion back to unit length."""
    for i in range(n):
        if kinds[i] == BALL_X:
            s = scalar[i]
            k = 1.0 / math.sqrt(q[i] * q[i] + q[i + 1] * q[i + 1] + q[i + 2] * q[i + 2] + q[s] * q[s])
            q[i] *= k
            q[i + 1] *= k
            q[i + 2] *= k
            q[s] *= k
