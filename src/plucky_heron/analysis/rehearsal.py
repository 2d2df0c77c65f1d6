"""One episode gone through by hand: begin, advance by one command, look at the sample, keep what was commanded."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from plucky_heron.analysis.result_table import ResultTable, table_of
from plucky_heron.errors import StateError, did_you_mean, quoted
from plucky_heron.files import inside, write_whole
from plucky_heron.simulation.batch import GOING, TIME_UP, Batch
from plucky_heron.task.problem import Problem
from plucky_heron.units import parse

STREAM = "by hand"


@dataclass(frozen=True)
class Sample:
    """What one sample brought, by name and in SI units.

    Attributes
    ----------
    time : float
        Seconds since the start.
    observations, commands, terms : dict
        What the policy would be given; what was commanded, within its limits; the reward by term.
    reward : float
        Of this sample.
    ended : str
        The ending that was met, "time is up", or "" while the episode goes on.
    success : bool
        Whether the measure has now held as long as the task asks, without a failure.
    """

    time: float
    observations: dict[str, float]
    commands: dict[str, float] = field(default_factory=dict)
    terms: dict[str, float] = field(default_factory=dict)
    reward: float = 0.0
    ended: str = ""
    success: bool = False


class Rehearsal:
    """An episode of a task; episode `number` of a seed is always the same start, load and weather."""

    def __init__(self, problem: Problem, seed: int = 1, project: Path | None = None) -> None:
        self.problem, self.project = problem, project
        self.batch = Batch(problem, 1, seed, STREAM, threads=1)
        self.samples: list[Sample] = []
        self.begin()

    def begin(self, number: int = 0) -> Sample:
        """Begin an episode; the sample it begins with."""
        self.batch.start(np.array([number]))
        self.samples = [Sample(0.0, self._observations())]
        return self.samples[-1]

    @property
    def over(self) -> bool:
        """Whether the episode has ended."""
        return bool(self.samples[-1].ended)

    @property
    def score(self) -> float:
        """Reward so far."""
        return sum(sample.reward for sample in self.samples)

    def advance(self, commands: Mapping[str, float | str] | None = None, **more: float | str) -> Sample:
        """Hold commands for one sample, such as ``advance(push="200 N")``; one that is not named is nothing, or as near as its limits let it.

        Raises
        ------
        StateError
            The episode is over, or there is no such command.
        UnitError
            A value in another unit.
        """
        if self.over:
            raise StateError(f"the episode is over ({self.samples[-1].ended}): begin another one")
        problem = self.problem
        given = {**(commands or {}), **more}
        names = [command.name for command in problem.commands]
        for name in given:
            if name not in names:
                raise StateError(f"no command {name!r}; {did_you_mean(name, names)}")
        wanted = [parse(given[c.name], c.unit) if c.name in given else 0.0 for c in problem.commands]
        row = np.clip(wanted, problem.low, problem.high)
        outcome = self.batch.step(row[None])
        kind = int(outcome.ending[0])
        ended = {GOING: "", TIME_UP: "time is up"}.get(kind) if kind < 0 else problem.ending_names[kind]
        self.samples.append(
            Sample(
                self.samples[-1].time + problem.sample_time, self._observations(), dict(zip(names, row.tolist(), strict=True)),
                dict(zip(problem.task.rewards, outcome.terms[0].tolist(), strict=True)), float(outcome.reward[0]), ended or "",
                bool(outcome.success[0]),
            )
        )  # fmt: skip
        return self.samples[-1]

    def _observations(self) -> dict[str, float]:
        row = self.batch.observe()[0].tolist()
        return {entry.name: value for entry, value in zip(self.problem.entries, row, strict=True)}

    def table(self) -> ResultTable:
        """Every sample so far: time, commands, observations, reward."""
        names = [command.name for command in self.problem.commands]
        entries = [entry.name for entry in self.problem.entries]
        rows = [
            (s.time, *(s.commands.get(n) for n in names), *(s.observations[e] for e in entries), s.reward, s.ended)
            for s in self.samples
        ]
        return table_of(f"{self.problem.name}, by hand", ("time", *names, *entries, "reward", "ended"), rows)

    def __repr__(self) -> str:
        now = self.samples[-1]
        state = f"ended: {now.ended}, {'success' if now.success else 'no success'}" if now.ended else "going on"
        return f"rehearsal of {self.problem.name} at {now.time:.3g} s, score {self.score:.4g}, {state}"

    def _repr_html_(self) -> str:
        return self.table()._repr_html_()

    def keep(self, name: str = "by hand") -> Path:
        """Write what was commanded as ``recordings/TASK-NAME.csv``: the shakedown drives it too.

        Raises
        ------
        StateError
            Nothing was commanded, or there is no project to keep it in.
        """
        if self.project is None or len(self.samples) < 2:
            raise StateError(
                "nothing was commanded yet" if self.project is not None else "there is no project to keep it in"
            )
        if not re.fullmatch(r"[\w -]{1,60}", name):
            raise StateError(f"{quoted(name)} is no name; wanted letters, digits, spaces, _ and -")
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        names = [command.name for command in self.problem.commands]
        writer.writerow(names)
        writer.writerows([[repr(s.commands[n]) for n in names] for s in self.samples[1:]])
        path = inside(self.project, f"recordings/{Path(self.problem.source).stem}-{name}.csv")
        path.parent.mkdir(exist_ok=True)
        write_whole(path, out.getvalue())
        return path
