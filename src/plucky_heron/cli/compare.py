"""Comparing runs."""

from __future__ import annotations

from plucky_heron.cli.common import Json, ProjectOption, app, find_project, find_run, report


@app.command()
def compare(runs: list[str], project: ProjectOption = None, json_: Json = False) -> None:
    """Compare runs: what differs in their recipes, and what they reached."""
    from plucky_heron.analysis.comparing.comparison import compare_runs

    found = find_project(project)
    rows = [find_run(run, found.folder)[1] for run in runs]
    answer, lines = compare_runs(found.folder, rows)
    report(answer, json_, lines)
