"""Equations with the mass matrix: Cholesky's factor, in place."""

from __future__ import annotations

import math

from plucky_heron.kernels import kernel


@kernel(inline=True)
def factorise_and_solve(n, mass, right):
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


@kernel(inline=True)
def back_substitute(n, factor, right):
    """Solve L' x = right in place, with the factor that `factorise_and_solve` left in the lower triangle."""
    for i in range(n - 1, -1, -1):
        total = right[i]
        for k in range(i + 1, n):
            total -= factor[k, i] * right[k]
        right[i] = total * factor[i, i]


@kernel(inline=True)
def forward_substitute(n, first, factor, right):
    """Solve L x = right in place; `right` is zero before `first`."""
    for i in range(first, n):
        total = right[i]
        for k in range(first, i):
            total -= factor[i, k] * right[k]
        right[i] = total * factor[i, i]
