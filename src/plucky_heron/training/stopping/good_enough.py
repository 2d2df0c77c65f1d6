"""Good enough: at or above a level, several evaluations running."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar, Literal

from pydantic import Field

from plucky_heron.training.stopping.evaluation import Evaluation, show_value
from plucky_heron.training.stopping.rule import MOST_STEPS, Level, Quantity, StopRule
from plucky_heron.units import Number


class GoodEnough(StopRule):
    """Ends a run whose last `running` evaluations were all at `at_least` or above."""

    kind: Literal["good enough"] = "good enough"
    of: Quantity = "success"
    at_least: Number
    running: int = Field(default=1, ge=1, le=MOST_STEPS)

    role: ClassVar[str] = "moss"

    def decide(self, course: Sequence[Evaluation]) -> str:
        """See `StopRule.decide`."""
        last = [e.of(self.of) for e in course[-self.running :]]
        if len(last) < self.running or min(last) < self.at_least - 1e-9:
            return ""
        wanted, met = show_value(self.of, self.at_least), show_value(self.of, min(last))
        least = f" (least {met})" if met != wanted else ""
        return (
            f"{self.of} at least {wanted} in {self.running} evaluation{'s' if self.running > 1 else ''} running{least}"
        )

    def words(self) -> str:
        """See `StopRule.words`."""
        times = f" in {self.running} evaluations running" if self.running > 1 else ""
        return f"{self.of} at least {show_value(self.of, self.at_least)}{times}"

    def level(self) -> Level:
        """Where it is good enough."""
        text = f"good enough: {show_value(self.of, self.at_least)}, {self.running} running"
        return Level(self.of, self.at_least, text, "at_least")
