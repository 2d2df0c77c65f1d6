"""A wish as files: the task, and what machine and site get for it; checked whole before anything is written."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import tomlkit

from plucky_heron.errors import FileError, did_you_mean
from plucky_heron.files import inside, parse_toml, read_text, validate
from plucky_heron.machine import editing
from plucky_heron.machine.drawings import with_drawings
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.problem import bind
from plucky_heron.task.project_files import check_name, free_name, new_site, site_for, stands_of
from plucky_heron.task.schema import Task
from plucky_heron.task.wishes.catalogue import WISHES, draft_of, wish_named
from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.look import look_at


@dataclass(frozen=True)
class Written:
    """Files of a wish, by their path in the project, and what they say line by line."""

    task: str
    draft: Draft
    texts: dict[str, str]


def written_wish(
    folder: Path, machine: str, site: str, wish: str, answers: Mapping[str, str | float], name: str = ""
) -> Written:
    """The files of a wish in a project; nothing is written yet. Without a site, a plain one that suits the machine is among them.

    Raises
    ------
    FileError
        The wish does not fit, or machine or site cannot be read or changed.
    """
    path = _machine_file(folder, machine)
    site, site_text = _place(folder, site, path)
    texts = {f"machines/{machine}.toml": read_text(path), f"sites/{site}.toml": site_text}
    return written_on(folder, texts, machine, site, wish, answers, name)


@dataclass(frozen=True)
class Offer:
    """A wish for one machine: whether it fits, and what it would ask."""

    name: str
    says: str
    unfit: str
    questions: tuple[Question, ...]


def offers(folder: Path, machine: str, site: str) -> list[Offer]:
    """All wishes, looked at for a machine on a site; see `written_wish`."""
    path = _machine_file(folder, machine)
    site, site_text = _place(folder, site, path)
    site_path = inside(folder, f"sites/{site}.toml")
    place, _ = with_drawings(validate(Site, parse_toml(site_text, site_path), site_path), site_path)
    look = look_at(read_machine(path), place)
    found = []
    for wish in WISHES:
        why = wish.unfit(look)
        found.append(Offer(wish.name, wish.says, why, () if why else wish.questions(look)))
    return found


def _place(folder: Path, site: str, machine_file: Path) -> tuple[str, str]:
    """The site's name and text: the one that is named, else a plain one that suits the machine."""
    if site:
        return site, read_text(inside(folder, f"sites/{site}.toml"))
    stands = stands_of(read_machine(machine_file))
    name = free_name(folder, "sites", site_for(stands))
    return name, new_site(name, stands)


def _machine_file(folder: Path, machine: str) -> Path:
    path = inside(folder, f"machines/{machine}.toml")
    if path.is_file():
        return path
    known = sorted(p.stem for p in (folder / "machines").glob("*.toml"))
    if inside(folder, f"machines/{machine}.urdf").is_file():
        raise FileError(folder, "machine", machine, "is a URDF that is read as it is; bring it in with heron import")
    raise FileError(folder, "machine", machine, f"no such machine; {did_you_mean(machine, known)}")


def written_on(
    folder: Path,
    texts: dict[str, str],
    machine: str,
    site: str,
    wish: str,
    answers: Mapping[str, str | float],
    name: str = "",
    meshes: Path | None = None,
) -> Written:
    """The same for machine and site as they stand in `texts`; `meshes`: the machine's file beside which its meshes stand, else where it will be."""
    paths = f"machines/{machine}.toml", f"sites/{site}.toml"
    look = look_at(*_both(folder, texts, paths, meshes))
    draft = draft_of(wish_named(wish), look, answers)
    name = check_name(folder, "tasks", name or free_name(folder, "tasks", draft.name.replace("-", "_")))
    texts = dict(texts)
    if draft.sensors:
        document = tomlkit.parse(texts[paths[0]])
        for sensor, entry in draft.sensors.items():
            editing.put_part(document, "sensors", sensor, entry)
        texts[paths[0]] = tomlkit.dumps(document)
    if draft.courses:
        document = tomlkit.parse(texts[paths[1]])
        for course, entry in draft.courses.items():
            editing.put_part(document, "courses", course, entry)
        texts[paths[1]] = tomlkit.dumps(document)
    text = tomlkit.dumps(draft.document(machine, site, wish_named(wish).name))
    source = inside(folder, f"tasks/{name}.toml")
    task = validate(Task, parse_toml(text, source), source)
    bind(*_both(folder, texts, paths, meshes), task, str(source))
    return Written(name, draft, {**texts, f"tasks/{name}.toml": text})


def _both(folder: Path, texts: Mapping[str, str], paths: tuple[str, str], meshes: Path | None) -> tuple[Machine, Site]:
    from plucky_heron.machine.meshes import with_meshes

    machine_path, site_path = folder / paths[0], folder / paths[1]
    machine = validate(Machine, parse_toml(texts[paths[0]], machine_path), machine_path)
    site = validate(Site, parse_toml(texts[paths[1]], site_path), site_path)
    return with_meshes(machine, meshes or machine_path), with_drawings(site, site_path)[0]
