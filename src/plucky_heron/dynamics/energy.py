"""Energies and poses computed straight from the machine file, sharing nothing with the kernels.

Every body's pose comes from a chain of homogeneous transforms, its velocity from the columns of the geometric
Jacobian. Slow, plain, and therefore a check on the dynamics; also used to draw single poses.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from plucky_heron.machine.schema import GROUND, Joint, Machine
from plucky_heron.machine.urdf import rotation

Array = np.ndarray
GRAVITY = 9.81


def poses(machine: Machine, position: Mapping[str, float]) -> dict[str, Array]:
    """Homogeneous transform (4, 4) of every body; joints that `position` leaves out stand at zero."""
    frames = {GROUND: np.eye(4)}
    for name in machine.ordered_joints():
        joint = machine.joints[name]
        frames[joint.child] = frames[joint.parent] @ step_of(machine, name, position)
    return frames


def step_of(machine: Machine, name: str, position: Mapping[str, float]) -> Array:
    """Homogeneous transform (4, 4) from a joint's parent to its child."""
    joint = machine.joints[name]
    place = np.eye(4)
    place[:3, :3] = rotation(*joint.turn)
    place[:3, 3] = joint.origin
    moved: Array = place @ _motion(name, joint, position)
    return moved


def energies(
    machine: Machine, position: Mapping[str, float], velocity: Mapping[str, float], gravity: float = GRAVITY
) -> tuple[float, float]:
    """Kinetic and potential energy in J; potential energy is zero at the ground's origin and counts joint springs.

    `position` and `velocity` go by coordinate (`Machine.coordinates`); the speeds of balls and free joints are the
    body's own rates.
    """
    frames = poses(machine, position)
    moving = motions(machine, frames, velocity)
    kinetic = potential = 0.0
    for name, body in machine.bodies.items():
        centre, linear, angular = moving[name]
        xx, yy, zz, xy, xz, yz = body.inertia
        turn = frames[name][:3, :3]
        inertia = turn @ np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]]) @ turn.T
        kinetic += 0.5 * body.mass * linear @ linear + 0.5 * angular @ inertia @ angular
        potential += body.mass * gravity * centre[2]
    for name, joint in machine.joints.items():
        if joint.kind in ("hinge", "slider"):
            rate = velocity.get(name, 0.0)
            if joint.kind == "hinge":
                carrier = moving[joint.parent][2] if joint.parent != GROUND else np.zeros(3)
                rate += float(frames[joint.child][:3, :3] @ np.array(joint.axis) @ carrier) / joint.gear
            kinetic += 0.5 * joint.armature * rate**2
            potential += 0.5 * joint.stiffness * (position.get(name, 0.0) - joint.rest) ** 2
    return float(kinetic), float(potential)


def momenta(machine: Machine, position: Mapping[str, float], velocity: Mapping[str, float]) -> tuple[Array, Array]:
    """Linear (3,) and angular momentum (3,) about the ground's origin of all bodies, in world axes; N s, N m s."""
    frames = poses(machine, position)
    moving = motions(machine, frames, velocity)
    linear, angular = np.zeros(3), np.zeros(3)
    for name, body in machine.bodies.items():
        centre, speed, rates = moving[name]
        xx, yy, zz, xy, xz, yz = body.inertia
        turn = frames[name][:3, :3]
        inertia = turn @ np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]]) @ turn.T
        linear += body.mass * speed
        angular += body.mass * _cross(centre, speed) + inertia @ rates
    for name, joint in machine.joints.items():
        if joint.kind == "hinge" and joint.armature > 0.0 and joint.parent != GROUND:
            axis = frames[joint.child][:3, :3] @ np.array(joint.axis)
            spin = velocity.get(name, 0.0) + float(axis @ moving[joint.parent][2]) / joint.gear
            angular += joint.armature / joint.gear * spin * axis
    return linear, angular


