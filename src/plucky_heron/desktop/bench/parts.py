"""Machines, sites, tasks and recipes of the project made, copied, renamed and removed: each in one step that can be undone."""

from __future__ import annotations

from collections.abc import Mapping

import tomlkit

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.errors import FileError, HeronError
from plucky_heron.files import read_text
from plucky_heron.task.project_files import (
    ONE,
    Changes,
    Kind,
    check_name,
    copied,
    first_task_changed,
    new_machine,
    new_site,
    removed,
    renamed,
)
from plucky_heron.task.renaming import entry_renamed
from plucky_heron.task.wishes.writing import Written, written_wish


def current(bench: Workbench, kind: Kind) -> str:
    """The part of a kind that is chosen."""
    if kind == "recipes":
        return bench.recipe_name
    if kind == "tasks":
        return bench.task
    problem = bench.problem
    if problem is None:
        return bench.machine_name if kind == "machines" else ""
    return problem.task.machine if kind == "machines" else problem.task.site


def make_machine(bench: Workbench, name: str, stands: str) -> str:
    """A new machine, looked at without a task; returns what is wrong, or nothing."""
    try:
        changes = new_machine(bench.project.folder, name, stands)
    except HeronError as error:
        return str(error)
    bench.change_files(changes, f"new machine {name}", name, "")
    return ""


def make_site(bench: Workbench, name: str) -> str:
    """A plain site, on which the task that is looked at stands from then on; returns what is wrong, or nothing."""
    machine, task = bench.chosen()
    folder, problem = bench.project.folder, bench.problem
    try:
        check_name(folder, "sites", name)
        wet = problem is not None and problem.site.water_level is not None
        changes: Changes = {f"sites/{name}.toml": new_site(name, "floats" if wet else "drives")}
        if task:
            document = tomlkit.parse(read_text(folder / "tasks" / f"{task}.toml"))
            document["site"] = name
            changes[f"tasks/{task}.toml"] = tomlkit.dumps(document)
    except HeronError as error:
        return str(error)
    bench.change_files(changes, f"new site {name}", machine, task)
    return ""


def copy(bench: Workbench, kind: Kind, new: str) -> str:
    """A copy of the chosen part under a new name, which is chosen then; returns what is wrong, or nothing."""
    old, (machine, task) = current(bench, kind), bench.chosen()
    try:
        changes = copied(bench.project.folder, kind, old, new)
    except HeronError as error:
        return str(error)
    if kind == "machines":
        machine, task = new, ""
    elif kind == "tasks":
        task = new
    bench.change_files(changes, f"copy of {old}", machine, task)
    if kind == "recipes":
        bench.choose_recipe(new)
    return ""


def rename(bench: Workbench, kind: Kind, new: str) -> str:
    """Another name for the chosen part, everywhere; returns what is wrong, or nothing."""
    old, (machine, task) = current(bench, kind), bench.chosen()
    folder = bench.project.folder
    try:
        changes: Changes = renamed(folder, kind, old, new)
        if kind == "tasks":
            changes |= first_task_changed(folder, old, new)
            if any(row.task == old for row in bench.rows):
                raise FileError(folder, "task", old, "has runs, which name it: copy it under the new name instead")
    except HeronError as error:
        return str(error)
    if kind == "machines":
        machine = new
    elif kind == "tasks":
        task = new
    bench.change_files(changes, f"{old} called {new}", machine, task)
    if kind == "recipes":
        bench.choose_recipe(new)
    return ""


def remove(bench: Workbench, kind: Kind) -> str:
    """Take the chosen part out; returns what is wrong, or nothing."""
    old, (machine, task) = current(bench, kind), bench.chosen()
    folder = bench.project.folder
    try:
        changes = removed(folder, kind, old)
        if kind == "tasks":
            changes |= first_task_changed(folder, old, "")
    except HeronError as error:
        return str(error)
    if kind == "tasks":
        task = next((t for t in bench.project.tasks_of(machine) if t != old), "")
    elif kind == "machines":
        machine = next((m for m in bench.project.machines() if m != old), "")
        task = next(iter(bench.project.tasks_of(machine)), "") if machine else ""
    bench.change_files(changes, f"without {ONE[kind]} {old}", machine, task)
    if kind == "recipes":
        bench.choose_recipe(bench.project.recipe_for(bench.task))
    return ""


def rename_entry(bench: Workbench, kind: str, section: str, old: str, new: str) -> str:
    """Another name for an entry of a file, and for a machine's part in its tasks too; returns what is wrong, or nothing."""
    machine, task = bench.chosen()
    try:
        path = bench.path_of(kind).relative_to(bench.project.folder).as_posix()
        changes = entry_renamed(bench.project.folder, path, section, old, new)
    except HeronError as error:
        return str(error)
    bench.change_files(changes, f"{old} called {new}", machine, task)
    return ""


def wish(bench: Workbench, name: str, answers: Mapping[str, str | float], task: str = "") -> Written | str:
    """Write a task from a wish for the machine that is looked at, and choose it; or what is wrong."""
    problem = bench.problem
    if problem is None:
        return "no machine yet"
    machine, site = problem.task.machine, problem.task.site
    try:
        made = written_wish(bench.project.folder, machine, site, name, answers, task)
    except HeronError as error:
        return str(error)
    bench.change_files(dict(made.texts), f"task from the wish to {name}", machine, made.task)
    return made
