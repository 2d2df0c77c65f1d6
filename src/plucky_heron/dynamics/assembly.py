"""Drives, forces, couplings and shapes of a machine as the tables that the kernels read."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from plucky_heron.dynamics.energy import poses
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.shapes import Placed, place, surface_triangles
from plucky_heron.machine.parts import GROUND, Drive, Float, Hull, Pin, Rod, Spring, Tyre, Wing
from plucky_heron.machine.urdf import rotation
from plucky_heron.units import parse

if TYPE_CHECKING:
    from plucky_heron.dynamics.builder import Builder

Array = np.ndarray
_KINDS = {
    "effort": layout.EFFORT, "speed": layout.SPEED, "position": layout.POSITION, "thrust": layout.THRUST,
    "brake": layout.BRAKE, "drain": layout.DRAIN,
}  # fmt: skip
MOST_CONTACTS = 128
"""Touching points a copy remembers at most."""


def drives(builder: Builder) -> tuple[layout.Drives, Array]:
    """Table of the drives and their dead times; their numbers go into the row."""
    machine, m = builder.machine, len(builder.machine.drives)
    afloat = any(isinstance(f, (Hull, Float)) for f in machine.forces.values())
    kind, joint, delay, tank = (np.zeros(m, dtype=np.int64) for _ in range(4))
    table = layout.Drives(kind, joint, delay, np.ones(m), tank, wet=np.full(m, afloat))
    dead_time = np.zeros(m)
    tanks = list(machine.tanks)
    for a, (name, drive) in enumerate(machine.drives.items()):
        b = builder.n * layout.NODE + a * layout.DRIVE
        table.kind[a] = _KINDS[drive.kind]
        table.tank[a] = tanks.index(drive.tank) if drive.tank is not None else -1
        dead_time[a] = drive.dead_time
        low, high = machine.command_range(name)
        for key in ("limit", "gain", "integral_gain", "lag", "rate_gain"):
            builder.slot(f"{name}.{key}", b + getattr(layout, key.upper()), float(getattr(drive, key)))
        builder.row[b + layout.HIGHEST_COMMAND], builder.row[b + layout.LOWEST_COMMAND] = high, low
        for key in ("no_load_speed", "rate_limit", "dead_zone", "backlash"):
            builder.row[b + getattr(layout, key.upper())] = float(getattr(drive, key) or 0.0)
        if drive.on_joint:
            i = builder.coordinates.index(str(drive.joint))
            table.joint[a] = i
            builder.row[i * layout.NODE + layout.ARMATURE] += drive.rotor_inertia * drive.gear**2
        elif drive.kind == "thrust":
            table.joint[a] = _thruster(builder, b, drive)
    return table, dead_time


def _thruster(builder: Builder, b: int, drive: Drive) -> int:
    node, turned, at = builder.place[str(drive.body)]
    builder.row[b + layout.PLACE : b + layout.PLACE + 3] = at + turned @ np.array(drive.at)
    builder.row[b + layout.DIRECTION : b + layout.DIRECTION + 3] = turned @ _unit(drive.direction)
    builder.row[b + layout.REACTION], builder.row[b + layout.CONSUMPTION] = drive.reaction, drive.consumption
    return node


def _unit(direction: tuple[float, float, float]) -> Array:
    vector = np.array(direction, dtype=float)
    return np.asarray(vector / max(float(np.linalg.norm(vector)), 1e-12))


def forces(builder: Builder) -> tuple[layout.Forces, int]:
    """Table of forces, tanks and couplings, and how many of the forces remember something."""
    machine, count = builder.machine, len(builder.machine.forces)
    couplings = list(machine.couplings.values())
    table = layout.Forces(
        kind=np.zeros(count, dtype=np.int64),
        node_a=np.full(count, -1, dtype=np.int64),
        node_b=np.full(count, -1, dtype=np.int64),
        memory=np.zeros(count, dtype=np.int64),
        tank_node=np.array([builder.place[t.body][0] for t in machine.tanks.values()], dtype=np.int64),
        tanks=np.zeros((len(machine.tanks), layout.TANK)),
        coupling_kind=np.array([layout.RATIO if c.kind == "ratio" else layout.STEERING for c in couplings], dtype=np.int64),
        dependent=np.array([builder.coordinates.index(c.joint) for c in couplings], dtype=np.int64),
        leader=np.array([builder.coordinates.index(c.follows) for c in couplings], dtype=np.int64),
        panels=np.zeros((1, 9)),
        panel_range=np.zeros((count, 2), dtype=np.int64),
    )  # fmt: skip
    memories = 0
    panels: list[Array] = []
    for k, force in enumerate(machine.forces.values()):
        numbers = builder.row[builder.first_force + k * layout.FORCE :][: layout.FORCE]
        if isinstance(force, Spring):
            table.kind[k] = layout.SPRING
            table.node_a[k], numbers[_three(layout.SPRING_A)] = _point(builder, force.a, force.at_a)
            table.node_b[k], numbers[_three(layout.SPRING_B)] = _point(builder, force.b, force.at_b)
            numbers[layout.SPRING_STIFFNESS], numbers[layout.SPRING_REST] = force.stiffness, force.rest
            numbers[layout.SPRING_DAMPING], numbers[layout.SPRING_PULLS_ONLY] = force.damping, float(force.pulls_only)
        elif isinstance(force, Rod | Pin):
            table.kind[k] = layout.ROD if isinstance(force, Rod) else layout.PIN
            table.node_a[k], numbers[_three(layout.TIE_A)] = _point(builder, force.a, force.at_a)
            table.node_b[k], numbers[_three(layout.TIE_B)] = _point(builder, force.b, force.at_b)
            if isinstance(force, Rod):
                numbers[layout.TIE_LENGTH] = force.length or _apart_at_start(builder, force)
        elif isinstance(force, Tyre):
            table.kind[k], table.memory[k] = layout.TYRE, memories
            memories += 1
            table.node_a[k], table.node_b[k] = _tyre(builder, force, numbers)
        elif isinstance(force, Hull):
            table.kind[k] = layout.HULL
            table.node_a[k], numbers[_three(layout.HULL_PLACE)] = _point(builder, force.body, force.at)
            turned = builder.place[force.body][1] @ rotation(*force.turn)
            numbers[layout.HULL_AXES : layout.HULL_ADDED_MASS] = turned.reshape(9)
            numbers[layout.HULL_ADDED_MASS : layout.HULL_DAMPING] = *force.added_mass, *force.added_inertia
            numbers[layout.HULL_DAMPING : layout.HULL_SQUARE] = *force.damping, *force.turn_damping
            numbers[layout.HULL_SQUARE : layout.HULL_SQUARE + 6] = *force.square, *force.turn_square
        elif isinstance(force, Float):
            table.kind[k] = layout.FLOAT
            table.node_a[k], numbers[_three(layout.FLOAT_BOTTOM)] = _point(builder, force.body, force.at)
            numbers[layout.FLOAT_AREA], numbers[layout.FLOAT_HEIGHT] = force.area or 0.0, force.height or 0.0
            numbers[layout.FLOAT_LENGTH], numbers[layout.FLOAT_WIDTH] = force.sides
            numbers[layout.FLOAT_AXES : layout.FLOAT_AXES + 9] = builder.place[force.body][1].reshape(9)
            if force.area is None:
                _float_by_shapes(builder, force, numbers, table, panels, k)
        elif isinstance(force, Wing):
            table.kind[k] = layout.WING
            table.node_a[k], numbers[_three(layout.WING_PLACE)] = _point(builder, force.body, force.at)
            turned = builder.place[force.body][1]
            numbers[_three(layout.WING_CHORD)] = turned @ _unit(force.chord)
            numbers[_three(layout.WING_NORMAL)] = turned @ _unit(force.normal)
            for key in ("area", "lift_slope", "stall", "drag", "induced", "in_water"):
                numbers[getattr(layout, f"WING_{key.upper()}")] = float(getattr(force, key))
    for k, tank in enumerate(machine.tanks.values()):
        _, table.tanks[k, : layout.TANK_LENGTH] = _point(builder, tank.body, tank.at)
        table.tanks[k, layout.TANK_LENGTH :] = *tank.size, tank.mass, tank.fill
        builder.tree.massless[table.tank_node[k]] = False
    for k, coupling in enumerate(couplings):
        b = builder.first_coupling + k * layout.COUPLING
        if coupling.kind == "ratio":
            unit = machine.joints[coupling.joint].unit
            first, second = coupling.ratio, parse(coupling.offset, unit)
        else:
            first, second = coupling.wheelbase, coupling.left
        builder.row[b + layout.COUPLING_RATIO], builder.row[b + layout.COUPLING_OFFSET] = first, second
    if panels:
        table = table._replace(panels=np.concatenate(panels))
    return table, memories


def _float_by_shapes(
    builder: Builder, force: Float, numbers: Array, table: layout.Forces, panels: list[Array], k: int
) -> None:
    """The faces of the body's shapes; and the box that holds them, for how far it is under water."""
    _, turned, at = builder.place[force.body]
    first = sum(len(p) for p in panels)
    corners = []
    for shape in builder.machine.bodies[force.body].shapes:
        triangles = surface_triangles(shape) @ rotation(*shape.turn).T + np.array(shape.at)
        corners.append(triangles.reshape(-1, 3))
        panels.append((triangles @ turned.T + at).reshape(-1, 9))
    table.panel_range[k] = first, sum(len(p) for p in panels)
    low, high = np.concatenate(corners).min(axis=0), np.concatenate(corners).max(axis=0)
    numbers[_three(layout.FLOAT_BOTTOM)] = at + turned @ [*(0.5 * (low + high))[:2], low[2]]
    numbers[layout.FLOAT_AREA], numbers[layout.FLOAT_HEIGHT] = float(np.prod((high - low)[:2])), high[2] - low[2]


