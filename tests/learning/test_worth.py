"""What critics and policies say along an episode, against what they are made of."""

from __future__ import annotations

import numpy as np
import pytest

from plucky_heron.learning.method import Experience, Method, Space, make_method, settings_class
from plucky_heron.learning.residual import Residual
from plucky_heron.learning.worth import LooksAlong, discounted

SPACE = Space(np.full(3, -1.0), np.full(3, 1.0), np.array([-2.0, 0.0]), np.array([2.0, 5.0]))
T = 40


def fresh(method: str, **changes: object) -> Method:
    """A method by its standard settings, untrained."""
    return make_method(method, settings_class(method)(**changes), SPACE, 4, 1)


def episode(seed: int = 3) -> tuple[np.ndarray, np.ndarray]:
    """Observations (T + 1, 3) and commands (T, 2) of no machine in particular."""
    draws = np.random.default_rng(seed)
    return draws.uniform(-1.0, 1.0, (T + 1, 3)), draws.uniform([-2.0, 0.0], [2.0, 5.0], (T, 2))


def test_what_came_is_the_discounted_sum() -> None:
    rewards = np.random.default_rng(1).normal(size=30)
    found = discounted(rewards, 0.97, 4.0)
    for k in range(31):
        want = sum(0.97**n * r for n, r in enumerate(rewards[k:])) + 0.97 ** (30 - k) * 4.0
        assert found[k] == pytest.approx(want, rel=1e-12)


def test_the_spread_of_a_soft_policy_is_where_its_draws_lie() -> None:
    method = fresh("sac")
    method.parameters += np.random.default_rng(2).normal(0.0, 0.1, method.parameters.shape).astype(np.float32)
    observations, commands = episode()
    found = method.look_along(observations, commands)
    assert found.values.shape == (T + 1, 2) and found.low is not None and found.high is not None
    seen = np.repeat(method.inputs.of(observations[:1]).astype(np.float32), 20_000, axis=0)
    draws = method.explore(seen, np.random.default_rng(0).standard_normal((20_000, 2)))
    share = np.quantile(draws, [0.1587, 0.8413], axis=0)  # a standard deviation to either side of a normal draw
    middle, half = 0.5 * (SPACE.low + SPACE.high), 0.5 * (SPACE.high - SPACE.low)
    np.testing.assert_allclose((found.low[0] - middle) / half, share[0], atol=0.02)
    np.testing.assert_allclose((found.high[0] - middle) / half, share[1], atol=0.02)
    shares = np.concatenate(
        [(commands - middle) / half, method.best(method.inputs.of(observations[-1:]).astype(np.float32))]
    )
    both = np.concatenate([method.inputs.of(observations), shares], axis=1).astype(np.float32)
    for column, critic in enumerate(method.critics):
        np.testing.assert_allclose(found.values[:, column] * method.shared.value_scale, critic.of(both), rtol=1e-5)


def test_a_critic_that_remembers_is_led_through_the_episode() -> None:
    """The value of a sample depends on what went before; with nothing before it, it is that of a fresh start."""
    method = fresh("ppo", memory=8)
    observations, commands = episode()
    whole = method.look_along(observations, commands).values
    assert whole.shape == (T + 1, 1)
    later = method.look_along(observations[20:], commands[20:]).values
    assert abs(float(later[0, 0] - whole[20, 0])) > 1e-6
    part = method.look_along(observations[:21], commands[:20]).values
    np.testing.assert_allclose(part[:, 0], whole[:21, 0], rtol=1e-6, atol=1e-7)


@pytest.mark.parametrize("name", ["ppo", "sac", "td3"])
def test_values_are_in_the_units_of_the_reward(name: str) -> None:
    """A method whose rewards all were a hundred times as large says values a hundred times as large for the same critic."""
    observations, commands = episode()
    said = []
    for scale in (1.0, 100.0):
        method = fresh(name)
        draws = np.random.default_rng(5)
        for _ in range(30):
            before = draws.uniform(-1.0, 1.0, (4, 3))
            command = method.choose(before)
            nothing = np.zeros(4, dtype=np.bool_)
            method.take(Experience(scale * draws.normal(size=4), before, nothing, nothing, before, command))
        said.append(method.look_along(observations, commands).values)
    np.testing.assert_allclose(said[1], 100.0 * said[0], rtol=1e-3)


def test_a_correction_is_shown_about_its_base() -> None:
    base = np.array([[0.5, 0.0, 0.0, 0.2], [0.0, 1.0, 0.0, 2.0]])

    def corrected(name: str) -> Residual:
        return Residual(lambda space: make_method(name, settings_class(name)(), space, 4, 1), SPACE, base, 0.3)

    method = corrected("sac")
    observations, commands = episode()
    found = method.look_along(observations, commands)
    law = np.clip(observations @ base[:, :-1].T + base[:, -1], SPACE.low, SPACE.high)
    reach = 0.3 * 0.5 * (SPACE.high - SPACE.low)
    assert found.low is not None and found.high is not None and (found.low < found.high).all()
    assert (found.low >= law - reach - 1e-6).all() and (found.high <= law + reach + 1e-6).all()
    assert not isinstance(fresh("cross-entropy"), LooksAlong)
    assert corrected("cross-entropy").look_along(observations, commands).values.shape == (T + 1, 0)
