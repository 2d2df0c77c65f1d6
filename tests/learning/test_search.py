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
    going = search.assigned != FREE
    for _ in range(rounds):
        while not search.ready():
            copies, _ = search.begin_episodes(~going)
            going[copies] = True
            seen = generator.uniform(-1, 1, (search.copies, 2))
            reward = np.where(going, -np.abs(search.choose(seen)[:, 0] - 2.0 * seen[:, 0]), 0.0)
            over = going & (generator.random(search.copies) < 0.2)
            search.take(Experience(reward, seen, over, np.zeros(search.copies, bool)))
            going &= ~over
        health.append(search.improve(len(health) / rounds))
    return health


@pytest.mark.parametrize("copies", [3, 64, 256])
def test_scores_do_not_lean_towards_what_is_soon_over(copies: int) -> None:
    """Half of all episodes bring 0 in one step, the others 1 in twenty: each candidate is worth one half, with any number of copies."""
    search = made("random search", copies=copies, candidates=32, episodes=8)
    seen, scores, begun = np.zeros((copies, 2)), [], set()
    going, left, pays = np.zeros(copies, bool), np.zeros(copies, int), np.zeros(copies)
    for round_ in range(6):
        while not search.ready():
            fresh, numbers = search.begin_episodes(~going)
            for copy, number in zip(fresh, numbers, strict=True):
                long = np.random.default_rng([9, number, search.assigned[copy]]).random() < 0.5
                left[copy], pays[copy], going[copy] = (20, 1.0, True) if long else (1, 0.0, True)
                begun.add((round_, int(number)))
            search.choose(seen)
            left -= going
            over = going & (left == 0)
            search.take(Experience(np.where(over, pays, 0.0), seen, over, np.zeros(copies, bool)))
            going &= ~over
        assert (search.given == 8).all() and (search.tried == 8).all() and not going.any()
        scores.extend(search.totals / search.tried)
        search.improve(0.0)
    # 1536 episodes: a standard error of 0.0128
    assert np.mean(scores) == pytest.approx(0.5, abs=0.05)
    assert len(begun) == 6 * 8, "all candidates of a round have the same eight starts, each round others"


def test_starts_of_their_own_where_that_is_wished() -> None:
    search = made("cross-entropy", copies=16, common_starts=False)
    _, numbers = search.begin_episodes(np.ones(16, bool))
    assert len(set(numbers.tolist())) == 16


def test_a_lost_simulation_is_never_worth_seeking() -> None:
    """Where every step costs, an episode that ends at once by blowing up would be the cheapest of all."""
    search = made("cross-entropy", copies=8, candidates=8, episodes=1, elite=0.3)
    search.begin_episodes(np.ones(8, bool))
    search.choose(np.zeros((8, 2)))
    bad = np.zeros(8, bool)
    bad[3] = True
    search.take(Experience(np.where(bad, 0.0, -5.0), np.zeros((8, 2)), np.zeros(8, bool), bad, lost=bad))
    for _ in range(3):
        search.take(Experience(np.where(bad, 0.0, -5.0), np.zeros((8, 2)), np.zeros(8, bool), np.zeros(8, bool)))
    search.take(Experience(np.where(bad, 0.0, -5.0 - np.arange(8)), np.zeros((8, 2)), ~bad, np.zeros(8, bool)))
    mine = search.assigned.copy()
    assert search.ready() and (mine == FREE).all()
    search.improve(0.0)
    scores = search.landscape().scores
    assert scores.min() == scores[3] == -32.0


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
