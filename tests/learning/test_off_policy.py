"""Methods that learn from a replay buffer: gradients, densities, targets, the buffer itself, exploration, and resuming."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from scipy import stats

from plucky_heron.errors import StateError
from plucky_heron.learning.exploration import Deviations, RandomStart
from plucky_heron.learning.method import METHODS, Experience, Space, make_method, settings_class
from plucky_heron.learning.network import ACTIVATIONS, Network
from plucky_heron.learning.replay import Replay, Rows
from plucky_heron.learning.squashed import spread_bias, squashed_draw

Array = np.ndarray
SPACE = Space(np.array([-1.0, -2.0, 0.0]), np.array([1.0, 2.0, 8.0]), np.array([-5.0, 0.0]), np.array([5.0, 1.0]))
OFF_POLICY = ("ddpg", "td3", "sac")
SMALL = {"hidden": [9, 8], "minibatch": 32, "random_start_steps": 64, "steps_per_round": 32, "replay_capacity": 4096}


def made(method: str, dtype: type = np.float64, **changes: Any) -> Any:
    """A method by itself."""
    from importlib import import_module

    where, name, _ = METHODS[method]
    settings = settings_class(method).model_validate(SMALL | changes)
    return getattr(import_module(where), name)(settings, SPACE, 16, 3, dtype=dtype)


def some_rows(count: int, generator: np.random.Generator, dtype: type = np.float64) -> Rows:
    """Random rows, as if drawn from a buffer."""

    def normal(*shape: int) -> Array:
        return generator.standard_normal(shape).astype(dtype)

    factor: Array = np.where(generator.random(count) < 0.2, 0.0, 0.97).astype(dtype)
    return Rows(
        normal(count, 3), normal(count, 3), np.tanh(normal(count, 2)), normal(count), factor, np.arange(count),
        generator.uniform(0.5, 1.0, count).astype(dtype),
    )  # fmt: skip


def numeric(function: Any, at: Array) -> Array:
    """Central differences of a number by a vector, changed in place."""
    slope = np.zeros_like(at)
    for k in range(len(at)):
        kept = at[k]
        at[k] = kept + 1e-6
        up = function()
        at[k] = kept - 1e-6
        slope[k] = (up - function()) / 2e-6
        at[k] = kept
    return slope


def close(found: Array, wanted: Array) -> None:
    """Equal to a millionth of the largest."""
    assert np.abs(wanted).max() > 1e-6
    assert np.abs(found - wanted).max() < 1e-6 * np.abs(wanted).max()


@pytest.mark.parametrize("activation", ACTIVATIONS)
@pytest.mark.parametrize("normalised", [False, True])
def test_gradient_of_a_network_by_parameters_and_inputs(activation: Any, normalised: bool) -> None:
    generator = np.random.default_rng(1)
    network = Network((3, 7, 6, 5, 2), activation, np.float64, normalised)
    parameters = np.zeros(network.count)
    network.initialise(parameters, generator, True, 1.0)
    parameters += 0.1 * generator.standard_normal(network.count)
    inputs, weights = generator.standard_normal((9, 3)), generator.standard_normal((9, 2))
    network.forward(parameters, inputs)
    by_parameters, by_inputs, alone = np.zeros(network.count), np.zeros((9, 3)), np.zeros((9, 3))
    network.backward(parameters, inputs, weights.copy(), by_parameters, by_inputs)
    network.forward(parameters, inputs)
    network.backward(parameters, inputs, weights.copy(), None, alone)

    def total() -> float:
        return float((network.forward(parameters, inputs) * weights).sum())

    close(by_parameters, numeric(total, parameters))
    flat = inputs.reshape(-1)
    close(by_inputs.reshape(-1), numeric(total, flat))
    np.testing.assert_array_equal(by_inputs, alone)


@pytest.mark.parametrize("activation", ACTIVATIONS)
def test_activations_in_single_precision_are_those_of_numpy(activation: Any) -> None:
    """One unit whose argument is swept far beyond where it saturates."""
    network = Network((1, 1, 1), activation)
    parameters = np.array([1, 0, 1, 0], dtype=np.float32)
    x = np.linspace(-90, 90, 20_001)
    shapes: dict[str, Callable[[np.ndarray], np.ndarray]] = {
        "tanh": np.tanh, "relu": lambda x: np.maximum(x, 0), "leaky relu": lambda x: np.where(x > 0, x, 0.01 * x),
        "elu": lambda x: np.where(x > 0, x, np.expm1(x)), "silu": lambda x: x / (1 + np.exp(-x)),
    }  # fmt: skip
    wanted = shapes[activation](x)
    found = network.forward(parameters, x[:, None].astype(np.float32))[:, 0]
    np.testing.assert_allclose(found, wanted, rtol=4e-6, atol=4e-7)


def still(learner: Any) -> Any:
    """Nothing moves, so that losses and gradients may be asked for again and again."""
    settings = learner.settings.model_copy(
        update={"learning_rate": 0.0, "actor_learning_rate": 0.0, "entropy_learning_rate": 0.0, "target_mix": 0.0}
    )
    learner.settings = learner.shared = settings
    return learner


def update(learner: Any, rows: Rows, noise: Array) -> None:
    """One update of everything with given noise."""
    learner.prepare(rows)
    if hasattr(learner, "smooth"):
        learner.smooth[...] = 0.1 * noise[0]
        learner.update_with(rows, True)
    else:
        learner.update_with(rows, noise)


@pytest.mark.parametrize("method", OFF_POLICY)
@pytest.mark.parametrize(
    "switches",
    [{"activation": "silu"}, {"layer_normalisation": True, "activation": "elu"}, {"hidden": [6], "activation": "tanh"}],
)
def test_gradient_of_the_critics(method: str, switches: dict[str, Any]) -> None:
    generator = np.random.default_rng(2)
    learner = still(made(method, reward_standardisation=False, **switches))
    rows, noise = some_rows(32, generator), generator.standard_normal((2, 32, 2))
    for critic in learner.critics:
        update(learner, rows, noise)
        found = critic.gradient.copy()

        def loss(critic: Any = critic) -> float:
            update(learner, rows, noise)
            return float(critic.figures[0])

        close(found, numeric(loss, critic.parameters))


@pytest.mark.parametrize("method", OFF_POLICY)
@pytest.mark.parametrize(
    "switches",
    [{"activation": "elu"}, {"layer_normalisation": True, "activation": "silu"}, {"hidden": [6], "activation": "tanh"}],
)
def test_gradient_of_the_policy(method: str, switches: dict[str, Any]) -> None:
    generator = np.random.default_rng(3)
    learner = still(made(method, last_layer_scale=1.0, reward_standardisation=False, **switches))
    rows, noise = some_rows(32, generator), generator.standard_normal((2, 32, 2))

    def loss() -> float:
        update(learner, rows, noise)
        return float(learner.figures()["policy_loss"])

    loss()
    found = learner.actor_gradient.copy()
    close(found, numeric(loss, learner.parameters))


def test_squashed_density_is_that_of_a_normal_through_tanh() -> None:
    """By the change of variables from SciPy's normal; and it sums to one over all commands."""
    generator = np.random.default_rng(4)
    outputs, noise = generator.standard_normal((50, 4)), generator.standard_normal((50, 2))
    commands, density, log_spread = squashed_draw(outputs, noise)
    drawn = outputs[:, :2] + np.exp(log_spread) * noise
    wanted = stats.norm.logpdf(drawn, outputs[:, :2], np.exp(log_spread)) - np.log(1 - np.tanh(drawn) ** 2)
    np.testing.assert_allclose(commands, np.tanh(drawn))
    np.testing.assert_allclose(density, wanted.sum(axis=1), rtol=1e-9)
    at = np.array([[0.3, spread_bias(-1.0)]])
    grid = np.linspace(-8, 8, 4001)
    unit = (grid - 0.3) / np.exp(-1.0)
    commands, density, log_spread = squashed_draw(np.repeat(at, len(grid), axis=0), unit[:, None])
    np.testing.assert_allclose(log_spread, -1.0)
    assert np.trapezoid(np.exp(density), commands[:, 0]) == pytest.approx(1.0, abs=1e-4)
    saturated, density, _ = squashed_draw(np.array([[60.0, 0.0]]), np.array([[1.0]]))
    assert saturated[0, 0] == 1.0 and np.isfinite(density[0])


