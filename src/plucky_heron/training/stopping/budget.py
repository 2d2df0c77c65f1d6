"""Budget: so many steps, episodes or minutes."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from plucky_heron.training.stopping.evaluation import Course, whole
from plucky_heron.training.stopping.rule import MOST_STEPS, StopRule
from plucky_heron.units import Number

Array = np.ndarray


class Budget(StopRule):
    """Ends a run that has used up any of what is stated."""

    kind: Literal["budget"] = "budget"
    steps: int | None = Field(default=None, ge=1, le=MOST_STEPS)
    episodes: int | None = Field(default=None, ge=1, le=MOST_STEPS)
    minutes: Number | None = None

    role: ClassVar[str] = "plum"
    tunable: ClassVar[tuple[str, ...]] = ("steps", "episodes", "minutes")

    @model_validator(mode="after")
    def _states_something(self) -> Budget:
        if self.steps is None and self.episodes is None and self.minutes is None:
            raise ValueError("a budget needs steps, episodes or minutes")
        return self

    def met(self, course: Course) -> Array:
        """See `StopRule.met`."""
        met = np.zeros(len(course), dtype=bool)
        if self.steps is not None:
            met |= course.step >= self.steps
        if self.episodes is not None:
            met |= course.episodes >= self.episodes
        if self.minutes is not None:
            met |= course.seconds >= 60.0 * self.minutes
        return met

    def reason(self, course: Course) -> str:
        """See `StopRule.reason`."""
        last = course.evaluations[-1]
        if self.steps is not None and last.step >= self.steps:
            return f"{whole(last.step)} steps done of {whole(self.steps)}"
        if self.episodes is not None and last.episodes >= self.episodes:
            return f"{whole(last.episodes)} episodes done of {whole(self.episodes)}"
        return f"{last.seconds / 60.0:.1f} minutes used of {self.minutes:g}"

    def words(self) -> str:
        """See `StopRule.words`."""
        parts = [f"{whole(self.steps)} steps"] if self.steps else []
        parts += [f"{whole(self.episodes)} episodes"] if self.episodes else []
        parts += [f"{self.minutes:g} min"] if self.minutes is not None else []
        return " or ".join(parts)

    def earliest(self, every: int) -> int | None:
        """See `StopRule.earliest`."""
        return None if self.steps is None else -(-self.steps // every) * every

    def state(self, course: Course) -> str:
        """See `StopRule.state`."""
        last = course.evaluations[-1]
        used = [last.step / self.steps] if self.steps else []
        used += [last.episodes / self.episodes] if self.episodes else []
        used += [last.seconds / 60.0 / self.minutes] if self.minutes else []
        return f"{100 * min(1.0, max(used, default=0.0)):.0f} % used"
