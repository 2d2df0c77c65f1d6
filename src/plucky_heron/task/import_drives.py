"""Drives of an imported machine: of wheels by weight, and those that take positions or speeds instead of efforts."""

from __future__ import annotations

from typing import Any

import numpy as np
import tomlkit

from plucky_heron.dynamics.plant import static_loads
from plucky_heron.dynamics.posing import joint_above
from plucky_heron.files import parse_toml, validate
from plucky_heron.machine import editing
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.import_legs import joints_of
from plucky_heron.task.importing import ImportReport, assume
from plucky_heron.task.wishes.look import LOADED, Look, nice
from plucky_heron.task.wishes.poses import Poses

GRADE = 0.3
"""Grade that wheels without a stated effort are given the strength for."""
TRAIL = 0.1
"""Share of a wheel's radius by which it is beside the axis of its swivel, if it is a caster."""
GIVES = 0.25
"""Error (rad; of sliders this share of a tenth of their way) at which a position drive has its whole effort."""
SLIPS = 0.1
"""Share of its top speed by which a speed drive is off when it has its whole effort."""
SETTLES = (0.02, 0.1)
"""Seconds: least and most of a position drive's rate gain over its gain."""
MADE_UP = 0.2
"""Seconds in which a speed drive makes up for what it carries."""


def commanded(machine: Machine, document: tomlkit.TOMLDocument, report: ImportReport, kinds: dict[str, str], why: str) -> None:  # fmt: skip
    """Let drives of joints take positions or speeds: kinds by joint."""
    poses = Poses(machine, Site())
    inertia = poses.inertia(poses.model.start[None])[0]
    for name, drive in machine.drives.items():
        joint = str(drive.joint)
        kind, limit = kinds.get(joint, "effort"), float(drive.limit)
        entry: Any = document["drives"][name]
        if drive.kind != "effort" or kind == "effort":
            continue
        if kind == "position":
            gain = float(f"{limit / _give(machine, joint):.2g}")
            rate = float(np.clip(2.0 * np.sqrt(inertia[poses.index(joint)] / gain), *SETTLES)) * gain
            entry |= {"kind": "position", "gain": gain, "rate_gain": float(f"{rate:.2g}")}
            assume(report, document, ("drives", name, "gain"), f"joint {joint}: takes positions, {why}; full effort at an error of {limit / gain:.2g} {machine.joints[joint].unit}")  # fmt: skip
            assume(report, document, ("drives", name, "rate_gain"), f"joint {joint}: its servo settles")
            continue
        top = float(drive.no_load_speed or 0.0)
        if top <= 0.0:
            report.converted.append(f"joint {joint}: takes efforts: speeds want a velocity limit")
            continue
        gain = float(f"{limit / (SLIPS * top):.2g}")
        entry |= {"kind": "speed", "top_speed": top, "gain": gain, "integral_gain": float(f"{gain / MADE_UP:.2g}")}
        del entry["no_load_speed"]
        report.assumed[:] = [a for a in report.assumed if a.where != ("drives", name, "no_load_speed")]
        assume(report, document, ("drives", name, "gain"), f"joint {joint}: takes speeds, {why}; full effort at a tenth of its velocity limit")  # fmt: skip


def _give(machine: Machine, joint: str) -> float:
    """Error (rad, m) at which a servo has its whole effort."""
    part = machine.joints[joint]
    if part.unit == "rad":
        return GIVES
    return 0.1 * GIVES * (part.limits[1] - part.limits[0] if part.limits else 1.0)


