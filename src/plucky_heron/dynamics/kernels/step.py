"""One step after another, for many copies in one call."""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.dynamics.kernels import contact, drives, forces, geometry, layout, manifold, meeting, tree
from plucky_heron.dynamics.kernels.contact import ROW, impulses
from plucky_heron.dynamics.kernels.drives import couple, drive_step, efforts_of_joints, stop_efforts
from plucky_heron.dynamics.kernels.forces import fill_tanks, into_equations, outer_forces, thrust
from plucky_heron.dynamics.kernels.layout import CONTACT, DRAIN, DRIVE, FORCE, NODE, THRUST, kernel
from plucky_heron.dynamics.kernels.manifold import MOST_CORNERS, POINT
from plucky_heron.dynamics.kernels.meeting import find_contacts
from plucky_heron.dynamics.kernels.tree import (
    WORK,
    factorise_and_solve,
    forward,
    integrate,
    mass_and_bias,
    normalise,
    place_nodes,
    position_rate,
)  # fmt: skip

CALLS = (layout, tree, drives, forces, geometry, manifold, meeting, contact)


@kernel
def advance(first, last, tree, drives, forces, shapes, contacts, scene, state, h, substeps, fourth_order):
    """Advance copies `first` to `last` by `substeps` steps of `h` seconds under held commands.

    Semi-implicit: speeds first, with stiff efforts linearised, then contact impulses, then positions at the new speeds.
    """
    parent, kinds, base, scalar, massless, axes, tree_rotation, tree_position = tree
    n = parent.shape[0]
    drive_kinds, driven_joints, delays, burns_from = drives
    force_kinds, nodes_a, nodes_b, memory, tank_nodes, tank_sizes, coupling_kinds, dependents, leaders = forces
    grounds, planes, grids, heights, flows, profile = (
        scene.ground_kind, scene.plane, scene.grid, scene.heights, scene.flow, scene.profile,
    )  # fmt: skip
    driven, forced, coupled = drives.kind.shape[0], forces.kind.shape[0], forces.coupling_kind.shape[0]
    tanks = forces.tank_node.shape[0]
    first_force = n * NODE + driven * DRIVE
    first_coupling = first_force + forced * FORCE
    thrusters = False
    for a in range(driven):
        thrusters = thrusters or drive_kinds[a] == THRUST or drive_kinds[a] == DRAIN
    pushed = forced > 0 or thrusters
    touching = contacts.touching.shape[0] + contacts.pairs.shape[0] > 0
    bounded = contacts.bounded
    w = np.zeros((n, WORK))
    mass = np.zeros((n, n))
    right, effort, stiff, dry, free = np.zeros(n), np.zeros(n), np.zeros(n), np.zeros(n), np.zeros(n)
    pushes = np.zeros((n, 6))
    follow = np.zeros(driven)
    capacity = contacts.capacity
    most = 3 * capacity + 2 * n if touching or bounded else 0
    rows, numbers = np.zeros((most, n)), np.zeros((most, ROW))
    z, zp, column = np.zeros(n), np.zeros(n), np.zeros(n)
    list_ = np.zeros((capacity, CONTACT))
    nodes = np.zeros((capacity, 2), np.int64)
    surfaces = np.zeros((capacity, 5))
    places = np.zeros((shapes.kind.shape[0], 13))
    g, work = np.zeros((6, 9)), np.zeros((8, 9))
    points, corners = np.zeros((MOST_CORNERS, POINT)), np.zeros((3, MOST_CORNERS, 3))
    own = np.zeros(state.rows.shape[1] if tanks > 0 else 0)
    per_second = 1.0 / h
    for c in range(first, last):
        if not state.active[c]:
            continue
        nominal, field, q, v = state.rows[c], state.fields[c], state.position[c], state.velocity[c]
        # with tanks the numbers of some nodes change from step to step
        row = own if tanks > 0 else nominal
        for k in range(own.shape[0]):
            own[k] = nominal[k]
        slip, fill, s = state.slip[c], state.fill[c], state.scene[c]
        played, integral, lagged, limited = state.played[c], state.integral[c], state.lagged[c], state.limited[c]
        command, ring, head = state.commands[c], state.ring[c], state.heads[c]
        ended, used = state.accelerations[c], state.efforts[c]
        for a in range(driven):
            lag = row[n * NODE + a * DRIVE + 3]
            follow[a] = 1.0 - math.exp(-h / lag) if lag > 0.0 else 1.0
        for _ in range(substeps):
            drive_step(
                n, driven, drive_kinds, driven_joints, delays, row, q, v, command, lagged, integral, limited, played,
                ring, head, h, follow,
            )  # fmt: skip
            head += 1
            field[7] += h
            if tanks > 0:
                for k in range(own.shape[0]):
                    own[k] = nominal[k]
                fill_tanks(tank_nodes, tank_sizes, fill, own)
            if fourth_order:
                runge_kutta(tree, drives, forces, scene, row, q, v, played, integral, slip, fill, s, field, h, ended, used)  # fmt: skip
                continue
            forward(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w)
            if pushed:
                pushes[:] = 0.0
                if thrusters:
                    thrust(n, driven, drive_kinds, driven_joints, burns_from, row, played, fill, w, pushes, h)
                if forced > 0:
                    outer_forces(first_force, forced, force_kinds, nodes_a, nodes_b, memory, row, w, pushes, slip, grounds, planes, grids, heights, flows, profile, s, field, h)  # fmt: skip
            mass_and_bias(n, parent, base, massless, row, field, v, w, pushes, pushed, mass, right)
            efforts_of_joints(n, driven, drive_kinds, driven_joints, row, q, v, played, integral, h, effort, stiff, dry)
            held = False
            for i in range(n):
                right[i] = effort[i] - right[i]
                mass[i, i] += stiff[i]
                held = held or dry[i] > 0.0 or q[i] > row[i * NODE + 14] or q[i] < row[i * NODE + 13]
            if forced > 0:
                into_equations(first_force, forced, force_kinds, nodes_a, nodes_b, row, n, parent, w, flows, profile, s, field, h, mass, right, column, work)  # fmt: skip
            if coupled > 0:
                couple(coupled, first_coupling, coupling_kinds, dependents, leaders, row, q, v, h, False, mass, right)
            factorise_and_solve(n, mass, right)
            for i in range(n):
                used[i] = effort[i] - stiff[i] * right[i]
                ended[i] = right[i]
                free[i] = v[i] + h * right[i]
            found = 0
            if touching:
                found = find_contacts(shapes, contacts, scene, s, w, h, places, list_, nodes, surfaces, points, g, corners)  # fmt: skip
            corrected = False
            if held or found > 0:
                corrected = impulses(
                    n, parent, row, w, q, v, free, h, mass, found, list_, state.contacts[c],
                    state.contact_count[c], nodes, surfaces, dry, contacts.iterations, rows, numbers, z, zp,
                )  # fmt: skip
                for i in range(n):
                    ended[i] = (free[i] - v[i]) * per_second
            if touching:
                state.contact_count[c] = found
                remembered = state.contacts[c]
                for k in range(found):
                    for d in range(CONTACT):
                        remembered[k, d] = list_[k, d]
            for i in range(n):
                v[i] = free[i]
            if corrected:
                for i in range(n):
                    free[i] += zp[i]
            integrate(n, kinds, scalar, q, free, h)
        state.heads[c] = head


