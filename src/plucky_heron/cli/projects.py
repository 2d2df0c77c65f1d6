"""Projects: the demo, the window, a new project, trusting its own code."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Annotated

import typer

from plucky_heron.cli.common import Json, app, find_project, report
from plucky_heron.errors import StateError


@app.command()
def demo(
    headless: Annotated[bool, typer.Option("--headless", help="Run the whole example without a window.")] = False,
    json_: Json = False,
) -> None:
    """Open the window on a copy of the demo project, or run the whole example without one."""
    from plucky_heron.project import demo_copy

    if headless or not _has_display():
        if not headless:
            print("no display here: running the whole example without a window", file=sys.stderr)
        from plucky_heron.cli.example import run_demo

        answer, lines, good = run_demo(print if not json_ else None)
        report(answer, json_, lines)
        raise typer.Exit(0 if good else 1)
    _open_window(demo_copy())


def _has_display() -> bool:
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"))


def _open_window(folder: Path) -> None:
    from plucky_heron.desktop.application import run_window

    raise typer.Exit(run_window(folder))


@app.command("open")
def open_(folder: Annotated[Path | None, typer.Argument(help="Project folder.")] = None) -> None:
    """Open the window on a project."""
    project = find_project(folder)
    if not _has_display():
        raise StateError("there is no display here; set DISPLAY, or use the other commands")
    _open_window(project.folder)


@app.command()
def new(
    folder: Path,
    machine: Annotated[str | None, typer.Option("--from", help="A machine of the demo to start from.")] = None,
    json_: Json = False,
) -> None:
    """Make a project to start from."""
    from plucky_heron.project import create

    project = create(folder, machine)
    lines = [
        f"made {folder} with tasks {', '.join(project.tasks())}; next: heron shakedown {project.tasks()[0]} --project {folder}"
    ]
    report({"project": str(project.folder), "tasks": project.tasks()}, json_, lines)


@app.command()
def trust(file: Path, json_: Json = False) -> None:
    """Let a project's own Python file, or the C of a pack from elsewhere, run on this machine as it is now; what changes must be trusted again."""
    from plucky_heron.files import is_folder
    from plucky_heron.trust import trust as trust_it

    if is_folder(file):
        from plucky_heron.handover.reading import read_pack

        pack = read_pack(file.resolve())
        pack.trust()
        digest = pack.digest
    else:
        digest = trust_it(file.resolve())
    report({"file": str(file), "sha256": digest}, json_, [f"{file} is trusted as it is now ({digest[:12]})"])