def _apart_at_start(builder: Builder, rod: Rod) -> float:
    frames = poses(builder.machine, dict(zip(builder.positions, builder.start.tolist(), strict=True)))
    ends = [frames[body] @ np.append(at, 1.0) for body, at in ((rod.a, rod.at_a), (rod.b, rod.at_b))]
    return float(np.linalg.norm(ends[1][:3] - ends[0][:3]))


def _three(first: int) -> slice:
    return slice(first, first + 3)


def _point(builder: Builder, body: str, at: tuple[float, float, float]) -> tuple[int, Array]:
    node, turned, origin = builder.place[body]
    return node, origin + turned @ np.array(at)


def _tyre(builder: Builder, tyre: Tyre, numbers: Array) -> tuple[int, int]:
    machine = builder.machine
    joint = machine.joints[machine.joint_above(tyre.wheel)]
    node, numbers[_three(layout.TYRE_CENTRE)] = _point(builder, tyre.wheel, tyre.at)
    axis = tyre.axis or (joint.axis if joint.kind == "hinge" and not tyre.rolls_freely else (0.0, 1.0, 0.0))
    numbers[_three(layout.TYRE_AXIS)] = builder.place[tyre.wheel][1] @ _unit(axis)
    numbers[layout.TYRE_STIFFNESS : layout.TYRE_RELAXATION] = tyre.along, tyre.across
    numbers[layout.TYRE_FRICTION : layout.TYRE_LOAD] = tyre.friction
    names = ("radius", "relaxation", "load", "radial_stiffness", "radial_damping", "rolling_resistance", "rolls_freely")
    for key in names:
        numbers[getattr(layout, f"TYRE_{key.upper()}")] = float(getattr(tyre, key))
    carrier = node if tyre.rolls_freely or joint.parent == GROUND else builder.place[joint.parent][0]
    return node, carrier


