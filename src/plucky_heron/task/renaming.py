"""Another name for an entry of a file: its own key, keys that refer to it, and formulas that name it, in every file concerned."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import tomlkit

from plucky_heron.errors import FileError
from plucky_heron.files import inside, parse_toml, read_text, validate
from plucky_heron.machine.drawings import with_drawings
from plucky_heron.machine.meshes import with_meshes
from plucky_heron.machine.parts import GROUND
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.own_code import load_code
from plucky_heron.task.problem import bind
from plucky_heron.task.schema import Task

PLAIN = ("name", "notes", "positive", "kind", "file", "wash", "unit", "format", "machine", "site")
"""Keys whose texts are no formulas and name nothing."""


def entry_renamed(folder: Path, path: str, section: str, old: str, new: str) -> dict[str, str | None]:
    """Changes that call an entry otherwise; every task that is touched is read and bound as it would be then.

    Raises
    ------
    FileError
        The name is taken, or something would not fit any more.
    """
    document = tomlkit.parse(read_text(inside(folder, path)))
    entries = document.get(section)
    if not isinstance(entries, dict) or old not in entries:
        raise FileError(folder / path, section, old, "is no entry with a name of its own")
    if new in entries or new == GROUND:
        raise FileError(folder / path, section, new, "is there already; choose another name")
    kind = path.partition("/")[0]
    if kind == "machines" and not re.fullmatch(r"[A-Za-z][A-Za-z0-9_]*", new):
        raise FileError(folder / path, section, new, "a name has letters, digits and _, and begins with a letter")
    _rename_key(entries, old, new)
    _rename_in(document, old, new, section if kind == "machines" else "")
    changes: dict[str, str | None] = {path: tomlkit.dumps(document)}
    if kind == "machines":
        name = Path(path).stem
        for task_path in sorted((folder / "tasks").glob("*.toml")):
            task = tomlkit.parse(read_text(task_path))
            if task.get("machine") == name:
                _rename_in(task, old, new, section)
                changes[f"tasks/{task_path.name}"] = tomlkit.dumps(task)
    _check(folder, changes)
    return changes


def _check(folder: Path, changes: dict[str, str | None]) -> None:
    """Read and bind every task that is among the changes, with machine and site as they would be."""

    def read(kind: str, name: str, model: Any) -> Any:
        place = inside(folder, f"{kind}/{name}.toml")
        text = changes.get(f"{kind}/{name}.toml") or read_text(place)
        return validate(model, parse_toml(text, place), place)

    for path, text in changes.items():
        place = inside(folder, path)
        kind = path.partition("/")[0]
        if kind == "machines":
            validate(Machine, parse_toml(text or "", place), place)
        if kind != "tasks" or text is None:
            continue
        task: Task = validate(Task, parse_toml(text, place), place)
        if not inside(folder, f"machines/{task.machine}.toml").is_file():
            continue
        machine = with_meshes(read("machines", task.machine, Machine), folder / "machines" / f"{task.machine}.toml")
        site = with_drawings(read("sites", task.site, Site), folder / "sites" / f"{task.site}.toml")[0]
        code = load_code(folder, task.code, place) if task.code is not None else None
        bind(machine, site, task, str(place), code)


def _rename_key(table: Any, old: str, new: str) -> None:
    """Another key in the same place of a table."""
    kept = [(key, table[key]) for key in list(table)]
    for key, _ in kept:
        table.remove(key)
    for key, value in kept:
        table[new if key == old else key] = value


def _rename_in(part: Any, old: str, new: str, section: str) -> None:
    """All that names an entry, in keys and values, down through tables and lists."""
    token = re.compile(rf"(?<![\w.\"]){re.escape(old)}(?![\w])")
    if isinstance(part, dict):
        for key in list(part):
            value = part[key]
            if isinstance(value, str):
                if key not in PLAIN and token.search(value) and not _is_other(key, section):
                    part[key] = token.sub(new, value)
            else:
                _rename_in(value, old, new, section)
            # keys such as "cable.position" of starts, or a joint in regulator.hold; names of entries of their own stay
            front, dot, rest = key.partition(".")
            if section and front == old and (dot or key == old) and _names_parts(part, key):
                _rename_key(part, key, f"{new}{dot}{rest}")
    elif isinstance(part, list):
        for k, value in enumerate(part):
            if isinstance(value, str):
                if value == old:
                    part[k] = new
            else:
                _rename_in(value, old, new, section)


def _is_other(key: str, section: str) -> bool:
    """Whether a key refers to parts of another section."""
    sections = {
        "joint": "joints", "follows": "joints", "body": "bodies", "parent": "bodies", "child": "bodies", "a": "bodies", "b": "bodies",
        "wheel": "bodies", "tank": "tanks", "drive": "drives",
    }  # fmt: skip
    return key in sections and bool(section) and sections[key] != section


def _names_parts(table: Any, key: str) -> bool:
    """Whether a key of a table names a part of the machine: with a quantity behind it, or holding a text or number."""
    return "." in key or not isinstance(table[key], dict)
