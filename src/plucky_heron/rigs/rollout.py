"""Rolling a pack out: the plant is simulated here, the controller is a rig, the loop is closed at the sample rate."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.errors import FileError, StateError, did_you_mean, quoted
from plucky_heron.files import is_file
from plucky_heron.handover.forms.running import OnnxPolicy
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.rigs.datagrams import LOCK_STEP, RESTART, pack_sensors
from plucky_heron.rigs.host import HostRig
from plucky_heron.runs.results import ROLLOUT
from plucky_heron.runs.store import RunStore
from plucky_heron.simulation.batch import TIME_UP, Batch
from plucky_heron.simulation.drivers import Driver
from plucky_heron.simulation.trials import Recording, run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

Array = np.ndarray

RIGS = ("host",)
ROLLOUT_STREAM = "rollout"
_PATIENCE = 2.0
"""Seconds to wait for an answer in lock-step before a sample counts as missed, and for any sign in real time before the rig is given up."""
_SHORT = 0.5
"""The same once a sample was missed."""


@dataclass(frozen=True)
class Sample:
    """One closed sample, for whoever watches."""

    episode: int
    index: int
    position: Array
    """(entries,), SI."""
    observation: Array
    """(observations,), SI."""
    command: Array
    """(commands,), SI."""
    inside: Array
    """What the policy commands in simulation here (commands,), SI."""
    round_trip: float | None


@dataclass
class RolloutResult:
    """What a rollout showed; times in seconds."""

    rig: str
    lock_step: bool
    scores: list[float] = field(default_factory=list)
    successes: list[bool] = field(default_factory=list)
    scores_inside: list[float] = field(default_factory=list)
    successes_inside: list[bool] = field(default_factory=list)
    round_trips: list[float] = field(default_factory=list)
    samples: int = 0
    missed: int = 0
    difference: float = 0.0
    not_finite: int = 0
    """Samples whose command was no finite number, on the rig or inside; each fails its episode."""
    counters: dict[str, int] = field(default_factory=dict)
    recordings: list[Recording] = field(default_factory=list)
    stopped: bool = False

    def summary(self) -> dict[str, Any]:
        """Figures for the JSON answer."""
        trips = 1000.0 * np.array(self.round_trips or [0.0])
        return {
            "rig": self.rig, "mode": "lock-step" if self.lock_step else "real time", "episodes": len(self.scores),
            "score": float(np.mean(self.scores)) if self.scores else 0.0,
            "score_inside": float(np.mean(self.scores_inside)) if self.scores_inside else 0.0,
            "success": float(np.mean(self.successes)) if self.successes else 0.0,
            "success_inside": float(np.mean(self.successes_inside)) if self.successes_inside else 0.0,
            "samples": self.samples, "missed": self.missed,
            "round_trip_ms": {
                "median": float(np.median(trips)), "p99": float(np.percentile(trips, 99)), "max": float(trips.max()),
            },
            "command_difference": self.difference, "not_finite": self.not_finite, "counters": self.counters, "stopped": self.stopped,
        }  # fmt: skip


def roll_out(
    folder: Path,
    rig: str = "host",
    *,
    episodes: int = 5,
    lock_step: bool = False,
    watch: Callable[[Sample], bool] | None = None,
    project: Path | None = None,
) -> RolloutResult:
    """Run a pack on a rig for some episodes, and the same starts inside the program.

    Parameters
    ----------
    lock_step
        As fast as it goes, each sample waiting for its answer; otherwise in real time.
    watch
        Called after every sample; returning False stops the rollout.
    project
        Where the result is kept, if the run that the pack comes from is in its catalogue.

    Raises
    ------
    StateError
        No such rig, it does not build or start, or it falls silent.
    FileError
        Not a pack, or a changed one.
    UntrustedError
        A pack that this machine did not write and nobody has trusted.
    """
    if rig not in RIGS:
        raise StateError(f"no rig {quoted(rig)}; {did_you_mean(rig, RIGS)}")
    pack = read_pack(folder)
    pack.ask()
    problem = pack.problem()
    if len(problem.sensed) != len(pack.facts["inputs"]) or len(problem.commands) != len(pack.facts["outputs"]):
        raise FileError(folder / "pack.json", "inputs", None, "does not fit the task in the pack")
    inside = PackDriver(pack)
    trials = run_trials(problem, inside, seed=EVALUATION_SEED, stream=ROLLOUT_STREAM, count=episodes)
    result = RolloutResult(rig, lock_step)
    with HostRig(pack) as controller:
        loop = _Loop(problem, controller, result, lock_step, watch, inside)
        for episode in range(episodes):
            if not loop.run(episode):
                result.stopped = True
                break
    done = len(result.scores)
    result.scores_inside = [float(x) for x in trials.score[:done]]
    result.successes_inside = [bool(x) for x in trials.success[:done]]
    if project is not None and done:
        _keep(project, pack, result)
    return result


def _keep(project: Path, pack: Pack, result: RolloutResult) -> None:
    """Keep a result with the run that the pack comes from, where the project has it."""
    if not is_file(project / "runs" / "store.sqlite"):
        return
    store = RunStore(project)
    try:
        number = int(pack.facts["run"]["number"])
        row = next((row for row in store.runs() if row.id == number), None)
        if row is not None and row.identity == pack.facts["run"]["identity"] and store.writable:
            store.add_result(row.id, ROLLOUT, result.summary())
    finally:
        store.close()


class PackDriver:
    """The pack's ONNX form as a driver inside the program."""

    name = "inside"

    def __init__(self, pack: Pack) -> None:
        self.model = OnnxPolicy(pack.files["policy.onnx"])
        self.state = self.model.blank(0)

    def begin(self, batch: Batch) -> None:
        """Nothing is remembered."""
        self.state = self.model.blank(batch.copies)

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The model's commands."""
        self.state[batch.age == 0] = 0.0
        return self.commands(observations)

    def commands(self, observations: Array) -> Array:
        """Commands (batch, actions) for the next sample."""
        commands, self.state = self.model.step(observations, self.state)
        return commands.astype(np.float64)


