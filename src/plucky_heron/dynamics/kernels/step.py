"""One step after another, for many copies in one call."""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.acting import into_equations, outer_forces
from plucky_heron.dynamics.kernels.contact import impulses
from plucky_heron.dynamics.kernels.drives import couple, drive_step, driven_beyond, efforts_of_joints, stop_efforts
from plucky_heron.dynamics.kernels.forces import fill_tanks, hand, thrust
from plucky_heron.dynamics.kernels.layout import (
    CONTACT,
    DRAG_AREA,
    DRAIN,
    DRIVE,
    FORCE,
    HAND,
    LAG,
    LOWER_STOP,
    NODE,
    POSITION,
    SPEED,
    THRUST,
    TIME,
    UPPER_STOP,
    WATER_LEVEL,
)
from plucky_heron.dynamics.kernels.meeting import find_contacts
from plucky_heron.dynamics.kernels.motion import integrate, normalise, position_rate
from plucky_heron.dynamics.kernels.solving import factorise, towards_leaves
from plucky_heron.dynamics.kernels.tree import forward, mass_and_bias, place_nodes
from plucky_heron.dynamics.kernels.turning import FAST, TURNS, UNSURE, at_mean_speeds
from plucky_heron.dynamics.kernels.tyres import rolling_friction
from plucky_heron.kernels import kernel

UNSOLVED = 1e-3
"""What a sweep of the contact solver may still change (m/s, rad/s) at the end of a step that counts as solved."""


