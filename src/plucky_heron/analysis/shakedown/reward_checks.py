"""The reward, checked before training: endings, terms, scale, and whether doing the wrong thing is rewarded better."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from plucky_heron.analysis.shakedown.checks import LOOK, REHEARSAL_STREAM, Check, Seen
from plucky_heron.simulation.drivers import Loops
from plucky_heron.simulation.trials import Trials, run_trials
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import show

Array = np.ndarray

LOOPS = 200
"""Constant and periodic commands that are tried."""
_LOOP_COPY_STEPS = 150_000
"""Copies times commands that the trial may take; the most complicated machines get shorter episodes' worth of starts."""
LARGEST_SHARE = 0.6
TELLS_APART = 0.8
"""Share of pairs of a success and a failure in which the success has more of a term, from which the term leads to success."""
SCALE = (0.01, 10.0)
"""Size of the reward that a step should have, on average."""


def reward_checks(seen: Seen) -> Iterator[Check]:
    """All checks of the reward."""
    yield _endings(seen)
    yield _dominance(seen)
    yield _scale(seen)
    yield from _order(seen)
    yield _loops(seen)


def _endings(seen: Seen) -> Check:
    met = {name for t in seen.rehearsals.values() for name in t.tally()}
    missing = [name for name in seen.problem.task.endings if name not in met]
    total = sum(len(t.score) for t in seen.rehearsals.values())
    text = (
        f"nobody met {', '.join(missing)} in {total} episodes"
        if missing
        else f"every ending was met in {total} episodes"
    )
    return Check("endings are met", LOOK, not missing, text)


def _dominance(seen: Seen) -> Check:
    """No term is above 60 % of all that is given, whoever drives, unless it is the one that tells success from failure.

    A sensible task often has one large term, which is its goal: it is not to be made smaller. What is in the way is a large term that
    successes and failures are given alike.
    """
    name, task = "terms in balance", seen.problem.task
    terms = np.concatenate([t.terms for t in seen.rehearsals.values()])
    success = np.concatenate([t.success for t in seen.rehearsals.values()])
    steps = np.maximum(np.concatenate([t.steps for t in seen.rehearsals.values()]), 1)
    paid = np.abs(terms).mean(axis=0)
    share = paid / max(float(paid.sum()), 1e-12)
    top = int(np.argmax(share))
    names = list(task.rewards)
    text = f"{names[top]} is {100 * share[top]:.0f} % of what all drivers are rewarded"
    if share[top] <= LARGEST_SHARE or len(names) == 1:
        return Check(name, LOOK, True, text)
    if task.rewards[names[top]].when == "at ending":
        return Check(name, LOOK, True, f"{text}; it is rewarded once, where an episode ends")
    if not success.any() or success.all():
        return Check(
            name,
            LOOK,
            True,
            f"{text}; {'everyone' if success.any() else 'nobody'} succeeds, so that it cannot be told whether it leads there",
        )
    apart = _apart(terms[:, top] / steps, success)
    text += f"; successes are given more of it than failures in {100 * apart:.0f} % of pairs"
    return Check(name, LOOK, apart >= TELLS_APART, text)


def _apart(values: Array, success: Array) -> float:
    """Share of pairs of a success and a failure in which the success has more; half where they are equal."""
    good, bad = values[success][:, None], values[~success][None, :]
    return float((good > bad).mean() + 0.5 * (good == bad).mean())


def _scale(seen: Seen) -> Check:
    """Size of the reward of a step, on average."""
    paid = [
        float(np.abs(r.terms.sum(axis=1)).mean())
        for t in seen.rehearsals.values()
        for r in t.recordings.values()
        if r.steps
    ]
    typical = float(np.median(paid)) if paid else 0.0
    text = f"the reward of a step is {show(typical)} in size, of an episode up to {show(max(float(np.abs(t.score).max()) for t in seen.rehearsals.values()))}"
    only_once = all(r.when in ("at ending", "on event") for r in seen.problem.task.rewards.values())
    return Check("reward is of the size of 1", LOOK, SCALE[0] <= typical <= SCALE[1] or only_once, text)


def _order(seen: Seen) -> Iterator[Check]:
    """Success must be rewarded better than the rest, and the best driver better than nobody."""
    score = np.concatenate([t.score for t in seen.rehearsals.values()])
    success = np.concatenate([t.success for t in seen.rehearsals.values()])
    if success.any() and not success.all():
        good, bad = float(score[success].mean()), float(score[~success].mean())
        text = f"success scores {show(good)} on average, the rest {show(bad)}"
        yield Check("success is rewarded", LOOK, good > bad, text)
    else:
        text = (
            "everyone succeeds"
            if success.any()
            else "the rehearsals met no success: write a rule, or drive it yourself"
        )
        yield Check("success is rewarded", LOOK, False, text)
    able = [t for t in seen.rehearsals.values() if t.driver != "nobody" and t.success.any()]
    if able:
        nobody, best = seen.rehearsals["nobody"], max(able, key=lambda t: float(t.success.mean()))
        still, active = float(nobody.score.mean()), float(best.score.mean())
        passed = active > still or float(nobody.success.mean()) >= float(best.success.mean())
        yield Check(
            "standing still is rewarded less",
            LOOK,
            passed,
            f"nobody scores {show(still)}, {_the(best.driver)} {show(active)}",
        )


def _loops(seen: Seen) -> Check:
    """Going round in circles must not be rewarded better than doing it right: the best of 200 constant and periodic commands."""
    name = "no loop is rewarded better"
    problem = seen.problem
    first = Loops(problem, LOOPS, EVALUATION_SEED)
    starts = int(np.clip(_LOOP_COPY_STEPS // (LOOPS * problem.task.timing.steps), 1, 4))
    episodes = np.repeat(np.arange(starts), LOOPS)
    found = run_trials(
        problem, first, seed=EVALUATION_SEED, stream=REHEARSAL_STREAM, count=len(episodes), episodes=episodes
    )
    chosen = int(np.argmax(found.score.reshape(starts, LOOPS).mean(axis=0)))
    count = min(16, len(seen.best.score))
    best = run_trials(
        problem,
        Loops(problem, LOOPS, EVALUATION_SEED, chosen),
        seed=EVALUATION_SEED,
        stream=REHEARSAL_STREAM,
        count=count,
    )
    able = _able(seen)
    score = float(best.score.mean())
    loop = f"the best of {LOOPS} loops, {first.describe(chosen)}, scores {show(score)}"
    if able is None:
        return Check(name, LOOK, True, f"{loop}; nobody succeeds yet to compare it with")
    right = float(able.score[:count].mean())
    better = score > right and float(best.success.mean()) < float(able.success[:count].mean())
    return Check(name, LOOK, not better, f"{loop}, {_the(able.driver)} {show(right)}")


def _able(seen: Seen) -> Trials | None:
    """The driver that does best by the measure, if any does it at all."""
    able = max(seen.rehearsals.values(), key=lambda t: (float(t.success.mean()), float(t.score.mean())))
    return able if able.success.any() else None


def _the(driver: str) -> str:
    return driver if driver in ("nobody", "you") else f"the {driver}"
