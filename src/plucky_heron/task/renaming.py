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

PLAIN = ("name", "notes", "positive", "kind", "file", "wash", "unit", "format", "machine", "site", "ending")
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
    text = _headers_renamed(read_text(inside(folder, path)), section, old, new)
    document = tomlkit.parse(text)
    if new not in document[section]:  # it stood on a line of its section
        _rename_key(document[section], old, new)
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


def _headers_renamed(text: str, section: str, old: str, new: str) -> str:
    """The text with the headers of an entry's tables under its new name; comments and the order of tables stay."""
    key = re.escape(old) if re.fullmatch(r"[\w-]+", old) else f'"{re.escape(old)}"'
    said = new if re.fullmatch(r"[\w-]+", new) else f'"{new}"'
    header = re.compile(
        rf"^(\s*\[\[?\s*{re.escape(section)}\s*\.\s*)(?:{key}|\"{re.escape(old)}\")(\s*[.\]])", re.MULTILINE
    )
    return header.sub(lambda found: f"{found[1]}{said}{found[2]}", text)


def _rename_key(table: Any, old: str, new: str) -> None:
    """Another key in the same place of a table; of one that stands in pieces, at its end."""
    if not hasattr(table, "remove"):
        value = table[old]
        del table[old]
        table[new] = value
        return
    kept = [(key, table[key]) for key in list(table)]
    for key, _ in kept:
        table.remove(key)
    for key, value in kept:
        table[new if key == old else key] = value


_JOINT = r"(?:position|velocity|angle|rate|effort|damping|stiffness|rest|armature|friction)"
_AFTER = {
    "joints": rf"(?=(?:\.(?:x|y|z|turn|rx|ry|rz))?\.{_JOINT}(?![\w.]))",
    "bodies": r"(?=\.(?:x|y|z|roll|pitch|yaw|mass|drag_area)(?![\w.])|\.own\.|\.(?:velocity|rate)\.[xyz](?!\w)|\s*[,)]|(?![\w.(\[]))",
    "drives": r"(?=\.(?:limit|gain|integral_gain|rate_gain|lag)(?!\w))",
    "sensors": r"(?=\.[a-z]|\[|(?![\w.(]))",
    "tanks": r"(?=\.mass(?!\w))",
}
"""What follows the name of a part in a formula, or in a key such as ``cable.position``: it tells parts of one name apart."""
_KEYED = {"joints": ("placing", "hold", "joint_scales"), "drives": ("mixing", "drives")}
"""Tables of a task whose keys are parts."""
_REFERS = {
    "joint": "joints", "follows": "joints", "body": "bodies", "parent": "bodies", "child": "bodies", "a": "bodies", "b": "bodies",
    "wheel": "bodies", "tank": "tanks", "drive": "drives", "no_contact": "bodies",
}  # fmt: skip
"""Keys whose values are names of parts."""


def _rename_in(part: Any, old: str, new: str, section: str) -> None:
    """All that names a part, in keys and values, down through tables and lists; of a task's own entries, all that is a formula."""
    after = _AFTER.get(section, r"(?!\w)" if not section else r"(?!)")
    token = re.compile(rf"(?<![\w.\"]){re.escape(old)}{after}")
    if isinstance(part, dict):
        for key in list(part):
            value = part[key]
            if (key == "ending" and not section) or (key in _REFERS and (not section or _REFERS[key] == section)):
                _replace_names(part, key, old, new)
            elif isinstance(value, str) and key not in PLAIN and key not in _REFERS:
                part[key] = token.sub(new, value)
            elif isinstance(value, dict):
                if key in _KEYED.get(section, ()):
                    for inner in list(value):
                        front, dot, rest = inner.partition(".")
                        if front == old:
                            _rename_key(value, inner, f"{new}{dot}{rest}")
                _rename_in(value, old, new, section)
            else:
                _rename_in(value, old, new, section)
            if section and "." in key and token.match(key):
                _rename_key(part, key, token.sub(new, key, count=1))
    elif isinstance(part, list):
        for k, value in enumerate(part):
            if isinstance(value, dict | list):
                _rename_in(value, old, new, section)
            elif isinstance(value, str) and not section and value == old:
                part[k] = new


def _replace_names(table: Any, key: str, old: str, new: str) -> None:
    """A name, or lists of them."""
    value = table[key]
    if isinstance(value, str) and value == old:
        table[key] = new
    elif isinstance(value, list):
        for pair in value:
            for k, name in enumerate(pair if isinstance(pair, list) else ()):
                if name == old:
                    pair[k] = new
