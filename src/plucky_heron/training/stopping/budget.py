"""Budget: so many steps, episodes or minutes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar, Literal

from pydantic import Field, model_validator

from plucky_heron.training.stopping.evaluation import Evaluation, whole
from plucky_heron.training.stopping.rule import MOST_STEPS, StopRule
from plucky_heron.units import Number


class Budget(StopRule):
    """Ends a run that has used up any of what is stated."""

    kind: Literal["budget"] = "budget"
    steps: int | None = Field(default=None, ge=1, le=MOST_STEPS)
    episodes: int | None = Field(default=None, ge=1, le=MOST_STEPS)
    minutes: Number | None = None

    role: ClassVar[str] = "plum"

    @model_validator(mode="after")
    def _states_something(self) -> Budget:
        if self.steps is None and self.episodes is None and self.minutes is None:
            raise ValueError("a budget needs steps, episodes or minutes")
        return self

    def decide(self, course: Sequence[Evaluation]) -> str:
        """See `StopRule.decide`."""
        last = course[-1]
        if self.steps is not None and last.step >= self.steps:
            return f"{last.step} steps done"
        if self.episodes is not None and last.episodes >= self.episodes:
            return f"{last.episodes} episodes done"
        if self.minutes is not None and last.seconds >= 60.0 * self.minutes:
            return f"{last.seconds / 60.0:.1f} minutes used"
        return ""

    def words(self) -> str:
        """See `StopRule.words`."""
        parts = [f"{whole(self.steps)} steps"] if self.steps else []
        parts += [f"{whole(self.episodes)} episodes"] if self.episodes else []
        parts += [f"{self.minutes:g} min"] if self.minutes else []
        return " or ".join(parts)
