"""No more gain: the best of the last evaluations is hardly above the best before them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar, Literal

from pydantic import Field

from plucky_heron.training.stopping.evaluation import Evaluation, show_value, whole
from plucky_heron.training.stopping.rule import MOST_STEPS, Quantity, StopRule
from plucky_heron.units import Number


class NoMoreGain(StopRule):
    """Ends a run that gained less than `less_than` in the last `within` evaluations; those before `after` steps do not count."""

    kind: Literal["no more gain"] = "no more gain"
    of: Quantity = "success"
    less_than: Number
    within: int = Field(ge=1, le=MOST_STEPS)
    after: int = Field(default=0, ge=0, le=MOST_STEPS)

    role: ClassVar[str] = "reed"

    def decide(self, course: Sequence[Evaluation]) -> str:
        """See `StopRule.decide`."""
        counted = [e for e in course if e.step >= self.after]
        if len(counted) <= self.within:
            return ""
        first = course.index(counted[0])
        before = max(e.of(self.of) for e in course[: max(len(course) - self.within, first + 1)])
        gain = max(e.of(self.of) for e in course[-self.within :]) - before
        if gain >= self.less_than:
            return ""
        return f"{self.of} gained {show_value(self.of, gain)} in {self.within} evaluations"

    def words(self) -> str:
        """See `StopRule.words`."""
        after = f", after {whole(self.after)} steps" if self.after else ""
        return f"less than {show_value(self.of, self.less_than)} in {self.within} evaluations{after}"
