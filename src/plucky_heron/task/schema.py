"""What is wanted of a machine on a site, as it stands in a task file: signals, pay, endings, starts, timing."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, field_validator, model_validator

from plucky_heron.errors import UnitError
from plucky_heron.files import FORMAT, Settings
from plucky_heron.machine.parts import Name
from plucky_heron.task.distributions import Distribution
from plucky_heron.units import Frequency, Number, Time, parse, si_unit


def _unit(value: str) -> str:
    try:
        si_unit(value)
    except UnitError as error:
        raise ValueError(str(error)) from error
    return value


Unit = Annotated[str, AfterValidator(_unit)]


class Timing(Settings):
    """Clock of a task."""

    control_rate: Frequency = 50.0
    substeps: int = Field(default=5, ge=1, le=200)
    time_limit: Time = 10.0

    @field_validator("control_rate", "time_limit")
    @classmethod
    def _above_zero(cls, value: float) -> float:
        if value <= 0.0:
            raise ValueError("must be above zero")
        return value

    @property
    def sample_time(self) -> float:
        """Seconds a command is held."""
        return 1.0 / self.control_rate

    @property
    def physics_step(self) -> float:
        """Seconds of one physics step."""
        return 1.0 / (self.control_rate * self.substeps)

    @property
    def steps(self) -> int:
        """Control steps until the time limit."""
        return max(1, round(self.time_limit * self.control_rate))

    def samples(self, seconds: float) -> int:
        """A duration in whole samples."""
        return round(seconds * self.control_rate)


class Signal(Settings):
    """A named quantity made from others."""

    formula: str
    unit: Unit = ""
    positive: str = ""


class Observation(Settings):
    """One number the policy is given."""

    name: str
    formula: str
    unit: Unit = ""
    range: tuple[float, float]
    noise: float = 0.0
    delay: Time = 0.0
    positive: str = ""

    @model_validator(mode="before")
    @classmethod
    def _with_units(cls, data: Any) -> Any:
        if not isinstance(data, dict):
            return data
        data = dict(data)
        unit = str(data.get("unit", ""))
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
        return self

    @property
    def si(self) -> str:
        """SI unit of its values."""
        return si_unit(self.unit)


class Action(Settings):
    """One number the policy commands; limits in the drive's unit, its own limit if left out."""

    name: Name
    drive: str
    limits: tuple[str | float, str | float] | None = None
    positive: str = ""


class Reward(Settings):
    """A term of the score: `weight` times `formula`, paid each second, each step, or once at an ending."""

    formula: str = "1"
    weight: Number = 1.0
    pay: Literal["each second", "each step", "at ending"] = "each second"
    ending: str | None = None

    @model_validator(mode="after")
    def _ending_named(self) -> Reward:
        if (self.pay == "at ending") != (self.ending is not None):
            raise ValueError("pay = 'at ending' goes with ending = its name")
        return self


class Ending(Settings):
    """A true end of an episode: never bootstrapped."""

    formula: str
    kind: Literal["success", "failure"]
    hold: Time = 0.0


class Measure(Settings):
    """The yardstick: an episode succeeds when the condition has held for `hold` as it ends, without a failure."""

    name: str
    formula: str
    hold: Time = 0.0


class Setpoint(Settings):
    """A signal from outside, drawn at the start of an episode."""

    draw: Distribution
    unit: Unit = ""


class Target(Settings):
    """What the drawing marks as the goal: formulas for its place, and the body that should get there."""

    body: str
    x: str
    z: str


class Regulator(Settings):
    """What a linear regulator holds: formulas for the wanted position of each joint, and the scales of its weights."""

    hold: dict[str, str] = Field(default_factory=dict)
    joint_scales: dict[str, str | float] = Field(default_factory=dict)
    """Acceptable error of each joint's position; speeds take the same number a second."""


class Rule(Settings):
    """A controller written as formulas, one an action."""

    commands: dict[str, str]


class Task(Settings):
    """A task file."""

    format: int = FORMAT
    name: str = ""
    notes: str = ""
    machine: str
    site: str
    timing: Timing = Timing()
    setpoints: dict[str, Setpoint] = Field(default_factory=dict)
    signals: dict[str, Signal] = Field(default_factory=dict)
    observations: tuple[Observation, ...] = Field(min_length=1)
    actions: tuple[Action, ...] = Field(min_length=1)
    rewards: dict[str, Reward] = Field(min_length=1)
    measure: Measure
    endings: dict[str, Ending] = Field(default_factory=dict)
    starts: dict[str, Distribution] = Field(default_factory=dict)
    variation: dict[str, Distribution] = Field(default_factory=dict)
    target: Target | None = None
    regulator: Regulator = Regulator()
    rules: dict[str, Rule] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _names_are_single(self) -> Task:
        for label, names in (
            ("observations", [o.name for o in self.observations]),
            ("actions", [a.name for a in self.actions]),
        ):
            twice = {n for n in names if names.count(n) > 1}
            if twice:
                raise ValueError(f"{label}: {', '.join(sorted(twice))} stands twice")
        for name, reward in self.rewards.items():
            if reward.ending is not None and reward.ending not in self.endings:
                raise ValueError(
                    f"rewards.{name}.ending names no ending: {reward.ending!r}; known are {', '.join(self.endings)}"
                )
        return self
