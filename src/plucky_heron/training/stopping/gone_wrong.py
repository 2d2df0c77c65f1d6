"""Gone wrong: far below its best. (A run that is not finite ends whatever its rules say; see `decide`.)"""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar, Literal

from pydantic import Field

from plucky_heron.training.stopping.evaluation import Evaluation, show_value
from plucky_heron.training.stopping.rule import MOST_STEPS, Quantity, StopRule
from plucky_heron.units import Number


class GoneWrong(StopRule):
    """Ends a run that fell more than `below_best` under its best evaluation, from `after` steps on."""

    kind: Literal["gone wrong"] = "gone wrong"
    of: Quantity = "success"
    below_best: Number | None = None
    after: int = Field(default=0, ge=0, le=MOST_STEPS)

    role: ClassVar[str] = "rust"

    def decide(self, course: Sequence[Evaluation]) -> str:
        """See `StopRule.decide`."""
        if self.below_best is None or course[-1].step < self.after:
            return ""
        best, last = max(e.of(self.of) for e in course), course[-1].of(self.of)
        if best - last <= self.below_best:
            return ""
        return f"{self.of} fell to {show_value(self.of, last)} from its best {show_value(self.of, best)}"

    def words(self) -> str:
        """See `StopRule.words`."""
        fall = f"{show_value(self.of, self.below_best)} below its best, or " if self.below_best is not None else ""
        return f"{fall}not finite"
