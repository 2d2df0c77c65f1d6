"""Rolling a pack out: the plant is simulated here, the controller is a rig, the loop is closed at the sample rate."""

from __future__ import annotations

import csv
import io
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.errors import FileError, StateError, did_you_mean, quoted
from plucky_heron.files import is_file
from plucky_heron.handover.forms.running import OnnxPolicy
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.handover.signing import check_signer
from plucky_heron.rigs.board import BoardRig
from plucky_heron.rigs.datagrams import EPISODES, LIMITED, LOCK_STEP, RESTART, STOP, episode_mark, pack_sensors
from plucky_heron.rigs.faults import Faults, FaultySensors, with_values
from plucky_heron.rigs.host import ArmRig, HostRig
from plucky_heron.rigs.link import Link, Rig
from plucky_heron.rigs.plc import PlcRig
from plucky_heron.rigs.remote import check_address, is_remote, remote_rig
from plucky_heron.runs.results import ROLLOUT
from plucky_heron.runs.store import RunStore
from plucky_heron.simulation.batch import TIME_UP, Batch
from plucky_heron.simulation.drivers import Driver
from plucky_heron.simulation.trials import Recording, run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

Array = np.ndarray

RIGS = ("host", "arm64", "arm32", "board", "board-fixed", "plc")
NO_FAULTS = Faults()
MOST_KEPT = 20
"""Episodes of which what happened inside is kept."""
ROLLOUT_STREAM = "rollout"
_PATIENCE = 2.0
"""Seconds to wait for any sign in real time before the rig is given up."""


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
    late: int = 0
    """Samples in which only a command of an earlier one came."""
    difference: float = 0.0
    faults: dict[str, float] = field(default_factory=dict)
    link: dict[str, int] = field(default_factory=dict)
    """What went wrong on the way, counted."""
    not_finite: int = 0
    """Samples whose command was no finite number, on the rig or inside; each fails its episode."""
    counters: dict[str, int] = field(default_factory=dict)
    recordings: list[Recording] = field(default_factory=list)
    inside: list[Recording] = field(default_factory=list)
    """The first episodes inside the program."""
    stopped: bool = False
    footprint: dict[str, Any] = field(default_factory=dict)
    """Of a board: bytes of flash, RAM and stack, instructions of the longest call."""
    limited_first: bool = False
    """Whether an episode with limited authority went before; it is not counted."""
    problem: Problem | None = field(default=None, repr=False)

    @property
    def sample_time(self) -> float:
        """Seconds."""
        return self.problem.sample_time if self.problem is not None else float("nan")

    def summary(self) -> dict[str, Any]:
        """Figures for the JSON answer."""
        trips = 1000.0 * np.array(self.round_trips or [0.0])
        return {
            "rig": self.rig, "mode": "lock-step" if self.lock_step else "real time", "episodes": len(self.scores),
            "score": float(np.mean(self.scores)) if self.scores else 0.0,
            "score_inside": float(np.mean(self.scores_inside)) if self.scores_inside else 0.0,
            "success": float(np.mean(self.successes)) if self.successes else 0.0,
            "success_inside": float(np.mean(self.successes_inside)) if self.successes_inside else 0.0,
            "samples": self.samples, "missed": self.missed, "late": self.late, "faults": self.faults, "link": self.link, "guards": self.counters,
            "round_trip_ms": {
                "median": float(np.median(trips)), "p99": float(np.percentile(trips, 99)), "max": float(trips.max()),
            },
            "command_difference": self.difference, "not_finite": self.not_finite, "counters": self.counters, "stopped": self.stopped, "limited_first": self.limited_first, "footprint": self.footprint,
        }  # fmt: skip


