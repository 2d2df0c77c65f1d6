"""Forces that belong to bodies: thrust, tyres, hulls, floats, wings, springs between points, tanks.

Numbers of a force by its kind: see `layout`.
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.kernels.drives import implicit_shares
from plucky_heron.dynamics.kernels.layout import (
    AXIS,
    CONSUMPTION,
    DIRECTION,
    DRAG_AREA,
    DRAG_POINT,
    DRAIN,
    DRIVE,
    HAND,
    HAND_DAMPING,
    HAND_POINT,
    HAND_STIFFNESS,
    HAND_TO,
    INERTIA,
    LIMIT,
    LOOSENESS,
    MASS,
    MOMENT,
    NO_LOAD_SPEED,
    NODE,
    ORIGIN,
    PLACE,
    REACTION,
    TANK_BOTTOM,
    TANK_FULL,
    TANK_HEIGHT,
    TANK_LENGTH,
    TANK_WIDTH,
    THRUST,
    TWIST,
    WIND,
)
from plucky_heron.dynamics.kernels.places import water_at
from plucky_heron.kernels import kernel

STALLS_OVER = 0.15
"""Angle (rad) beyond the stall over which a wing becomes a flat plate."""
JUST_ABOVE = 0.25
"""Height (m) above the water up to which the propeller of a boat works in it: models in the plane have no depth."""


@kernel(inline=True)
def point_of(w, i, x, y, z):
    """World place of a point given in the axes of node `i` (ground: -1)."""
    if i < 0:
        return x, y, z
    return (
        w[i, ORIGIN] + w[i, 0] * x + w[i, 1] * y + w[i, 2] * z,
        w[i, ORIGIN + 1] + w[i, 3] * x + w[i, 4] * y + w[i, 5] * z,
        w[i, ORIGIN + 2] + w[i, 6] * x + w[i, 7] * y + w[i, 8] * z,
    )


@kernel(inline=True)
def direction_of(w, i, x, y, z):
    """World direction of a direction given in the axes of node `i`."""
    if i < 0:
        return x, y, z
    return (
        w[i, 0] * x + w[i, 1] * y + w[i, 2] * z,
        w[i, 3] * x + w[i, 4] * y + w[i, 5] * z,
        w[i, 6] * x + w[i, 7] * y + w[i, 8] * z,
    )


@kernel(inline=True)
def velocity_at(w, i, x, y, z):
    """World velocity of the point of node `i` that is at (x, y, z)."""
    if i < 0:
        return 0.0, 0.0, 0.0
    return (
        w[i, TWIST + 3] + w[i, TWIST + 1] * z - w[i, TWIST + 2] * y,
        w[i, TWIST + 4] + w[i, TWIST + 2] * x - w[i, TWIST] * z,
        w[i, TWIST + 5] + w[i, TWIST] * y - w[i, TWIST + 1] * x,
    )


@kernel(inline=True)
def push_at(pushes, i, x, y, z, fx, fy, fz):
    """Add a force at a world point to the outer forces of node `i`."""
    if i >= 0:
        pushes[i, 0] += y * fz - z * fy
        pushes[i, 1] += z * fx - x * fz
        pushes[i, 2] += x * fy - y * fx
        pushes[i, 3] += fx
        pushes[i, 4] += fy
        pushes[i, 5] += fz


@kernel
def hand(field, w, pushes):
    """A spring and damper from a point of a body to a place in the world, as a person pulls; explicit, so keep it soft."""
    i = int(field[HAND]) - 1
    x, y, z = point_of(w, i, field[HAND_POINT], field[HAND_POINT + 1], field[HAND_POINT + 2])
    vx, vy, vz = velocity_at(w, i, x, y, z)
    k, d = field[HAND_STIFFNESS], field[HAND_DAMPING]
    tx, ty, tz = field[HAND_TO], field[HAND_TO + 1], field[HAND_TO + 2]
    push_at(pushes, i, x, y, z, k * (tx - x) - d * vx, k * (ty - y) - d * vy, k * (tz - z) - d * vz)


@kernel
def thrust(n, drives, kinds, joints, tanks, wet, row, played, fill, w, pushes, flows, profile, s, field, h):
    """Thrusters and propellers push along their direction, turn against their own turning, and burn from their tank.

    `wet` says which belong to a machine with a hull: those work in the water where there is some.
    """
    for a in range(drives):
        kind = kinds[a]
        if kind != THRUST and kind != DRAIN:
            continue
        b = n * NODE + a * DRIVE
        tank = tanks[a]
        given = min(max(played[a], -row[b + LIMIT]), row[b + LIMIT])
        if kind == DRAIN:
            fill[tank] = max(0.0, fill[tank] - h * max(given, 0.0))
            continue
        if tank >= 0:
            used = h * row[b + CONSUMPTION] * abs(given)
            if used > fill[tank]:
                given *= fill[tank] / used
                used = fill[tank]
            fill[tank] -= used
        i = joints[a]
        x, y, z = point_of(w, i, row[b + PLACE], row[b + PLACE + 1], row[b + PLACE + 2])
        dx, dy, dz = direction_of(w, i, row[b + DIRECTION], row[b + DIRECTION + 1], row[b + DIRECTION + 2])
        top = row[b + NO_LOAD_SPEED]
        if top > 0.0:
            # a propeller that runs with the water, or the air, pushes it less
            vx, vy, vz = velocity_at(w, i, x, y, z)
            mx, my, mz = field[WIND], field[WIND + 1], field[WIND + 2]
            if wet[a]:
                cx, cy, cz, level = water_at(flows, profile, s, field, x, y, z)
                if level == -math.inf or z <= level + JUST_ABOVE:
                    mx, my, mz = cx, cy, cz
            vx, vy, vz = vx - mx, vy - my, vz - mz
            ahead = (vx * dx + vy * dy + vz * dz) * math.copysign(1.0, given)
            given *= min(max(1.0 - ahead / top, 0.0), 1.0)
        push_at(pushes, i, x, y, z, given * dx, given * dy, given * dz)
        turning = row[b + REACTION] * given
        if i >= 0:
            pushes[i, 0] += turning * dx
            pushes[i, 1] += turning * dy
            pushes[i, 2] += turning * dz


@kernel
def fill_tanks(nodes, sizes, fill, row):
    """Add what the tanks hold to the mass numbers of their nodes (a box of liquid or grain whose height falls)."""
    for k in range(nodes.shape[0]):
        size = sizes[k]
        b = nodes[k] * NODE
        m = fill[k]
        length, width = size[TANK_LENGTH], size[TANK_WIDTH]
        high = size[TANK_HEIGHT] * m / size[TANK_FULL]
        x, y, z = size[TANK_BOTTOM], size[TANK_BOTTOM + 1], size[TANK_BOTTOM + 2] + 0.5 * high
        ix = m / 12.0 * (width * width + high * high)
        iy = m / 12.0 * (length * length + high * high)
        iz = m / 12.0 * (length * length + width * width)
        row[b + MASS] += m
        row[b + MOMENT] += m * x
        row[b + MOMENT + 1] += m * y
        row[b + MOMENT + 2] += m * z
        row[b + INERTIA] += ix + m * (y * y + z * z)
        row[b + INERTIA + 1] += iy + m * (x * x + z * z)
        row[b + INERTIA + 2] += iz + m * (x * x + y * y)
        row[b + INERTIA + 3] -= m * x * y
        row[b + INERTIA + 4] -= m * x * z
        row[b + INERTIA + 5] -= m * y * z


@kernel
def wing(row, b, i, air, water, w, pushes, flows, profile, s, field):
    """Lift across and drag along the flow: linear lift up to the stall angle, then a flat plate; parabolic drag."""
    x, y, z = point_of(w, i, row[b + layout.WING_PLACE], row[b + layout.WING_PLACE + 1], row[b + layout.WING_PLACE + 2])
    cx, cy, cz = direction_of(
        w, i, row[b + layout.WING_CHORD], row[b + layout.WING_CHORD + 1], row[b + layout.WING_CHORD + 2]
    )
    nx, ny, nz = direction_of(
        w, i, row[b + layout.WING_NORMAL], row[b + layout.WING_NORMAL + 1], row[b + layout.WING_NORMAL + 2]
    )
    ux, uy, uz = velocity_at(w, i, x, y, z)
    fx, fy, fz = field[WIND], field[WIND + 1], field[WIND + 2]
    density = air
    if row[b + layout.WING_IN_WATER] != 0.0:
        wx, wy, wz, level = water_at(flows, profile, s, field, x, y, z)
        # out of the water a foil is a wing; in between, by the part of its chord that is under water
        chord = math.sqrt(row[b + layout.WING_AREA])
        share = 1.0 if level == -math.inf else min(max(0.5 + (level - z) / chord, 0.0), 1.0)
        density += share * (water - air)
        fx, fy, fz = fx + share * (wx - fx), fy + share * (wy - fy), fz + share * (wz - fz)
    ux, uy, uz = ux - fx, uy - fy, uz - fz
    ahead = ux * cx + uy * cy + uz * cz
    up = ux * nx + uy * ny + uz * nz
    speed = math.sqrt(ahead * ahead + up * up)
    if speed < 1e-9:
        return
    angle = math.atan2(-up, ahead)
    stall = row[b + layout.WING_STALL]
    # from the straight line to a flat plate's over a few degrees, without a jump
    stalled = min(max((abs(angle) - stall) / STALLS_OVER, 0.0), 1.0)
    stalled = stalled * stalled * (3.0 - 2.0 * stalled)
    lift = (1.0 - stalled) * row[b + layout.WING_LIFT_SLOPE] * angle + stalled * 0.9 * math.sin(2.0 * angle)
    drag = row[b + layout.WING_DRAG] + row[b + layout.WING_INDUCED] * lift * lift + stalled * 1.8 * math.sin(angle) ** 2
    k = 0.5 * density * row[b + layout.WING_AREA] * speed
    # drag against the motion, lift at right angles to it, both in the plane of chord and normal
    along = k * (-drag * ahead - lift * up)
    across = k * (-drag * up + lift * ahead)
    push_at(pushes, i, x, y, z, along * cx + across * nx, along * cy + across * ny, along * cz + across * nz)


@kernel
def drag(n, row, w, pushes, air, water, flows, profile, s, field):
    """Drag of bodies by their area, in the wind or, below the level, in the water."""
    for i in range(n):
        area = row[i * NODE + DRAG_AREA]
        if area == 0.0:
            continue
        d = i * NODE + DRAG_POINT
        x, y, z = point_of(w, i, row[d], row[d + 1], row[d + 2])
        vx, vy, vz = velocity_at(w, i, x, y, z)
        cx, cy, cz, level = water_at(flows, profile, s, field, x, y, z)
        density = water
        if z >= level:
            cx, cy, cz, density = field[WIND], field[WIND + 1], field[WIND + 2], air
        cx, cy, cz = cx - vx, cy - vy, cz - vz
        k = 0.5 * density * area * math.sqrt(cx * cx + cy * cy + cz * cz)
        push_at(pushes, i, x, y, z, k * cx, k * cy, k * cz)


@kernel
def spring(row, b, a, e, n, parent, w, h, mass, right, column):
    """Spring and damper between two points, implicit along its line."""
    x0, y0, z0 = point_of(w, a, row[b + layout.SPRING_A], row[b + layout.SPRING_A + 1], row[b + layout.SPRING_A + 2])
    x1, y1, z1 = point_of(w, e, row[b + layout.SPRING_B], row[b + layout.SPRING_B + 1], row[b + layout.SPRING_B + 2])
    dx, dy, dz = x1 - x0, y1 - y0, z1 - z0
    length = math.sqrt(dx * dx + dy * dy + dz * dz)
    pulls_only = row[b + layout.SPRING_PULLS_ONLY] != 0.0
    if length < 1e-9 or (pulls_only and length < row[b + layout.SPRING_REST]):
        return
    dx, dy, dz = dx / length, dy / length, dz / length
    u0, u1, u2 = velocity_at(w, a, x0, y0, z0)
    t0, t1, t2 = velocity_at(w, e, x1, y1, z1)
    rate = (t0 - u0) * dx + (t1 - u1) * dy + (t2 - u2) * dz
    stiffness, damping = row[b + layout.SPRING_STIFFNESS], row[b + layout.SPRING_DAMPING]
    for i in range(n):
        column[i] = 0.0
    along(w, parent, e, x1, y1, z1, dx, dy, dz, 1.0, column)
    along(w, parent, a, x0, y0, z0, dx, dy, dz, -1.0, column)
    # no effort along the spring moves its ends more easily than all coordinates together would let it
    looseness = 0.0
    for i in range(n):
        looseness += abs(column[i]) * math.sqrt(row[i * NODE + LOOSENESS])
    late, later = implicit_shares(stiffness, damping, looseness * looseness, h)
    pull = stiffness * (length - row[b + layout.SPRING_REST] + late * h * rate) + damping * rate
    if pulls_only and pull <= 0.0:
        return
    extra = later * h * damping + late * h * h * stiffness
    for i in range(n):
        if column[i] != 0.0:
            right[i] -= pull * column[i]
            for j in range(i + 1):
                mass[i, j] += extra * column[i] * column[j]


@kernel(inline=True)
def along(w, parent, i, x, y, z, dx, dy, dz, sign, column):
    """Add to `column` how fast each coordinate moves a point of node `i` along a direction."""
    while i >= 0:
        column[i] += sign * (
            w[i, AXIS] * (y * dz - z * dy) + w[i, AXIS + 1] * (z * dx - x * dz) + w[i, AXIS + 2] * (x * dy - y * dx)
            + w[i, AXIS + 3] * dx + w[i, AXIS + 4] * dy + w[i, AXIS + 5] * dz
        )  # fmt: skip
        i = parent[i]
