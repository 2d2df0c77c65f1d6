"""Drives of an imported machine: of wheels by weight, and those that take positions or speeds instead of efforts."""

from __future__ import annotations

from typing import Any

import numpy as np
import tomlkit

from plucky_heron.dynamics.plant import mass_matrix
from plucky_heron.machine import editing
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.importing import ImportReport, assume
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.poses import Poses

GRADE = 0.3
"""Grade that wheels without a stated effort are given the strength for."""
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
    inertia = np.diag(mass_matrix(poses.model, poses.model.start))
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


def drives(machine: Machine, document: tomlkit.TOMLDocument, report: ImportReport) -> None:
    """Drives for a file that names none and no limits either: of wheels by weight, of others a plain number."""
    look = Look(machine, Site())
    moving = [joint for joint, part in machine.joints.items() if part.kind in ("hinge", "slider")]
    wheels = [joint for joint in moving if joint in look.wheels and look.base]
    for joint in wheels:
        effort = nice(GRADE * look.mass * 9.81 * look.wheels[joint] / len(wheels))
        editing.put_part(document, "drives", f"{joint}_drive", {"kind": "effort", "joint": joint, "limit": f"{effort:g} N*m"})  # fmt: skip
        words = (
            f"joint {joint}: no effort limit is given; its wheel gets what is enough for a grade of {100 * GRADE:.0f} %"
        )
        assume(report, document, ("drives", f"{joint}_drive", "limit"), words)
    rest = [joint for joint in moving if joint not in wheels]
    for joint in rest if not wheels else []:
        drive = editing.add_drive(document, machine, joint)
        assume(
            report, document, ("drives", drive, "limit"), f"joint {joint}: no effort limit is given; set what it can do"
        )
