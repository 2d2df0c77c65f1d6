"""From what the policy puts out to what each drive is given: increments, rate limits, smoothing, mixing, choices."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence

import numpy as np

from plucky_heron.dynamics.plant import Plant
from plucky_heron.formula import Expression, Program
from plucky_heron.task.problem import Option, Problem

Array = np.ndarray


class Commander:
    """The way of the commands in all copies.

    Attributes
    ----------
    given : (B, commands)
        What the policy put out, kept within the limits.
    previous : (B, commands)
        The same, one sample ago.
    values : (B, commands)
        What it came to after increments, rate limits and smoothing. The same array as `given` where there are none.
    drives : (B, drives)
        What every drive is given.
    refused : bool (B,)
        Where this sample's command, or what a formula made of it, was no finite number.
    """

    def __init__(self, problem: Problem, copies: int) -> None:
        self.problem, commands = problem, problem.commands
        self.given: Array = np.zeros((copies, len(commands)))
        self.previous: Array = np.zeros_like(self.given)
        self.refused: Array = np.zeros(copies, dtype=np.bool_)
        self.drives: Array = np.zeros((copies, len(problem.model.drives)))
        self._direct = np.array([k for k, c in enumerate(commands) if c.drive >= 0], dtype=np.int64)
        self._drive = np.array([c.drive for c in commands if c.drive >= 0], dtype=np.int64)
        self._shaped = any(c.increment or c.rate_limit or c.smoothing for c in commands)
        self.values: Array = self.given.copy() if self._shaped else self.given
        time = problem.sample_time
        self._grows = np.array([c.increment for c in commands])
        self._low, self._high = np.array([c.held_low for c in commands]), np.array([c.held_high for c in commands])
        self._most = np.array([c.rate_limit * time if c.rate_limit else np.inf for c in commands])
        self._share = np.array([1.0 - np.exp(-time / c.smoothing) if c.smoothing else 1.0 for c in commands])
        self._wanted: Array = np.zeros_like(self.given)
        self._sets = [_Choices(number, problem, copies) for number in problem.options]
        self._mixed = list(problem.mixing)
        self._limits = np.array([problem.machine.command_range(d) for d in problem.model.drives]).reshape(-1, 2)
        self._programs: list[Program] = []

    def signals(self) -> dict[str, Array]:
        """What formulas see, updated in place."""
        found: dict[str, Array] = {}
        for k, command in enumerate(self.problem.commands):
            if not command.choice:
                found[f"action.{command.name}"] = self.given[:, k]
                found[f"previous.action.{command.name}"] = self.previous[:, k]
                found[f"command.{command.name}"] = self.values[:, k]
                found[f"actions[{k}]"], found[f"previous.actions[{k}]"] = self.given[:, k], self.previous[:, k]
        for choices in self._sets:
            found |= choices.signals()
        return found

    def lists(self) -> dict[str, Array]:
        """Lists that formulas see, (commands, B)."""
        return {"actions": self.given.T, "previous.actions": self.previous.T}

    def bind(self, signals: Mapping[str, Array], copies: int) -> None:
        """Bind the formulas of mixing and choices."""
        problem = self.problem

        def program(formulas: Sequence[Expression]) -> Program:
            return Program(formulas, signals, copies, problem.definitions, problem.sample_time)

        self._mixing = program(list(problem.mixing.values()))
        for choices in self._sets:
            options = choices.options
            choices.may = program([o.available for o in options if o.available is not None])
            choices.does = program([f for o in options for f in o.formulas])
        self._programs = [self._mixing, *(p for c in self._sets for p in (c.may, c.does))]

    def begin(self, copies: Array, plant: Plant) -> None:
        """Nothing has been commanded in `copies` (indices); increments go on from where position drives stand."""
        self.given[copies] = self.previous[copies] = 0.0
        self.drives[copies] = 0.0
        if self._shaped:
            start = np.zeros((len(copies), len(self.problem.commands)))
            start[:, self._direct] = plant.lagged[np.ix_(copies, self._drive)]
            self.values[copies] = np.clip(start, self._low, self._high)
            self._wanted[copies] = self.values[copies]
        for choices in self._sets:
            choices.begin(copies)

    def started(self, copies: Array) -> None:
        """Formulas of `copies` (k,) begin to remember."""
        for program in self._programs:
            program.run(fresh=copies)

    def give(self, commands: Array) -> Array:
        """Take commands (B, commands) in SI units for one sample; what the drives are given, (B, drives)."""
        problem = self.problem
        self.previous[:] = self.given
        finite = np.isfinite(commands)
        np.logical_not(finite.all(axis=1), out=self.refused)
        if self.refused.any():
            commands = np.where(finite, commands, 0.0)
        np.clip(commands, problem.low, problem.high, out=self.given)
        if self._shaped:
            self._shape()
        self.drives[:, self._drive] = self.values[:, self._direct]
        if self._mixed:
            self._put(self._mixed, self._mixing.run())
        for choices in self._sets:
            choices.choose(self.given)
            given = choices.does.run()
            for number, option in enumerate(choices.options):
                at_work = choices.at_work[:, number] != 0.0
                rows = given[choices.rows[number]]
                self._put(list(option.drives), rows, at_work)
        return self.drives

    def _shape(self) -> None:
        held = np.where(self._grows, self._wanted + self.given * self.problem.sample_time, self.given)
        np.clip(held, self._low, self._high, out=self._wanted)
        change = np.clip(self._wanted - self.values, -self._most, self._most) * self._share
        self.values += change

    def _put(self, drives: list[int], rows: Array, where: Array | None = None) -> None:
        for drive, row in zip(drives, rows, strict=True):
            finite = np.isfinite(row)
            if not finite.all():
                self.refused |= ~finite if where is None else ~finite & where
                row = np.where(finite, row, 0.0)
            value = np.clip(row, *self._limits[drive])
            self.drives[:, drive] = value if where is None else np.where(where, value, self.drives[:, drive])

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        kept = {"given": self.given.copy(), "previous": self.previous.copy(), "drives": self.drives.copy()}
        kept |= {"values": self.values.copy(), "wanted": self._wanted.copy()}
        for k, choices in enumerate(self._sets):
            kept |= {f"left{k}": choices.left.copy(), f"work{k}": choices.at_work.copy()}
        return kept | {f"memory{k}": program.keep() for k, program in enumerate(self._programs)}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.given[:], self.previous[:], self.drives[:] = kept["given"], kept["previous"], kept["drives"]
        self.values[:], self._wanted[:] = kept["values"], kept["wanted"]
        for k, choices in enumerate(self._sets):
            choices.left[:], choices.at_work[:] = kept[f"left{k}"], kept[f"work{k}"]
            choices.tell()
        for k, program in enumerate(self._programs):
            program.restore(kept[f"memory{k}"])


class _Choices:
    """One action with choices: which is at work, and for how many samples yet."""

    may: Program
    does: Program

    def __init__(self, number: int, problem: Problem, copies: int) -> None:
        self.name = problem.task.actions[number].name
        self.options: tuple[Option, ...] = problem.options[number]
        self.columns = np.array([k for k, c in enumerate(problem.commands) if c.action == number])
        self.left: Array = np.zeros(copies, dtype=np.int64)
        self.at_work: Array = np.zeros((copies, len(self.options)))
        self._number, self._before = np.zeros(copies), np.zeros(copies)
        self._samples = np.array([max(1, o.samples) for o in self.options])
        self._asked = [k for k, o in enumerate(self.options) if o.available is not None]
        edges = np.cumsum([0, *(len(o.formulas) for o in self.options)])
        self.rows = [slice(a, b) for a, b in itertools.pairwise(edges)]

    def signals(self) -> dict[str, Array]:
        found = {f"action.{self.name}.{o.name}": self.at_work[:, k] for k, o in enumerate(self.options)}
        same = (f"action.{self.name}", f"command.{self.name}")
        return found | dict.fromkeys(same, self._number) | {f"previous.action.{self.name}": self._before}

    def begin(self, copies: Array) -> None:
        self.left[copies] = 0
        self.at_work[copies] = 0.0
        self._number[copies] = self._before[copies] = 0.0

    def choose(self, given: Array) -> None:
        """The available option with the highest number, where none is at work any more."""
        scores = given[:, self.columns].copy()
        for k, row in zip(self._asked, self.may.run(), strict=True):
            scores[row == 0.0, k] = -np.inf
        best = np.argmax(scores, axis=1)
        free = self.left <= 0
        self.at_work[free] = np.eye(len(self.options))[best[free]]
        self.left[free] = self._samples[best[free]]
        self.left -= 1
        self.tell()

    def tell(self) -> None:
        self._before[:] = self._number
        self._number[:] = np.argmax(self.at_work, axis=1)
