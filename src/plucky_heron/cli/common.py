"""What all commands share: the application, its usual options, and how a project, a task or a run is found."""

from __future__ import annotations

import json
import math
import re
import sys
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
import typer.core

from plucky_heron.errors import HeronError, StateError, one_line, quoted

if TYPE_CHECKING:
    from plucky_heron.project import Project
    from plucky_heron.runs.store import RunRow

ORDER = (
    "new", "import", "wish", "open", "demo", "trust", "simulate", "shakedown", "methods", "train", "runs",
    "batch", "stops", "diagnose", "film", "compare", "prove", "handover", "key", "rollout", "identify",
)  # fmt: skip
"""The commands in the order of the work, as the help lists them."""


class Commands(typer.core.TyperGroup):
    """The commands, listed in the order of the work."""

    def list_commands(self, ctx: Any) -> list[str]:
        """Names; one that the order does not know comes last."""
        return sorted(super().list_commands(ctx), key=lambda name: ORDER.index(name) if name in ORDER else len(ORDER))


app = typer.Typer(
    name="heron", no_args_is_help=True, add_completion=True, pretty_exceptions_enable=False, cls=Commands,
    help="Plucky Heron: describe a machine, train a controller for it, prove it, hand it over.",
)  # fmt: skip

Json = Annotated[bool, typer.Option("--json", help="Print exactly one JSON object.")]
ProjectOption = Annotated[
    Path | None, typer.Option("--project", help="Project folder; else this folder, else the demo's copy.")
]


def _version(asked: bool) -> None:
    if asked:
        from plucky_heron import __version__

        typer.echo(f"Plucky Heron {__version__}")
        raise typer.Exit


@app.callback()
def heron(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Say which version this is.")
    ] = False,
) -> None:
    """Plucky Heron: describe a machine, train a controller for it, prove it, hand it over."""


def fail(text: str, status: int = 2) -> typer.Exit:
    """One clear line on standard error."""
    print(f"heron: {one_line(text)}", file=sys.stderr)
    return typer.Exit(status)


def complain(error: HeronError, as_json: bool) -> None:
    """What is wrong: one line on standard error, with --json also one object on standard output."""
    print(f"heron: {error}", file=sys.stderr)
    if as_json:
        print(json.dumps({"error": error.facts()}))


def report(answer: dict[str, Any], as_json: bool, lines: list[str]) -> None:
    """The answer, for a program or for a person."""
    print(json.dumps(finite(answer), allow_nan=False, default=str) if as_json else "\n".join(lines))


def table(rows: Sequence[Sequence[str]], right: Collection[int] = ()) -> list[str]:
    """Rows of cells as lines: columns as wide as their longest cell, two spaces apart, those of `right` ending alike."""
    widths = [max(map(len, column)) for column in zip(*rows, strict=True)]
    lines = []
    for row in rows:
        cells = [c.rjust(w) if k in right else c.ljust(w) for k, (c, w) in enumerate(zip(row, widths, strict=True))]
        lines.append("  ".join(cells).rstrip())
    return lines


def finite(value: Any) -> Any:
    """`value` with null in the place of every number that JSON cannot say."""
    if isinstance(value, dict):
        return {key: finite(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [finite(inner) for inner in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


def find_project(folder: Path | None) -> Project:
    """The project to work on; says so when it is the demo's copy."""
    from plucky_heron.files import is_file
    from plucky_heron.project import demo_copy

    if folder is not None:
        return opened(folder)
    if is_file(Path("project.toml")):
        return opened(Path.cwd())
    copy = demo_copy()
    print(f"working on the demo project {copy}", file=sys.stderr)
    return opened(copy)


def opened(folder: Path) -> Project:
    """A project; says so when its files were brought up to date."""
    from plucky_heron.project import Project

    project = Project(folder)
    if text := project.upgraded_text():
        print(text, file=sys.stderr)
    return project


def find_task(task: str, folder: Path | None) -> tuple[Project, str]:
    """A task by its name, or by the path of its file."""
    from plucky_heron.files import check_path

    path = check_path(Path(task), "task")
    if path.suffix == ".toml" and path.parent.name == "tasks":
        return opened(path.parent.parent), path.stem
    return find_project(folder), task


def find_run(run: str, folder: Path | None) -> tuple[Project, RunRow]:
    """A run by its number, or by the path of its folder."""
    from plucky_heron.files import check_path

    path = check_path(Path(run), "run")
    if path.is_dir() and path.parent.name == "runs":
        project, text = opened(path.parent.parent), path.name
    else:
        project, text = find_project(folder), run
    if not (text.isascii() and text.isdigit() and len(text) < 16):
        raise StateError(f"run {quoted(run)}: wanted its number, such as 3, or its folder")
    return project, project.run(int(text))


def find_runs(names: list[str], folder: Path | None) -> tuple[Project, list[RunRow]]:
    """Runs by their numbers or folders, and all runs of batches: ``batch-2``; each once, in the order given."""
    project: Project | None = None
    rows: dict[int, RunRow] = {}
    for name in names:
        batch = re.fullmatch(r"batch[- ]?(\d{1,15})", name.strip())
        if batch is None:
            project, row = find_run(name, project.folder if project is not None else folder)
            rows[row.id] = row
            continue
        project = project or find_project(folder)
        members = [row for row in project.runs() if row.batch == int(batch.group(1))]
        if not members:
            raise StateError(f"no batch {quoted(batch.group(1))}; heron runs lists them")
        rows |= {row.id: row for row in members}
    if project is None:
        raise StateError("name a run, such as 3, or a batch, such as batch-2")
    return project, list(rows.values())


def pairs(items: list[str], option: str) -> dict[str, str]:
    """``name=value`` options as a dictionary."""
    found = {}
    for item in items:
        name, equals, value = item.partition("=")
        if not equals or not name or not value:
            raise StateError(f"{option} {item}: wanted name=value")
        found[name.strip()] = value.strip()
    return found
