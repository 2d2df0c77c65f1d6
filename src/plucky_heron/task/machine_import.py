"""Bringing a URDF into a project: as a machine of ours that stands or travels, a site under it, and a task.

What the file does not say is assumed, and each thing assumed is a line of the report.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import Element

import numpy as np
import tomlkit

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.inertia import without_inertia
from plucky_heron.dynamics.mass import solid
from plucky_heron.errors import FileError, UnitError
from plucky_heron.files import parse_toml, validate
from plucky_heron.machine import editing
from plucky_heron.machine.parts import Shape
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import read_urdf
from plucky_heron.machine.xml import read_xml
from plucky_heron.task.import_drives import commanded, drives
from plucky_heron.task.import_legs import joints_of, legs_of, standing
from plucky_heron.task.importing import NO_DRIVE, Assumed, ImportReport, as_document, assume, plain_name
from plucky_heron.task.problem import bind
from plucky_heron.task.schema import Task
from plucky_heron.task.wishes.draft import Draft
from plucky_heron.task.wishes.look import Look, look_at, nice
from plucky_heron.task.wishes.vehicle import own_motion
from plucky_heron.task.wishes.writing import written_on
from plucky_heron.units import parse, plain_number
from plucky_heron.upgrading import FORMAT

LEVEL_GROUND = '[terrain]\nkind = "flat"\n'
DENSITY = 500.0
"""Of links whose file says no masses (kg/m**3): a machine is about half air."""
ORDER = ("drives", "joints", "bodies")
"""In which assumptions are told: first what a machine can do."""
TAKES = ("effort", "speed", "position")
"""What drives of an imported machine may be commanded by."""


def machine_from_urdf(
    source: Path,
    free: bool | None = None,
    wish: str = "",
    answers: Mapping[str, str | float] | None = None,
    folder: Path | None = None,
    name: str = "",
    numbers: Mapping[str, str] | None = None,
    takes: str = "",
) -> ImportReport:
    """A URDF as a machine of ours, its meshes as hulls of corners, with a plain site and a task.

    Parameters
    ----------
    free
        Whether its root link moves freely; left out, it does where it has wheels or stands on legs.
    wish
        What the task is written from; left out, it is one in which the machine can be seen and let go.
    folder
        The project it is for, so that names that are taken there are not taken again.
    numbers
        Other values for what would be assumed, by the keys of the report's `assumed`, as they are written in the file; what nothing
        is assumed for is not looked at.
    takes
        What its drives are commanded by, one of `TAKES`; left out, what the file says, else positions of legs, of what
        steers and of arms on the move, and efforts of all else.

    Raises
    ------
    FileError
        Not a URDF that can be a machine, or a number that cannot stand where it should.
    """
    if free is None:
        free = travels(source)
    found = read_urdf(source, free, weigh=True)
    machine, name = found.machine, name or plain_name(source)
    report = ImportReport(name, task=name)
    for note in found.notes:
        (report.left_out if re.search(r"left out|ignored|not ", note) else report.converted).append(note)
    report.converted.append(
        "its first link moves freely, on level ground"
        if free
        else "its first link is fixed to the ground at the origin"
    )
    if not any(joint.kind in ("hinge", "slider") for joint in machine.joints.values()):
        welded = "".join(f"; {note}" for note in found.notes if "is welded" in note)
        raise FileError(
            source, "joint", None, f"has no hinge or slider; a machine of ours needs one that a drive can move{welded}"
        )
    document = as_document(machine, f"Imported from {source.name}.")
    for where, words in found.assumed:
        assume(report, document, where, words)
    machine = _weighed(source, machine, document, report, found.unweighed, numbers or {})
    shapes = [shape for body in machine.bodies.values() for shape in body.shapes]
    kinds = Counter(joint.kind for joint in machine.joints.values())
    report.read = [
        f"{len(machine.bodies)} bodies, {sum(b.mass for b in machine.bodies.values()):.4g} kg",
        ", ".join(f"{count} {kind}" for kind, count in kinds.items()) + " joints",
        f"{len(shapes)} shapes, {sum(s.kind == 'hull' for s in shapes)} of them convex hulls of meshes",
        f"{len(machine.drives)} drives, {len(machine.couplings)} couplings",
    ]
    legs = legs_of(machine) if free else []
    machine = _starts(machine, document, report, legs)
    machine = drives(machine, document, report, legs)
    if not machine.drives:
        raise FileError(source, "joint", None, "has no drive, and all that moves rolls freely; give one a <limit effort> above zero")  # fmt: skip
    if takes or found.commanded:
        kinds_of = dict.fromkeys(machine.joints, takes) if takes else found.commanded
        commanded(machine, document, report, kinds_of, "as was asked" if takes else "as the file says")
    elif free:
        _held(machine, document, report, legs)
    if free:
        _on_the_ground(machine, document, report)
    _set_otherwise(report, document, numbers or {})
    report.assumed.sort(key=lambda a: ORDER.index(str(a.where[0])))
    text = tomlkit.dumps(document)
    machine = validate(Machine, parse_toml(text, source), source)
    site_text = f'# Made for {name}: still air{", level ground" if free else ""}.\nformat = {FORMAT}\nname = "{name} place"\n{LEVEL_GROUND if free else ""}'  # fmt: skip
    site = validate(Site, parse_toml(site_text, source), source)
    paths = f"machines/{name}.toml", f"sites/{name}_place.toml"
    texts = {paths[0]: text, paths[1]: site_text}
    if wish:
        made = written_on(folder or source.parent, texts, name, f"{name}_place", wish, answers or {})
        report.task, report.texts = made.task, made.texts
        report.converted += [f"task: {line.card.lower()}: {line.text} ({line.why})" for line in made.draft.lines]
        return report
    task = tomlkit.dumps(first_task(look_at(machine, site), name))
    report.texts = {**texts, f"tasks/{name}.toml": task}
    bind(machine, site, validate(Task, parse_toml(task, source), source), str(source))
    return report


def _weighed(
    source: Path,
    machine: Machine,
    document: tomlkit.TOMLDocument,
    report: ImportReport,
    unweighed: list[str],
    numbers: Mapping[str, str],
) -> Machine:
    """The machine with masses of its shapes where its file says none, and with inertia of its shapes where that is left out."""
    bodies: Any = document["bodies"]
    lacking = [
        n for n, b in machine.bodies.items() if b.mass > 0.0 and not any(b.inertia) and b.shapes and n not in unweighed
    ]
    changed = [*unweighed, *lacking]
    for name in changed:
        body = machine.bodies[name]
        stated = _mass_of(numbers, name) if name in unweighed else body.mass
        mass, centre, inertia = solid(body.shapes, mass=stated, density=DENSITY if stated is None else None)
        bodies[name]["inertia"] = editing.inline([f"{v:.6g} kg*m**2" for v in inertia])
        if name in unweighed:
            bodies[name]["mass"] = f"{mass:.4g} kg"
            bodies[name]["centre"] = editing.inline([f"{v:.6g} m" for v in centre])
            words = f"link {name}: no mass is given; it gets that of its shapes at {DENSITY:g} kg/m³"
            assume(report, document, ("bodies", name, "mass"), words)
        else:
            report.converted.append(f"link {name}: no inertia is given; it gets that of its shapes")
    machine = validate(Machine, parse_toml(tomlkit.dumps(document), "URDF"), "URDF") if changed else machine
    # a rod that is given none about the axis on which it turns, or a mass without a size
    idle = dict.fromkeys(machine.joints[c.partition(".")[0]].child for c in without_inertia(build_model(machine)))
    for name in idle:
        body = machine.bodies[name]
        if body.mass <= 0.0:
            raise FileError(
                source, f"link {name}", None, "moves, and neither it nor what it carries has inertia about its axis"
            )
        ball = Shape(kind="sphere", size=((0.75 * body.mass / (np.pi * DENSITY)) ** (1.0 / 3.0),))
        inertia = solid(body.shapes or (ball,), mass=body.mass)[2]
        bodies[name]["inertia"] = editing.inline([f"{v:.6g} kg*m**2" for v in inertia])
        words = "that of its shapes" if body.shapes else f"that of a ball of {DENSITY:g} kg/m³"
        report.converted.append(f"link {name}: nothing has inertia about the axis on which it turns; it gets {words}")
    return validate(Machine, parse_toml(tomlkit.dumps(document), "URDF"), "URDF") if idle else machine


def _mass_of(numbers: Mapping[str, str], body: str) -> float | None:
    """What was said to be a body's mass, kg."""
    key = f"bodies.{body}.mass"
    if key not in numbers:
        return None
    try:
        mass = parse(numbers[key], "kg")
    except UnitError as error:
        raise FileError("--set", key, numbers[key], str(error)) from error
    if not mass > 0.0:
        raise FileError("--set", key, numbers[key], "a link with shapes has a mass above zero")
    return mass


