"""A named finding, and how findings of several seeds become one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np

from plucky_heron.analysis.diagnosis.record import Record

Severity = Literal["trouble", "doubt", "note", "good"]
ORDER: tuple[Severity, ...] = ("trouble", "doubt", "note", "good")
LATE = 0.7
"""Share of a run from which its figures count as late."""


@dataclass(frozen=True)
class Try:
    """Something to try: words, and the changes of the recipe that do it; without changes it is about the task or the run."""

    text: str
    changes: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Finding:
    """One finding.

    Attributes
    ----------
    name
        Short and fixed, for programs: "learning rate too large".
    text
        What is the matter, in a sentence.
    evidence
        The numbers that say so.
    chart
        Figure on whose chart it shows.
    weight
        How bad it is among runs with the same finding; the evidence of the worst is shown.
    seeds
        Seeds that it holds for.
    """

    name: str
    severity: Severity
    text: str
    evidence: str
    chart: str
    tries: tuple[Try, ...] = ()
    weight: float = 0.0
    seeds: tuple[int, ...] = ()


Check = Callable[[Record], Finding | None]


def median(values: np.ndarray) -> float:
    """The median; not a number without values."""
    return float(np.median(values)) if len(values) else float("nan")


def best_success(record: Record) -> float:
    """The best share of successes of an evaluation."""
    return max((e.success for e in record.course), default=0.0)


def merged(found: Sequence[tuple[Record, Finding]]) -> list[Finding]:
    """One finding a name, with the seeds that it holds for and the evidence of the worst of them; the weightiest first."""
    by_name: dict[str, list[tuple[Record, Finding]]] = {}
    for record, finding in found:
        by_name.setdefault(finding.name, []).append((record, finding))
    merged_ones = []
    for members in by_name.values():
        _, worst = max(members, key=lambda m: m[1].weight)
        severity = min((f.severity for _, f in members), key=ORDER.index)
        seeds = tuple(sorted({r.seed for r, _ in members}))
        merged_ones.append(replace(worst, severity=severity, seeds=seeds))
    return sorted(merged_ones, key=lambda f: (ORDER.index(f.severity), -len(f.seeds)))


def number(value: float) -> str:
    """A setting as it is typed: three figures."""
    return f"{value:.3g}"


def share(value: float) -> str:
    """A share as per cent."""
    return f"{100 * value:.0f} %"
