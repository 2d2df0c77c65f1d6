"""Whether every form computes what the policy computes: vectors from real episodes, each form run on them."""

from __future__ import annotations

import numpy as np

from plucky_heron.handover.forms.catalogue import Made, run_form
from plucky_heron.learning.policy import Policy, PolicyDriver
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

Array = np.ndarray

VECTORS = 500
BEYOND_VECTORS = 10_000


def test_vectors(problem: Problem, policy: Policy) -> tuple[Array, Array]:
    """Sensor rows (500, observations) from whole episodes under the policy, and where an episode begins, bool (500,).

    Drawn evenly; for a policy that remembers, as they followed each other, the first rows of each episode.
    """
    trials = run_trials(
        problem, PolicyDriver(policy), seed=EVALUATION_SEED, stream="vectors", count=16, record=range(16)
    )
    episodes = [r.observations for r in trials.recordings.values()]
    if policy.memory:
        each = -(-VECTORS // len(episodes))
        episodes = [e[:each] for e in episodes]
    rows = np.concatenate(episodes)
    first: Array = np.zeros(len(rows), dtype=np.bool_)
    first[np.cumsum([0, *(len(e) for e in episodes[:-1])])] = True
    chosen = np.arange(min(VECTORS, len(rows))) if policy.memory else np.linspace(0, len(rows) - 1, VECTORS).astype(int)
    return np.asarray(rows[chosen, : len(problem.sensed)].astype(np.float32).astype(np.float64)), first[chosen]


def run_policy(policy: Policy, vectors: Array, first: Array) -> Array:
    """Commands of the policy itself, row by row where it remembers."""
    if not policy.memory:
        return policy.commands(vectors)
    state, rows = policy.blank(1), []
    for row, begins in zip(vectors, first, strict=True):
        commands, state = policy.step(row[None], policy.blank(1) if begins else state)
        rows.append(commands)
    return np.concatenate(rows)


def vectors_beyond(policy: Policy, low: Array, high: Array, seed: int = 4) -> tuple[Array, Array]:
    """Sensor rows (10 000, sensors) far from any episode: over three times the ranges, at their ends, at zero; and where episodes begin, bool."""
    generator = np.random.default_rng(seed)
    low, high = low[: policy.given], high[: policy.given]
    middle, half = 0.5 * (low + high), 0.5 * (high - low)
    rows = middle + half * generator.uniform(-3.0, 3.0, (BEYOND_VECTORS, policy.given))
    ends = generator.integers(0, 4, rows.shape)
    at_end = generator.random(rows.shape) < 0.1
    chosen = np.choose(
        ends, [np.broadcast_to(x, rows.shape) for x in (low, high, np.zeros_like(low), np.full_like(low, 1e-40))]
    )
    rows = np.where(at_end, chosen, rows)
    first: Array = np.arange(len(rows)) % 50 == 0
    return np.asarray(rows.astype(np.float32).astype(np.float64)), first


def check_forms(
    made: Made, vectors: Array, expected: Array, span: Array, first: Array | None = None
) -> dict[str, float]:
    """Largest difference of each form from `expected` (N, commands) at `vectors` (N, sensors), SI, as a share of the
    command range `span` (commands,); see `run_form` for `first`."""
    return {form: float((np.abs(run_form(made, form, vectors, first) - expected) / span).max()) for form in made.forms}
