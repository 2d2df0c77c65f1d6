"""What differs between runs, and what may be said of them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.runs.freeze import frozen_recipe
from plucky_heron.runs.store import RunRow
from plucky_heron.training.stopping.evaluation import whole


def recipe_facts(project: Path, row: RunRow) -> dict[str, str]:
    """Everything that a run's recipe states as text, defaults filled in: budget, stop rules and evaluations among it."""
    recipe = frozen_recipe(project, row)
    facts = {"method": recipe.method, "copies": str(recipe.copies)}
    for kind in dict.fromkeys(rule.kind for rule in recipe.stop):
        facts[f"stop rule: {kind}"] = "; ".join(rule.words() for rule in recipe.stop if rule.kind == kind)
    budget = f"{whole(recipe.steps)} steps"
    if facts.get("stop rule: budget") != budget:
        facts["steps"] = budget
    facts["evaluated every"] = f"{whole(recipe.evaluation.every)} steps"
    facts["evaluation episodes"] = str(recipe.evaluation.episodes)
    facts["schedules end"] = (
        "with the budget" if recipe.schedule == recipe.steps else f"at {whole(recipe.schedule)} steps"
    )
    facts["training_time_limit"] = f"{recipe.training_time_limit:g} s" if recipe.training_time_limit else "the task's"
    plan, shaping = recipe.residual, recipe.shaping
    facts["base controller"] = f"{plan.on}, reach {plan.reach:g}" if plan is not None else "none"
    facts["shaping"] = shaping.potential if shaping is not None else "none"
    facts["started from"] = "; ".join(row.facts.get("started_with", [])) or "afresh"
    settings = recipe.method_settings().model_dump()
    return facts | {name: "off" if value is None else str(value) for name, value in settings.items()}


def differences(project: Path, rows: list[RunRow]) -> dict[str, list[str]]:
    """Settings in which the runs differ, one value a run; the task's fingerprint among them."""
    facts = [recipe_facts(project, row) | {"task": f"{row.task} ({row.fingerprint[:6]})"} for row in rows]
    names = list(dict.fromkeys(name for fact in facts for name in fact))
    table = {name: [fact.get(name, "–") for fact in facts] for name in names}
    return {name: values for name, values in table.items() if len(set(values)) > 1}


def batches(rows: list[RunRow]) -> dict[int, list[RunRow]]:
    """Runs by batch, in order."""
    found: dict[int, list[RunRow]] = {}
    for row in rows:
        found.setdefault(row.batch, []).append(row)
    return found


def compare_runs(project: Path, rows: list[RunRow]) -> tuple[dict[str, Any], list[str]]:
    """Figures and a short report for the command line."""
    differs = differences(project, rows)
    answer: dict[str, Any] = {"runs": [], "differs": differs, "batches": []}
    lines = [f"{'run':>4} {'batch':>5} {'seed':>4} {'steps':>8} {'best':>8} {'fresh starts':>13} {'score':>8}"]
    for row in rows:
        fresh = row.retest or {}
        answer["runs"].append(
            {"run": row.id, "seed": row.seed, "steps": row.steps, "best": row.best_success, "retest": row.retest}
        )
        share = f"{100 * fresh['success']:.1f} %" if fresh else "–"
        score = f"{fresh['score']:.1f}" if fresh else "–"
        best = f"{100 * row.best_success:.1f} %" if row.best_success is not None else "–"
        lines.append(f"{row.id:>4} {row.batch:>5} {row.seed:>4} {row.steps:>8} {best:>8} {share:>13} {score:>8}")
    for number, members in batches(rows).items():
        values = [float(r.retest["success"]) for r in members if r.retest]
        if len(values) > 1:
            lower, median, upper = (float(q) for q in np.percentile(values, (25, 50, 75)))
            answer["batches"].append(
                {"batch": number, "median": median, "quartiles": [lower, upper], "worst": min(values)}
            )
            lines.append(
                f"batch {number}: median {100 * median:.1f} %, quartiles {100 * lower:.1f} to {100 * upper:.1f} %, worst {100 * min(values):.1f} %"
            )
    for name, given in differs.items():
        lines.append(f"differs: {name}: {' | '.join(given)}")
    return answer, lines
