"""The ensemble and what is built on it: gradients, recovery of a known linear system, model rollouts, resuming."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from plucky_heron.learning.ensemble import Ensemble, Foreseen, Member, held_out
from plucky_heron.learning.method import Experience, Space, make_method, settings_class
from plucky_heron.learning.replay import CUT, ENDED, Replay

Array = np.ndarray
A = np.array([[0.95, 0.1], [-0.1, 0.9]])
B = np.array([[0.0], [0.3]])


def linear_steps(steps: int, copies: int = 8) -> Replay:
    """A buffer of a known linear system with a quadratic reward; an episode ends where the first value passes 1."""
    generator = np.random.default_rng(1)
    replay = Replay(steps * copies, copies, 2, 1)
    state = generator.uniform(-1, 1, (copies, 2))
    for step in range(steps):
        command = generator.uniform(-1, 1, (copies, 1))
        after = state @ A.T + command @ B.T
        ended = np.abs(after[:, 0]) > 1.0
        cut = np.full(copies, step % 15 == 14) & ~ended
        reward = -np.square(state).sum(axis=1)
        replay.add(state, command, np.zeros(copies), Experience(reward, after, ended, cut))
        state = np.where((ended | cut)[:, None], generator.uniform(-1.4, 1.4, (copies, 2)), after)
    return replay


@pytest.mark.parametrize("gaussian", [True, False])
@pytest.mark.parametrize("activation", ["tanh", "silu", "elu"])
def test_gradient_of_a_member(gaussian: bool, activation: Any) -> None:
    generator = np.random.default_rng(2)
    member = Member(3, 4, (7, 6), activation, gaussian, np.float64)
    member.network.initialise(member.parameters, generator, True, 1.0)
    inputs, wanted = generator.standard_normal((15, 3)), generator.standard_normal((15, 4))
    ended = (generator.random(15) < 0.3).astype(float)
    member.loss(inputs, wanted, ended)
    found, numeric = member.gradient.copy(), np.zeros_like(member.gradient)
    for k in range(len(numeric)):
        kept = member.parameters[k]
        member.parameters[k] = kept + 1e-6
        up = member.loss(inputs, wanted, ended)
        member.parameters[k] = kept - 1e-6
        numeric[k] = (up - member.loss(inputs, wanted, ended)) / 2e-6
        member.parameters[k] = kept
    assert np.abs(found - numeric).max() < 1e-6 * np.abs(numeric).max()


def test_likelihood_is_that_of_scipy() -> None:
    from scipy import stats

    generator = np.random.default_rng(3)
    member = Member(3, 4, (5,), "tanh", True, np.float64)
    member.network.initialise(member.parameters, generator, True, 1.0)
    inputs, wanted, ended = generator.standard_normal((9, 3)), generator.standard_normal((9, 4)), np.zeros(9)
    found = member.loss(inputs, wanted, ended)
    means, log_spread, odds = member.split(member.network.forward(member.parameters, inputs))
    np.testing.assert_array_equal(log_spread[:, -1], 0.0)  # the reward has none
    likelihood = stats.norm.logpdf(wanted, means, np.exp(log_spread)).sum(axis=1).mean() + 4 * 0.5 * np.log(2 * np.pi)
    crossed = -stats.bernoulli.logpmf(0, 1 / (1 + np.exp(-odds))).mean()
    assert found == pytest.approx(crossed - likelihood, rel=1e-9)


@pytest.mark.parametrize("gaussian", [True, False])
def test_the_ensemble_recovers_a_known_linear_system(gaussian: bool) -> None:
    """One step on states it never saw, and twenty steps open-loop, against the matrices themselves."""
    replay = linear_steps(400)
    ensemble = Ensemble(2, 1, 3, (32, 32), "silu", gaussian, np.random.default_rng(4))
    generator = np.random.default_rng(5)
    for rate in (3e-3, 1e-3, 3e-4):
        ensemble.learn(replay, 500, 128, rate, generator)
    state, command = generator.uniform(-1, 1, (300, 2)), generator.uniform(-1, 1, (300, 1))
    said = [ensemble.foresee(state, command, m) for m in range(3)]
    after = state @ A.T + command @ B.T
    change = np.abs(after - state).mean()
    mean = np.mean([s.observations for s in said], axis=0)
    assert np.abs(mean - after).mean() < 0.05 * change
    assert np.abs(np.mean([s.reward for s in said], axis=0) + np.square(state).sum(axis=1)).mean() < 0.05
    chance = said[0].ending
    edge = np.array([[1.35, 0.0], [0.0, 0.0]])
    at_edge = np.mean([ensemble.foresee(edge, np.zeros((2, 1)), m).ending[0] for m in range(3)])
    assert at_edge > 0.5 and chance[np.abs(after[:, 0]) < 0.7].max() < 0.5
    seen = ensemble.inspect(replay, 3, 20)
    one, far = seen.missed()
    assert seen.one_step.shape == (3, len(seen.truth), 2) and one.max() < 0.05 and far.max() < 0.25
    missed, apart = ensemble.error(replay)
    assert missed < 0.1 and apart < 0.1


def test_an_untaught_ensemble_disagrees_and_errs() -> None:
    replay = linear_steps(100)
    ensemble = Ensemble(2, 1, 5, (32,), "tanh", False, np.random.default_rng(4))
    ensemble.learn(replay, 0, 128, 3e-3, np.random.default_rng(1))  # takes the scales alone
    before = ensemble.error(replay)
    ensemble.learn(replay, 600, 128, 3e-3, np.random.default_rng(1))
    after = ensemble.error(replay)
    assert after[0] < 0.2 * before[0] and after[1] < before[1] + 0.05


class Biased(Ensemble):
    """Foresees the linear system exactly but for a bias in each step."""

    bias = np.zeros(2)

    def foresee(
        self, observations: np.ndarray, commands: np.ndarray, member: int, noise: np.ndarray | None = None
    ) -> Foreseen:
        nothing = np.zeros(len(observations))
        return Foreseen(observations @ A.T + commands @ B.T + self.bias, nothing, nothing)


@pytest.mark.parametrize("steps", [7, 12, 400])
def test_open_loop_errors_add_up_as_they_must_and_never_across_an_end(steps: int) -> None:
    replay = linear_steps(400)
    replay.over[replay.last :][:8] = CUT
    for _ in range(steps):  # goes round in the buffer, and stands anywhere in an episode
        state, command = np.zeros((8, 2)), np.ones((8, 1))
        after = state @ A.T + command @ B.T
        replay.add(state, command, np.zeros(8), Experience(np.zeros(8), after, np.zeros(8, bool), np.ones(8, bool)))
    ensemble = Biased(2, 1, 2, (4,), "tanh", False, np.random.default_rng(4))
    ensemble.scales["spread"] = np.array([0.5, 2.0])
    np.testing.assert_allclose(ensemble.open_loop(replay, 10), 0.0, atol=1e-6)
    ensemble.bias = np.array([0.01, -0.02])
    apart, wanted = np.zeros(2), []
    for _ in range(10):
        apart = A @ apart + ensemble.bias
        wanted.append(np.sqrt(np.square(apart / ensemble.scales["spread"]).mean()))
    found = ensemble.open_loop(replay, 10)
    np.testing.assert_allclose(found, wanted[: len(found)], rtol=1e-3)
    assert len(found) == (10 if steps < 400 else 1), "as long as the longest stretch that there is"


def test_what_never_moves_does_not_count_as_unforeseen() -> None:
    replay = linear_steps(60)
    ensemble = Biased(2, 1, 2, (4,), "tanh", False, np.random.default_rng(4))
    ensemble.bias = np.array([0.0, 1e-4])
    ensemble.scales["spread"] = np.array([0.5, 1e-6])  # as if the second had stood still but for rounding
    np.testing.assert_allclose(ensemble.open_loop(replay, 5), 0.0, atol=1e-3)
    ensemble.scales["spread"] = np.full(2, 1e-6)
    assert not ensemble.open_loop(replay, 5).any()


@pytest.mark.parametrize(("limit", "longest"), [(1e-9, 2), (1e9, 7), (None, 7)])
def test_a_model_rollout_is_no_longer_than_the_model_is_good_for(limit: float | None, longest: int) -> None:
    changes = {"horizon": 2, "horizon_end": 12, "open_loop_limit": limit}
    learner = make_method("model-based", settings_class("model-based").model_validate(SMALL | changes), SPACE, 8, 1)
    assert played(learner, np.random.default_rng(4), 8)[-1]["horizon"] == longest
    assert learner.horizons[-1] == longest


SPACE = Space(np.full(2, -2.0), np.full(2, 2.0), np.full(1, -1.0), np.full(1, 1.0))
SMALL = {
    "hidden": [16, 16], "minibatch": 32, "random_start_steps": 128, "steps_per_round": 32, "replay_capacity": 4096, "model_hidden": [16],
    "ensemble_size": 2, "model_every": 64, "model_updates": 5, "model_rollouts": 32, "horizon": 3, "horizon_end": 3,
}  # fmt: skip


def played(learner: Any, generator: np.random.Generator, rounds: int) -> list[dict[str, float]]:
    """Rounds on the linear system."""
    health = []
    state = generator.uniform(-1, 1, (8, 2))
    for _ in range(rounds):
        while not learner.ready():
            command = np.clip(learner.choose(state), -1, 1)
            after = state @ A.T + command @ B.T
            ended, cut = np.abs(after[:, 0]) > 1.5, generator.random(8) < 0.03
            learner.take(Experience(-np.square(state).sum(axis=1), after, ended, cut & ~ended, state, command))
            state = np.where((ended | cut)[:, None], generator.uniform(-1, 1, (8, 2)), after)
        health.append(learner.improve(0.5))
    return health


@pytest.mark.parametrize("fed", ["sac", "td3", "ddpg"])
def test_branches_feed_every_learner_and_resuming_is_exact(fed: str) -> None:
    settings = settings_class("model-based").model_validate(SMALL | {"learner": fed})
    first, second = (make_method("model-based", settings, SPACE, 8, 1) for _ in range(2))
    generator, other = np.random.default_rng(4), np.random.default_rng(0)
    played(first, generator, 6)
    assert first.foreseen.size > 0 and {0, CUT} <= set(first.foreseen.over[: first.foreseen.size].tolist()) <= {
        0,
        CUT,
        ENDED,
    }
    second.restore(first.keep())
    other.bit_generator.state = generator.bit_generator.state
    assert played(first, generator, 3) == played(second, other, 3)
    for name, value in first.keep().items():
        np.testing.assert_array_equal(value, second.keep()[name], err_msg=name)


def test_a_minibatch_holds_the_set_share_of_real_steps() -> None:
    settings = settings_class("model-based").model_validate(SMALL | {"real_share": 0.25})
    learner = make_method("model-based", settings, SPACE, 8, 1)
    played(learner, np.random.default_rng(4), 6)
    learner.learn_once()
    real = {tuple(row) for row in learner.replay.observations[: learner.replay.size].round(5).tolist()}
    shares = [tuple(row) in real for row in learner.mixed.observations.round(5).tolist()]
    assert sum(shares[:8]) == 8 and len(shares) == 32
    # model rollouts begin in real states too, and go on in foreseen ones
    assert sum(shares[8:]) < 20


@pytest.mark.parametrize("memory", [0.0, 0.9])
@pytest.mark.parametrize("fed", ["sac", "td3", "ddpg"])
def test_branches_are_explored_as_the_method_explores(fed: str, memory: float) -> None:
    changes = {
        "learner": fed,
        "exploration_memory": memory,
        "exploration_spread": 0.1,
        "exploration_spread_end": 0.1,
        "model_rollouts": 400,
    }
    if fed != "sac" and memory == 0.0:
        changes["exploration"] = "independent"
    settings = settings_class("model-based").model_validate(SMALL | changes)
    learner = make_method("model-based", settings, SPACE, 8, 1)
    played(learner, np.random.default_rng(4), 6)
    learner.run_ahead(3)
    rows = [(learner.foreseen.next - 400 * back - 400 + np.arange(400)) % learner.foreseen.capacity for back in (1, 0)]
    apart = []
    for here in rows:
        inputs = learner.inputs.of(learner.foreseen.observations[here].astype(np.float64))
        said, best = learner.foreseen.commands[here], learner.best(inputs)
        apart.append((np.arctanh(said) - np.arctanh(best) if fed == "sac" else said - best)[:, 0])
    going = learner.foreseen.over[rows[0]] == 0
    assert going.sum() > 300
    found = np.corrcoef(apart[0][going], apart[1][going])[0, 1]
    assert found == pytest.approx(memory, abs=0.15 if memory == 0.0 else 0.05)
    if fed != "sac":
        assert apart[1].std() == pytest.approx(0.1, rel=0.15)


def test_held_out_rows_are_never_learned_from_and_errors_are_theirs() -> None:
    """What stands in them may be anything: the members do not change, the error does."""
    replay, other = linear_steps(400), linear_steps(400)
    apart = held_out(replay)
    assert 0.05 < apart.mean() < 0.15
    found, scales = [], dict[str, Array]()
    for buffer in (replay, other):
        ensemble = Ensemble(2, 1, 3, (16,), "silu", False, np.random.default_rng(4))
        if buffer is other:
            other.after[: other.size][apart] += 1.0
            ensemble.scales = scales
        ensemble.scaled = 0 if buffer is replay else other.size
        ensemble.learn(buffer, 40, 32, 1e-3, np.random.default_rng(5))
        scales = ensemble.scales
        found.append((ensemble.members[2].parameters.tobytes(), ensemble.error(buffer)[0]))
    assert found[0][0] == found[1][0] and found[1][1] > found[0][1] + 1.0


def test_each_row_is_foreseen_by_a_member_of_its_own_and_only_the_best_have_a_say() -> None:
    ensemble = Ensemble(2, 1, 5, (8,), "silu", False, np.random.default_rng(4))
    ensemble.elite = np.array([3, 1, 4, 0, 2])
    state, command = np.random.default_rng(1).uniform(-1, 1, (300, 2)), np.zeros((300, 1))
    each = np.array([ensemble.foresee(state, command, m).observations for m in range(5)])
    generator, used = np.random.default_rng(2), np.zeros((300, 5))
    for _ in range(60):
        said = ensemble.foresee_each(state, command, generator, 3).observations
        whose = np.abs(each - said).sum(axis=2).argmin(axis=0)
        assert set(whose.tolist()) == {1, 3, 4}, "several members in one step"
        used[np.arange(300), whose] += 1
    assert used[:, [0, 2]].sum() == 0 and (used[:, [1, 3, 4]] > 5).all()


def test_new_scales_change_nothing_that_was_foreseen() -> None:
    small, large = linear_steps(60), linear_steps(400)
    ensemble = Ensemble(2, 1, 2, (16, 16), "silu", False, np.random.default_rng(4))
    ensemble.learn(small, 200, 64, 1e-3, np.random.default_rng(5))
    state, command = np.random.default_rng(1).uniform(-1, 1, (50, 2)), np.zeros((50, 1))
    before, scales = ensemble.foresee(state, command, 1), ensemble.scales
    ensemble.learn(large, 0, 64, 1e-3, np.random.default_rng(5))
    after = ensemble.foresee(state, command, 1)
    assert np.abs(ensemble.scales["spread"] / scales["spread"] - 1.0).max() > 0.01
    np.testing.assert_allclose(after.observations, before.observations, atol=2e-5)
    np.testing.assert_allclose(after.reward, before.reward, atol=2e-5)
    ensemble.learn(large, 0, 64, 1e-3, np.random.default_rng(5))
    assert ensemble.scaled == large.size, "scales stay until there are twice as many rows"


def test_only_the_newest_rounds_are_learned_from_while_the_horizon_grows() -> None:
    """Eight rounds are asked for: at a horizon of one step that is eight steps, not as many as eight rounds of the longest."""
    settings = settings_class("model-based").model_validate(SMALL | {"horizon": 1, "horizon_end": 12, "rounds_kept": 3})
    learner = make_method("model-based", settings, SPACE, 8, 1)
    played(learner, np.random.default_rng(4), 6)
    for horizon in (1, 1, 1, 1, 2):
        learner.run_ahead(horizon)
    assert learner.foreseen.newest == 32 * (1 + 1 + 2) < learner.foreseen.size
    newest = (learner.foreseen.next - 1 - np.arange(32 * 4)) % learner.foreseen.capacity
    drawn = {int(k) for _ in range(40) for k in learner.foreseen.draw(32, learner.drawing, 1, 0.9).indices}
    assert drawn <= set(newest.tolist()) and len(drawn) > 100


def test_shaping_is_learned_where_the_task_tells_the_rest() -> None:
    """A judge that knows every reward knows nothing of shaping: foreseen rows carry it as real ones do."""

    class Knows:
        every_reward = every_ending = True

        def judge(self, before: np.ndarray, commands: np.ndarray, after: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
            return -np.square(before).sum(axis=1), np.zeros(len(before), bool)

    space = replace(SPACE, judge=Knows())
    changes = {
        "model_updates": 60,
        "model_hidden": [32, 32],
        "rounds_kept": 1,
        "model_rollouts": 256,
        "reward_limit": 5.0,
    }
    learner = make_method("model-based", settings_class("model-based").model_validate(SMALL | changes), space, 8, 1)
    generator, state = np.random.default_rng(3), np.random.default_rng(3).uniform(-1, 1, (8, 2))
    nobody = np.zeros(8, bool)
    for _ in range(60):
        while not learner.ready():
            command = np.clip(learner.choose(state), -1, 1)
            after = state @ A.T + command @ B.T
            shaping = 20.0 * (0.9 * after[:, 0] - state[:, 0])
            own = -np.square(state).sum(axis=1)
            cut = generator.random(8) < 0.03
            learner.take(Experience(own + shaping, after, nobody, cut, state, command, shaping=shaping))
            state = np.where(cut[:, None], generator.uniform(-1, 1, (8, 2)), after)
        learner.improve(0.5)
    rows = slice(0, 256)
    seen, then = learner.foreseen.observations[rows], learner.foreseen.after[rows]
    wanted = -np.square(seen).sum(axis=1) + 20.0 * (0.9 * then[:, 0] - seen[:, 0])
    assert np.corrcoef(wanted, learner.foreseen.reward[rows])[0, 1] > 0.9
