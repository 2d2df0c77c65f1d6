"""Who drives: nobody, a constant, chance, or a rule written as formulas. Policies and regulators are drivers too."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from plucky_heron.errors import StateError, did_you_mean
from plucky_heron.randomness import episode_stream, stream
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.commanding import from_shares
from plucky_heron.task.problem import Problem

Array = np.ndarray


class Driver(Protocol):
    """Anything that can drive a batch of episodes."""

    @property
    def name(self) -> str:
        """What it is called in tables and charts."""
        ...

    def begin(self, batch: Batch) -> None:
        """Called once after the batch has started."""

    def drive(self, batch: Batch, observations: Array) -> Array:
        """Commands (B, actions) in SI units."""
        ...


class Constant:
    """The same command all the time; by default nothing, brought into the limits."""

    def __init__(self, problem: Problem, commands: Array | None = None, name: str = "nobody") -> None:
        given = np.zeros(len(problem.commands)) if commands is None else np.asarray(commands, dtype=float)
        self.name, self.commands = name, np.clip(given, problem.low, problem.high)

    def begin(self, batch: Batch) -> None:
        """Nothing to prepare."""

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The constant, for every copy."""
        return np.tile(self.commands, (batch.copies, 1))


class Limp(Constant):
    """Drives that put out nothing at all: the machine is let go."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem, name="drives off")

    def begin(self, batch: Batch) -> None:
        """Take the drives' strength."""
        super().begin(batch)
        model = batch.problem.model
        for drive in model.drives:
            slots, _, _ = model.parameter(f"{drive}.limit")
            batch.plant.rows[:, slots] = 0.0


class Random:
    """Commands drawn evenly from the whole range, each held for `hold` seconds."""

    def __init__(self, problem: Problem, seed: int = 0, hold: float = 0.5) -> None:
        self.name, self.problem, self.seed = "random", problem, seed
        self.samples = max(1, problem.task.timing.samples(hold))

    def begin(self, batch: Batch) -> None:
        """Draw each episode's commands from its own number."""
        shape = (batch.limit // self.samples + 1, len(self.problem.commands))
        low, high = self.problem.low, self.problem.high
        drawn = [episode_stream(self.seed, "random commands", int(e)).random(shape) for e in batch.episode]
        self._table = low + (high - low) * np.array(drawn)

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The command of the present half second."""
        table: Array = self._table[
            np.arange(batch.copies), np.minimum(batch.age // self.samples, self._table.shape[1] - 1)
        ]
        return table


class SmoothRandom:
    """Commands that wander through the whole range: sums of three sines a command, drawn for each episode."""

    name = "random, smooth"

    def __init__(self, problem: Problem, seed: int = 0) -> None:
        self.problem, self.seed = problem, seed

    def begin(self, batch: Batch) -> None:
        """Draw each episode's sines from its own number: periods of 0.3 to 10 s."""
        width = len(self.problem.commands)
        drawn = [episode_stream(self.seed, "smooth commands", int(e)).random((3, 3, width)) for e in batch.episode]
        share, phase, period = np.array(drawn).transpose(1, 0, 2, 3)
        self._share = share / np.maximum(share.sum(axis=1, keepdims=True), 1e-9)
        self._phase = 2.0 * np.pi * phase
        self._rate = 2.0 * np.pi / (0.3 * (10.0 / 0.3) ** period)

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The sines now."""
        time = (batch.age * self.problem.sample_time)[:, None, None]
        wave = (self._share * np.sin(self._rate * time + self._phase)).sum(axis=1)
        return from_shares(self.problem.low, self.problem.high, np.clip(1.5 * wave, -1.0, 1.0))


class Loops:
    """Constant and periodic commands, each copy its own: what a policy may find that only goes round in circles.

    Of `count` candidates a quarter are constants, a quarter square waves, the rest sines; copies beyond `count` repeat them.
    """

    name = "loops"

    def __init__(self, problem: Problem, count: int, seed: int = 0, chosen: int | None = None) -> None:
        self.problem, self.count, self.chosen = problem, count, chosen
        generator = stream(seed, "loops")
        width = len(problem.commands)
        self._middle = generator.uniform(-1.0, 1.0, (count, width))
        self._size = generator.uniform(0.2, 1.0, (count, width)) * (np.arange(count) >= count // 4)[:, None]
        longest = max(min(20.0, problem.task.timing.time_limit), 0.5)
        period = 0.3 * (longest / 0.3) ** generator.random(count)
        self._rate = 2.0 * np.pi / period[:, None]
        self._phase = generator.uniform(0.0, 2.0 * np.pi, (count, width))
        self._square = ((np.arange(count) >= count // 4) & (np.arange(count) < count // 2))[:, None]
        self._middle[:3] = np.array([[0.0], [1.0], [-1.0]])

    def describe(self, number: int) -> str:
        """A candidate in words."""
        if number < self.count // 4:
            values = from_shares(self.problem.low, self.problem.high, self._middle[number])
            return "the constant " + ", ".join(f"{v:.3g}" for v in values[:4])
        kind = "square wave" if self._square[number] else "sine"
        return f"a {kind} of {2.0 * np.pi / self._rate[number, 0]:.2g} s"

    def begin(self, batch: Batch) -> None:
        """Give each copy its candidate."""
        fixed = self.chosen is not None
        self._mine = np.full(batch.copies, self.chosen) if fixed else np.arange(batch.copies) % self.count

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The candidates now."""
        mine = self._mine
        wave = np.sin(self._rate[mine] * (batch.age * self.problem.sample_time)[:, None] + self._phase[mine])
        wave = np.where(self._square[mine], np.sign(wave), wave)
        share = np.clip(self._middle[mine] + self._size[mine] * wave, -1.0, 1.0)
        return from_shares(self.problem.low, self.problem.high, share)


class Recorded:
    """Commands read from a file: one row a sample, the same for every episode; the last row is held."""

    def __init__(self, problem: Problem, commands: Array, name: str) -> None:
        if commands.ndim != 2 or commands.shape[1] != len(problem.commands) or not len(commands):
            names = ", ".join(c.name for c in problem.commands)
            raise StateError(f"{name}: wanted a column for each of {names}")
        if not np.isfinite(commands).all():
            raise StateError(f"{name}: a command is not finite")
        self.name, self.commands = name, commands

    def begin(self, batch: Batch) -> None:
        """Nothing to prepare."""

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The row of each copy's sample."""
        return np.asarray(self.commands[np.minimum(batch.age, len(self.commands) - 1)])


class Rule:
    """A controller written as formulas over all signals, not only over what the policy senses."""

    def __init__(self, problem: Problem, name: str) -> None:
        if name not in problem.rules:
            raise StateError(f"no rule {name!r} in this task; {did_you_mean(name, problem.rules)}")
        self.name, self.problem, self.key = f"rule {name}", problem, name

    def begin(self, batch: Batch) -> None:
        """Bind the formulas to the batch."""
        self._program = batch.program(self.problem.rules[self.key])

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The formulas' values; one that is not finite fails the episode, see `Batch.step`."""
        return np.array(self._program.run().T)
