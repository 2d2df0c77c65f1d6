"""Comparing runs."""

from __future__ import annotations

from plucky_heron.cli.common import Json, ProjectOption, app, find_runs, report


@app.command()
def compare(runs: list[str], project: ProjectOption = None, json_: Json = False) -> None:
    """Compare runs (3) or batches (batch-2): what differs in their recipes, and what they reached."""
    from plucky_heron.analysis.comparing.comparison import compare_runs

    found, rows = find_runs(runs, project)
    answer, lines = compare_runs(found.folder, rows)
    report(answer, json_, lines)