def travels(source: Path) -> bool:
    """Whether a URDF looks like something that drives or walks.

    It drives on two joints or more that turn without end round parts, not on one another, and walks on two limbs or more.
    """
    root = read_xml(source)
    round_links = {
        link.get("name")
        for link in root.findall("link")
        if any(link.find(f"{kind}/geometry/{shape}") is not None for kind in ("collision", "visual") for shape in ("cylinder", "sphere"))
    }  # fmt: skip
    parents = {part.get("link") for part in root.findall("joint/parent")}
    wheels = [j for j in root.findall("joint") if j.get("type") == "continuous" and _child(j) in round_links - parents]
    if len(wheels) >= 2:
        return True
    machine = read_urdf(source, free=True, weigh=True).machine
    return bool(machine.coordinates()) and len(legs_of(machine)) >= 2


def _child(joint: Element) -> str | None:
    part = joint.find("child")
    return part.get("link") if part is not None else None


def _starts(machine: Machine, document: tomlkit.TOMLDocument, report: ImportReport, legs: list[str]) -> Machine:
    """The machine with joints that begin within their stops, and standing on its legs."""
    followers = {c.joint for c in machine.couplings.values()}
    begin: dict[str, tuple[float, str]] = {}
    for name, joint in machine.joints.items():
        if joint.limits is not None and name not in followers and not joint.limits[0] <= 0.0 <= joint.limits[1]:
            low, high = joint.limits
            begin[name] = (low + 0.1 * (high - low) if low > 0.0 else high - 0.1 * (high - low), "zero is not between its stops")  # fmt: skip
    begin |= {name: (value, "so it stands with its feet below it") for name, value in standing(machine, legs).items()}
    for name, (value, why) in begin.items():
        joints: Any = document["joints"]
        joints[name]["start"] = f"{value:.4g} {machine.joints[name].unit}"
        assume(report, document, ("joints", name, "start"), f"joint {name}: where it begins, {why}")
    return validate(Machine, parse_toml(tomlkit.dumps(document), "URDF"), "URDF") if begin else machine


