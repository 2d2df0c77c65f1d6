"""The command line: short readable reports, or exactly one JSON object with --json.

Heavy imports wait inside the commands, so that --help answers at once. Exit status: 0 done, 1 the answer is no,
2 wrong use or bad input.
"""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from plucky_heron.errors import HeronError, StateError
from plucky_heron.reports import follow, per_cent, proof_lines, run_answer, seed_summary, training_lines

if TYPE_CHECKING:
    from plucky_heron.project import Project
    from plucky_heron.task.problem import Problem
    from plucky_heron.training.store import RunRow

app = typer.Typer(
    name="heron", no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False,
    help="Plucky Heron: describe a machine, train a controller for it, prove it, hand it over.",
)  # fmt: skip

Json = Annotated[bool, typer.Option("--json", help="Print exactly one JSON object.")]
ProjectOption = Annotated[
    Path | None, typer.Option("--project", help="Project folder; else this folder, else the demo's copy.")
]


def fail(text: str, status: int = 2) -> typer.Exit:
    """One clear line on standard error."""
    print(f"heron: {text}", file=sys.stderr)
    return typer.Exit(status)


def report(answer: dict[str, Any], as_json: bool, lines: list[str]) -> None:
    """The answer, for a program or for a person."""
    print(json.dumps(answer, allow_nan=False, default=str) if as_json else "\n".join(lines))


def find_project(folder: Path | None) -> Project:
    """The project to work on; says so when it is the demo's copy."""
    from plucky_heron.project import Project, demo_copy

    if folder is not None:
        return Project(folder)
    if Path("project.toml").is_file():
        return Project(Path.cwd())
    copy = demo_copy()
    print(f"working on the demo project {copy}", file=sys.stderr)
    return Project(copy)


def find_task(task: str, folder: Path | None) -> tuple[Project, str]:
    """A task by its name, or by the path of its file."""
    from plucky_heron.project import Project

    path = Path(task)
    if path.suffix == ".toml" and path.parent.name == "tasks":
        return Project(path.parent.parent), path.stem
    return find_project(folder), task


def find_run(run: str, folder: Path | None) -> tuple[Project, RunRow]:
    """A run by its number, or by the path of its folder."""
    from plucky_heron.project import Project

    path = Path(run)
    if path.is_dir() and path.parent.name == "runs":
        project, text = Project(path.parent.parent), path.name
    else:
        project, text = find_project(folder), run
    if not text.isdigit():
        raise StateError(f"run {run!r}: wanted its number, such as 3, or its folder")
    return project, project.run(int(text))


def pairs(items: list[str], option: str) -> dict[str, str]:
    """``name=value`` options as a dictionary."""
    found = {}
    for item in items:
        name, equals, value = item.partition("=")
        if not equals or not name or not value:
            raise StateError(f"{option} {item}: wanted name=value")
        found[name.strip()] = value.strip()
    return found


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
        from plucky_heron.demo import run_demo

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
def simulate(
    file: Annotated[Path, typer.Argument(help="A machine file (.toml) or a URDF.")],
    seconds: Annotated[float, typer.Option("--seconds", help="Duration.")],
    out: Annotated[Path, typer.Option("--out", help="CSV file to write.")],
    start: Annotated[list[str], typer.Option("--start", help="joint=value, such as cable='10 deg'.")] = [],  # noqa: B006
    rate: Annotated[float, typer.Option("--rate", help="Physics steps a second.")] = 1000.0,
    integrator: Annotated[str, typer.Option("--integrator", help="semi-implicit or rk4.")] = "semi-implicit",
    every: Annotated[int, typer.Option("--every", help="One row every so many steps.")] = 1,
    free: Annotated[bool, typer.Option("--free", help="The root link of a URDF moves freely.")] = False,
    json_: Json = False,
) -> None:
    """Let a machine go and write its motion as a table."""
    from plucky_heron.dynamics.open_loop import simulate as run
    from plucky_heron.files import write_whole
    from plucky_heron.machine.schema import read_machine
    from plucky_heron.units import parse

    notes: list[str] = []
    if file.suffix.lower() in (".urdf", ".xml"):
        from plucky_heron.machine.urdf import read_urdf

        described = read_urdf(file, free=free)
        machine, notes = described.machine, described.notes
    else:
        machine = read_machine(file)
    given = pairs(start, "--start")
    begin = {
        joint: parse(text, machine.coordinate_unit(joint) if joint in machine.coordinates() else "")
        for joint, text in given.items()
    }
    track = run(machine, seconds, start=begin, rate=rate, integrator=integrator, every=every)
    try:
        write_whole(out, track.to_csv())
    except OSError as error:
        raise StateError(f"--out {out}: cannot be written: {error.strerror}") from error
    for note in notes:
        print(f"heron: {file}: {note}", file=sys.stderr)
    total = track.column("energy.kinetic") + track.column("energy.potential")
    answer = {"out": str(out), "rows": len(track.rows), "columns": list(track.columns), "notes": notes}
    lines = [
        f"{len(track.rows)} rows to {out}",
        f"total energy {total[0]:.6g} J at the start, {total[-1]:.6g} J at the end",
    ]
    report(answer, json_, lines)


