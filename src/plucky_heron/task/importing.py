"""Bringing machines, meshes and drawings from elsewhere into a project, with a report of what became of them.

Nothing is written before it was read and checked whole; files land inside the project folder only.
"""

from __future__ import annotations

import re
import shutil
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import tomlkit
from pydantic import BaseModel

from plucky_heron.errors import FileError
from plucky_heron.files import inside, parse_toml, validate, write_whole
from plucky_heron.machine import editing
from plucky_heron.machine.drawings import colours_of, layers_of, with_drawings
from plucky_heron.machine.meshes import hull_points
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import read_urdf
from plucky_heron.task.problem import bind
from plucky_heron.task.schema import Task
from plucky_heron.units import unit_in
from plucky_heron.upgrading import FORMAT

MEANINGS = ("wall", "course", "gate", "ground")


@dataclass
class ImportReport:
    """What was read, line by line, and what would be written: paths inside the project with their text or their source."""

    name: str
    read: list[str] = field(default_factory=list)
    converted: list[str] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    texts: dict[str, str] = field(default_factory=dict)
    copies: dict[str, Path] = field(default_factory=dict)
    task: str = ""

    def keep(self, folder: Path) -> None:
        """Write everything into a project.

        Raises
        ------
        FileError
            Something of that name is there already.
        """
        for relative in (*self.texts, *self.copies):
            if inside(folder, relative).exists():
                raise FileError(folder / relative, "", None, "is there already; rename it or the file that is imported")
        for relative, source in self.copies.items():
            target = inside(folder, relative)
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(source, target)
        for relative, text in self.texts.items():
            target = inside(folder, relative)
            target.parent.mkdir(parents=True, exist_ok=True)
            write_whole(target, text)


def plain_name(path: Path) -> str:
    """A file's name as a name in a project: letters, digits and _."""
    name = re.sub(r"[^A-Za-z0-9_]+", "_", path.stem).strip("_")
    return name if name[:1].isalpha() else f"m_{name}"


def machine_from_urdf(source: Path, free: bool = False) -> ImportReport:
    """A URDF as a machine of ours, its meshes as hulls of corners, with a plain site and a task in which it can be seen and let go."""
    found = read_urdf(source, free)
    machine, name = found.machine, plain_name(source)
    report = ImportReport(name, task=name)
    shapes = [shape for body in machine.bodies.values() for shape in body.shapes]
    kinds = Counter(joint.kind for joint in machine.joints.values())
    report.read = [
        f"{len(machine.bodies)} bodies, {sum(b.mass for b in machine.bodies.values()):.4g} kg",
        ", ".join(f"{count} {kind}" for kind, count in kinds.items()) + " joints",
        f"{len(shapes)} shapes, {sum(s.kind == 'hull' for s in shapes)} of them convex hulls of meshes",
        f"{len(machine.drives)} drives, {len(machine.couplings)} couplings",
    ]
    for note in found.notes:
        (report.left_out if re.search(r"left out|ignored|not ", note) else report.converted).append(note)
    document = as_document(machine, f"Imported from {source.name}.")
    if not any(joint.kind in ("hinge", "slider") for joint in machine.joints.values()):
        raise FileError(
            source, "joint", None, "has no hinge or slider; a machine of ours needs one that a drive can move"
        )
    if not machine.drives:
        for joint, part in machine.joints.items():
            if part.kind in ("hinge", "slider"):
                editing.add_drive(document, machine, joint)
        report.converted.append(
            "it names no drives: every moving joint has one of 10 N·m or 10 N; set what they can do"
        )
    text = tomlkit.dumps(document)
    machine = validate(Machine, parse_toml(text, source), source)
    report.texts[f"machines/{name}.toml"] = text
    ground = '[terrain]\nkind = "flat"\n' if free else ""
    report.texts[f"sites/{name}_place.toml"] = f'# Made for {name}: still air{", level ground" if free else ""}.\nformat = {FORMAT}\nname = "{name} place"\n{ground}'  # fmt: skip
    task = tomlkit.dumps(first_task(machine, name))
    report.texts[f"tasks/{name}.toml"] = task
    bind(machine, Site(), validate(Task, parse_toml(task, source), source), str(source))
    return report


def as_document(machine: Machine, comment: str) -> tomlkit.TOMLDocument:
    """A machine as its file: what differs from the defaults, with units where the schema knows them."""
    document = tomlkit.document()
    document.add(tomlkit.comment(f"{comment} Numbers without a unit are in SI units."))
    document["format"] = FORMAT
    document["name"] = machine.name
    for key in ("notes", "no_contact"):
        if getattr(machine, key):
            document[key] = editing.inline(_written(getattr(machine, key), None))
    for section in editing.SECTIONS:
        for name, part in getattr(machine, section).items():
            editing.put_part(document, section, name, _part(part))
    return document


