"""Bringing meshes and drawings from elsewhere into a project, with a report of what became of them; see `machine_import` for machines.

Nothing is written before it was read and checked whole; files land inside the project folder only.
"""

from __future__ import annotations

import re
import shutil
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import tomlkit
from pydantic import BaseModel

from plucky_heron.errors import FileError
from plucky_heron.files import inside, validate, write_whole
from plucky_heron.machine import editing
from plucky_heron.machine.drawings import colours_of, layers_of, with_drawings
from plucky_heron.machine.meshes import hull_points
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.units import unit_in
from plucky_heron.upgrading import FORMAT

MEANINGS = ("wall", "course", "gate", "ground")


UNITS = {"damping": ("N*m*s/rad", "N*s/m"), "limit": ("N*m", "N"), "no_load_speed": ("rad/s", "m/s")}
"""Of numbers whose unit depends on their joint: of a hinge, of a slider."""
NO_DRIVE = "none"
_OF_PART = re.compile(r"(link|joint) (\S+): (.*)", re.DOTALL)


@dataclass(frozen=True)
class Assumed:
    """A number of the machine that was assumed, and can be set otherwise before it is kept."""

    where: tuple[str | int, ...]
    """In the machine's file."""
    value: str
    """As it stands there."""
    words: str

    @property
    def key(self) -> str:
        """How it is named on the command line."""
        return ".".join(map(str, self.where))

    @property
    def part(self) -> str:
        """What it is assumed of."""
        return str(self.where[1])

    @property
    def kind(self) -> str:
        """What kind of part it is assumed of."""
        found = _OF_PART.match(self.words)
        return found[1] if found else "part"

    @property
    def why(self) -> str:
        """The words without the part."""
        found = _OF_PART.match(self.words)
        return found[3] if found else self.words


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
    assumed: list[Assumed] = field(default_factory=list)

    @property
    def assumptions(self) -> list[str]:
        """All that was assumed or converted, a line each."""
        return [*(f"{a.words}: {a.key} = {a.value}" for a in self.assumed), *self.converted]

    @property
    def groups(self) -> list[list[Assumed]]:
        """What was assumed, with together what was assumed of several joints for the same reason."""
        found: dict[tuple[object, ...], list[Assumed]] = {}
        for a in self.assumed:
            alike = (a.where[0], a.where[2:], a.why) if _OF_PART.match(a.words) else (a.where,)
            found.setdefault(alike, []).append(a)
        return list(found.values())

    @property
    def told(self) -> list[str]:
        """All that was assumed or converted, with a line for what holds for several joints alike."""
        lines = []
        for group in self.groups:
            first = group[0]
            if len(group) == 1:
                lines.append(f"{first.words}: {first.key} = {first.value}")
                continue
            values: dict[str, list[str]] = {}
            for a in group:
                values.setdefault(a.value, []).append(a.part)
            key = ".".join([str(first.where[0]), "NAME", *map(str, first.where[2:])])
            numbers = "; ".join(f"{value} ({', '.join(parts)})" for value, parts in values.items())
            lines.append(f"{len(group)} {first.kind}s, each: {first.why}: {key} = {numbers}")
        return [*lines, *together(self.converted)]

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


def together(lines: list[str]) -> list[str]:
    """Notes, with one line for what is said of several links or joints in the same words."""
    found: dict[tuple[str, str], list[str]] = {}
    for line in lines:
        match = _OF_PART.match(line)
        key = (match[1], match[3]) if match else ("", line)
        found.setdefault(key, []).append(match[2] if match else "")
    return [
        what if not kind else f"{kind} {parts[0]}: {what}" if len(parts) == 1 else f"{len(parts)} {kind}s: {what} ({', '.join(parts)})"
        for (kind, what), parts in found.items()
    ]  # fmt: skip


def assume(report: ImportReport, document: Any, where: tuple[str | int, ...], words: str) -> None:
    """Note what stands there, zero where nothing does, or that there is no such drive."""
    if where[0] == "drives" and where[1] not in document["drives"]:
        report.assumed.append(Assumed(where, NO_DRIVE, words))
        return
    value: Any = document
    for part in where:
        value = value.get(part, 0) if isinstance(part, str) else value[part]
    one = value[0] if isinstance(value, list) else value  # of a pair of equal numbers, such as frictions, one is told
    units = UNITS.get(str(where[-1]))
    if units is not None and not isinstance(one, str):
        joint = where[1] if where[0] == "joints" else document["drives"][where[1]]["joint"]
        one = f"{one:g} {units[document['joints'][joint]['kind'] == 'slider']}"
    report.assumed.append(Assumed(where, str(one), words))


def plain_name(path: Path) -> str:
    """A file's name as a name in a project: letters, digits and _."""
    name = re.sub(r"[^A-Za-z0-9_]+", "_", path.stem).strip("_")
    return name if name[:1].isalpha() else f"m_{name}"


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