def roll_out(
    folder: Path,
    rig: str = "host",
    *,
    episodes: int = 5,
    lock_step: bool = False,
    faults: Faults = NO_FAULTS,
    full_authority: bool = False,
    wanted_key: str = "",
    watch: Callable[[Sample], bool] | None = None,
    project: Path | None = None,
) -> RolloutResult:
    """Run a pack on a rig for some episodes, and the same starts inside the program.

    Parameters
    ----------
    lock_step
        As fast as it goes, each sample waiting for its answer; otherwise in real time.
    faults
        What goes wrong between plant and controller. The same starts inside the program run without.
    full_authority
        Of a controller at an address: without a first episode in which it keeps its commands near the safe ones.
    wanted_key
        Public key that must have signed the pack, in hexadecimal digits; "" for any or none.
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
    if is_remote(rig):
        check_address(rig)
    elif rig not in RIGS:
        raise StateError(
            f"no rig {quoted(rig)}; {did_you_mean(rig, RIGS)}, or udp:HOST:PORT, or serial:PORT for a controller of your own"
        )
    pack = read_pack(folder)
    if wanted_key:
        check_signer(folder, pack.signer, wanted_key)
    if not is_remote(rig):
        pack.ask()
    problem = pack.problem()
    if len(problem.sensed) != len(pack.facts["inputs"]) or len(problem.commands) != len(pack.facts["outputs"]):
        raise FileError(folder / "pack.json", "inputs", None, "does not fit the task in the pack")
    inside = PackDriver(pack)
    trials = run_trials(
        problem,
        inside,
        seed=EVALUATION_SEED,
        stream=ROLLOUT_STREAM,
        count=episodes,
        record=range(min(episodes, MOST_KEPT)),
    )
    result = RolloutResult(rig, lock_step, faults=faults.asked(), problem=problem)
    controller: Rig = remote_rig(rig, len(problem.commands)) if is_remote(rig) else make_rig(rig, pack)
    loop = _Loop(problem, controller, result, lock_step, watch, inside, faults)
    try:
        if is_remote(rig) and not full_authority:
            loop.limited = True
            result.limited_first = loop.run(0)
            loop.forget()
            loop.limited = False
        for episode in range(episodes):
            if not loop.run(episode):
                result.stopped = True
                break
    except KeyboardInterrupt:
        result.stopped = True
    finally:
        if is_remote(rig):
            loop.make_safe()
        if isinstance(controller, BoardRig) and controller.alive():
            result.footprint = controller.footprint()
        controller.close()
    done = len(result.scores)
    result.inside = [trials.recordings[k] for k in range(min(done, MOST_KEPT))]
    result.scores_inside = [float(x) for x in trials.score[:done]]
    result.successes_inside = [bool(x) for x in trials.success[:done]]
    if project is not None and done and not faults.any:
        _keep(project, pack, result)
    return result


def dry_run(folder: Path, rig: str, samples: int = 5) -> dict[str, Any]:
    """What would be sent to a controller, and what would be expected of it: nothing is opened and nothing is sent.

    Raises
    ------
    StateError
        No such rig.
    FileError
        Not a pack, or a changed one.
    """
    where = check_address(rig) if is_remote(rig) else f"the rig {rig} on this computer"
    if not is_remote(rig) and rig not in RIGS:
        raise StateError(f"no rig {quoted(rig)}; {did_you_mean(rig, RIGS)}")
    pack = read_pack(folder)
    problem, inside = pack.problem(), PackDriver(pack)
    trials = run_trials(problem, inside, seed=EVALUATION_SEED, stream=ROLLOUT_STREAM, count=1, record=[0])
    recording, count = trials.recordings[0], len(problem.sensed)
    shown = [
        {"sensors": recording.observations[k, :count].tolist(), "commands": recording.commands[k].tolist()}
        for k in range(min(samples, recording.steps))
    ]
    return {
        "rig": rig, "dry_run": True, "to": where, "sample_time": problem.sample_time, "bytes": len(pack_sensors(0, 0, np.zeros(count))),
        "sensors": [e.name for e in problem.sensed],
        "limits": [{"name": c.name, "unit": c.unit, "low": c.low, "high": c.high} for c in problem.commands],
        "safe": pack.facts["safety"]["command"], "samples": shown, "score_inside": float(trials.score[0]), "success_inside": bool(trials.success[0]),
    }  # fmt: skip


def log_text(result: RolloutResult) -> str:
    """What was sensed and commanded in the first episode, sample by sample, as comma-separated values under the contract's names."""
    recording, problem = result.recordings[0], result.problem
    assert problem is not None
    names = [e.name for e in problem.sensed]
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["time", *names, *(f"command {c.name}" for c in problem.commands)])
    rows = zip(recording.observations[:, : len(names)], recording.commands, strict=False)
    writer.writerows(
        [f"{k * problem.sample_time:.9g}", *(f"{x:.9g}" for x in (*seen, *given))]
        for k, (seen, given) in enumerate(rows)
    )
    return out.getvalue()


def fault_map(pack: Path, rig: str, axes: Mapping[str, Array], faults: Faults, episodes: int) -> tuple[Array, Array]:
    """Mean score and success (values of the first fault, of the second) over the same starts, in lock-step; see `roll_out`."""
    names = list(axes)
    rows = axes[names[0]]
    columns = axes[names[1]] if len(names) > 1 else np.zeros(1)
    score, success = np.zeros((len(rows), len(columns))), np.zeros((len(rows), len(columns)))
    for i, row in enumerate(rows):
        for j, column in enumerate(columns):
            values = {names[0]: float(row)} | ({names[1]: float(column)} if len(names) > 1 else {})
            found = roll_out(pack, rig, episodes=episodes, lock_step=True, faults=with_values(faults, values))
            score[i, j], success[i, j] = np.mean(found.scores), np.mean(found.successes)
    return score, success