def _part(part: BaseModel) -> dict[str, Any]:
    written: dict[str, Any] = {}
    for key, info in type(part).model_fields.items():
        value = getattr(part, key)
        if value is None or (not info.is_required() and value == info.get_default(call_default_factory=True)):
            continue
        if key == "points" and getattr(part, "file", None):
            continue  # they stand in the mesh
        unit = next((u for mark in info.metadata if (u := unit_in(mark)) is not None), None)
        written[key] = _written(value, unit if unit is not None else unit_in(info.annotation))
    return written


def _written(value: Any, unit: str | None) -> Any:
    if isinstance(value, BaseModel):
        return _part(value)
    if isinstance(value, list | tuple):
        return [_written(v, unit) for v in value]
    if isinstance(value, float):
        text = f"{value:.9g}"
        return f"{text} {unit}" if unit else float(text)
    return value


def first_task(machine: Machine, name: str) -> tomlkit.TOMLDocument:
    """A task in which a machine can be seen, let go and driven: all hinges and sliders sensed, all drives given.

    What is wanted of it is for the engineer to say; until then it is to rest.
    """
    document = tomlkit.document()
    document.add(tomlkit.comment("Made on import, to see and drive the machine. Say here what it is wanted to do."))
    document["format"] = FORMAT
    document["name"] = name.replace("_", " ")
    document["machine"], document["site"] = name, f"{name}_place"
    timing = tomlkit.table()
    timing.update({"control_rate": "50 Hz", "substeps": 10, "time_limit": "20 s"})
    document["timing"] = timing
    observations, actions = tomlkit.aot(), tomlkit.aot()
    speeds = []
    for joint, part in machine.joints.items():
        if part.kind not in ("hinge", "slider"):
            continue
        unit = part.unit
        low, high = part.limits or ((-np.pi, np.pi) if unit == "rad" else (-1.0, 1.0))
        speeds.append(f"{joint}.velocity")
        for word, low_, high_, u in (("position", low, high, unit), ("velocity", -10.0, 10.0, f"{unit}/s")):
            row = tomlkit.table()
            row.update({"name": f"{joint} {word}", "formula": f"{joint}.{word}", "unit": u})
            row["range"] = editing.inline([f"{low_:.6g} {u}", f"{high_:.6g} {u}"])
            observations.append(row)
    for drive in machine.drives:
        row = tomlkit.table()
        row.update({"name": drive, "drive": drive})
        actions.append(row)
    document["observations"], document["actions"] = observations, actions
    still = " and ".join(f"abs({speed}) < 0.01" for speed in speeds) or "time > 1"
    if len(still) > 600:  # a formula is short enough to be read: what is long gets names
        groups = [speeds[k : k + 12] for k in range(0, len(speeds), 12)]
        document["signals"] = {
            f"still_{k + 1}": {"formula": " and ".join(f"abs({speed}) < 0.01" for speed in group)}
            for k, group in enumerate(groups)
        }
        still = " and ".join(f"still_{k + 1}" for k in range(len(groups)))
    document["rewards"] = {"rest": {"formula": f"where({still}, 1, 0)", "weight": 0.01}}
    document["measure"] = {"name": "at rest", "formula": still}
    return document


def mesh_shape(machine_file: Path, source: Path) -> tuple[ImportReport, dict[str, Any]]:
    """A mesh from elsewhere as a hull: the report, and the shape as it will stand in the machine file."""
    corners = np.array(hull_points(source.parent / machine_file.name, source.name))
    size = np.ptp(corners, axis=0)
    report = ImportReport(plain_name(source))
    kept = f"{machine_file.stem}_meshes/{source.name}"
    report.copies[f"machines/{kept}"] = source
    report.read = [f"convex hull of {len(corners)} corners, {size[0]:.3g} x {size[1]:.3g} x {size[2]:.3g} m"]
    report.left_out = ["hollows: a hull bridges them; use several meshes for a hollow body"]
    scale = 1.0
    if size.max() > 20.0:
        scale = 0.001
        report.converted = ["larger than 20 m: taken to be in millimetres (scale = 0.001)"]
    shape: dict[str, Any] = {"kind": "hull", "file": kept}
    return report, shape | ({"scale": scale} if scale != 1.0 else {})


def legend_of(source: Path) -> dict[str, int]:
    """What a drawing could give: layers of an SVG or colours of a PNG (without its ground), with how often each occurs."""
    return colours_of(source) if source.suffix.lower() == ".png" else layers_of(source)


def drawing_of_site(
    site_file: Path, source: Path, legend: dict[str, str], scale: float
) -> tuple[ImportReport, dict[str, Any]]:
    """An SVG or PNG from elsewhere as a drawing of a site: the report, and the entry for the site file."""
    report = ImportReport(plain_name(source))
    entry: dict[str, Any] = {"file": source.name, "scale": scale, "legend": legend}
    beside = validate(Site, {"drawings": {report.name: entry}}, source)
    _, notes = with_drawings(beside, source.parent / site_file.name)
    for note in notes:
        (report.read if ": read " in note else report.left_out).append(note)
    report.copies[f"sites/{source.name}"] = source
    return report, entry
