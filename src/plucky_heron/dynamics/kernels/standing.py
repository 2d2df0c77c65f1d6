"""Where machines stand: bodies in the world, loops brought to close, what a mounting overlaps. Nothing moves here."""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.layout import GAP, ORIGIN, PAIR, SHAPE, TWIST
from plucky_heron.dynamics.kernels.meeting import find_contacts
from plucky_heron.dynamics.kernels.motion import integrate
from plucky_heron.dynamics.kernels.solving import factorise, towards_leaves
from plucky_heron.dynamics.kernels.ties import brought_together
from plucky_heron.dynamics.kernels.tree import mass_and_bias, place_nodes
from plucky_heron.kernels import kernel

OVERLAPS = 1e-4
"""Overlap (m) at the start from which a mounting is taken for what it is."""
STUBBORN = 1e6
"""How many times its inertia a coordinate weighs that is not to give way where a loop is closed."""
CLOSED, CLOSINGS = 1e-9, 60
"""Error (m) of a tie at which it counts as closed, and how often Newton's method tries."""


@kernel(entry=True)
def close_loops(copies, held, tree, forces, first_force, rows, positions, scratch, errors):
    """Bring `positions` (B, entries) of `copies` (k,) to the nearest ones in which all ties close.

    Newton's method with the mass matrix as the measure of what is near: what is light gives way, and the coordinates
    `held` only where nothing else can. `errors` (k,) takes the largest error (m) that is left.
    """
    parent, kinds, base, scalar, massless, axes, tree_rotation, tree_position, way, depth = tree
    n = parent.shape[0]
    w, mass, pushes, vectors = scratch.w, scratch.mass, scratch.pushes, scratch.vectors
    right, column, still, field = vectors[0], vectors[7], vectors[8], scratch.line
    for i in range(n):
        still[i] = 0.0
    for e in range(copies.shape[0]):
        c = copies[e]
        row, q = rows[c], positions[c]
        for _ in range(CLOSINGS):
            place_nodes(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, still, w)
            mass_and_bias(n, parent, base, massless, row, field, False, still, w, pushes, False, mass, right)
            for i in range(n):
                right[i] = 0.0
            for i in held:
                mass[i, i] *= STUBBORN
            errors[e] = brought_together(
                first_force, forces.kind.shape[0], forces.kind, forces.node_a, forces.node_b, row, n, parent, w, mass,
                right, column,
            )  # fmt: skip
            if not errors[e] > CLOSED:
                break
            factorise(n, way, depth, mass, right)
            towards_leaves(n, way, depth, mass, right)
            longest = 0.0
            for i in range(n):
                longest = max(longest, abs(right[i]))
            integrate(n, kinds, scalar, q, right, min(1.0, 0.5 / max(longest, 1e-12)))


@kernel(entry=True)
def touch(tree, shapes, contacts, scene, s, q, scratch, apart):
    """Mark in `apart` (touching, 1 + site shapes) what the shapes on joints to the ground overlap of scene `s`."""
    parent, kinds, _, scalar, _, axes, tree_rotation, tree_position, _, _ = tree
    v = scratch.vectors[0]
    for i in range(v.shape[0]):
        v[i] = 0.0
    place_nodes(parent.shape[0], parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, scratch.w)
    found = find_contacts(shapes, contacts, scene, s, scratch.w, 0.0, scratch, True)
    for k in range(found):
        row = scratch.contacts[k]
        if row[PAIR] >= 0.0 or row[GAP] > -OVERLAPS:
            continue
        for t in range(contacts.touching.shape[0]):
            if contacts.touching[t] == int(row[SHAPE]) and contacts.rooted[t]:
                apart[t, int(-1.0 - row[PAIR])] = True


@kernel(entry=True)
def locate(copies, tree, body_node, body_rotation, body_position, q, v, w, out, attitude, own):
    """Where the bodies of `copies` (k,) are: out (B, bodies, 18) = origin, its velocity, rotation (9), angular velocity.

    `attitude` (B, bodies, 3) takes roll, pitch and yaw, `own` (B, bodies, 6) both velocities in the bodies' own axes.
    """
    parent, kinds, _, scalar, _, axes, tree_rotation, tree_position, _, _ = tree
    n = parent.shape[0]
    for c in copies:
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
                _turned(o, attitude[c, k], own[c, k])
                continue
            z = w[i]
            for a in range(3):
                o[a] = z[ORIGIN + a] + z[3 * a] * p[0] + z[3 * a + 1] * p[1] + z[3 * a + 2] * p[2]
                for b in range(3):
                    o[6 + 3 * a + b] = z[3 * a] * t[b] + z[3 * a + 1] * t[3 + b] + z[3 * a + 2] * t[6 + b]
                o[15 + a] = z[TWIST + a]
            o[3] = z[TWIST + 3] + z[TWIST + 1] * o[2] - z[TWIST + 2] * o[1]
            o[4] = z[TWIST + 4] + z[TWIST + 2] * o[0] - z[TWIST] * o[2]
            o[5] = z[TWIST + 5] + z[TWIST] * o[1] - z[TWIST + 1] * o[0]
            _turned(o, attitude[c, k], own[c, k])


@kernel(inline=True)
def _turned(o, attitude, own):
    """Roll, pitch and yaw, and velocities in own axes, of a body that stands in `o` as in `locate`."""
    attitude[0] = math.atan2(o[13], o[14])
    attitude[1] = math.asin(min(max(-o[12], -1.0), 1.0))
    attitude[2] = math.atan2(o[9], o[6])
    for a in range(3):
        own[a] = o[6 + a] * o[3] + o[9 + a] * o[4] + o[12 + a] * o[5]
        own[3 + a] = o[6 + a] * o[15] + o[9 + a] * o[16] + o[12 + a] * o[17]
