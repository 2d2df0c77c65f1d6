"""What goes to a rig and what comes back: the policy's inputs and commands, or signals of instruments and values of drives."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from plucky_heron.errors import FileError, StateError, UnitError, quoted
from plucky_heron.handover.forms.controlling import controlling
from plucky_heron.handover.forms.signals import SignalCode
from plucky_heron.handover.reading import Pack
from plucky_heron.rigs.datagrams import ASKS, AT_ONCE, Command, pack_sensors, pack_signals
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import Problem
from plucky_heron.units import parse

Array = np.ndarray

WHOLE_RIGS = ("host", "arm64", "arm32", "board", "board-fixed", "plc")
"""Rigs on this computer that can run the whole controller."""
MOST_CHANGES = 1000
"""Changes of the state that are kept."""
STATE_TIME = 10.0
"""Seconds that are given to a state without a time."""
HOMING_TIME = 1.0
"""Seconds after which the simulated plant says that its reference is reached, while the controller homes."""


class Side(Protocol):
    """The plant's side of a rig.

    Attributes
    ----------
    ranges : (values,)
        Width of what each value that is sent may be; sensor faults are shares of it.
    """

    ranges: Array

    def begin(self, batch: Batch) -> None:
        """An episode begins in a batch of one copy."""

    def values(self, batch: Batch, observations: Array) -> Array:
        """What is sent of this sample (values,), SI."""

    def datagram(self, sequence: int, stamp: int, values: Array, flags: int) -> bytes:
        """The same on the wire."""

    def take(self, command: Command) -> Array:
        """The policy's commands (commands,), SI, of an answer that is applied."""

    def stop(self, flags: int) -> bytes:
        """A datagram that asks for what is safe, or for the end."""


class PolicySide:
    """The policy alone: its inputs before stacks are shaped, its commands."""

    def __init__(self, problem: Problem) -> None:
        self.ranges = np.array([e.high - e.low for e in problem.sensed])
        self.names = [e.name for e in problem.sensed]

    def begin(self, batch: Batch) -> None:
        """Nothing to prepare."""

    def look(self, batch: Batch) -> None:
        """Nothing to look for."""

    def values(self, batch: Batch, observations: Array) -> Array:
        """Observations as the policy has them."""
        return np.asarray(observations[0, : len(self.ranges)])

    def datagram(self, sequence: int, stamp: int, values: Array, flags: int) -> bytes:
        """A sensor datagram."""
        return pack_sensors(sequence, stamp, values.astype(np.float32), flags)

    def take(self, command: Command) -> Array:
        """As they came."""
        return command.values.astype(np.float64)

    def stop(self, flags: int) -> bytes:
        """A sensor datagram of zeros."""
        return pack_sensors(0, 0, np.zeros(len(self.ranges)), flags)


@dataclass
class Asking:
    """The state that the controller is asked for; whoever watches may change it while a rollout runs."""

    ask: str = "on"
    lasts: float = 0.0
    """Seconds of an episode in which it is gone through; 0: the task's time limit."""

    def now(self, seconds: float, state: str) -> str:
        """What is asked for, `seconds` into the episode, with the controller in `state`."""
        return self.ask


class Script(Asking):
    """States one after another, typed as ``sign test, limited 2 s, on``.

    A state with a time is asked for so long; the sign test and homing until they have come to an end; the last one to the end.

    Raises
    ------
    FileError
        No such state, or a time that is none.
    """

    def __init__(self, text: str) -> None:
        super().__init__()
        self.steps: list[tuple[str, float]] = []
        for item in filter(None, (part.strip() for part in text.split(","))):
            name = next((a for a in ASKS if item == a or item.startswith(f"{a} ")), None)
            if name is None or name == "reset":
                raise FileError("--ask", "", item, f"no such state; one of {', '.join(ASKS[:-1])}")
            rest, last = item[len(name) :].strip(), 0.0
            if rest:
                try:
                    last = parse(rest, "s")
                except UnitError as error:
                    raise FileError("--ask", name, rest, str(error)) from error
                if not 0.0 < last <= 3600.0:
                    raise FileError("--ask", name, rest, "wanted more than 0 s and at most an hour")
            self.steps.append((name, last))
        if not self.steps:
            raise FileError("--ask", "", text, "name the states to go through, such as 'sign test, limited 2 s, on'")
        self.lasts = sum(seconds or STATE_TIME for _, seconds in self.steps)
        self.reached, self._since, self._been = 0, 0.0, False

    @property
    def waits(self) -> str:
        """The state that is still asked for while others are to come; "" where the last one is reached."""
        return self.steps[self.reached][0] if self.reached + 1 < len(self.steps) else ""

    def now(self, seconds: float, state: str) -> str:
        """The step that is reached."""
        name, last = self.steps[self.reached]
        self._been |= state == name
        done = last > 0.0 and seconds - self._since >= last
        done |= name in ("sign test", "homing") and last == 0.0 and self._been and state == "off"
        done |= last == 0.0 and name in ("off", "limited", "on") and self._been
        if done and self.reached + 1 < len(self.steps):
            self.reached, self._since, self._been = self.reached + 1, seconds, False
        return self.steps[self.reached][0]


