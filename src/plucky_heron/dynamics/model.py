"""A machine as flat arrays that the kernels read.

Everything that may be varied per copy
(masses, damping, drive limits, ...) stands in one row of numbers; what the structure is, in shared arrays.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics.energy import quaternion
from plucky_heron.dynamics.kernels import layout
from plucky_heron.errors import StateError, did_you_mean
from plucky_heron.machine.schema import Machine

Array = np.ndarray


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
        """Slots (k,) of `row`, factors (k,) and nominal value of a parameter such as ``"basket.mass"``."""
        if name not in self.parameters:
            raise StateError(f"{name} is no parameter of the machine; {did_you_mean(name, self.parameters)}")
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
