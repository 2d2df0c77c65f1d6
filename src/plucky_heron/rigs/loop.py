"""The loop between the simulated plant and a rig, closed at the sample rate."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.handover.forms.running import OnnxPolicy
from plucky_heron.handover.reading import Pack
from plucky_heron.handover.trying import standing
from plucky_heron.rigs.datagrams import EPISODES, LIMITED, LOCK_STEP, RESTART, STOP, episode_mark
from plucky_heron.rigs.faults import Faults, FaultySensors
from plucky_heron.rigs.link import Link, Rig
from plucky_heron.rigs.outcome import RolloutResult, Sample
from plucky_heron.rigs.priority import keeping_time, let_go
from plucky_heron.rigs.sides import Asking, Side, WholeSide
from plucky_heron.simulation.batch import TIME_UP, Batch
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

Array = np.ndarray

ROLLOUT_STREAM = "rollout"
LATE = 0.25
"""Share of a sample by which this computer may be late before the plant's clock waits for it."""
MOST_LATE = 50
"""Samples in a row that the plant may come late to before it gives its priority back."""
_PATIENCE = 2.0
"""Seconds to wait for any sign in real time before the rig is given up."""


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


class Loop:
    """Plant and rig in closed loop, episode by episode."""

    def __init__(
        self,
        problem: Problem,
        controller: Rig,
        result: RolloutResult,
        lock_step: bool,
        watch: Callable[[Sample], bool] | None,
        inside: PackDriver,
        faults: Faults,
        side: Side,
    ) -> None:
        self.problem, self.controller, self.result = problem, controller, result
        self.lock_step, self.watch, self.inside, self.faults = lock_step, watch, inside, faults
        self.side = side
        self.span = problem.high - problem.low
        self.lasts = 0.0
        """Seconds of the episode that goes before; 0: the task's time limit."""
        self.keeps_up = True
        """Whether plant and watcher are done with a sample before the next one is due."""
        self.limited = False
        """Whether the controller is to keep its commands near the safe ones, in the episode that goes before."""

    def before(self, commissioning: Asking) -> bool:
        """An episode that does not count; False if whoever watches stopped it."""
        self.limited = True
        whole = self.side if isinstance(self.side, WholeSide) else None
        asking = whole.asking if whole is not None else None
        if whole is not None:
            whole.asking, self.lasts = commissioning, commissioning.lasts
        went = self.run(0)
        self.forget()
        self.limited = False
        if whole is not None and asking is not None:
            whole.asking = asking
        return went

    @property
    def whole(self) -> bool:
        """Whether the whole controller runs."""
        return isinstance(self.side, WholeSide)

    @property
    def compared(self) -> bool:
        """Whether the command of this sample is the policy's own."""
        return self.side.compares if isinstance(self.side, WholeSide) else not self.limited

    def state(self) -> tuple[str, str]:
        """State of the whole controller, and why."""
        return (self.side.state, self.side.said()) if isinstance(self.side, WholeSide) else ("", "")

    def forget(self) -> None:
        """What was run so far does not count."""
        result = self.result
        for found in (result.scores, result.successes, result.round_trips, result.recordings):
            found.clear()
        result.samples = result.missed = result.late = result.waited = result.not_finite = 0
        result.difference = 0.0

    def make_safe(self) -> None:
        """Tell the controller, more than once as one may be lost, to go to its safe commands."""
        stop = self.side.stop(STOP)
        for _ in range(3):
            self.controller.send(stop)
            time.sleep(0.01)

    def run(self, episode: int) -> bool:
        """One episode; False if whoever watches stopped it."""
        if isinstance(self.side, WholeSide):
            self.side.episode = -1 if self.limited else episode
        # a machine that is commissioned stands
        problem = standing(self.problem, self.lasts) if self.whole and self.limited else self.problem
        driver = _RigDriver(self, episode)
        with contextlib.ExitStack() as stack:
            self.result.real_time_priority = False
            if not self.lock_step and self.keeps_up:
                self.result.real_time_priority = stack.enter_context(keeping_time(self.controller.waiting_process))
            trials = run_trials(
                problem, driver, seed=EVALUATION_SEED, stream=ROLLOUT_STREAM, count=1, episodes=np.array([episode]),
                record=[0], progress=driver.shown,
            )  # fmt: skip
        if driver.stopped and trials.ending[0] == TIME_UP and trials.steps[0] < problem.task.timing.steps:
            return False
        self.result.scores.append(float(trials.score[0]))
        self.result.successes.append(bool(trials.success[0]))
        self.result.recordings.append(trials.recordings[0])
        return True