def drives(machine: Machine, document: tomlkit.TOMLDocument, report: ImportReport, legs: list[str]) -> Machine:
    """Drives for wheels of which none has one, by weight; and for all else by what it carries, where nothing at all has a drive.

    Casters turn freely.
    """
    look = Look(machine, Site())
    moving = [joint for joint, part in machine.joints.items() if part.kind in ("hinge", "slider")]
    free = {joint for wheel in look.wheels for joint in _caster(machine, look, wheel)}
    wheels = [joint for joint in moving if joint in look.wheels and look.base and joint not in free]
    if set(wheels) & set(look.driven):
        wheels = []
    report.assumed[:] = [a for a in report.assumed if a.where[:2] not in [("drives", joint) for joint in wheels]]

    def give(joint: str, effort: float, words: str) -> None:
        drive = editing.add_drive(document, machine, joint)
        entry: Any = document["drives"][drive]
        entry["limit"] = f"{nice(effort):g} {'N' if machine.joints[joint].unit == 'm' else 'N*m'}"
        assume(report, document, ("drives", drive, "limit"), f"joint {joint}: no effort limit is given; {words}")

    efforts = {j: GRADE * look.mass * 9.81 * look.wheels[j] / len(wheels) for j in wheels}
    for wheel, effort in efforts.items():
        give(wheel, effort, f"its wheel gets what is enough for a grade of {100 * GRADE:.0f} %")
    followers = {c.joint for c in machine.couplings.values()}
    rest = [joint for joint in moving if joint not in {*look.wheels, *free, *followers}]
    if machine.drives:
        rest = []
    rolling = {machine.joints[j].child for j in look.wheels}
    of_legs = {j for leg in legs for j in joints_of(machine, leg)}
    above = [j for j in rest if machine.carried_by(machine.joints[j].child) & rolling]
    for joint in above:  # what is above a wheel and does not steer it is a suspension, beside wheels that are driven
        if joint in look.steering and joint not in of_legs:
            give(joint, max(efforts.values()), "to steer with it gets as much as a wheel")
    carrying = [j for j in rest if not (wheels and j in above) or j in of_legs]
    for joint, effort in _carried(machine, legs, carrying).items():
        give(joint, effort, "it gets twice what it carries and a motion within a second ask for")
    return validate(Machine, parse_toml(tomlkit.dumps(document), "URDF"), "URDF")


def _carried(machine: Machine, legs: list[str], joints: list[str]) -> dict[str, float]:
    """Effort (N m, N) that each joint needs: twice what gravity takes on its way, a leg's share of all weight, and a motion within a second."""
    if not joints:
        return {}
    poses = Poses(machine, Site())
    positions = poses.sampled(joints, 1.0, LOADED)
    loads = np.abs(static_loads(poses.model, positions, poses.model.row)).max(axis=0)
    inertia = poses.inertia(positions).max(axis=0)
    start = poses.model.start[None]
    high = float(poses.heights(start)[0] - poses.lowest(start)[0])
    found = {}
    for joint in joints:
        part, k = machine.joints[joint], poses.index(joint)
        low, top = poses.span(joint, free=1.5)
        weight = poses.mass * 9.81 / max(len(legs), 1) * (high if part.unit == "rad" else 1.0)
        on_legs = any(joint in joints_of(machine, leg) for leg in legs)
        lifts = 9.81 * float(inertia[k]) if part.unit == "m" else 0.0  # of a slider this is a mass
        carries = max(float(loads[k]), lifts, weight if on_legs else 0.0)
        found[joint] = (
            2.0 * carries + 2.0 * float(inertia[k]) * (top - low) + part.friction + part.damping * (top - low)
        )
    return found


def _caster(machine: Machine, look: Look, wheel: str) -> set[str]:
    """A wheel that trails behind a swivel, and its swivel; nothing where it is none."""
    parent = machine.joints[wheel].parent
    swivel = joint_above(look.model, parent)
    part = machine.joints.get(swivel)
    if part is None or part.kind != "hinge" or part.limits is not None or swivel in look.driven:
        return set()
    frames, bodies = look.frames(look.model.start[None])[0], look.model.bodies
    at = frames[bodies.index(part.child)]
    away = frames[bodies.index(machine.joints[wheel].child)][:3] - at[:3]
    trail = np.cross(at[3:].reshape(3, 3) @ np.array(part.axis, dtype=float), away)
    named = any(word in f"{swivel} {parent} {wheel}".lower() for word in ("caster", "castor"))
    return {wheel, swivel} if named or np.linalg.norm(trail) > TRAIL * look.wheels[wheel] else set()
