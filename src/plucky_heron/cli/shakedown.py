"""The shakedown: rehearsals and checks before training."""

from __future__ import annotations

import typer

from plucky_heron.cli.common import Json, ProjectOption, app, find_task, report, table
from plucky_heron.cli.reports import per_cent


@app.command()
def shakedown(task: str, project: ProjectOption = None, json_: Json = False) -> None:
    """Rehearse with simple drivers and check the task before training."""
    from plucky_heron.analysis.shakedown.rehearsals import shake_down_task

    found, name = find_task(task, project)
    problem = found.problem(name)
    result = shake_down_task(problem, found.folder)
    summary = result.summary()
    cells = [["who drives", "success", "score", "endings"]]
    for driver, figures in summary["rehearsals"].items():
        endings = ", ".join(f"{n} {c}" for n, c in figures["endings"].items())
        cells.append([driver, per_cent(figures["success"]), f"{figures['score']:.1f}", endings])
    lines = [*table(cells, right=(1, 2)), ""]
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
