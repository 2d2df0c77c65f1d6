"""Changing a machine file part by part: add, duplicate, mirror, remove, carry to another project.

Works on the file's own text (tomlkit documents), so that comments, order and the units somebody wrote stay.
"""

from __future__ import annotations

import re
from typing import Any

import tomlkit
from tomlkit.items import Item

from plucky_heron.errors import StateError, UnitError
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.units import parse

Limb = dict[str, dict[str, dict[str, Any]]]
"""Parts as they stand in a file, by section and name."""

SECTIONS = ("bodies", "joints", "drives", "forces", "tanks", "couplings", "sensors")
_REFERENCES: dict[str, dict[str, str]] = {
    "joints": {"parent": "bodies", "child": "bodies"},
    "drives": {"joint": "joints", "body": "bodies", "tank": "tanks"},
    "forces": {"body": "bodies", "wheel": "bodies", "a": "bodies", "b": "bodies"},
    "tanks": {"body": "bodies"},
    "couplings": {"joint": "joints", "follows": "joints"},
    "sensors": {"joint": "joints", "body": "bodies"},
}
"""Keys that name other parts, and the section where those stand."""
_OPTIONAL = {("drives", "tank")}
_NUMBER = re.compile(r"\s*([+-]?)\s*(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?\s*([A-Za-z%°].*)?")
_SIDES = (("left", "right"), ("Left", "Right"), ("port", "starboard"))

NEW_BODIES = ("hinge", "slider", "fixed")
_HAND = {"box": ["0.2 m", "0.2 m", "0.2 m"], "sphere": ["0.1 m"], "capsule": ["5 cm", "0.3 m"], "cylinder": ["0.1 m", "0.2 m"]}  # fmt: skip


def limb_of(machine: Machine, body: str) -> list[str]:
    """A body and everything that hangs on it, outwards."""
    found = [body]
    for name in machine.ordered_joints():
        joint = machine.joints[name]
        if joint.parent in found and joint.child not in found:
            found.append(joint.child)
    return found


def take_limb(document: Any, machine: Machine, body: str) -> Limb:
    """A copy of a limb's parts: its bodies, their joints, and all that stands on or between them."""
    bodies = set(limb_of(machine, body))
    mine = {
        "bodies": bodies,
        "joints": {name for name, joint in machine.joints.items() if joint.child in bodies},
        "tanks": {name for name, tank in machine.tanks.items() if tank.body in bodies},
    }
    plain = document.unwrap()
    limb: Limb = {section: {} for section in SECTIONS}
    for section in SECTIONS:
        for name, part in plain.get(section, {}).items():
            keys = {"joint": "joints"} if section == "couplings" else _REFERENCES.get(section, {})
            if name in mine.get(section, ()) if section in mine else _refers(part, keys, mine):
                limb[section][name] = part
    return limb


def _refers(part: dict[str, Any], keys: dict[str, str], named: dict[str, set[str]]) -> bool:
    return any(part.get(key) in named.get(section, ()) for key, section in keys.items())


def put_limb(document: Any, machine: Machine, limb: Limb, parent: str | None = None) -> str:
    """Write a limb under new names where its own are taken; its root hangs on `parent`. Returns the root body's name.

    What refers to parts that are neither in the limb nor in the machine is left out.
    """
    names = renamed(limb, machine)
    inner = {names.get(body, body) for body in limb["bodies"]}
    known = {
        section: {GROUND, *getattr(machine, section), *(names.get(name, name) for name in limb[section])}
        for section in ("bodies", "joints", "tanks")
    }
    root = ""
    for section in SECTIONS:
        for name, part in limb[section].items():
            written = dict(part)
            for key in _REFERENCES.get(section, ()):
                if key in written:
                    written[key] = names.get(written[key], written[key])
            if section == "joints" and written.get("parent", GROUND) not in inner:
                root = written["child"]
                if parent is not None:
                    written["parent"] = parent
                if written.get("parent") == GROUND:
                    written.pop("parent")
            keys = _REFERENCES.get(section, {})
            missing = [k for k, where in keys.items() if k in written and written[k] not in known[where]]
            if any((section, key) not in _OPTIONAL for key in missing):
                continue
            for key in missing:
                written.pop(key)
            put_part(document, section, names.get(name, name), written)
    pairs = [(a, b) for a, b in machine.no_contact if a in limb["bodies"] and b in limb["bodies"] and names]
    if pairs and "no_contact" in document:
        for a, b in pairs:
            document["no_contact"].append([names.get(a, a), names.get(b, b)])
    return root


