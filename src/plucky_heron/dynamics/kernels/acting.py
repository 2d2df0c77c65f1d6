"""All forces of a copy that are not commanded: those that push, and those that enter the equations of motion."""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.forces import drag, spring, wing
from plucky_heron.dynamics.kernels.layout import (
    AIR_DENSITY,
    FLOAT,
    FORCE,
    GRAVITY,
    HULL,
    PIN,
    ROD,
    SPRING,
    TAIL,
    TYRE,
    WATER_DENSITY,
    WATER_LEVEL,
    WING,
)
from plucky_heron.dynamics.kernels.ties import tie
from plucky_heron.dynamics.kernels.tyres import tyre
from plucky_heron.dynamics.kernels.water import buoyancy, hull
from plucky_heron.kernels import kernel


@kernel
def outer_forces(
    first, count, kinds, nodes_a, nodes_b, memory, panels, panel_range, n, row, w, pushes, slip, grounds, planes, grids,
    heights, solids, solid_range, flows, profile, s, field, h, work,
):  # fmt: skip
    """Tyres, floats, wings and drag of one copy; springs and hulls go into the equations of motion (`into_equations`).

    Arrays one by one: taking them out of tuples in every step costs more than most of the forces.
    """
    tail = row.shape[0] - TAIL
    air, water = row[tail + AIR_DENSITY], row[tail + WATER_DENSITY]
    gravity = math.sqrt(row[tail + GRAVITY] ** 2 + row[tail + GRAVITY + 1] ** 2 + row[tail + GRAVITY + 2] ** 2)
    if field[WATER_LEVEL] > -math.inf:
        drag(n, row, w, pushes, air, water, flows, profile, s, field)
    for k in range(count):
        kind = kinds[k]
        b = first + k * FORCE
        if kind == TYRE:
            tyre(
                row,
                b,
                nodes_a[k],
                nodes_b[k],
                w,
                pushes,
                slip[memory[k]],
                grounds,
                planes,
                grids,
                heights,
                solids,
                solid_range[s, 0],
                solid_range[s, 1],
                s,
                h,
            )
        elif kind == FLOAT:
            buoyancy(row, b, k, nodes_a[k], water * gravity, w, pushes, flows, profile, s, field, panels, panel_range, work)  # fmt: skip
        elif kind == WING:
            wing(row, b, nodes_a[k], air, water, w, pushes, flows, profile, s, field)


@kernel
def into_equations(
    first, count, kinds, nodes_a, nodes_b, row, n, parent, w, v, flows, profile, s, field, h, mass, right, column, work
):
    """Springs between points, ties and hulls: their part of the mass matrix and of the right side."""
    tail = row.shape[0] - TAIL
    for k in range(count):
        kind = kinds[k]
        b = first + k * FORCE
        if kind == SPRING:
            spring(row, b, nodes_a[k], nodes_b[k], n, parent, w, h, mass, right, column)
        elif kind == ROD or kind == PIN:
            gx, gy, gz = row[tail + GRAVITY], row[tail + GRAVITY + 1], row[tail + GRAVITY + 2]
            tie(kind, row, b, nodes_a[k], nodes_b[k], n, parent, w, v, h, gx, gy, gz, mass, right, column)
        elif kind == HULL:
            gravity = row[tail + GRAVITY : tail + GRAVITY + 3]
            hull(row, b, nodes_a[k], n, parent, w, gravity, first, count, kinds, nodes_a, flows, profile, s, field, h, mass, right, work)  # fmt: skip
