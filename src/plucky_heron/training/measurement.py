"""What settings are fitted to: a measurement of a task, of a fixed number of samples, before anything is learned.

The same problem gives the same numbers. They are kept beside the task with its fingerprint, and measured again when it changes.
"""

from __future__ import annotations

import contextlib
import json
import math
from dataclasses import asdict, dataclass, fields
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.control.poles import poles_of
from plucky_heron.errors import FileError
from plucky_heron.files import inside, is_file, read_json, write_whole
from plucky_heron.learning.exploration import Deviations, RandomStart
from plucky_heron.randomness import stream
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Constant, Driver, Rule
from plucky_heron.task.commanding import from_shares
from plucky_heron.task.problem import Problem

Array = np.ndarray

COPIES, DRIVEN = 32, 12
"""Episodes under deviations and held random commands, and under a driver that may succeed."""
SAMPLES = 12_000
"""Most samples over all copies that one driver is watched for."""
SEED = 2_000_081
HELD = 0.4
"""Seconds for which each random command is held."""
SPREAD = 0.5
"""Stationary spread at which exploration is tried, as a share of half the range."""
TIMES = (0.0, 0.12, 0.4)
"""Time constants (s) of the deviations that are tried."""
OSCILLATES = 0.7
"""Damping below which a pole is an oscillation, counted by its period; above, by its time constant."""
VERSION = 3


@dataclass(frozen=True)
class Measurement:
    """What was measured; times in seconds, NaN where there is nothing to measure.

    Attributes
    ----------
    slowest
        Period of the slowest oscillation, or the longest time constant, of those that are shorter than an episode.
    solved, solved_by
        Median time in which the best of the drivers that need no learning meets the measure, and its name.
    lengths
        Median length of episodes under deviations of each of `TIMES`.
    held_length
        The same under held random commands.
    spread_ratio
        How many times wider discounted returns are spread with what is paid at endings than without, under held random commands.
    least_return, most_return
        The 1 and 99 % quantiles of the discounted returns without what is paid where an episode ends, as if each went on as it went on the
        whole; looking `horizon` ahead.
    horizon
        How far ahead that looks.
    only_at_endings
        Whether everything is paid at endings.
    """

    slowest: float
    solved: float
    solved_by: str
    lengths: tuple[float, ...]
    held_length: float
    spread_ratio: float
    least_return: float
    most_return: float
    horizon: float
    only_at_endings: bool


@dataclass(frozen=True)
class _Played:
    """Episodes from their start to their end or as far as they were watched: rewards (T, B), lengths (B,), what ended them."""

    rewards: Array
    lengths: Array
    ended: Array
    success: Array
    since: Array
    """Samples after which the measure was met to the end, (B,)."""


class _Held:
    name = "held random commands"

    def __init__(self, problem: Problem) -> None:
        hold = max(1, problem.task.timing.samples(HELD))
        self.problem, self.random = problem, RandomStart(COPIES, len(problem.low), SEED, hold)

    def begin(self, batch: Batch) -> None:
        pass

    def drive(self, batch: Batch, observations: Array) -> Array:
        return from_shares(self.problem.low, self.problem.high, self.random.draw())


class _Deviating:
    """The middle of the range, and deviations with a memory."""

    name = "deviations"

    def __init__(self, problem: Problem, time: float) -> None:
        memory = memory_of(time, problem.sample_time)
        generator = stream(SEED, f"deviations {time:g}")
        self.problem = problem
        self.deviations = Deviations("drifting", COPIES, len(problem.low), generator, memory)

    def begin(self, batch: Batch) -> None:
        pass

    def drive(self, batch: Batch, observations: Array) -> Array:
        shares = np.clip(SPREAD * self.deviations.draw(), -1.0, 1.0)
        return from_shares(self.problem.low, self.problem.high, shares)


def memory_of(time: float, sample_time: float) -> float:
    """Correlation from sample to sample of what dies out with a time constant (s)."""
    return math.exp(-sample_time / time) if time > 0.0 else 0.0


