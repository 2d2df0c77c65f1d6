"""A wish as files: the task, and what machine and site get for it; checked whole before anything is written."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import tomlkit

from plucky_heron.errors import FileError, did_you_mean
from plucky_heron.files import inside, parse_toml, read_text, validate
from plucky_heron.machine import editing
from plucky_heron.machine.drawings import read_site, with_drawings
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.problem import bind
from plucky_heron.task.project_files import check_name, free_name
from plucky_heron.task.schema import Task
from plucky_heron.task.wishes.catalogue import WISHES, draft_of, wish_named
from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.look import Look


@dataclass(frozen=True)
class Written:
    """Files of a wish, by their path in the project, and what they say line by line."""

    task: str
    draft: Draft
    texts: dict[str, str]


def written_wish(
    folder: Path, machine: str, site: str, wish: str, answers: Mapping[str, str | float], name: str = ""
) -> Written:
    """The files of a wish in a project; nothing is written yet.

    Raises
    ------
    FileError
        The wish does not fit, or machine or site cannot be read or changed.
    """
    path = _machine_file(folder, machine)
    site_path = inside(folder, f"sites/{site}.toml")
    texts = {f"machines/{machine}.toml": read_text(path), f"sites/{site}.toml": read_text(site_path)}
    return written_on(folder, texts, machine, site, wish, answers, name)


@dataclass(frozen=True)
class Offer:
    """A wish for one machine: whether it fits, and what it would ask."""

    name: str
    says: str
    unfit: str
    questions: tuple[Question, ...]


def offers(folder: Path, machine: str, site: str) -> list[Offer]:
    """All wishes, looked at for a machine on a site."""
    look = Look(read_machine(_machine_file(folder, machine)), read_site(inside(folder, f"sites/{site}.toml")))
    found = []
    for wish in WISHES:
        why = wish.unfit(look)
        found.append(Offer(wish.name, wish.says, why, () if why else wish.questions(look)))
    return found


def _machine_file(folder: Path, machine: str) -> Path:
    path = inside(folder, f"machines/{machine}.toml")
    if path.is_file():
        return path
    known = sorted(p.stem for p in (folder / "machines").glob("*.toml"))
    if inside(folder, f"machines/{machine}.urdf").is_file():
        raise FileError(folder, "machine", machine, "is a URDF that is read as it is; bring it in with heron import")
    raise FileError(folder, "machine", machine, f"no such machine; {did_you_mean(machine, known)}")


def written_on(
    folder: Path, texts: dict[str, str], machine: str, site: str, wish: str, answers: Mapping[str, str | float], name: str = ""
) -> Written:  # fmt: skip
    """The same for machine and site as they stand in `texts`."""
    paths = f"machines/{machine}.toml", f"sites/{site}.toml"
    look = Look(*_both(folder, texts, paths))
    draft = draft_of(wish_named(wish), look, answers)
    name = check_name(folder, "tasks", name or free_name(folder, "tasks", draft.name))
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
    bind(*_both(folder, texts, paths), task, str(source))
    return Written(name, draft, {**texts, f"tasks/{name}.toml": text})


def _both(folder: Path, texts: Mapping[str, str], paths: tuple[str, str]) -> tuple[Machine, Site]:
    from plucky_heron.machine.meshes import with_meshes

    machine_path, site_path = folder / paths[0], folder / paths[1]
    machine = validate(Machine, parse_toml(texts[paths[0]], machine_path), machine_path)
    site = validate(Site, parse_toml(texts[paths[1]], site_path), site_path)
    return with_meshes(machine, machine_path), with_drawings(site, site_path)[0]
