"""What is found out in seconds before an hour of training: rehearsals by simple drivers, and checks with evidence."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.analysis.proving import opponents
from plucky_heron.simulation.drivers import Driver
from plucky_heron.simulation.trials import Trials, run_trials
from plucky_heron.task.problem import NOT_FINITE, Problem
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import pretty_unit, show

REHEARSALS = 64
REHEARSAL_STREAM = "rehearsal"
_KEPT = 8


@dataclass(frozen=True)
class Check:
    """One check: `severity` is "wrong" for what can never be meant, "look" for the rest."""

    name: str
    severity: str
    passed: bool
    evidence: str


@dataclass(frozen=True)
class Shakedown:
    """Rehearsals by driver, and the checks drawn from them."""

    problem: Problem
    rehearsals: dict[str, Trials]
    drivers: dict[str, Driver]
    checks: list[Check]

    @property
    def wrong(self) -> list[Check]:
        """Checks that failed and can never be meant."""
        return [c for c in self.checks if not c.passed and c.severity == "wrong"]

    def summary(self) -> dict[str, Any]:
        """For the JSON answer."""
        rehearsals = {
            name: {
                "success": float(t.success.mean()), "score": float(t.score.mean()), "endings": t.tally(),
                "quartiles": [float(q) for q in np.percentile(t.score, (25, 50, 75))],
            }
            for name, t in self.rehearsals.items()
        }  # fmt: skip
        checks = [
            {"name": c.name, "severity": c.severity, "passed": c.passed, "evidence": c.evidence} for c in self.checks
        ]
        return {"checks": checks, "rehearsals": rehearsals}


def shake_down(
    problem: Problem, project: Path | None = None, progress: Callable[[str, float], bool] | None = None
) -> Shakedown:
    """Rehearse with all simple drivers on the same starts, then check what they met."""
    drivers = opponents(problem, project)
    rehearsals: dict[str, Trials] = {}
    for number, driver in enumerate(drivers):
        if progress is not None and not progress(driver.name, number / len(drivers)):
            break
        rehearsals[driver.name] = run_trials(
            problem, driver, seed=EVALUATION_SEED, stream=REHEARSAL_STREAM, count=REHEARSALS, record=range(_KEPT)
        )
    return Shakedown(problem, rehearsals, {d.name: d for d in drivers}, run_checks(problem, rehearsals, drivers))


def run_checks(problem: Problem, rehearsals: dict[str, Trials], drivers: list[Driver]) -> list[Check]:
    """All checks; see each function for what it looks at."""
    met = np.concatenate([r.observations for t in rehearsals.values() for r in t.recordings.values()])
    return [
        _finite(rehearsals),
        *_observations(problem, met),
        _starts(problem, rehearsals),
        _repeats(problem, rehearsals, drivers),
        *_commands(problem, rehearsals),
        _endings(problem, rehearsals),
        _dominance(problem, rehearsals),
        _order(rehearsals),
    ]


def _finite(rehearsals: dict[str, Trials]) -> Check:
    count = sum(t.tally().get(NOT_FINITE, 0) for t in rehearsals.values())
    total = sum(len(t.score) for t in rehearsals.values())
    return Check("finite", "wrong", count == 0, f"{count} of {total} episodes became not finite")


def _observations(problem: Problem, met: np.ndarray) -> list[Check]:
    checks = []
    for k, observation in enumerate(problem.entries):
        low, high = observation.low, observation.high
        values = met[:, k]
        outside = float(((values < low) | (values > high)).mean())
        unit = pretty_unit(observation.si)
        span = f"met {show(values.min())} … {show(values.max())} {unit}, range {show(low)} … {show(high)} {unit}"
        if values.max() - values.min() < 1e-9 * (high - low):
            checks.append(
                Check(
                    f"{observation.name} moves", "look", False, f"never moves: always {show(values[0], observation.si)}"
                )
            )
        elif outside > 0.05:
            checks.append(
                Check(f"{observation.name} range", "look", False, f"{100 * outside:.0f} % outside its range: {span}")
            )
        elif values.max() - values.min() < 0.05 * (high - low):
            checks.append(Check(f"{observation.name} range", "look", False, f"uses under 5 % of its range: {span}"))
        else:
            checks.append(Check(f"{observation.name} range", "look", True, span))
    return checks


def _starts(problem: Problem, rehearsals: dict[str, Trials]) -> Check:
    nobody = rehearsals["nobody"]
    at_once = int((nobody.steps <= 1).sum())
    text = f"{at_once} of {len(nobody.steps)} starts end in their first sample with nobody driving"
    return Check("starts last", "wrong", at_once == 0, text)


def _repeats(problem: Problem, rehearsals: dict[str, Trials], drivers: list[Driver]) -> Check:
    driver = next(d for d in drivers if d.name == "random")
    again = run_trials(problem, driver, seed=EVALUATION_SEED, stream=REHEARSAL_STREAM, count=REHEARSALS)
    same = bool(np.array_equal(again.score, rehearsals["random"].score))
    return Check(
        "same seed repeats", "wrong", same, "the same starts and commands give the same bits" if same else "bits differ"
    )


def _commands(problem: Problem, rehearsals: dict[str, Trials]) -> list[Check]:
    """Each command must move something that is sensed, beside the command itself."""
    if (rehearsals["nobody"].steps <= 1).all():
        return []  # nothing lasts long enough to tell; another check says so
    own = {f"action.{a.name}" for a in problem.task.actions}
    sensed = [k for k, e in enumerate(problem.entries) if not set(problem.observations[e.source].signals) <= own]
    recorded = list(rehearsals["random"].recordings.values())
    effects = np.concatenate([np.diff(r.observations[:, sensed], axis=0) for r in recorded])
    given = np.concatenate([r.commands for r in recorded])
    checks = []
    for a, action in enumerate(problem.commands):
        command = given[:, a] - given[:, a].mean()
        change = effects - effects.mean(axis=0)
        strength = np.abs(command @ change) / (np.linalg.norm(command) * np.linalg.norm(change, axis=0) + 1e-12)
        # held random commands over thousands of samples: chance alone stays below a few per cent
        best = int(np.argmax(strength))
        name = problem.entries[sensed[best]].name
        passed = bool(strength[best] > 4.0 / np.sqrt(len(command)))
        text = f"moves {name} most (correlation {strength[best]:.2f})" if passed else "moves nothing that is sensed"
        checks.append(Check(f"{action.name} has effect", "wrong", passed, text))
    return checks


def _endings(problem: Problem, rehearsals: dict[str, Trials]) -> Check:
    met = {name for t in rehearsals.values() for name in t.tally()}
    missing = [name for name in problem.task.endings if name not in met]
    total = sum(len(t.score) for t in rehearsals.values())
    text = (
        f"nobody met {', '.join(missing)} in {total} episodes"
        if missing
        else f"every ending was met in {total} episodes"
    )
    return Check("endings are met", "look", not missing, text)


def _dominance(problem: Problem, rehearsals: dict[str, Trials]) -> Check:
    """One term above 60 % of all that is paid, under the best driver."""
    best = max(rehearsals.values(), key=lambda t: float(t.score.mean()))
    paid = np.abs(best.terms).mean(axis=0)
    share = paid / max(paid.sum(), 1e-12)
    top = int(np.argmax(share))
    text = f"{list(problem.task.rewards)[top]} is {100 * share[top]:.0f} % of what {best.driver} is paid"
    return Check("reward terms in balance", "look", bool(share[top] <= 0.6), text)


def _order(rehearsals: dict[str, Trials]) -> Check:
    """Success must be better paid than failure, where both were met."""
    score = np.concatenate([t.score for t in rehearsals.values()])
    success = np.concatenate([t.success for t in rehearsals.values()])
    if not success.any() or success.all():
        return Check(
            "success pays", "look", False, "the rehearsals met no success" if not success.any() else "everyone succeeds"
        )
    good, bad = float(score[success].mean()), float(score[~success].mean())
    return Check("success pays", "look", good > bad, f"success scores {show(good)} on average, the rest {show(bad)}")
