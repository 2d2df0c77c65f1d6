"""Taking what a log told into a project: values into the machine file, intervals into the variation of a task."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import tomlkit

from plucky_heron.analysis.identification.fitting import Fit, Parameter
from plucky_heron.errors import FileError, StateError
from plucky_heron.files import inside, read_text, validate, write_whole
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.task.problem import read_problem
from plucky_heron.task.schema import Task

SECTIONS = {"mass": "bodies", "drag_area": "bodies"} | dict.fromkeys(
    ("limit", "gain", "integral_gain", "lag", "rate_gain"), "drives"
)
DIGITS = 5


def told(fit: Fit) -> list[Parameter]:
    """Those that the log tells by themselves."""
    return [p for p in fit.parameters if p.told and not p.with_]


def into_machine(path: Path, fit: Fit) -> list[str]:
    """Write the values that the log tells into a machine file; says what was written. A mass takes its body's inertia with it.

    Raises
    ------
    StateError
        Nothing is told, or a value has no single place in the file.
    FileError
        The machine would not be one any more; nothing is written then.
    """
    if path.suffix != ".toml":
        raise StateError(f"{path.name} is no machine file (.toml): heron import makes one of a URDF")
    document = tomlkit.parse(read_text(path))
    said = values_into(document, fit)
    text = tomlkit.dumps(document)
    validate(Machine, tomlkit.parse(text).unwrap(), path)
    write_whole(path, text)
    read_machine(path)
    return said


def values_into(document: Any, fit: Fit) -> list[str]:
    """Put the values that the log tells into the document of a machine file; says what was put.

    Raises
    ------
    StateError
        Nothing is told, or a value has no single place in the file.
    """
    found = told(fit)
    if not found:
        raise StateError("the log tells none of the parameters: nothing to take over")
    for parameter in found:
        _put(document, parameter)
    return [f"{p.name} = {_short(p.value)}" for p in found]


def _put(document: Any, parameter: Parameter) -> None:
    part, _, key = parameter.name.rpartition(".")
    section = SECTIONS.get(key, "joints")
    if section == "joints" and part in document.get("drives", {}) and part not in document.get("joints", {}):
        section = "drives"
    table = document.get(section, {}).get(part)
    if table is None or isinstance(table.get(key), list):
        raise StateError(
            f"{parameter.name} has no single place in the machine file; take its interval into a task's variation instead"
        )
    if key == "mass" and "inertia" in table:
        ratio = parameter.value / parameter.nominal
        table["inertia"] = [_times(value, ratio) for value in table["inertia"]]
    table[key] = float(_short(parameter.value))


def _times(value: Any, ratio: float) -> Any:
    if isinstance(value, str):
        return (
            f"({value}) * {ratio:.{DIGITS}g}"
            if any(c in value for c in "+-*/") and not _plain(value)
            else _scaled(value, ratio)
        )
    return float(f"{float(value) * ratio:.{DIGITS}g}")


def _plain(value: str) -> bool:
    """A number and a unit: ``4 kg*m**2``."""
    number = value.split()[0] if value.split() else ""
    try:
        float(number)
    except ValueError:
        return False
    return True


def _scaled(value: str, ratio: float) -> str:
    number, _, unit = value.strip().partition(" ")
    return f"{float(number) * ratio:.{DIGITS}g} {unit}".strip()


def _short(value: float) -> str:
    return f"{value:.{DIGITS}g}"


def into_variation(folder: Path, task: str, fit: Fit) -> list[str]:
    """Write the intervals of what the log tells into a task's variation; says what was written.

    Raises
    ------
    StateError
        Nothing is told.
    FileError
        The task would not be one any more; nothing is written then.
    """
    path = inside(folder, f"tasks/{task}.toml")
    before = read_text(path)
    document = tomlkit.parse(before)
    said = intervals_into(document, fit)
    text = tomlkit.dumps(document)
    validate(Task, tomlkit.parse(text).unwrap(), path)
    write_whole(path, text)
    try:
        read_problem(folder, task)
    except FileError:
        write_whole(path, before)
        raise
    return said


def intervals_into(document: Any, fit: Fit) -> list[str]:
    """Put the intervals of what the log tells into the document of a task; says what was put.

    Raises
    ------
    StateError
        Nothing is told.
    """
    found = told(fit)
    if not found:
        raise StateError("the log tells none of the parameters: nothing to vary")
    variation = document.setdefault("variation", tomlkit.table())
    for parameter in found:
        low, high = parameter.interval
        drawn = tomlkit.inline_table()
        drawn["uniform"] = [float(_short(low)), float(_short(high))]
        variation[parameter.name] = drawn
    return [f"{p.name} varies from {_short(p.interval[0])} to {_short(p.interval[1])}" for p in found]
