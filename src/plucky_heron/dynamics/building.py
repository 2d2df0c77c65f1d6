"""From a machine to its model: nodes, drives, forces, shapes, contacts, stops."""

from __future__ import annotations

import numpy as np

from plucky_heron.dynamics import assembly
from plucky_heron.dynamics.builder import Builder, matrix_of
from plucky_heron.dynamics.energy import GRAVITY, poses
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.shapes import build_shapes
from plucky_heron.machine.schema import GROUND, Machine

Array = np.ndarray
AIR_DENSITY = 1.225
WATER_DENSITY = 1025.0


def build_model(
    machine: Machine, gravity: float = GRAVITY, air_density: float = AIR_DENSITY, water_density: float = WATER_DENSITY
) -> Model:
    """The arrays of a machine; takes well under a millisecond a body."""
    builder = Builder(machine)
    builder.joints()
    builder.bodies()
    drive_table, dead_time = assembly.drives(builder)
    force_table, memories = assembly.forces(builder)
    builder.row[-layout.TAIL :] = (0.0, 0.0, -gravity, air_density, water_density)
    placed = assembly.placed_shapes(builder)
    machine = builder.machine
    model = Model(
        machine=machine,
        joints=tuple(builder.coordinates),
        positions=tuple(builder.positions),
        drives=tuple(machine.drives),
        bodies=tuple(machine.bodies),
        tree=builder.tree,
        drive_table=drive_table,
        force_table=force_table,
        shapes=build_shapes([p for _, p in placed]),
        contacts=assembly.contacts(builder, placed),
        body_node=np.array([builder.place[b][0] for b in machine.bodies], dtype=np.int64),
        body_rotation=np.array([builder.place[b][1].reshape(9) for b in machine.bodies]),
        body_position=np.array([builder.place[b][2] for b in machine.bodies]),
        dead_time=dead_time,
        row=builder.row,
        start=builder.start,
        fill=np.array([t.mass * t.fill for t in machine.tanks.values()]),
        memories=memories,
        parameters=builder.parameters,
    )
    _set_stops(model)
    find_ways(model)
    return model


def find_ways(model: Model) -> None:
    """By which ways to the root the mass matrix is factorised: the tree's, but couplings, springs and ties join their branches.

    The elimination tree of the matrix, leaves first (J. W. H. Liu, SIAM J. Matrix Anal. Appl. 11, 1990).
    """
    tree, forces = model.tree, model.force_table
    n = len(tree.parent)

    def way(node: int) -> set[int]:
        found: set[int] = set()
        while node >= 0:
            found.add(node)
            node = int(tree.parent[node])
        return found

    below = [way(i) - {i} for i in range(n)]
    joined = [{int(d), int(e)} for d, e in zip(forces.dependent, forces.leader, strict=True)]
    springs = np.flatnonzero(np.isin(forces.kind, (layout.SPRING, layout.ROD, layout.PIN)))
    joined += [way(int(forces.node_a[k])) | way(int(forces.node_b[k])) for k in springs]
    for nodes in joined:
        for i in nodes:
            below[i] |= {j for j in nodes if j < i}
    after = np.full(n, -1)
    for i in range(n - 1, -1, -1):
        after[i] = max(below[i], default=-1)
        if after[i] >= 0:
            below[after[i]] |= below[i] - {after[i]}
    for i in range(n):
        k = after[i]
        while k >= 0:
            tree.way[i, tree.depth[i]] = k
            tree.depth[i] += 1
            k = after[k]


def _set_stops(model: Model) -> None:
    """Stops that the file leaves open: a 15 Hz bounce of what the joint carries, damped at 0.7."""
    masses = None
    pulse = 2.0 * np.pi * 15.0
    for i, name in enumerate(model.joints):
        joint = model.machine.joints[name.partition(".")[0]]
        if joint.limits is None:
            continue
        if masses is None:
            masses = _carried(model)
        b = i * layout.NODE
        stiffness = joint.stop_stiffness if joint.stop_stiffness is not None else masses[i] * pulse**2
        damping = joint.stop_damping
        model.row[b + layout.STOP_STIFFNESS] = stiffness
        model.row[b + layout.STOP_DAMPING] = damping if damping is not None else 1.4 * np.sqrt(stiffness * masses[i])


def _carried(model: Model) -> Array:
    """What each coordinate moves alone at the start pose: kg, or kg m² (the diagonal of the mass matrix).

    Not by the kernels: building a model should not have to load them.
    """
    machine = model.machine
    frames = poses(machine, model.pose(model.start))
    carried: dict[str, list[str]] = {name: [] for name in machine.joints}
    above = {joint.child: name for name, joint in machine.joints.items()}
    for body in machine.bodies:
        at = body
        while at != GROUND:
            carried[above[at]].append(body)
            at = machine.joints[above[at]].parent
    # a chain of n links asks for n² / 2 of these: what depends on the body alone is worked out once
    centres = {b: frames[b][:3, :3] @ np.array(part.centre) + frames[b][:3, 3] for b, part in machine.bodies.items()}
    inertias = {b: matrix_of(np.array(part.inertia)) for b, part in machine.bodies.items()}
    moved = np.zeros(len(model.joints))
    for i, name in enumerate(model.joints):
        joint = machine.joints[name.partition(".")[0]]
        if joint.kind not in ("hinge", "slider"):
            continue
        place = frames[joint.child]
        axis = place[:3, :3] @ np.array(joint.axis)
        moved[i] = joint.armature
        for body in carried[name]:
            part, frame = machine.bodies[body], frames[body]
            if joint.kind == "slider":
                moved[i] += part.mass
                continue
            lever = _cross(axis, centres[body] - place[:3, 3])
            own = frame[:3, :3].T @ axis
            moved[i] += part.mass * lever @ lever + own @ inertias[body] @ own
    return moved


def _cross(a: Array, b: Array) -> Array:
    """a x b of two vectors, without what NumPy's own needs for any shape (20 us)."""
    ax, ay, az = a.tolist()
    bx, by, bz = b.tolist()
    return np.array([ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx])
