"""Gone wrong: far below its best. (A run that is not finite ends whatever its rules say; see `decide`.)"""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from plucky_heron.training.stopping.evaluation import Course, best_so_far, show_steps, show_value
from plucky_heron.training.stopping.rule import MOST_STEPS, Quantity, StopRule
from plucky_heron.units import Number

Array = np.ndarray


class GoneWrong(StopRule):
    """Ends a run that fell more than `below_best` under its best evaluation, from `after` steps on."""

    kind: Literal["gone wrong"] = "gone wrong"
    of: Quantity = "success"
    below_best: Number | None = None
    after: int = Field(default=0, ge=0, le=MOST_STEPS)

    role: ClassVar[str] = "rust"
    tunable: ClassVar[tuple[str, ...]] = ("below_best", "after")

    def _fall(self, course: Course) -> Array:
        values = course.of(self.of)
        fall: Array = best_so_far(values) - values
        return fall

    def met(self, course: Course) -> Array:
        """See `StopRule.met`."""
        if self.below_best is None:
            return np.zeros(len(course), dtype=bool)
        return (self._fall(course) > self.below_best) & (course.step >= self.after)

    def reason(self, course: Course) -> str:
        """See `StopRule.reason`."""
        values = course.of(self.of)
        best, last = float(best_so_far(values)[-1]), float(values[-1])
        allowed = f", more than {show_value(self.of, self.below_best or 0.0)} below"
        return f"{self.of} fell to {show_value(self.of, last)} from its best {show_value(self.of, best)}{allowed}"

    def words(self) -> str:
        """See `StopRule.words`."""
        fall = f"{show_value(self.of, self.below_best)} below its best, or " if self.below_best is not None else ""
        return f"{fall}not finite"

    def earliest(self, every: int) -> int:
        """See `StopRule.earliest`."""
        return max(-(-self.after // every), 1) * every

    def state(self, course: Course) -> str:
        """See `StopRule.state`."""
        fall = self._fall(course)
        if self.below_best is None or not np.isfinite(fall).any() or float(np.nanmax(fall)) <= 0.0:
            return "not met"
        at = int(np.nanargmax(fall))
        return f"deepest fall {show_value(self.of, float(fall[at]))} at {show_steps(int(course.step[at]))}"