def _held(machine: Machine, document: tomlkit.TOMLDocument, report: ImportReport, legs: list[str]) -> None:
    """Let drives of legs, of what steers and of arms on wheels take positions: what nobody moves stays where it is."""
    look = Look(machine, Site())
    of_legs = [j for leg in legs for j in joints_of(machine, leg) if j not in look.wheels]
    stands = "so that it stands while it is told to stay where it begins"
    commanded(machine, document, report, dict.fromkeys(of_legs, "position"), stands)
    steering = [
        j for j in look.steering if j in look.driven and machine.joints[j].limits is not None and j not in of_legs
    ]
    commanded(machine, document, report, dict.fromkeys(steering, "position"), "so that it steers as it is told")
    of_arms = (
        [j for j in look.driven if j not in {*look.wheels, *of_legs}]
        if legs
        else [j for limb in look.limbs_aboard for j in limb]
    )
    stays = "so that it stays where it is while it travels"
    commanded(machine, document, report, dict.fromkeys(of_arms, "position"), stays)


def _on_the_ground(machine: Machine, document: tomlkit.TOMLDocument, report: ImportReport) -> None:
    """Lift the start until nothing stands in the ground; let casters slide."""
    look = Look(machine, Site())
    low = float(look.lowest(look.model.start[None])[0])
    if np.isfinite(low) and abs(low) > 1e-6:
        root: Any = document["joints"][look.base_joint]
        root["start"] = editing.inline(["0 m", "0 m", f"{-low:.6g} m", "0 rad", "0 rad", "0 rad"])
        words = f"it starts {-low:.4g} m higher, with its lowest point on the ground"
        assume(report, document, ("joints", look.base_joint, "start", 2), words)
    for name, body in machine.bodies.items():
        if name in look.model.bodies and "caster" in name.lower() and look.machine.joints[machine.joint_above(name)].kind == "fixed":  # fmt: skip
            for k, shape in enumerate(body.shapes):
                if shape.solid and shape.kind == "sphere":
                    part: Any = document["bodies"][name]["shapes"][k]
                    part["surface"] = editing.inline({"friction": [0.02, 0.02]})
                    where = ("bodies", name, "shapes", k, "surface", "friction")
                    assume(report, document, where, f"{name}: a caster that cannot turn; its friction")