@kernel
def explicit(tree, drives, forces, scene, row, q, v, played, integral, slip, fill, s, field, h, w, mass, right, effort):
    """Accelerations into `right` with everything explicit and nothing touching (one stage of Runge-Kutta).

    `w` (n, WORK), `mass` (n, n) and `effort` (n) are scratch; `mass` ends as its factor.
    """
    parent, kinds, base, scalar, massless, axes, tree_rotation, tree_position = tree
    n = parent.shape[0]
    driven, forced, coupled = drives.kind.shape[0], forces.kind.shape[0], forces.coupling_kind.shape[0]
    first_force = n * NODE + driven * DRIVE
    stiff, dry, pushes = np.zeros(n), np.zeros(n), np.zeros((n, 6))
    place_nodes(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w)
    thrust(n, driven, drives.kind, drives.joint, drives.tank, row, played, fill, w, pushes, 0.0)
    outer_forces(first_force, forced, forces.kind, forces.node_a, forces.node_b, forces.memory, row, w, pushes, slip, scene.ground_kind, scene.plane, scene.grid, scene.heights, scene.flow, scene.profile, s, field, 0.0)  # fmt: skip
    mass_and_bias(n, parent, base, massless, row, field, v, w, pushes, True, mass, right)
    efforts_of_joints(n, driven, drives.kind, drives.joint, row, q, v, played, integral, 0.0, effort, stiff, dry)
    stop_efforts(n, row, q, v, dry, effort)
    for i in range(n):
        right[i] = effort[i] - right[i]
    into_equations(first_force, forced, forces.kind, forces.node_a, forces.node_b, row, n, parent, w, scene.flow, scene.profile, s, field, 0.0, mass, right, stiff, np.zeros((8, 9)))  # fmt: skip
    couple(
        coupled,
        first_force + forced * FORCE,
        forces.coupling_kind,
        forces.dependent,
        forces.leader,
        row,
        q,
        v,
        h,
        True,
        mass,
        right,
    )
    kept = mass.copy()
    factorise_and_solve(n, mass, right)
    return kept


