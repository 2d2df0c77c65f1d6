"""The base controller under a residual policy: the task's regulator, or a rule, as far as what the policy senses tells of it.

A regulator reads the machine's whole state, and a rule any signal; what goes out may read sensors alone. So it is fitted: affine
in the observations, by least squares, over episodes that the original drives. How well it does is measured and said.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.control.regulator import regulator_for
from plucky_heron.errors import FileError, StateError, did_you_mean
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Driver, Rule
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem

Array = np.ndarray

EPISODES = 64
SEED = 2_000_033
LEAST_EXPLAINED = 0.7
"""Share of a command's variance below which it would be another one than the original."""
RIDGE = 1e-6


@dataclass(frozen=True)
class BaseController:
    """A base controller (actions, observations that the policy is given + 1), constants last, and how much of the original it explains."""

    gain: Array
    """(commands, observations + 1), the constants last."""
    explained: Array
    """Share of each command that the fit explains (commands,)."""

    name = "base"

    def begin(self, batch: Batch) -> None:
        """Nothing to prepare."""

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The base controller alone, as a driver."""
        sensed = observations[:, : self.gain.shape[1] - 1]
        return np.asarray(sensed @ self.gain[:, :-1].T + self.gain[:, -1])


def check_base(problem: Problem, on: str, source: str) -> None:
    """Whether the task has what a residual recipe corrects.

    Raises
    ------
    FileError
        No such rule, or no pose that a regulator could hold.
    """
    if on == "regulator":
        if not problem.hold:
            raise FileError(
                source, "residual.on", on, "the task names no pose to hold; add regulator.hold, or name a rule"
            )
    elif on not in problem.rules:
        raise FileError(
            source, "residual.on", on, f"no such rule in this task; {did_you_mean(on, ['regulator', *problem.rules])}"
        )


def base_controller(
    problem: Problem, on: str, threads: int | None = None, project: Path | None = None
) -> BaseController:
    """The base controller for `on`: ``regulator``, or the name of a rule of the task; the same bits every time.

    A regulator that was tuned before is taken from the cache of `project`, where that is given.

    Raises
    ------
    StateError
        No such rule, no regulator for this task, or sensors that do not tell what the original does.
    """
    original: Driver = regulator_for(problem, project) if on == "regulator" else Rule(problem, on)
    heard = _Heard(original)
    run_trials(problem, heard, seed=SEED, stream="base law", count=EPISODES, threads=threads)
    width = len(problem.sensed)
    seen = np.concatenate(heard.observations)[:, :width]
    given = np.concatenate(heard.commands)
    # past commands foretell the present one best of all, and would make a controller that repeats itself
    use = np.array([not re.search(r"\baction\.", entry.formula) for entry in problem.sensed])
    gain: Array = np.zeros((len(problem.low), width + 1))
    explained: Array = np.zeros(len(problem.low))
    middle, spread = seen.mean(axis=0), seen.std(axis=0)
    use &= spread > 1e-9
    rows = np.concatenate([(seen[:, use] - middle[use]) / spread[use], np.ones((len(seen), 1))], axis=1)
    half = 0.5 * (problem.high - problem.low)
    for k, wanted in enumerate(given.T):
        # beyond the limits it does not matter how far: rows count less there
        centre = 0.5 * (problem.low[k] + problem.high[k])
        weight = np.minimum(1.0, half[k] / np.maximum(np.abs(wanted - centre), 1e-12))
        weighted = rows * weight[:, None]
        square = weighted.T @ weighted
        found = np.linalg.solve(
            square + RIDGE * np.trace(square) / len(square) * np.eye(len(square)), weighted.T @ (wanted * weight)
        )
        missed = np.clip(wanted, problem.low[k], problem.high[k]) - np.clip(
            rows @ found, problem.low[k], problem.high[k]
        )
        explained[k] = 1.0 - np.var(missed) / max(np.var(np.clip(wanted, problem.low[k], problem.high[k])), 1e-12)
        gain[k, :-1][use] = found[:-1] / spread[use]
        gain[k, -1] = found[-1] - gain[k, :-1] @ np.where(use, middle, 0.0)
    if explained.min() < LEAST_EXPLAINED:
        worst = int(np.argmin(explained))
        raise StateError(
            f"residual on {on}: what the policy senses explains {100 * explained[worst]:.0f} % of its command {problem.commands[worst].name!r}, "
            f"wanted {100 * LEAST_EXPLAINED:.0f} %; add observations, or write a rule over those there are"
        )
    return BaseController(gain, explained)


class _Heard:
    """A driver, and all that it was told and said."""

    def __init__(self, driver: Driver) -> None:
        self.driver, self.name = driver, driver.name
        self.observations: list[Array] = []
        self.commands: list[Array] = []

    def begin(self, batch: Batch) -> None:
        self.driver.begin(batch)

    def drive(self, batch: Batch, observations: Array) -> Array:
        commands = self.driver.drive(batch, observations)
        # what stands still after its end says nothing of how it is driven
        self.observations.append(observations[batch.running])
        self.commands.append(commands[batch.running])
        return commands
