"""Ground and water of a site at a place."""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.layout import CURRENT, GRID, NO_GROUND, TIME, WATER_LEVEL
from plucky_heron.dynamics.kernels.rough import ground_on_grid
from plucky_heron.kernels import kernel


@kernel
def ground_at(kinds, planes, grids, heights, s, x, y):
    """Height and unit normal of the ground of scene `s` below (x, y); height -inf where there is none."""
    kind = kinds[s]
    if kind == NO_GROUND:
        return -math.inf, 0.0, 0.0, 1.0
    if kind != GRID:
        nx, ny, nz = planes[s, 0], planes[s, 1], planes[s, 2]
        return (planes[s, 3] - nx * x - ny * y) / nz, nx, ny, nz
    return ground_on_grid(grids[s], heights, x, y)


@kernel
def water_at(flows, profile, s, field, x, y, z):
    """Flow (3) at (x, y, z) and water level above: the copy's own, varied over the place by the site's profile and waves.

    In waves the water runs in circles that shrink with the depth (linear waves on deep water: H. Lamb, Hydrodynamics,
    1932, art. 229); above the mean level they are as large as there.
    """
    flow = flows[s]
    level = field[WATER_LEVEL]
    ox, oy, oz = 0.0, 0.0, 0.0
    if flow[2] > 0.0:
        phase = flow[3] * x + flow[4] * y - flow[5] * field[TIME]
        number = math.sqrt(flow[3] * flow[3] + flow[4] * flow[4])
        circle = flow[2] * flow[5] * math.exp(number * min(z - level, 0.0)) if level > -math.inf else 0.0
        ox = circle * math.sin(phase) * flow[3] / number
        oy = circle * math.sin(phase) * flow[4] / number
        oz = -circle * math.cos(phase)
        level += flow[2] * math.sin(phase)
    factor = 1.0
    first, last = int(flow[6]), int(flow[7])
    if last > first:
        across = flow[0] * x + flow[1] * y
        factor = profile[first, 1]
        for k in range(first, last - 1):
            x0, x1 = profile[k, 0], profile[k + 1, 0]
            if across >= x1:
                factor = profile[k + 1, 1]
            elif across > x0:
                share = (across - x0) / (x1 - x0)
                factor = profile[k, 1] * (1.0 - share) + profile[k + 1, 1] * share
    return field[CURRENT] * factor + ox, field[CURRENT + 1] * factor + oy, field[CURRENT + 2] * factor + oz, level
