"""Policies that remember: the gated unit by its equations, gradients through time, what only a memory can do, and what goes out."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.special import expit

from plucky_heron.errors import StateError
from plucky_heron.handover.equality import check_forms, run_policy
from plucky_heron.handover.forms.catalogue import FORMS, TOLERANCES, make_forms
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.pack import write_pack
from plucky_heron.learning.actor_critic import ActorCriticLoss, Minibatch
from plucky_heron.learning.memory import Memory, Sequence
from plucky_heron.learning.method import Experience, Space, make_method, settings_class
from plucky_heron.learning.network import Network
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.ppo import ProximalSettings
from plucky_heron.project import Project
from plucky_heron.rigs.rollout import roll_out
from plucky_heron.runs import launch
from plucky_heron.training.recipe import with_changes

Array = np.ndarray
SPACE = Space(-np.ones(3), np.ones(3), np.array([-2.0]), np.array([2.0]))


def sequence(generator: np.random.Generator, steps: int, copies: int, units: int) -> Sequence:
    """Episodes that begin anywhere, after something remembered."""
    first = (generator.random((steps, copies)) < 0.2).astype(np.uint8)
    actor, critic = generator.uniform(-0.8, 0.8, (2, copies, units))
    return Sequence(first, actor, critic)


def test_states_are_those_of_the_equations() -> None:
    """Cho et al. 2014, eq. 5 to 8, one number at a time, with the reset after the product."""
    generator = np.random.default_rng(1)
    memory = Memory(3, 4, np.float64)
    parameters = generator.standard_normal(memory.count)
    inputs = generator.standard_normal((6, 2, 3))
    given = sequence(generator, 6, 2, 4)
    found = memory.forward(parameters, inputs, given.first, given.actor)
    weights, biases, own, own_biases = memory.parts(parameters)
    for b in range(2):
        state = given.actor[b]
        for t in range(6):
            state = np.zeros(4) if given.first[t, b] else state
            a, c = inputs[t, b] @ weights + biases, state @ own + own_biases
            reset, keep = expit(a[:4] + c[:4]), expit(a[4:8] + c[4:8])
            state = (1 - keep) * np.tanh(a[8:] + reset * c[8:]) + keep * state
            np.testing.assert_allclose(found[t, b], state, rtol=1e-12)


@pytest.mark.parametrize(
    "switches",
    [
        {}, {"spread": "from the network", "entropy_weight": 0.05}, {"layer_normalisation": True, "activation": "silu"},
        {"value_limit": 0.1},
    ],
)  # fmt: skip
def test_gradient_through_time(switches: dict[str, Any]) -> None:
    """Against central differences in float64, every parameter, relative error under 1e-6."""
    settings = ProximalSettings.model_validate({"hidden": (6,), "memory": 3, **switches})
    loss = ActorCriticLoss(settings, 4, 2, np.float64, ratio_limit=0.2, seen=3)
    generator = np.random.default_rng(4)
    parameters = loss.initial(generator) + 0.1 * generator.standard_normal(loss.count)
    normal, steps, copies = generator.standard_normal, 7, 5
    n = steps * copies
    rows = Minibatch(
        normal((n, 4)), normal((n, 2)), -2.0 + 0.4 * normal(n), normal(n), normal(n), normal(n), sequence(generator, steps, copies, 3),
    )  # fmt: skip
    loss(parameters, rows)
    analytic = loss.gradient.copy()
    numeric = np.zeros_like(analytic)
    for k in range(loss.count):
        step = np.zeros(loss.count)
        step[k] = 1e-6
        numeric[k] = (loss(parameters + step, rows)["loss"] - loss(parameters - step, rows)["loss"]) / 2e-6
    assert np.linalg.norm(analytic - numeric) / np.linalg.norm(numeric) < 1e-6
    for part in loss.memory_parts:
        assert np.abs(numeric[part]).max() > 1e-3


def made(**changes: Any) -> Any:
    """PPO with a small memory."""
    settings = {"hidden": [16], "memory": 8, "steps_per_update": 512, "minibatch": 128, "learning_rate": 5e-3} | changes
    return make_method("ppo", settings_class("ppo").model_validate(settings), SPACE, 32, 2)


def cue_episodes(learner: Any, generator: np.random.Generator, updates: int) -> float:
    """Episodes of four samples: a cue of -1 or 1 is shown in the first alone, and commanding it pays in the last.

    Returns the mean pay of an episode in the last update.
    """
    copies, age = learner.copies, 0
    cue = generator.choice([-1.0, 1.0], copies)
    paid: list[float] = []
    for update in range(updates):
        while not learner.ready():
            shown = np.zeros((copies, 3))
            shown[:, 0] = cue * (age == 0)
            shown[:, 1] = age == 3
            commands = np.clip(learner.choose(shown)[:, 0] / 2.0, -1, 1)
            last = age == 3
            reward = np.where(last, -((commands - 0.7 * cue) ** 2), 0.0)
            after = np.zeros((copies, 3))
            after[:, 1] = age == 2
            learner.take(Experience(reward, after, np.full(copies, last), np.zeros(copies, bool)))
            if last:
                if update == updates - 1:
                    paid.append(float(reward.mean()))
                cue = generator.choice([-1.0, 1.0], copies)
            age = 0 if last else age + 1
        learner.improve(update / updates)
    return float(np.mean(paid))


@pytest.mark.long
def test_what_was_shown_once_is_remembered() -> None:
    """Without a memory nothing is better than commanding zero, which pays -0.49."""
    assert cue_episodes(made(), np.random.default_rng(3), 40) > -0.15
    assert cue_episodes(made(memory=0), np.random.default_rng(3), 40) < -0.4


def test_values_after_the_last_row_remember_the_rows() -> None:
    """A time cut and the end of an update are valued by one more step of the critic's memory."""
    learner = made(steps_per_update=160, reward_standardisation=False, observation_standardisation=False)
    generator = np.random.default_rng(5)
    seen, afters, cuts = [], [], []
    while not learner.ready():
        seen.append(generator.uniform(-1, 1, (32, 3)))
        learner.choose(seen[-1])
        afters.append(generator.uniform(-1, 1, (32, 3)))
        cuts.append(generator.random(32) < 0.3)
        learner.take(Experience(np.zeros(32), afters[-1], np.zeros(32, bool), cuts[-1]))
    values, returns, advantage, _ = learner.targets()
    np.testing.assert_allclose(returns, values + advantage)
    part = learner.parameters[learner.loss.memory_parts[1]]
    memory = learner.loss.memories[1]

    def worth(inputs: Array, state: Array) -> float:
        return float(
            learner.loss.value(learner.parameters, np.concatenate([inputs, state])[None].astype(np.float32))[0]
        )

    for b in range(0, 32, 5):
        state = np.zeros((1, 8), dtype=np.float32)
        for t in range(5):
            state = memory.step(part, seen[t][b][None].astype(np.float32), state)
            assert values[t, b] == pytest.approx(worth(seen[t][b], state[0]), abs=1e-5)
            then = memory.step(part, afters[t][b][None].astype(np.float32), state)
            if cuts[t][b]:
                assert learner.rows["tail"][t, b] == pytest.approx(worth(afters[t][b], then[0]), abs=1e-5)
                state = np.zeros_like(state)
            elif t == 4:
                wanted = learner.shared.discount * worth(afters[t][b], then[0]) - values[t, b]
                assert advantage[t, b] == pytest.approx(wanted, abs=1e-5)