@app.command()
def trust(file: Path, json_: Json = False) -> None:
    """Let a project's own Python file run on this machine, as it is now; a changed file must be trusted again."""
    from plucky_heron.task.own_code import trust as trust_it

    digest = trust_it(file.resolve())
    report({"file": str(file), "sha256": digest}, json_, [f"{file} is trusted as it is now ({digest[:12]})"])


@app.command()
def shakedown(task: str, project: ProjectOption = None, json_: Json = False) -> None:
    """Rehearse with simple drivers and check the task before training."""
    from plucky_heron.analysis.shakedown import keep_scores, shake_down

    found, name = find_task(task, project)
    problem = found.problem(name)
    result = shake_down(problem, found.folder)
    keep_scores(problem, found.folder, result.rehearsals)
    summary = result.summary()
    lines = [f"{'who drives':<16}{'success':>9}{'score':>9}   endings"]
    for driver, figures in summary["rehearsals"].items():
        endings = ", ".join(f"{n} {c}" for n, c in figures["endings"].items())
        lines.append(f"{driver:<16}{per_cent(figures['success']):>9}{figures['score']:>9.1f}   {endings}")
    lines.append("")
    for check in result.checks:
        mark = "pass " if check.passed else "meant" if check.acknowledged else check.severity.upper().ljust(5)
        lines.append(f"{mark} {check.name}: {check.evidence}")
        if not check.passed and check.acknowledged:
            lines.append(f"      {check.acknowledged}")
        elif not check.passed and check.remedy:
            lines.append(f"      would answer it: {check.remedy.text}")
    passed = sum(check.passed for check in result.checks)
    lines.append(f"\n{passed} of {len(result.checks)} pass, {len(result.wrong)} wrong, {result.seconds:.1f} s")
    report({"task": name, **summary}, json_, lines)
    raise typer.Exit(1 if result.wrong else 0)


@app.command()
def methods(json_: Json = False) -> None:
    """What each learning method suits, what it costs, and how it usually goes wrong."""
    from plucky_heron.learning.guide import GUIDES, settings_facts

    lines = []
    for key, guide in GUIDES.items():
        lines += [f"{key:<14} {guide.suits}", f"{'':<14} costs: {guide.costs}", f"{'':<14} goes wrong: {guide.fails}"]
    answer = [
        {
            "method": key, "name": guide.name, "suits": guide.suits, "costs": guide.costs, "goes_wrong": guide.fails, "presets": guide.presets,
            "settings": [
                {"key": f.key, "does": f.does, "wrong": f.wrong, "default": f.default, "limits": f.limits} for f in settings_facts(key)
            ],
        }
        for key, guide in GUIDES.items()
    ]  # fmt: skip
    report({"methods": answer}, json_, lines)


