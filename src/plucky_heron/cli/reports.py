"""What the command line prints of runs and proofs, and how it follows runs that are at work."""

from __future__ import annotations

import signal
import sys
from typing import TYPE_CHECKING, Any

from plucky_heron.cli.common import table

if TYPE_CHECKING:
    from plucky_heron.project import Project
    from plucky_heron.runs.store import RunRow


def per_cent(share: float | None) -> str:
    """A share for people."""
    return "–" if share is None else f"{100 * share:.1f} %"


def run_answer(row: RunRow) -> dict[str, Any]:
    """A run for the JSON answers."""
    from plucky_heron.runs.labels import keywords_of

    return {
        "run": row.id, "batch": row.batch, "task": row.task, "method": row.method, "recipe": row.recipe, "seed": row.seed,
        "state": row.state, "note": row.note, "keywords": keywords_of(row.keywords), "marked": bool(row.marked), "put_away": bool(row.away), "stopped_by": {"rule": row.stop_rule, "text": row.stop_text}, "steps": row.steps,
        "seconds": round(row.seconds, 3), "best": {"step": row.best_step, "score": row.best_score, "success": row.best_success},
        "retest": row.retest,
    }  # fmt: skip


def seed_summary(rows: list[RunRow]) -> dict[str, Any]:
    """Median, quartiles and worst over the seeds' retests."""
    import numpy as np

    kept = [row for row in rows if row.retest]
    if not kept:
        return {}
    summary: dict[str, Any] = {}
    for key in ("success", "score"):
        values = [float((row.retest or {})[key]) for row in kept]
        lower, median, upper = (float(q) for q in np.percentile(values, (25, 50, 75)))
        worst = kept[int(np.argmin(values))]
        summary[key] = {"median": median, "quartiles": [lower, upper], "worst": min(values), "worst_seed": worst.seed}
    return summary


def training_lines(rows: list[RunRow], told: dict[int, list[str]]) -> list[str]:
    """The report of a training; `told` is what each run says of itself."""
    lines = []
    for row in rows:
        fresh = row.retest or {}
        lines.append(
            f"run {row.id}, seed {row.seed}: {row.steps} steps in {row.seconds:.1f} s; stopped by {row.stop_rule}: {row.stop_text}; "
            f"kept step {row.best_step}: success {per_cent(row.best_success)}; "
            f"on {fresh.get('episodes', 0)} fresh starts {per_cent(fresh.get('success'))}, score {fresh.get('score', float('nan')):.1f}"
        )
        lines += [f"  {text}" for text in told.get(row.id, [])]
    summary = seed_summary(rows)
    if len(rows) > 1 and summary:
        s = summary["success"]
        low, high = s["quartiles"]
        lines.append(
            f"{len(rows)} seeds on fresh starts: median {per_cent(s['median'])}, quartiles {per_cent(low)} to {per_cent(high)}, "
            f"worst {per_cent(s['worst'])} (seed {s['worst_seed']}); median score {summary['score']['median']:.1f}"
        )
    return lines


def proof_lines(answer: dict[str, Any]) -> list[str]:
    """The report of a proof."""
    from plucky_heron.analysis.proving.margins import DelayMargin

    lines = [f"run {answer['run']}, {answer['trials']} fresh trials, the same for all"]
    lines += [f"left out: {name}, {why}" for name, why in answer.get("left_out", {}).items()]
    cells = [["who drives", "success", "95 % interval", "score", "quartiles", "worst trials"]]
    for name, d in answer["drivers"].items():
        low, high = d["success_interval"]
        quartiles = " / ".join(f"{q:.1f}" for q in d["score"]["quartiles"])
        cells.append(
            [name, per_cent(d["success"]), f"{per_cent(low)} to {per_cent(high)}", f"{d['score']['mean']:.1f}", quartiles,
             ", ".join(str(t) for t in d["worst"])]
        )  # fmt: skip
    lines += table(cells, right=(1, 3))
    for name, margin in answer.get("margin_facts", {}).get("dead time", {}).items():
        lines.append(f"extra dead time until {name} loses 5 points of success: {DelayMargin(**margin).words()}")
    return lines


def follow(project: Project, numbers: list[int], quiet: bool) -> list[RunRow]:
    """Show how runs get on until they end; Ctrl-C asks them to stop and keep everything."""
    from plucky_heron.runs import launch

    asked = {"times": 0}

    def on_interrupt(*_: object) -> None:
        asked["times"] += 1
        if asked["times"] > 1:
            raise KeyboardInterrupt
        print("stopping; the runs keep what they have (Ctrl-C again leaves them to it)", file=sys.stderr)
        launch.stop(project.folder, numbers)

    before = signal.signal(signal.SIGINT, on_interrupt)
    try:
        if quiet or not sys.stderr.isatty():
            return launch.wait(project.folder, numbers)
        return _follow_with_bars(project, numbers)
    finally:
        signal.signal(signal.SIGINT, before)


def _follow_with_bars(project: Project, numbers: list[int]) -> list[RunRow]:
    import time

    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    from plucky_heron.runs.store import RunStore

    columns = (
        TextColumn("{task.description}"),
        BarColumn(),
        TextColumn("{task.fields[figures]}"),
        TimeRemainingColumn(),
    )
    store = RunStore(project.folder)
    with Progress(*columns, console=Console(stderr=True)) as bars:
        tasks = {n: bars.add_task(f"run {n}", total=store.run(n).budget, figures="waiting") for n in numbers}
        while True:
            rows = [store.run(n) for n in numbers]
            for row in rows:
                best = f"best {per_cent(row.best_success)}" if row.best_success is not None else row.state
                bars.update(tasks[row.id], completed=row.steps, figures=best)
            if not any(row.alive for row in rows):
                break
            time.sleep(0.25)
    store.close()
    from plucky_heron.runs import launch

    return launch.wait(project.folder, numbers)