def renamed(limb: Limb, machine: Machine) -> dict[str, str]:
    """New names for those parts of a limb whose names the machine has already."""
    taken = {name for section in SECTIONS for name in getattr(machine, section)}
    names: dict[str, str] = {}
    for section in SECTIONS:
        for name in limb[section]:
            if name in names:
                continue
            new = name
            stem = re.sub(r"_\d+$", "", name)
            number = 2
            while new in taken:
                new, number = f"{stem}_{number}", number + 1
            taken.add(new)
            names[name] = new
    return {old: new for old, new in names.items() if old != new}


def put_part(document: Any, section: str, name: str, part: dict[str, Any]) -> None:
    """Write one part as a table of its own; lists of tables stand inline, as in the files that people write."""
    if section not in document:
        document[section] = tomlkit.table(is_super_table=True)
    table = tomlkit.table()
    for key, value in part.items():
        table[key] = inline(value)
    document[section][name] = table


def inline(value: Any) -> Item:
    """A value as it is written inside one line: lists of tables as inline tables."""
    if isinstance(value, dict):
        table = tomlkit.inline_table()
        for key, inner in value.items():
            table[key] = inline(inner)
        return table
    if isinstance(value, list | tuple):
        array = tomlkit.array()
        for inner in value:
            array.append(inline(inner))
        return array
    made: Item = tomlkit.item(value)
    return made


def mirrored(limb: Limb) -> Limb:
    """The limb as a mirror shows it, left for right: y turned round in the axes that its root joint stands in.

    Every frame is reflected with the plane, R' = S R S with S = diag(1, -1, 1). Axes of turning keep the sense of their
    coordinates (a' = -S a), axes of sliding and of pushing are polar (a' = S a), so limits and starts stay as they are.

    Raises
    ------
    StateError
        A hull whose corners come from a file: a mesh has its own hand.
    """
    swapped = {}
    for section in SECTIONS:
        for name in limb[section]:
            swapped[name] = _other_side(name)
    made: Limb = {section: {} for section in SECTIONS}
    for section in SECTIONS:
        for name, part in limb[section].items():
            turned = {key: _mirror_value(section, part, key, value) for key, value in part.items()}
            for key in _REFERENCES.get(section, ()):
                if key in turned:
                    turned[key] = swapped.get(turned[key], turned[key])
            if section == "joints" and "axis" not in part and part["kind"] == "hinge":
                turned["axis"] = [0, 0, -1]
            made[section][swapped[name]] = turned
    return made


def _mirror_value(section: str, part: dict[str, Any], key: str, value: Any) -> Any:
    kind = part.get("kind")
    if key in ("at", "at_a", "at_b", "origin", "centre", "drag_point", "direction", "chord", "normal"):
        return _flip(value, (1,))
    if key == "turn":
        return _flip(value, (0, 2))
    if key == "axis":
        turning = kind == "hinge" or section == "forces"
        return _flip(value, (0, 2) if turning else (1,))
    if key == "inertia" and len(value) == 6:
        return _flip(value, (3, 5))
    if key in ("left", "reaction"):
        return _negated(value)
    if key == "start" and kind in ("ball", "free", "planar") and isinstance(value, list):
        flat = {"ball": (0, 2), "free": (1, 3, 5), "planar": (1, 2)}[str(kind)]
        return _flip(value, flat)
    if key == "shapes":
        return [_mirror_shape(shape) for shape in value]
    if key == "positive" and isinstance(value, str):
        return _other_side(value)
    return value


def _mirror_shape(shape: dict[str, Any]) -> dict[str, Any]:
    if shape.get("file"):
        raise StateError(
            f"{shape['file']} cannot be mirrored: a mesh has its own hand; give the other side a file of its own"
        )
    turned = dict(shape)
    if "points" in shape:
        turned["points"] = [_flip(point, (1,)) for point in shape["points"]]
    if "at" in shape:
        turned["at"] = _flip(shape["at"], (1,))
    if "turn" in shape:
        turned["turn"] = _flip(shape["turn"], (0, 2))
    return turned


def _flip(values: list[Any], places: tuple[int, ...]) -> list[Any]:
    return [_negated(value) if k in places else value for k, value in enumerate(values)]


def _negated(value: Any) -> Any:
    """The opposite of a quantity, written as it was."""
    if isinstance(value, int | float):
        return -value if value else value
    found = _NUMBER.fullmatch(value)
    if found is None:
        try:
            return -parse(value)
        except UnitError as error:
            raise StateError(f"{value!r} cannot be mirrored: write it as a number with its unit") from error
    sign, number, power, unit = found.groups(default="")
    if float(number) == 0.0:
        return value
    return f"{'' if sign == '-' else '-'}{number}{power}{' ' if unit else ''}{unit}"