def measure(problem: Problem, threads: int = 1) -> Measurement:
    """Measure a task."""
    dt, samples = problem.sample_time, min(problem.task.timing.steps, SAMPLES // COPIES)
    rewards = [r for r in problem.task.rewards.values() if not r.muted]
    only = bool(rewards) and all(r.when == "at ending" for r in rewards)
    slowest = _slowest(problem)
    solved, by = math.nan, ""
    best = 0.0
    rules: list[Driver] = [Rule(problem, name) for name in problem.rules]
    for driver in [Constant(problem), *rules]:
        played = _play(problem, driver, problem.task.timing.steps, threads, DRIVEN)
        share = float(played.success.mean())
        if share > max(best, 0.5):
            best, by = share, driver.name
            solved = float(np.median(played.since[played.success])) * dt
    held = _play(problem, _Held(problem), samples, threads)
    lengths = tuple(
        float(np.median(_play(problem, _Deviating(problem, t), samples, threads).lengths)) * dt for t in TIMES
    )
    horizon = horizon_of(problem, slowest, solved, only)
    ratio, least, most = _returns(held, 1.0 - dt / horizon)
    return Measurement(
        slowest, solved, by, lengths, float(np.median(held.lengths)) * dt, ratio, least, most, horizon, only,
    )  # fmt: skip


def horizon_of(problem: Problem, slowest: float, solved: float, only_at_endings: bool) -> float:
    """How far ahead values should look (s): three times the slowest motion, or as long as a good driver needs, within reason.

    At least 1 s and at most half an episode; a whole episode where nothing is paid before its end. Where nothing slow is
    known and nobody solves the task, a quarter of an episode. Where set-points are drawn anew, at most a third of the time until
    then: what comes later depends on chance more than on what is done now.
    """
    limit = problem.task.timing.steps * problem.sample_time
    if only_at_endings:
        return max(limit, 2.0 * problem.sample_time)
    known = [3.0 * slowest, solved]
    wanted = max((t for t in known if math.isfinite(t)), default=0.0)
    if not math.isfinite(solved):
        wanted = max(wanted, 0.25 * limit)
    most = min(0.5 * limit, max(redrawn_after(problem) / 3.0, 1.0))
    return max(min(max(wanted, 1.0), most), 2.0 * problem.sample_time)


def redrawn_after(problem: Problem) -> float:
    """Seconds after which the first of the set-points is drawn anew; inf where none is."""
    return min((s.every for s in problem.task.setpoints.values() if s.every > 0.0), default=math.inf)


def _slowest(problem: Problem) -> float:
    limit = problem.task.timing.steps * problem.sample_time
    with np.errstate(all="ignore"):
        poles = poles_of(problem, problem.model.start)
    poles = poles[np.isfinite(poles) & (np.abs(poles) > 1e-6)]
    damping = np.abs(poles.real) / np.maximum(np.abs(poles), 1e-12)
    swings = damping < OSCILLATES
    times = np.where(
        swings, 2.0 * np.pi / np.maximum(np.abs(poles.imag), 1e-9), 1.0 / np.maximum(np.abs(poles.real), 1e-9)
    )
    times = times[times < limit]
    return float(times.max()) if len(times) else math.nan


def _play(problem: Problem, driver: Driver, samples: int, threads: int, copies: int = COPIES) -> _Played:
    batch = Batch(problem, copies, SEED, "measurement", threads)
    batch.start(np.arange(copies))
    driver.begin(batch)
    samples = min(samples, batch.limit)
    rewards: Array = np.zeros((samples, copies))
    lengths: Array = np.zeros(copies, dtype=np.int64)
    ended: Array = np.zeros(copies, dtype=np.bool_)
    success: Array = np.zeros(copies, dtype=np.bool_)
    since: Array = np.zeros(copies, dtype=np.int64)
    first = max(1, problem.task.timing.samples(problem.task.measure.hold))  # met from the start says nothing of time
    for k in range(samples):
        was = batch.running.copy()
        outcome = batch.step(driver.drive(batch, batch.observe()))
        rewards[k] = outcome.reward
        lengths += was
        ended |= was & (outcome.ending >= 0)
        # met once and for all: not what is met on the way
        since = np.where(was & outcome.success, np.where(success, since, k + 1), since)
        success = np.where(was, outcome.success, success)
        if not batch.running.any():
            break
    return _Played(rewards, lengths, ended, success & (since > first), since)


def _returns(played: _Played, discount: float) -> tuple[float, float, float]:
    """Spread of the discounted returns with what was paid in the last sample of ended episodes over that without; the least and the most
    without, as if ended episodes had gone on with the mean of what they were given.
    """
    count = len(played.rewards)
    there = np.arange(count)[:, None] < played.lengths[None, :]
    last = (np.arange(count)[:, None] == played.lengths[None, :] - 1) & played.ended[None, :]
    ordinary = np.where(last, 0.0, played.rewards)
    going = np.maximum(played.lengths - played.ended, 1)
    on = np.where(played.ended, ordinary.sum(axis=0) / going / (1.0 - discount), 0.0)
    found = []
    for rewards, tail in ((played.rewards, 0.0 * on), (ordinary, 0.0 * on), (ordinary, on)):
        returns, later = np.zeros_like(rewards), np.zeros(rewards.shape[1])
        for k in range(count - 1, -1, -1):
            later = (
                np.where(last[k], tail, rewards[k] + discount * later) if tail.any() else rewards[k] + discount * later
            )
            returns[k] = later
        found.append(returns[there])
    with_endings, without, extended = found
    ratio = float(with_endings.std() / max(without.std(), 1e-9))
    return ratio, float(np.quantile(extended, 0.01)), float(np.quantile(extended, 0.99))


# --- kept beside the task -------------------------------------------------------------------------------------------


def measured(problem: Problem, project: Path | None = None, threads: int = 1) -> Measurement:
    """The measurement of a task: the kept one, if the task is still the same, else a new one that is kept from now on."""
    kept = kept_measurement(problem, project)
    if kept is not None:
        return kept
    found = measure(problem, threads)
    if project is not None:
        path = _place(project, problem)
        data = {name: _plain(value) for name, value in asdict(found).items()}
        whole = {"version": VERSION, "fingerprint": problem.fingerprint(), "measured": data}
        with contextlib.suppress(OSError, FileError):  # a project that may not be written is measured each time
            write_whole(path, json.dumps(whole, indent=1) + "\n")
    return found


def kept_measurement(problem: Problem, project: Path | None) -> Measurement | None:
    """The measurement that is kept of a task as it is; None where there is none, or it is damaged."""
    if project is None:
        return None
    try:
        return _read(_place(project, problem), problem)
    except FileError:
        return None  # it is made anew, and says nothing that only it knows


def _place(project: Path, problem: Problem) -> Path:
    return inside(project, f"tasks/{Path(problem.source).stem}.measured.json")


def _read(path: Path, problem: Problem) -> Measurement | None:
    if not is_file(path):
        return None
    kept = read_json(path)
    if not isinstance(kept, dict) or kept.get("version") != VERSION or kept.get("fingerprint") != problem.fingerprint():
        return None
    data = kept.get("measured")
    names = {f.name for f in fields(Measurement)}
    if not isinstance(data, dict) or set(data) != names:
        return None
    numbers = {k: data[k] for k in names - {"solved_by", "lengths", "only_at_endings"}}
    lengths = data["lengths"]
    right = isinstance(lengths, list) and len(lengths) == len(TIMES)
    if not right or not all(v is None or isinstance(v, int | float) for v in [*numbers.values(), *lengths]):
        return None
    real = {k: math.nan if v is None else float(v) for k, v in numbers.items()}
    return Measurement(
        **real, solved_by=str(data["solved_by"]), lengths=tuple(float(v) for v in lengths), only_at_endings=bool(data["only_at_endings"]),
    )  # fmt: skip


def _plain(value: Any) -> Any:
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    return list(value) if isinstance(value, tuple) else value
