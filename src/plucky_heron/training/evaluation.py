"""Evaluating a policy on fixed starts, and retesting the kept one on fresh starts."""

from __future__ import annotations

from typing import Any

import numpy as np

from plucky_heron.learning.policy import Policy, PolicyDriver
from plucky_heron.simulation.trials import Trials, run_trials
from plucky_heron.task.problem import NOT_FINITE, Problem
from plucky_heron.training.stop import Evaluation

EVALUATION_SEED = 1_000_003
"""Evaluations, rehearsals and proofs of all runs use the same starts, which no training draws."""
RETEST_EPISODES = 200


def evaluate(problem: Problem, policy: Policy, episodes: int, threads: int | None = None) -> Trials:
    """Run the mean command on the fixed evaluation starts."""
    return run_trials(
        problem, PolicyDriver(policy), seed=EVALUATION_SEED, stream="evaluation", count=episodes, threads=threads
    )


def retest(problem: Problem, policy: Policy, threads: int | None = None) -> dict[str, Any]:
    """Score and success on starts that took no part in choosing the policy."""
    trials = run_trials(
        problem, PolicyDriver(policy), seed=EVALUATION_SEED, stream="retest", count=RETEST_EPISODES, threads=threads
    )
    return {"episodes": RETEST_EPISODES, "success": float(trials.success.mean()), "score": float(trials.score.mean())}


def summarise(trials: Trials, step: int, seconds: float, episodes: int) -> tuple[Evaluation, dict[str, Any]]:
    """The evaluation's row, and its details: endings, pay by term, length, quartiles."""
    finite = bool(np.isfinite(trials.score).all()) and NOT_FINITE not in trials.tally()
    row = Evaluation(step, seconds, episodes, float(trials.score.mean()), float(trials.success.mean()), finite)
    quartiles = [float(q) for q in np.percentile(trials.score, (25, 50, 75))]
    details = {
        "endings": trials.tally(), "terms": [float(x) for x in trials.terms.mean(axis=0)], "quartiles": quartiles,
        "length": float(trials.steps.mean()),
    }  # fmt: skip
    return row, details
