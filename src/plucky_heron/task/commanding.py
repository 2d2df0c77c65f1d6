"""What the policy commands: actions as they stand in a task file, and the row of numbers they come to."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from pydantic import Field, model_validator

from plucky_heron.files import Settings
from plucky_heron.machine.parts import Name
from plucky_heron.task.observing import Unit
from plucky_heron.units import Delay

Array = np.ndarray


def from_shares(low: Array, high: Array, shares: Array) -> Array:
    """Commands in SI (..., m), float64, from shares of their range, -1 at `low` (m,) and 1 at `high` (m,)."""
    return np.asarray(0.5 * (low + high) + 0.5 * (high - low) * shares)


def to_shares(low: Array, high: Array, commands: Array) -> Array:
    """Shares of their range (..., m) from commands in SI, -1 at `low` (m,) and 1 at `high` (m,)."""
    return np.asarray((commands - 0.5 * (low + high)) / (0.5 * (high - low)))


class Choice(Settings):
    """One of several things to do: what drives get while it is at work, as formulas."""

    drives: dict[str, str] = Field(min_length=1)
    """A fixed value, or a lower regulator written as a formula, for each drive."""
    lasts: Delay = 0.0
    """A manoeuvre goes on this long once it was chosen; 0: until the next sample."""
    available: str | None = None
    """Formula that says when it may be chosen; always, if left out."""


class Action(Settings):
    """What the policy commands: one number, or one of several named choices.

    drive: what it goes to; left out where the task's `mixing` makes drive values from it, or for choices. kind: the value
    itself, or its change a second (increment), within `within`. rate_limit and smoothing stand between policy and drive.
    """

    name: Name
    drive: str | None = None
    unit: Unit = ""
    limits: tuple[str | float, str | float] | None = None
    """In the drive's unit, its own range if left out; of an increment: in that unit a second."""
    kind: Literal["value", "increment"] = "value"
    within: tuple[str | float, str | float] | None = None
    rate_limit: str | float | None = None
    smoothing: Delay = 0.0
    """Time constant of a first-order lag."""
    positive: str = ""
    mirrored: str = ""
    """What it is in the mirror: "negated", the name of the action whose place it takes, or both; see `mirror`."""
    choices: dict[Name, Choice] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _one_form(self) -> Action:
        if self.choices:
            given = [k for k in ("drive", "limits", "within", "rate_limit") if getattr(self, k) is not None]
            if given or self.kind != "value" or self.smoothing:
                raise ValueError(f"{self.name}: choices go without {given[0] if given else 'kind and smoothing'}")
            if self.mirrored.startswith("negated"):
                raise ValueError(
                    f"{self.name}: choices have no sign; mirrored names the action they change places with"
                )
            if len(self.choices) < 2:
                raise ValueError(f"{self.name}: choices are at least two")
        elif self.drive is None and self.limits is None:
            raise ValueError(f"{self.name}: needs a drive, or limits where the task mixes it, or choices")
        if self.kind == "increment" and self.limits is None:
            raise ValueError(f"{self.name}: an increment needs limits, in the drive's unit a second")
        if self.within is not None and self.kind != "increment":
            raise ValueError(f"{self.name}: within goes with kind = 'increment'; a value has limits")
        return self


@dataclass(frozen=True)
class Command:
    """One number of the row that the policy puts out.

    Attributes
    ----------
    action : int
        Number of the action it belongs to.
    choice : str
        The choice it scores: of an action with choices, the available one with the highest number is taken.
    drive : int
        Number of the drive it goes to unchanged by any formula, or -1.
    held_low, held_high
        What the value that reaches the drive is kept within.
    rate_limit, smoothing
        Change a second (0: any) and time constant (s) between policy and drive.
    """

    name: str
    action: int
    choice: str
    drive: int
    unit: str
    low: float
    high: float
    increment: bool
    held_low: float
    held_high: float
    rate_limit: float
    smoothing: float
    positive: str

    @property
    def plain(self) -> bool:
        """Whether the drive gets just what the policy puts out."""
        return self.drive >= 0 and not (self.increment or self.rate_limit or self.smoothing)
