"""From a machine to the flat arrays that the kernels read.

Bodies on fixed joints are welded into the moving body that carries them. Everything that may be varied per copy
(masses, damping, drive limits, ...) stands in one row of numbers; what the structure is, in shared arrays.
"""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics import assembly
from plucky_heron.dynamics.energy import GRAVITY, poses, quaternion
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.shapes import build_shapes
from plucky_heron.errors import StateError
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.urdf import rotation

Array = np.ndarray
AIR_DENSITY = 1.225
WATER_DENSITY = 1025.0


@dataclass(frozen=True)
class Model:
    """A machine as arrays; n coordinates ("nodes"), m drives, k bodies.

    Attributes
    ----------
    joints, drives, bodies
        Names of the coordinates (a joint with one coordinate gives it its name), drives and bodies, in array order.
    positions
        Names of the entries of a position: the coordinates, then the scalar part of each attitude.
    tree, drive_table, force_table, shapes, contacts
        What the kernels read besides the row; see `kernels.layout`.
    body_node, body_rotation, body_position : (k,), (k, 9), (k, 3)
        Where each body stands in its node.
    row : (P,)
        Nominal parameters, see `kernels.layout`.
    parameters : name -> (slots, factors, nominal value)
        What may be varied: `row[slots] += factors * (value - nominal)`.
    """

    machine: Machine
    joints: tuple[str, ...]
    positions: tuple[str, ...]
    drives: tuple[str, ...]
    bodies: tuple[str, ...]
    tree: layout.Tree
    drive_table: layout.Drives
    force_table: layout.Forces
    shapes: layout.Shapes
    contacts: layout.Contacts
    body_node: Array
    body_rotation: Array
    body_position: Array
    dead_time: Array
    row: Array
    start: Array
    fill: Array
    memories: int
    parameters: dict[str, tuple[Array, Array, float]]

    def vary(self, rows: Array, copies: Array, name: str, values: Array) -> None:
        """Set the parameter `name` of some `copies` in `rows` (B, P)."""
        slots, factors, nominal = self.parameter(name)
        for slot, factor in zip(slots, factors, strict=True):
            rows[copies, slot] += factor * (values - nominal)

    def parameter(self, name: str) -> tuple[Array, Array, float]:
        """Slots, factors and nominal value of a parameter such as ``"basket.mass"``."""
        if name not in self.parameters:
            near = difflib.get_close_matches(name, [*self.parameters], n=3, cutoff=0.4)
            raise StateError(f"{name} is no parameter of the machine; near it: {', '.join(near or self.parameters)}")
        return self.parameters[name]

    def pose(self, position: Array) -> dict[str, float]:
        """A position (n + balls,) by the names of its entries."""
        return dict(zip(self.positions, np.asarray(position, dtype=float).tolist(), strict=True))

    def speeds(self, velocity: Array) -> dict[str, float]:
        """A velocity (n,) by coordinate."""
        return dict(zip(self.joints, np.asarray(velocity, dtype=float).tolist(), strict=True))

    def attitudes(self) -> list[tuple[str, Array]]:
        """Joint and position indices (x, y, z, scalar) of every attitude."""
        return [
            (self.joints[i].rpartition(".")[0], np.array([i, i + 1, i + 2, self.tree.scalar[i]]))
            for i in range(len(self.joints))
            if self.tree.kind[i] == layout.BALL_X
        ]

    def set_start(self, position: Array, values: Mapping[str, Array | float]) -> None:
        """Set coordinates of `position` (B, n + balls) or (n + balls,); attitudes as roll, pitch, yaw.

        An angle of an attitude that `values` leaves out is zero if another one is given.
        """
        for name, value in values.items():
            if name in self.joints and self.tree.kind[self.joints.index(name)] < layout.BALL_X:
                position[..., self.joints.index(name)] = value
        for joint, entries in self.attitudes():
            angles = [values.get(f"{joint}.{e}") for e in ("rx", "ry", "rz")]
            if any(angle is not None for angle in angles):
                each = np.broadcast_arrays(*[np.asarray(0.0 if a is None else a, dtype=float) for a in angles])
                for index in np.ndindex(each[0].shape):
                    position[(*index, entries)] = quaternion(*(float(e[index]) for e in each))


def build_model(
    machine: Machine, gravity: float = GRAVITY, air_density: float = AIR_DENSITY, water_density: float = WATER_DENSITY
) -> Model:
    """The arrays of a machine; takes well under a millisecond a body."""
    return _Builder(machine).build(gravity, air_density, water_density)


