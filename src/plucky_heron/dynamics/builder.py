"""Joints and bodies of a machine into nodes: the first half of its arrays, and where each body stands in them.

Bodies on fixed joints are welded into the moving body that carries them.
"""

from __future__ import annotations

import numpy as np

from plucky_heron.dynamics.energy import quaternion
from plucky_heron.dynamics.kernels import layout
from plucky_heron.errors import StateError
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.urdf import rotation

Array = np.ndarray


class Builder:
    """The arrays of a machine while they are filled."""

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
            way=np.zeros((n, n), dtype=np.uint64),
            depth=np.zeros(n, dtype=np.int64),
        )

    def slot(self, name: str, index: int, value: float) -> None:
        """A number that may be varied."""
        self.row[index] = value
        self.parameters[name] = (np.array([index]), np.ones(1), value)

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
                damping = joint.damping
                if letter in ("x", "y", "z") and joint.slide_damping is not None:
                    damping = joint.slide_damping
                self.slot(f"{self.coordinates[last]}.damping", b + layout.JOINT_DAMPING, damping)
                if joint.kind in ("hinge", "slider"):
                    self.slot(f"{name}.stiffness", b + layout.JOINT_STIFFNESS, joint.stiffness)
                    self.slot(f"{name}.rest", b + layout.JOINT_REST, joint.rest)
                    self.slot(f"{name}.armature", b + layout.ARMATURE, joint.armature)
                    # a slider's motor may turn anywhere: what its rotor does to its carrier is not known
                    self.row[b + layout.GEARED] = 1.0 / joint.gear if joint.kind == "hinge" else 0.0
                    self.slot(f"{name}.friction", b + layout.DRY_FRICTION, joint.friction)
                self.row[b + layout.LOWER_STOP], self.row[b + layout.UPPER_STOP] = joint.limits or (-np.inf, np.inf)
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
            own = turned @ matrix_of(np.array(body.inertia)) @ turned.T
            about_origin = own + body.mass * (centre @ centre * np.eye(3) - np.outer(centre, centre))
            numbers = np.concatenate([[body.mass], body.mass * centre, _six(about_origin)])
            slots = node * layout.NODE + np.arange(layout.MASS, layout.INERTIA + 6)
            row[slots] += numbers
            if numbers.any():
                self.tree.massless[node] = False
            if body.mass > 0.0:  # a heavier load of the same shape: everything scales with the mass
                self.parameters[f"{name}.mass"] = (slots, numbers / body.mass, body.mass)
            if body.drag_area > 0.0:
                self.tree.massless[node] = False
                _add_drag(row, node * layout.NODE, body.drag_area, body.drag_point, at, turned, centre)
                self.parameters[f"{name}.drag_area"] = (
                    np.array([node * layout.NODE + layout.DRAG_AREA]), np.ones(1), body.drag_area,
                )  # fmt: skip


def _add_drag(
    row: Array, base: int, area: float, point: tuple[float, ...] | None, at: Array, turned: Array, centre: Array
) -> None:
    where = centre if point is None else at + turned @ np.array(point)
    before, point_at = row[base + layout.DRAG_AREA], slice(base + layout.DRAG_POINT, base + layout.DRAG_POINT + 3)
    row[point_at] = (before * row[point_at] + area * where) / (before + area)
    row[base + layout.DRAG_AREA] = before + area


def matrix_of(six: Array) -> Array:
    xx, yy, zz, xy, xz, yz = six
    return np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]])


def _six(matrix: Array) -> Array:
    return np.array([matrix[0, 0], matrix[1, 1], matrix[2, 2], matrix[0, 1], matrix[0, 2], matrix[1, 2]])
