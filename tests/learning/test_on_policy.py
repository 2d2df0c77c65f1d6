"""What the methods of fresh steps gained: whole episodes, schedules, squashing, spread from the network, exact resuming."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError
from scipy import stats

from plucky_heron.errors import StateError
from plucky_heron.learning.actor_critic import LEAST_LOG_SPREAD, MOST_LOG_SPREAD, ActorCriticLoss, Minibatch
from plucky_heron.learning.kernels import on_policy as losses
from plucky_heron.learning.method import Experience, Space, make_method, settings_class
from plucky_heron.learning.ppo import ProximalSettings
from plucky_heron.task.commanding import to_shares

Array = np.ndarray
SPACE = Space(np.array([-1.0, -2.0, 0.0]), np.array([1.0, 2.0, 8.0]), np.array([-5.0, 0.0]), np.array([5.0, 1.0]))
SMALL = {"hidden": [16], "steps_per_update": 256, "minibatch": 64, "learning_rate": 5e-3, "discount": 0.5}


def made(method: str, copies: int = 8, seed: int = 3, **changes: Any) -> Any:
    """A method by itself."""
    return make_method(method, settings_class(method).model_validate(SMALL | changes), SPACE, copies, seed)


def played(learner: Any, generator: np.random.Generator, rounds: int) -> list[dict[str, float]]:
    """Random observations; pays most at 0.6 of the first command's range; episodes of random length, ended or cut."""
    health: list[dict[str, float]] = []
    for _ in range(rounds):
        while not learner.ready():
            commands = learner.choose(generator.uniform(-1, 1, (learner.copies, 3)))
            reward = -((np.clip(commands[:, 0] / 5.0, -1, 1) - 0.6) ** 2)
            draw = generator.random(learner.copies)
            learner.take(
                Experience(
                    reward, generator.uniform(-1, 1, (learner.copies, 3)), draw < 0.1, (draw >= 0.1) & (draw < 0.2)
                )
            )
        health.append(learner.improve(len(health) / rounds))
    return health


SWITCHES: list[dict[str, Any]] = [
    {}, {"update_after": "episodes"}, {"squashed": True}, {"spread": "from the network", "entropy_weight": 0.001}, {"shared_trunk": True},
    {"layer_normalisation": True, "activation": "silu"}, {"value_limit": 0.5}, {"memory": 6},
]  # fmt: skip


@pytest.mark.parametrize("method", ["ppo", "a2c"])
@pytest.mark.parametrize("switches", SWITCHES)
def test_it_learns_with_every_switch_and_resumes_exactly(method: str, switches: dict[str, Any]) -> None:
    first, second = made(method, **switches), made(method, **switches)
    generator, other = np.random.default_rng(0), np.random.default_rng(0)
    played(first, generator, 100 if method == "a2c" else 30)
    command = first.policy().commands(np.random.default_rng(5).uniform(-1, 1, (64, 3)))[:, 0]
    assert np.abs(command / 5.0 - 0.6).mean() < 0.3  # 0.6 untrained
    second.restore(first.keep())
    other.bit_generator.state = generator.bit_generator.state
    assert played(first, generator, 3) == played(second, other, 3)
    for name, value in first.keep().items():
        np.testing.assert_array_equal(value, second.keep()[name], err_msg=name)


def test_whole_episodes_are_learned_from_once_and_the_rest_waits() -> None:
    """Every row is learned from exactly once, in an episode that is over; returns are the discounted sums to its end."""
    learner = made(
        "a2c", copies=4, steps_per_update=64, update_after="episodes", reward_standardisation=False, advantage_decay=1.0
    )
    generator = np.random.default_rng(1)
    paid: list[list[float]] = [[] for _ in range(4)]
    wanted: list[float] = []
    found: list[float] = []
    step = 0.0
    for _ in range(5):
        while not learner.ready():
            learner.choose(generator.uniform(-1, 1, (4, 3)))
            reward = step + np.arange(4) * 0.1
            step = (step + 0.37) % 3.0
            over = generator.random(4) < 0.15
            learner.take(Experience(reward, np.zeros((4, 3)), over, np.zeros(4, bool)))
            for copy in range(4):
                paid[copy].append(float(reward[copy]))
                if over[copy]:
                    total, returns = 0.0, []
                    for r in reversed(paid[copy]):
                        total = r + 0.5 * total
                        returns.append(total)
                    wanted += returns
                    paid[copy] = []
        _, returns, _, used = learner.targets()
        found += returns[used].tolist()
        learner.improve(0.0)
        assert learner.filled.sum() == sum(map(len, paid))
    np.testing.assert_allclose(sorted(found), sorted(wanted), rtol=1e-6)


