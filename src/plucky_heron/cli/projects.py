"""Projects: the demo, the window, a new project, trusting its own code."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from plucky_heron.cli.common import Json, ProjectOption, app, find_project, report
from plucky_heron.errors import FileError, StateError, did_you_mean

if TYPE_CHECKING:
    from plucky_heron.task.importing import ImportReport


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


def _open_window(folder: Path | None) -> None:
    from plucky_heron.desktop.application import run_window

    raise typer.Exit(run_window(folder))


@app.command("open")
def open_(folder: Annotated[Path | None, typer.Argument(help="Project folder.")] = None) -> None:
    """Open the window on a project; without one, on the choice of one."""
    from plucky_heron.files import is_file

    given = folder is not None or is_file(Path("project.toml"))
    project = find_project(folder) if given else None
    if not _has_display():
        raise StateError("there is no display here; set DISPLAY, or use the other commands")
    _open_window(project.folder if project is not None else None)


Wish = Annotated[
    str, typer.Option("--wish", help="What it should do, such as 'reach a place': a task is written for it.")
]
Answers = Annotated[list[str], typer.Option("--answer", help="An answer to what the wish asks: within='2 cm'.")]
Drives = Annotated[
    str,
    typer.Option(
        "--drives", help="What drives of a URDF are commanded by: effort, speed or position; left out: what the file says, "
        "else positions of legs, of what steers and of arms on the move, and efforts of all else.",
    ),
]  # fmt: skip
Free = Annotated[
    bool | None,
    typer.Option(
        "--free/--fixed", help="Its first link moves freely, or is fixed; left out: free, if it has wheels or legs."
    ),
]


@app.command()
def new(
    folder: Path,
    machine: Annotated[
        str | None,
        typer.Option("--from", help="A machine of the demo, or a machine file (.toml) or URDF, to start from."),
    ] = None,
    wish: Wish = "",
    answer: Answers = [],  # noqa: B006
    free: Free = None,
    drives: Drives = "",
    json_: Json = False,
) -> None:
    """Make a project to start from."""
    from plucky_heron.cli.common import pairs
    from plucky_heron.project import create

    told: list[ImportReport] = []
    project = create(folder, machine, wish, pairs(answer, "--answer"), free, told.append, _takes(drives))
    tasks = project.tasks()
    lines = [line for made in told for line in import_lines(made)]
    lines.append(f"made {folder} with tasks {', '.join(tasks)}; next: heron shakedown {tasks[0]} --project {folder}")
    from_file = {key: value for made in told for key, value in import_facts(made).items()}
    report({"project": str(project.folder), "tasks": tasks, **from_file}, json_, lines)


def _takes(kind: str) -> str:
    from plucky_heron.task.machine_import import TAKES

    if kind and kind not in TAKES:
        raise FileError("--drives", "drives", kind, f"wanted {', '.join(TAKES)}")
    return kind


def import_lines(made: ImportReport) -> list[str]:
    """What became of a file: what was read, assumed and left out."""
    from plucky_heron.task.importing import together

    groups = {"read": made.read, "assumed": made.told, "left out": together(made.left_out)}.items()
    return [f"{title if k == 0 else '':<10}{text}" for title, texts in groups for k, text in enumerate(texts)]


def import_facts(made: ImportReport) -> dict[str, list[str]]:
    """The same by its kind, each thing apart."""
    return {"read": made.read, "assumed": made.assumptions, "left_out": made.left_out}


@app.command("import")
def import_(
    file: Annotated[Path, typer.Argument(help="A machine file (.toml) or a URDF.")],
    into: Annotated[Path | None, typer.Option("--into", help="Project folder; else this folder.")] = None,
    name: Annotated[str, typer.Option("--name", help="What it is called in the project; else as its file.")] = "",
    wish: Wish = "",
    answer: Answers = [],  # noqa: B006
    free: Free = None,
    drives: Drives = "",
    set_: Annotated[
        list[str],
        typer.Option("--set", help="Another value for what is assumed, by its key: drives.hip.limit='20 N*m'."),
    ] = [],  # noqa: B006
    json_: Json = False,
) -> None:
    """Bring a machine file or a URDF into a project, with a site under it and a task, and say what became of it."""
    from plucky_heron.cli.common import pairs
    from plucky_heron.files import check_path
    from plucky_heron.task.machine_copy import machine_from_file

    check_path(file)
    project = find_project(into)
    numbers = pairs(set_, "--set")
    made = machine_from_file(file, free, wish, pairs(answer, "--answer"), project.folder, name, numbers, _takes(drives))
    keys = [a.key for a in made.assumed]
    for key in numbers:
        if key not in keys:
            raise FileError("--set", key, numbers[key], f"nothing is assumed there; {did_you_mean(key, keys)}")
    made.keep(project.folder)
    lines = [f"{file}: machine {made.name}, task {made.task}", *import_lines(made)]
    lines.append(f"next: heron shakedown {made.task} --project {project.folder}")
    facts = {"machine": made.name, "task": made.task, "files": [*made.texts, *made.copies]} | import_facts(made)
    report(facts, json_, lines)


@app.command("wish")
def wish_(
    machine: Annotated[str, typer.Argument(help="A machine of the project.")],
    wish: Annotated[
        str, typer.Argument(help="What it should do; left out: what it could do, and why not the rest.")
    ] = "",
    site: Annotated[str, typer.Option("--site", help="Where; left out: the site of its first task.")] = "",
    name: Annotated[str, typer.Option("--name", help="Name of the task; left out: that of the wish.")] = "",
    answer: Answers = [],  # noqa: B006
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Say what a machine could be wished to do, or write a whole task from one wish."""
    from plucky_heron.cli.common import pairs

    found = find_project(project)
    if not wish:
        offers = found.wishes(machine, site)
        lines = []
        for offer in offers:
            lines.append(f"{'yes' if not offer.unfit else 'no ':<4}{offer.name:<26}{offer.unfit or offer.says}")
            lines += [f"{'':<6}{q.key:<12}{q.text:<12}{q.label}; {q.why}" for q in offer.questions]
        answers = [
            {"name": o.name, "fits": not o.unfit, "why_not": o.unfit, "asks": {q.key: q.text for q in o.questions}} for o in offers
        ]  # fmt: skip
        report({"machine": machine, "wishes": answers}, json_, lines)
        return
    made = found.write_wish(machine, wish, site, name, pairs(answer, "--answer"))
    lines = [f"{line.card.lower():<22}{line.text}; {line.why}" for line in made.draft.lines]
    lines.append(f"wrote {', '.join(made.texts)}; next: heron shakedown {made.task}")
    written = [{"card": line.card, "text": line.text, "why": line.why} for line in made.draft.lines]
    report({"task": made.task, "files": list(made.texts), "written": written}, json_, lines)


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
