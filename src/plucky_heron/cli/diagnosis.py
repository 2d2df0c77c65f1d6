"""Findings on runs."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from plucky_heron.cli.common import Json, ProjectOption, app, find_runs, report

MARKS = {"trouble": "!!", "doubt": "? ", "note": "· ", "good": "ok"}


@app.command()
def diagnose(
    runs: Annotated[list[str], typer.Argument(help="Runs (3) or batches (batch-2).")],
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Name what is wrong with runs, with the evidence and what to try; exit status 1 where there is trouble."""
    found, rows = find_runs(runs, project)
    batches: dict[int, list[int]] = {}
    for row in rows:
        batches.setdefault(row.batch, []).append(row.id)
    answer: list[dict[str, Any]] = []
    lines: list[str] = []
    for batch, members in batches.items():
        seeds = len(members)
        findings = found.diagnose(*members)
        if len(batches) > 1:
            lines.append(f"batch {batch}")
        for f in findings:
            answer.append({
                "name": f.name, "severity": f.severity, "seed": list(f.seeds), "batch": batch, "text": f.text, "evidence": f.evidence, "chart": f.chart,
                "try": [{"text": t.text, "changes": t.changes} for t in f.tries],
            })  # fmt: skip
            who = (
                ""
                if len(f.seeds) == seeds
                else f" (seed{'s' if len(f.seeds) > 1 else ''} {', '.join(map(str, f.seeds))})"
            )
            lines.append(f"{MARKS[f.severity]} {f.text}{who}")
            lines.append(f"     {f.evidence}")
            for t in f.tries:
                changes = " ".join(f"--set {key}={value}" for key, value in t.changes.items())
                lines.append(f"     try: {t.text}" + (f"  [{changes}]" if changes else ""))
        if not findings:
            lines.append("nothing can be said of these runs yet")
    report({"findings": answer}, json_, lines)
    raise typer.Exit(1 if any(f["severity"] == "trouble" for f in answer) else 0)
