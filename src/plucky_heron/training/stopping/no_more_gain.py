"""No more gain: the best of the last evaluations is hardly above the best before them, in any of the figures watched."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from plucky_heron.training.stopping.evaluation import LENGTH, Course, gain, show_value, whole
from plucky_heron.training.stopping.rule import MOST_STEPS, Quantity, StopRule
from plucky_heron.units import Number

Array = np.ndarray


class NoMoreGain(StopRule):
    """Ends a run that gained less than `less_than` in the last `within` evaluations; those before `after` steps do not count.

    `of` may be a list of figures with a list of gains: the run ends when none of them gains any more. A length gains by
    changing either way: episodes that get shorter are progress where a place is to be reached, longer ones where the
    machine must not fall. It compares the mean of the last `within` evaluations with the mean of as many before them.
    """

    kind: Literal["no more gain"] = "no more gain"
    of: Quantity | tuple[Quantity, ...] = "success"
    less_than: Number | tuple[Number, ...]
    within: int = Field(ge=1, le=MOST_STEPS)
    after: int = Field(default=0, ge=0, le=MOST_STEPS)

    role: ClassVar[str] = "reed"
    tunable: ClassVar[tuple[str, ...]] = ("less_than", "within", "after")

    @field_validator("less_than", mode="before")
    @classmethod
    def _seconds(cls, value: Any) -> Any:
        """A gain of a length may be written with its unit."""

        def plain(one: Any) -> Any:
            return one.strip()[:-1].strip() if isinstance(one, str) and one.strip().endswith("s") else one

        return [plain(one) for one in value] if isinstance(value, (list, tuple)) else plain(value)

    @model_validator(mode="after")
    def _one_gain_a_figure(self) -> NoMoreGain:
        if len(self.watched) != len(self._gains):
            raise ValueError(
                "of and less_than must name as many figures as gains, such as ['score', 'length'] and [1, '0.2 s']"
            )
        return self

    @property
    def watched(self) -> tuple[str, ...]:
        """The figures it watches."""
        return (self.of,) if isinstance(self.of, str) else tuple(self.of)

    @property
    def _gains(self) -> tuple[float, ...]:
        return tuple(self.less_than) if isinstance(self.less_than, tuple) else (self.less_than,)

    def _gained(self, course: Course, quantity: str) -> Array:
        values = course.of(quantity)
        if quantity != LENGTH:
            return gain(values, self.within)
        sums = np.cumsum(np.concatenate([[0.0], values]))
        found = np.full(len(values), np.nan)
        for k in range(self.within, len(values)):
            now, before = k + 1 - self.within, max(0, k + 1 - 2 * self.within)
            found[k] = abs((sums[k + 1] - sums[now]) / self.within - (sums[now] - sums[before]) / (now - before))
        return found

    def met(self, course: Course) -> Array:
        """See `StopRule.met`."""
        counted = np.cumsum(course.step >= self.after)
        met = counted > self.within
        for quantity, least in zip(self.watched, self._gains, strict=True):
            met &= self._gained(course, quantity) < least
        return met

    def reason(self, course: Course) -> str:
        """See `StopRule.reason`."""
        parts = [
            f"{quantity} {'changed' if quantity == LENGTH else 'gained'} {show_value(quantity, float(self._gained(course, quantity)[-1]))}"
            f" (asked for {show_value(quantity, least)})"
            for quantity, least in zip(self.watched, self._gains, strict=True)
        ]
        return f"{' and '.join(parts)} in {self.within} evaluations"

    def words(self) -> str:
        """See `StopRule.words`."""
        after = f", after {whole(self.after)} steps" if self.after else ""
        parts = [show_value(q, least) for q, least in zip(self.watched, self._gains, strict=True)]
        what = f"{' and '.join(parts)} in {self.within} evaluations{after}"
        return f"less than {what}" if self.of == "success" else f"{' and '.join(self.watched)}: less than {what}"

    def earliest(self, every: int) -> int:
        """See `StopRule.earliest`."""
        return (-(-self.after // every) + self.within) * every

    def state(self, course: Course) -> str:
        """See `StopRule.state`."""
        met = np.cumsum(course.step >= self.after)
        counted = max(int(met[-1]) - 1, 0)
        if counted < self.within:
            return f"{counted} of {self.within} counted"
        parts = [f"{q} {show_value(q, float(self._gained(course, q)[-1]))}" for q in self.watched]
        return f"gained {', '.join(parts)}"
