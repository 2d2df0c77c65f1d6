"""The learner: gradients, advantages, standardisers, switches; all against independent computations."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy import stats

from plucky_heron.errors import FileError
from plucky_heron.learning.actor_critic import ActorCriticLoss, Minibatch, gaussian_log_density
from plucky_heron.learning.kernels import basic as kernels
from plucky_heron.learning.method import Experience, Space, make_method
from plucky_heron.learning.network import ACTIVATIONS, Network
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.ppo import ProximalPolicy, ProximalSettings
from plucky_heron.learning.running import RunningSpread

SPACE = Space(np.array([-1.0, -2.0, 0.0]), np.array([1.0, 2.0, 8.0]), np.array([-5.0, 0.0]), np.array([5.0, 1.0]))


def rows(count: int, observations: int, actions: int, generator: np.random.Generator) -> Minibatch:
    """A minibatch of random rows in float64."""
    normal = generator.standard_normal
    return Minibatch(
        normal((count, observations)),
        normal((count, actions)),
        -2.0 + 0.4 * normal(count),
        normal(count),
        normal(count),
        normal(count),
    )


@pytest.mark.parametrize("activation", ACTIVATIONS)
@pytest.mark.parametrize(
    "switches",
    [
        {}, {"ratio_limit": None}, {"ratio_limit": -1.0}, {"value_limit": 0.3},
        {"entropy_weight": 0.05, "value_weight": 2.0, "value_limit": 0.1}, {"hidden": (7,)}, {"hidden": (6, 5, 4)},
        {"layer_normalisation": True}, {"spread": "from the network", "entropy_weight": 0.05},
        {"shared_trunk": True, "value_limit": 0.2}, {"shared_trunk": True, "spread": "from the network", "layer_normalisation": True},
    ],
)  # fmt: skip
def test_gradient_of_the_whole_loss(activation: str, switches: dict[str, Any]) -> None:
    """Against central differences in float64, every parameter, relative error under 1e-6."""
    switches = dict(switches)
    limit = switches.pop("ratio_limit", 0.2) or 0.0
    settings = ProximalSettings.model_validate({"hidden": (9, 8), "activation": activation, **switches})
    loss = ActorCriticLoss(settings, 3, 2, np.float64, ratio_limit=limit)
    generator = np.random.default_rng(4)
    parameters = loss.initial(generator) + 0.05 * generator.standard_normal(loss.count)
    batch = rows(40, 3, 2, generator)
    loss(parameters, batch)
    analytic = loss.gradient.copy()
    numeric = np.zeros_like(analytic)
    for k in range(loss.count):
        step = np.zeros(loss.count)
        step[k] = 1e-6
        numeric[k] = (loss(parameters + step, batch)["loss"] - loss(parameters - step, batch)["loss"]) / 2e-6
    assert np.linalg.norm(analytic - numeric) / np.linalg.norm(numeric) < 1e-6
    assert np.abs(analytic - numeric).max() < 1e-6 * np.abs(numeric).max()


def test_log_density_is_that_of_independent_normals() -> None:
    generator = np.random.default_rng(1)
    mean, log_spread, drawn = (
        generator.standard_normal((6, 3)),
        np.array([-0.5, 0.2, 0.0]),
        generator.standard_normal((6, 3)),
    )
    found = gaussian_log_density((drawn - mean) / np.exp(log_spread), log_spread)
    np.testing.assert_allclose(found, stats.norm.logpdf(drawn, mean, np.exp(log_spread)).sum(axis=1), rtol=1e-12)


def test_advantages_equal_the_textbook_double_loop() -> None:
    generator = np.random.default_rng(2)
    steps, copies, discount, decay = 12, 5, 0.97, 0.9
    reward, value, after = generator.standard_normal((3, steps, copies))
    goes_on = (generator.random((steps, copies)) > 0.2).astype(float)
    found = np.zeros((steps, copies))
    kernels.advantages(reward, value, after, goes_on, discount, decay, found)
    for b in range(copies):
        for t in range(steps):
            total, factor = 0.0, 1.0
            for k in range(t, steps):
                total += factor * (reward[k, b] + discount * after[k, b] - value[k, b])
                factor *= discount * decay * goes_on[k, b]
                if factor == 0.0:
                    break
            assert found[t, b] == pytest.approx(total, rel=1e-12, abs=1e-12)


@pytest.mark.parametrize("bootstrap", [True, False])
def test_time_limits_are_bootstrapped_and_endings_are_not(bootstrap: bool) -> None:
    settings = ProximalSettings(
        steps_per_update=16,
        reward_standardisation=False,
        reward_limit=None,
        observation_standardisation=False,
        time_limit_bootstrap=bootstrap,
    )
    method = ProximalPolicy(settings, SPACE, 4, 1)
    generator = np.random.default_rng(0)
    last = generator.uniform(-1, 1, (4, 3))
    for t in range(4):
        method.choose(generator.uniform(-1, 1, (4, 3)))
        ended, cut = np.zeros(4, bool), np.zeros(4, bool)
        if t == 2:
            ended[1], cut[2] = True, True
        method.take(Experience(np.full(4, 0.5), last, ended, cut))
    values, returns, advantage, used = method.targets()
    assert used.all()
    np.testing.assert_allclose(returns, advantage + values)
    np.testing.assert_allclose(returns[2, 1], 0.5, rtol=1e-12)  # nothing follows a true ending
    after = method._value(last, np.ones(4, bool))
    np.testing.assert_allclose(returns[2, 2], 0.5 + (0.99 * after[2] if bootstrap else 0.0), rtol=1e-6)
    np.testing.assert_allclose(returns[3], 0.5 + 0.99 * after, rtol=1e-12)


def test_running_spread_equals_that_of_all_rows() -> None:
    generator = np.random.default_rng(3)
    parts = [generator.standard_normal((n, 2)) * 3 + 1 for n in (1, 7, 30, 2)]
    spread = RunningSpread(2)
    for part in parts:
        spread.update(part)
    everything = np.concatenate(parts)
    np.testing.assert_allclose(spread.mean, everything.mean(axis=0))
    np.testing.assert_allclose(spread.variance, everything.var(axis=0))
    again = RunningSpread(2)
    again.restore(spread.keep())
    np.testing.assert_array_equal(again.variance, spread.variance)


def test_adam_follows_its_paper_and_limits_the_norm() -> None:
    generator = np.random.default_rng(5)
    parameters = generator.standard_normal(6)
    wanted, mean, square = parameters.copy(), np.zeros(6), np.zeros(6)
    adam = Adam(6, np.float64)
    for k in range(1, 6):
        gradient = generator.standard_normal(6)
        norm = adam.step(parameters, gradient, 0.01, 0.5)
        assert norm == pytest.approx(np.linalg.norm(gradient))
        gradient = gradient * min(1.0, 0.5 / norm)
        mean, square = 0.9 * mean + 0.1 * gradient, 0.999 * square + 0.001 * gradient**2
        wanted -= 0.01 * (mean / (1 - 0.9**k)) / (np.sqrt(square / (1 - 0.999**k)) + 1e-7)
    np.testing.assert_allclose(parameters, wanted, rtol=1e-9)


def test_orthogonal_start_weights() -> None:
    network = Network((10, 32, 4))
    parameters = np.zeros(network.count, dtype=np.float32)
    network.initialise(parameters, np.random.default_rng(1), True, 0.01)
    (first, biases), (last, _) = network.layers(parameters)
    np.testing.assert_allclose(first @ first.T, (5 / 3) ** 2 * np.eye(10), atol=1e-5)
    np.testing.assert_allclose(last.T @ last, 1e-4 * np.eye(4), atol=1e-8)
    assert not biases.any()


SWITCHES = [
    {"observation_standardisation": False}, {"reward_standardisation": False, "reward_limit": None}, {"advantage_standardisation": False},
    {"ratio_limit": None, "kl_limit": None, "gradient_limit": None}, {"orthogonal_start": False, "schedule": "constant"},
    {"time_limit_bootstrap": False}, {"exploration_memory": 0.8},
]  # fmt: skip


@pytest.mark.parametrize("switches", SWITCHES)
def test_every_part_can_be_switched_off_alone_and_it_still_improves(switches: dict[str, Any]) -> None:
    """One-step problem with a known best command: pays most at 0.6 of the range of the first command."""
    settings = ProximalSettings.model_validate(
        {"steps_per_update": 512, "minibatch": 128, "discount": 0.5, "hidden": (16,), "learning_rate": 5e-3, **switches}
    )
    method = make_method("ppo", settings, SPACE, 64, 3)
    generator = np.random.default_rng(0)
    for _ in range(30):
        while not method.ready():
            commands = method.choose(generator.uniform(-1, 1, (64, 3)))
            reward = -((np.clip(commands[:, 0] / 5.0, -1, 1) - 0.6) ** 2)
            method.take(Experience(reward, generator.uniform(-1, 1, (64, 3)), np.ones(64, bool), np.zeros(64, bool)))
        health = method.improve(0.5)
    assert all(np.isfinite(v) for v in health.values())
    command = method.policy().commands(generator.uniform(-1, 1, (64, 3)))[:, 0]
    assert np.abs(command / 5.0 - 0.6).mean() < 0.15


def test_policy_is_kept_exactly_and_a_damaged_one_is_refused(tmp_path: Path) -> None:
    method = make_method("ppo", ProximalSettings(), SPACE, 4, 1)
    method.choose(np.ones((4, 3)))
    policy = method.policy()
    policy.save(tmp_path / "p.npz")
    again = Policy.load(tmp_path / "p.npz")
    given = np.random.default_rng(1).uniform(-3, 3, (9, 3))
    np.testing.assert_array_equal(policy.commands(given), again.commands(given))
    assert (again.commands(given * 1e6) <= SPACE.high).all()
    (tmp_path / "q.npz").write_bytes((tmp_path / "p.npz").read_bytes()[:200])
    with pytest.raises(FileError, match="damaged"):
        Policy.load(tmp_path / "q.npz")


def test_exploration_with_memory_is_an_autoregressive_process() -> None:
    """Its correlation is the memory, its spread that of the stationary process, and the kept density stays Gaussian."""
    settings = ProximalSettings(steps_per_update=256 * 64, exploration_memory=0.8, log_spread_start=-1.0)
    method = ProximalPolicy(settings, SPACE, 64, 5)
    still = np.zeros((64, 3))
    drawn = []
    for _ in range(200):
        command = method.choose(still)
        drawn.append(command[:, 0] / 5.0)
        method.take(Experience(np.zeros(64), still, np.zeros(64, bool), np.zeros(64, bool)))
    noise = np.array(drawn)[20:] - np.mean(drawn)
    correlation = (noise[1:] * noise[:-1]).mean() / noise.var()
    assert correlation == pytest.approx(0.8, abs=0.02)
    assert noise.std() == pytest.approx(np.exp(-1.0) / np.sqrt(1 - 0.8**2), rel=0.05)
    fresh = (
        method.rows["actions"][:200]
        - method.loss.actor.forward(method.parameters[method.loss.actor_part], method.rows["inputs"][0])[0]
    )
    log_spread = np.full(2, -1.0)
    wanted = stats.norm.logpdf(fresh, 0.0, np.exp(log_spread)).sum(axis=2)
    np.testing.assert_allclose(method.rows["log_density"][:200], wanted, atol=2e-3)
    method.take(Experience(np.zeros(64), still, np.ones(64, bool), np.zeros(64, bool)))
    assert not method.carried.any()  # a new episode begins without a past


def test_rewards_are_scaled_by_the_spread_of_the_discounted_return() -> None:
    settings = ProximalSettings(steps_per_update=64 * 50, discount=0.9, reward_limit=None)
    method = ProximalPolicy(settings, SPACE, 64, 1)
    generator = np.random.default_rng(2)
    totals, running = [], np.zeros(64)
    for t in range(50):
        method.choose(generator.uniform(-1, 1, (64, 3)))
        reward = generator.normal(2.0, 3.0, 64)
        running = 0.9 * running + reward
        totals.append(running.copy())
        ended = generator.random(64) < 0.1
        method.take(Experience(reward, np.zeros((64, 3)), ended, np.zeros(64, bool)))
        np.testing.assert_allclose(method.rows["reward"][t], reward / np.sqrt(np.var(totals) + 1e-8), rtol=1e-9)
        running[ended] = 0.0


def test_the_same_seed_gives_the_same_bits_and_another_does_not() -> None:
    def learn(seed: int) -> np.ndarray:
        method = make_method("ppo", ProximalSettings(steps_per_update=256, minibatch=64), SPACE, 16, seed)
        generator = np.random.default_rng(9)
        for _ in range(2):
            while not method.ready():
                method.choose(generator.uniform(-1, 1, (16, 3)))
                method.take(
                    Experience(generator.standard_normal(16), np.zeros((16, 3)), np.zeros(16, bool), np.zeros(16, bool))
                )
            method.improve(0.1)
        return method.keep()["parameters"]

    np.testing.assert_array_equal(learn(4), learn(4))
    assert not np.array_equal(learn(4), learn(5))


def test_passes_end_early_when_the_policy_moves_too_far() -> None:
    for limit, passes in ((1e-9, 1), (None, 6)):
        settings = ProximalSettings(steps_per_update=256, minibatch=64, passes=6, kl_limit=limit, learning_rate=0.01)
        method = ProximalPolicy(settings, SPACE, 16, 2)
        generator = np.random.default_rng(3)
        while not method.ready():
            method.choose(generator.uniform(-1, 1, (16, 3)))
            method.take(
                Experience(generator.standard_normal(16), np.zeros((16, 3)), np.ones(16, bool), np.zeros(16, bool))
            )
        assert method.improve(0.0)["passes"] == passes


@pytest.mark.parametrize(("schedule", "rate"), [("linear", 0.55e-3), ("constant", 1e-3)])
def test_step_size_follows_its_schedule(schedule: str, rate: float) -> None:
    settings = ProximalSettings.model_validate({"steps_per_update": 32, "minibatch": 16, "schedule": schedule})
    method = ProximalPolicy(settings, SPACE, 16, 2)
    for _ in range(2):
        method.choose(np.zeros((16, 3)))
        method.take(Experience(np.zeros(16), np.zeros((16, 3)), np.zeros(16, bool), np.zeros(16, bool)))
    assert method.improve(0.5)["learning_rate"] == pytest.approx(rate)