def make_rig(name: str, pack: Pack) -> Rig:
    """A rig on this computer, by its name.

    Raises
    ------
    StateError
        A tool that it needs is not installed; says the command that installs it.
    """
    if name == "host":
        return HostRig(pack)
    if name == "plc":
        return PlcRig(pack)
    return ArmRig(pack, name) if name.startswith("arm") else BoardRig(pack, fixed=name == "board-fixed")


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
        controller: Rig,
        result: RolloutResult,
        lock_step: bool,
        watch: Callable[[Sample], bool] | None,
        inside: PackDriver,
        faults: Faults,
    ) -> None:
        self.problem, self.controller, self.result = problem, controller, result
        self.lock_step, self.watch, self.inside, self.faults = lock_step, watch, inside, faults
        self.span = problem.high - problem.low
        self.ranges = np.array([e.high - e.low for e in problem.sensed])
        self.limited = False
        """Whether the controller is to keep its commands near the safe ones."""

    def forget(self) -> None:
        """What was run so far does not count."""
        result = self.result
        for found in (result.scores, result.successes, result.round_trips, result.recordings):
            found.clear()
        result.samples = result.missed = result.late = result.not_finite = 0
        result.difference = 0.0

    def make_safe(self) -> None:
        """Tell the controller, more than once as one may be lost, to go to its safe commands."""
        stop = pack_sensors(0, 0, np.zeros(len(self.problem.sensed)), STOP)
        for _ in range(3):
            self.controller.send(stop)
            time.sleep(0.01)

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
        if loop.faults.any:  # what is lost is no sign that the rig has gone
            self.most_silent = max(100, round(10.0 / loop.problem.sample_time))
        self.link = Link(loop.controller, loop.faults, loop.lock_step, episode)
        self.sensors = FaultySensors(loop.faults, loop.ranges, loop.problem.sample_time, episode)
        self.first_stamp = 0
        self.newest = -1
        """Number of the sample whose command was applied last."""

    def begin(self, batch: Batch) -> None:
        """The clock starts with the first sample."""
        self.loop.inside.begin(batch)
        self.began = time.perf_counter()

    def drive(self, batch: Batch, observations: Array) -> Array:
        """Send the sensors, wait for the command until the sample is over."""
        loop, result = self.loop, self.loop.result
        sample_time = loop.problem.sample_time
        period = sample_time * (1.0 + loop.faults.drift)
        due = self.began + self.index * period
        if not loop.lock_step:
            time.sleep(max(0.0, due - time.perf_counter()))
        row = self.sensors.read(observations[0, : len(loop.problem.sensed)]).astype(np.float32)
        flags = (RESTART if self.index == 0 else 0) | (LOCK_STEP if loop.lock_step else 0)
        flags |= LIMITED if loop.limited else 0
        # the episode that goes before with limited authority has a mark of its own
        flags |= episode_mark(EPISODES - 1 if loop.limited else self.episode)
        sent = time.perf_counter()
        if self.index == 0:
            self.first_stamp = int(sent * 1e6)
        elapsed = self.index * sample_time
        now = elapsed if loop.lock_step else sent
        self.link.send(pack_sensors(self.index, int(sent * 1e6), row, flags), now, sample_time, elapsed)
        until = max(due + period, sent)
        trip, heard = None, False
        while (command := self.link.receive(until, now, sample_time)) is not None:
            result.counters = command.counters
            if command.stamp < self.first_stamp and not command.flags:
                continue  # of the episode before
            if command.sequence == self.index and not command.flags:
                self.last, trip = command.values.astype(np.float64), time.perf_counter() - sent
                result.round_trips.append(trip)
                self.newest = self.index
                break
            if command.flags or command.sequence > self.newest:
                # what the controller holds, its safe command, or what it says of an earlier sample
                self.last = command.values.astype(np.float64)
                if not command.flags:
                    self.newest = command.sequence
                heard = True
        self.silent = 0 if heard or trip is not None else self.silent + 1
        if self.silent and (not loop.controller.alive() or self.silent >= self.most_silent):
            gone = "has ended" if not loop.controller.alive() else f"was silent for {self.silent} samples"
            raise StateError(
                f"the rig {gone} at sample {self.index} of episode {self.episode}; nothing is concluded from a part of it"
            )
        result.samples += 1
        result.missed += trip is None and not (heard and loop.faults.any)
        result.late += trip is None and heard
        if loop.faults.any:
            for what, count in self.link.happened.items():
                result.link[what] = result.link.get(what, 0) + count
            self.link.happened.clear()
        inside = loop.inside.commands(observations)[0]
        if not np.isfinite(self.last).all() or not np.isfinite(inside).all():
            result.not_finite += 1
        elif trip is not None and not loop.limited and not (loop.faults.stuck or loop.faults.bias or loop.faults.noise):
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