@kernel(entry=True)
def advance(first, last, tree, drives, forces, shapes, contacts, scene, state, scratch, h, substeps, fourth_order):
    """Advance copies `first` to `last` by `substeps` steps of `h` seconds under held commands.

    Semi-implicit: half a step at the old speeds; the new speeds from what pushes there, with stiff efforts linearised and
    velocity terms at the mean speeds; contact impulses; half a step at the new speeds.
    """
    parent, kinds, base, scalar, massless, axes, tree_rotation, tree_position, way, depth = tree
    n = parent.shape[0]
    drive_kinds, driven_joints, delays, shares, burns_from, wet = drives
    (
        force_kinds, nodes_a, nodes_b, memory, tank_nodes, tank_sizes, coupling_kinds, dependents, leaders, panels, panel_range,
    ) = forces  # fmt: skip
    grounds, planes, grids, heights, flows, profile = (
        scene.ground_kind, scene.plane, scene.grid, scene.heights, scene.flow, scene.profile,
    )  # fmt: skip
    solids, solid_range = scene.shapes, scene.shape_range
    driven, forced, coupled = drives.kind.shape[0], forces.kind.shape[0], forces.coupling_kind.shape[0]
    tanks = forces.tank_node.shape[0]
    first_force = n * NODE + driven * DRIVE
    first_coupling = first_force + forced * FORCE
    thrusters, servos = False, False
    for a in range(driven):
        servos = servos or drive_kinds[a] == SPEED or drive_kinds[a] == POSITION
        thrusters = thrusters or drive_kinds[a] == THRUST or drive_kinds[a] == DRAIN
    touching = contacts.touching.shape[0] + contacts.pairs.shape[0] > 0
    iterations = contacts.iterations
    w, mass, pushes, follow, vectors = scratch.w, scratch.mass, scratch.pushes, scratch.follow, scratch.vectors
    right, effort, stiff, dry, free, mean = vectors[0], vectors[1], vectors[2], vectors[3], vectors[4], vectors[8]
    asked, softened, final = vectors[20], vectors[21], vectors[22]
    full, whole = scratch.full, scratch.kept
    z, zp, column, work = vectors[5], vectors[6], vectors[7], scratch.hull
    rows, numbers, response, sides, list_, nodes, surfaces = (
        scratch.rows, scratch.numbers, scratch.response, scratch.sides, scratch.contacts, scratch.nodes, scratch.surfaces,
    )  # fmt: skip
    own = scratch.row
    per_second = 1.0 / h
    for c in range(first, last):
        if not state.active[c]:
            continue
        nominal, field, q, v = state.rows[c], state.fields[c], state.position[c], state.velocity[c]
        # with tanks the numbers of some nodes change from step to step
        row = own if tanks > 0 else nominal
        slip, fill, s = state.slip[c], state.fill[c], state.scene[c]
        played, integral, lagged, limited = state.played[c], state.integral[c], state.lagged[c], state.limited[c]
        command, ring, head = state.commands[c], state.ring[c], state.heads[c]
        pulled = field[HAND] > 0.0
        # drag of bodies is a force among others where there is water, else it stands in the bias
        in_air = field[WATER_LEVEL] == -math.inf
        acted = forced > 0
        for i in range(0 if in_air else n):
            acted = acted or nominal[i * NODE + DRAG_AREA] > 0.0
        pushed = acted or thrusters or pulled
        kept = state.joint_impulses[c]
        ended, used, remembered = state.accelerations[c], state.efforts[c], state.contacts[c]
        state.unsolved[c] = 0
        for a in range(driven):
            lag = nominal[n * NODE + a * DRIVE + LAG]
            follow[a] = 1.0 - math.exp(-h / lag) if lag > 0.0 else 1.0
        for sub in range(substeps):
            if tanks > 0:
                for k in range(own.shape[0]):
                    own[k] = nominal[k]
                fill_tanks(tank_nodes, tank_sizes, fill, own)
            drive_step(
                n, driven, drive_kinds, driven_joints, delays, shares, row, q, v, command, lagged, integral, limited, played,
                ring, head, h, follow,
            )  # fmt: skip
            head += 1
            if fourth_order:
                field[TIME] += h
                runge_kutta(tree, drives, forces, scene, row, q, v, played, integral, slip, fill, s, field, h, scratch, ended, used)  # fmt: skip
                continue
            # half a step at the speeds before, what pushes in the middle, half a step at the speeds after (Verlet)
            field[TIME] += 0.5 * h
            integrate(n, kinds, scalar, q, v, 0.5 * h)
            for i in range(n):
                mean[i] = v[i] + 0.5 * h * ended[i]
            forward(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w)
            if pushed:
                for i in range(n):
                    for k in range(6):
                        pushes[i, k] = 0.0
                if thrusters:
                    thrust(
                        n,
                        driven,
                        drive_kinds,
                        driven_joints,
                        burns_from,
                        wet,
                        row,
                        played,
                        fill,
                        w,
                        pushes,
                        flows,
                        profile,
                        s,
                        field,
                        h,
                    )
                if pulled:
                    hand(field, w, pushes)
                if acted:
                    outer_forces(first_force, forced, force_kinds, nodes_a, nodes_b, memory, panels, panel_range, n, row, w, pushes, slip, grounds, planes, grids, heights, solids, solid_range, flows, profile, s, field, h, work)  # fmt: skip
            turning = mass_and_bias(n, parent, base, massless, row, field, in_air, mean, w, pushes, pushed, mass, right)
            for a in range(driven):
                full[a] = 0.0
            efforts_of_joints(
                n, driven, drive_kinds, driven_joints, row, q, v, played, integral, h, full, effort, stiff, dry
            )
            if forced > 0:
                rolling_friction(first_force, forced, force_kinds, nodes_a, memory, row, slip, dry)
            held = False
            for i in range(n):
                right[i] = effort[i] - right[i]
                mass[i, i] += stiff[i]
                held = held or dry[i] > 0.0 or q[i] > row[i * NODE + UPPER_STOP] or q[i] < row[i * NODE + LOWER_STOP]
            if coupled > 0:
                couple(coupled, first_coupling, coupling_kinds, dependents, leaders, row, q, v, h, False, mass, right)
            if forced > 0:
                into_equations(first_force, forced, force_kinds, nodes_a, nodes_b, row, n, parent, w, v, flows, profile, s, field, h, mass, right, column, work)  # fmt: skip
            found = find_contacts(shapes, contacts, scene, s, w, h, scratch, sub == 0) if touching else 0
            if servos and (held or found > 0):
                for i in range(n):
                    asked[i], softened[i] = right[i] - effort[i], stiff[i]
                    for k in range(i + 1):
                        whole[i, k] = mass[i, k]
            in_touch = held or state.contact_count[c] > 0
            residual, corrected = 0.0, False
            for attempt in range(3):
                factorise(n, way, depth, mass, right)
                towards_leaves(n, way, depth, mass, right)
                if h * turning > (FAST if in_touch else TURNS):
                    unsure = 0.0
                    for i in range(n):
                        unsure = max(unsure, abs(right[i] - ended[i]))
                    if 0.5 * h * h * unsure > UNSURE:
                        at_mean_speeds(
                            n, parent, way, depth, base, massless, v, h, mass, first_force, forced, force_kinds, nodes_a, row, flows,
                            profile, s, field, w, work, vectors, ended, right,
                        )  # fmt: skip
                for i in range(n):
                    final[i] = right[i]
                    free[i] = v[i] + h * right[i]
                if not held and found == 0:
                    break
                residual, corrected = impulses(
                    n, parent, way, depth, row, w, q, v, free, h, mass, found, list_, remembered, state.contact_count[c], nodes,
                    surfaces, dry, kept, iterations, rows, numbers, response, sides, z, zp, vectors[9],
                )  # fmt: skip
                for i in range(n):
                    final[i] = (free[i] - v[i]) * per_second
                # a servo that an impact drives beyond its limit stays at the limit, and the step is solved again
                if attempt == 2 or not servos or not driven_beyond(n, driven, drive_kinds, driven_joints, row, q, v, played, integral, h, final, full):  # fmt: skip
                    break
                efforts_of_joints(n, driven, drive_kinds, driven_joints, row, q, v, played, integral, h, full, effort, stiff, dry)  # fmt: skip
                if forced > 0:
                    rolling_friction(first_force, forced, force_kinds, nodes_a, memory, row, slip, dry)
                for i in range(n):
                    right[i] = asked[i] + effort[i]
                    for k in range(i + 1):
                        mass[i, k] = whole[i, k]
                    mass[i, i] += stiff[i] - softened[i]
            if not held:
                for i in range(n):
                    kept[0, i], kept[1, i] = 0.0, 0.0
            for i in range(n):
                ended[i] = final[i]
                used[i] = effort[i] - stiff[i] * final[i] + kept[0, i] * per_second
            if residual > UNSOLVED:
                state.unsolved[c] += 1
            if touching:
                state.contact_count[c] = found
                for k in range(found):
                    for d in range(CONTACT):
                        remembered[k, d] = list_[k, d]
            for i in range(n):
                v[i] = free[i]
            if corrected:
                # the correction of the positions is for the whole step
                for i in range(n):
                    free[i] += 2.0 * zp[i]
            integrate(n, kinds, scalar, q, free, 0.5 * h)
            field[TIME] += 0.5 * h
        state.heads[c] = head