class _Loop:
    def __init__(
        self,
        problem: Problem,
        controller: HostRig,
        result: RolloutResult,
        lock_step: bool,
        watch: Callable[[Sample], bool] | None,
        inside: PackDriver,
    ) -> None:
        self.problem, self.controller, self.result = problem, controller, result
        self.lock_step, self.watch, self.inside = lock_step, watch, inside
        self.span = problem.high - problem.low

    def run(self, episode: int) -> bool:
        """One episode; False if whoever watches stopped it."""
        driver = _RigDriver(self, episode)
        trials = run_trials(
            self.problem, driver, seed=EVALUATION_SEED, stream=ROLLOUT_STREAM, count=1, episodes=np.array([episode]),
            record=[0], progress=driver.shown,
        )  # fmt: skip
        if driver.stopped and trials.ending[0] == TIME_UP and trials.steps[0] < self.problem.task.timing.steps:
            return False
        self.result.scores.append(float(trials.score[0]))
        self.result.successes.append(bool(trials.success[0]))
        self.result.recordings.append(trials.recordings[0])
        return True


class _RigDriver:
    """Asks the rig for each command; holds the last one when no answer comes in time."""

    def __init__(self, loop: _Loop, episode: int) -> None:
        self.loop, self.episode, self.name = loop, episode, f"rig {loop.result.rig}"
        self.last = np.clip(np.zeros(len(loop.problem.low)), loop.problem.low, loop.problem.high)
        self.index = 0
        self.stopped = False
        self.began = time.perf_counter()
        self.sample: Sample | None = None
        self.silent = 0
        self.most_silent = 3 if loop.lock_step else max(10, round(_PATIENCE / loop.problem.sample_time))

    def begin(self, batch: Batch) -> None:
        """The clock starts with the first sample."""
        self.loop.inside.begin(batch)
        self.began = time.perf_counter()

    def drive(self, batch: Batch, observations: Array) -> Array:
        """Send the sensors, wait for the command until the sample is over."""
        loop, result = self.loop, self.loop.result
        sample_time = loop.problem.sample_time
        due = self.began + self.index * sample_time
        if not loop.lock_step:
            time.sleep(max(0.0, due - time.perf_counter()))
        row = observations[0, : len(loop.problem.sensed)].astype(np.float32)
        flags = (RESTART if self.index == 0 else 0) | (LOCK_STEP if loop.lock_step else 0)
        sent = time.perf_counter()
        loop.controller.send(pack_sensors(self.index, int(sent * 1e6), row, flags))
        patience = _PATIENCE if self.silent == 0 else _SHORT
        until = sent + patience if loop.lock_step else max(due + sample_time, sent)
        trip, heard = None, False
        while (command := loop.controller.receive(until)) is not None:
            result.counters = command.counters
            if command.sequence == self.index and not command.flags:
                self.last, trip = command.values.astype(np.float64), time.perf_counter() - sent
                result.round_trips.append(trip)
                break
            self.last = command.values.astype(np.float64)  # what the controller holds, or its safe command
            heard = True
        self.silent = 0 if heard or trip is not None else self.silent + 1
        if self.silent and (not loop.controller.alive() or self.silent >= self.most_silent):
            gone = "has ended" if not loop.controller.alive() else f"was silent for {self.silent} samples"
            raise StateError(
                f"the rig {gone} at sample {self.index} of episode {self.episode}; nothing is concluded from a part of it"
            )
        result.samples += 1
        result.missed += trip is None
        inside = loop.inside.commands(observations)[0]
        if not np.isfinite(self.last).all() or not np.isfinite(inside).all():
            result.not_finite += 1
        elif trip is not None:
            result.difference = max(result.difference, float((np.abs(self.last - inside) / loop.span).max()))
        self.sample = Sample(
            self.episode,
            self.index,
            batch.plant.position[0].copy(),
            observations[0, : len(loop.problem.sensed)].copy(),
            self.last.copy(),
            inside,
            trip,
        )
        self.index += 1
        return self.last[None, :]

    def shown(self, share: float) -> bool:
        """Let whoever watches see the sample."""
        if self.loop.watch is not None and self.sample is not None and not self.loop.watch(self.sample):
            self.stopped = True
            return False
        return True


def inside_driver(pack: Pack) -> Driver:
    """The pack as a driver inside the program, to be compared with the rig."""
    return PackDriver(pack)


__all__ = ["RIGS", "PackDriver", "RolloutResult", "Sample", "inside_driver", "roll_out"]