def _other_side(name: str) -> str:
    for one, other in _SIDES:
        if one in name or other in name:
            held = name.replace(one, "\0").replace(other, one)
            return held.replace("\0", other)
    return name


def shifted(limb: Limb, step: float) -> Limb:
    """The limb with the origin of its root joint `step` metres farther along y, so that a copy does not cover its pattern."""
    bodies = set(limb["bodies"])
    joints = {}
    for name, joint in limb["joints"].items():
        if joint.get("parent", GROUND) not in bodies:
            x, y, z = joint.get("origin", ["0 m", "0 m", "0 m"])
            joint = {**joint, "origin": [x, f"{parse(y, 'm') + step:.6g} m", z]}
        joints[name] = joint
    return {**limb, "joints": joints}


def add_body(document: Any, machine: Machine, parent: str, kind: str = "hinge", shape: str = "box") -> str:
    """A new body of 1 kg on a joint of `kind` at the parent's own origin; returns its name."""
    limb: Limb = {section: {} for section in SECTIONS}
    side = 0.004
    limb["bodies"]["part"] = {
        "mass": "1 kg",
        "inertia": [f"{side} kg*m**2"] * 3,
        "shapes": [{"kind": shape, "size": list(_HAND[shape]), "wash": "tide"}],
    }
    joint: dict[str, Any] = {
        "kind": kind,
        "child": "part",
    }  # `put_limb` hangs it on the parent, which may be called alike
    if kind != "fixed":
        joint["axis"] = [0, 1, 0] if kind == "hinge" else [0, 0, 1]
        joint["damping"] = "0.1 N*m*s/rad" if kind == "hinge" else "10 N*s/m"
    limb["joints"]["part_joint"] = joint
    return put_limb(document, machine, limb, parent)


def _outline(machine: Machine, body: str) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    """Middle and size of the body's first box, or of something as large as a hand."""
    for shape in machine.bodies[body].shapes:
        if shape.kind == "box":
            return shape.at, (shape.size[0], shape.size[1], shape.size[2])
        if shape.kind in ("cylinder", "capsule"):
            return shape.at, (2.0 * shape.size[0], 2.0 * shape.size[0], shape.size[1])
    return (0.0, 0.0, 0.0), (0.2, 0.2, 0.2)


def _end(machine: Machine, body: str) -> tuple[float, float, float]:
    """Where the next link begins: the far end of a long body, the top of any other."""
    (x, y, z), (a, b, c) = _outline(machine, body)
    return (x + 0.5 * a, y, z) if a > 2.0 * max(b, c) else (x, y, z + 0.5 * c)


def add_link(document: Any, machine: Machine, parent: str) -> str:
    """A link of 0.3 m along x, hinged about y at the end of the parent, with the drive that carries it; returns its name."""
    length, mass, side = 0.3, 1.0, 0.05
    across = mass * (length**2 + side**2) / 12.0
    # a geared motor that carries two more such links: its rotor is felt, and its speed has an end
    effort = max(6.0, 24.0 / (1 + sum(1 for joint in machine.joints.values() if joint.kind == "hinge")))
    origin = [f"{v:.6g} m" for v in _end(machine, parent)]
    limb: Limb = {section: {} for section in SECTIONS}
    limb["bodies"]["link"] = {
        "mass": f"{mass:g} kg", "centre": [f"{length / 2:g} m", "0 m", "0 m"],
        "inertia": [f"{mass * side**2 / 6.0:.4g} kg*m**2", f"{across:.4g} kg*m**2", f"{across:.4g} kg*m**2"],
        "shapes": [{"kind": "box", "size": [f"{length} m", f"{side} m", f"{side} m"], "at": [f"{length / 2:g} m", "0 m", "0 m"]}],
    }  # fmt: skip
    limb["joints"]["link_joint"] = {
        "kind": "hinge", "child": "link", "axis": [0, 1, 0], "origin": origin, "limits": ["-120 deg", "120 deg"],
        "damping": "0.3 N*m*s/rad", "armature": f"{0.002 * effort:.3g} kg*m**2",
    }  # fmt: skip
    limb["drives"]["link_drive"] = {"kind": "effort", "joint": "link_joint", "limit": f"{effort:.3g} N*m", "no_load_speed": "8 rad/s"}  # fmt: skip
    return put_limb(document, machine, limb, parent)