def test_the_step_size_follows_the_measured_change() -> None:
    """A tiny wish drives it down, a huge one up, by factors of 1.5."""
    for wish, factor in ((1e-6, 1 / 1.5), (1.0, 1.5)):
        learner = made("ppo", schedule="by change", kl_wanted=wish, learning_rate=1e-3, kl_limit=None)
        rates = [health["learning_rate"] for health in played(learner, np.random.default_rng(2), 4)]
        np.testing.assert_allclose(np.array(rates[1:]) / rates[:-1], factor)


def test_squashed_commands_stay_inside_and_their_policy_says_the_same() -> None:
    learner = made("ppo", squashed=True, log_spread_start=0.9)
    seen = np.random.default_rng(1).uniform(-1, 1, (8, 3))
    commands = np.array([learner.choose(seen) for _ in range(20) if not learner.filled.fill(0)])
    assert (commands > SPACE.low).all() and (commands < SPACE.high).all()
    means, _ = learner.loss.means_and_spreads(learner.parameters, learner.inputs.of(seen))
    middle, half = 0.5 * (SPACE.low + SPACE.high), 0.5 * (SPACE.high - SPACE.low)
    np.testing.assert_allclose(learner.policy().commands(seen), middle + half * np.tanh(means), rtol=1e-4, atol=1e-6)


def test_spread_from_the_network_starts_as_set_and_its_density_is_that_of_scipy() -> None:
    learner = made("ppo", spread="from the network", log_spread_start=-1.3)
    seen = np.random.default_rng(1).uniform(-1, 1, (8, 3))
    learner.choose(seen)
    means, log_spread = learner.loss.means_and_spreads(learner.parameters, learner.rows["inputs"][0])
    np.testing.assert_allclose(log_spread, -1.3, atol=0.05)
    wanted = stats.norm.logpdf(learner.rows["actions"][0], means, np.exp(log_spread)).sum(axis=1)
    np.testing.assert_allclose(learner.rows["log_density"][0], wanted, atol=1e-4)
    assert log_spread.min() > LEAST_LOG_SPREAD and log_spread.max() < MOST_LOG_SPREAD


def test_entropy_and_change_are_those_of_the_normal_distribution() -> None:
    """Entropy from SciPy; the estimated KL, over many draws, the closed form between two normals."""
    loss = ActorCriticLoss(settings_class("ppo").model_validate({"hidden": [4]}), 3, 2, np.float64, ratio_limit=0.2)  # type: ignore[arg-type]
    generator = np.random.default_rng(3)
    old = loss.initial(generator)
    new = old.copy()
    new[loss.spread_part] += 0.1
    new[loss.actor_part][-2:] += 0.05
    count = 200_000
    inputs = np.zeros((count, 3))
    means, log_spread = (x.copy() for x in loss.means_and_spreads(old, inputs))
    drawn = means + np.exp(log_spread) * generator.standard_normal((count, 2))
    density = stats.norm.logpdf(drawn, means, np.exp(log_spread)).sum(axis=1)
    from plucky_heron.learning.actor_critic import Minibatch

    figures = loss(new, Minibatch(inputs, drawn, density, np.ones(count), np.zeros(count), np.zeros(count)))
    s0, s1 = np.exp(log_spread[0]), np.exp(new[loss.spread_part])
    assert figures["entropy"] == pytest.approx(stats.norm.entropy(0, s1).sum(), rel=1e-9)
    closed = (np.log(s1 / s0) + (s0**2 + 0.05**2) / (2 * s1**2) - 0.5).sum()
    assert figures["kl"] == pytest.approx(closed, rel=0.05)


def test_a_shared_trunk_refuses_what_the_policy_must_not_see() -> None:
    hidden = Space(SPACE.observation_low, SPACE.observation_high, SPACE.low, SPACE.high, critic_only=1)
    with pytest.raises(StateError, match="shared_trunk"):
        make_method("ppo", settings_class("ppo").model_validate({"shared_trunk": True}), hidden, 4, 1)
    learner = make_method("ppo", settings_class("ppo").model_validate(SMALL), hidden, 8, 1)
    played(learner, np.random.default_rng(0), 2)
    assert learner.policy().sizes[0] == 2