@dataclass(frozen=True)
class Wired:
    """A value that goes as a raw number."""

    place: int
    zero: int
    scale: float
    offset: float
    turns_over: int

    def raw(self, value: float, first: int | None) -> int:
        """The count; one that turns over does so after `first`, the one at the start, as if a reference had been taken there."""
        count = round(self.zero + (value - self.offset) / self.scale) if np.isfinite(value) else 0
        if self.turns_over:
            base = count if first is None else first
            count = base // self.turns_over * self.turns_over + count % self.turns_over
        return max(-(2**31), min(2**31 - 1, count))


class WholeSide:
    """The whole controller: signals of instruments to it, values of drives from it.

    Attributes
    ----------
    state, reason, index
        Of the controller, by the newest answer; `index` is the sensor or drive that the reason is about.
    difference : float
        The largest difference of a drive's value from what the simulation makes of the same commands, as a share of its range.
    changes : list
        (episode, seconds into it, state, reason, index), one each time that it changes; the episode before the others is -1.
    without_noise : tuple of str
        Observations whose noise is left out: they are worked out on the controller, or others are worked out from the same signal.

    Raises
    ------
    FileError
        The pack has no way from signals, or one of another version.
    """

    def __init__(
        self, problem: Problem, pack: Pack, source: Path | str = "pack.json", asking: Asking | None = None
    ) -> None:
        told: dict[str, Any] | None = (pack.facts.get("controller") or {}).get("signals")
        if told is None or "signals.c" not in pack.files:
            raise FileError(source, "controller.signals", None, "is not in this pack; write it again")
        parts = controlling(problem)
        code = SignalCode(problem, parts)
        code.files("")  # finds the signals of forward kinematics too
        self.names = [s.name for s in code.signals]
        if self.names != [s["name"] for s in told["given"]] or list(problem.model.drives) != told["drives"]:
            raise FileError(source, "controller.signals", None, "does not fit the task in the pack; write it again")
        self.problem, self.asking = problem, asking or Asking()
        self.commands = len(problem.commands)
        self.read = self._wired(told["read"], self.names)
        self.put = self._wired(told["put"], list(told["drives"]))
        limits = np.array([problem.machine.command_range(d) for d in told["drives"]]).reshape(-1, 2)
        self._span = limits[:, 1] - limits[:, 0]
        self._rest = np.clip(0.0, limits[:, 0], limits[:, 1])
        self._bare: dict[int, int] = {}
        """Signals that are an observation as they stand and nothing else: the column of it, which has its noise."""
        plain = set()
        for column, expression, sensor in zip(parts.columns, code.sensors, parts.sensors, strict=True):
            found = re.fullmatch(r"x\[(\d+)\]", expression)
            if found and code.times_read(int(found[1])) == 1:
                self._bare[int(found[1])] = column
                plain.add(sensor.name)
        noisy = {e.column: e.noise for e in problem.entries}
        names = zip(parts.columns, parts.sensors, strict=True)
        left_out = {c: s.name for c, s in names if noisy.get(c, 0.0) > 0.0 and s.name not in plain}
        self.quiet, self.without_noise = list(left_out), tuple(left_out.values())
        span = {c: s.high - s.low for c, s in zip(parts.columns, parts.sensors, strict=True)}
        self.ranges = np.array([span[self._bare[k]] if k in self._bare else 0.0 for k in range(len(self.names))])
        self.changes: list[tuple[int, float, str, str, int]] = []
        self.difference, self.state, self.reason, self.index = 0.0, "off", "", 0
        self.at_once = True
        """Whether the controller takes over without a ramp, as the simulated plant begins where it stands."""
        self.episode = 0

    @staticmethod
    def _wired(lines: Sequence[dict[str, Any]], names: list[str]) -> list[Wired]:
        return [
            Wired(names.index(m["name"]), m["zero"], m["scale"], m["offset"], m["turns_over"])
            for m in lines
            if m["name"] in names and m["scale"]
        ]

    def begin(self, batch: Batch) -> None:
        """Drives rest until the first answer."""
        self._now, self._first = self._rest.copy(), {}  # type: ignore[var-annotated]
        self.state, self.reason, self.index = "off", "", 0
        self._seconds, self._homing = 0.0, 0.0
        self.look(batch)
        batch.outside = self._drives

    def look(self, batch: Batch) -> None:
        """From now on signals are those of this batch."""
        self._signals = [batch.readable[name] for name in self.names]
        self.prepare(batch)

    def prepare(self, batch: Batch) -> None:
        """Leave out the noise that has no place in a signal."""
        if self.quiet:
            batch.leave_out_noise(self.quiet)

    def _drives(self, inside: Array) -> Array:
        """What drives get instead of what the simulation makes of the commands."""
        if self.compares and self.at_once:
            apart = np.abs(self._now - inside[0]) / np.maximum(self._span, 1e-12)
            self.difference = max(self.difference, float(apart.max(initial=0.0)))
        return np.asarray(self._now[None, :])

    def values(self, batch: Batch, observations: Array) -> Array:
        """Signals, with the noise of those that are an observation as they stand."""
        self._fresh = False
        self._seconds = float(batch.age[0]) * self.problem.sample_time
        now = batch.measured()[0]
        return np.array([float(now[self._bare[k]] if k in self._bare else x[0]) for k, x in enumerate(self._signals)])

    def datagram(self, sequence: int, stamp: int, values: Array, flags: int) -> bytes:
        """Signals, raw where they are wired so, and the state that is asked for."""
        words = values.astype("<f4").view("<u4").copy()
        for k, one in enumerate(self.read):
            count = one.raw(float(values[one.place]), self._first.get(k))
            self._first.setdefault(k, count)
            words[one.place] = count & 0xFFFFFFFF
        self._homing = self._homing + self.problem.sample_time if self.state == "homing" else 0.0
        ask = ASKS.index(self.asking.now(self._seconds, self.state))
        flags |= AT_ONCE if self.at_once else 0
        return pack_signals(sequence, stamp, words, flags, ask, self._homing > HOMING_TIME)

    def take(self, command: Command) -> Array:
        """Its drives are applied; the policy's commands."""
        values = command.values.astype(np.float64)
        count = len(self._now)
        raw = np.ascontiguousarray(command.values).view("<i4")
        for one in self.put:
            values[one.place] = (float(raw[one.place]) - one.zero) * one.scale + one.offset
        self._now = values[:count]
        self._fresh = not command.flags
        now = (command.state, command.reason, command.index)
        if now != (self.state, self.reason, self.index) and len(self.changes) < MOST_CHANGES:
            self.changes.append((self.episode, self._seconds, *now))
        self.state, self.reason, self.index = command.state, command.reason, command.index
        return values[count:]

    def stop(self, flags: int) -> bytes:
        """A datagram of zeros that asks for off."""
        return pack_signals(0, 0, np.zeros(len(self.names), dtype="<u4"), flags, 0, False)

    @property
    def compares(self) -> bool:
        """Whether the newest answer is the policy's own."""
        return self._fresh and self.state == "on"

    def told(self) -> list[dict[str, Any]]:
        """Changes of the state, for the JSON answer."""
        return [
            {"episode": episode, "seconds": round(seconds, 6), "state": state, "reason": self.said(reason, index)}
            for episode, seconds, state, reason, index in self.changes
        ]

    def said(self, reason: str | None = None, index: int = 0) -> str:
        """A reason with the sensor or drive that it is about; the present one, if left out."""
        if reason is None:
            reason, index = self.reason, self.index
        if reason in ("wrong sign", "no answer"):
            names = [c.name for c in self.problem.commands]
        else:
            names = [s.name for s in controlling(self.problem).sensors]
        about = reason in ("not finite", "out of range", "too fast", "wrong sign", "no answer") and index < len(names)
        return f"{reason}: {names[index]}" if about else reason


def check_whole(rig: str) -> None:
    """Whether a rig can run the whole controller.

    Raises
    ------
    StateError
        It cannot.
    """
    if rig not in WHOLE_RIGS:
        raise StateError(
            f"the rig {quoted(rig)} runs the policy alone; the whole controller runs on {', '.join(WHOLE_RIGS)}"
        )


__all__ = ["WHOLE_RIGS", "Asking", "PolicySide", "Script", "Side", "WholeSide", "check_whole"]
