"""Who drives: nobody, a constant, chance, or a rule written as formulas. Policies and regulators are drivers too."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.randomness import episode_stream
from plucky_heron.simulation.batch import Batch
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


class Rule:
    """A controller written as formulas over all signals, not only over what the policy senses."""

    def __init__(self, problem: Problem, name: str) -> None:
        if name not in problem.rules:
            raise StateError(f"no rule {name!r} in this task; there are {', '.join(problem.rules) or 'none'}")
        self.name, self.problem, self.key = f"rule {name}", problem, name

    def begin(self, batch: Batch) -> None:
        """Bind the formulas to the batch."""
        self._program = batch.program(self.problem.rules[self.key])

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The formulas' values; what is not finite counts as zero."""
        return np.asarray(np.nan_to_num(self._program.run().T, nan=0.0, posinf=0.0, neginf=0.0))
