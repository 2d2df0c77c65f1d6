"""Whole episodes under one driver: for evaluation, rehearsal and proof, with recordings of chosen ones."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from plucky_heron.simulation.batch import TIME_UP, Batch
from plucky_heron.simulation.drivers import Driver
from plucky_heron.task.problem import Problem

Array = np.ndarray
TIME_IS_UP = "time is up"
"""How an episode ended that the time limit cut."""


@dataclass(frozen=True)
class Recording:
    """One episode, sample by sample: row 0 is the start, row k what followed the k-th command.

    Attributes
    ----------
    position : (T + 1, joints); observations : (T + 1, observations); commands, terms : (T, ...)
    target : (T + 1, 3)
        Place of the target; NaN without one.
    wind : (T + 1,)
        Wind along x, m/s.
    """

    driver: str
    stream: str
    seed: int
    episode: int
    sample_time: float
    position: Array
    velocity: Array
    observations: Array
    commands: Array
    terms: Array
    target: Array
    wind: Array
    ending: str
    success: bool
    scene: int = 0
    """Number of the course or level it ran on."""
    contacts: tuple[Array, ...] = ()
    """What touched, sample by sample: rows (k, 6) of place and force."""
    sensed: Array | None = None
    """What the sensors said, (T + 1, channels), where it was kept."""
    passed: Array | None = None
    """How many gates were passed, (T + 1,), where the task has gates."""
    value: float = 0.0
    """What the task measures beside success, as the episode ended."""

    @property
    def steps(self) -> int:
        """Samples of the episode."""
        return len(self.commands)

    @property
    def score(self) -> float:
        """Sum of all rewards."""
        return float(self.terms.sum())


@dataclass(frozen=True)
class Trials:
    """Results of one driver on numbered starts, all arrays (trials,) but `terms` (trials, terms)."""

    driver: str
    seed: int
    stream: str
    score: Array
    success: Array
    ending: Array
    steps: Array
    terms: Array
    effort: Array
    ending_names: tuple[str, ...]
    value: Array
    """What the task measures beside success, as each episode ended; zeros where it measures nothing."""
    refused: Array
    """Trials that ended at a command which was no finite number; failures of the driver, not of the simulation."""
    recordings: dict[int, Recording] = field(default_factory=dict)

    def tally(self) -> dict[str, int]:
        """How many trials met which ending; "time is up" is not a failure."""
        counts = {name: int((self.ending == k).sum()) for k, name in enumerate(self.ending_names)}
        counts[TIME_IS_UP] = int((self.ending == TIME_UP).sum())
        return {name: count for name, count in counts.items() if count}

    def worst(self, count: int = 5) -> list[int]:
        """Numbers of the worst trials: failures of the measure first, then by score."""
        order = np.lexsort((self.score, self.success))
        return [int(k) for k in order[:count]]


def run_trials(
    problem: Problem,
    driver: Driver,
    *,
    seed: int,
    stream: str,
    count: int,
    record: Sequence[int] = (),
    episodes: Array | None = None,
    threads: int | None = None,
    prepare: Callable[[Batch], None] | None = None,
    progress: Callable[[float], bool] | None = None,
) -> Trials:
    """Run `count` episodes, numbers 0 to count - 1 of `stream`, each to its end.

    The batch always has `count` copies, so that recording some of them later gives the same bits.

    Parameters
    ----------
    episodes
        Other numbers than 0 to count - 1.
    prepare
        Called after the start, to change copies (such as a set value of a parameter).
    progress
        Called with the share done; returning False stops early, and what has not ended counts as cut.
    """
    batch = Batch(problem, count, seed, stream, threads)
    batch.start(np.arange(count) if episodes is None else episodes)
    if prepare is not None:
        prepare(batch)
    driver.begin(batch)
    recorder = _Recorder(problem, batch, record)
    score, effort = np.zeros(count), np.zeros(count)
    terms = np.zeros((count, len(problem.rewards)))
    ending, steps = np.full(count, TIME_UP), np.zeros(count, dtype=np.int64)
    success = np.zeros(count, dtype=np.bool_)
    value = np.zeros(count)
    span = np.maximum(np.abs(problem.low), np.abs(problem.high))
    for k in range(batch.limit):
        was = batch.running.copy()
        outcome = batch.step(driver.drive(batch, batch.observe()))
        score += outcome.reward
        terms += outcome.terms
        effort += was * np.abs(batch.commands / span).mean(axis=1)
        ended = was & ~batch.running
        ending[ended], success[ended] = outcome.ending[ended], outcome.success[ended]
        value[was] = batch.value[was]
        steps += was
        recorder.take(outcome.terms, was)
        if not batch.running.any() or (progress is not None and not progress((k + 1) / batch.limit)):
            break
    names = problem.ending_names
    return Trials(
        driver.name, seed, stream, score, success, ending, steps, terms, effort / np.maximum(steps, 1), names, value,
        batch.refused.copy(), recorder.recordings(driver.name, ending, success, steps),
    )  # fmt: skip


class _Company:
    """Several drivers in one batch, each with copies of its own: one run instead of many."""

    def __init__(self, drivers: Sequence[Driver]) -> None:
        self.name, self.drivers = "company", drivers

    def begin(self, batch: Batch) -> None:
        for driver in self.drivers:
            driver.begin(batch)

    def drive(self, batch: Batch, observations: Array) -> Array:
        each = batch.copies // len(self.drivers)
        commands = np.empty((batch.copies, len(batch.problem.commands)))
        for k, driver in enumerate(self.drivers):
            mine = slice(k * each, (k + 1) * each)
            commands[mine] = driver.drive(batch, observations)[mine]
        return commands


def run_company(
    problem: Problem,
    drivers: Sequence[Driver],
    *,
    seed: int,
    stream: str,
    count: int,
    record: Sequence[int] = (),
    progress: Callable[[float], bool] | None = None,
) -> dict[str, Trials]:
    """Several drivers on the same `count` episodes, by name: the same bits as `run_trials` for each, in one batch."""
    whole = run_trials(
        problem, _Company(drivers), seed=seed, stream=stream, count=count * len(drivers),
        episodes=np.tile(np.arange(count), len(drivers)), progress=progress,
        record=[k * count + r for k in range(len(drivers)) for r in record],
    )  # fmt: skip
    found = {}
    for k, driver in enumerate(drivers):
        mine = slice(k * count, (k + 1) * count)
        parts = {name: getattr(whole, name)[mine] for name in _BY_TRIAL}
        recordings = {r: replace(whole.recordings[k * count + r], driver=driver.name, episode=r) for r in record}
        found[driver.name] = replace(whole, driver=driver.name, recordings=recordings, **parts)
    return found


_BY_TRIAL = ("score", "success", "ending", "steps", "terms", "effort", "value", "refused")


class _Recorder:
    def __init__(self, problem: Problem, batch: Batch, record: Sequence[int]) -> None:
        self.problem, self.batch, self.record = problem, batch, list(record)
        self.rows: dict[str, list[Array]] = {
            k: []
            for k in ("position", "velocity", "observations", "commands", "terms", "target", "wind", "passed", "value")
        }
        self.contacts: list[list[Array]] = [[] for _ in self.record]
        self.target = None
        if problem.target is not None and self.record:
            self.target = batch.program(problem.target)
        if self.record:
            self.look()

    def look(self) -> None:
        batch, chosen = self.batch, self.record
        self.rows["position"].append(batch.plant.position[chosen])
        self.rows["velocity"].append(batch.plant.velocity[chosen])
        self.rows["observations"].append(batch.observe()[chosen])
        place = self.target.run().T[chosen] if self.target is not None else np.full((len(chosen), 3), np.nan)
        self.rows["target"].append(place)
        self.rows["wind"].append(batch.plant.winds[chosen, 0])
        self.rows["passed"].append(batch.gates.passed[chosen].copy() if batch.gates else np.zeros(len(chosen), int))
        self.rows["value"].append(batch.value[chosen])
        for column, copy in enumerate(chosen):
            self.contacts[column].append(batch.plant.contact_forces(copy))

    def take(self, terms: Array, was: Array) -> None:
        if not self.record or not was[self.record].any():
            return
        self.rows["commands"].append(self.batch.commands[self.record])
        self.rows["terms"].append(terms[self.record])
        self.look()

    def recordings(self, driver: str, ending: Array, success: Array, steps: Array) -> dict[int, Recording]:
        if not self.record:
            return {}
        stacked = {name: np.array(rows) for name, rows in self.rows.items()}
        found = {}
        for column, number in enumerate(self.record):
            length = int(steps[number])
            cut = {
                name: rows[: length if name in ("commands", "terms") else length + 1, column]
                for name, rows in stacked.items()
            }
            values = cut.pop("value")
            if self.batch.gates is None:
                cut.pop("passed")
            end = TIME_IS_UP if ending[number] == TIME_UP else self.problem.ending_names[ending[number]]
            found[number] = Recording(
                driver, self.batch.stream, self.batch.seed, int(self.batch.episode[number]), self.problem.sample_time,
                ending=end, success=bool(success[number]), scene=int(self.batch.plant.scene[number]),
                contacts=tuple(self.contacts[column][: length + 1]), value=float(values[-1]), **cut,
            )  # fmt: skip
        return found
