"""Named findings on the runs of a batch."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from plucky_heron.analysis.diagnosis import learning, outcome
from plucky_heron.analysis.diagnosis.finding import ORDER, Check, Finding, Try, best_success, merged, share
from plucky_heron.analysis.diagnosis.record import Record
from plucky_heron.errors import HeronError
from plucky_heron.training.recipe import with_changes
from plucky_heron.training.stopping import show_steps

CHECKS: tuple[Check, ...] = (*outcome.CHECKS, *learning.CHECKS)
WELL = 0.75
"""Success of the worst seed from which runs without findings are called healthy."""
DISAGREE = 0.35
"""Difference of the best success between seeds from which they disagree."""


def diagnose(records: Sequence[Record]) -> list[Finding]:
    """Findings on runs of one batch, the weightiest first; one that says that all is well where nothing else does."""
    found = [(record, finding) for record in records for finding in _findings(record)]
    several = seeds_disagree(records)
    # where something has gone wrong it is no news that episodes run out of time
    troubled = {record.seed for record, finding in found if finding.severity == "trouble"}
    found = [(r, f) for r, f in found if r.seed not in troubled or f.name != "every episode cut by time"]
    findings = merged(found)
    if several is not None:
        findings = sorted([*findings, several], key=lambda f: ORDER.index(f.severity))
    if not any(f.severity in ("trouble", "doubt") for f in findings):
        findings += healthy(records, findings)
    return findings


def _findings(record: Record) -> list[Finding]:
    """What the checks find in one run; where an evaluation gave no number they look at those before."""
    broken = outcome.not_finite(record)
    finite = record
    if broken is not None:
        kept = [k for k, e in enumerate(record.course) if e.finite and math.isfinite(e.score)]
        details = tuple(record.details[k] for k in kept if k < len(record.details))
        finite = replace(record, course=tuple(record.course[k] for k in kept), details=details)
    found = [broken] if broken is not None else []
    for check in CHECKS:
        finding = check(finite)
        if finding is not None and check is not outcome.not_finite:
            found.append(finding)
    return [replace(f, tries=tuple(t for t in f.tries if _says_something(record, t))) for f in found]


def _says_something(record: Record, one: Try) -> bool:
    """Whether advice changes a recipe, or is about something else."""
    if not one.changes:
        return True
    try:
        return with_changes(record.recipe, one.changes) != record.recipe
    except HeronError:
        return False


def seeds_disagree(records: Sequence[Record]) -> Finding | None:
    """Chance decides which seeds learn."""
    told = [r for r in records if len(r.course) >= 4]
    if len(told) < 2:
        return None
    # compared where all have been: a seed that began later is not worse
    until = min(r.steps for r in told)
    best = {r.seed: max((e.success for e in r.course if e.step <= until), default=0.0) for r in told}
    low, high = min(best, key=lambda s: best[s]), max(best, key=lambda s: best[s])
    if best[high] - best[low] < DISAGREE:
        return None
    evidence = f"seed {high} reached {share(best[high])}, seed {low} {share(best[low])}, by {show_steps(until)} steps"
    recipe = told[0].recipe
    tries = (
        Try("more seeds before anything is concluded", {"seeds": str(max(5, recipe.seeds))}),
        Try("a longer budget", {"steps": str(2 * recipe.steps)}),
    )
    return Finding(
        "seeds disagree",
        "doubt",
        "Seeds disagree: what one of them shows is chance",
        evidence,
        "success",
        tries,
        best[high] - best[low],
        tuple(sorted(best)),
    )


def healthy(records: Sequence[Record], findings: Sequence[Finding]) -> list[Finding]:
    """That all is well, where there is enough to say so."""
    # one that its rule ended early has told enough
    told = [r for r in records if len(r.course) >= 8 or (r.ended and len(r.course) >= 3)]
    if not told or any(f.name == "too early to say" for f in findings):
        return []
    best = min(best_success(r) for r in told)
    if best < WELL:
        return []
    figures = {
        "kl": "change an update", "critic_explains": "critic explains", "spread": "spread",
        "critic_loss": "critic's loss", "at_limit": "draws at limits",
    }  # fmt: skip
    said = []
    for key, words in figures.items():
        values = [v for r in told for v in r.figure(key, 0.7)]
        if values:
            said.append(f"{words} {sum(values) / len(values):.3g}")
    evidence = f"every seed reached {share(best)}" + (f"; {', '.join(said[:3])}" if said else "")
    return [
        Finding(
            "healthy",
            "good",
            "Nothing is wrong with these runs",
            evidence,
            "success",
            (),
            0.0,
            tuple(r.seed for r in told),
        )
    ]
