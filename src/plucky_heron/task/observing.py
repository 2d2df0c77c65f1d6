"""What the policy is given: observations as they stand in a task file, and the row of numbers they come to."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, model_validator

from plucky_heron.errors import UnitError
from plucky_heron.files import Settings
from plucky_heron.formula import Expression
from plucky_heron.units import Delay, parse, si_unit


def _unit(value: str) -> str:
    try:
        si_unit(value)
    except UnitError as error:
        raise ValueError(str(error)) from error
    return value


Unit = Annotated[str, AfterValidator(_unit)]


class Observation(Settings):
    """Something the policy is given: one number, or a list of them.

    scaling: how a learner brings it to its network: the stated range to ±1 and from there standardised by what was met (where
    the recipe does so), the range to ±1 alone, or not at all.
    clip: readings stop at the range, as those of a real sensor do. form: an angle may be given as its sine and cosine.
    """

    name: Annotated[str, Field(min_length=1, max_length=80)]
    formula: str
    unit: Unit = ""
    range: tuple[float, float] = (0.0, 0.0)
    """To be stated, but for sine and cosine."""
    noise: float = 0.0
    delay: Delay = 0.0
    positive: str = ""
    scaling: Literal["standardise", "range", "none"] = "standardise"
    clip: bool = False
    form: Literal["value", "sine and cosine"] = "value"
    stack: int = Field(default=1, ge=1, le=32)
    """How many of the last samples are given, the newest first."""
    critic_only: bool = False
    """Whether critics alone are given it, while learning; the policy and what is handed over do without."""
    mirrored: str = ""
    """What it is in the mirror: "negated", the name of the observation whose place it takes, or both; the same, if left out."""

    @model_validator(mode="before")
    @classmethod
    def _with_units(cls, data: Any) -> Any:
        if not isinstance(data, dict):
            return data
        data = dict(data)
        unit = str(data.get("unit", ""))
        if data.get("form") == "sine and cosine":
            data.setdefault("range", (-math.pi, math.pi))
        elif "range" not in data:
            raise ValueError(
                f'{data.get("name") or "an observation"}: range is missing; write for example range = ["-1 m", "1 m"]'
            )
        try:
            si = si_unit(unit)
            if isinstance(data.get("range"), list | tuple):
                data["range"] = tuple(parse(v, si) for v in data["range"])
            if isinstance(data.get("noise"), str):
                data["noise"] = parse(data["noise"], si)
        except UnitError as error:
            raise ValueError(f"{data.get('name', '')}: {error}") from error
        return data

    @model_validator(mode="after")
    def _ordered(self) -> Observation:
        if not self.range[0] < self.range[1]:
            raise ValueError(f'{self.name}: range must rise, such as ["-1 m", "1 m"]')
        if self.noise < 0.0 or self.delay < 0.0:
            raise ValueError(f"{self.name}: noise and delay must not be negative")
        if self.form != "value" and self.si not in ("rad", ""):
            raise ValueError(f"{self.name}: sine and cosine are of an angle, this is in {self.unit}")
        return self

    @property
    def si(self) -> str:
        """SI unit of its values."""
        return si_unit(self.unit)


@dataclass(frozen=True)
class Entry:
    """One number of the row that the policy is given.

    Attributes
    ----------
    source : int
        Number of the observation it comes from.
    column : int
        Number of the raw value it is made from.
    samples_ago : int
        Dead time and place in a stack, in samples.
    shape : {"value", "sine", "cosine"}
    """

    name: str
    source: int
    column: int
    samples_ago: int
    shape: str
    si: str
    low: float
    high: float
    noise: float
    delay: float
    clip: bool
    scaling: str
    positive: str
    formula: str
    critic_only: bool = False


def entries_of(
    observations: tuple[Observation, ...], formulas: tuple[Expression, ...], control_rate: float
) -> tuple[Entry, ...]:
    """The row of numbers that observations come to, in order: list by list, sine before cosine, newest first."""
    found, column = [], 0
    for source, (o, formula) in enumerate(zip(observations, formulas, strict=True)):
        for item in range(formula.width):
            name = f"{o.name} {item}" if formula.size else o.name
            for ago in range(o.stack):
                for shape in ("value",) if o.form == "value" else ("sine", "cosine"):
                    whole = name if shape == "value" else f"{shape} of {name}"
                    low, high = o.range if shape == "value" else (-1.0, 1.0)
                    found.append(
                        Entry(
                            f"{whole}, {ago} before" if ago else whole,
                            source,
                            column,
                            round(o.delay * control_rate) + ago,
                            shape,
                            o.si if shape == "value" else "",
                            low,
                            high,
                            o.noise,
                            o.delay,
                            o.clip,
                            o.scaling,
                            o.positive if shape == "value" else "",
                            o.formula,
                            o.critic_only,
                        )
                    )
            column += 1
    return tuple(found)
