"""Good enough: at or above a level, several evaluations running."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from plucky_heron.training.stopping.evaluation import Course, running, show_value
from plucky_heron.training.stopping.rule import MOST_STEPS, Level, Quantity, StopRule
from plucky_heron.units import Number

Array = np.ndarray


class GoodEnough(StopRule):
    """Ends a run whose last `running` evaluations were all at `at_least` or above."""

    kind: Literal["good enough"] = "good enough"
    of: Quantity = "success"
    at_least: Number
    running: int = Field(default=1, ge=1, le=MOST_STEPS)

    role: ClassVar[str] = "moss"
    tunable: ClassVar[tuple[str, ...]] = ("at_least", "running")

    def _held(self, course: Course) -> Array:
        return running(course.of(self.of) >= self.at_least - 1e-9)

    def met(self, course: Course) -> Array:
        """See `StopRule.met`."""
        return self._held(course) >= self.running

    def reason(self, course: Course) -> str:
        """See `StopRule.reason`."""
        least = float(np.min(course.of(self.of)[-self.running :]))
        wanted, found = show_value(self.of, self.at_least), show_value(self.of, least)
        added = f" (least {found})" if found != wanted else ""
        return (
            f"{self.of} at least {wanted} in {self.running} evaluation{'s' if self.running > 1 else ''} running{added}"
        )

    def words(self) -> str:
        """See `StopRule.words`."""
        times = f" in {self.running} evaluations running" if self.running > 1 else ""
        return f"{self.of} at least {show_value(self.of, self.at_least)}{times}"

    def earliest(self, every: int) -> int:
        """See `StopRule.earliest`."""
        return (self.running - 1) * every

    def state(self, course: Course) -> str:
        """See `StopRule.state`."""
        return f"{min(int(self._held(course)[-1]), self.running)} of {self.running}"

    def level(self) -> Level:
        """Where it is good enough."""
        text = f"good enough: {show_value(self.of, self.at_least)}, {self.running} running"
        return Level(self.of, self.at_least, text, "at_least")