def test_the_policy_that_goes_out_remembers_as_the_learner_does() -> None:
    learner = made()
    generator = np.random.default_rng(6)
    cue_episodes(learner, generator, 1)
    policy = learner.policy()
    assert policy.given == 3 and policy.memory == 8 and policy.count > len(policy.parameters)
    rows = generator.uniform(-1, 1, (9, 4, 3))
    state = policy.blank(4)
    given = Sequence(np.zeros((9, 4), np.uint8), np.zeros((4, 8), np.float32), np.zeros((4, 8), np.float32))
    inputs = learner.inputs.of(rows.reshape(36, 3))
    joined = learner.loss.beside(learner.parameters, 0, inputs, given)
    means, _ = learner.loss.means_and_spreads(learner.parameters, joined)
    for t in range(9):
        commands, state = policy.step(rows[t], state)
        np.testing.assert_allclose(commands, np.clip(2.0 * means[4 * t : 4 * t + 4], -2, 2), atol=1e-5)


def test_a_memory_needs_rows_that_follow_each_other() -> None:
    with pytest.raises(StateError, match="fixed number of steps"):
        made(update_after="episodes")
    with pytest.raises(StateError, match="switch shared_trunk or memory off"):
        made(shared_trunk=True)


@pytest.mark.parametrize(("squashed", "normalised", "corrects"), [(False, False, False), (True, True, True)])
def test_every_form_remembers(squashed: bool, normalised: bool, corrects: bool) -> None:
    """ONNX and C over sequences, with new episodes between."""
    generator = np.random.default_rng(8)
    memory, network = Memory(5, 7), Network((12, 9, 2), "silu", normalised=normalised)
    low = np.array([-3.0, 0.0], dtype=np.float32)
    base = generator.standard_normal((2, 6)).astype(np.float32) if corrects else None
    policy = Policy(
        network.sizes, "silu", (0.5 * generator.standard_normal(network.count)).astype(np.float32),
        generator.standard_normal(5).astype(np.float32), generator.uniform(0.2, 3, 5).astype(np.float32), 3.0, low, low + 5.0, normalised,
        squashed, base, 0.5 if corrects else 1.0, 7, (0.6 * generator.standard_normal(memory.count)).astype(np.float32),
    )  # fmt: skip
    inputs = [Line(f"in {k}", "m", -1, 1) for k in range(5)]
    outputs = [Line(f"out {k}", "N", float(low[k]), float(low[k]) + 5.0) for k in range(2)]
    vectors = generator.uniform(-2, 2, (200, 5)).astype(np.float32).astype(np.float64)
    first = np.arange(200) % 40 == 0
    expected = run_policy(policy, vectors, first)
    blank = policy.commands(vectors)
    assert np.abs(expected - blank).max() > 0.1  # it does remember
    np.testing.assert_allclose(expected[first], blank[first], rtol=1e-5, atol=1e-6)
    made = make_forms(FORMS, policy, "memory", inputs, outputs, 0.02, vectors, [0.0, 0.0])
    found = check_forms(made, vectors, expected, np.full(2, 5.0), first)
    assert set(found) == set(FORMS) and all(value <= TOLERANCES[form] for form, value in found.items()), found


