"""Energies and poses computed straight from the machine file, sharing nothing with the kernels.

Every body's pose comes from a chain of homogeneous transforms, its velocity from the columns of the geometric
Jacobian. Slow, plain, and therefore a check on the dynamics; also used to draw single poses.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.urdf import rotation

Array = np.ndarray
GRAVITY = 9.81


def poses(machine: Machine, position: Mapping[str, float]) -> dict[str, Array]:
    """Homogeneous transform (4, 4) of every body; joints that `position` leaves out stand at zero."""
    frames = {GROUND: np.eye(4)}
    for name in machine.ordered_joints():
        joint = machine.joints[name]
        place = np.eye(4)
        place[:3, :3] = rotation(*joint.turn)
        place[:3, 3] = joint.origin
        frames[joint.child] = (
            frames[joint.parent] @ place @ _motion(joint.kind, np.array(joint.axis), position.get(name, 0.0))
        )
    return frames


def energies(
    machine: Machine, position: Mapping[str, float], velocity: Mapping[str, float], gravity: float = GRAVITY
) -> tuple[float, float]:
    """Kinetic and potential energy in J; potential energy is zero at the ground's origin and counts springs."""
    frames = poses(machine, position)
    kinetic = potential = 0.0
    above = {joint.child: name for name, joint in machine.joints.items()}
    for name, body in machine.bodies.items():
        centre = frames[name][:3, :3] @ np.array(body.centre) + frames[name][:3, 3]
        linear, angular = np.zeros(3), np.zeros(3)
        at = name
        while at != GROUND:
            joint = machine.joints[above[at]]
            rate = velocity.get(above[at], 0.0)
            if joint.kind != "fixed":
                axis = frames[at][:3, :3] @ np.array(joint.axis)
                if joint.kind == "slider":
                    linear += axis * rate
                else:
                    linear += np.cross(axis, centre - frames[at][:3, 3]) * rate
                    angular += axis * rate
            at = joint.parent
        xx, yy, zz, xy, xz, yz = body.inertia
        turn = frames[name][:3, :3]
        inertia = turn @ np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]]) @ turn.T
        kinetic += 0.5 * body.mass * linear @ linear + 0.5 * angular @ inertia @ angular
        potential += body.mass * gravity * centre[2]
    for name, joint in machine.joints.items():
        kinetic += 0.5 * joint.armature * velocity.get(name, 0.0) ** 2
        potential += 0.5 * joint.stiffness * (position.get(name, 0.0) - joint.rest) ** 2
    return float(kinetic), float(potential)


def _motion(kind: str, axis: Array, amount: float) -> Array:
    frame = np.eye(4)
    if kind == "slider":
        frame[:3, 3] = axis * amount
    elif kind == "hinge":
        cross = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
        frame[:3, :3] = np.eye(3) + np.sin(amount) * cross + (1 - np.cos(amount)) * cross @ cross
    return frame
