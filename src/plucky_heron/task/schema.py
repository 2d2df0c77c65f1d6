"""What is wanted of a machine on a site, as it stands in a task file: signals, reward, endings, starts, timing."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field, field_validator, model_validator

from plucky_heron.files import Settings
from plucky_heron.machine.parts import Name, NotBelow, Shape
from plucky_heron.task.commanding import Action
from plucky_heron.task.distributions import Distribution
from plucky_heron.task.observing import Observation, Unit
from plucky_heron.task.own_code import OwnCode
from plucky_heron.task.placing import Gates, Placing
from plucky_heron.units import Delay, Frequency, Number, Time
from plucky_heron.upgrading import FORMAT

__all__ = ["Action", "Ending", "Measure", "Observation", "Reward", "Rule", "Setpoint", "Signal", "Task", "Timing"]


MOST_SAMPLES = 500_000
"""Of one episode: its gusts and noise are drawn ahead."""


MOST_LATE = 50
"""Samples that a command may come late by."""


class Timing(Settings):
    """Clock of a task."""

    control_rate: Frequency = 50.0
    substeps: int = Field(default=5, ge=1, le=200)
    time_limit: Time = 10.0
    dead_time: Delay = 0.0
    """From a sample of the sensors until its command is at the drives: transport and computing."""
    jitter: Delay = 0.0
    """By how much more that may be, evenly spread, drawn for each sample."""
    lost: Annotated[Number, Field(ge=0.0, lt=1.0)] = 0.0
    """Share of samples whose command never arrives: drives hold the one before."""

    @field_validator("control_rate", "time_limit")
    @classmethod
    def _above_zero(cls, value: float) -> float:
        if not 1e-3 <= value <= 1e5:
            raise ValueError("must be between 0.001 and 100 000")
        return value

    @model_validator(mode="after")
    def _can_be_simulated(self) -> Timing:
        if self.time_limit * self.control_rate > MOST_SAMPLES:
            raise ValueError(
                f"time_limit: {self.time_limit * self.control_rate:.2g} samples an episode; wanted at most {MOST_SAMPLES}"
            )
        if self.jitter * self.control_rate > MOST_LATE:
            raise ValueError(
                f"jitter: {self.jitter:g} s is {self.jitter * self.control_rate:.3g} samples; wanted at most {MOST_LATE}"
            )
        if self.control_rate * self.substeps > 1e6:
            raise ValueError("control_rate times substeps must not be above a million physics steps a second")
        return self

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


class Reward(Settings):
    """A term of the reward: `weight` times `formula`, given each second, each step, on an event, or once at an ending."""

    formula: str = "1"
    weight: Number = 1.0
    when: Literal["each second", "each step", "on event", "at ending"] = "each second"
    """When it is given."""
    ending: str | None = None
    event: str | None = None
    """Formula; the term is given in the sample in which it begins to hold."""
    muted: bool = False
    """Computed and shown, but not counted."""

    @model_validator(mode="after")
    def _complete(self) -> Reward:
        if (self.when == "at ending") != (self.ending is not None):
            raise ValueError("when = 'at ending' goes with ending = its name")
        if (self.when == "on event") != (self.event is not None):
            raise ValueError("when = 'on event' goes with event = a formula")
        return self


class Ending(Settings):
    """A true end of an episode: never bootstrapped. By a formula held for a time, or a deadline.

    A deadline is part of the problem (`time.left` may be sensed), unlike the time limit, which only cuts an episode.
    """

    formula: str | None = None
    kind: Literal["success", "failure"]
    hold: Annotated[Time, NotBelow] = 0.0
    deadline: Annotated[Time, NotBelow] | None = None

    @model_validator(mode="after")
    def _one(self) -> Ending:
        if (self.formula is None) == (self.deadline is None):
            raise ValueError("an ending has either a formula or a deadline")
        return self


class Measure(Settings):
    """The yardstick: an episode succeeds when the condition has held for `hold` as it ends, without a failure.

    `value` is what is measured beside success, such as an area or a lap time; higher is better unless said otherwise.
    """

    name: str
    formula: str
    hold: Annotated[Time, NotBelow] = 0.0
    value: str | None = None
    unit: Unit = ""
    better: Literal["higher", "lower"] = "higher"


class Setpoint(Settings):
    """A signal from outside: drawn at the start of an episode, and again every `every` seconds."""

    draw: Distribution
    unit: Unit = ""
    every: Annotated[Time, NotBelow] = 0.0
    positive: str = ""


class Target(Settings):
    """What the drawing marks as the goal: formulas for its place, and the body that should get there."""

    body: str
    x: str
    y: str = "0"
    z: str = "0"


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

    kind_of_file: ClassVar[str] = "tasks"

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
    mixing: dict[str, str] = Field(default_factory=dict)
    """Drives that get a formula over `command.NAME`, what actions come to after rate limit and smoothing."""
    rewards: dict[str, Reward] = Field(min_length=1)
    measure: Measure
    endings: dict[str, Ending] = Field(default_factory=dict)
    starts: dict[str, Distribution] = Field(default_factory=dict)
    placing: dict[str, Placing] = Field(default_factory=dict)
    variation: dict[str, Distribution] = Field(default_factory=dict)
    zones: dict[Name, Shape] = Field(default_factory=dict)
    """Places that mean something, for `clearance` and `overlap`; they touch nothing."""
    gates: Gates | None = None
    target: Target | None = None
    regulator: Regulator = Regulator()
    rules: dict[str, Rule] = Field(default_factory=dict)
    code: OwnCode | None = None
    """Python of the project's own that computes signals; see `own_code`."""
    acknowledged: dict[str, str] = Field(default_factory=dict)
    """Checks of the shakedown that were looked at and are meant so, with the reason."""

    @model_validator(mode="after")
    def _names_are_single(self) -> Task:
        for label, names in (
            ("observations", [o.name for o in self.observations]),
            ("actions", [a.name for a in self.actions]),
        ):
            twice = {n for n in names if names.count(n) > 1}
            if twice:
                raise ValueError(f"{label}: {', '.join(sorted(twice))} stands twice")
        if all(o.critic_only for o in self.observations):
            raise ValueError("observations: at least one must be for the policy, not critic_only")
        for name, reward in self.rewards.items():
            if reward.ending is not None and reward.ending not in self.endings:
                raise ValueError(
                    f"rewards.{name}.ending names no ending: {reward.ending!r}; known are {', '.join(self.endings)}"
                )
        return self