def filled(
    steps: int, copies: int = 4, capacity: int = 400, priority: float = 0.0
) -> tuple[Replay, list[dict[str, Array]]]:
    """A buffer and, beside it, plain lists of what went in."""
    generator = np.random.default_rng(5)
    replay, plain = Replay(capacity, copies, 3, 2, priority), []
    for _ in range(steps):
        draw = generator.random(copies)
        row = {
            "observations": generator.standard_normal((copies, 3)), "commands": generator.uniform(-1, 1, (copies, 2)),
            "reward": generator.standard_normal(copies), "after": generator.standard_normal((copies, 3)), "ended": draw < 0.1,
            "cut": (draw >= 0.1) & (draw < 0.2),
        }  # fmt: skip
        replay.add(
            row["observations"],
            row["commands"],
            np.zeros(copies),
            Experience(row["reward"], row["after"], row["ended"], row["cut"]),
        )
        plain.append(row)
    return replay, plain


@pytest.mark.parametrize("steps", [60, 250])
@pytest.mark.parametrize("several", [1, 3, 7])
def test_returns_over_several_steps_are_those_of_the_double_loop(steps: int, several: int) -> None:
    """Also where the buffer has wrapped round, at endings, at time cuts, and at the newest step."""
    replay, plain = filled(steps)
    rows = replay.draw(500, np.random.default_rng(1), several, 0.9)
    kept = plain[-100:]
    first = steps - len(kept)
    seen = set()
    for i, entry in enumerate(rows.indices):
        t, b = int(entry) // 4, int(entry) % 4
        turn = t + 100 * ((steps - 1 - t) // 100)
        assert first <= turn < steps
        total, factor, at = 0.0, 1.0, turn
        for k in range(several):
            at = turn + k
            total += factor * plain[at]["reward"][b]
            factor *= 0.9
            if plain[at]["ended"][b] or plain[at]["cut"][b] or at == steps - 1:
                seen.add((bool(plain[at]["ended"][b]), bool(plain[at]["cut"][b]), at == steps - 1))
                break
        assert rows.reward[i] == pytest.approx(total, rel=1e-5, abs=1e-6)
        assert rows.factor[i] == pytest.approx(0.0 if plain[at]["ended"][b] else factor, rel=1e-6)
        np.testing.assert_allclose(rows.after[i], plain[at]["after"][b], rtol=1e-6)
        np.testing.assert_allclose(rows.observations[i], plain[turn]["observations"][b], rtol=1e-6)
    assert len(seen) >= 3


def test_every_row_of_the_buffer_is_drawn_equally_often() -> None:
    replay, _ = filled(50)
    counts, generator = np.zeros(200), np.random.default_rng(2)
    for _ in range(400):
        counts += np.bincount(replay.draw(100, generator, 1, 0.9).indices, minlength=200)
    assert stats.chisquare(counts).pvalue > 0.001


def test_priority_draws_in_proportion_and_is_corrected_without_bias() -> None:
    replay, _ = filled(50, priority=1.0)
    errors = np.linspace(0.1, 2.0, 200)
    replay.surprised(np.arange(200), errors)
    generator = np.random.default_rng(3)
    counts, weighted, norm = np.zeros(200), 0.0, 0.0
    for _ in range(500):
        rows = replay.draw(100, generator, 1, 0.9, evenness=1.0)
        counts += np.bincount(rows.indices, minlength=200)
        weighted += float((rows.weight * rows.indices).sum())
        norm += float(rows.weight.sum())
    np.testing.assert_allclose(counts / counts.sum(), errors / errors.sum(), atol=1.5e-3)
    assert weighted / norm == pytest.approx(99.5, rel=0.02)  # the even mean of the entries' numbers


def test_a_buffer_too_small_for_its_copies_is_refused() -> None:
    with pytest.raises(StateError, match="too small"):
        Replay(31, 16, 3, 2)


@pytest.mark.parametrize("kind", ["independent", "drifting", "held"])
def test_deviations_have_the_correlation_and_spread_they_promise(kind: Any) -> None:
    deviations = Deviations(kind, 400, 2, np.random.default_rng(1), memory=0.8, hold=5)
    drawn = np.array([deviations.draw() for _ in range(300)])
    assert drawn.std() == pytest.approx(1.0, abs=0.02)
    lag = (drawn[1:] * drawn[:-1]).mean()
    assert lag == pytest.approx({"independent": 0.0, "drifting": 0.8, "held": 0.8}[kind], abs=0.02)
    deviations.begin(np.arange(400) < 100)
    fresh = deviations.draw()
    assert abs((fresh[:100] * drawn[-1][:100]).mean()) < 0.25


def test_random_start_holds_commands_and_covers_the_range() -> None:
    start = RandomStart(20, 2, 1, 10)
    drawn = np.array([start.draw().copy() for _ in range(2000)])
    assert stats.kstest(drawn[::10].reshape(-1), stats.uniform(-1, 2).cdf).pvalue > 0.001
    changed = (drawn[1:, :, 0] != drawn[:-1, :, 0]).mean(axis=0)
    np.testing.assert_allclose(changed, 0.1, atol=0.01)


@pytest.mark.parametrize("method", OFF_POLICY)
def test_targets_bootstrap_time_limits_and_not_endings(method: str) -> None:
    """One row that ended, one that time cut, one that goes on: what the critics are to say, term by term."""
    learner = still(made(method, minibatch=3, reward_standardisation=False))
    generator = np.random.default_rng(6)
    rows, noise = some_rows(3, generator), generator.standard_normal((2, 3, 2))
    rows.factor[:] = 0.0, 0.97, 0.97
    update(learner, rows, noise)
    after = learner.after[:, :3].copy()
    if method == "sac":
        outputs = learner.actor.forward(learner.parameters, after)
        commands, density, _ = squashed_draw(outputs, noise[0])
        worth = -learner.weight * density
    else:
        commands = np.tanh(learner.actor.forward(learner.target, after))
        if method == "td3":
            commands = np.clip(commands + np.clip(0.1 * noise[0], -0.5, 0.5), -1, 1)
        worth = np.zeros(3)
    inputs = np.concatenate([after, commands], axis=1)
    worth = worth + np.min([c.network.forward(c.target, inputs)[:, 0].copy() for c in learner.critics], axis=0)
    wanted = rows.reward + np.array([0.0, 0.97, 0.97]) * worth
    for critic in learner.critics:
        np.testing.assert_allclose(critic.of(learner.state) - critic.errors, wanted, rtol=1e-9)


@pytest.mark.parametrize("steps", [60, 250])
def test_returns_of_all_rows_are_those_of_the_double_loop(steps: int) -> None:
    """What time cut, and what is not over yet, goes on with the mean reward of all rows that are no endings."""
    replay, plain = filled(steps)
    kept = plain[-100:]
    found = replay.returns(0.9)
    assert found.shape == (len(kept), 4)
    on = np.mean(np.concatenate([row["reward"][~row["ended"]] for row in kept])) / (1.0 - 0.9)
    for t in (0, 17, len(kept) - 1):
        for b in range(4):
            total, factor = 0.0, 1.0
            for row in kept[t:]:
                total += factor * row["reward"][b]
                factor *= 0.9
                if row["ended"][b]:
                    factor = 0.0
                if row["ended"][b] or row["cut"][b]:
                    break
            assert found[t, b] == pytest.approx(total + factor * on, rel=1e-5, abs=1e-5)


@pytest.mark.parametrize("method", OFF_POLICY)
@pytest.mark.parametrize("begun", [True, False])
def test_critics_begin_with_what_the_random_start_was_worth(method: str, begun: bool) -> None:
    """Where every sample costs 1 and the discount is 0.9, all states are worth -10."""
    learner = made(method, values_from_start=begun, discount=0.9, reward_standardisation=False, learning_rate=1e-9)
    generator = np.random.default_rng(0)
    nobody = np.zeros(16, dtype=np.bool_)
    while not learner.ready():
        seen = generator.uniform(-1, 1, (16, 3))
        learner.take(
            Experience(-np.ones(16), generator.uniform(-1, 1, (16, 3)), nobody, nobody, seen, learner.choose(seen))
        )
    learner.improve(0.0)
    said = np.array([[critic.of(learner.state).mean(), critic.said.mean()] for critic in learner.critics])
    np.testing.assert_allclose(said, -10.0 if begun else 0.0, atol=1.5)


@pytest.mark.parametrize("method", OFF_POLICY)
@pytest.mark.parametrize(("bounded", "most"), [(True, 10.0), (False, 90.0)])
def test_no_state_is_worth_more_than_the_best_reward_for_ever(method: str, bounded: bool, most: float) -> None:
    """Rewards of at most 1 at a discount of 0.9 come to 10 at most, endings of -4 to -20 going on; a critic that says 90 is not believed."""
    learner = made(method, value_bounds=bounded, discount=0.9, reward_standardisation=False, learning_rate=1e-9)
    generator = np.random.default_rng(0)
    for step in range(12):
        seen = generator.uniform(-1, 1, (16, 3))
        reward = np.linspace(-2.0, 1.0, 16) if step else np.full(16, -4.0)
        ended = np.full(16, step == 0)
        learner.take(
            Experience(reward, generator.uniform(-1, 1, (16, 3)), ended, ~ended & False, seen, learner.choose(seen))
        )
    for sign in (1.0, -1.0):
        for critic in learner.critics:
            critic.network.layers(critic.target)[-1][1][:] = 90.0 * sign
        learner.learn_once()
        said = np.array([critic.said for critic in learner.critics])
        wanted = most if sign > 0.0 else (-20.0 if bounded else -90.0)
        np.testing.assert_allclose(said, wanted, atol=1e-6 if bounded else 5.0)


@pytest.mark.parametrize("method", OFF_POLICY)
def test_a_checkpoint_from_before_value_bounds_is_taken_up(method: str) -> None:
    learner, other = made(method), made(method)
    kept = learner.keep()
    del kept["bounds"]
    other.restore(kept)
    np.testing.assert_array_equal(other.parameters, learner.parameters)


@pytest.mark.parametrize("counted", [True, False])
def test_entropy_to_come_is_reward_to_the_critics_or_is_not(counted: bool) -> None:
    """One and the same update with entropy weights of 0.1 and 10: what critics are to learn differs by 9.9 densities, or by nothing."""
    wanted = []
    for weight in (0.1, 10.0):
        learner = made(
            "sac",
            entropy_in_values=counted,
            entropy_weight_start=weight,
            last_layer_scale=1.0,
            reward_standardisation=False,
        )
        generator = np.random.default_rng(5)
        rows, noise = some_rows(32, generator), generator.standard_normal((2, 32, 2))
        learner.prepare(rows)
        outputs = learner.actor.forward(learner.parameters, learner.seen_after)
        density = squashed_draw(outputs, noise[0])[1].copy()
        before = learner.critics[0].of(learner.state).copy()
        learner.update_with(rows, noise)
        wanted.append(before - learner.critics[0].errors)
    np.testing.assert_allclose(wanted[1] - wanted[0], (-9.9 * rows.factor * density) if counted else 0.0, atol=1e-9)


@pytest.mark.parametrize("limited", [True, False])
def test_value_of_a_two_state_problem_is_exact(limited: bool) -> None:
    """Two states in turn, paid 1 and 0, discount 0.9: worth 1 / (1 - 0.81) and 0.9 times that, if cuts by time count.

    Were the cut an ending, three steps would be worth 1 + 0 + 0.81. The critic is asked to fit the targets exactly.
    """
    replay = Replay(4096, 2, 1, 1)
    for step in range(600):
        state = np.array([[step % 2], [(step + 1) % 2]], dtype=float)
        over = np.full(2, step % 3 == 2)
        cut, ended = (over, ~over & over) if limited else (~over & over, over)
        replay.add(state, np.zeros((2, 1)), np.zeros(2), Experience(1.0 - state[:, 0], 1.0 - state, ended, cut))
    values = np.zeros(2)
    generator = np.random.default_rng(1)
    if not limited:  # an ending every third step, whatever the state: half of a sixth each
        ended = np.array([np.mean(replay.over[replay.observations[:, 0] == s] == 1) for s in (0, 1)])
        np.testing.assert_allclose(ended[:2] > 0, True)
    for _ in range(200):
        rows = replay.draw(1024, generator, 1, 0.9)
        target = rows.reward + rows.factor * values[rows.after[:, 0].astype(int)]
        values = np.array([target[rows.observations[:, 0] == s].mean() for s in (0, 1)])
    if limited:
        np.testing.assert_allclose(values, [1 / (1 - 0.81), 0.9 / (1 - 0.81)], rtol=1e-4)
    else:
        assert values[0] < 0.8 / (1 - 0.81)


def episodes(learner: Any, generator: np.random.Generator, rounds: int) -> dict[str, float]:
    """Let a method act on random observations and learn; pays most at 0.6 of the first command's range."""
    health: dict[str, float] = {}
    for _ in range(rounds):
        while not learner.ready():
            seen = generator.uniform(-1, 1, (16, 3))
            commands = learner.choose(seen)
            reward = -((np.clip(commands[:, 0] / 5.0, -1, 1) - 0.6) ** 2)
            draw = generator.random(16)
            learner.take(
                Experience(
                    reward, generator.uniform(-1, 1, (16, 3)), draw < 0.5, (draw >= 0.5) & (draw < 0.6), seen, commands
                )
            )
        health = learner.improve(0.5)
    return health


@pytest.mark.parametrize("method", OFF_POLICY)
@pytest.mark.parametrize(
    "switches",
    [
        {}, {"priority": 0.6}, {"return_steps": 3}, {"update_after": "episode"}, {"observation_standardisation": False},
        {"reward_standardisation": False}, {"layer_normalisation": True}, {"gradient_limit": 1.0}, {"exploration_memory": 0.9},
        {"policy_average": 0.02, "reward_limit": 1.0, "learning_rate_share_end": 0.2},
    ],
)  # fmt: skip
def test_it_learns_the_best_command_with_every_switch(method: str, switches: dict[str, Any]) -> None:
    learner = made(method, np.float32, updates_per_step=0.5, learning_rate=3e-3, discount=0.5, **switches)
    generator = np.random.default_rng(0)
    health = episodes(learner, generator, 120)
    assert all(np.isfinite(v) for v in health.values())
    command = learner.policy().commands(generator.uniform(-1, 1, (64, 3)))[:, 0]
    assert (
        np.abs(command / 5.0 - 0.6).mean() < 0.3
    )  # 0.6 untrained; what follows is noise, which draws a little to all sides


@pytest.mark.parametrize("method", OFF_POLICY)
def test_resuming_is_exact_and_seeds_differ(method: str) -> None:
    """Kept in the middle, restored into a fresh object: the same bits from there on, the buffer included."""

    def learner(seed: int) -> Any:
        settings = settings_class(method).model_validate(
            SMALL | {"priority": 0.5, "exploration_memory": 0.5, "policy_average": 0.01}
        )
        return make_method(method, settings, SPACE, 16, seed)

    first, second, third = learner(1), learner(1), learner(2)
    generators = [np.random.default_rng(9) for _ in range(3)]
    for one, generator in zip((first, third), (generators[0], generators[2]), strict=True):
        episodes(one, generator, 4)
    second.restore(first.keep())
    generators[1].bit_generator.state = generators[0].bit_generator.state
    figures = [episodes(one, generator, 4) for one, generator in zip((first, second), generators[:2], strict=True)]
    assert figures[0] == figures[1]
    one, other = first.keep(), second.keep()
    assert one.keys() == other.keys()
    for name in one:
        np.testing.assert_array_equal(one[name], other[name], err_msg=name)
    episodes(third, generators[2], 4)
    assert not np.array_equal(third.keep()["parameters"], one["parameters"])


@pytest.mark.parametrize("method", OFF_POLICY)
def test_single_rewards_are_held_and_the_kept_policy_is_an_average(method: str) -> None:
    learner = made(method, np.float32, reward_limit=0.2, policy_average=0.1, random_start_steps=0)
    wanted = learner.parameters.copy()
    generator = np.random.default_rng(4)
    seen = generator.uniform(-1, 1, (learner.copies, 3))
    command = learner.choose(seen)
    pays = np.linspace(-5.0, 5.0, learner.copies)
    nobody = np.zeros(learner.copies, bool)
    learner.take(Experience(pays, generator.uniform(-1, 1, (learner.copies, 3)), nobody, nobody, seen, command))
    np.testing.assert_allclose(learner.replay.reward[: learner.copies], np.clip(pays, -0.2, 0.2), rtol=1e-6)
    assert np.abs(learner.running_return).max() <= 0.2
    for _ in range(6):
        learner.learn_once()
        wanted += np.float32(0.1) * (learner.parameters - wanted)
    network, kept = learner.policy_network()
    np.testing.assert_allclose(kept, learner.actor.narrowed(wanted, network), rtol=1e-5, atol=1e-7)
    assert np.abs(learner.actor.narrowed(learner.parameters, network) - kept).max() > 1e-4


def test_entropy_wanted_and_step_sizes_fall_with_the_budget() -> None:
    changes = {"entropy_per_command": -1.0, "entropy_per_command_end": -3.0, "learning_rate_share_end": 0.1}
    learner = made("sac", np.float32, **changes)
    found = []
    for progress in (0.0, 0.5, 1.0, 2.0):
        learner.progress = progress
        found.append((learner.wanted_entropy / learner.actions, learner.decayed(0.01)))
    np.testing.assert_allclose(found, [(-1, 0.01), (-2, 0.0055), (-3, 0.001), (-3, 0.001)])
    assert made("sac", np.float32, entropy_per_command=-1.0).wanted_entropy == -2.0


def test_two_threads_give_the_same_bits_as_one() -> None:
    settings = settings_class("sac").model_validate(
        {"minibatch": 256, "random_start_steps": 64, "replay_capacity": 4096}
    )
    kept = []
    for threads in (1, 2):
        learner = make_method("sac", settings, SPACE, 16, 1, threads)
        episodes(learner, np.random.default_rng(1), 3)
        kept.append(learner.keep()["parameters"])
    np.testing.assert_array_equal(kept[0], kept[1])


def test_predictions_are_compared_with_what_came() -> None:
    """An episode of three steps: predicted 5 each, discounted returns 1 + 0.9 * (1 + 0.9 * (1 + 0.9 * tail))."""
    replay = Replay(64, 2, 1, 1)
    for step in range(4):
        over = np.array([step == 3, False])
        replay.add(
            np.zeros((2, 1)),
            np.zeros((2, 1)),
            np.full(2, 5.0),
            Experience(np.ones(2), np.zeros((2, 1)), over & False, over | (step == 0)),
        )
    said, came, count = replay.realised(0, 0.9, 2.0)
    last = 1 + 0.9 * 2.0
    wanted = [last, 1 + 0.9 * last, 1 + 0.9 * (1 + 0.9 * last)]
    assert (said, count) == (15.0, 3) and came == pytest.approx(sum(wanted))


@pytest.mark.parametrize(("followed", "least", "most"), [(512, 0.3, 1.0), (100_000, 0.0, 0.05)])
def test_a_scale_frozen_on_one_corner_shows_as_inputs_at_their_limit(followed: int, least: float, most: float) -> None:
    """The machine stays in one corner first and leaves it later; a scale that still follows holds both."""
    generator = np.random.default_rng(4)
    learner = made("sac", np.float32, standardisation_steps=followed)
    nobody = np.zeros(16, dtype=bool)
    health: dict[str, float] = {}
    for step in range(512):
        width = 0.01 if step < 32 else 1.0
        seen, after = (generator.uniform(-width, width, (16, 3)) * SPACE.observation_high for _ in range(2))
        command = learner.choose(seen)
        learner.take(Experience(generator.standard_normal(16), after, nobody, nobody, seen, command))
        if learner.ready():
            health = learner.improve(step / 512)
    assert least <= health["inputs_at_limit"] <= most


@pytest.mark.parametrize("method", OFF_POLICY)
def test_a_policy_that_rests_stays_while_critics_learn(method: str) -> None:
    """Critics and their targets move from the first update on; the policy, its target and the entropy weight only after the rest."""
    agent = made(method, critic_only_steps=256)
    generator = np.random.default_rng(4)
    first = agent.parameters.copy()
    critic, target = agent.critics[0].parameters.copy(), agent.critics[0].target.copy()

    def walk(steps: int) -> None:
        for _ in range(steps // 16):
            seen = generator.uniform(-1, 1, (16, 3))
            command = agent.choose(seen)
            no = np.zeros(16, dtype=bool)
            agent.take(
                Experience(generator.standard_normal(16), generator.uniform(-1, 1, (16, 3)), no, no, seen, command)
            )
            while agent.ready():
                agent.improve(0.1)

    walk(224)
    assert agent.updates > 50
    assert (agent.critics[0].parameters != critic).any() and (agent.critics[0].target != target).any()
    np.testing.assert_array_equal(agent.parameters, first)
    if method == "sac":
        assert agent.log_weight[0] == np.log(agent.settings.entropy_weight_start)
    else:
        np.testing.assert_array_equal(agent.target, first)
    walk(128)
    assert (agent.parameters != first).any()
