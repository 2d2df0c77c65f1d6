"""Bringing a machine file of ours from elsewhere into a project: its text as it stands, its meshes, a site that suits it, and a task."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import tomlkit

from plucky_heron.errors import FileError
from plucky_heron.files import inside, parse_toml, read_text, validate
from plucky_heron.machine.meshes import project_of, with_meshes
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.importing import ImportReport, plain_name
from plucky_heron.task.machine_import import first_task, machine_from_urdf
from plucky_heron.task.problem import bind
from plucky_heron.task.project_files import check_name, new_site, stands_of
from plucky_heron.task.schema import Task
from plucky_heron.task.wishes.look import look_at
from plucky_heron.task.wishes.writing import written_on
from plucky_heron.upgrading import upgrade_text

PLACES = {
    "floats": "still water",
    "drives": "level ground",
    "in space": "no gravity, no air",
    "stands": "still air, no ground",
}
MACHINE_FILES = (".toml", ".urdf", ".xml")
"""Endings of files that a machine can be brought in from."""


def machine_from_file(
    source: Path,
    free: bool | None = None,
    wish: str = "",
    answers: Mapping[str, str | float] | None = None,
    folder: Path | None = None,
    name: str = "",
    numbers: Mapping[str, str] | None = None,
    takes: str = "",
) -> ImportReport:
    """A machine from a file of either kind; see `machine_from_urdf`, whose `free`, `numbers` and `takes` are for URDFs only."""
    if source.suffix.lower() != ".toml":
        return machine_from_urdf(source, free, wish, answers, folder, name, numbers, takes)
    if free is not None or takes or numbers:
        what = "--set" if numbers else "--drives" if takes else "--free" if free else "--fixed"
        raise FileError(source, what, None, "is for URDFs; a machine file says all of it, and is changed after it was brought in")  # fmt: skip
    return _copied(source, wish, answers or {}, folder, name)


def _copied(
    source: Path, wish: str, answers: Mapping[str, str | float], folder: Path | None, name: str
) -> ImportReport:
    """A machine file of ours as it stands, brought up to date, with the meshes that it names.

    Raises
    ------
    FileError
        No machine, a mesh that is not inside the file's own folder, or a wish that does not fit it.
    """
    name = name or plain_name(source)
    plain = read_text(source)
    parse_toml(plain, source)  # what is no TOML is told as everywhere
    text = upgrade_text(plain, "machines")
    machine = with_meshes(validate(Machine, parse_toml(text, source), source), source)
    report = ImportReport(name, task=name)
    report.read = [
        f"{len(machine.bodies)} bodies, {sum(body.mass for body in machine.bodies.values()):.4g} kg",
        f"{len(machine.joints)} joints, {len(machine.drives)} drives, {len(machine.sensors)} sensors",
    ]
    for mesh in sorted({s.file for body in machine.bodies.values() for s in body.shapes if s.file}):
        path = inside(project_of(source), source.resolve().parent / mesh)
        if ".." in Path(mesh).parts:
            raise FileError(
                source, "file", mesh, "stands above the machine's own folder; put it beside the machine file"
            )
        # by the name that the machine file gives it, also where that is a link
        report.copies[f"machines/{Path(mesh)}"] = path
    if report.copies:
        report.read.append(f"{len(report.copies)} meshes")
    stands = stands_of(machine)
    site_text = new_site(f"{name} place", stands)
    report.converted = [f"a plain site for it: {PLACES[stands]}"]
    texts = {f"machines/{name}.toml": text, f"sites/{name}_place.toml": site_text}
    if folder is not None:
        check_name(folder, "machines", name)
    if wish:
        made = written_on(folder or source.parent, texts, name, f"{name}_place", wish, answers, meshes=source)
        report.task, report.texts = made.task, made.texts
        report.converted += [f"task: {line.card.lower()}: {line.text} ({line.why})" for line in made.draft.lines]
        return report
    site = validate(Site, parse_toml(site_text, source), source)
    task = tomlkit.dumps(first_task(look_at(machine, site), name))
    report.texts = {**texts, f"tasks/{name}.toml": task}
    bind(machine, site, validate(Task, parse_toml(task, source), source), str(source))
    return report