@pytest.mark.long
def test_a_run_with_a_memory_is_packed_and_rolled_out(folder: Path, tmp_path: Path) -> None:
    """The kept policy reads back, goes out, and the rig's controller remembers as the program does."""
    changes = {"memory": "12", "copies": "16", "steps": "2048", "steps_per_update": "512", "evaluation.episodes": "4"}
    recipe = with_changes(Project(folder).recipe("ppo"), changes | {"evaluation.every": "2048"})
    row = launch.wait(folder, launch.train(folder, "lift", recipe, [1]))[0]
    assert row.state == "done", row.stop_text
    policy = Project(folder).policy(row.id)
    assert (policy.memory, policy.given) == (12, 10) and policy.memory_parameters is not None
    answer = write_pack(folder, row, tmp_path / "pack")
    assert max(answer["equality"].values()) <= TOLERANCES["c99"]
    assert (tmp_path / "pack" / "vectors.csv").read_text().startswith("begins,offset")
    sheet = (tmp_path / "pack" / "data-sheet.md").read_text()
    assert "remembers | 12 numbers" in sheet
    result = roll_out(tmp_path / "pack", "host", episodes=2, lock_step=True)
    assert result.missed == 0 and result.samples > 100 and result.difference <= TOLERANCES["c99"]
    assert result.scores == pytest.approx(result.scores_inside, rel=1e-3, abs=0.05)