def _set_otherwise(report: ImportReport, document: Any, numbers: Mapping[str, str]) -> None:
    """Put other values in the place of what was assumed."""
    for k, a in enumerate(report.assumed):
        if a.key not in numbers or numbers[a.key].strip() in ("", a.value):
            continue
        text = numbers[a.key].strip().replace("−", "-")
        value: Any = float(text) if plain_number(text) else text
        report.assumed[k] = Assumed(a.where, text, a.words)
        if a.value == NO_DRIVE:
            joint = str(a.where[1])
            editing.put_part(document, "drives", joint, {"kind": "effort", "joint": joint, "limit": value})
            continue
        at: Any = document
        for part in a.where[:-1]:
            at = at[part]
        last = a.where[-1]
        pair = isinstance(at.get(last) if isinstance(last, str) else None, list)
        at[last] = [value, value] if pair else value


def first_task(look: Look, name: str) -> tomlkit.TOMLDocument:
    """A task in which a machine can be seen, let go and driven: what moves is sensed, all drives given.

    What is wanted of it is for the engineer to say; until then it is to rest.
    """
    draft = Draft(look, name.replace("_", " "))
    machine = look.machine
    moving = [joint for joint, part in machine.joints.items() if part.kind in ("hinge", "slider")]
    if look.base:
        draft.observe("place", f"[{look.base}.x, {look.base}.y, {look.base}.z]", "m", nice(max(look.travel.way, 1.0)), "where it is")  # fmt: skip
        draft.observe("attitude", f"[{look.base}.roll, {look.base}.pitch]", "rad", 1.5, "how it leans")
        draft.observe_angle("heading", f"{look.base}.yaw", "where it looks")
        own_motion(draft)
    # what a vehicle steers with, tows or carries stands there by its own motion
    stands = {j for j in (*look.driven, *look.passive) if look.base and j not in look.rolling}
    draft.joints([joint for joint in moving if joint not in stands])
    draft.actions()
    # a hull or a flying body has no joint of its own to come to rest
    speeds = [f"{moves}.velocity" for moves in moving or machine.coordinates()]
    groups = [speeds[k : k + 12] for k in range(0, len(speeds), 12)]
    still = [" and ".join(f"abs({speed}) < 0.01" for speed in group) for group in groups]
    if len(groups) > 1:  # a formula is short enough to be read: what is long gets names
        for k, text in enumerate(still):
            draft.signal(f"still_{k + 1}", text, "")
        still = [f"still_{k + 1}" for k in range(len(groups))]
    draft.reward("rest", f"where({' and '.join(still)}, 1, 0)", 0.01, "until something is wanted of it")
    draft.measure("at rest", " and ".join(still), 0.0, "until something is wanted of it")
    draft.timing(50.0, 20.0, max(1, round(0.02 / look.step)), "")
    return draft.document(name, f"{name}_place", "see and drive it; say here what it is wanted to do")