def motions(
    machine: Machine, frames: Mapping[str, Array], velocity: Mapping[str, float]
) -> dict[str, tuple[Array, Array, Array]]:
    """Of every body its centre of mass, the velocity of that, and its angular velocity, (3,) each, from the ground outwards."""
    linear, angular = {GROUND: np.zeros(3)}, {GROUND: np.zeros(3)}
    found: dict[str, tuple[Array, Array, Array]] = {}
    for name in machine.ordered_joints():
        joint = machine.joints[name]
        frame, parent = frames[joint.child], frames[joint.parent]
        rates = angular[joint.parent].copy()
        speed = linear[joint.parent] + _cross(rates, frame[:3, 3] - parent[:3, 3])
        before = parent[:3, :3] @ rotation(*joint.turn)
        for letter in joint.letters:
            rate = velocity.get(f"{name}.{letter}" if letter else name, 0.0)
            if letter in ("x", "y", "z"):
                speed += before[:, "xyz".index(letter)] * rate
            elif letter in ("rx", "ry", "rz"):
                rates += frame[:3, "xyz".index(letter[1])] * rate
            elif joint.kind == "slider":
                speed += frame[:3, :3] @ np.array(joint.axis) * rate
            else:
                rates += frame[:3, :3] @ np.array(joint.axis) * rate
        linear[joint.child], angular[joint.child] = speed, rates
        arm = frame[:3, :3] @ np.array(machine.bodies[joint.child].centre)
        found[joint.child] = (frame[:3, 3] + arm, speed + _cross(rates, arm), rates)
    return found


def _cross(a: Array, b: Array) -> Array:
    """Vector product of two single vectors; NumPy's own is made for many and takes ten times as long."""
    (ax, ay, az), (bx, by, bz) = a.tolist(), b.tolist()
    return np.array([ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx])


def _motion(name: str, joint: Joint, position: Mapping[str, float]) -> Array:
    """Transform of the child of a joint against the joint's own place."""
    frame = np.eye(4)
    axis = np.array(joint.axis)
    if joint.kind == "slider":
        frame[:3, 3] = axis * position.get(name, 0.0)
    elif joint.kind == "hinge":
        frame[:3, :3] = _turned(axis, position.get(name, 0.0))
    elif joint.kind in ("planar", "free", "ball"):
        for letter in joint.letters:
            if letter in ("x", "y", "z"):
                frame["xyz".index(letter), 3] = position.get(f"{name}.{letter}", 0.0)
        if joint.kind == "planar":
            frame[:3, :3] = _turned(axis, position.get(f"{name}.turn", 0.0))
        else:
            frame[:3, :3] = attitude(
                [position.get(f"{name}.{e}", d) for e, d in (("rx", 0), ("ry", 0), ("rz", 0), ("rw", 1))]
            )
    return frame


def attitude(quaternion: Sequence[float]) -> Array:
    """Rotation matrix of a quaternion (x, y, z, scalar)."""
    x, y, z, w = np.array(quaternion, dtype=float) / np.linalg.norm(quaternion)
    cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.asarray(np.eye(3) + 2.0 * w * cross + 2.0 * cross @ cross)


def quaternion(roll: float, pitch: float, yaw: float) -> Array:
    """Quaternion (x, y, z, scalar) of Rz(yaw) Ry(pitch) Rx(roll)."""
    x, y, z = (np.array([np.sin(a / 2), np.cos(a / 2)]) for a in (roll, pitch, yaw))
    return np.array([
        x[0] * y[1] * z[1] - x[1] * y[0] * z[0], x[1] * y[0] * z[1] + x[0] * y[1] * z[0],
        x[1] * y[1] * z[0] - x[0] * y[0] * z[1], x[1] * y[1] * z[1] + x[0] * y[0] * z[0],
    ])  # fmt: skip


def _turned(axis: Array, amount: float) -> Array:
    cross = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    return np.asarray(np.eye(3) + np.sin(amount) * cross + (1 - np.cos(amount)) * cross @ cross)
