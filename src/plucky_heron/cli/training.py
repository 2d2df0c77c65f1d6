"""Training: the methods, runs and their catalogue."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated, Any

import typer

from plucky_heron.cli.common import (
    Json,
    ProjectOption,
    app,
    fail,
    find_project,
    find_run,
    find_task,
    pairs,
    report,
    table,
)
from plucky_heron.cli.reports import follow, per_cent, run_answer, seed_summary, training_lines
from plucky_heron.errors import StateError


@app.command()
def methods(
    task: Annotated[str, typer.Argument(help="A task: also which settings fit it, and why.")] = "",
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """What each learning method suits, what it costs, and how it usually goes wrong; with a task, the settings that fit it."""
    from plucky_heron.learning.guide import GUIDES, settings_facts
    from plucky_heron.learning.method import settings_class

    if task:
        _fits(task, project, json_)
        return
    lines = []
    for key, guide in GUIDES.items():
        lines += [f"{key:<14} {guide.suits}", f"{'':<14} costs: {guide.costs}", f"{'':<14} goes wrong: {guide.fails}"]
    answer = [
        {
            "method": key, "name": guide.name, "suits": guide.suits, "costs": guide.costs, "goes_wrong": guide.fails, "presets": guide.presets, "standard": guide.standard,
            "settings": [
                {"key": f.key, "does": f.does, "wrong": f.wrong, "default": f.default, "limits": f.limits} for f in settings_facts(settings_class(key), guide.standard)
            ],
        }
        for key, guide in GUIDES.items()
    ]  # fmt: skip
    report({"methods": answer}, json_, lines)


def _fits(task: str, project: Path | None, json_: bool) -> None:
    """Report what fits a task, method by method."""
    from plucky_heron.files import validate
    from plucky_heron.learning.guide import GUIDES, preset
    from plucky_heron.training.fitting import fitted_settings
    from plucky_heron.training.measurement import measured
    from plucky_heron.training.recipe import Recipe

    found, name = find_task(task, project)
    problem = found.problem(name)
    measurement = measured(problem, found.folder)
    lines, answer = (
        [f"settings that fit {name}, measured on the untrained task; a recipe that states one keeps its own"],
        {},
    )
    for method in GUIDES:
        recipe = validate(Recipe, {"name": method, **preset(method)}, "preset")
        fitted = fitted_settings(problem, recipe, measurement)
        answer[method] = {key: {"value": f.value, "why": f.why} for key, f in fitted.items()}
        lines += [
            f"{method if k == 0 else '':<14} {key:<20} {f.value!s:<12} {f.why}"
            for k, (key, f) in enumerate(fitted.items())
        ]
    report({"task": name, "fits": answer}, json_, lines)


@app.command()
def train(
    task: Annotated[str, typer.Argument(help="Task name or file; not needed with --resume.")] = "",
    recipe: Annotated[
        str | None,
        typer.Option("--recipe", help="Recipe of the project; by default the one named like the task, else ppo."),
    ] = None,
    method: Annotated[str | None, typer.Option("--method", help="Another method with its standard settings.")] = None,
    seed: Annotated[int, typer.Option("--seed", min=0, max=2**60, help="First seed.")] = 1,
    seeds: Annotated[int, typer.Option("--seeds", min=1, max=100, help="How many seeds.")] = 1,
    steps: Annotated[int | None, typer.Option("--steps", min=1, max=10**12, help="Control steps at most.")] = None,
    set_: Annotated[list[str], typer.Option("--set", help="key=value, a setting of the recipe.")] = [],  # noqa: B006
    keep_recipe: Annotated[
        str | None,
        typer.Option("--keep-recipe", help="Write the recipe as it is used here into the project, by this name."),
    ] = None,
    resume: Annotated[
        str | None,
        typer.Option("--resume", help="A run to go on with; with --steps also one that has ended, up to so many."),
    ] = None,
    from_: Annotated[
        str | None, typer.Option("--from", help="RUN[@STEP]: start from its best policy, or from @last or a kept step.")
    ] = None,
    workers: Annotated[
        int | None, typer.Option("--workers", min=1, max=256, help="Runs at work at the same time; else one a core.")
    ] = None,
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Train; Ctrl-C stops cleanly and keeps everything."""
    from plucky_heron.files import validate
    from plucky_heron.learning.guide import GUIDES, preset
    from plucky_heron.runs import launch
    from plucky_heron.runs.executors import WORKERS
    from plucky_heron.runs.freeze import frozen_recipe
    from plucky_heron.training.fitting import fit, warnings
    from plucky_heron.training.recipe import STANDARD, Recipe, with_changes

    if workers is not None:
        os.environ[WORKERS] = str(workers)  # for the process of the batch, which goes on without this one
    if resume is not None:
        found, row = find_run(resume, project)
        if said := launch.resume(found.folder, row.id, steps):
            typer.echo(f"note: {said}", err=True)
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
        asked = with_changes(chosen, changes)
        for text in warnings(found.problem(name), asked):
            typer.echo(f"note: {text}", err=True)
        if chosen.name == STANDARD and method is None:
            typer.echo(
                f"note: no recipe of the project is for {name}: PPO by its standard, with what fits the task ({asked.copies} copies, "
                f"{asked.steps:,} steps); --keep-recipe {name} writes it down, heron methods {name} shows its numbers", err=True,
            )  # fmt: skip
        if keep_recipe is not None:
            _keep(found.folder, keep_recipe, asked)
        start = None
        if from_ is not None:
            number, _, which = from_.partition("@")
            start = launch.start_of(found.folder, find_run(number, found.folder)[1], which or "best")
            taken = launch.tried_start(
                found.problem(name), fit(asked, found.problem(name), found.folder), start, found.folder
            )
            typer.echo(f"note: starts from run {start.run} at {start.step} steps: {'; '.join(taken)}", err=True)
        numbers = launch.train(
            found.folder,
            name,
            asked,
            list(range(seed, seed + seeds)),
            start,
            ", ".join(f"{k} {v}" for k, v in changes.items()),
        )
    rows = follow(found, numbers, quiet=json_)
    if frozen_recipe(found.folder, rows[0]).evaluation.film_every is not None:
        typer.echo("note: films are made behind all other work, into the folder films of each run", err=True)
    failed = [row for row in rows if row.state == "failed"]
    if failed:
        raise fail(f"run {failed[0].id} failed: {failed[0].stop_text}", 1)
    answers = [run_answer(row) for row in rows]
    batch: dict[str, Any] = {"batch": rows[0].batch, "runs": answers, **seed_summary(rows)}
    told = {row.id: found.looking_back(row.id) for row in rows}
    for one in answers:
        one["looking_back"] = told[one["run"]]
    report(answers[0] if len(rows) == 1 else batch, json_, training_lines(rows, told))