class _Builder:
    def __init__(self, machine: Machine) -> None:
        self.machine = machine
        self.order = machine.ordered_joints()
        self.coordinates = list(machine.coordinates())
        if not self.coordinates:
            raise StateError(f"{machine.name}: has no joint that moves")
        n, m = len(self.coordinates), len(machine.drives)
        forces, couplings = len(machine.forces), len(machine.couplings)
        self.n = n
        self.first_force = n * layout.NODE + m * layout.DRIVE
        self.first_coupling = self.first_force + forces * layout.FORCE
        self.row = np.zeros(self.first_coupling + couplings * layout.COUPLING + layout.TAIL)
        self.parameters: dict[str, tuple[Array, Array, float]] = {}
        self.place: dict[str, tuple[int, Array, Array]] = {GROUND: (-1, np.eye(3), np.zeros(3))}
        balls = sum(j.kind in ("ball", "free") for j in machine.joints.values())
        self.start = np.zeros(n + balls)
        self.positions = list(self.coordinates)
        self.tree = layout.Tree(
            parent=np.full(n, -1, dtype=np.int64),
            kind=np.zeros(n, dtype=np.int64),
            base=np.full(n, -1, dtype=np.int64),
            scalar=np.zeros(n, dtype=np.int64),
            massless=np.ones(n, dtype=np.bool_),
            axis=np.zeros((n, 3)),
            tree_rotation=np.tile(np.eye(3).reshape(9), (n, 1)),
            tree_position=np.zeros((n, 3)),
        )

    def slot(self, name: str, index: int, value: float) -> None:
        """A number that may be varied."""
        self.row[index] = value
        self.parameters[name] = (np.array([index]), np.ones(1), value)

    def build(self, gravity: float, air_density: float, water_density: float) -> Model:
        """Everything in turn."""
        self.joints()
        self.bodies()
        drive_table, dead_time = assembly.drives(self)
        force_table, memories = assembly.forces(self)
        self.row[-layout.TAIL :] = (0.0, 0.0, -gravity, air_density, water_density)
        placed = assembly.placed_shapes(self)
        machine = self.machine
        model = Model(
            machine=machine,
            joints=tuple(self.coordinates),
            positions=tuple(self.positions),
            drives=tuple(machine.drives),
            bodies=tuple(machine.bodies),
            tree=self.tree,
            drive_table=drive_table,
            force_table=force_table,
            shapes=build_shapes([p for _, p in placed]),
            contacts=assembly.contacts(self, placed),
            body_node=np.array([self.place[b][0] for b in machine.bodies], dtype=np.int64),
            body_rotation=np.array([self.place[b][1].reshape(9) for b in machine.bodies]),
            body_position=np.array([self.place[b][2] for b in machine.bodies]),
            dead_time=dead_time,
            row=self.row,
            start=self.start,
            fill=np.array([t.mass * t.fill for t in machine.tanks.values()]),
            memories=memories,
            parameters=self.parameters,
        )
        _set_stops(model)
        return model

    def joints(self) -> None:
        """Nodes of all joints: one a coordinate."""
        tree, scalar = self.tree, self.n
        for name in self.order:
            joint = self.machine.joints[name]
            node, carried_rotation, carried_position = self.place[joint.parent]
            at = carried_position + carried_rotation @ np.array(joint.origin)
            turned = carried_rotation @ rotation(*joint.turn)
            if joint.kind == "fixed":
                self.place[joint.child] = (node, turned, at)
                continue
            first = last = self.coordinates.index(f"{name}.{joint.letters[0]}" if joint.letters[0] else name)
            base = node
            for letter, start in zip(joint.letters, joint.starts, strict=True):
                tree.parent[last] = tree.base[last] = node
                if last == first:
                    tree.tree_rotation[last], tree.tree_position[last] = turned.reshape(9), at
                if letter in ("rx", "ry", "rz"):
                    tree.kind[last] = layout.BALL_X + "xyz".index(letter[1])
                    base = node if letter == "rx" else base
                    tree.base[last] = base
                    if letter == "rx":
                        tree.scalar[last] = scalar
                        self.positions.append(f"{name}.rw")
                        self.start[[last, last + 1, last + 2, scalar]] = quaternion(*joint.starts[-3:])
                        scalar += 1
                else:
                    sliding = letter in ("x", "y", "z") or joint.kind == "slider"
                    tree.kind[last] = layout.SLIDER if sliding else layout.HINGE
                    tree.axis[last] = np.eye(3)["xyz".index(letter)] if letter in ("x", "y", "z") else joint.axis
                    self.start[last] = start
                b = last * layout.NODE
                self.slot(f"{self.coordinates[last]}.damping", b + 10, joint.damping)
                if joint.kind in ("hinge", "slider"):
                    self.slot(f"{name}.stiffness", b + 11, joint.stiffness)
                    self.slot(f"{name}.rest", b + 12, joint.rest)
                    self.slot(f"{name}.armature", b + 17, joint.armature)
                    self.slot(f"{name}.friction", b + 22, joint.friction)
                self.row[b + 13], self.row[b + 14] = joint.limits or (-np.inf, np.inf)
                node, last = last, last + 1
            self.place[joint.child] = (node, np.eye(3), np.zeros(3))

    def bodies(self) -> None:
        """Masses into their nodes."""
        row = self.row
        for name, body in self.machine.bodies.items():
            node, turned, at = self.place[name]
            if node < 0:
                continue
            centre = at + turned @ np.array(body.centre)
            own = turned @ _matrix(np.array(body.inertia)) @ turned.T
            about_origin = own + body.mass * (centre @ centre * np.eye(3) - np.outer(centre, centre))
            numbers = np.concatenate([[body.mass], body.mass * centre, _six(about_origin)])
            slots = np.arange(node * layout.NODE, node * layout.NODE + 10)
            row[slots] += numbers
            if numbers.any():
                self.tree.massless[node] = False
            if body.mass > 0.0:  # a heavier load of the same shape: everything scales with the mass
                self.parameters[f"{name}.mass"] = (slots, numbers / body.mass, body.mass)
            if body.drag_area > 0.0:
                self.tree.massless[node] = False
                _add_drag(row, node * layout.NODE, body.drag_area, body.drag_point, at, turned, centre)
                self.parameters[f"{name}.drag_area"] = (
                    np.array([node * layout.NODE + 18]), np.ones(1), body.drag_area,
                )  # fmt: skip


