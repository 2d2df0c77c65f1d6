"""New, copied, renamed and removed parts of a project, as changes of its files: what refers to a part follows it.

A change is the text that a file is to have, or None where it is to go. Nothing is written here.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Literal

import numpy as np
import tomlkit

from plucky_heron.errors import FileError
from plucky_heron.files import inside, read_text, validate
from plucky_heron.machine import editing
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.upgrading import FORMAT

Kind = Literal["machines", "sites", "tasks", "recipes"]
Changes = dict[str, str | None]
ONE = {"machines": "machine", "sites": "site", "tasks": "task", "recipes": "recipe"}
BESIDE_A_TASK = ("scores", "measured")
"""Files of a task beside it, ``tasks/TASK.scores.json``: they go where it goes."""
STANDS = ("stands", "drives", "flies", "floats", "flies in a plane", "floats in a plane")
"""How a new machine stands."""
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,59}")


def check_name(folder: Path, kind: Kind, name: str) -> str:
    """A name for a new part.

    Raises
    ------
    FileError
        Not a name, or taken.
    """
    if not _NAME.fullmatch(name):
        raise FileError(folder, ONE[kind], name, "a name has up to 60 letters, digits, _ and -, and begins with a letter or digit")  # fmt: skip
    for suffix in (".toml", ".urdf"):
        if inside(folder, f"{kind}/{name}{suffix}").exists():
            raise FileError(folder, ONE[kind], name, "is there already; choose another name")
    return name


def free_name(folder: Path, kind: Kind, wanted: str) -> str:
    """`wanted`, or with a number behind it where that is taken."""
    stem = re.sub(r"[^A-Za-z0-9_-]+", "_", wanted).strip("_") or ONE[kind]
    name, number = stem, 2
    while any(inside(folder, f"{kind}/{name}{suffix}").exists() for suffix in (".toml", ".urdf")):
        name, number = f"{stem}_{number}", number + 1
    return name


def new_machine(folder: Path, name: str, stands: str) -> Changes:
    """A machine of one body to go on from, with a driven link where it stands on the ground, and a site where the project has none that suits it.

    stands: "stands" on the ground, "drives" on it, "flies" above it, "floats" on water; "in a plane" as seen from the side
    (flies) or from above (floats).
    """
    check_name(folder, "machines", name)
    document = _document(name)
    size, mass = ("0.4 m", "0.3 m", "0.1 m"), 4.0
    joint: dict[str, Any] = {"kind": "free", "child": "body"}
    if stands == "stands":
        size, mass = ("0.2 m", "0.2 m", "0.1 m"), 5.0
        joint = {"kind": "fixed", "child": "body", "origin": ["0 m", "0 m", "0.05 m"]}
    elif stands == "drives":
        joint["start"] = ["0 m", "0 m", "0.15 m", "0 rad", "0 rad", "0 rad"]
    elif stands == "flies":
        joint["start"] = ["0 m", "0 m", "2 m", "0 rad", "0 rad", "0 rad"]
    elif stands == "flies in a plane":
        joint = {"kind": "planar", "child": "body", "axis": [0, 1, 0], "start": ["0 m", "2 m", "0 rad"]}
    elif stands == "floats in a plane":
        size, mass = ("2 m", "0.8 m", "0.4 m"), 120.0
        joint = {"kind": "planar", "child": "body", "axis": [0, 0, 1]}
    elif stands == "floats":
        size, mass = ("2 m", "0.8 m", "0.4 m"), 120.0
    else:
        raise FileError(folder, "stands", stands, f"wanted one of {', '.join(STANDS)}")
    inertia = solid_inertia("box", [float(s.split()[0]) for s in size], mass)
    body = {"mass": f"{mass:g} kg", "inertia": [f"{v:.4g} kg*m**2" for v in inertia], "shapes": [{"kind": "box", "size": list(size)}]}  # fmt: skip
    editing.put_part(document, "bodies", "body", body)
    editing.put_part(document, "joints", "base", joint)
    if stands.startswith("floats"):
        length, width, height = (float(s.split()[0]) for s in size)
        hull = {
            "kind": "hull", "body": "body", "added_mass": [f"{0.1 * mass:.3g} kg", f"{0.8 * mass:.3g} kg", f"{mass:.3g} kg"],
            "added_inertia": [f"{0.3 * inertia[0]:.3g} kg*m**2", f"{0.3 * inertia[1]:.3g} kg*m**2", f"{0.4 * inertia[2]:.3g} kg*m**2"],
            "damping": [f"{0.3 * mass:.3g} N*s/m", f"{mass:.3g} N*s/m", f"{2 * mass:.3g} N*s/m"],
            "turn_damping": [f"{0.5 * mass * width:.3g} N*m*s/rad", f"{0.5 * mass * length:.3g} N*m*s/rad", f"{0.3 * mass * length:.3g} N*m*s/rad"],
            "square": [f"{25 * width:.3g} kg/m", f"{400 * length * height / 2:.3g} kg/m", f"{500 * length * width:.3g} kg/m"],
        }  # fmt: skip
        editing.put_part(document, "forces", "water", hull)
        if stands == "floats":
            editing.put_part(document, "forces", "buoyancy", {"kind": "float", "body": "body"})
    if stands == "stands":  # what stands needs something that moves
        editing.add_link(document, validate(Machine, document.unwrap(), name), "body")
    changes: Changes = {f"machines/{name}.toml": tomlkit.dumps(document)}
    site = "water" if stands.startswith("floats") else "hall" if stands == "stands" else "yard"
    if not inside(folder, f"sites/{site}.toml").exists():
        changes[f"sites/{site}.toml"] = new_site(site, stands)
    return changes


def site_for(stands: str) -> str:
    """The site that a new machine gets."""
    return {"stands": "hall", "in space": "space"}.get(stands, "water" if stands.startswith("floats") else "yard")


def stands_of(machine: Machine) -> str:
    """How a machine stands, as far as its site goes: it floats, drives (or flies) about, is fixed, or is in space: what only flywheels move."""
    if any(force.kind in ("hull", "float") for force in machine.forces.values()):
        return "floats"
    turning = [str(d.joint) for d in machine.drives.values()]
    wheels = [machine.joints[j] for j in turning if j in machine.joints and machine.joints[j].kind == "hinge" and machine.joints[j].limits is None]  # fmt: skip
    axes = np.array([joint.axis for joint in wheels], dtype=float).reshape(-1, 3)
    touching = any(shape.solid for joint in wheels for shape in machine.bodies[joint.child].shapes)
    free = any(joint.kind == "free" and joint.parent == GROUND for joint in machine.joints.values())
    if free and len(wheels) == len(machine.drives) and not touching and np.linalg.matrix_rank(axes) == 3:
        return "in space"
    return "drives" if any(joint.kind in ("free", "planar") for joint in machine.joints.values()) else "stands"


def new_site(name: str, stands: str = "drives") -> str:
    """A plain site: still air, level ground where something drives or flies, still water where it floats."""
    document = _document(name.replace("_", " "))
    if stands.startswith("floats"):
        document["water_level"] = "0 m"
    elif stands == "in space":
        document["gravity"], document["air_density"] = "0 m/s**2", "0 kg/m**3"
    elif stands != "stands":
        document["terrain"] = editing.inline({"kind": "flat"})
    return tomlkit.dumps(document)


def solid_inertia(kind: str, size: list[float], mass: float) -> tuple[float, float, float]:
    """Principal inertia (kg m2) of a solid of even density about its middle; capsule and cylinder along z."""
    if kind == "box":
        a, b, c = size
        return mass * (b * b + c * c) / 12.0, mass * (a * a + c * c) / 12.0, mass * (a * a + b * b) / 12.0
    radius = size[0]
    if kind == "sphere":
        return (0.4 * mass * radius**2,) * 3
    length = size[1]
    if kind == "cylinder":
        across = mass * (3.0 * radius**2 + length**2) / 12.0
        return across, across, 0.5 * mass * radius**2
    # a capsule: cylinder and two half spheres
    tube, ends = length, 4.0 * radius / 3.0
    share = tube / (tube + ends)
    m1, m2 = mass * share, mass * (1.0 - share)
    across = m1 * (3.0 * radius**2 + length**2) / 12.0 + m2 * (
        0.4 * radius**2 + 0.25 * length**2 + 0.375 * length * radius
    )
    return across, across, 0.5 * m1 * radius**2 + 0.4 * m2 * radius**2


def _document(name: str) -> tomlkit.TOMLDocument:
    document = tomlkit.document()
    document["format"] = FORMAT
    document["name"] = name
    return document


def copied(folder: Path, kind: Kind, old: str, new: str) -> Changes:
    """A copy of a part under another name; what it refers to stays."""
    check_name(folder, kind, new)
    path = inside(folder, f"{kind}/{old}.toml")
    if not path.is_file():
        raise FileError(path, "", None, "cannot be copied: it is no file of ours; bring it in first")
    document = tomlkit.parse(read_text(path))
    if "name" in document:
        document["name"] = new.replace("_", " ")
    return {f"{kind}/{new}.toml": tomlkit.dumps(document)}


def renamed(folder: Path, kind: Kind, old: str, new: str) -> Changes:
    """A part under another name, and every file that names it changed with it."""
    check_name(folder, kind, new)
    suffix = ".toml" if inside(folder, f"{kind}/{old}.toml").is_file() else ".urdf"
    text = read_text(inside(folder, f"{kind}/{old}{suffix}"))
    if suffix == ".toml":
        document = tomlkit.parse(text)
        # a title that only repeats the old name follows; one of its own stays
        if str(document.get("name", "")).replace(" ", "_") == old.replace(" ", "_"):
            document["name"] = new.replace("_", " ")
        text = tomlkit.dumps(document)
    changes: Changes = {f"{kind}/{old}{suffix}": None, f"{kind}/{new}{suffix}": text}
    if kind == "tasks":
        for what in BESIDE_A_TASK:
            kept = inside(folder, f"tasks/{old}.{what}.json")
            if kept.is_file():
                changes |= {f"tasks/{old}.{what}.json": None, f"tasks/{new}.{what}.json": read_text(kept)}
    for path, document, _ in references(folder, kind, old):
        _replace(document, kind, old, new)
        changes[path] = tomlkit.dumps(document)
    return changes


def removed(folder: Path, kind: Kind, name: str) -> Changes:
    """A part taken out.

    Raises
    ------
    FileError
        Something refers to it; what it is is said.
    """
    users = [path for path, _, needs in references(folder, kind, name) if needs]
    if users:
        raise FileError(folder, ONE[kind], name, f"is used by {', '.join(users[:4])}; remove or change these first")
    suffix = ".toml" if inside(folder, f"{kind}/{name}.toml").is_file() else ".urdf"
    changes: Changes = {f"{kind}/{name}{suffix}": None}
    if kind == "tasks":
        for what in BESIDE_A_TASK:
            if inside(folder, f"tasks/{name}.{what}.json").is_file():
                changes[f"tasks/{name}.{what}.json"] = None
        for path, document, _ in references(folder, kind, name):
            left = [task for task in document["tasks"] if task != name]
            document["tasks"] = left
            # a recipe that was for this task alone is for none now, not for every one
            changes[path] = tomlkit.dumps(document) if left else None
    return changes


def references(folder: Path, kind: Kind, name: str) -> Iterator[tuple[str, Any, bool]]:
    """Files that name a part: path in the project, document, and whether they cannot do without it."""
    where = {"machines": ("tasks",), "sites": ("tasks",), "tasks": ("recipes", "sweeps"), "recipes": ("sweeps",)}[kind]
    for place in where:
        for path in sorted((folder / place).glob("*.toml")):
            try:
                document = tomlkit.parse(read_text(path))
            except Exception:  # whatever is wrong with it is said where it is read
                continue
            if kind in ("machines", "sites"):
                if document.get(ONE[kind]) == name:
                    yield f"{place}/{path.name}", document, True
            elif name in (document.get("tasks") or ()) or document.get(ONE[kind]) == name:
                yield f"{place}/{path.name}", document, place == "sweeps"


def _replace(document: Any, kind: Kind, old: str, new: str) -> None:
    if document.get(ONE[kind]) == old:
        document[ONE[kind]] = new
    if kind == "tasks" and "tasks" in document:
        for k, task in enumerate(document["tasks"]):
            if task == old:
                document["tasks"][k] = new


def first_task_changed(folder: Path, old: str, new: str) -> Changes:
    """``project.toml`` where it names a task that is called otherwise now."""
    text = read_text(inside(folder, "project.toml"))
    document = tomlkit.parse(text)
    if document.get("first_task") != old:
        return {}
    document["first_task"] = new
    return {"project.toml": tomlkit.dumps(document)}
