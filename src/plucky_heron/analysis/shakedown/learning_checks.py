"""What keeps a task from being learned, or makes it pointless, though nothing in it is wrong: checked on the rehearsals' recordings."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from plucky_heron.analysis.shakedown.checks import LOOK, Check, Seen
from plucky_heron.simulation.trials import Recording
from plucky_heron.units import show

Array = np.ndarray

EARNED = 0.9
"""Share of starts that may be met without doing anything in particular."""
FIXED_DRIVERS = ("nobody", "constant")
OUTWEIGHS = 10.0
"""How many times what an episode brings on its way an ending may be worth."""


def learning_checks(seen: Seen) -> Iterator[Check]:
    """All of these checks."""
    yield _earned(seen)
    yield _reward_changes(seen)
    yield _outweighs(seen)
    yield from _turns(seen)


def _earned(seen: Seen) -> Check:
    """Neither nobody nor a constant command succeeds already."""
    found = [(float(t.success.mean()), name) for name, t in seen.rehearsals.items() if name in FIXED_DRIVERS]
    share, name = max(found)
    who = "nobody" if name == "nobody" else "a constant command"
    text = f"{who} succeeds in {100 * share:.0f} % of the starts"
    return Check("success must be earned", LOOK, share < EARNED, text)


def _reward_changes(seen: Seen) -> Check:
    """The reward of a step depends on what is done: not one and the same number for everyone and always."""
    steps = np.concatenate([r.terms.sum(axis=1) for r in _recordings(seen) if r.steps] or [np.zeros(1)])
    scores = np.concatenate([t.score / np.maximum(t.steps, 1) for t in seen.rehearsals.values()])
    values = np.concatenate([steps, scores])
    size = float(np.abs(values).max())
    passed = bool(np.ptp(values) > 1e-9 * max(size, 1e-12))
    text = f"a step brings {show(float(steps.min()))} to {show(float(steps.max()))}"
    return Check("the reward changes", LOOK, passed, text if passed else f"{text}, whatever is done")


def _outweighs(seen: Seen) -> Check:
    """No ending is worth many times what an episode brings on its way: replay methods then learn little but that cliff."""
    name, rewards = "endings keep measure", seen.problem.task.rewards
    at_ending = np.array([r.when == "at ending" for r in rewards.values()], dtype=bool)
    if not at_ending.any() or at_ending.all():
        return Check(
            name, LOOK, True, "nothing is rewarded at endings" if not at_ending.any() else "all is rewarded at endings"
        )
    limit = seen.problem.task.timing.steps
    terms = np.concatenate([t.terms for t in seen.rehearsals.values()])
    steps = np.concatenate([t.steps for t in seen.rehearsals.values()])
    # as if each episode had gone on as it went
    way = float(np.median(np.abs(terms[:, ~at_ending].sum(axis=1)) / np.maximum(steps, 1) * limit))
    worth = np.abs(terms[:, at_ending]).max(axis=0)
    top = int(np.argmax(worth))
    ending = [n for n, one in zip(rewards, at_ending, strict=True) if one][top]
    if worth[top] == 0.0 or way == 0.0:
        return Check(name, LOOK, True, "no ending was met that is rewarded")
    text = f"{ending} is worth {show(float(worth[top]))}, a whole episode on its way {show(way)}"
    return Check(name, LOOK, bool(worth[top] <= OUTWEIGHS * way), text)


def _turns(seen: Seen) -> Iterator[Check]:
    """No angle jumps by a whole turn: a network cannot see that both sides of the jump are the same."""
    entries = seen.problem.entries
    for k, entry in enumerate(entries):
        if entry.si != "rad" or entry.shape != "value":
            continue
        jumps = [np.abs(np.diff(r.observations[:, k])) for r in _recordings(seen) if r.steps > 1]
        largest = max((float(j.max()) for j in jumps), default=0.0)
        if largest > 0.9 * 2.0 * np.pi:
            text = f"jumps by {show(largest, 'rad')} from one sample to the next: sense its sine and its cosine instead"
            yield Check(f"{entry.name} goes round", LOOK, False, text)


def regulator_checks(why: str) -> Iterator[Check]:
    """Whether a regulator can be made for what the task says it should hold; `why` not, or nothing."""
    if why:
        yield Check("regulator.hold", LOOK, False, f"no regulator can be made, and none drives: {why}")


def _recordings(seen: Seen) -> list[Recording]:
    return [r for t in seen.rehearsals.values() for r in t.recordings.values()]
