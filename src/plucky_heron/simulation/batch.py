"""Many copies of a problem, stepped together at the control rate: starts, gusts, signals, reward and endings."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from plucky_heron.dynamics.apart import Apart
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.plant import Plant
from plucky_heron.formula import Expression, Program
from plucky_heron.simulation import kernels
from plucky_heron.simulation.commander import Commander
from plucky_heron.simulation.gates import GateKeeper
from plucky_heron.simulation.instruments import Instruments
from plucky_heron.simulation.starts import Starts
from plucky_heron.simulation.transport import Transport
from plucky_heron.task.problem import Problem

Array = np.ndarray

GOING, TIME_UP = -1, -2
"""Values of `Outcome.ending` besides the number of an ending: the episode goes on; the time limit cut it."""
ABSURD = 1e5
"""Speed (rad/s, m/s) from which a simulation counts as lost: what is on its way out of all numbers teaches nothing."""


@dataclass(frozen=True)
class Outcome:
    """What one control step brought to each copy.

    Attributes
    ----------
    reward : (B,)
        Paid in this step; zero for copies that had ended before.
    terms : (B, terms)
        The same by reward term.
    ending : int (B,)
        Number of the ending that was met, `TIME_UP`, or `GOING`.
    success : bool (B,)
        Whether the measure's condition has now held for its hold time, and no failure was met.
    """

    reward: Array
    terms: Array
    ending: Array
    success: Array
    lost: Array
    """bool (B,): what followed finite commands is no finite number; the episode is over, and nobody knows how it went on."""


class Batch:
    """`copies` episodes of `problem` at once.

    Parameters
    ----------
    problem
        What is simulated.
    copies
        Number of episodes at a time (B).
    seed, stream
        Name the episodes: episode number k of a stream of a seed is always the same start, load and weather.
    threads
        How many threads may step the physics.

    Notes
    -----
    Signals stand in `signals`, arrays (B,) that are updated in place. The caller decides when ended copies are
    started anew (`restart`); until then they stand still.
    """

    def __init__(self, problem: Problem, copies: int, seed: int, stream: str, threads: int | None = None) -> None:
        self.problem, self.copies, self.seed, self.stream = problem, copies, seed, stream
        timing, model = problem.task.timing, problem.model
        self.limit = timing.steps
        self.plant = Plant(model, copies, timing.physics_step, threads=threads, surroundings=problem.surroundings)
        self.instruments = Instruments(problem, copies, seed, stream)
        self.commander = Commander(problem, copies)
        self.transport = Transport(problem, copies, seed, stream)
        self.commands = self.commander.given
        self.episode: Array = np.zeros(copies, dtype=np.int64)
        self.age: Array = np.zeros(copies, dtype=np.int64)
        self.running: Array = np.zeros(copies, dtype=np.bool_)
        self._all = np.arange(copies)
        site = problem.site
        water = -np.inf if site.water_level is None else site.water_level
        self._still = {
            name: np.full(copies, float(value))
            for name, value in (
                ("current.speed", site.current.speed),
                ("current.direction", site.current.direction),
                ("water.level", water),
            )
        }
        """What the site says where nothing is drawn."""
        self._entries = _Row(problem, copies)
        self.starts = Starts(problem, copies, seed, stream, len(self._entries.noisy))
        self._apart = Apart(self.plant, problem.pairs, problem.task.zones)
        gates = problem.task.gates
        self.gates = None
        if gates is not None:
            self.gates = GateKeeper(gates, problem.surroundings, copies, model.bodies.index(gates.body))
        deadlines = [e.deadline for e in problem.task.endings.values() if e.deadline is not None]
        # half a sample early: the sum of samples may fall just short of it
        self._deadline = min(deadlines, default=np.inf) - 0.5 * timing.sample_time
        self._holds = np.array([timing.samples(e.hold) for e in problem.task.endings.values()], dtype=np.int64)
        self._held: Array = np.zeros((copies, len(self._holds)), dtype=np.int64)
        self._settled: Array = np.zeros(copies, dtype=np.int64)
        self.refused: Array = np.zeros(copies, dtype=np.bool_)
        self.outside: Callable[[Array], Array] | None = None
        """Where a whole controller stands outside: given what drives (B, drives) would get, what they get instead."""
        self._settle_samples = max(1, timing.samples(problem.task.measure.hold))
        self._failure = np.array([e.kind == "failure" for e in problem.task.endings.values()] + [True])
        self._lists = self.commander.lists()
        self.signals = self._signals()
        self._readable = self._lists | self.signals  # a joint comes before a body of the same name
        self.commander.bind(self._readable, copies)
        sources = [*problem.observations, *problem.rewards, *problem.endings, problem.measure]
        sources += [problem.value] if problem.value is not None else []
        self._program = self.program(sources)
        counts = (sum(e.width for e in problem.observations), len(problem.rewards), len(problem.endings), 1)
        edges = itertools.accumulate(counts, initial=0)
        self._rows = [slice(first, last) for first, last in itertools.pairwise(edges)]
        self._weights, self._given_at = _reward_weights(problem)

    def program(self, expressions: Sequence[Expression]) -> Program:
        """Formulas over the signals of this batch, to be run once a sample."""
        return Program(expressions, self._readable, self.copies, self.problem.definitions, self.problem.sample_time)

    @property
    def value(self) -> Array:
        """What the task measures beside success, (B,); zeros where it measures nothing."""
        measured = self.problem.value is not None
        return np.nan_to_num(self._program.results[-1]) if measured else np.zeros(self.copies)

    def _signals(self) -> dict[str, Array]:
        problem, plant = self.problem, self.plant
        self._time = np.zeros(self.copies)
        self._left = np.zeros(self.copies)
        signals: dict[str, Array] = {"time": self._time, "time.left": self._left}
        for a, axis in enumerate("xyz"):
            signals[f"wind.{axis}"], signals[f"current.{axis}"] = plant.winds[:, a], plant.currents[:, a]
        for i, joint in enumerate(problem.model.joints):
            signals[f"{joint}.position"] = signals[f"{joint}.angle"] = plant.position[:, i]
            signals[f"{joint}.velocity"] = signals[f"{joint}.rate"] = plant.velocity[:, i]
            signals[f"{joint}.effort"] = plant.efforts[:, i]
        for k, body in enumerate(problem.model.bodies):
            places = {
                "": plant.located[:, k, :3],
                ".velocity": plant.located[:, k, 3:6],
                ".rate": plant.located[:, k, 15:],
            }
            places |= {".own.velocity": plant.own[:, k, :3], ".own.rate": plant.own[:, k, 3:]}
            for what, rows in places.items():
                self._lists[f"{body}{what}"] = rows.T
                for a, axis in enumerate("xyz"):
                    signals[f"{body}{what}.{axis}"] = rows[:, a]
            for a, angle in enumerate(("roll", "pitch", "yaw")):
                signals[f"{body}.{angle}"] = plant.attitude[:, k, a]
        names = [channel for channel, _, _ in self.instruments.channels]
        for k, channel in enumerate(names):
            signals[channel] = self.instruments.values[:, k]
            if channel.endswith("[0]"):
                count = sum(name.startswith(channel[:-2]) for name in names)
                self._lists[channel[:-3]] = self.instruments.values[:, k : k + count].T
        for k, tank in enumerate(problem.machine.tanks):
            signals[f"{tank}.mass"] = plant.fill[:, k]
        signals |= self.commander.signals()
        if self.gates is not None:
            signals |= self.gates.signals()
        for k, pair in enumerate(problem.pairs):
            signals[f"clearance({', '.join(pair)})"] = self._apart.values[:, k]
        for name, values in self.starts.drawn.items():
            signals.setdefault(name, values)
        code = problem.task.code
        self._own_signals = {name: np.zeros(self.copies) for name in (code.signals if code is not None else ())}
        self._shown = {name: _read_only(values) for name, values in signals.items()} if code is not None else {}
        return signals | {f"own.{name}": values for name, values in self._own_signals.items()}

    def start(self, episodes: Array, ages: Array | None = None) -> None:
        """Begin with the given episode numbers (B,), as if `ages` (B,) samples of each had gone by already."""
        self.restart(self._all, episodes, ages)

    def restart(self, copies: Array, episodes: Array, ages: Array | None = None) -> None:
        """Begin new episodes in some `copies` (indices); `episodes` are their numbers.

        `ages`, 0 if left out, only move the clock, and with it weather and set-points: machines stand at their starts.
        """
        if len(copies) == 0:
            return
        self.plant.reset(copies)
        for array in (self._held, self._settled):
            array[copies] = 0
        self.age[copies] = 0 if ages is None else ages
        self.refused[copies] = False
        self.episode[copies] = episodes
        self.running[copies] = True
        for copy, episode in zip(copies, episodes, strict=True):
            self.starts.draw(int(copy), int(episode))
        self.starts.place(self.plant, copies, episodes)
        self.plant.settle_drives(copies)
        self.commander.begin(copies, self.plant)
        self.transport.begin(copies, self.plant)
        if self.gates is not None:
            self.gates.begin(copies)
        self._refresh(copies)
        self.commander.started(copies)

    def place(self, copy: int, position: Array) -> None:
        """Put a copy, at rest, into another position (entries,) than its start."""
        self.plant.position[copy], self.plant.velocity[copy] = position, 0.0
        self.plant.close_loops(np.array([copy]))
        self.plant.settle_drives(np.array([copy]))
        self._refresh(np.array([copy]))

    def _refresh(self, fresh: Array | None = None, again: bool = False) -> None:
        """Bring signals, formulas and the observation history up to the present state.

        Without `fresh` (copies that have just begun) or `again`, a sample has gone by.
        """
        self.starts.now(self.age)
        self._blow(fresh)
        located = self.plant.locate(fresh)
        self.instruments.read(self.plant, self.episode, self.age, fresh)
        self._apart.read()
        if self.gates is not None:
            self.gates.look(located, self.plant.scene, fresh, again)
        np.multiply(self.age, self.problem.sample_time, out=self._time)
        np.subtract(self._deadline, self._time, out=self._left)
        if self.problem.code is not None:
            self.problem.code.compute(self._shown, self._own_signals)
        self._program.run(fresh, again)
        raw = self._program.results[self._rows[0]].T
        self._entries.take(raw, self.starts.noise, np.minimum(self.age, self.limit), fresh)

    def _blow(self, fresh: Array | None) -> None:
        """Wind, current and water level of this moment into the fields of the plant."""
        site, plant, drawn = self.problem.site, self.plant, self.starts.drawn
        speed, direction, level = (drawn.get(name, self._still[name]) for name in self._still)
        kernels.weather(
            self._all if fresh is None else fresh, self.starts.wind, self.age, site.wind_direction, speed, direction, level, site.current.tide, self.problem.sample_time, plant.winds,
            plant.currents, plant.fields[:, layout.WATER_LEVEL], plant.fields[:, layout.TIME],
        )  # fmt: skip

    def drawn(self, names: Sequence[str]) -> Array:
        """What was drawn under these names and holds in this sample, (B, names), SI."""
        return np.column_stack([self.starts.drawn[name] for name in names])

    def observe(self) -> Array:
        """What the policy is given, (B, entries), in SI units, with noise, dead time and clipping."""
        return self._entries.row()

    @property
    def readable(self) -> dict[str, Array]:
        """All that formulas can read, by name: arrays (B,) that are updated in place."""
        return self._readable

    @property
    def results(self) -> Array:
        """Values of all formulas in this sample, (columns, B); those of observations come first, without noise."""
        return self._program.results

    def measured(self) -> Array:
        """Values of all observations in this sample, (B, columns), with noise; before dead time, stacks and shapes."""
        return np.asarray(self._entries.history[0])

    def leave_out_noise(self, columns: Sequence[int]) -> None:
        """From now on, without the noise of these observations."""
        self._entries.leave_out(columns)
        self._entries.history[:, :, list(columns)] = self._program.results[self._rows[0]].T[:, list(columns)]

    def step(self, commands: Array) -> Outcome:
        """Hold `commands` (B, commands), in SI units, for one sample; they are clipped to the task's limits.

        A command that is no finite number ends its episode as not finite, whatever the machine would have done with another.
        """
        drives = self.commander.give(commands)
        if self.outside is not None:
            drives[:] = self.outside(drives)
        self.plant.active[:] = self.running
        self.transport.step(self.plant, drives, self.episode, self.age)
        self.age += self.running
        self._refresh()
        return self._judge()

    def _judge(self) -> Outcome:
        plant, refused, rows = self.plant, self.commander.refused, self._rows
        terms: Array = np.empty((len(self._weights), self.copies))
        reward: Array = np.empty(self.copies)
        ending: Array = np.empty(self.copies, dtype=np.int64)
        success, finite = np.empty((2, self.copies), dtype=np.bool_)
        kernels.judge(
            plant.position, plant.velocity, ABSURD, self._program.results, rows[1].start, rows[2].start, rows[3].start, self._weights, self._given_at,
            self._holds, self._failure, self._settle_samples, self.age >= self.limit, refused, self.running, self._held, self._settled, terms, reward,
            ending, success, finite,
        )  # fmt: skip
        self.refused |= refused & self.running
        if not finite.all():
            self._make_harmless(np.flatnonzero(~finite))
        self.running &= ending == GOING
        # only what was running has met any ending
        return Outcome(reward, terms.T, ending, success, (ending == len(self._holds)) & ~self.refused)

    def _make_harmless(self, copies: Array) -> None:
        """A copy that blew up must not spread its numbers; it has ended and waits in the start pose."""
        self.plant.reset(copies)
        self._entries.history[:, copies] = 0.0

    def keep(self) -> dict[str, Array]:
        """All state, for a checkpoint; episodes are drawn again from their numbers."""
        parts: dict[str, Any] = {"plant": self.plant, "instruments": self.instruments, "commander": self.commander}
        parts |= {"gates": self.gates} if self.gates is not None else {}
        parts |= {"transport": self.transport} if not self.transport.idle else {}
        kept = {f"{part}.{name}": array for part, one in parts.items() for name, array in one.keep().items()}
        for name in ("episode", "age", "running", "_held", "_settled"):
            kept[name.lstrip("_")] = getattr(self, name).copy()
        return kept | {
            "history": self._entries.history.copy(), "memory": self._program.keep(), "attempts": self.starts.attempts.copy(),
        }  # fmt: skip

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""

        def part(name: str) -> dict[str, Array]:
            return {key[len(name) + 1 :]: array for key, array in kept.items() if key.startswith(f"{name}.")}

        for name in ("episode", "age", "running", "_held", "_settled"):
            getattr(self, name)[...] = kept[name.lstrip("_")]
        for copy, (episode, attempt) in enumerate(zip(self.episode, kept["attempts"], strict=True)):
            self.starts.draw(copy, int(episode), int(attempt))
        self.plant.restore(part("plant"))
        self.commander.restore(part("commander"))
        if self.gates is not None:
            self.gates.restore(part("gates"))
        if not self.transport.idle:
            self.transport.restore(part("transport"))
        self._program.restore(kept["memory"])
        self._refresh(again=True)
        self.instruments.restore(part("instruments"))
        self._program.restore(kept["memory"])
        self._program.run(again=True)
        self._entries.history = kept["history"].copy()


def _read_only(values: Array) -> Array:
    shown = values.view()
    shown.flags.writeable = False
    return shown


class _Row:
    """The numbers that the policy is given: noise, dead time, stacks, sine and cosine, clipping."""

    def __init__(self, problem: Problem, copies: int) -> None:
        entries = problem.entries
        self.columns = np.array([e.column for e in entries])
        self.ago = np.array([e.samples_ago for e in entries])
        noise: Array = np.zeros(int(self.columns.max()) + 1)
        for entry in entries:
            noise[entry.column] = entry.noise
        self.noisy = np.flatnonzero(noise > 0.0)
        self._spread = noise[self.noisy]
        self.history: Array = np.zeros((int(self.ago.max()) + 1, copies, len(noise)))
        self._straight = len(self.history) == 1 and np.array_equal(self.columns, np.arange(len(noise)))
        self._shapes = {s: np.flatnonzero([e.shape == s for e in entries]) for s in ("sine", "cosine")}
        self._clipped = np.flatnonzero([e.clip and e.shape == "value" for e in entries])
        self._low, self._high = (np.array([getattr(entries[k], s) for k in self._clipped]) for s in ("low", "high"))

    def leave_out(self, columns: Sequence[int]) -> None:
        """No more noise in these columns."""
        self._spread[np.isin(self.noisy, list(columns))] = 0.0

    def take(self, values: Array, noise: Array, age: Array, fresh: Array | None) -> None:
        """Values (B, columns) of this sample; of copies in `fresh` as if they had stood for ever."""
        if len(self.noisy):
            values = values.copy()
            values[:, self.noisy] += noise[np.arange(len(values)), age] * self._spread
        if fresh is None:
            self.history = np.roll(self.history, 1, axis=0) if len(self.history) > 1 else self.history
            self.history[0] = values
        else:
            self.history[:, fresh] = values[fresh]

    def row(self) -> Array:
        """What is given, (B, entries)."""
        given = np.array(self.history[0] if self._straight else self.history[self.ago, :, self.columns].T)
        for shape, function in (("sine", np.sin), ("cosine", np.cos)):
            if len(self._shapes[shape]):
                given[:, self._shapes[shape]] = function(given[:, self._shapes[shape]])
        if len(self._clipped):
            given[:, self._clipped] = np.clip(given[:, self._clipped], self._low, self._high)
        return given


def _reward_weights(problem: Problem) -> tuple[Array, Array]:
    """Factor of each reward term in one step, and number of the ending at which it is given, or -1; (terms,) both."""
    weights, given_at, endings = [], [], list(problem.task.endings)
    for reward in problem.task.rewards.values():
        each = problem.sample_time if reward.when == "each second" else 1.0
        weights.append(0.0 if reward.muted else reward.weight * each)
        given_at.append(-1 if reward.ending is None else endings.index(reward.ending))
    return np.array(weights, dtype=float), np.array(given_at, dtype=np.int64)
