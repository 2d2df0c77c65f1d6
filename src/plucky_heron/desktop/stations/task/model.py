"""What the Task station shows and can change, without a widget: rehearsals as evidence, advice in words, edits of the task file."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject, Signal

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState
from plucky_heron.simulation.replay import Series
from plucky_heron.simulation.trials import Trials
from plucky_heron.task.problem import Problem
from plucky_heron.task.schema import Timing
from plucky_heron.units import show

Array = np.ndarray


def stake(bench: Workbench) -> StakeState:
    """Numbers sensed and given."""
    problem = bench.problem
    if not bench.has_task:
        return StakeState(0.0, "no task: make one")
    if problem is None or bench.trouble:
        return StakeState(0.5, "cannot be read", trouble=problem is None)
    return StakeState(1.0, f"{len(problem.sensed)} observed, {len(problem.task.actions)} actions")


class TaskModel(QObject):
    """What the cards of the Task station share.

    Signals
    -------
    opening
        A card is about to open an entry: the others close theirs.
    refused
        What is wrong with an edit, "" if it was taken.
    """

    opening = Signal()
    refused = Signal(str)

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.series: Series | None = None

    def rehearsed(self) -> Trials | None:
        """The rehearsal that scored best."""
        shaken = self.bench.shakedown
        if shaken is None or not shaken.rehearsals:
            return None
        return max(shaken.rehearsals.values(), key=lambda t: float(t.score.mean()))

    def met(self) -> Array | None:
        """Every row of observations that rehearsals met, (k, entries)."""
        problem, shaken = self.bench.problem, self.bench.shakedown
        if problem is None or shaken is None or not shaken.rehearsals:
            return None
        rows = [r.observations for t in shaken.rehearsals.values() for r in t.recordings.values()]
        met = np.concatenate(rows)
        return met if met.shape[1] == len(problem.entries) else None

    def tally(self) -> dict[str, int]:
        """How often rehearsals met each ending."""
        shaken = self.bench.shakedown
        found: dict[str, int] = {}
        for trials in shaken.rehearsals.values() if shaken is not None else ():
            for name, count in trials.tally().items():
                found[name] = found.get(name, 0) + count
        return found

    def advice(self) -> str:
        """What the rehearsals say of the reward, in a line."""
        shaken = self.bench.shakedown
        if shaken is None:
            return ""
        if self.bench.shakedown_older():
            return "the rehearsals are older than the task"
        still = shaken.rehearsals.get("nobody")
        loop = next((c for c in shaken.checks if c.name == "no loop is rewarded better"), None)
        text = f"standing still {show(float(still.score.mean()))}" if still is not None else ""
        return text + (
            ("; no short cut found" if loop.passed else "; a loop is rewarded better") if loop is not None else ""
        )

    def spanned(self, problem: Problem) -> str:
        """How far the machine goes while a command is held."""
        recording = self.bench.playback.recording
        if recording is None or recording.steps < 2 or self.bench.playback.problem is not problem:
            return "command is held"
        fastest = 0.0
        for k, name in enumerate(problem.model.joints):
            if problem.machine.coordinate_unit(name) == "m":
                fastest = max(fastest, float(np.abs(recording.velocity[:, k]).max()))
        centimetres = 100.0 * fastest * problem.sample_time
        return f"{centimetres:.2g} cm at {show(fastest)} m/s" if fastest > 0.01 else "command is held"

    def change(self, key: tuple[str | int, ...], value: object, text: str) -> str:
        """Change the task file; returns what is wrong, "" if nothing is."""
        wrong = self.bench.edit("tasks", key, value, text)
        wrong = wrong.partition(": ")[2] or wrong
        self.refused.emit(wrong)
        return wrong


def transport_text(timing: Timing) -> str:
    """How commands come to the drives: how late, how evenly, how many."""
    late = f"{1000 * timing.dead_time:g}"
    if timing.jitter:
        late += f" to {1000 * (timing.dead_time + timing.jitter):g}"
    return f"{late} ms" + (f", {100 * timing.lost:g} % lost" if timing.lost else "")
