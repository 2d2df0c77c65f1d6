"""Evaluating a policy on fixed starts, and retesting the kept one on fresh starts."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from plucky_heron.learning.policy import Policy, PolicyDriver
from plucky_heron.simulation.trials import Trials, run_trials
from plucky_heron.task.problem import NOT_FINITE, Problem
from plucky_heron.training.stopping import Evaluation
from plucky_heron.training.stopping.evaluation import LENGTH, WORST

EVALUATION_SEED = 1_000_003
"""Evaluations, rehearsals and proofs of all runs use the same starts, which no training draws."""
RETEST_EPISODES = 200
BINS = 16


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


def retest(problem: Problem, policy: Policy, threads: int | None = None) -> dict[str, Any]:
    """Score and success on starts that took no part in choosing the policy."""
    trials = run_trials(
        problem, PolicyDriver(policy), seed=EVALUATION_SEED, stream="retest", count=RETEST_EPISODES, threads=threads
    )
    return {"episodes": RETEST_EPISODES, "success": float(trials.success.mean()), "score": float(trials.score.mean())}


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
    finite = bool(np.isfinite(trials.score).all()) and NOT_FINITE not in trials.tally()
    steps = float(trials.steps.mean())
    figures = {LENGTH: steps * sample_time, WORST: float(trials.score.min()), **health}
    figures = {name: value for name, value in figures.items() if math.isfinite(value)}
    row = Evaluation(step, seconds, episodes, float(trials.score.mean()), float(trials.success.mean()), finite, figures)
    quartiles = [float(q) for q in np.percentile(trials.score, (25, 50, 75))]
    details = {
        "endings": trials.tally(), "terms": [float(x) for x in trials.terms.mean(axis=0)], "quartiles": quartiles,
        "length": steps, "figures": figures,
    }  # fmt: skip
    return row, details
