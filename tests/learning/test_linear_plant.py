"""Every method on a plant whose optimum is known: within 5 % of the Riccati solution, with each seed that is tried."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from tests.learning.linear_plant import A, B, cost, learn, optimum

OFF_POLICY: dict[str, Any] = {
    "steps": 9000, "random_start_steps": 500, "standardisation_steps": 500, "random_hold": 2, "minibatch": 64, "target_mix": 0.02,
    "activation": "silu",
}  # fmt: skip
BUDGETS: dict[str, dict[str, Any]] = {
    "ppo": {"steps": 80_000, "copies": 32, "steps_per_update": 2048, "learning_rate": 3e-3},
    "a2c": {
        "steps": 300_000, "copies": 64, "steps_per_update": 2048, "learning_rate": 5e-3, "advantage_decay": 0.95, "gradient_limit": None,
        "observation_standardisation": False,
    },
    "ddpg": OFF_POLICY | {"steps": 16_000}, "td3": OFF_POLICY | {"steps": 14_000, "target_smoothing": 0.05, "policy_delay": 1}, "sac": OFF_POLICY,
    "model-based": OFF_POLICY | {
        "model_hidden": (48, 48), "ensemble_size": 3, "gaussian": False, "model_updates": 100, "horizon_end": 1, "real_share": 0.5,
        "rounds_kept": 4,
    },
    "random search": {"steps": 2_400_000, "copies": 256, "weight_spread": 1.5, "candidates": 256, "episodes": 1},
    "cross-entropy": {"steps": 60_000, "copies": 32},
    "evolution": {"steps": 350_000, "copies": 32, "hidden": (8,)},
}  # fmt: skip


SLOW = ("ddpg", "td3", "sac", "model-based", "a2c")


def test_the_optimum_is_better_than_its_neighbours() -> None:
    gains = optimum()
    best = cost(lambda x: -x @ gains.T)
    for change in ([[0.1, 0.0]], [[-0.1, 0.0]], [[0.0, 0.1]], [[0.0, -0.1]]):
        assert cost(lambda x, c=change: -x @ (gains + c).T) > best
    assert np.abs(np.linalg.eigvals(A - B @ gains)).max() < 1.0


SEEDS = [(method, seed) for method in BUDGETS for seed in range(1, 2 if method in SLOW else 3)]
"""Two seeds of what is fast, one of what is slow; ``benchmarks/linear_plant.py`` runs all five of every method."""


@pytest.mark.parametrize(("method", "seed"), SEEDS)
def test_every_method_comes_within_five_per_cent_of_the_optimum(method: str, seed: int) -> None:
    assert learn(method, seed, **BUDGETS[method]) <= 1.05
