"""Searches over weights: fair judging, margins, mirrored perturbations, resuming."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from plucky_heron.learning.method import Experience, Space, make_method, settings_class
from plucky_heron.learning.search import FREE, Landscape, widest_margin

SPACE = Space(np.full(2, -1.0), np.full(2, 1.0), np.full(1, -3.0), np.full(1, 3.0))
SEARCHES = ("random search", "cross-entropy", "evolution")


def made(method: str, copies: int = 6, seed: int = 1, **changes: Any) -> Any:
    """A search by itself."""
    return make_method(
        method, settings_class(method).model_validate({"candidates": 8, "episodes": 2} | changes), SPACE, copies, seed
    )


def run(search: Any, generator: np.random.Generator, rounds: int) -> list[dict[str, float]]:
    """Episodes of random length; a step pays minus the distance of the command from twice the first observation."""
    health: list[dict[str, float]] = []
    for _ in range(rounds):
        while not search.ready():
            seen = generator.uniform(-1, 1, (search.copies, 2))
            reward = -np.abs(search.choose(seen)[:, 0] - 2.0 * seen[:, 0])
            search.take(Experience(reward, seen, generator.random(search.copies) < 0.2, np.zeros(search.copies, bool)))
        health.append(search.improve(len(health) / rounds))
    return health


def test_only_whole_episodes_of_one_candidate_count() -> None:
    """What a copy was in the midst of when the search began, or when a round ended, is nobody's."""
    search = made("random search", copies=2)
    seen = np.zeros((2, 2))

    def step(pay: float, over: bool) -> None:
        search.choose(seen)
        search.take(Experience(np.full(2, pay), seen, np.full(2, over), np.zeros(2, bool)))

    step(100.0, True)
    assert not search.tried.any() and (search.assigned == FREE).all()
    step(1.0, False)
    step(2.0, True)
    assert search.tried.sum() == 2 and set(search.totals[search.tried > 0]) == {3.0}
    while not search.ready():
        step(1.0, True)
    step(50.0, False)
    search.improve(0.0)
    step(50.0, True)
    assert not search.tried.any() and not search.totals.any()


@pytest.mark.parametrize("method", SEARCHES)
def test_it_finds_the_weights_that_pay(method: str) -> None:
    given: dict[str, Any] = {"hidden": (4,)} if method == "evolution" else {}
    search = made(method, copies=16, candidates=32, **given)
    run(search, np.random.default_rng(2), 60)
    seen = np.random.default_rng(3).uniform(-1, 1, (200, 2))
    missed = np.abs(search.policy().commands(seen)[:, 0] - 2.0 * seen[:, 0]).mean()
    assert missed < (0.3 if method != "random search" else 0.6)  # 1.0 by doing nothing
    past = search.landscape()
    assert len(past.scores) == 60 * 32 == len(past.weights) and np.isfinite(past.scores).all()


def test_widest_margin_prefers_the_middle_of_the_good_ground() -> None:
    """Good between 0 and 1, best at the very edge: the edge is not taken."""
    weights = np.linspace(-2, 3, 501)[:, None]
    good = (weights[:, 0] >= 0) & (weights[:, 0] <= 1)
    scores = np.where(good, 10 - weights[:, 0], 0.0)
    chosen = widest_margin(Landscape(weights, scores), good.mean())
    assert chosen[0] == pytest.approx(0.5, abs=0.02) and weights[np.argmax(scores), 0] == pytest.approx(0.0, abs=0.02)


def test_perturbations_are_mirrored_and_the_slope_is_that_of_a_linear_score() -> None:
    search = made("evolution", candidates=400, hidden=(2,), perturbation=0.01)
    half = len(search.noise)
    np.testing.assert_allclose(search.weights[:half] + search.weights[half:], 2 * search.kept[None].repeat(half, 0))
    slope = np.random.default_rng(1).standard_normal(search.network.count)
    before = search.kept.copy()
    search.judge(search.weights @ slope, 0.0)
    moved = search.kept - before
    assert np.mean(np.sign(moved) == np.sign(slope)) > 0.85


@pytest.mark.parametrize("method", SEARCHES)
def test_resuming_is_exact(method: str) -> None:
    first, second = made(method), made(method)
    generator, other = np.random.default_rng(4), np.random.default_rng(0)
    run(first, generator, 3)
    second.restore(first.keep())
    other.bit_generator.state = generator.bit_generator.state
    assert run(first, generator, 3) == run(second, other, 3)
    for name, value in first.keep().items():
        np.testing.assert_array_equal(value, second.keep()[name], err_msg=name)
