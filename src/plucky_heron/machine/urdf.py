"""Reading the Unified Robot Description Format as a machine, with a report of what was converted and left out.

Writing it is in `urdf_writing`.

Conventions of that format: `rpy` is roll about x, then pitch about y, then yaw about z, all about fixed axes
(R = Rz Ry Rx); a link's inertial origin places its centre of mass and its inertia axes; a joint's axis is given in
the joint's own frame.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from plucky_heron.errors import FileError
from plucky_heron.files import inside, is_file, validate
from plucky_heron.machine.parts import GROUND, LONGEST_NAME
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.xml import read_xml

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

_KINDS = {
    "revolute": "hinge", "continuous": "hinge", "prismatic": "slider", "fixed": "fixed", "floating": "free",
    "planar": "planar",
}  # fmt: skip


_COMMANDED = {"position": "position", "velocity": "speed", "effort": "effort"}
"""Words in names of interfaces, and the kind of drive that takes such commands."""


@dataclass(frozen=True)
class UrdfReport:
    """The machine and, line by line, what was changed or not understood."""

    machine: Machine
    notes: list[str] = field(default_factory=list)
    assumed: list[tuple[tuple[str, ...], str]] = field(default_factory=list)
    """Numbers of the machine that one may want to set otherwise: where each stands, and why it is as it is."""
    commanded: dict[str, str] = field(default_factory=dict)
    """What the file says that joints are commanded by: effort, speed or position."""
    unweighed: list[str] = field(default_factory=list)
    """Bodies that move, have shapes and no mass: each stands for 1 kg until it is weighed."""


def read_urdf(path: Path, free: bool = False, weigh: bool = False) -> UrdfReport:
    """Read a URDF file; the root link stands on the ground at the origin, or moves freely from there (`free`).

    What has no mass is welded to what carries it; but with `weigh`, what has shapes moves and is to be weighed.

    Raises
    ------
    FileError
        Not XML, entities inside, or something that cannot be a machine; names the element and the attribute.
    """
    root = read_xml(path)
    if root.tag != "robot":
        raise FileError(path, "", None, "the outermost element must be <robot>")
    for element in root.iter():
        if "xacro" in element.tag or any("${" in value or "$(" in value for value in element.attrib.values()):
            raise FileError(
                path, element.tag.rpartition("}")[2], None, "is a macro; expand the file into a plain URDF first"
            )
    return _Reader(path, root, free, weigh).read()


class _Reader:
    def __init__(self, path: Path, root: Element, free: bool, weigh: bool) -> None:
        self.path, self.root, self.free = path, root, free
        self.notes: list[str] = []
        self.assumed: list[tuple[tuple[str, ...], str]] = []
        self.untouchable = free and root.find("link/collision") is None
        if self.untouchable:
            self.notes.append("no link has collision geometry: its visual geometry touches the ground")
        self.names: dict[str, str] = {}
        self.weigh, self.unweighed = weigh, list[str]()
        self.massless = root.find("link/inertial/mass") is None

    def read(self) -> UrdfReport:
        links = self.named("link")
        joints = self.named("joint")
        for element in self.root:
            interfaces = element.find("joint/command_interface") is not None
            if element.tag not in ("link", "joint", "material", "transmission") and not interfaces:
                self.notes.append(f"<{element.tag}> is not used")
        if not links:
            raise FileError(self.path, "robot", None, "has no <link>")
        data: dict[str, Any] = {"name": self.root.get("name", self.path.stem), "bodies": {}, "joints": {}}
        for name, element in links.items():
            data["bodies"][self.plain(name)] = self.body(name, element)
        children = set()
        for name, element in joints.items():
            joint = self.joint(name, element, links)
            data["joints"][self.plain(name, joint=True)] = joint
            children.add(joint["child"])
        roots = [body for body in data["bodies"] if body not in children]
        if len(roots) != 1:
            found = ", ".join(roots) or "none"
            raise FileError(self.path, "robot", None, f"needs exactly one root link, found {found}")
        base = "base_on_ground"
        while base in data["joints"]:
            base += "_"
        kind = "free" if self.free else "fixed"
        data["joints"] = {base: {"kind": kind, "parent": GROUND, "child": roots[0]}, **data["joints"]}
        validate(Machine, data, self.path)
        self.weld(data)
        data["couplings"] = self.mimics(joints, data)
        data["drives"] = self.transmissions(joints, data)
        if data["drives"]:
            driven = {drive["joint"] for drive in data["drives"].values()} | set(data["couplings"])
            for name, joint in data["joints"].items():
                if joint["kind"] in ("hinge", "slider") and name not in driven:
                    words = f"joint {name}: nothing is said of a drive; with none it moves freely"
                    self.assumed.append((("drives", name, "limit"), words))
        touching = [name for name, body in data["bodies"].items() if any(shape["solid"] for shape in body["shapes"])]
        data["no_contact"] = list(itertools.combinations(touching, 2))
        if data["no_contact"]:
            self.notes.append("links pass through each other here; take pairs out of no_contact to let them touch")
        for name, joint in data["joints"].items():
            if joint["kind"] in ("hinge", "slider") and "damping" not in joint:
                self.assumed.append((("joints", name, "damping"), f"joint {name}: no damping is given"))
        return UrdfReport(
            validate(Machine, data, self.path), self.notes, self.assumed, self.commanded(joints), self.unweighed
        )

    def commanded(self, joints: dict[str, Element]) -> dict[str, str]:
        """The first interface that the file names for each joint, of a transmission or of a controller."""
        found: dict[str, str] = {}
        for element in self.root:
            for part in element.findall("joint") if element.tag != "joint" else ():
                words = [i.get("name") or "" for i in part.findall("command_interface")]
                words += [i.text or "" for i in (*part.findall("hardwareInterface"), *element.findall("actuator/hardwareInterface"))]  # fmt: skip
                kinds = [kind for word in words for key, kind in _COMMANDED.items() if key in word.lower()]
                if kinds and part.get("name") in joints:
                    found.setdefault(self.plain(str(part.get("name")), joint=True), kinds[0])
        return found

    def named(self, tag: str) -> dict[str, Element]:
        found: dict[str, Element] = {}
        for element in self.root.findall(tag):
            name = element.get("name")
            if not name:
                raise FileError(self.path, tag, None, "needs a name")
            if name in found:
                raise FileError(self.path, f"{tag} {name}", None, "stands twice")
            found[name] = element
        return found

    def plain(self, name: str, joint: bool = False) -> str:
        """A name that formulas can use; kept for links and joints apart."""
        key = ("joint:" if joint else "link:") + name
        if key not in self.names:
            plain = "".join(c if c.isascii() and (c.isalnum() or c == "_") else "_" for c in name)
            plain = plain[1 - LONGEST_NAME :] if len(plain) > LONGEST_NAME else plain  # long names differ at their ends
            plain = plain if plain[:1].isalpha() else f"n{plain}"
            plain = plain + "_link" if not joint and plain == GROUND else plain
            taken = {v for k, v in self.names.items() if k.startswith(key[:5])}
            stem, count = plain, 1
            while plain in taken:
                count += 1
                plain = f"{plain}_" if len(plain) < LONGEST_NAME else f"{stem[: LONGEST_NAME - 5]}_{count}"
            if plain != name:
                self.notes.append(f"{name} is called {plain} here")
            self.names[key] = plain
        return self.names[key]

    def numbers(self, element: Element | None, key: str, where: str, default: tuple[float, ...]) -> tuple[float, ...]:
        text = element.get(key) if element is not None else None
        return default if text is None else self.parsed(text, f"{where}.{key}", len(default))

    def parsed(self, text: str, where: str, count: int) -> tuple[float, ...]:
        """So many finite numbers of a text."""
        wanted = "a number" if count == 1 else f"{count} numbers"
        try:
            values = tuple(float(part) for part in text.split())
        except ValueError as error:
            raise FileError(self.path, where, text, f"wanted {wanted}") from error
        if len(values) != count or not all(math.isfinite(v) for v in values):
            raise FileError(self.path, where, text, f"wanted {wanted.replace('number', 'finite number')}")
        return values

    def number(self, element: Element, key: str, where: str, default: float | None) -> float:
        if element.get(key) is None and default is None:
            raise FileError(self.path, f"{where}.{key}", None, "is missing")
        return self.numbers(element, key, where, (default or 0.0,))[0]

    def body(self, name: str, element: Element) -> dict[str, Any]:
        self.report(element, f"link {name}", ("inertial", "visual", "collision"))
        body: dict[str, Any] = {"mass": 0.0, "shapes": self.shapes(element, f"link {name}")}
        inertial = element.find("inertial")
        if inertial is None or (self.weigh and self.massless):
            if self.weigh and self.massless and body["shapes"]:
                self.unweighed.append(self.plain(name))
                body["mass"] = 1.0
            return body
        where = f"link {name}.inertial"
        mass, inertia = inertial.find("mass"), inertial.find("inertia")
        if mass is None:
            raise FileError(self.path, where, None, "has no <mass>")
        body["mass"] = self.number(mass, "value", f"{where}.mass", None)
        origin = inertial.find("origin")
        body["centre"] = self.numbers(origin, "xyz", f"{where}.origin", (0.0,) * 3)
        if inertia is not None:
            xx, yy, zz, xy, xz, yz = (
                self.number(inertia, f"i{k}", f"{where}.inertia", 0.0) for k in ("xx", "yy", "zz", "xy", "xz", "yz")
            )
            turn = rotation(*self.numbers(origin, "rpy", f"{where}.origin", (0.0,) * 3))
            own = turn @ np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]]) @ turn.T
            body["inertia"] = tuple(float(own[a, b]) for a, b in ((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2)))
        return body

    def shapes(self, link: Element, where: str) -> list[dict[str, Any]]:
        """What touches and is drawn: the collision geometry; where there is none, the visual one, which is only drawn."""
        found = []
        # where nothing of the whole robot has any, what is seen is what touches, or it would fall through the ground
        solid = link.find("collision") is not None or self.untouchable
        if link.find("collision") is not None and link.find("visual") is not None:
            self.notes.append(f"{where}: its collision geometry is drawn, not its visual one")
        for part in link.findall("visual" if link.find("collision") is None else "collision"):
            geometry = part.find("geometry")
            shape = next(iter(geometry), None) if geometry is not None else None
            if shape is None:
                continue
            described = self.shape(shape, where)
            if described is None:
                continue
            origin = part.find("origin")
            described["at"] = self.numbers(origin, "xyz", f"{where}.origin", (0.0,) * 3)
            described["turn"] = self.numbers(origin, "rpy", f"{where}.origin", (0.0,) * 3)
            found.append({**described, "solid": solid})
        return found

    def shape(self, shape: Element, where: str) -> dict[str, Any] | None:
        if shape.tag == "box":
            return {"kind": "box", "size": self.numbers(shape, "size", f"{where}.box", (0.0,) * 3)}
        if shape.tag in ("cylinder", "capsule"):
            size = (self.number(shape, "radius", where, None), self.number(shape, "length", where, None))
            return {"kind": shape.tag, "size": size}
        if shape.tag == "sphere":
            return {"kind": "sphere", "size": (self.number(shape, "radius", where, None),)}
        if shape.tag == "mesh":
            return self.mesh(shape, where)
        self.notes.append(f"{where}: <{shape.tag}> geometry is left out")
        return None

    def mesh(self, shape: Element, where: str) -> dict[str, Any] | None:
        """The convex hull of a mesh file beside the URDF; one that cannot be had is left out, one outside is refused."""
        from plucky_heron.machine.meshes import hull_points, project_of

        name, source = shape.get("filename") or "", self.path
        package, _, rest = name.removeprefix("package://").partition("/")
        # the folder of that name, near above the file, that says it is a package; inside a project none that leaves it
        project = project_of(self.path)
        above = [
            f
            for f in self.path.resolve().parents[:3]
            if f.is_relative_to(project) or not is_file(project / "project.toml")
        ]
        root = next((f for f in above if f.name == package and is_file(f / "package.xml")), None)
        if name.startswith("package://") and root is not None:
            name, source = rest, root / self.path.name  # the file stands in that package
        if "://" in name or Path(name).is_absolute():
            self.notes.append(
                f"{where}: mesh {name!r} is left out: only relative paths are read, and those of the package it stands in"
            )
            return None
        inside(project_of(source), source.resolve().parent / name)
        x, y, z = self.numbers(shape, "scale", f"{where}.mesh", (1.0, 1.0, 1.0))
        try:
            points = hull_points(source, name, (x, y, z))
        except FileError as error:
            self.notes.append(f"{where}: mesh is left out: {error}")
            return None
        self.notes.append(f"{where}: mesh {name} is taken as its convex hull of {len(points)} corners")
        return {"kind": "hull", "points": points}

    def mimics(self, joints: dict[str, Element], data: dict[str, Any]) -> dict[str, Any]:
        couplings = {}
        for name, element in joints.items():
            mimic = element.find("mimic")
            if mimic is None:
                continue
            where = f"joint {name}.mimic"
            leader = mimic.get("joint")
            if leader not in joints:
                raise FileError(self.path, f"{where}.joint", leader, f"wanted one of {', '.join(joints)}")
            own, other = self.plain(name, joint=True), self.plain(str(leader), joint=True)
            if any(data["joints"][j]["kind"] not in ("hinge", "slider") for j in (own, other)):
                self.notes.append(f"{where}: left out, as one of the two does not move by one coordinate")
                continue
            couplings[own] = {
                "joint": own, "follows": other, "ratio": self.number(mimic, "multiplier", where, 1.0),
                "offset": self.number(mimic, "offset", where, 0.0),
            }  # fmt: skip
        return couplings

    def transmissions(self, joints: dict[str, Element], data: dict[str, Any]) -> dict[str, Any]:
        """Effort drives for joints that a transmission names, with the joint's effort limit; without any, for every joint that has one."""
        drives: dict[str, Any] = {}
        if self.root.find("transmission") is None:
            return self.drives_by_limits(joints, data)
        for element in self.root.findall("transmission"):
            name = element.get("name") or "drive"
            part = element.find("joint")
            joint = part.get("name") if part is not None else None
            if joint not in joints:
                raise FileError(self.path, f"transmission {name}.joint", joint, f"wanted one of {', '.join(joints)}")
            own = self.plain(str(joint), joint=True)
            limit = joints[str(joint)].find("limit")
            effort = self.number(limit, "effort", f"joint {joint}.limit", 0.0) if limit is not None else 0.0
            if data["joints"][own]["kind"] not in ("hinge", "slider") or effort <= 0.0:
                self.notes.append(f"transmission {name}: left out, as joint {joint} has no effort limit or is welded")
                continue
            actuator = element.find("actuator")
            reduction = actuator.find("mechanicalReduction") if actuator is not None else None
            written = (reduction.text or "").strip() if reduction is not None else ""
            gear = self.parsed(written, f"transmission {name}.mechanicalReduction", 1)[0] if written else 1.0
            drives[own] = {"kind": "effort", "joint": own, "limit": effort, "gear": abs(gear) or 1.0}
            self.assumed.append(
                (
                    ("drives", own, "limit"),
                    f"joint {joint}: gets a drive with its effort limit, as a transmission names it",
                )
            )
            self.falling_effort(drives[own], limit, str(joint), f"joint {joint}")
        return drives

    def drives_by_limits(self, joints: dict[str, Element], data: dict[str, Any]) -> dict[str, Any]:
        """An effort drive for every joint with an effort limit that follows no other one."""
        drives: dict[str, Any] = {}
        for name, element in joints.items():
            own, limit = self.plain(name, joint=True), element.find("limit")
            if data["joints"][own]["kind"] not in ("hinge", "slider") or limit is None or own in data["couplings"]:
                continue
            effort = self.number(limit, "effort", f"joint {name}.limit", 0.0)
            if effort <= 0.0:
                continue
            self.assumed.append((("drives", own, "limit"), f"joint {name}: gets a drive with its effort limit"))
            drives[own] = {"kind": "effort", "joint": own, "limit": effort}
            self.falling_effort(drives[own], limit, name, f"joint {name}")
        return drives

    def falling_effort(self, drive: dict[str, Any], limit: Element | None, joint: str, where: str) -> None:
        """The joint's velocity limit as the speed at which its drive has nothing left."""
        velocity = self.number(limit, "velocity", f"joint {joint}.limit", 0.0) if limit is not None else 0.0
        if velocity > 0.0:
            drive["no_load_speed"] = velocity
            self.assumed.append(
                (
                    ("drives", drive["joint"], "no_load_speed"),
                    f"{where}: effort falls to nothing at the joint's velocity limit",
                )
            )

    def joint(self, name: str, element: Element, links: dict[str, Element]) -> dict[str, Any]:
        where = f"joint {name}"
        kind = element.get("type", "")
        if kind not in _KINDS:
            raise FileError(self.path, f"{where}.type", kind, f"wanted one of {', '.join(_KINDS)}")
        self.report(element, where, ("origin", "parent", "child", "axis", "limit", "dynamics", "mimic"))
        ends = {}
        for end in ("parent", "child"):
            part = element.find(end)
            link = part.get("link") if part is not None else None
            if link not in links:
                raise FileError(self.path, f"{where}.{end}.link", link, f"wanted one of {', '.join(links)}")
            ends[end] = self.plain(str(link))
        origin = element.find("origin")
        joint: dict[str, Any] = {
            "kind": _KINDS[kind], **ends,
            "origin": self.numbers(origin, "xyz", f"{where}.origin", (0.0,) * 3),
            "turn": self.numbers(origin, "rpy", f"{where}.origin", (0.0,) * 3),
            "axis": self.numbers(element.find("axis"), "xyz", f"{where}.axis", (1.0, 0.0, 0.0)),
        }  # fmt: skip
        limit, dynamics = element.find("limit"), element.find("dynamics")
        if limit is not None and kind in ("revolute", "prismatic"):
            low, high = self.number(limit, "lower", where, 0.0), self.number(limit, "upper", where, 0.0)
            if low < high:
                joint["limits"] = (low, high)
            else:
                self.notes.append(f"{where}: limit {low:g} .. {high:g} leaves no room and is not used")
        if dynamics is not None:
            joint["damping"] = self.number(dynamics, "damping", where, 0.0)
            if kind in ("revolute", "continuous", "prismatic"):
                joint["friction"] = self.number(dynamics, "friction", where, 0.0)
        return joint

    def report(self, element: Element, where: str, known: tuple[str, ...]) -> None:
        for tag in sorted({child.tag for child in element} - set(known)):
            self.notes.append(f"{where}: <{tag}> is not used")

    def weld(self, data: dict[str, Any]) -> None:
        """Links that carry no mass, themselves or further out, cannot move on their own: weld them."""
        outward: dict[str, list[str]] = {}
        for joint in data["joints"].values():
            outward.setdefault(joint["parent"], []).append(joint["child"])

        def carried(body: str) -> float:
            total, waiting = 0.0, [body]
            while waiting:
                at = waiting.pop()
                total += float(data["bodies"][at]["mass"])
                waiting += outward.get(at, [])
            return total

        for name, joint in data["joints"].items():
            body = data["bodies"][joint["child"]]
            if self.weigh and joint["kind"] != "fixed" and carried(joint["child"]) == 0.0 and body["shapes"]:
                self.unweighed.append(joint["child"])
                body["mass"] = 1.0
            if joint["kind"] != "fixed" and carried(joint["child"]) == 0.0:
                self.notes.append(f"joint {name}: {joint['child']} has no mass and is welded to {joint['parent']}")
                joint["kind"] = "fixed"
                joint.pop("limits", None)
                joint.pop("friction", None)
            elif joint["kind"] != "fixed" and body["mass"] == 0.0:
                self.notes.append(
                    f"joint {name}: {joint['child']} has no mass of its own and moves with what it carries"
                )


def rotation(roll: float, pitch: float, yaw: float) -> np.ndarray:
    """Rotation matrix Rz(yaw) Ry(pitch) Rx(roll)."""
    cr, sr, cp, sp, cy, sy = (
        math.cos(roll),
        math.sin(roll),
        math.cos(pitch),
        math.sin(pitch),
        math.cos(yaw),
        math.sin(yaw),
    )
    return np.array(
        [
            [cy * cp, cy * sp * sr - sy * cr, cy * sp * cr + sy * sr],
            [sy * cp, sy * sp * sr + cy * cr, sy * sp * cr - cy * sr],
            [-sp, cp * sr, cp * cr],
        ]
    )