@kernel
def explicit(tree, drives, forces, scene, row, q, v, played, integral, slip, fill, s, field, h, scratch, effort):
    """Accelerations into `scratch.vectors[0]` with everything explicit and nothing touching (one Runge-Kutta stage).

    The mass matrix (lower triangle) is left in `scratch.kept`, the joint efforts in `effort` (n).
    """
    parent, kinds, base, scalar, massless, axes, tree_rotation, tree_position, way, depth = tree
    n = parent.shape[0]
    driven, forced, coupled = drives.kind.shape[0], forces.kind.shape[0], forces.coupling_kind.shape[0]
    first_force = n * NODE + driven * DRIVE
    w, mass, kept, pushes, vectors = scratch.w, scratch.mass, scratch.kept, scratch.pushes, scratch.vectors
    right, stiff, dry, column, full = vectors[0], vectors[2], vectors[3], vectors[7], scratch.full
    for a in range(driven):
        full[a] = 0.0
    for i in range(n):
        for k in range(6):
            pushes[i, k] = 0.0
    place_nodes(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w)
    if field[HAND] > 0.0:
        hand(field, w, pushes)
    thrust(
        n,
        driven,
        drives.kind,
        drives.joint,
        drives.tank,
        drives.wet,
        row,
        played,
        fill,
        w,
        pushes,
        scene.flow,
        scene.profile,
        s,
        field,
        0.0,
    )
    outer_forces(first_force, forced, forces.kind, forces.node_a, forces.node_b, forces.memory, forces.panels, forces.panel_range, n, row, w, pushes, slip, scene.ground_kind, scene.plane, scene.grid, scene.heights, scene.shapes, scene.shape_range, scene.flow, scene.profile, s, field, 0.0, scratch.hull)  # fmt: skip
    mass_and_bias(
        n, parent, base, massless, row, field, field[WATER_LEVEL] == -math.inf, v, w, pushes, True, mass, right
    )
    efforts_of_joints(n, driven, drives.kind, drives.joint, row, q, v, played, integral, 0.0, full, effort, stiff, dry)
    rolling_friction(first_force, forced, forces.kind, forces.node_a, forces.memory, row, slip, dry)
    stop_efforts(n, row, q, v, dry, effort)
    for i in range(n):
        right[i] = effort[i] - right[i]
    couple(coupled, first_force + forced * FORCE, forces.coupling_kind, forces.dependent, forces.leader, row, q, v, h, True, mass, right)  # fmt: skip
    into_equations(first_force, forced, forces.kind, forces.node_a, forces.node_b, row, n, parent, w, v, scene.flow, scene.profile, s, field, 0.0, mass, right, column, scratch.hull)  # fmt: skip
    for i in range(n):
        for k in range(n):
            kept[i, k] = mass[i, k]
    factorise(n, way, depth, mass, right)
    towards_leaves(n, way, depth, mass, right)


