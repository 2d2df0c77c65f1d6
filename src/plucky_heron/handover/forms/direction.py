"""What a positive value means, where nobody stated it in words but the machine's geometry tells it."""

from __future__ import annotations

import re

import numpy as np

from plucky_heron.machine.parts import GROUND
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.urdf import rotation
from plucky_heron.task.commanding import Command
from plucky_heron.task.observing import Entry
from plucky_heron.task.problem import Problem

_CHANNEL = re.compile(r"(\w+)\.(\w+)")
EXACT = 1e-6
"""An axis that lies as near as this to one of a body's own is called by its letter."""


def direction_of_joint(machine: Machine, name: str) -> str:
    """What a joint says of its positive direction, else its axis in its parent's frame; nothing of a joint with several coordinates."""
    joint = machine.joints.get(name)
    if joint is None:
        return ""
    if joint.positive or joint.kind not in ("hinge", "slider"):
        return joint.positive
    axis = _axis(rotation(*joint.turn) @ np.array(joint.axis))
    whose = "the site" if joint.parent == GROUND else joint.parent
    return f"{'right-handed about' if joint.kind == 'hinge' else 'along'} {axis} of {whose}"


def direction_of_signal(machine: Machine, name: str) -> str:
    """Of one number that the machine has by this name: ``JOINT.position``, ``JOINT.velocity``, a coordinate; nothing of any other."""
    found = _CHANNEL.fullmatch(name.strip())
    joint = machine.joints.get(found.group(1)) if found is not None else None
    if found is None or joint is None:
        return ""
    # beside a hinge or slider a body may bear the same name, whose place is told in the site's axes
    ours = joint.kind not in ("hinge", "slider") or found.group(2) in ("position", "angle", "velocity", "rate")
    return direction_of_joint(machine, found.group(1)) if ours else ""


def direction_of_entry(machine: Machine, entry: Entry) -> str:
    """Of an observation: as its task states it, else that of the one quantity it is."""
    return entry.positive or (direction_of_signal(machine, entry.formula) if entry.shape == "value" else "")


def direction_of_command(problem: Problem, command: Command) -> str:
    """Of a command: as its task states it, else as the drive does that it goes to, or what that drive acts on."""
    if command.positive or command.drive < 0:
        return command.positive
    drive = problem.machine.drives[problem.model.drives[command.drive]]
    if drive.positive or drive.kind == "brake":
        return drive.positive
    if drive.kind == "thrust":
        return f"pushes {drive.body} along its {_axis(np.array(drive.direction))}"
    return direction_of_joint(problem.machine, drive.joint) if drive.joint is not None else ""


def _axis(direction: np.ndarray) -> str:
    """A direction in words: one of the axes, or its three parts."""
    unit = direction / np.linalg.norm(direction)
    most = int(np.argmax(np.abs(unit)))
    if abs(unit[most]) > 1.0 - EXACT:
        return f"{'-' if unit[most] < 0.0 else ''}{'xyz'[most]}"
    return f"({', '.join(f'{x:.3g}' for x in unit + 0.0)})"
