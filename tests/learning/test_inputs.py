"""From sensors to the inputs of networks: a floor under what hardly moved, and maps that move while networks stay."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from plucky_heron.learning.inputs import Inputs, carry_over
from plucky_heron.learning.method import Experience, Space, make_method, settings_class
from plucky_heron.learning.network import Network
from plucky_heron.learning.optimiser import Adam

SPACE = Space(np.array([-1.0, -2.0, 0.0]), np.array([1.0, 2.0, 8.0]), np.full(1, -1.0), np.full(1, 1.0))


def test_what_never_moved_in_training_does_not_saturate_on_a_small_shift() -> None:
    inputs = Inputs(SPACE, True, 5.0)
    still = np.tile([0.5, 0.0, 4.0], (1000, 1))
    inputs.update(still)
    moved = still[:1] + 0.0005 * np.array([[2.0, 4.0, 8.0]])  # half a thousandth of each range
    assert np.abs(inputs.of(moved)).max() == pytest.approx(0.1, rel=0.01)


@pytest.mark.parametrize("normalised", [False, True])
def test_a_network_says_on_the_new_map_what_it_said_on_the_old(normalised: bool) -> None:
    generator = np.random.default_rng(1)
    network = Network((5, 16, 16, 2), "silu", np.float64, normalised)
    parameters = np.zeros(network.count)
    network.initialise(parameters, generator, True, 1.0)
    old = (generator.uniform(-1, 1, 3), generator.uniform(0.5, 3, 3))
    new = (generator.uniform(-1, 1, 3), generator.uniform(0.5, 3, 3))
    raw, commands = generator.uniform(-1, 1, (20, 3)), generator.uniform(-1, 1, (20, 2))

    def said(of: tuple[np.ndarray, np.ndarray]) -> np.ndarray:
        return network.forward(parameters, np.concatenate([(raw - of[0]) * of[1], commands], axis=1)).copy()

    def slope(of: tuple[np.ndarray, np.ndarray]) -> np.ndarray:
        given, gradient = np.concatenate([(raw - of[0]) * of[1], commands], axis=1), np.zeros(network.count)
        network.forward(parameters, given)
        network.backward(parameters, given, np.ones((20, 2)), gradient)
        return gradient

    before, adam = said(old), Adam(network.count, np.float64)
    adam.mean[...] = slope(old)
    carry_over(network, parameters, old, new, adam)
    np.testing.assert_allclose(said(new), before, atol=1e-12)
    # the mean that the optimiser carries is that of the same loss by the new weights
    np.testing.assert_allclose(adam.mean, slope(new), atol=1e-9)


@pytest.mark.parametrize("method", ["sac", "td3", "ddpg"])
def test_the_map_follows_over_the_whole_budget_and_nothing_moves_under_the_networks(method: str) -> None:
    small: dict[str, Any] = {
        "hidden": [16],
        "minibatch": 16,
        "random_start_steps": 512,
        "replay_capacity": 8192,
        "steps_per_round": 64,
    }
    learner: Any = make_method(method, settings_class(method).model_validate(small), SPACE, 8, 1)
    generator = np.random.default_rng(0)
    follow, checked = learner.follow, []
    probe = generator.uniform([-0.4, -0.5, 3.0], [0.4, 0.5, 5.0], (32, 3))

    def worth() -> list[np.ndarray]:
        inputs = learner.inputs.of(probe)
        joined = np.concatenate([inputs, np.zeros((32, 1), np.float32)], axis=1)
        return [learner.best(inputs).copy(), learner.critics[0].of(joined).copy()]

    def watched() -> None:
        old, before = learner.inputs.affine(), worth()
        follow()
        checked.append((old, learner.inputs.affine(), before, worth(), learner.updates))

    learner.follow = watched
    narrow = 1.0
    for _ in range(700):
        narrow *= 0.997  # what is met draws together as it learns
        seen = generator.uniform([-1, -2, 0], [1, 2, 8], (8, 3)) * narrow + (1 - narrow) * np.array([0.0, 0.0, 4.0])
        command = learner.choose(seen)
        learner.take(
            Experience(-np.abs(command[:, 0]), seen, generator.random(8) < 0.05, np.zeros(8, bool), seen, command)
        )
        while learner.ready():
            learner.improve(0.1)
    assert len(checked) >= 4 and checked[-1][4] > 0
    for old, new, before, after, updates in checked:
        if updates:
            assert (new[1] > 1.02 * old[1]).any(), "the map did follow"
            for a, b in zip(before, after, strict=True):
                np.testing.assert_allclose(a, b, atol=2e-4)
