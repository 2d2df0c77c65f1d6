"""Forces that belong to bodies: thrust, tyres, hulls, floats, wings, springs between points, tanks.

Numbers of a force by its kind: see `layout`.
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.kernels.drives import implicit_shares
from plucky_heron.dynamics.kernels.layout import (
    AIR_DENSITY,
    AXIS,
    CARRIED,
    CONSUMPTION,
    DIRECTION,
    DRAIN,
    DRIVE,
    FLOAT,
    FORCE,
    GRAVITY,
    HAND,
    HAND_DAMPING,
    HAND_POINT,
    HAND_STIFFNESS,
    HAND_TO,
    HULL,
    INERTIA,
    LIMIT,
    LOOSENESS,
    MASS,
    MEAN,
    MOMENT,
    NO_LOAD_SPEED,
    NODE,
    ORIGIN,
    PLACE,
    REACTION,
    SPRING,
    TAIL,
    TANK_BOTTOM,
    TANK_FULL,
    TANK_HEIGHT,
    TANK_LENGTH,
    TANK_WIDTH,
    THRUST,
    TWIST,
    TYRE,
    WATER_DENSITY,
    WIND,
    WING,
)
from plucky_heron.dynamics.kernels.places import ground_at, water_at
from plucky_heron.kernels import kernel


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
def thrust(n, drives, kinds, joints, tanks, row, played, fill, w, pushes, h):
    """Thrusters and propellers push along their direction, turn against their own turning, and burn from their tank."""
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
            # a propeller that runs with the water pushes it less
            vx, vy, vz = velocity_at(w, i, x, y, z)
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
def tyre(row, b, a, carrier, w, pushes, slip, kinds, planes, grids, heights, s, h):
    """One tyre: deflections along and across grow with slip and relax over the distance rolled, on a friction ellipse.

    The relaxation-length model (H. B. Pacejka, Tyre and Vehicle Dynamics, 2012, section 7.2) with straight
    characteristics cut off at the ellipse; it holds at standstill, where slip as a ratio has no meaning.
    """
    x, y, z = point_of(
        w, a, row[b + layout.TYRE_CENTRE], row[b + layout.TYRE_CENTRE + 1], row[b + layout.TYRE_CENTRE + 2]
    )
    ax, ay, az = direction_of(
        w, a, row[b + layout.TYRE_AXIS], row[b + layout.TYRE_AXIS + 1], row[b + layout.TYRE_AXIS + 2]
    )
    ground, nx, ny, nz = ground_at(kinds, planes, grids, heights, s, x, y)
    radius = row[b + layout.TYRE_RADIUS]
    load = row[b + layout.TYRE_LOAD]
    low = radius
    ux, uy, uz = velocity_at(w, carrier, x, y, z)
    if row[b + layout.TYRE_RADIAL_STIFFNESS] > 0.0:
        low = (z - ground) * nz
        sunk = radius - low
        if sunk <= 0.0:
            slip[0] = 0.0
            slip[1] = 0.0
            slip[2] = 0.0
            return
        sinking = -(ux * nx + uy * ny + uz * nz)
        load = max(0.0, row[b + layout.TYRE_RADIAL_STIFFNESS] * sunk + row[b + layout.TYRE_RADIAL_DAMPING] * sinking)
    elif ground == -math.inf:
        nx, ny, nz = 0.0, 0.0, 1.0
    # along = axis x normal, across = normal x along
    tx, ty, tz = ay * nz - az * ny, az * nx - ax * nz, ax * ny - ay * nx
    k = 1.0 / math.sqrt(tx * tx + ty * ty + tz * tz + 1e-30)
    tx, ty, tz = k * tx, k * ty, k * tz
    cx, cy, cz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
    forward = ux * tx + uy * ty + uz * tz
    sideways = ux * cx + uy * cy + uz * cz
    px, py, pz = x - low * nx, y - low * ny, z - low * nz
    length = row[b + layout.TYRE_RELAXATION]
    relax = 1.0 / (1.0 + h * abs(forward) / length)
    across = (slip[1] - h * sideways) * relax
    along = 0.0
    if row[b + layout.TYRE_ROLLS_FREELY] == 0.0:
        wx, wy, wz = velocity_at(w, a, px, py, pz)
        along = (slip[0] - h * (wx * tx + wy * ty + wz * tz)) * relax
    kx, ky = row[b + layout.TYRE_STIFFNESS] / length, row[b + layout.TYRE_STIFFNESS + 1] / length
    most_x, most_y = row[b + layout.TYRE_FRICTION] * load, row[b + layout.TYRE_FRICTION + 1] * load
    share = math.sqrt((kx * along / (most_x + 1e-12)) ** 2 + (ky * across / (most_y + 1e-12)) ** 2)
    if share > 1.0:
        along /= share
        across /= share
    slip[0], slip[1] = along, across
    slip[2] = load
    # a little damping in the carcass, or a standing vehicle would rock for ever
    fx = kx * along
    fy = ky * across - 0.02 * ky * sideways * math.exp(-abs(forward)) * (1.0 if share <= 1.0 else 0.0)
    fx -= (
        row[b + layout.TYRE_ROLLING_RESISTANCE] * load * math.tanh(forward / 0.05)
        if row[b + layout.TYRE_ROLLS_FREELY] != 0.0
        else 0.0
    )
    push_at(
        pushes, a, px, py, pz,
        fx * tx + fy * cx + load * nx * (1.0 if row[b + layout.TYRE_RADIAL_STIFFNESS] > 0.0 else 0.0),
        fx * ty + fy * cy + load * ny * (1.0 if row[b + layout.TYRE_RADIAL_STIFFNESS] > 0.0 else 0.0),
        fx * tz + fy * cz + load * nz * (1.0 if row[b + layout.TYRE_RADIAL_STIFFNESS] > 0.0 else 0.0),
    )  # fmt: skip
    if row[b + layout.TYRE_ROLLS_FREELY] == 0.0 and row[b + layout.TYRE_ROLLING_RESISTANCE] > 0.0:
        # rolling resistance acts on the wheel's own turning
        turn = (
            (w[a, TWIST] - w[carrier, TWIST]) * ax
            + (w[a, TWIST + 1] - w[carrier, TWIST + 1]) * ay
            + (w[a, TWIST + 2] - w[carrier, TWIST + 2]) * az
        )
        hold = -row[b + layout.TYRE_ROLLING_RESISTANCE] * load * radius * math.tanh(turn * radius / 0.05)
        pushes[a, 0] += hold * ax
        pushes[a, 1] += hold * ay
        pushes[a, 2] += hold * az


@kernel
def buoyancy(row, b, i, density, gravity, w, pushes, flows, profile, s, field):
    """A vertical column of the hull: pushed up by the water it displaces (Archimedes)."""
    x, y, z = point_of(
        w, i, row[b + layout.FLOAT_BOTTOM], row[b + layout.FLOAT_BOTTOM + 1], row[b + layout.FLOAT_BOTTOM + 2]
    )
    level = water_at(flows, profile, s, field, x, y)[3]
    sunk = min(max(level - z, 0.0), row[b + layout.FLOAT_HEIGHT])
    lift = density * gravity * row[b + layout.FLOAT_AREA] * sunk
    push_at(pushes, i, x, y, z + 0.5 * sunk, 0.0, 0.0, lift)


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
    if row[b + layout.WING_IN_WATER] != 0.0:
        fx, fy, fz, _ = water_at(flows, profile, s, field, x, y)
        density = water
    else:
        fx, fy, fz = field[WIND], field[WIND + 1], field[WIND + 2]
        density = air
    ux, uy, uz = ux - fx, uy - fy, uz - fz
    ahead = ux * cx + uy * cy + uz * cz
    up = ux * nx + uy * ny + uz * nz
    speed = math.sqrt(ahead * ahead + up * up)
    if speed < 1e-9:
        return
    angle = math.atan2(-up, ahead)
    stall = row[b + layout.WING_STALL]
    if abs(angle) < stall:
        lift = row[b + layout.WING_LIFT_SLOPE] * angle
    else:
        lift = 0.9 * math.sin(2.0 * angle)
    drag = row[b + layout.WING_DRAG] + row[b + layout.WING_INDUCED] * lift * lift
    if abs(angle) >= stall:
        drag += 1.8 * math.sin(angle) ** 2
    k = 0.5 * density * row[b + layout.WING_AREA] * speed
    # drag against the motion, lift at right angles to it, both in the plane of chord and normal
    along = k * (-drag * ahead - lift * up)
    across = k * (-drag * up + lift * ahead)
    push_at(pushes, i, x, y, z, along * cx + across * nx, along * cy + across * ny, along * cz + across * nz)


@kernel
def outer_forces(
    first, count, kinds, nodes_a, nodes_b, memory, row, w, pushes, slip, grounds, planes, grids, heights, flows,
    profile, s, field, h,
):  # fmt: skip
    """Tyres, floats and wings of one copy; springs and hulls go into the equations of motion (`into_equations`).

    Arrays one by one: taking them out of tuples in every step costs more than most of the forces.
    """
    tail = row.shape[0] - TAIL
    gravity = math.sqrt(row[tail + GRAVITY] ** 2 + row[tail + GRAVITY + 1] ** 2 + row[tail + GRAVITY + 2] ** 2)
    for k in range(count):
        kind = kinds[k]
        b = first + k * FORCE
        if kind == TYRE:
            tyre(row, b, nodes_a[k], nodes_b[k], w, pushes, slip[memory[k]], grounds, planes, grids, heights, s, h)
        elif kind == FLOAT:
            buoyancy(row, b, nodes_a[k], row[tail + WATER_DENSITY], gravity, w, pushes, flows, profile, s, field)
        elif kind == WING:
            wing(
                row,
                b,
                nodes_a[k],
                row[tail + AIR_DENSITY],
                row[tail + WATER_DENSITY],
                w,
                pushes,
                flows,
                profile,
                s,
                field,
            )


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
    _along(w, parent, e, x1, y1, z1, dx, dy, dz, 1.0, column)
    _along(w, parent, a, x0, y0, z0, dx, dy, dz, -1.0, column)
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
def _along(w, parent, i, x, y, z, dx, dy, dz, sign, column):
    """Add to `column` how fast each coordinate moves a point of node `i` along a direction."""
    while i >= 0:
        column[i] += sign * (
            w[i, AXIS] * (y * dz - z * dy) + w[i, AXIS + 1] * (z * dx - x * dz) + w[i, AXIS + 2] * (x * dy - y * dx)
            + w[i, AXIS + 3] * dx + w[i, AXIS + 4] * dy + w[i, AXIS + 5] * dz
        )  # fmt: skip
        i = parent[i]


@kernel
def _hull_axes(row, b, i, w, flows, profile, s, field, work):
    """Axes of a hull in the world (9) into work[0], its place, and the current at it in its own axes."""
    r = work[0]
    for p in range(3):
        for q in range(3):
            r[3 * p + q] = (
                w[i, 3 * p] * row[b + layout.HULL_AXES + q]
                + w[i, 3 * p + 1] * row[b + layout.HULL_AXES + 3 + q]
                + w[i, 3 * p + 2] * row[b + layout.HULL_AXES + 6 + q]
            )
    x, y, z = point_of(w, i, row[b + layout.HULL_PLACE], row[b + layout.HULL_PLACE + 1], row[b + layout.HULL_PLACE + 2])
    cx, cy, cz, _ = water_at(flows, profile, s, field, x, y)
    return (
        x, y, z,
        r[0] * cx + r[3] * cy + r[6] * cz, r[1] * cx + r[4] * cy + r[7] * cz, r[2] * cx + r[5] * cy + r[8] * cz,
    )  # fmt: skip


@kernel
def _hull_in_motion(row, b, i, w, gx, gy, gz, x, y, z, c0, c1, c2, work):
    """Force on a hull's added mass for its motion with the joints unaccelerated, in its own axes, into work[5].

    At the mean speeds of the step, as all velocity terms; the mass stands in work[3] afterwards. Needs `_hull_axes`.
    """
    r, u, a, m, f = work[0], work[1], work[2], work[3], work[5]
    _to_hull(r, x, y, z, w[i, MEAN], w[i, MEAN + 1], w[i, MEAN + 2], w[i, MEAN + 3], w[i, MEAN + 4], w[i, MEAN + 5], u)
    # acceleration of the body with the joints unaccelerated, without the gravity that stands in the bias
    _to_hull(r, x, y, z, w[i, CARRIED], w[i, CARRIED + 1], w[i, CARRIED + 2], w[i, CARRIED + 3] + gx, w[i, CARRIED + 4] + gy, w[i, CARRIED + 5] + gz, a)  # fmt: skip
    # that is of the point fixed in the world's axes; in the body's, it moves on, and a steady current turns backwards
    a[3] += u[1] * c2 - u[2] * c1
    a[4] += u[2] * c0 - u[0] * c2
    a[5] += u[0] * c1 - u[1] * c0
    u[3] -= c0
    u[4] -= c1
    u[5] -= c2
    for k in range(3):
        m[k], m[3 + k] = row[b + layout.HULL_ADDED_INERTIA + k], row[b + layout.HULL_ADDED_MASS + k]
    for k in range(6):
        f[k] = m[k] * a[k]
    l0, l1, l2 = m[3] * u[3], m[4] * u[4], m[5] * u[5]
    h0, h1, h2 = m[0] * u[0], m[1] * u[1], m[2] * u[2]
    f[0] += u[1] * h2 - u[2] * h1 + u[4] * l2 - u[5] * l1
    f[1] += u[2] * h0 - u[0] * h2 + u[5] * l0 - u[3] * l2
    f[2] += u[0] * h1 - u[1] * h0 + u[3] * l1 - u[4] * l0
    f[3] += u[1] * l2 - u[2] * l1
    f[4] += u[2] * l0 - u[0] * l2
    f[5] += u[0] * l1 - u[1] * l0


@kernel
def hull(row, b, i, n, parent, w, gravity, flows, profile, s, field, h, mass, right, work):
    """Added mass and damping of a body in water that flows past it.

    Kirchhoff's equations for the velocity relative to the water, f = A du/dt + u x* (A u) + D(u) (H. Lamb,
    Hydrodynamics, 1932, art. 124-126; T. I. Fossen, Handbook of Marine Craft Hydrodynamics, 2011, 6.3 and 8.1),
    with a diagonal A about the hull's own axes. Damping is implicit.
    """
    x, y, z, c0, c1, c2 = _hull_axes(row, b, i, w, flows, profile, s, field, work)
    _hull_in_motion(row, b, i, w, gravity[0], gravity[1], gravity[2], x, y, z, c0, c1, c2, work)
    r, u, m, extra, f = work[0], work[1], work[3], work[4], work[5]
    _to_hull(r, x, y, z, w[i, TWIST], w[i, TWIST + 1], w[i, TWIST + 2], w[i, TWIST + 3], w[i, TWIST + 4], w[i, TWIST + 5], u)  # fmt: skip
    u[3] -= c0
    u[4] -= c1
    u[5] -= c2
    for k in range(6):
        slot = k + 3 if k < 3 else k - 3
        slow, fast = row[b + layout.HULL_DAMPING + slot], row[b + layout.HULL_SQUARE + slot] * abs(u[k])
        f[k] += (slow + fast) * u[k]
        extra[k] = h * (slow + 2.0 * fast)
    j = i
    while j >= 0:
        s_j = work[6]
        _to_hull(r, x, y, z, w[j, AXIS], w[j, AXIS + 1], w[j, AXIS + 2], w[j, AXIS + 3], w[j, AXIS + 4], w[j, AXIS + 5], s_j)  # fmt: skip
        for k in range(6):
            right[j] -= s_j[k] * f[k]
        e = j
        while e >= 0:
            s_e = work[7]
            _to_hull(r, x, y, z, w[e, AXIS], w[e, AXIS + 1], w[e, AXIS + 2], w[e, AXIS + 3], w[e, AXIS + 4], w[e, AXIS + 5], s_e)  # fmt: skip
            total = 0.0
            for k in range(6):
                total += s_j[k] * (m[k] + extra[k]) * s_e[k]
            mass[j, e] += total
            e = parent[e]
        j = parent[j]


@kernel
def hulls_in_motion(first, count, kinds, nodes, row, parent, w, flows, profile, s, field, out, work):
    """Add to `out` (n) the efforts that the added mass of all hulls asks for by its motion alone."""
    for k in range(count):
        if kinds[k] != HULL:
            continue
        b, i = first + k * FORCE, nodes[k]
        x, y, z, c0, c1, c2 = _hull_axes(row, b, i, w, flows, profile, s, field, work)
        _hull_in_motion(row, b, i, w, 0.0, 0.0, 0.0, x, y, z, c0, c1, c2, work)
        r, f, along = work[0], work[5], work[6]
        j = i
        while j >= 0:
            _to_hull(r, x, y, z, w[j, AXIS], w[j, AXIS + 1], w[j, AXIS + 2], w[j, AXIS + 3], w[j, AXIS + 4], w[j, AXIS + 5], along)  # fmt: skip
            for k6 in range(6):
                out[j] += along[k6] * f[k6]
            j = parent[j]


@kernel(inline=True)
def _to_hull(r, x, y, z, w0, w1, w2, v0, v1, v2, out):
    """A motion vector at a point, in axes whose columns in the world are r."""
    v0, v1, v2 = v0 + w1 * z - w2 * y, v1 + w2 * x - w0 * z, v2 + w0 * y - w1 * x
    out[0] = r[0] * w0 + r[3] * w1 + r[6] * w2
    out[1] = r[1] * w0 + r[4] * w1 + r[7] * w2
    out[2] = r[2] * w0 + r[5] * w1 + r[8] * w2
    out[3] = r[0] * v0 + r[3] * v1 + r[6] * v2
    out[4] = r[1] * v0 + r[4] * v1 + r[7] * v2
    out[5] = r[2] * v0 + r[5] * v1 + r[8] * v2


@kernel
def into_equations(
    first, count, kinds, nodes_a, nodes_b, row, n, parent, w, flows, profile, s, field, h, mass, right, column, work
):
    """Springs between points and hulls: their part of the mass matrix and of the right side."""
    tail = row.shape[0] - TAIL
    for k in range(count):
        kind = kinds[k]
        b = first + k * FORCE
        if kind == SPRING:
            spring(row, b, nodes_a[k], nodes_b[k], n, parent, w, h, mass, right, column)
        elif kind == HULL:
            gravity = row[tail + GRAVITY : tail + GRAVITY + 3]
            hull(row, b, nodes_a[k], n, parent, w, gravity, flows, profile, s, field, h, mass, right, work)
