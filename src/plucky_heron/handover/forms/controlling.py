"""What stands around the policy on a controller: what it is given from what sensors say, and what drives get from what it puts out.

The same steps as in the simulation (`simulation.batch`, `simulation.commander`), with guards and the states of commissioning, as data
for the generated code.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Any

import numpy as np

from plucky_heron.handover.forms.direction import direction_of_entry
from plucky_heron.handover.forms.line import Line
from plucky_heron.machine.parts import Drive
from plucky_heron.task.problem import Problem

Array = np.ndarray

RANGE_MARGIN = 0.5
"""Of a sensor's range beyond either end, before a value is taken for wrong: ranges say what is usual, not what is possible."""
LARGEST = 3e38
"""About what single precision can hold."""
TEST_SHARE = 0.05
"""Of a command's range, by which the sign test moves a drive."""
TEST_TIME = 0.4
"""Seconds that it does so."""
TAKE_OVER = 0.3
"""Seconds in which commands pass from what stands to what the policy wants."""
RAMP = 0.5
"""Seconds in which commands go to the safe ones."""
_ECHO = re.compile(r"(previous\.)?(action|command)\.(\w+)")


@dataclass(frozen=True)
class Input:
    """One number that the policy is given.

    Attributes
    ----------
    kind : {"sensor", "given", "previous", "held"}
        What a sensor says; what the policy put out last, or the time before; what drives got last.
    index : int
        Of the sensor or command.
    ago : int
        Samples back, for a stack.
    shape : {"value", "sine", "cosine"}
    clip : bool
        Whether a reading stops at its range.
    """

    kind: str
    index: int
    ago: int
    shape: str
    clip: bool
    low: float
    high: float


@dataclass(frozen=True)
class Shaping:
    """What becomes of a command before its drive gets it.

    Attributes
    ----------
    within : (float, float)
        What the drive's value is kept in.
    most : float
        Largest change a sample; infinite without a rate limit.
    share : float
        Of the change that comes through smoothing in a sample.
    servo : bool
        Whether it begins where a servo stands when power comes on: a command that adds up, or that is limited or smoothed.
    """

    increment: bool
    within: tuple[float, float]
    most: float
    share: float
    servo: bool = False


@dataclass(frozen=True)
class Controlling:
    """Everything around the policy.

    Attributes
    ----------
    sensors
        What has to be given, one line a signal: sensors and set-points; what the controller knows of itself is left out.
    inputs
        What the policy is given of that, in its order.
    """

    sensors: tuple[Line, ...]
    formulas: tuple[str, ...]
    columns: tuple[int, ...]
    """Of each sensor among the observations' columns."""
    inputs: tuple[Input, ...]
    shaping: tuple[Shaping, ...]

    @property
    def depth(self) -> int:
        """Samples of sensors that are kept."""
        return max((i.ago for i in self.inputs), default=0) + 1

    def allowed(self) -> tuple[Array, Array]:
        """Lowest and highest value (sensors,) that is not taken for wrong.

        A reading that is clipped before the policy has it, or of which it has sine and cosine, may go beyond its range as often as it likes.
        """
        low, high = (np.array([getattr(s, side) for s in self.sensors]) for side in ("low", "high"))
        margin = RANGE_MARGIN * (high - low)
        low, high = low - margin, high + margin
        for k in range(len(self.sensors)):
            read = [i for i in self.inputs if i.kind == "sensor" and i.index == k]
            if read and all(i.clip or i.shape != "value" for i in read):
                low[k], high[k] = -LARGEST, LARGEST
        return low, high

    def told(self) -> list[dict[str, Any]]:
        """Of every input of the policy where it comes from, for ``pack.json``."""
        return [
            {"kind": i.kind, "index": i.index, "samples_ago": i.ago, "shape": i.shape, "clip": i.clip}
            for i in self.inputs
        ]


