"""Proving a policy."""

from __future__ import annotations

from typing import Annotated

import typer

from plucky_heron.cli.common import Json, ProjectOption, app, find_run, pairs, report
from plucky_heron.cli.reports import proof_lines


@app.command()
def prove(
    run: str,
    trials: Annotated[int, typer.Option("--trials", min=1, max=100_000, help="Trials a driver.")] = 200,
    vary: Annotated[list[str], typer.Option("--vary", help="name=LOW:HIGH, instead of the task's variation.")] = [],  # noqa: B006
    require: Annotated[
        float | None, typer.Option("--require", min=0, max=1, help="Success share that must be reached.")
    ] = None,
    margins: Annotated[
        bool, typer.Option("--margins", help="Also how much more dead time each driver stands.")
    ] = False,
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Try the kept policy against nobody, chance, rules and the regulator, all on the same fresh trials."""
    from plucky_heron.analysis.proving.proof import prove_run

    found, row = find_run(run, project)
    _, answer = prove_run(found.folder, row, trials=trials, changes=pairs(vary, "--vary"), margins=margins)
    report(answer, json_, proof_lines(answer))
    share = answer["drivers"]["policy"]["success"]
    raise typer.Exit(1 if require is not None and share < require else 0)