def mass_matrix(model: Model, position: Array, row: Array | None = None) -> Array:
    """Joint-space mass matrix (n, n) at a pose."""
    _, lower = _dynamics(model, position, np.zeros(len(model.joints)), row)
    full: Array = np.tril(lower) + np.tril(lower, -1).T
    return full


def accelerations(
    model: Model,
    position: Array,
    velocity: Array,
    *,
    row: Array | None = None,
    command: Array | None = None,
    wind: Array | None = None,
) -> Array:
    """Joint accelerations (n,) of one copy whose drives put out `command` (m,) without lag; nothing touches."""
    return _dynamics(model, position, velocity, row, command, wind)[0]


def static_load(model: Model, position: Array, row: Array) -> Array:
    """What gravity and springs push the joints with at rest, (n,) N or N*m."""
    pushed, lower = _dynamics(model, position, np.zeros(len(model.joints)), row)
    return np.asarray((np.tril(lower) + np.tril(lower, -1).T) @ pushed)


def _dynamics(
    model: Model,
    position: Array,
    velocity: Array,
    row: Array | None = None,
    command: Array | None = None,
    wind: Array | None = None,
) -> tuple[Array, Array]:
    from plucky_heron.dynamics.plant import Plant

    plant = Plant(model, 1, 1e-3, threads=1)
    plant.position[0], plant.velocity[0] = position, velocity
    if row is not None:
        plant.rows[0] = row
    if command is not None:
        plant.played[0] = command
    if wind is not None:
        plant.winds[0] = wind
    return plant.free_accelerations()


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
        model.row[b + 15] = stiffness
        model.row[b + 16] = damping if damping is not None else 1.4 * np.sqrt(stiffness * masses[i])


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
            lever = np.cross(axis, frame[:3, :3] @ np.array(part.centre) + frame[:3, 3] - place[:3, 3])
            own = frame[:3, :3].T @ axis
            moved[i] += part.mass * lever @ lever + own @ _matrix(np.array(part.inertia)) @ own
    return moved


def _add_drag(
    row: Array, base: int, area: float, point: tuple[float, ...] | None, at: Array, turned: Array, centre: Array
) -> None:
    where = centre if point is None else at + turned @ np.array(point)
    total = row[base + 18] + area
    row[base + 19 : base + 22] = (row[base + 18] * row[base + 19 : base + 22] + area * where) / total
    row[base + 18] = total


def _matrix(six: Array) -> Array:
    xx, yy, zz, xy, xz, yz = six
    return np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]])


def _six(matrix: Array) -> Array:
    return np.array([matrix[0, 0], matrix[1, 1], matrix[2, 2], matrix[0, 1], matrix[0, 2], matrix[1, 2]])