@kernel
def runge_kutta(tree, drives, forces, scene, row, q, v, played, integral, slip, fill, s, field, h, ended, used):
    """One step of the classical fourth-order method, for smooth motion; attitudes are brought back to unit length."""
    n, size = v.shape[0], q.shape[0]
    w, mass, right = np.zeros((n, WORK)), np.zeros((n, n)), np.zeros(n)
    q0, v0, dq, dv, rate = q.copy(), v.copy(), np.zeros(size), np.zeros(n), np.zeros(size)
    for stage in range(4):
        explicit(tree, drives, forces, scene, row, q, v, played, integral, slip, fill, s, field, h, w, mass, right, used)  # fmt: skip
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


@kernel
def accelerations(tree, drives, forces, scene, state, h):
    """Accelerations (n) of copy 0 with everything explicit and nothing touching; also its mass matrix (lower triangle)."""
    n = tree.parent.shape[0]
    w, mass, right = np.zeros((n, WORK)), np.zeros((n, n)), np.zeros(n)
    row = state.rows[0].copy()
    fill_tanks(forces.tank_node, forces.tanks, state.fill[0], row)
    kept = explicit(
        tree, drives, forces, scene, row, state.position[0], state.velocity[0], state.played[0], state.integral[0],
        state.slip[0], state.fill[0], state.scene[0], state.fields[0], h, w, mass, right, np.zeros(n),
    )  # fmt: skip
    return right, kept


@kernel
def locate(first, last, tree, body_node, body_rotation, body_position, q, v, out):
    """Where the bodies are: out (B, bodies, 18) = origin (3), its velocity (3), rotation (9), angular velocity (3)."""
    parent, kinds, _, scalar, _, axes, tree_rotation, tree_position = tree
    n = parent.shape[0]
    w = np.zeros((n, WORK))
    for c in range(first, last):
        place_nodes(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q[c], v[c], w)
        for k in range(body_node.shape[0]):
            o = out[c, k]
            p, t = body_position[k], body_rotation[k]
            i = body_node[k]
            if i < 0:
                for a in range(3):
                    o[a] = p[a]
                    o[3 + a] = 0.0
                    o[15 + a] = 0.0
                for a in range(9):
                    o[6 + a] = t[a]
                continue
            z = w[i]
            for a in range(3):
                o[a] = z[9 + a] + z[3 * a] * p[0] + z[3 * a + 1] * p[1] + z[3 * a + 2] * p[2]
                for b in range(3):
                    o[6 + 3 * a + b] = z[3 * a] * t[b] + z[3 * a + 1] * t[3 + b] + z[3 * a + 2] * t[6 + b]
                o[15 + a] = z[18 + a]
            o[3] = z[21] + z[19] * o[2] - z[20] * o[1]
            o[4] = z[22] + z[20] * o[0] - z[18] * o[2]
            o[5] = z[23] + z[18] * o[1] - z[19] * o[0]
