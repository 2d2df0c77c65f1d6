"""Parameters of a machine from what was logged of it."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from plucky_heron.cli.common import Json, ProjectOption, app, find_project, report


@app.command()
def identify(
    log: Annotated[Path, typer.Argument(help="CSV: time, JOINT.position, JOINT.velocity, drives by their names.")],
    machine: Annotated[str, typer.Option("--machine", help="Machine of the project, or a machine file.")],
    over: Annotated[
        str, typer.Option("--over", help="Parameters apart by commas, such as basket.mass,trolley.damping.")
    ],
    task: Annotated[
        str | None, typer.Option("--task", help="Task whose names the log uses, and on whose site it was made.")
    ] = None,
    window: Annotated[float | None, typer.Option("--window", help="Seconds of a window; else twenty samples.")] = None,
    into_machine: Annotated[
        bool, typer.Option("--into-machine", help="Write the values into the machine file.")
    ] = False,
    into_variation: Annotated[
        str | None, typer.Option("--into-variation", help="Write the intervals into the variation of this task.")
    ] = None,
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Parameters of a machine that explain a log of it, with intervals; what the log cannot tell is said."""
    from plucky_heron.analysis.identification import taking
    from plucky_heron.analysis.identification.fitting import identify as fit_to
    from plucky_heron.analysis.identification.log import read_log
    from plucky_heron.dynamics.building import build_model
    from plucky_heron.errors import StateError, did_you_mean, quoted
    from plucky_heron.files import check_path, is_file
    from plucky_heron.machine.reading import read_machine

    names = [name.strip() for name in over.split(",") if name.strip()]
    path = check_path(Path(machine), "--machine")
    found = None
    if not (path.suffix and is_file(path)) or task is not None or into_variation is not None:
        found = find_project(project)
    if not (path.suffix and is_file(path)):
        assert found is not None
        if machine not in found.machines():
            raise StateError(f"--machine {quoted(machine)}: no such machine; {did_you_mean(machine, found.machines())}")
        path = found.machine_path(machine)
    problem = found.problem(task) if task is not None and found is not None else None
    if problem is not None and problem.task.machine != path.stem:
        raise StateError(f"--task {task}: is of the machine {problem.task.machine}, not of {path.stem}")
    model = problem.model if problem is not None else build_model(read_machine(path))
    for name in names:
        model.parameter(name)
    taken = read_log(log, model, problem)
    fit = fit_to(
        model,
        taken,
        names,
        problem.surroundings if problem is not None else None,
        window,
        problem.task.timing.physics_step if problem is not None else None,
    )
    notes = list(fit.notes)
    if problem is None:
        notes.append("no site: still air, nothing touches; --task says where it was")
    parameters = [
        {
            "name": p.name, "nominal": p.nominal, "value": p.value, "error": p.error, "interval": list(p.interval), "told": p.told,
            "only_together_with": p.with_ or None,
        }
        for p in fit.parameters
    ]  # fmt: skip
    lines = [f"{'parameter':<24}{'was':>11}{'found':>11}   {'95 % interval':<24}"]
    for p in fit.parameters:
        low, high = p.interval
        said = "" if p.told else "the log does not tell it"
        said = f"told only together with {p.with_}" if p.with_ else said
        lines.append(f"{p.name:<24}{p.nominal:>11.5g}{p.value:>11.5g}   {f'{low:.4g} to {high:.4g}':<24}{said}")
    lines.append(
        f"{fit.windows} windows of {fit.window:.3g} s, {fit.held_out} more held out: root mean square of measured less simulated there"
    )
    lines += [
        f"  {name:<28}{b:>11.4g} before{a:>11.4g} after"
        for name, b, a in zip(fit.channels, fit.before, fit.after, strict=True)
    ]
    if into_machine:
        notes += [f"written into {path.name}: {', '.join(taking.into_machine(path, fit))}"]
    if into_variation is not None:
        assert found is not None
        notes += [
            f"written into {into_variation}: {', '.join(taking.into_variation(found.folder, into_variation, fit))}"
        ]
    channels = {
        name: {"before": float(b), "after": float(a)}
        for name, b, a in zip(fit.channels, fit.before, fit.after, strict=True)
    }
    answer = {
        "machine": path.stem, "parameters": parameters, "windows": fit.windows, "held_out": fit.held_out, "window": fit.window, "residual": channels,
        "notes": notes,
    }  # fmt: skip
    report(answer, json_, [*lines, *notes])