def test_what_is_carried_counts_as_what_goes_out() -> None:
    """With a memory of 0.9 the spread of commands is 2.3 times that of a single draw; both figures say what was really commanded."""
    learner = made("ppo", copies=64, steps_per_update=64 * 300, exploration_memory=0.9, log_spread_start=-0.7, passes=1)
    given = []
    while not learner.ready():
        given.append(to_shares(SPACE.low, SPACE.high, learner.choose(np.zeros((64, 3)))))
        learner.take(Experience(np.zeros(64), np.zeros((64, 3)), np.zeros(64, bool), np.zeros(64, bool)))
    health = learner.improve(0.0)
    commands = np.array(given)
    assert health["at_limit"] == pytest.approx((np.abs(commands) >= 1.0).mean(), abs=1e-12)
    assert health["at_limit"] > 0.3
    late = commands[100:] - commands[100:].mean(axis=0)
    assert health["spread"] == pytest.approx(late.std(), rel=0.05)


def test_an_update_ends_within_a_pass_once_it_has_moved_far_enough() -> None:
    """A learning rate that is far too large moves the policy many limits in one pass, unless it is looked at on the way."""
    moved = {}
    for check in ("minibatch", "pass"):
        learner = made(
            "ppo",
            copies=8,
            steps_per_update=4096,
            minibatch=32,
            learning_rate=0.005,
            passes=4,
            kl_limit=0.02,
            kl_check=check,
        )
        generator = np.random.default_rng(0)
        seen = generator.uniform(-1, 1, (8, 3))
        while not learner.ready():
            command = learner.choose(seen)
            learner.take(Experience(-np.abs(command[:, 0] - 4.0), seen, generator.random(8) < 0.1, np.zeros(8, bool)))
            seen = generator.uniform(-1, 1, (8, 3))
        rows, _ = learner.batch()
        learner.improve(0.0)
        moved[check] = learner.loss(learner.parameters, rows)["kl"]
    assert moved["minibatch"] < 0.5 * moved["pass"] and moved["minibatch"] < 0.2


@pytest.mark.parametrize("method", ["ppo", "a2c"])
def test_a_schedule_never_rises(method: str) -> None:
    for rate in (1e-2, 3e-5):
        learner = made(method, learning_rate=rate)
        rates = [learner.scheduled_rate(p) for p in (0.0, 0.3, 1.0, 2.0)]
        assert rates == sorted(rates, reverse=True) and rates[-1] == pytest.approx(0.1 * rate)


def test_ends_from_before_they_were_shares_are_read_as_what_they_meant() -> None:
    schema = settings_class("ppo").model_validate
    assert schema({"learning_rate": 1e-3, "learning_rate_end": 3e-5}).learning_rate_share_end == pytest.approx(0.03)
    assert schema({"learning_rate_end": 1e-4}).learning_rate_share_end == pytest.approx(0.1)
    assert schema({"learning_rate": 3e-5, "learning_rate_end": 1e-4}).learning_rate_share_end == 1.0
    found = settings_class("td3").model_validate({"exploration_spread": 0.3, "exploration_spread_end": 0.06})
    assert found.exploration_spread_share_end == pytest.approx(0.2)
    with pytest.raises(ValidationError, match="learning_rate_end"):
        schema({"learning_rate_end": "fast"})


@pytest.mark.parametrize("update_after", ["steps", "episodes"])
def test_rows_before_a_lost_step_count_as_cut_there(update_after: str) -> None:
    """Advantages by hand: the lost row is no row, and its state's value stands for what nobody saw."""
    learner = made(
        "ppo", copies=1, steps_per_update=16, update_after=update_after, reward_standardisation=False, discount=0.9
    )
    seen = np.random.default_rng(2).uniform(-1, 1, (17, 1, 3))
    for t in range(16):
        learner.choose(seen[t])
        lost = np.array([t == 9])
        learner.take(
            Experience(
                np.where(lost, 0.0, 1.0 + t),
                np.where(lost[:, None], seen[t], seen[t + 1]),
                np.array([t == 15]),
                lost,
                lost=lost,
            )
        )
    values, _, advantage, used = learner.targets()
    assert used[:, 0].tolist() == [t != 9 for t in range(16)]
    v, wanted = values[:, 0], 0.0
    for t in range(8, -1, -1):
        wanted = 1.0 + t + 0.9 * v[t + 1] - v[t] + 0.9 * 0.95 * wanted
        assert advantage[t, 0] == pytest.approx(wanted, rel=1e-6)
    flat, _ = learner.batch()
    assert len(flat.inputs) == 15


