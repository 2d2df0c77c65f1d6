"""Stop rules replayed over recorded runs: where they would have ended each, what that saves, and what it loses."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.training.stopping import Course, StopRule, replay

Array = np.ndarray


@dataclass(frozen=True)
class Recorded:
    """A run as it is on record."""

    run: int
    batch: int
    seed: int
    course: Course
    kept: Array
    """Which evaluation's policy had been kept by each evaluation: more success first, then the score, (n,)."""

    @property
    def steps(self) -> int:
        """Control steps on record."""
        return int(self.course.step[-1])


def recorded(store: RunStore, rows: Sequence[RunRow]) -> list[Recorded]:
    """The courses of ended runs, with all their figures.

    Raises
    ------
    StateError
        None of them has ended with an evaluation after its first.
    """
    found = []
    for row in rows:
        course = Course(store.whole_course(row.id))
        if not row.alive and len(course) > 1 and course.step[-1] > 0:
            found.append(Recorded(row.id, row.batch, row.seed, course, kept_by(course)))
    if not found:
        raise StateError("no run among these has ended with evaluations to replay rules over; train first")
    return found


def kept_by(course: Course) -> Array:
    """The kept policy's evaluation after each evaluation, (n,): the first of the best, by success, then by score."""
    kept, best = np.zeros(len(course), dtype=np.int64), -1
    lost = course.not_finite()
    worth = list(zip(course.of("success").tolist(), course.of("score").tolist(), strict=True))
    for k in range(len(course)):
        if not lost[k] and (best < 0 or worth[k] > worth[best]):
            best = k
        kept[k] = max(best, 0)
    return kept


@dataclass(frozen=True)
class Replayed:
    """What rules would have made of one run."""

    run: int
    batch: int
    seed: int
    seen: int
    """Evaluations before it ends."""
    stopped_at: int
    by: str
    """Kind of the rule; "" where none acts while the recording lasts."""
    text: str
    kept_step: int
    saved_steps: int
    saved_seconds: float
    saved_share: float
    lost_success: float
    lost_score: float


FIGURES = ("saved_steps", "saved_seconds", "saved_share", "lost_success", "lost_score")
"""What is summarised over runs."""


def replay_run(rules: Sequence[StopRule], one: Recorded) -> Replayed:
    """Replay rules over one run."""
    seen, verdict = replay(rules, one.course)
    course, last = one.course, seen - 1
    here, best = int(one.kept[last]), int(one.kept[-1])
    success, score = course.of("success"), course.of("score")
    saved = one.steps - int(course.step[last])
    return Replayed(
        one.run, one.batch, one.seed, seen, int(course.step[last]), verdict.rule if verdict is not None else "",
        verdict.text if verdict is not None else "the recording ends before any of these rules acts", int(course.step[here]), saved,
        float(course.seconds[-1] - course.seconds[last]), saved / one.steps, float(success[best] - success[here]),
        float(score[best] - score[here]),
    )  # fmt: skip


@dataclass(frozen=True)
class Summary:
    """Median, quartiles and worst over runs, of each of `FIGURES`; the worst of what is saved is the least, of what is lost the most."""

    median: dict[str, float]
    quartiles: dict[str, tuple[float, float]]
    worst: dict[str, float]
    mean: dict[str, float]
    unknown: int
    """Runs whose recording ends before the rules act: what going on would have brought is not known."""


def summarise(replays: Sequence[Replayed]) -> Summary:
    """What rules do over several runs."""
    values = {name: np.array([float(getattr(r, name)) for r in replays]) for name in FIGURES}
    return Summary(
        {name: float(np.median(v)) for name, v in values.items()},
        {name: (float(np.percentile(v, 25)), float(np.percentile(v, 75))) for name, v in values.items()},
        {name: float(v.min() if name.startswith("saved") else v.max()) for name, v in values.items()},
        {name: float(v.mean()) for name, v in values.items()},
        sum(not r.by for r in replays),
    )


@dataclass(frozen=True)
class Pause:
    """A plateau that was followed by a real gain."""

    evaluations: int
    steps: int
    run: int
    gain: float


def longest_pause(runs: Sequence[Recorded], quantity: str, least: float, after: int = 0) -> Pause | None:
    """The longest stretch without a gain of `least` in the best so far that was followed by one; None where there was none.

    A rule of no more gain with fewer evaluations than that would have ended a run which still had something to gain.
    Evaluations before `after` steps do not count, as in the rule.
    """
    longest: Pause | None = None
    for one in runs:
        values, steps = one.course.of(quantity), one.course.step
        first = int(np.searchsorted(steps, after))
        level, since = values[0], 0
        for k in range(1, len(values)):
            if values[k] >= level + least:
                begins = max(since, first)
                if k > begins and (longest is None or k - begins > longest.evaluations):
                    longest = Pause(k - begins, int(steps[k] - steps[begins]), one.run, float(values[k] - level))
                level, since = values[k], k
    return longest