@kernel
def runge_kutta(
    tree, drives, forces, scene, row, q, v, played, integral, slip, fill, s, field, h, scratch, ended, used
):
    """One step of the classical fourth-order method, for smooth motion; attitudes are brought back to unit length."""
    n, size = v.shape[0], q.shape[0]
    right, v0, dv = scratch.vectors[0], scratch.vectors[8], scratch.vectors[9]
    q0, dq, rate = scratch.positions[0], scratch.positions[1], scratch.positions[2]
    for i in range(size):
        q0[i], dq[i], rate[i] = q[i], 0.0, 0.0
    for i in range(n):
        v0[i], dv[i] = v[i], 0.0
    for stage in range(4):
        explicit(tree, drives, forces, scene, row, q, v, played, integral, slip, fill, s, field, h, scratch, used)
        weight = h / 6.0 if stage == 0 or stage == 3 else h / 3.0
        reach = h if stage == 2 else 0.5 * h
        position_rate(n, tree.kind, tree.scalar, q, v, rate)
        for i in range(size):
            dq[i] += weight * rate[i]
            q[i] = q0[i] + reach * rate[i]
        for i in range(n):
            dv[i] += weight * right[i]
            v[i] = v0[i] + reach * right[i]
            ended[i] = right[i]
    for i in range(size):
        q[i] = q0[i] + dq[i]
    for i in range(n):
        v[i] = v0[i] + dv[i]
    normalise(n, tree.kind, tree.scalar, q)


@kernel(entry=True)
def accelerations(tree, drives, forces, scene, state, h, scratch):
    """Accelerations of copy 0 with everything explicit and nothing touching, into `scratch.vectors[0]`.

    The mass matrix (lower triangle) is left in `scratch.kept`, joint efforts in `scratch.vectors[1]`.
    """
    row = scratch.row
    for k in range(row.shape[0]):
        row[k] = state.rows[0, k]
    fill_tanks(forces.tank_node, forces.tanks, state.fill[0], row)
    explicit(
        tree, drives, forces, scene, row, state.position[0], state.velocity[0], state.played[0], state.integral[0],
        state.slip[0], state.fill[0], state.scene[0], state.fields[0], h, scratch, scratch.vectors[1],
    )  # fmt: skip


@kernel(entry=True)
def static_loads(copies, tree, drives, forces, scene, state, field, slip, idle, h, scratch, out):
    """What gravity and springs push the joints of `copies` (k,) with at rest where they stand, out (k, n), N or N m.

    `field` says what is around them; `slip` (memories, 3) and `idle` (m,) are at zero.
    """
    row, v, pushed, mass = scratch.row, scratch.vectors[8], scratch.vectors[0], scratch.kept
    n = v.shape[0]
    for e in range(copies.shape[0]):
        c = copies[e]
        for i in range(n):
            v[i] = 0.0
        for k in range(slip.shape[0]):
            for d in range(3):
                slip[k, d] = 0.0
        for k in range(row.shape[0]):
            row[k] = state.rows[c, k]
        fill_tanks(forces.tank_node, forces.tanks, state.fill[c], row)
        explicit(
            tree, drives, forces, scene, row, state.position[c], v, idle, idle, slip, state.fill[c], 0, field, h, scratch,
            scratch.vectors[1],
        )  # fmt: skip
        for i in range(n):
            total = 0.0
            for k in range(n):
                total += (mass[i, k] if k <= i else mass[k, i]) * pushed[k]
            out[e, i] = total