@app.command()
def train(
    task: Annotated[str, typer.Argument(help="Task name or file; not needed with --resume.")] = "",
    recipe: Annotated[
        str | None,
        typer.Option("--recipe", help="Recipe of the project; by default the one named like the task, else ppo."),
    ] = None,
    method: Annotated[str | None, typer.Option("--method", help="Another method with its standard settings.")] = None,
    seed: Annotated[int, typer.Option("--seed", min=0, help="First seed.")] = 1,
    seeds: Annotated[int, typer.Option("--seeds", min=1, max=100, help="How many seeds.")] = 1,
    steps: Annotated[int | None, typer.Option("--steps", min=1, help="Control steps at most.")] = None,
    set_: Annotated[list[str], typer.Option("--set", help="key=value, a setting of the recipe.")] = [],  # noqa: B006
    resume: Annotated[str | None, typer.Option("--resume", help="A run to go on with.")] = None,
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Train; Ctrl-C stops cleanly and keeps everything."""
    from plucky_heron.files import validate
    from plucky_heron.learning.guide import GUIDES, preset
    from plucky_heron.training import launch
    from plucky_heron.training.recipe import Recipe, with_changes

    if resume is not None:
        found, row = find_run(resume, project)
        launch.resume(found.folder, row.id)
        numbers = [row.id]
    else:
        if not task:
            raise StateError("train: name a task, such as lift, or a run with --resume")
        found, name = find_task(task, project)
        plain = {"name": method, **preset(method)} if method in GUIDES else {"name": method, "method": method}
        chosen = (
            validate(Recipe, plain, "--method")
            if method is not None
            else found.recipe(recipe or found.recipe_for(name))
        )
        changes = pairs(set_, "--set")
        if steps is not None:
            changes["steps"] = str(steps)
        numbers = launch.train(found.folder, name, with_changes(chosen, changes), list(range(seed, seed + seeds)))
    rows = follow(found, numbers, quiet=json_)
    failed = [row for row in rows if row.state == "failed"]
    if failed:
        raise fail(f"run {failed[0].id} failed: {failed[0].stop_text}", 1)
    answers = [run_answer(row) for row in rows]
    batch: dict[str, Any] = {"batch": rows[0].batch, "runs": answers, **seed_summary(rows)}
    report(answers[0] if len(rows) == 1 else batch, json_, training_lines(rows))


@app.command()
def runs(folder: Annotated[Path | None, typer.Argument(help="Project folder.")] = None, json_: Json = False) -> None:
    """The catalogue of runs."""
    found = find_project(folder)
    rows = found.runs()
    lines = [
        f"{'run':>4} {'batch':>5} {'task':<12}{'recipe':<12}{'seed':>4} {'state':<8}{'steps':>9} {'best':>8}  stopped by"
    ]
    for r in rows:
        lines.append(
            f"{r.id:>4} {r.batch:>5} {r.task:<12}{r.recipe:<12}{r.seed:>4} {r.state:<8}{r.steps:>9} "
            f"{per_cent(r.best_success):>8}  {r.stop_text or ''}"
        )
    report({"runs": [run_answer(r) for r in rows]}, json_, lines if rows else ["nothing was trained here yet"])


@app.command()
def compare(runs: list[str], project: ProjectOption = None, json_: Json = False) -> None:
    """Compare runs: what differs in their recipes, and what they reached."""
    from plucky_heron.analysis.comparison import compare_runs

    found = find_project(project)
    rows = [find_run(run, found.folder)[1] for run in runs]
    answer, lines = compare_runs(found.folder, rows)
    report(answer, json_, lines)


@app.command()
def prove(
    run: str,
    trials: Annotated[int, typer.Option("--trials", min=1, max=100_000, help="Trials a driver.")] = 200,
    vary: Annotated[list[str], typer.Option("--vary", help="name=LOW:HIGH, instead of the task's variation.")] = [],  # noqa: B006
    require: Annotated[
        float | None, typer.Option("--require", min=0, max=1, help="Success share that must be reached.")
    ] = None,
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Try the kept policy against nobody, chance, rules and the regulator, all on the same fresh trials."""
    from plucky_heron.analysis.proving import prove as run_proof
    from plucky_heron.analysis.proving import varied
    from plucky_heron.training.store import RunStore

    found, row = find_run(run, project)
    changes = pairs(vary, "--vary")
    problem: Problem = found.frozen(row.id)
    proof = run_proof(
        varied(problem, changes) if changes else problem, found.policy(row.id), trials=trials, project=found.folder
    )
    answer: dict[str, Any] = {"run": row.id, "trials": trials, "varied": changes, "drivers": proof.summary()}
    store = RunStore(found.folder)
    store.add_result(row.id, "proof", answer)
    store.close()
    report(answer, json_, proof_lines(answer))
    share = answer["drivers"]["policy"]["success"]
    raise typer.Exit(1 if require is not None and share < require else 0)


@app.command()
def handover(
    run: str,
    out: Annotated[Path, typer.Option("--out", help="Folder of the pack; must not exist, or be a pack.")],
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Write a pack for a real controller and check that it computes the same."""
    from plucky_heron.handover.pack import write_pack
    from plucky_heron.training.store import RunStore

    found, row = find_run(run, project)
    answer = write_pack(found.folder, row, out)
    store = RunStore(found.folder)
    store.add_result(row.id, "pack", answer)
    store.close()
    lines = [f"pack {answer['pack']}: {', '.join(answer['files'])}"]
    lines += [
        f"{form}: largest difference {value:.1e} of the command range" for form, value in answer["equality"].items()
    ]
    report(answer, json_, lines)


@app.command()
def rollout(
    pack: Path,
    on: Annotated[str, typer.Option("--on", help="The rig: host.")] = "host",
    episodes: Annotated[int, typer.Option("--episodes", min=1, max=1000, help="Starts to run.")] = 5,
    fast: Annotated[
        bool, typer.Option("--fast", help="In lock-step, as fast as it goes, instead of real time.")
    ] = False,
    json_: Json = False,
) -> None:
    """Run a pack on a simulated controller in closed loop."""
    from plucky_heron.rigs.rollout import roll_out

    result = roll_out(pack, on, episodes=episodes, lock_step=fast)
    answer = result.summary()
    trip = answer["round_trip_ms"]
    lines = [
        f"{answer['rig']}, {episodes} episodes, {'lock-step' if fast else 'real time'}: score {answer['score']:.2f}, "
        f"the same starts inside the program {answer['score_inside']:.2f}",
        f"{answer['samples']} samples, {answer['missed']} missed; round trip median {trip['median']:.3f} ms, "
        f"99 % {trip['p99']:.3f}, longest {trip['max']:.3f}",
        f"largest command difference {answer['command_difference']:.1e} of the range",
    ]
    report(answer, json_, lines)
    raise typer.Exit(0 if answer["missed"] == 0 or not fast else 1)


def main(arguments: list[str] | None = None) -> int:
    """Run a command line; every expected error becomes one line and status 2."""
    run: Callable[..., Any] = typer.main.get_command(app).main
    try:
        status = run(arguments, prog_name="heron", standalone_mode=False)
    except HeronError as error:
        print(f"heron: {error}", file=sys.stderr)
        return 2
    except (KeyboardInterrupt, typer.Abort):
        return 130
    except typer.Exit as stop:
        return int(stop.exit_code)
    except Exception as error:
        explain = getattr(error, "format_message", None)  # wrong use, found by the argument parser
        if not callable(explain):
            raise
        print(f"heron: {explain()}", file=sys.stderr)
        return 2
    return int(status or 0)


if __name__ == "__main__":
    sys.exit(main())
