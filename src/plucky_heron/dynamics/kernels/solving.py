"""Equations with the mass matrix M = L'L, L lower triangular, in place.

Eliminated from the leaves towards the root, nothing fills in between branches: a row of L has entries only on its way
to the root (R. Featherstone, Rigid Body Dynamics Algorithms, 2008, section 6.5). That way, `way[k]` with `depth[k]`
nodes, is the tree's own but where couplings and springs join branches (`building.find_ways`). The diagonal of the factor
is kept inverted.
"""

from __future__ import annotations

import math

from plucky_heron.kernels import kernel


@kernel(inline=True)
def factorise(n, way, depth, mass, right):
    """The factor into the lower triangle of the symmetric positive definite `mass`; `right` becomes y of L' y = right."""
    for k in range(n - 1, -1, -1):
        inverse = 1.0 / math.sqrt(mass[k, k])
        mass[k, k] = inverse
        y = right[k] * inverse
        right[k] = y
        for t in range(depth[k]):
            a = way[k, t]
            entry = mass[k, a] * inverse
            mass[k, a] = entry
            right[a] -= entry * y
        for t in range(depth[k]):
            a = way[k, t]
            entry = mass[k, a]
            for u in range(t, depth[k]):
                b = way[k, u]
                mass[a, b] -= entry * mass[k, b]


@kernel(inline=True)
def towards_root(n, way, depth, factor, right):
    """Solve L' y = right in place."""
    for k in range(n - 1, -1, -1):
        y = right[k] * factor[k, k]
        right[k] = y
        for t in range(depth[k]):
            a = way[k, t]
            right[a] -= factor[k, a] * y


@kernel(inline=True)
def towards_leaves(n, way, depth, factor, right):
    """Solve L x = right in place."""
    for k in range(n):
        total = right[k]
        for t in range(depth[k]):
            a = way[k, t]
            total -= factor[k, a] * right[a]
        right[k] = total * factor[k, k]
