"""Evaluating a policy on fixed starts, and retesting the kept one on fresh starts."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from plucky_heron.learning.policy import Policy, PolicyDriver
from plucky_heron.simulation.trials import Trials, run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.stopping import Evaluation
from plucky_heron.training.stopping.evaluation import LENGTH, WORST

EVALUATION_SEED = 1_000_003
"""Evaluations, rehearsals and proofs of all runs use the same starts, which no training draws."""
RETEST_EPISODES = 200
BINS = 16
LOST_SHARE = 0.25
"""Share of an evaluation's episodes lost to the simulation from which the run counts as not finite any more."""


def evaluate(problem: Problem, policy: Policy, episodes: int, threads: int | None = None) -> Trials:
    """Run the mean command on the fixed evaluation starts."""
    return run_trials(
        problem, PolicyDriver(policy), seed=EVALUATION_SEED, stream="evaluation", count=episodes, threads=threads
    )


def untrained(problem: Problem, policy: Policy) -> dict[str, Any]:
    """Where the commands of a policy that learned nothing yet lie: a bad start shows here.

    For each command its histogram over the range (shares of `BINS` equal parts), and the share within 1 % of a limit.
    """
    trials = run_trials(
        problem,
        PolicyDriver(policy),
        seed=EVALUATION_SEED,
        stream="evaluation",
        count=8,
        record=list(range(8)),
        threads=1,
    )
    given = np.concatenate([r.commands for r in trials.recordings.values()])
    shares = np.clip((given - problem.low) / (problem.high - problem.low), 0.0, 1.0)
    return {
        command.name: {
            "histogram": (np.histogram(share, BINS, (0.0, 1.0))[0] / len(share)).tolist(),
            "at_limit": float(((share < 0.01) | (share > 0.99)).mean()),
        }
        for command, share in zip(problem.commands, shares.T, strict=True)
    }  # fmt: skip


def retest(
    problem: Problem, policy: Policy, threads: int | None = None, episodes: int = RETEST_EPISODES
) -> dict[str, Any]:
    """Score and success on starts that took no part in choosing the policy."""
    trials = run_trials(
        problem, PolicyDriver(policy), seed=EVALUATION_SEED, stream="retest", count=episodes, threads=threads
    )
    scores, _ = scores_of(trials)
    return {"episodes": episodes, "success": float(trials.success.mean()), "score": float(scores.mean())}


def scores_of(trials: Trials) -> tuple[np.ndarray, np.ndarray]:
    """Scores (trials,), and which of them the simulation lost: these get no more than the worst of the others.

    Where steps cost something a lost episode would else be the best of all.
    """
    lost = trials.ending == len(trials.ending_names) - 1
    if not lost.any() or lost.all():
        return trials.score, lost
    return np.where(lost, np.minimum(trials.score, trials.score[~lost].min()), trials.score), lost


def summarise(
    trials: Trials, step: int, seconds: float, episodes: int, sample_time: float, health: Mapping[str, float]
) -> tuple[Evaluation, dict[str, Any]]:
    """The evaluation's row, and its details: endings, reward by term, length in control steps, quartiles, figures.

    Parameters
    ----------
    sample_time
        Seconds of a control step.
    health
        Means of the method's health figures since the last evaluation.
    """
    scores, lost = scores_of(trials)
    finite = bool(np.isfinite(scores).all()) and not trials.refused.any() and lost.mean() < LOST_SHARE
    steps = float(trials.steps.mean())
    figures = {LENGTH: steps * sample_time, WORST: float(scores.min()), **health}
    figures = {name: value for name, value in figures.items() if math.isfinite(value)}
    row = Evaluation(step, seconds, episodes, float(scores.mean()), float(trials.success.mean()), finite, figures)
    quartiles = [float(q) for q in np.percentile(scores, (25, 50, 75))]
    details = {
        "endings": trials.tally(), "terms": [float(x) for x in trials.terms.mean(axis=0)], "quartiles": quartiles,
        "length": steps, "figures": figures,
    }  # fmt: skip
    return row, details
