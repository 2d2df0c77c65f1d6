"""What is said of each copy after a sample, against the same in NumPy."""

from __future__ import annotations

import numpy as np
import pytest

from plucky_heron.simulation import kernels
from plucky_heron.simulation.batch import ABSURD, GOING, TIME_UP


@pytest.mark.parametrize(("terms", "endings"), [(0, 0), (1, 1), (4, 3)])
@pytest.mark.parametrize("copies", [1, 7])
def test_rewards_endings_and_success(terms: int, endings: int, copies: int) -> None:
    r = np.random.default_rng(100 * terms + copies)
    weights, given_at = r.normal(size=terms), r.integers(-1, max(endings, 1), terms)
    holds, failure = r.integers(0, 3, endings), np.append(r.random(endings) < 0.5, True)
    held, settled = np.zeros((copies, endings), dtype=np.int64), np.zeros(copies, dtype=np.int64)
    wanted_held, wanted_settled, settle, over_at_all = held.copy(), settled.copy(), 2, set()
    for _ in range(60):
        # a joint that turns freely in space has four numbers of attitude and three of speed
        position, velocity = r.normal(size=(copies, 4)), r.normal(size=(copies, 3))
        results = np.where(
            r.random((2 + terms + endings + 1, copies)) < 0.3, 0.0, r.normal(size=(3 + terms + endings, copies))
        )
        for whole, bad in ((position, np.nan), (velocity, 2 * ABSURD), (velocity, np.nan), (results, -np.inf)):
            whole[r.random(whole.shape) < 0.02] = bad
        refused, running, late = r.random(copies) < 0.1, r.random(copies) < 0.8, r.random(copies) < 0.2
        got_terms, reward = np.full((terms, copies), np.nan), np.full(copies, np.nan)
        ending, (success, finite) = np.full(copies, 99), np.ones((2, copies), dtype=np.bool_)
        kernels.judge(
            position, velocity, ABSURD, results, 2, 2 + terms, 2 + terms + endings, weights, given_at, holds, failure, settle, late, refused,
            running, held, settled, got_terms, reward, ending, success, finite,
        )  # fmt: skip

        fine = np.isfinite(position).all(axis=1) & (np.abs(velocity) < ABSURD).all(axis=1)
        fine &= np.isfinite(results).all(axis=0) & ~refused
        met = results[2 + terms : 2 + terms + endings].T != 0.0
        wanted_held = np.where(met, wanted_held + 1, 0)
        over = np.where(late, TIME_UP, GOING)
        for number in reversed(range(endings)):
            over[wanted_held[:, number] > holds[number]] = number
        over[~fine] = endings
        over[~running] = GOING
        wanted_settled = np.where((results[-1] != 0.0) & fine, wanted_settled + 1, 0)
        with np.errstate(invalid="ignore"):
            paid = results[2 : 2 + terms].T * weights * np.where(given_at < 0, True, over[:, None] == given_at)
        paid[~(fine & running)] = 0.0
        won = (wanted_settled >= settle) & ~((over >= 0) & failure[np.maximum(over, 0)])
        np.testing.assert_array_equal(finite, fine)
        np.testing.assert_array_equal(ending, over)
        np.testing.assert_array_equal(held, wanted_held)
        np.testing.assert_array_equal(settled, wanted_settled)
        np.testing.assert_array_equal(success, won)
        np.testing.assert_array_equal(got_terms.T, paid)
        np.testing.assert_allclose(reward, paid.sum(axis=1), rtol=0, atol=1e-12)
        over_at_all |= set(over.tolist())
    if copies > 1:
        assert over_at_all == {GOING, TIME_UP, *range(endings + 1)}