def add_wheel(document: Any, machine: Machine, parent: str) -> str:
    """A driven wheel at the left of a body, low and behind its middle, so that it runs straight ahead; returns its name. `mirrored` gives the one at the right."""
    (x, y, z), (a, b, c) = _outline(machine, parent)
    radius, width = max(0.25 * a, 0.04), max(0.15 * b, 0.02)
    total = sum(body.mass for body in machine.bodies.values())
    mass = max(0.05 * total, 0.05)
    spin, across = 0.5 * mass * radius**2, mass * (3.0 * radius**2 + width**2) / 12.0
    limb: Limb = {section: {} for section in SECTIONS}
    limb["bodies"]["left_wheel"] = {
        "mass": f"{mass:.3g} kg", "inertia": [f"{across:.4g} kg*m**2", f"{spin:.4g} kg*m**2", f"{across:.4g} kg*m**2"],
        "shapes": [{"kind": "cylinder", "size": [f"{radius:.4g} m", f"{width:.4g} m"], "turn": ["90 deg", "0 deg", "0 deg"], "wash": "heron"}],
    }  # fmt: skip
    limb["joints"]["left_axle"] = {
        "kind": "hinge", "child": "left_wheel", "axis": [0, 1, 0],
        "origin": [f"{x - 0.25 * a:.4g} m", f"{y + 0.5 * b + 0.6 * width:.4g} m", f"{z - 0.5 * c:.4g} m"], "damping": "0.01 N*m*s/rad",
    }  # fmt: skip
    effort = 0.3 * total * 9.81 * radius / 2.0
    limb["drives"]["left_motor"] = {"kind": "effort", "joint": "left_axle", "limit": f"{effort:.2g} N*m"}
    return put_limb(document, machine, limb, parent)


def add_caster(document: Any, machine: Machine, parent: str) -> str:
    """A caster under the front of a body, down to where its wheels stand: a ball that slides; returns its name."""
    (x, y, z), (a, _, c) = _outline(machine, parent)
    bottom = z - 0.5 * c
    ground = min(
        (joint.origin[2] - shape.size[0] for joint in machine.joints.values() if joint.parent == parent and joint.kind == "hinge"
         for shape in machine.bodies[joint.child].shapes if shape.kind in ("cylinder", "sphere")),
        default=bottom - 0.1,
    )  # fmt: skip
    radius = max(0.5 * (bottom - ground), 0.01)
    mass = 0.02 * sum(body.mass for body in machine.bodies.values())
    limb: Limb = {section: {} for section in SECTIONS}
    limb["bodies"]["caster"] = {
        "mass": f"{mass:.3g} kg", "inertia": [f"{0.4 * mass * radius**2:.4g} kg*m**2"] * 3,
        "shapes": [{"kind": "sphere", "size": [f"{radius:.4g} m"], "wash": "heron", "surface": {"friction": [0.02, 0.02]}}],
    }  # fmt: skip
    limb["joints"]["caster_mount"] = {
        "kind": "fixed", "child": "caster", "origin": [f"{x + 0.35 * a:.4g} m", f"{y:.4g} m", f"{ground + radius:.4g} m"],
    }  # fmt: skip
    return put_limb(document, machine, limb, parent)


def add_thruster(document: Any, machine: Machine, body: str) -> str:
    """A thruster on a body, upwards where it may fly, else ahead; returns its name.

    The first stands at the front (of what flies) or the left (of what floats), a second one where it balances the first.
    """
    root = next((j for j in machine.joints.values() if j.parent == GROUND), None)
    up = root is not None and (root.kind == "free" or (root.kind == "planar" and abs(root.axis[2]) < 0.5))
    up = up and not any(force.kind in ("hull", "float") for force in machine.forces.values())
    (x, y, z), (a, b, _) = _outline(machine, body)
    others = sum(1 for drive in machine.drives.values() if drive.kind == "thrust" and drive.body == body)
    side = 1.0 if others % 2 == 0 else -1.0
    total = sum(part.mass for part in machine.bodies.values())
    if up:
        at, direction, limit = (x + side * 0.45 * a, y, z), [0, 0, 1], total * 9.81
        name = "front_thruster" if side > 0 else "rear_thruster"
    else:
        at, direction, limit = (x - 0.45 * a, y + side * 0.4 * b, z), [1, 0, 0], 0.3 * total
        name = "left_thruster" if side > 0 else "right_thruster"
    made: dict[str, Any] = {
        "kind": "thrust", "body": body, "at": [f"{v + 0.0:.4g} m" for v in at], "direction": direction, "limit": f"{limit:.3g} N",
    }  # fmt: skip
    if not up:
        made["lowest"] = f"{-0.5 * limit:.3g} N"
    name = _free_name(machine, name)
    put_part(document, "drives", name, made)
    return name


