"""When a run ends: rules, one class a file; what they decide, also over runs already recorded.

Every module of this folder is imported here, so that adding a rule touches its own file and its test alone.
"""

from __future__ import annotations

import pkgutil
from collections.abc import Sequence
from dataclasses import dataclass
from importlib import import_module
from typing import Annotated, Any

import numpy as np
from pydantic import BeforeValidator, SerializeAsAny, ValidationError

from plucky_heron.errors import did_you_mean, quoted
from plucky_heron.faults import explain
from plucky_heron.training.stopping.evaluation import Course, Evaluation, show_steps, show_value
from plucky_heron.training.stopping.rule import MOST_STEPS, Level, StopRule

for _module in pkgutil.iter_modules(__path__):
    import_module(f"{__name__}.{_module.name}")

__all__ = [
    "BY_HAND", "MOST_STEPS", "AnyRule", "Course", "Evaluation", "Level", "StopRule", "Verdict", "decide", "read_rule", "replay",
    "show_steps", "show_value",
]  # fmt: skip

BY_HAND = "by hand"
"""The rule of a run that a person stopped: the only ended one that may go on."""
NOT_FINITE = "gone wrong"


@dataclass(frozen=True)
class Verdict:
    """Why a run ends: the kind of rule and a sentence."""

    rule: str
    text: str


def read_rule(data: Any) -> StopRule:
    """A rule from the table of a recipe.

    Raises
    ------
    ValueError
        No such kind, or a setting that does not fit; names the key.
    """
    if isinstance(data, StopRule):
        return data
    if not isinstance(data, dict):
        raise ValueError("wanted a table with the kind of a rule and its settings")
    kind = data.get("kind")
    found = StopRule.kinds.get(kind) if isinstance(kind, str) else None
    if kind is None:
        raise ValueError(f"kind: is missing; there are {', '.join(StopRule.kinds)}")
    if found is None:
        raise ValueError(f"kind: no stop rule {quoted(kind)}; {did_you_mean(kind, StopRule.kinds)}")
    try:
        return found.model_validate(data)
    except ValidationError as error:
        fault = explain(error, found, "")
        raise ValueError(f"{fault.key}: {fault.wanted}" if fault.key else fault.wanted) from error


AnyRule = Annotated[SerializeAsAny[StopRule], BeforeValidator(read_rule)]
"""Any of the rules, as a field of a file."""


def decide(rules: Sequence[StopRule], evaluations: Sequence[Evaluation]) -> Verdict | None:
    """The first rule that ends a run whose evaluations so far are these; None if it goes on."""
    if not evaluations:
        return None
    course = Course(evaluations)
    if course.not_finite()[-1]:
        return Verdict(NOT_FINITE, f"not finite at {evaluations[-1].step} steps")
    for rule in rules:
        text = rule.decide(course)
        if text:
            return Verdict(rule.kind, text)
    return None


def replay(rules: Sequence[StopRule], evaluations: Sequence[Evaluation] | Course) -> tuple[int, Verdict | None]:
    """Where the rules would have ended a recorded run: number of evaluations seen, and the verdict."""
    course = evaluations if isinstance(evaluations, Course) else Course(evaluations)
    if not len(course):
        return 0, None
    ends = course.not_finite()
    for rule in rules:
        ends = ends | rule.met(course)
    if not ends.any():
        return len(course), None
    seen = int(np.argmax(ends)) + 1
    return seen, decide(rules, course.evaluations[:seen])