def controlling(problem: Problem) -> Controlling:
    """What a problem asks for around its policy."""
    rate = problem.task.timing.control_rate
    numbers = {command.name: k for k, command in enumerate(problem.commands) if not command.choice}
    sensors: dict[int, int] = {}
    lines: list[Line] = []
    formulas: list[str] = []
    inputs: list[Input] = []
    for entry in problem.sensed:
        source = problem.task.observations[entry.source]
        low, high = source.range
        back = entry.samples_ago - round(entry.delay * rate)
        echo = _ECHO.fullmatch(entry.formula.strip())
        kind, index = "sensor", -1
        if echo is not None and echo.group(3) in numbers and not back and not entry.delay and not entry.noise:
            kind = {"action": "previous" if echo.group(1) else "given", "command": "held"}[echo.group(2)]
            index = numbers[echo.group(3)]
            if kind == "held" and echo.group(1):
                kind = "sensor"
        if kind == "sensor":
            if entry.column not in sensors:
                sensors[entry.column] = len(lines)
                name = entry.name.split(", ")[0].removeprefix("sine of ").removeprefix("cosine of ")
                lines.append(Line(name, source.si, low, high, direction_of_entry(problem.machine, entry)))
                formulas.append(entry.formula)
            index = sensors[entry.column]
        inputs.append(Input(kind, index, back, entry.shape, entry.clip and entry.shape == "value", low, high))
    time = problem.sample_time
    shaping = tuple(
        Shaping(
            c.increment, (c.held_low, c.held_high), c.rate_limit * time if c.rate_limit else math.inf,
            1.0 - math.exp(-time / c.smoothing) if c.smoothing else 1.0,
            bool(c.increment or c.rate_limit or c.smoothing) and c.drive >= 0 and drive_of(problem, c.drive).kind == "position",
        )
        for c in problem.commands
    )  # fmt: skip
    return Controlling(tuple(lines), tuple(formulas), tuple(sensors), tuple(inputs), shaping)


def drive_of(problem: Problem, number: int) -> Drive:
    """A drive of the machine by its number in the model."""
    return problem.machine.drives[problem.model.drives[number]]


class ControllingModel:
    """The same steps in this program: what the generated code is checked against, one machine at a time."""

    def __init__(self, parts: Controlling, low: Array, high: Array, sample_time: float) -> None:
        self.parts, self.low, self.high, self.sample_time = parts, low, high, sample_time
        count = len(low)
        self.history: Array = np.zeros((parts.depth, len(parts.sensors)))
        self.given, self.previous, self.held, self.wanted = (np.zeros(count) for _ in range(4))
        self.fresh = True

    def begin(self, held: Array) -> None:
        """Nothing was commanded yet; drives stand at `held` (commands,)."""
        self.given[:] = self.previous[:] = 0.0
        within = np.array([s.within for s in self.parts.shaping])
        self.held[:] = self.wanted[:] = np.clip(held, within[:, 0], within[:, 1])
        self.fresh = True

    def inputs(self, sensors: Array) -> Array:
        """What the policy is given (inputs,), from what sensors say (sensors,)."""
        self.history = np.tile(sensors, (len(self.history), 1)) if self.fresh else np.roll(self.history, 1, axis=0)
        self.history[0], self.fresh = sensors, False
        row = []
        for i in self.parts.inputs:
            sources = {"given": self.given, "previous": self.previous, "held": self.held}
            value = float(self.history[i.ago, i.index] if i.kind == "sensor" else sources[i.kind][i.index])
            value = {"value": value, "sine": math.sin(value), "cosine": math.cos(value)}[i.shape]
            row.append(min(max(value, i.low), i.high) if i.clip else value)
        return np.array(row)

    def drives(self, commands: Array) -> Array:
        """What drives get (commands,) of what the policy put out (commands,)."""
        self.previous[:] = self.given
        self.given[:] = np.clip(commands, self.low, self.high)
        for k, s in enumerate(self.parts.shaping):
            asked = self.wanted[k] + self.given[k] * self.sample_time if s.increment else self.given[k]
            self.wanted[k] = min(max(asked, s.within[0]), s.within[1])
            self.held[k] += min(max(self.wanted[k] - self.held[k], -s.most), s.most) * s.share
        return self.held.copy()
