"""Stop rules as pure functions of a run's recorded course, so that they can be replayed over any recorded run."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from plucky_heron.training.recipe import StopRule


@dataclass(frozen=True)
class Evaluation:
    """One evaluation on the fixed starts, and what it had cost by then."""

    step: int
    seconds: float
    episodes: int
    score: float
    success: float
    finite: bool = True

    def of(self, quantity: str) -> float:
        """The success share or the score."""
        return self.success if quantity == "success" else self.score


BY_HAND = "by hand"
"""The rule of a run that a person stopped: the only ended one that may go on."""


@dataclass(frozen=True)
class Verdict:
    """Why a run ends: the kind of rule and a sentence."""

    rule: str
    text: str


def decide(rules: Sequence[StopRule], course: Sequence[Evaluation]) -> Verdict | None:
    """The first rule that ends a run whose evaluations so far are `course`; None if it goes on."""
    if not course:
        return None
    if not course[-1].finite or not math.isfinite(course[-1].score):
        return Verdict("gone wrong", f"not finite at {course[-1].step} steps")
    for rule in rules:
        text = _RULES[rule.kind](rule, course)
        if text:
            return Verdict(rule.kind, text)
    return None


def replay(rules: Sequence[StopRule], course: Sequence[Evaluation]) -> tuple[int, Verdict | None]:
    """Where the rules would have ended a recorded run: number of evaluations seen, and the verdict."""
    for seen in range(1, len(course) + 1):
        verdict = decide(rules, course[:seen])
        if verdict is not None:
            return seen, verdict
    return len(course), None


def show_value(quantity: str, value: float) -> str:
    """A success share as per cent, a score as it is."""
    if quantity == "success":
        return f"{100 * value:.1f} %"
    return (f"{value:.2g}" if 0.0 < abs(value) < 0.1 else f"{value:.1f}").replace("-", "−")


def show_steps(steps: float) -> str:
    """Control steps in thousands, from a million on in millions; three figures."""
    if steps >= 1e6:
        return f"{steps / 1e6:.3g} M"
    return f"{steps / 1e3:.0f} k" if steps >= 1e4 else f"{steps / 1e3:.3g} k"


def describe(rule: StopRule) -> str:
    """A rule in a few words."""
    if rule.kind == "good enough":
        times = f" in {rule.running} evaluations running" if rule.running > 1 else ""
        return f"{rule.of} at least {show_value(rule.of, rule.at_least or 0.0)}{times}"
    if rule.kind == "no more gain":
        after = f", after {rule.after:,} steps".replace(",", " ") if rule.after else ""
        return f"less than {show_value(rule.of, rule.less_than or 0.0)} in {rule.within} evaluations{after}"
    if rule.kind == "budget":
        parts = [f"{rule.steps:,} steps".replace(",", " ")] if rule.steps else []
        parts += [f"{rule.episodes:,} episodes".replace(",", " ")] if rule.episodes else []
        parts += [f"{rule.minutes:g} min"] if rule.minutes else []
        return " or ".join(parts)
    fall = f"{show_value(rule.of, rule.below_best)} below its best, or " if rule.below_best is not None else ""
    return f"{fall}not finite"


def _good_enough(rule: StopRule, course: Sequence[Evaluation]) -> str:
    last = [e.of(rule.of) for e in course[-rule.running :]]
    wanted = rule.at_least if rule.at_least is not None else math.inf
    if len(last) < rule.running or min(last) < wanted - 1e-9:
        return ""
    return f"{rule.of} {show_value(rule.of, min(last))} or more in {rule.running} evaluations running"


def _no_more_gain(rule: StopRule, course: Sequence[Evaluation]) -> str:
    counted = [e for e in course if e.step >= rule.after]
    within = rule.within or 1
    if len(counted) <= within:
        return ""
    first = course.index(counted[0])
    before = max(e.of(rule.of) for e in course[: max(len(course) - within, first + 1)])
    recent = max(e.of(rule.of) for e in course[-within:])
    gain = recent - before
    if gain >= (rule.less_than or 0.0):
        return ""
    return f"{rule.of} gained {show_value(rule.of, gain)} in {within} evaluations"


def _budget(rule: StopRule, course: Sequence[Evaluation]) -> str:
    last = course[-1]
    if rule.steps is not None and last.step >= rule.steps:
        return f"{last.step} steps done"
    if rule.episodes is not None and last.episodes >= rule.episodes:
        return f"{last.episodes} episodes done"
    if rule.minutes is not None and last.seconds >= 60.0 * rule.minutes:
        return f"{last.seconds / 60.0:.1f} minutes used"
    return ""


def _gone_wrong(rule: StopRule, course: Sequence[Evaluation]) -> str:
    if rule.below_best is None or course[-1].step < rule.after:
        return ""
    best = max(e.of(rule.of) for e in course)
    if best - course[-1].of(rule.of) <= rule.below_best:
        return ""
    return f"{rule.of} fell to {show_value(rule.of, course[-1].of(rule.of))} from its best {show_value(rule.of, best)}"


_RULES = {"good enough": _good_enough, "no more gain": _no_more_gain, "budget": _budget, "gone wrong": _gone_wrong}
