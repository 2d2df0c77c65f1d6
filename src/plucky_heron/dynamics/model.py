"""From a machine to the flat arrays that the kernels read.

Bodies on fixed joints are welded into the moving body that carries them. Everything that may be varied per copy
(masses, damping, drive limits, ...) stands in one row of numbers; what the structure is, in shared arrays.
"""

from __future__ import annotations

import difflib
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics import kernels
from plucky_heron.dynamics.energy import GRAVITY, energies
from plucky_heron.errors import StateError
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.urdf import rotation

Array = np.ndarray
AIR_DENSITY = 1.225


@dataclass(frozen=True)
class Model:
    """A machine as arrays; n moving joints ("nodes"), m drives, k bodies.

    Attributes
    ----------
    joints, drives, bodies
        Their names, in the order of the arrays.
    parent, kind : int arrays (n,)
        Node that carries each node (-1: ground) and kind of its joint.
    axis, tree_rotation, tree_position : (n, 3), (n, 9), (n, 3)
        Joint axis and the fixed transform from the parent node.
    body_node, body_rotation, body_position : (k,), (k, 9), (k, 3)
        Where each body stands in its node.
    row : (P,)
        Nominal parameters, see `kernels.NODE`, `kernels.DRIVE`, `kernels.TAIL`.
    parameters : name -> (slots, factors, nominal value)
        What may be varied: `row[slots] += factors * (value - nominal)`.
    """

    machine: Machine
    joints: tuple[str, ...]
    drives: tuple[str, ...]
    bodies: tuple[str, ...]
    parent: Array
    kind: Array
    axis: Array
    tree_rotation: Array
    tree_position: Array
    body_node: Array
    body_rotation: Array
    body_position: Array
    drive_joint: Array
    drive_kind: Array
    dead_time: Array
    row: Array
    start: Array
    parameters: dict[str, tuple[Array, Array, float]]

    @property
    def structure(self) -> tuple[Array, ...]:
        """The arguments that every kernel takes first."""
        return self.parent, self.kind, self.axis, self.tree_rotation, self.tree_position

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


