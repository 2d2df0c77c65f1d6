"""Writing a machine in the Unified Robot Description Format, with a report of what that format cannot say."""

from __future__ import annotations

from xml.etree import ElementTree

import numpy as np

from plucky_heron.machine.parts import GROUND, Shape
from plucky_heron.machine.schema import Joint, Machine

_KINDS = {"hinge": "continuous", "slider": "prismatic", "fixed": "fixed", "free": "floating", "planar": "planar"}


def write_urdf(machine: Machine) -> tuple[str, list[str]]:
    """The machine as text, and line by line what was left out or changed."""
    notes: list[str] = []
    robot = ElementTree.Element("robot", name=machine.name or "machine")
    grounded = [name for name, joint in machine.joints.items() if joint.parent == GROUND]
    # one link that hangs on the ground by a fixed joint is the root itself; anything else needs a link for the ground
    root_is_ground = (
        len(grounded) != 1 or machine.joints[grounded[0]].kind != "fixed" or any(machine.joints[grounded[0]].origin)
    )
    if root_is_ground:
        ElementTree.SubElement(robot, "link", name=GROUND)
    for name, body in machine.bodies.items():
        link = ElementTree.SubElement(robot, "link", name=name)
        inertial = ElementTree.SubElement(link, "inertial")
        ElementTree.SubElement(inertial, "origin", xyz=_text(body.centre), rpy="0 0 0")
        ElementTree.SubElement(inertial, "mass", value=repr(body.mass))
        keys = ("ixx", "iyy", "izz", "ixy", "ixz", "iyz")
        ElementTree.SubElement(inertial, "inertia", dict(zip(keys, map(repr, body.inertia), strict=True)))
        for shape in body.shapes:
            _shape(link, shape, name, notes)
        if body.drag_area:
            notes.append(f"bodies.{name}: drag is left out")
    for name, joint in machine.joints.items():
        if joint.parent == GROUND and not root_is_ground:
            continue
        if joint.kind == "ball":
            notes.append(f"joints.{name}: a ball joint cannot be said; left out, as is what hangs on it")
            continue
        _joint(robot, machine, name, joint, notes)
    for name, drive in machine.drives.items():
        if drive.kind not in ("effort", "speed", "position"):
            notes.append(f"drives.{name}: a {drive.kind} drive cannot be said; left out")
            continue
        transmission = ElementTree.SubElement(robot, "transmission", name=name)
        ElementTree.SubElement(transmission, "joint", name=str(drive.joint))
        actuator = ElementTree.SubElement(transmission, "actuator", name=name)
        ElementTree.SubElement(actuator, "mechanicalReduction").text = repr(drive.gear)
        if drive.kind != "effort":
            notes.append(f"drives.{name}: written as an effort; its {drive.kind} servo is left out")
    for kind in ("forces", "tanks", "sensors"):
        notes += [f"{kind}.{name}: cannot be said; left out" for name in getattr(machine, kind)]
    ElementTree.indent(robot)
    return ElementTree.tostring(robot, encoding="unicode", xml_declaration=True) + "\n", notes


def _text(numbers: tuple[float, ...]) -> str:
    return " ".join(repr(float(n)) for n in numbers)


def _shape(link: ElementTree.Element, shape: Shape, body: str, notes: list[str]) -> None:
    part = ElementTree.SubElement(link, "collision" if shape.solid else "visual")
    ElementTree.SubElement(part, "origin", xyz=_text(shape.at), rpy=_text(shape.turn))
    geometry = ElementTree.SubElement(part, "geometry")
    if shape.kind == "box":
        ElementTree.SubElement(geometry, "box", size=_text(shape.size))
    elif shape.kind == "sphere":
        ElementTree.SubElement(geometry, "sphere", radius=repr(shape.size[0]))
    elif shape.kind in ("cylinder", "capsule"):
        ElementTree.SubElement(geometry, shape.kind, radius=repr(shape.size[0]), length=repr(shape.size[1]))
    elif shape.kind == "hull" and shape.file:
        ElementTree.SubElement(geometry, "mesh", filename=shape.file, scale=_text((shape.scale,) * 3))
    else:
        link.remove(part)
        notes.append(f"bodies.{body}: a {shape.kind} without a mesh file cannot be said; left out")


def _joint(robot: ElementTree.Element, machine: Machine, name: str, joint: Joint, notes: list[str]) -> None:
    limited = joint.kind == "hinge" and joint.limits is not None
    element = ElementTree.SubElement(robot, "joint", name=name, type="revolute" if limited else _KINDS[joint.kind])
    ElementTree.SubElement(element, "origin", xyz=_text(joint.origin), rpy=_text(joint.turn))
    ElementTree.SubElement(element, "parent", link=joint.parent)
    ElementTree.SubElement(element, "child", link=joint.child)
    if joint.kind in ("hinge", "slider", "planar"):
        ElementTree.SubElement(element, "axis", xyz=_text(joint.axis))
    if joint.kind not in ("hinge", "slider"):
        return
    drive = next((d for d in machine.drives.values() if d.joint == name), None)
    limit = {}
    if joint.limits is not None:
        limit = {"lower": repr(joint.limits[0]), "upper": repr(joint.limits[1])}
    if drive is not None:
        limit |= {"effort": repr(float(drive.limit)), "velocity": repr(float(drive.no_load_speed or 0.0))}
    if limit:
        ElementTree.SubElement(element, "limit", limit)
    if joint.damping or joint.friction:
        ElementTree.SubElement(element, "dynamics", damping=repr(joint.damping), friction=repr(joint.friction))
    if joint.stiffness or joint.armature:
        notes.append(f"joints.{name}: stiffness and armature are left out")
    for coupling in machine.couplings.values():
        if coupling.joint == name and coupling.kind == "ratio":
            offset = repr(float(np.float64(coupling.offset)))
            ElementTree.SubElement(
                element, "mimic", joint=coupling.follows, multiplier=repr(coupling.ratio), offset=offset
            )
        elif coupling.joint == name:
            notes.append(f"joints.{name}: a steering linkage cannot be said; left out")