def placed_shapes(builder: Builder) -> list[tuple[str, Placed]]:
    """The solid shapes of all bodies, with their body."""
    return [
        (name, place(shape, *builder.place[name]))
        for name, body in builder.machine.bodies.items()
        for shape in body.shapes
        if shape.solid
    ]


def contacts(builder: Builder, placed: list[tuple[str, Placed]]) -> layout.Contacts:
    """What may touch what: bodies on a common joint, on the same node or listed apart do not."""
    machine = builder.machine
    apart = {frozenset(pair) for pair in machine.no_contact}
    held = [j for j in machine.joints.values() if j.kind not in ("planar", "free")]
    apart |= {frozenset((f.a, f.b)) for f in machine.forces.values() if isinstance(f, Pin)}
    # the site is met by all: what overlaps at a joint to it is found where the site is known
    apart |= {frozenset((j.parent, j.child)) for j in held if j.parent != GROUND}
    rooted = {j.child for j in held if builder.place[j.parent][0] < 0}
    pairs = [
        (a, b)
        for a in range(len(placed))
        for b in range(a + 1, len(placed))
        if placed[a][1].node != placed[b][1].node and frozenset((placed[a][0], placed[b][0])) not in apart
    ]
    touching = [k for k, (body, one) in enumerate(placed) if one.node >= 0 and frozenset((body, GROUND)) not in apart]
    dry = any(j.friction > 0.0 or j.limits is not None for j in machine.joints.values())
    brakes = any(d.kind == "brake" for d in machine.drives.values())
    rolling = any(isinstance(f, Tyre) and f.rolling_resistance > 0.0 for f in machine.forces.values())
    return layout.Contacts(
        pairs=np.array(pairs, dtype=np.int64).reshape(-1, 2),
        touching=np.array(touching, dtype=np.int64),
        rooted=np.array([placed[k][0] in rooted for k in touching], dtype=np.bool_),
        apart=np.zeros((len(touching), 1), dtype=np.bool_),
        # a shape may stand on the ground in a corner of walls
        capacity=min(MOST_CONTACTS, 8 + 8 * len(touching) + 4 * len(pairs)),
        iterations=30,
        bounded=dry or brakes or rolling,
    )
