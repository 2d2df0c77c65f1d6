"""Many copies of a problem, stepped together at the control rate: starts, gusts, signals, pay and endings."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics.plant import Plant
from plucky_heron.formula import Program
from plucky_heron.randomness import episode_stream
from plucky_heron.simulation import kernels
from plucky_heron.simulation.instruments import Instruments
from plucky_heron.task.problem import WIND_GUST, WIND_MEAN, Problem

Array = np.ndarray

GOING, TIME_UP = -1, -2
"""Values of `Outcome.ending` besides the number of an ending: the episode goes on; the time limit cut it."""


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
        self.commands: Array = np.zeros((copies, len(problem.task.actions)))
        self.previous: Array = np.zeros_like(self.commands)
        self._drive_commands: Array = np.zeros((copies, len(model.drives)))
        self.episode: Array = np.zeros(copies, dtype=np.int64)
        self.age: Array = np.zeros(copies, dtype=np.int64)
        self.running: Array = np.zeros(copies, dtype=np.bool_)
        self._noise_of = np.array([o.noise for o in problem.task.observations])
        self._noisy = np.flatnonzero(self._noise_of > 0.0)
        self._delays = np.array([timing.samples(o.delay) for o in problem.task.observations])
        self._history: Array = np.zeros((int(self._delays.max(initial=0)) + 1, copies, len(self._delays)))
        self._gusty = 3 if problem.site.gusts_across > 0.0 else 1
        self._wind: Array = np.zeros((copies, self.limit + 1, self._gusty))
        self._attitude = np.zeros((copies, len(problem.model.bodies), 3))
        self._noise: Array = np.zeros((copies, self.limit + 1, len(self._noisy)))
        self._drawn = {draw.target: np.zeros(copies) for draw in problem.draws}
        self._holds = np.array([timing.samples(e.hold) for e in problem.task.endings.values()], dtype=np.int64)
        self._held: Array = np.zeros((copies, len(self._holds)), dtype=np.int64)
        self._settled: Array = np.zeros(copies, dtype=np.int64)
        self._settle_samples = max(1, timing.samples(problem.task.measure.hold))
        self._failure = np.array([e.kind == "failure" for e in problem.task.endings.values()] + [True])
        self.signals = self._signals()
        sources = [*problem.observations, *problem.rewards, *problem.endings, problem.measure]
        self._program = Program(sources, self.signals, copies, problem.definitions)
        rows = np.cumsum([0, len(problem.observations), len(problem.rewards), len(problem.endings), 1])
        self._rows = [slice(a, b) for a, b in itertools.pairwise(rows)]
        self._weights, self._at_ending = _payment(problem)

    def _signals(self) -> dict[str, Array]:
        problem, plant = self.problem, self.plant
        self._time = np.zeros(self.copies)
        signals: dict[str, Array] = {"time": self._time}
        for a, axis in enumerate("xyz"):
            signals[f"wind.{axis}"], signals[f"current.{axis}"] = plant.winds[:, a], plant.currents[:, a]
        for i, joint in enumerate(problem.model.joints):
            signals[f"{joint}.position"] = signals[f"{joint}.angle"] = plant.position[:, i]
            signals[f"{joint}.velocity"] = signals[f"{joint}.rate"] = plant.velocity[:, i]
            signals[f"{joint}.effort"] = plant.efforts[:, i]
        for k, body in enumerate(problem.model.bodies):
            for a, axis in enumerate("xyz"):
                signals[f"{body}.{axis}"] = plant.located[:, k, a]
                signals[f"{body}.velocity.{axis}"] = plant.located[:, k, 3 + a]
                signals[f"{body}.rate.{axis}"] = plant.located[:, k, 15 + a]
                signals[f"{body}.{('roll', 'pitch', 'yaw')[a]}"] = self._attitude[:, k, a]
        for k, (channel, _, _) in enumerate(self.instruments.channels):
            signals[channel] = self.instruments.values[:, k]
        for k, tank in enumerate(problem.machine.tanks):
            signals[f"{tank}.mass"] = plant.fill[:, k]
        for a, action in enumerate(problem.task.actions):
            signals[f"action.{action.name}"] = self.commands[:, a]
            signals[f"previous.action.{action.name}"] = self.previous[:, a]
        for name, values in self._drawn.items():
            signals.setdefault(name, values)
        return signals

    def start(self, episodes: Array) -> None:
        """Begin with the given episode numbers (B,)."""
        self.restart(np.arange(self.copies), episodes)

    def restart(self, copies: Array, episodes: Array) -> None:
        """Begin new episodes in some `copies` (indices); `episodes` are their numbers."""
        if len(copies) == 0:
            return
        self.plant.reset(copies)
        for array in (self.commands, self.previous, self.age, self._held, self._settled):
            array[copies] = 0
        self.episode[copies] = episodes
        self.running[copies] = True
        for copy, episode in zip(copies, episodes, strict=True):
            self._draw(int(copy), int(episode))
        model = self.problem.model
        starts: dict[str, Array] = {}
        for draw in self.problem.draws:
            values = self._drawn[draw.target][copies]
            if draw.kind == "start":
                joint, _, quantity = draw.target.rpartition(".")
                if quantity == "position":
                    starts[joint] = values
                else:
                    self.plant.velocity[copies, model.joints.index(joint)] = values
            elif draw.kind == "parameter":
                model.vary(self.plant.rows, copies, draw.target, values)
            elif draw.target == "scene":
                most = len(self.problem.surroundings.names) - 1
                self.plant.scene[copies] = np.clip(np.floor(values), 0, most).astype(np.int64)
        position = self.plant.position[copies]
        model.set_start(position, starts)
        self.plant.position[copies] = position
        self.plant.settle_drives(copies)
        self._refresh(copies)

    def place(self, copy: int, position: Array) -> None:
        """Put a copy, at rest, into another position than its start."""
        self.plant.position[copy], self.plant.velocity[copy] = position, 0.0
        self.plant.settle_drives(np.array([copy]))
        self._refresh(np.array([copy]))

    def _draw(self, copy: int, episode: int) -> None:
        """Everything random of one episode, from a generator of its own."""
        generator = episode_stream(self.seed, self.stream, episode)
        for draw in self.problem.draws:
            self._drawn[draw.target][copy] = draw.distribution.draw(generator, draw.unit)
        normal = generator.standard_normal((self.limit + 1, self._gusty + len(self._noisy)))
        site = self.problem.site
        decay = np.exp(-self.problem.sample_time / site.gust_time)
        gust: Array = np.zeros(self.limit + 1)
        mean, spread = (self._drawn[n][copy] if n in self._drawn else 0.0 for n in (WIND_MEAN, WIND_GUST))
        for a in range(self._gusty):
            shape = kernels.first_order_noise if a == 0 else kernels.second_order_noise
            shape(decay, np.sqrt(1.0 - decay**2), normal[:, a].copy(), gust)
            self._wind[copy, :, a] = mean + spread * gust if a == 0 else spread * site.gusts_across * gust
        self._noise[copy] = normal[:, self._gusty :]

    def _refresh(self, fresh: Array | None = None) -> None:
        """Bring signals, formulas and the observation history up to the present state."""
        self._blow()
        located = self.plant.locate()
        np.arctan2(located[:, :, 13], located[:, :, 14], out=self._attitude[:, :, 0])
        np.arcsin(np.clip(-located[:, :, 12], -1.0, 1.0), out=self._attitude[:, :, 1])
        np.arctan2(located[:, :, 9], located[:, :, 6], out=self._attitude[:, :, 2])
        self.instruments.read(self.plant, self.episode, self.age, fresh)
        np.multiply(self.age, self.problem.sample_time, out=self._time)
        self._program.run()
        values = self._program.results[self._rows[0]].T
        if len(self._noisy):
            noise = self._noise[np.arange(self.copies), np.minimum(self.age, self.limit)]
            values = values.copy()
            values[:, self._noisy] += noise * self._noise_of[self._noisy]
        if fresh is None:
            self._history = np.roll(self._history, 1, axis=0) if len(self._history) > 1 else self._history
            self._history[0] = values
        else:
            self._history[:, fresh] = values[fresh]

    def _blow(self) -> None:
        """Wind, current and water level of this moment into the fields of the plant."""
        site, fields = self.problem.site, self.plant.fields
        now = self._wind[np.arange(self.copies), np.minimum(self.age, self.limit)]
        along = np.array(site.wind_direction)
        self.plant.winds[:] = now[:, :1] * along
        if self._gusty > 1:
            across = np.array([-along[1], along[0], 0.0])
            self.plant.winds[:] += now[:, 1:2] * across + now[:, 2:3] * np.array([0.0, 0.0, 1.0])
        speed = self._drawn.get("current.speed", site.current.speed)
        turn = self._drawn.get("current.direction", site.current.direction)
        time = self.age * self.problem.sample_time
        if site.current.tide > 0.0:
            speed = speed * np.cos(2.0 * math.pi * time / site.current.tide)
        self.plant.currents[:, 0], self.plant.currents[:, 1] = speed * np.cos(turn), speed * np.sin(turn)
        level = -np.inf if site.water_level is None else site.water_level
        fields[:, 6] = self._drawn.get("water.level", level)
        fields[:, 7] = time

    def observe(self) -> Array:
        """What the policy is given, (B, observations), in SI units, with noise and delay."""
        if len(self._history) == 1:
            return np.array(self._history[0])
        return np.array(self._history[self._delays, :, np.arange(len(self._delays))].T)

    def step(self, commands: Array) -> Outcome:
        """Hold `commands` (B, actions), in SI units, for one sample; they are clipped to the task's limits."""
        problem = self.problem
        self.previous[:] = self.commands
        np.clip(commands, problem.low, problem.high, out=self.commands)
        self._drive_commands[:, problem.drive_index] = self.commands
        self.plant.active[:] = self.running
        self.plant.step(self._drive_commands, problem.task.timing.substeps)
        self.age += self.running
        self._refresh()
        return self._judge()

    def _judge(self) -> Outcome:
        results = self._program.results
        finite = np.isfinite(self.plant.position).all(axis=1) & np.isfinite(self.plant.velocity).all(axis=1)
        finite &= np.isfinite(results).all(axis=0)
        met = results[self._rows[2]].T != 0.0
        self._held = np.where(met, self._held + 1, 0)
        ending = np.where(self.age >= self.limit, TIME_UP, GOING)
        for number in range(met.shape[1] - 1, -1, -1):
            ending[(self._held[:, number] > self._holds[number])] = number
        ending[~finite] = met.shape[1]
        ending[~self.running] = GOING
        settled = results[self._rows[3]][0] != 0.0
        self._settled = np.where(settled & finite, self._settled + 1, 0)
        terms = results[self._rows[1]].T * self._weights
        for term, number in self._at_ending:
            terms[:, term] *= ending == number
        terms[~finite] = 0.0
        terms[~self.running] = 0.0
        success = (self._settled >= self._settle_samples) & ~(self._failure[np.maximum(ending, 0)] & (ending >= 0))
        if not finite.all():
            self._make_harmless(np.flatnonzero(~finite))
        self.running &= ending == GOING
        reward: Array = np.zeros(self.copies)
        for column in terms.T:  # in this order in every batch size: NumPy's own sum depends on the layout
            reward += column
        return Outcome(reward, terms, ending, success)

    def _make_harmless(self, copies: Array) -> None:
        """A copy that blew up must not spread its numbers; it has ended and waits in the start pose."""
        self.plant.reset(copies)
        self._history[:, copies] = 0.0

    def keep(self) -> dict[str, Array]:
        """All state, for a checkpoint; episodes are drawn again from their numbers."""
        kept = {f"plant.{name}": array for name, array in self.plant.keep().items()}
        kept |= {f"instruments.{name}": array for name, array in self.instruments.keep().items()}
        for name in ("commands", "previous", "episode", "age", "running", "_held", "_settled", "_history"):
            kept[name.lstrip("_")] = getattr(self, name).copy()
        return kept

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        for name in ("commands", "previous", "episode", "age", "running", "_held", "_settled"):
            getattr(self, name)[...] = kept[name.lstrip("_")]
        for copy, episode in enumerate(self.episode):
            self._draw(copy, int(episode))
        self.plant.restore({name[6:]: array for name, array in kept.items() if name.startswith("plant.")})
        self._refresh()
        self.instruments.restore({name[12:]: array for name, array in kept.items() if name.startswith("instruments.")})
        self._program.run()
        self._history = kept["history"].copy()


def _payment(problem: Problem) -> tuple[Array, list[tuple[int, int]]]:
    """Factor of each reward term in one step, and the terms that are paid at an ending, with its number."""
    weights, at_ending = [], []
    for term, reward in enumerate(problem.task.rewards.values()):
        weights.append(reward.weight * (problem.sample_time if reward.pay == "each second" else 1.0))
        if reward.ending is not None:
            at_ending.append((term, list(problem.task.endings).index(reward.ending)))
    return np.array(weights), at_ending