def build_model(machine: Machine, gravity: float = GRAVITY, air_density: float = AIR_DENSITY) -> Model:
    """The arrays of a machine; takes well under a millisecond a body."""
    order = machine.ordered_joints()
    moving = [name for name in order if machine.joints[name].kind != "fixed"]
    if not moving:
        raise StateError(f"{machine.name}: has no joint that moves")
    node_of = {name: i for i, name in enumerate(moving)}
    n, m = len(moving), len(machine.drives)
    place: dict[str, tuple[int, Array, Array]] = {GROUND: (-1, np.eye(3), np.zeros(3))}
    parent = np.full(n, -1, dtype=np.int64)
    kind = np.zeros(n, dtype=np.int64)
    axis, tree_rotation, tree_position = np.zeros((n, 3)), np.zeros((n, 3, 3)), np.zeros((n, 3))
    row = np.zeros(n * kernels.NODE + m * kernels.DRIVE + kernels.TAIL)
    parameters: dict[str, tuple[Array, Array, float]] = {}

    def slot(name: str, index: int, value: float) -> None:
        row[index] = value
        parameters[name] = (np.array([index]), np.ones(1), value)

    for name in order:
        joint = machine.joints[name]
        node, carried_rotation, carried_position = place[joint.parent]
        at = carried_position + carried_rotation @ np.array(joint.origin)
        turned = carried_rotation @ rotation(*joint.turn)
        if joint.kind == "fixed":
            place[joint.child] = (node, turned, at)
            continue
        i = node_of[name]
        parent[i], tree_rotation[i], tree_position[i] = node, turned, at
        kind[i] = kernels.SLIDER if joint.kind == "slider" else kernels.HINGE
        axis[i] = joint.axis
        place[joint.child] = (i, np.eye(3), np.zeros(3))
        b = i * kernels.NODE
        slot(f"{name}.damping", b + 10, joint.damping)
        slot(f"{name}.stiffness", b + 11, joint.stiffness)
        slot(f"{name}.rest", b + 12, joint.rest)
        row[b + 13], row[b + 14] = joint.limits or (-np.inf, np.inf)
        slot(f"{name}.armature", b + 17, joint.armature)

    for name, body in machine.bodies.items():
        node, turned, at = place[name]
        if node < 0:
            continue
        centre = at + turned @ np.array(body.centre)
        moments = np.array(body.inertia)
        own = turned @ _matrix(moments) @ turned.T
        about_origin = own + body.mass * (centre @ centre * np.eye(3) - np.outer(centre, centre))
        numbers = np.concatenate([[body.mass], body.mass * centre, _six(about_origin)])
        slots = np.arange(node * kernels.NODE, node * kernels.NODE + 10)
        row[slots] += numbers
        if body.mass > 0.0:  # a heavier load of the same shape: everything scales with the mass
            parameters[f"{name}.mass"] = (slots, numbers / body.mass, body.mass)
        if body.drag_area > 0.0:
            _add_drag(row, node * kernels.NODE, body.drag_area, body.drag_point, at, turned, centre)
            parameters[f"{name}.drag_area"] = (np.array([node * kernels.NODE + 18]), np.ones(1), body.drag_area)

    drive_joint, drive_kind = np.zeros(m, dtype=np.int64), np.zeros(m, dtype=np.int64)
    dead_time = np.zeros(m)
    for a, (name, drive) in enumerate(machine.drives.items()):
        b = n * kernels.NODE + a * kernels.DRIVE
        drive_joint[a] = node_of[drive.joint]
        drive_kind[a] = kernels.SPEED if drive.kind == "speed" else kernels.EFFORT
        dead_time[a] = drive.dead_time
        slot(f"{name}.limit", b, float(drive.limit))
        slot(f"{name}.gain", b + 1, float(drive.gain))
        slot(f"{name}.integral_gain", b + 2, float(drive.integral_gain))
        slot(f"{name}.lag", b + 3, drive.lag)
        row[b + 4] = machine.command_limit(name)
    row[-kernels.TAIL :] = (0.0, 0.0, -gravity, air_density)
    bodies = tuple(machine.bodies)
    model = Model(
        machine=machine,
        joints=tuple(moving),
        drives=tuple(machine.drives),
        bodies=bodies,
        parent=parent,
        kind=kind,
        axis=axis,
        tree_rotation=np.ascontiguousarray(tree_rotation.reshape(n, 9)),
        tree_position=tree_position,
        body_node=np.array([place[b][0] for b in bodies], dtype=np.int64),
        body_rotation=np.array([place[b][1].reshape(9) for b in bodies]),
        body_position=np.array([place[b][2] for b in bodies]),
        drive_joint=drive_joint,
        drive_kind=drive_kind,
        dead_time=dead_time,
        row=row,
        start=np.array([machine.joints[j].start for j in moving]),
        parameters=parameters,
    )
    _set_stops(model)
    return model


def mass_matrix(model: Model, position: Array, row: Array | None = None) -> Array:
    """Joint-space mass matrix (n, n) at a pose."""
    _, lower = _dynamics(model, position, np.zeros_like(position), row)
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
    """Joint accelerations (n,) of one copy whose drives put out `command` (m,) without lag."""
    return _dynamics(model, position, velocity, row, command, wind)[0]


def _dynamics(
    model: Model,
    position: Array,
    velocity: Array,
    row: Array | None = None,
    command: Array | None = None,
    wind: Array | None = None,
) -> tuple[Array, Array]:
    drives = len(model.drives)
    result: tuple[Array, Array] = kernels.accelerations(
        *model.structure, model.drive_joint, model.drive_kind, model.row if row is None else row,
        np.zeros(3) if wind is None else np.asarray(wind, dtype=float), np.asarray(position, dtype=float),
        np.asarray(velocity, dtype=float), np.zeros(drives) if command is None else np.asarray(command, dtype=float),
        np.zeros(drives),
    )  # fmt: skip
    return result


def _set_stops(model: Model) -> None:
    """Stops that the file leaves open: a 15 Hz bounce of what the joint carries, damped at 0.7."""
    masses = _carried(model)
    pulse = 2.0 * np.pi * 15.0
    for i, name in enumerate(model.joints):
        joint = model.machine.joints[name]
        b = i * kernels.NODE
        stiffness = joint.stop_stiffness if joint.stop_stiffness is not None else masses[i] * pulse**2
        damping = joint.stop_damping
        model.row[b + 15] = stiffness
        model.row[b + 16] = damping if damping is not None else 1.4 * np.sqrt(stiffness * masses[i])


def _carried(model: Model) -> Array:
    """Diagonal of the mass matrix at the start pose, from the kinetic energy of each joint moving alone.

    Not by the kernels: building a model should not have to load them.
    """
    start = dict(zip(model.joints, model.start.tolist(), strict=True))
    return np.array([2.0 * energies(model.machine, start, {joint: 1.0})[0] for joint in model.joints])


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