class _RigDriver:
    """Asks the rig for each command; holds the last one when no answer comes in time."""

    def __init__(self, loop: Loop, episode: int) -> None:
        self.loop, self.episode, self.name = loop, episode, f"rig {loop.result.rig}"
        self.last = np.clip(np.zeros(len(loop.problem.low)), loop.problem.low, loop.problem.high)
        self.index = 0
        self.stopped = False
        self.began = time.perf_counter()
        self.sample: Sample | None = None
        self.late = self.silent = 0
        self.most_silent = 3 if loop.lock_step else max(10, round(_PATIENCE / loop.problem.sample_time))
        if loop.faults.any:  # what is lost is no sign that the rig has gone
            self.most_silent = max(100, round(10.0 / loop.problem.sample_time))
        self.link = Link(loop.controller, loop.faults, loop.lock_step, episode)
        self.sensors = FaultySensors(loop.faults, loop.side.ranges, loop.problem.sample_time, episode)
        self.first_stamp = 0
        self.newest = -1
        """Number of the sample whose command was applied last."""

    def begin(self, batch: Batch) -> None:
        """The clock starts with the first sample."""
        self.loop.inside.begin(batch)
        self.loop.side.begin(batch)
        self.began = time.perf_counter()

    def drive(self, batch: Batch, observations: Array) -> Array:
        """Send the sensors, wait for the command until the sample is over."""
        loop, result = self.loop, self.loop.result
        sample_time = loop.problem.sample_time
        period = sample_time * (1.0 + loop.faults.drift)
        due = self.began + self.index * period
        if not loop.lock_step:
            time.sleep(max(0.0, due - time.perf_counter()))
            behind = time.perf_counter() - due
            if (
                behind > LATE * period
            ):  # this computer was late, which says nothing of the controller: the plant's clock waits
                self.began, due = self.began + behind, due + behind
                result.waited += 1
                self.late += 1
                if self.late == MOST_LATE:
                    # a plant that cannot keep up never sleeps: it would leave nothing of its core to other work
                    let_go()
                    loop.keeps_up = result.real_time_priority = False
            else:
                self.late = 0
        row = self.sensors.read(loop.side.values(batch, observations))
        flags = (RESTART if self.index == 0 else 0) | (LOCK_STEP if loop.lock_step else 0)
        flags |= LIMITED if loop.limited and not loop.whole else 0
        # the episode that goes before with limited authority has a mark of its own
        flags |= episode_mark(EPISODES - 1 if loop.limited else self.episode)
        sent = time.perf_counter()
        if self.index == 0:
            self.first_stamp = int(sent * 1e6)
        elapsed = self.index * sample_time
        now = elapsed if loop.lock_step else sent
        self.link.send(loop.side.datagram(self.index, int(sent * 1e6), row, flags), now, sample_time, elapsed)
        until = max(due + period, sent)
        trip, heard = None, False
        while (command := self.link.receive(until, now, sample_time)) is not None:
            result.counters = command.counters
            if command.stamp < self.first_stamp and not command.flags:
                continue  # of the episode before
            if command.sequence == self.index and (loop.whole or not command.flags):
                # a whole controller that refuses what it is given says so in its state
                self.last, trip = loop.side.take(command), time.perf_counter() - sent
                result.round_trips.append(trip)
                self.newest = self.index
                break
            if command.flags or command.sequence > self.newest:
                # what the controller holds, its safe command, or what it says of an earlier sample
                self.last = loop.side.take(command)
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
        elif trip is not None and loop.compared and not (loop.faults.stuck or loop.faults.bias or loop.faults.noise):
            result.difference = max(result.difference, float((np.abs(self.last - inside) / loop.span).max()))
        self.sample = Sample(
            self.episode,
            self.index,
            batch.plant.position[0].copy(),
            observations[0, : len(loop.problem.sensed)].copy(),
            self.last.copy(),
            inside,
            trip,
            *loop.state(),
        )
        self.index += 1
        return self.last[None, :]

    def shown(self, share: float) -> bool:
        """Let whoever watches see the sample."""
        if self.loop.watch is not None and self.sample is not None and not self.loop.watch(self.sample):
            self.stopped = True
            return False
        return True