def _keep(folder: Path, name: str, recipe: Any) -> None:
    """Write a recipe that was put together on the command line into the project, unless there is one of that name."""
    from plucky_heron.errors import FileError
    from plucky_heron.files import inside, write_whole
    from plucky_heron.training.recipe import recipe_text

    if not name.strip() or Path(name).name != name or name.startswith("."):
        raise FileError("--keep-recipe", "name", name, "write a name without slashes, such as swing")
    path = inside(folder, f"recipes/{name}.toml")
    if path.exists():
        raise FileError("--keep-recipe", "name", name, "the project has a recipe of this name; give another one")
    write_whole(path, recipe_text(recipe.model_copy(update={"name": name})))


@app.command()
def runs(
    folder: Annotated[Path | None, typer.Argument(help="The same as --project.")] = None,
    all_: Annotated[bool, typer.Option("--all", help="Also those that are put away.")] = False,
    keyword: Annotated[str | None, typer.Option("--keyword", help="Only batches with this keyword.")] = None,
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """The catalogue of runs."""
    from plucky_heron.runs.labels import keywords_of

    found = find_project(project if folder is None else folder)
    everything = found.runs()
    rows = [row for row in everything if all_ or not row.away]
    if keyword is not None:
        rows = [row for row in rows if keyword in keywords_of(row.keywords)]
    cells = [["run", "", "batch", "task", "recipe", "seed", "state", "steps", "best", "stopped by"]]
    for r in rows:
        cells.append(
            [str(r.id), "*" if r.marked else "", str(r.batch), r.task, r.recipe, str(r.seed), r.state, str(r.steps),
             per_cent(r.best_success), r.stop_text or ""]
        )  # fmt: skip
    lines = table(cells, right=(0, 2, 5, 7, 8))
    hidden = len({r.batch for r in everything if r.away}) if not all_ else 0
    if hidden:
        lines.append(f"{hidden} batch{'es' if hidden > 1 else ''} put away: --all shows them too")
    none = "nothing was trained here yet" if not everything else "no run of this kind"
    report({"runs": [run_answer(r) for r in rows]}, json_, lines if rows or hidden else [none])