@pytest.mark.parametrize(
    "changes",
    [
        {"beyond_weight": 0.7},
        {"value_huber": 0.3},
        {"beyond_weight": 0.7, "spread": "from the network", "shared_trunk": True, "value_huber": 0.3},
    ],
)
def test_the_gradient_of_what_is_added_to_the_loss_is_its_slope(changes: dict[str, Any]) -> None:
    settings = ProximalSettings.model_validate(SMALL | changes)
    loss = ActorCriticLoss(settings, 3, 2, np.float64, 0.2)
    generator = np.random.default_rng(1)
    parameters = loss.initial(generator)
    loss.actor.layers(parameters[loss.actor_part])[-1][1][:2] = 1.4, -1.3  # means beyond the limits
    inputs, means = generator.standard_normal((12, 3)), None
    means, spread = loss.means_and_spreads(parameters, inputs)
    drawn = means + 0.1 * generator.standard_normal((12, 2))
    unit = (drawn - means) / np.exp(spread)
    rows = Minibatch(
        inputs,
        drawn,
        (-0.5 * unit**2 - spread - 0.9189385332046727).sum(axis=1) + 0.05,
        generator.standard_normal(12),
        2.0 * generator.standard_normal(12),
        np.zeros(12),
    )
    plain = ActorCriticLoss(
        ProximalSettings.model_validate(SMALL | {k: v for k, v in changes.items() if k in ("spread", "shared_trunk")}),
        3,
        2,
        np.float64,
        0.2,
    )
    assert abs(loss(parameters, rows)["loss"] - plain(parameters, rows)["loss"]) > 0.01
    loss(parameters, rows)
    gradient = loss.gradient.copy()
    for k in generator.permutation(len(parameters))[:40]:
        moved = []
        for sign in (1.0, -1.0):
            other = parameters.copy()
            other[k] += sign * 1e-6
            moved.append(loss(other, rows)["loss"])
        assert gradient[k] == pytest.approx((moved[0] - moved[1]) / 2e-6, abs=2e-6, rel=1e-4)


def test_a_critic_with_its_own_learning_rate_learns_apart_and_more_often() -> None:
    apart: dict[str, Any] = {
        "critic_learning_rate": 1e-2,
        "critic_passes": 4,
        "critic_hidden": [8],
        "critic_layer_normalisation": True,
    }
    first, second = made("a2c", **apart), made("a2c", **apart)
    assert first.loss.critic.sizes == (3, 8, 1) and first.loss.critic.normalised and not first.loss.actor.normalised
    generator, other = np.random.default_rng(0), np.random.default_rng(0)
    seen: list[np.ndarray] = []
    alone = first.critic_alone

    def watched(*given: Any) -> None:
        seen.append(first.parameters.copy())
        alone(*given)
        seen.append(first.parameters.copy())

    first.critic_alone = watched
    health = played(first, generator, 40)
    moved = np.abs(seen[-1] - seen[-2]) > 0
    assert (
        moved[first.loss.critic_part].all()
        and not moved[first.loss.actor_part].any()
        and not moved[first.loss.spread_part].any()
    )
    assert first.critic_adam.count == 40 * (1 + 3 * 4) and health[-1]["critic_explains"] > health[0]["critic_explains"]
    second.restore(first.keep())
    first.critic_alone = alone
    other.bit_generator.state = generator.bit_generator.state
    assert played(first, generator, 2) == played(second, other, 2)
    with pytest.raises(StateError, match="no critic apart"):
        made("ppo", shared_trunk=True, critic_passes=3)


def test_a_row_that_the_policy_has_forgotten_pushes_no_more_and_leaves_no_denormal_number() -> None:
    """Densities e^-100 of what they were: their gradient, 1e-44, would make the way back ten times as slow; all other rows keep theirs."""
    generator = np.random.default_rng(3)
    outputs = generator.standard_normal((6, 2)).astype(np.float32)
    drawn = (outputs + 0.3 * generator.standard_normal((6, 2))).astype(np.float32)
    spread = np.zeros(2, np.float32)
    unit = drawn - outputs
    density = (-0.5 * unit**2 - losses.HALF_LOG_TWO_PI).sum(axis=1)
    change = np.array([0.0, -100.0, 0.1, -27.0, -95.0, -0.1])
    backs = []
    for floor in (True, False):
        back, by_spread = np.zeros((6, 2), np.float32), np.zeros(2, np.float32)
        old = (density - np.where(change < -50.0, change if floor else 0.0 * change, change)).astype(np.float32)
        losses.policy_loss(
            outputs, False, spread, -5.0, 2.0, drawn, old, np.ones(6, np.float32), 0.0, 0.0, 0.0, back, by_spread, np.zeros(6)
        )  # fmt: skip
        backs.append(back)
    forgotten = change < -50.0
    np.testing.assert_array_equal(backs[0][forgotten], 0.0)
    assert (backs[1][forgotten] != 0.0).all(), "the same rows, not forgotten"
    np.testing.assert_array_equal(backs[0][~forgotten], backs[1][~forgotten])
    assert (np.abs(backs[0][~forgotten]) > np.finfo(np.float32).tiny).all() and (backs[0][3] != 0.0).all()
