"""How a value is drawn at the start of an episode."""

from __future__ import annotations

from typing import Any

import numpy as np
from pydantic import model_validator

from plucky_heron.errors import UnitError
from plucky_heron.files import Settings
from plucky_heron.units import parse


class Distribution(Settings):
    """Exactly one of `fixed`, `uniform` (low, high), `normal` (mean, spread) or `choice`; kept as written.

    Training draws from it; `nominal` is the value of the undisturbed machine, `proving` what is drawn when it is proved.
    """

    fixed: str | float | None = None
    uniform: tuple[str | float, str | float] | None = None
    normal: tuple[str | float, str | float] | None = None
    choice: tuple[str | float, ...] | None = None
    nominal: str | float | None = None
    proving: Distribution | None = None

    @model_validator(mode="before")
    @classmethod
    def _short_form(cls, value: Any) -> Any:
        return {"fixed": value} if isinstance(value, str | int | float) else value

    @model_validator(mode="after")
    def _one(self) -> Distribution:
        given = [k for k in ("fixed", "uniform", "normal", "choice") if getattr(self, k) is not None]
        if len(given) != 1:
            raise ValueError('wanted one of fixed, uniform, normal, choice, such as { uniform = ["-1 m", "1 m"] }')
        return self

    def numbers(self, unit: str) -> tuple[str, tuple[float, ...]]:
        """Kind and SI values.

        Raises
        ------
        UnitError
            A value in another unit, or bounds in the wrong order.
        """
        for kind in ("fixed", "uniform", "normal", "choice"):
            raw = getattr(self, kind)
            if raw is not None:
                values = tuple(parse(v, unit) for v in (raw if isinstance(raw, tuple) else (raw,)))
                if kind == "uniform" and values[0] > values[1]:
                    raise UnitError(f"uniform: {raw[0]} is above {raw[1]}; write the lower bound first")
                if kind == "normal" and values[1] < 0.0:
                    raise UnitError("normal: the spread must not be negative")
                if kind == "choice" and not values:
                    raise UnitError("choice: needs at least one value")
                return kind, values
        raise AssertionError("checked when the file was read")

    def check(self, unit: str) -> None:
        """All its values, in `unit`; raises as `numbers` does."""
        self.numbers(unit)
        if self.nominal is not None:
            parse(self.nominal, unit)
        if self.proving is not None:
            self.proving.check(unit)

    def draw(self, generator: np.random.Generator, unit: str) -> float:
        """One value; every kind takes exactly one random number, so that editing one leaves the others' draws alone."""
        return draw_one(generator, *self.numbers(unit))

    def middle(self, unit: str) -> float:
        """The nominal value: as stated, else the mean, or the first choice."""
        if self.nominal is not None:
            return parse(self.nominal, unit)
        kind, values = self.numbers(unit)
        return 0.5 * (values[0] + values[1]) if kind == "uniform" else values[0]

    def text(self) -> str:
        """For people: ``"−4 m … 4 m"``."""
        text = self._text()
        if self.nominal is not None:
            text += f", nominal {_short(self.nominal)}"
        return text + (f"; in proofs {self.proving.text()}" if self.proving is not None else "")

    def _text(self) -> str:
        if self.uniform is not None:
            return f"{_short(self.uniform[0])} … {_short(self.uniform[1])}"
        if self.normal is not None:
            return f"{_short(self.normal[0])} ± {_short(self.normal[1])}"
        if self.choice is not None:
            return ", ".join(_short(v) for v in self.choice)
        return _short(self.fixed)


def draw_one(generator: np.random.Generator, kind: str, values: tuple[float, ...]) -> float:
    """One value of a distribution as `Distribution.numbers` gives it."""
    if kind == "normal":
        return float(values[0] + values[1] * generator.standard_normal())
    share = generator.random()
    if kind == "uniform":
        return float(values[0] + (values[1] - values[0]) * share)
    return float(values[min(int(share * len(values)), len(values) - 1)])


def _short(value: object) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)
