"""Whether what a task says of its mirror holds in what the rehearsals met."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from plucky_heron.analysis.shakedown.checks import LOOK, Check, Seen
from plucky_heron.task.mirror import Mirror
from plucky_heron.task.observed_reward import ObservedReward

Array = np.ndarray

UNLIKE = 0.1
"""Share of how an observation changes that the mirror may leave unexplained: a linear fit to crooked motion is never quite alike."""
_FEWEST = 200


def mirror_checks(seen: Seen) -> Iterator[Check]:
    """One check of how it moves, one of the reward; none where the task states no mirror."""
    mirror = seen.problem.mirror
    if mirror is None:
        return
    recordings = [r for t in seen.rehearsals.values() for r in t.recordings.values() if r.steps > 1]
    if not recordings:  # every start ends at once: a check of its own says so
        return
    before, after = (np.concatenate([r.observations[k : r.steps - 1 + k] for r in recordings]) for k in (0, 1))
    commands = np.concatenate([r.commands[: r.steps - 1] for r in recordings])
    finite = np.isfinite(np.concatenate([before, commands, after], axis=1)).all(axis=1)
    before, commands, after = before[finite], commands[finite], after[finite]
    yield _moves_alike(seen, mirror, before, commands, after)
    yield _rewards_alike(seen, mirror, before, commands, after)


def _moves_alike(seen: Seen, mirror: Mirror, before: Array, commands: Array, after: Array) -> Check:
    """Two linear fits of the change of every observation, to what was met and to the same in the mirror, must foresee alike."""
    name = "moves alike in the mirror"
    if len(before) < _FEWEST:
        return Check(name, LOOK, True, f"only {len(before)} steps to judge by")

    def columns(observations: Array, given: Array) -> Array:
        return np.column_stack([np.ones(len(given)), observations, given])

    here, there = columns(before, commands), columns(mirror.observations(before), mirror.commands(commands))
    change, turned = after - before, mirror.observations(after) - mirror.observations(before)
    scale = np.abs(here).max(axis=0) + 1e-12
    fits = [np.linalg.lstsq(x / scale, y, rcond=None)[0] for x, y in ((here, change), (there, turned))]
    apart = np.square(here / scale @ (fits[0] - fits[1])).mean(axis=0)
    share = apart / np.maximum(np.square(here / scale @ fits[0]).mean(axis=0), 1e-18)
    told = np.square(here / scale @ fits[0]).mean(axis=0) > 0.1 * np.square(change).mean(axis=0)  # the rest is noise
    share = np.where(told, share, 0.0)
    worst = int(np.argmax(share))
    entry = seen.problem.entries[worst].name
    text = f"{entry} differs most: {min(100 * share[worst], 100):.0f} % of its motion{' or more' if share[worst] > 1 else ''}"
    return Check(name, LOOK, bool(share[worst] <= UNLIKE), text)


def _rewards_alike(seen: Seen, mirror: Mirror, before: Array, commands: Array, after: Array) -> Check:
    """What follows from observations alone must be rewarded the same on both sides."""
    judge = ObservedReward(seen.problem)
    name = "rewards are alike in the mirror"
    if not judge.terms or not len(before):
        return Check(name, LOOK, True, "no term follows from what is observed alone")
    paid, ended = judge.judge(before, commands, after)
    other, over = judge.judge(mirror.observations(before), mirror.commands(commands), mirror.observations(after))
    apart = float(np.abs(paid - other).max())
    span = max(float(np.ptp(paid)), 1e-12)
    unlike = int((ended != over).sum())
    terms = ", ".join(judge.terms)
    if unlike:
        return Check(name, LOOK, False, f"{unlike} of {len(paid)} steps end on one side alone")
    return Check(
        name, LOOK, apart <= 1e-6 * span, f"{terms}: at most {100 * apart / span:.2g} % apart over {len(paid)} steps"
    )
