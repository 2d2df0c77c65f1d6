"""Poles of a machine with its drives: how fast it moves by itself."""

from __future__ import annotations

import numpy as np

from plucky_heron.control.regulator import linearise
from plucky_heron.dynamics.plant import mass_matrix
from plucky_heron.errors import StateError
from plucky_heron.task.problem import Problem

Array = np.ndarray


def poles_of(problem: Problem, position: Array, pose: Array | None = None) -> Array:
    """Poles (k,), complex, 1/s, of the machine with its drives: of its linearisation, or, where it turns freely, of its joints alone."""
    if problem.model.attitudes():
        return _joint_poles(problem, position)
    try:
        with np.errstate(all="ignore"):
            found = np.linalg.eigvals(linearise(problem, pose).transition)
        # what changes sign from sample to sample is a contact that opens and closes in the differences, no motion
        moves = (np.abs(found) > 1e-9) & ~((found.real < 0.0) & (np.abs(found.imag) < 1e-6 * np.abs(found)))
        return np.asarray(np.log(found[moves].astype(complex)) / problem.sample_time)
    except (StateError, np.linalg.LinAlgError):
        return _joint_poles(problem, position)


def _joint_poles(problem: Problem, position: Array) -> Array:
    """A machine that turns freely: its joints alone, the base free to give way.

    Poles of M q'' + C q' + K q = 0 with the springs, dampers and servos of the joints; without gravity and contact."""
    machine, model = problem.machine, problem.model
    n = len(model.joints)
    stiffness, damping = np.zeros(n), np.zeros(n)
    for name, joint in machine.joints.items():
        if joint.kind in ("hinge", "slider"):
            i = model.joints.index(name)
            stiffness[i], damping[i] = joint.stiffness, joint.damping
    for drive in machine.drives.values():
        if drive.kind in ("position", "speed"):
            i = model.joints.index(str(drive.joint))
            stiffness[i] += float(drive.gain) if drive.kind == "position" else float(drive.integral_gain)
            damping[i] += float(drive.rate_gain) if drive.kind == "position" else float(drive.gain)
    try:
        inverse = np.linalg.inv(mass_matrix(model, position))
        system = np.block([[np.zeros((n, n)), np.eye(n)], [-inverse * stiffness, -inverse * damping]])
        poles = np.linalg.eigvals(system)
    except np.linalg.LinAlgError:  # a joint with nothing on it; `machine_problems` says so
        return np.zeros(0)
    return np.asarray(poles[np.abs(poles) > 1e-6])
