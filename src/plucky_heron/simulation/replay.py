"""An episode gone through once more: every signal at every sample, any formula over it, and the way of one command."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from plucky_heron.formula import Expression, Program
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem

Array = np.ndarray


@dataclass(frozen=True)
class Series:
    """All signals of an episode.

    Attributes
    ----------
    values : (signals, T + 1)
        In the order of `names`; column 0 is the start.
    faithful : bool
        Whether the episode went as it was recorded: one that was pushed or steered by hand goes another way.
    """

    problem: Problem
    names: tuple[str, ...]
    values: Array
    """(names, T + 1), SI."""
    faithful: bool

    def of(self, expression: Expression) -> Array:
        """A formula, sample by sample, (T + 1, numbers); memory begins with the episode."""
        now = {name: np.zeros(1) for name in self.names}
        program = Program([expression], now, 1, self.problem.definitions, self.problem.sample_time)
        rows = [self.names.index(name) for name in now]
        cells = list(now.values())
        found = np.empty((self.values.shape[1], expression.width))
        for k, column in enumerate(self.values.T):
            for cell, row in zip(cells, rows, strict=True):
                cell[0] = column[row]
            found[k] = program.run()[:, 0]
        return found


def signals_of(problem: Problem, recording: Recording, rest: Callable[[], object] | None = None) -> Series:
    """Every signal of a recorded episode, by simulating it again with the commands it was given.

    `rest` is called after each sample: whoever does this beside a window lets it breathe there.
    """
    batch = _begin(problem, recording)
    names = tuple(name for name in batch.signals)
    cells = [batch.signals[name] for name in names]
    rows = [[float(cell[0]) for cell in cells]]
    faithful = True
    for k, command in enumerate(recording.commands):
        batch.step(command[None, :])
        rows.append([float(cell[0]) for cell in cells])
        if rest is not None:
            rest()
        faithful &= bool(np.array_equal(batch.plant.position[0], recording.position[k + 1]))
    return Series(problem, names, np.array(rows).T, faithful)


@dataclass(frozen=True)
class Way:
    """A command on its way, in one sample.

    Attributes
    ----------
    stages : (name, value, unit)
        From what the policy put out to what the drive is given.
    time, followed : (substeps + 1,)
        Seconds since the sample began, and what the drive follows of it after dead time, rate limit and lag.
    effort : (substeps + 1,)
        What acts on the joint then, N or N*m; zeros where the drive acts on no joint.
    drive, unit, effort_unit : str
        The drive, the unit of what it follows, and of the effort.
    """

    stages: list[tuple[str, float, str]]
    time: Array
    followed: Array
    effort: Array
    drive: str
    unit: str
    effort_unit: str


def follow_command(problem: Problem, recording: Recording, index: int, command: int) -> Way:
    """One command of a recorded episode through the sample that begins at `index`, substep by substep."""
    batch = _begin(problem, recording)
    index = int(np.clip(index, 0, max(recording.steps - 1, 0)))
    for given in recording.commands[:index]:
        batch.step(given[None, :])
    chosen = problem.commands[command]
    asked = recording.commands[index] if recording.steps else np.zeros(len(problem.commands))
    drives = batch.commander.give(asked[None, :])[0].copy()
    low, high = chosen.low, chosen.high
    value = float(asked[command])
    stages = [("put out by the policy, -1 to 1", 2.0 * (value - low) / (high - low) - 1.0, "")]
    stages.append(("scaled to its limits, clipped", float(batch.commander.given[0, command]), chosen.unit))
    if chosen.increment or chosen.rate_limit or chosen.smoothing:
        parts = (
            ("added up", chosen.increment),
            ("rate limit", chosen.rate_limit > 0),
            ("smoothing", chosen.smoothing > 0),
        )
        text = ", ".join(name for name, on in parts if on)
        stages.append((f"after {text}", float(batch.commander.values[0, command]), chosen.unit))
    drive = chosen.drive if chosen.drive >= 0 else _mixed_into(problem, command)
    name = problem.model.drives[drive]
    if chosen.drive < 0:
        stages.append((f"mixed into {name}", float(drives[drive]), problem.machine.drive_unit(name)))
    kind = problem.machine.drives[name]
    on_joint = kind.kind in ("effort", "speed", "position", "brake") and kind.joint is not None
    joint = problem.model.joints.index(str(kind.joint)) if on_joint else -1
    plant, timing = batch.plant, problem.task.timing
    followed, effort = [float(plant.lagged[0, drive])], [float(plant.efforts[0, joint]) if on_joint else 0.0]
    for _ in range(timing.substeps):
        plant.step(drives[None, :], 1)
        followed.append(float(plant.lagged[0, drive]))
        effort.append(float(plant.efforts[0, joint]) if on_joint else 0.0)
    stages.append((f"{name} follows, at the end of the sample", followed[-1], problem.machine.drive_unit(name)))
    slides = on_joint and problem.machine.coordinate_unit(str(kind.joint)) == "m"
    time = np.arange(timing.substeps + 1) * timing.physics_step
    unit = problem.machine.drive_unit(name)
    return Way(stages, time, np.array(followed), np.array(effort), name, unit, "N" if slides else "N*m")


def _mixed_into(problem: Problem, command: int) -> int:
    """The first drive whose mixing formula reads the command, or that a choice sets."""
    name = problem.task.actions[problem.commands[command].action].name
    for drive, formula in problem.mixing.items():
        if f"command.{name}" in formula.signals or f"action.{name}" in formula.signals:
            return drive
    for options in problem.options.values():
        for option in options:
            if option.name == problem.commands[command].choice:
                return option.drives[0]
    return 0


def _begin(problem: Problem, recording: Recording) -> Batch:
    batch = Batch(problem, 1, recording.seed, recording.stream, threads=1)
    batch.start(np.array([recording.episode]))
    return batch