def add_shape(document: Any, body: str, kind: str) -> None:
    """One more shape for a body, at its origin."""
    put_shape(document, body, {"kind": kind, "size": list(_HAND[kind]), "wash": "tide"})


def put_shape(document: Any, body: str, shape: dict[str, Any]) -> None:
    """Write one more shape of a body."""
    part = document["bodies"][body]
    if "shapes" not in part:
        part["shapes"] = inline([])
    part["shapes"].append(inline(shape))


def add_drive(document: Any, machine: Machine, joint: str) -> str:
    """An effort drive for a hinge or slider; returns its name."""
    kind = machine.joints[joint].kind
    if kind not in ("hinge", "slider"):
        raise StateError(f"{joint} is {kind}: drives act on hinges and sliders, thrusters on bodies")
    name = _free_name(machine, f"{joint}_drive")
    unit = "N" if kind == "slider" else "N*m"
    put_part(document, "drives", name, {"kind": "effort", "joint": joint, "limit": f"10 {unit}"})
    return name


def add_sensor(document: Any, machine: Machine, kind: str, part: str) -> str:
    """A sensor of a joint (kind "joint") or a body; returns its name."""
    word = {"joint": "angle" if part in machine.joints and machine.joints[part].kind == "hinge" else "travel"}.get(
        kind, kind
    )
    name = _free_name(machine, f"{part}_{word}")
    made: dict[str, Any] = {"kind": kind, "joint" if kind == "joint" else "body": part}
    if kind == "beams":
        made |= {"beams": 8, "spread": "180 deg", "range": "5 m"}
    put_part(document, "sensors", name, made)
    return name


def _free_name(machine: Machine, wanted: str) -> str:
    taken = {name for section in SECTIONS for name in getattr(machine, section)}
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted}_{number}", number + 1
    return name


def remove(document: Any, machine: Machine, section: str, name: str) -> list[str]:
    """Take a part out, with all that hangs on it or refers to it; returns the names of everything that went.

    Raises
    ------
    StateError
        Nothing would be left.
    """
    gone: dict[str, set[str]] = {kind: set() for kind in SECTIONS}
    gone[section].add(name)
    if section in ("bodies", "joints"):
        body = name if section == "bodies" else machine.joints[name].child
        gone["bodies"] |= set(limb_of(machine, body))
        if len(gone["bodies"]) == len(machine.bodies):
            raise StateError(f"{name} carries all of the machine: a machine needs a body; change it instead")
        gone["joints"] |= {j for j, joint in machine.joints.items() if joint.child in gone["bodies"]}
        gone["tanks"] |= {t for t, tank in machine.tanks.items() if tank.body in gone["bodies"]}
    for other, keys in _REFERENCES.items():
        for part, values in document.get(other, {}).items():
            named = [key for key, where in keys.items() if values.get(key) in gone[where]]
            if any((other, key) not in _OPTIONAL or values.get("kind") == "drain" for key in named):
                gone[other].add(part)
            else:
                for key in named:
                    values.remove(key)
    for other in SECTIONS:
        for part in gone[other]:
            if part in document.get(other, {}):
                document[other].remove(part)
        if other in document and not len(document[other]):
            document.remove(other)
    if "no_contact" in document:
        pairs = document["no_contact"]
        for k in range(len(pairs) - 1, -1, -1):
            if pairs[k][0] in gone["bodies"] or pairs[k][1] in gone["bodies"]:
                del pairs[k]
    return sorted(set().union(*gone.values()))


def as_text(limb: Limb) -> str:
    """A limb as text for the clipboard: a piece of a machine file."""
    document = tomlkit.document()
    for section in SECTIONS:
        for name, part in limb[section].items():
            put_part(document, section, name, part)
    return tomlkit.dumps(document)


def from_text(text: str) -> Limb:
    """The limb in a piece of a machine file.

    Raises
    ------
    StateError
        Not such a piece.
    """
    try:
        plain = tomlkit.parse(text).unwrap()
    except Exception as error:  # whatever somebody copied elsewhere
        raise StateError("what was copied is not a part of a machine") from error
    limb: Limb = {section: plain.get(section, {}) for section in SECTIONS}
    if not limb["bodies"] or not limb["joints"] or set(plain) - set(SECTIONS):
        raise StateError("what was copied is not a part of a machine")
    return limb
