"""What a task says of its mirror: read, refused, true of the physics, used by what learns from a buffer, and looked at in the shakedown."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from plucky_heron.analysis.shakedown.checks import REHEARSAL_STREAM, Seen
from plucky_heron.analysis.shakedown.mirror_checks import mirror_checks
from plucky_heron.analysis.shakedown.rehearsals import rehearsal_drivers
from plucky_heron.errors import FileError
from plucky_heron.learning.ensemble import Ensemble
from plucky_heron.learning.method import Experience, Space, make_method, settings_class
from plucky_heron.learning.replay import Replay
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.trials import run_company
from plucky_heron.task.mirror import Mirror
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.training.loop import space_of
from tests.conftest import altered

Array = np.ndarray
SIGNS = Mirror(
    np.array([1, 0, 2]), np.array([-1, -1, 1], dtype=np.float32), np.array([0, 1]), np.array([-1, 1], dtype=np.float32)
)
"""The first two observations change places and sign, the third stays; the first command changes sign."""


def rows(problem: Problem, kind: str, **changes: str) -> list[dict[str, Any]]:
    """Observations or actions of the task without a mirror, but for the named ones (spaces as _)."""
    found: list[dict[str, Any]] = problem.task.model_dump(exclude_defaults=True)[kind]
    plain = [{k: v for k, v in row.items() if k != "mirrored"} for row in found]
    named = {name.replace("_", " "): value for name, value in changes.items()}
    return [row | ({"mirrored": named[row["name"]]} if row["name"] in named else {}) for row in plain]


def unmirrored(problem: Problem, **updates: Any) -> Problem:
    return altered(
        problem, **({"observations": rows(problem, "observations"), "actions": rows(problem, "actions")} | updates)
    )


def test_the_hoist_states_its_mirror_and_tasks_need_not(problem: Problem) -> None:
    assert problem.mirror is not None
    turned = dict(zip((e.name for e in problem.entries), problem.mirror.observation_sign, strict=True))
    assert [n for n, sign in turned.items() if sign > 0] == ["height", "cable length", "reel speed", "last reel"]
    np.testing.assert_array_equal(problem.mirror.command_sign, [-1, 1])
    assert unmirrored(problem).mirror is None and space_of(problem).mirror is problem.mirror
    assert unmirrored(problem).fingerprint() != problem.fingerprint()


def test_entries_change_places_and_angles_keep_their_cosine(problem: Problem) -> None:
    given = [
        {"name": "left", "formula": "[trolley.velocity, basket.velocity.x]", "unit": "m/s", "range": [-4, 4], "mirrored": "negated right"},
        {"name": "right", "formula": "[trolley.velocity, basket.velocity.x]", "unit": "m/s", "range": [-4, 4], "mirrored": "negated left"},
        {"name": "angle", "formula": "cable.angle", "unit": "rad", "form": "sine and cosine", "mirrored": "negated"},
    ]  # fmt: skip
    mirror = unmirrored(problem, observations=given).mirror
    assert mirror is not None
    seen = np.array([[1.0, 2.0, 3.0, 4.0, 0.6, 0.8]])
    np.testing.assert_allclose(mirror.observations(seen), [[-3, -4, -1, -2, -0.6, 0.8]])
    np.testing.assert_allclose(mirror.observations(mirror.observations(seen)), seen)
    np.testing.assert_array_equal(mirror.commands(np.array([[0.5, -0.25]])), [[0.5, -0.25]])


@pytest.mark.parametrize(
    ("observations", "actions", "key", "right"),
    [
        ({"offset": "nagated"}, {}, "observations.offset.mirrored", 'say "negated", the name of another'),
        ({"offset": "height"}, {}, "observations.height.mirrored", 'must be "offset"'),
        ({"offset": "height", "height": "negated offset"}, {}, "observations.height.mirrored", 'must be "offset"'),
        ({"offset": "cable angle", "cable_angle": "offset"}, {}, "observations.offset.mirrored", "of another kind"),
        ({}, {"push": "reel", "reel": "push"}, "actions.push.mirrored", "of another kind"),
    ],
)
def test_a_mirror_that_cannot_be_is_refused(
    problem: Problem, observations: dict[str, str], actions: dict[str, str], key: str, right: str
) -> None:
    with pytest.raises(FileError, match=right) as refused:
        altered(
            problem,
            observations=rows(problem, "observations", **observations),
            actions=rows(problem, "actions", **actions),
        )
    assert key in str(refused.value)
    given = observations.get(key.split(".")[1]) or actions.get(key.split(".")[1]) or ""
    assert f"{given!r}" in str(refused.value)  # what stands in the file, not what was read from it


def test_ranges_must_fit_where_they_matter(problem: Problem) -> None:
    lopsided = [
        row | {"limits": ["-400 N", "500 N"]} if row["name"] == "push" else row
        for row in rows(problem, "actions", push="negated")
    ]
    with pytest.raises(FileError, match="wants -500 to 400"):
        altered(problem, actions=lopsided)
    clipped = [
        row | {"range": [-3.0, 9.0]} if row["name"] == "offset" else row
        for row in rows(problem, "observations", offset="negated")
    ]
    altered(problem, observations=clipped)  # a range that only scales may be lopsided
    with pytest.raises(FileError, match="wants -9 to 3"):
        altered(problem, observations=[row | {"clip": True} if row["name"] == "offset" else row for row in clipped])


def test_the_hoist_moves_alike_on_both_sides(problem: Problem) -> None:
    """The physics itself: mirrored starts, wind, mark and commands bring mirrored readings and the same pay."""
    quiet = [row | {"noise": 0.0} for row in problem.task.model_dump(exclude_defaults=True)["observations"]]
    outcomes = []
    for side in (1.0, -1.0):
        setpoints = {
            "mark.x": {"unit": "m", "draw": {"fixed": side * 2.0}},
            "mark.z": {"unit": "m", "draw": {"fixed": 3.0}},
        }
        starts = {
            "trolley.position": {"fixed": side * -1.5},
            "cable.position": {"fixed": side * 0.1},
            "reel.position": {"fixed": 4.0},
        }
        variation = {"basket.mass": {"fixed": 60.0}, "wind.mean": {"fixed": side * 2.0}, "wind.gust": {"fixed": 0.0}}
        still = altered(problem, observations=quiet, setpoints=setpoints, starts=starts, variation=variation)
        assert still.mirror is not None
        batch = Batch(still, 1, 1, "mirror")
        batch.start(np.arange(1))
        seen, paid = [], []
        for k in range(300):
            command = np.array([[450.0 * np.sin(0.05 * k), 0.5 * np.cos(0.03 * k)]])
            outcome = batch.step(command if side > 0 else still.mirror.commands(command))
            seen.append(batch.observe().copy())
            paid.append(outcome.reward.copy())
        outcomes.append((np.concatenate(seen), np.concatenate(paid)))
    assert problem.mirror is not None
    np.testing.assert_allclose(problem.mirror.observations(outcomes[0][0]), outcomes[1][0], atol=1e-9)
    np.testing.assert_allclose(outcomes[0][1], outcomes[1][1], atol=1e-9)
    assert np.ptp(outcomes[0][0][:, 0]) > 1.0


def one_sided(steps: int, mirror: Mirror | None, share: float = 0.5) -> Replay:
    """A buffer of a system whose mirror is SIGNS, met on one side alone: the first command is never negative."""
    generator = np.random.default_rng(1)
    replay = Replay(steps * 8, 8, 3, 2, mirror=mirror, mirrored_share=share)
    for _ in range(steps):
        state, command = generator.uniform(-1, 1, (8, 3)), generator.uniform((0, -1), 1, (8, 2))
        nobody = np.zeros(8, dtype=bool)
        replay.add(state, command, np.zeros(8), Experience(state[:, 2], moved(state, command), nobody, ~nobody))
    return replay


def moved(state: Array, command: Array) -> Array:
    """The step of that system; |first command| keeps it from being linear."""
    push = 0.3 * command[:, 0]
    return np.column_stack(
        [0.9 * state[:, 0] + push, 0.9 * state[:, 1] + push, state[:, 2] + 0.2 * np.abs(command[:, 0])]
    )


def test_the_share_of_rows_is_in_the_mirror_and_nothing_else_changes() -> None:
    for share, least, most in ((0.0, 0.0, 0.0), (0.5, 0.45, 0.55), (1.0, 1.0, 1.0)):
        replay, plain = one_sided(100, SIGNS, share), one_sided(100, None)
        turned = replay.draw(2000, np.random.default_rng(2), 1, 0.9)
        rows = plain.draw(2000, np.random.default_rng(2), 1, 0.9)
        np.testing.assert_array_equal(turned.indices, rows.indices)
        np.testing.assert_array_equal(turned.reward, rows.reward)
        changed = (turned.commands != rows.commands).any(axis=1)
        assert least <= changed.mean() <= most
        for name in ("observations", "after"):
            here, there = getattr(rows, name), getattr(turned, name)
            np.testing.assert_array_equal(there[~changed], here[~changed])
            np.testing.assert_array_equal(
                there[changed], here[changed][:, [1, 0, 2]] * np.array([-1, -1, 1], dtype=np.float32)
            )
        np.testing.assert_allclose(turned.after, moved(turned.observations, turned.commands), atol=1e-6)


@pytest.mark.parametrize("mirror", [SIGNS, None])
def test_a_model_taught_on_one_side_foresees_the_other(mirror: Mirror | None) -> None:
    """Commands of the sign that only the mirror has met; without it the model is far off there."""
    ensemble = Ensemble(3, 2, 2, (32, 32), "silu", False, np.random.default_rng(4))
    replay, generator = one_sided(200, mirror), np.random.default_rng(5)
    for rate in (3e-3, 1e-3):
        ensemble.learn(replay, 400, 128, rate, generator)
    state, command = generator.uniform(-1, 1, (300, 3)), generator.uniform((0, -1), 1, (300, 2))
    met, never = (
        float(np.abs(ensemble.foresee(state, given, 0).observations - moved(state, given)).mean())
        for given in (command, SIGNS.commands(command))
    )
    assert met < 0.02
    assert (never < 0.02) if mirror is not None else (never > 0.05)


@pytest.mark.parametrize("method", ["ddpg", "sac", "model-based"])
def test_a_run_with_a_mirror_resumes_bit_for_bit(method: str) -> None:
    space = Space(np.array([-1.0, -1.0, -1.0]), np.ones(3), -np.ones(2), np.ones(2), mirror=SIGNS)
    settings = settings_class(method).model_validate(
        {"hidden": [9, 8], "minibatch": 32, "random_start_steps": 64, "steps_per_round": 32, "replay_capacity": 4096}
    )

    def go_on(learner: Any, generator: np.random.Generator) -> dict[str, float]:
        health: dict[str, float] = {}
        for _ in range(12):
            state = generator.uniform(-1, 1, (8, 3))
            command = learner.choose(state)
            ended = generator.random(8) < 0.1
            learner.take(Experience(-np.abs(command).sum(axis=1), moved(state, command), ended, ~ended, state, command))
            while learner.ready():
                health = learner.improve(0.5)
        return health

    first, second = (make_method(method, settings, space, 8, 1) for _ in range(2))
    generator = np.random.default_rng(3)
    go_on(first, generator)
    second.restore(first.keep())
    other = np.random.default_rng()
    other.bit_generator.state = generator.bit_generator.state
    assert go_on(first, generator) == go_on(second, other)
    one, two = first.keep(), second.keep()
    for name in one:
        np.testing.assert_array_equal(one[name], two[name], err_msg=name)


@pytest.fixture(scope="module")
def rehearsed(problem: Problem) -> Seen:
    drivers = [d for d in rehearsal_drivers(problem) if d.name != "regulator"]
    trials = run_company(problem, drivers, seed=EVALUATION_SEED, stream=REHEARSAL_STREAM, count=8, record=range(8))
    return Seen(problem, trials, {}, np.zeros(1), 1)


def test_the_shakedown_sees_a_mirror_that_holds(rehearsed: Seen) -> None:
    moves, pays = mirror_checks(rehearsed)
    assert moves.passed and pays.passed, (moves.evidence, pays.evidence)
    assert "distance" in pays.evidence
    assert not list(mirror_checks(replace(rehearsed, problem=unmirrored(rehearsed.problem))))


@pytest.mark.parametrize("wrong", range(10))
def test_the_shakedown_sees_one_wrong_sign(rehearsed: Seen, wrong: int) -> None:
    mirror = rehearsed.problem.mirror
    assert mirror is not None
    signs = mirror.observation_sign.copy()
    signs[wrong] *= -1
    moves = next(
        mirror_checks(
            replace(rehearsed, problem=replace(rehearsed.problem, mirror=replace(mirror, observation_sign=signs)))
        )
    )
    assert not moves.passed and "or more" in moves.evidence


def test_the_shakedown_sees_pay_that_takes_sides(rehearsed: Seen) -> None:
    rewards = rehearsed.problem.task.model_dump(exclude_defaults=True)["rewards"]
    lopsided = altered(rehearsed.problem, rewards=rewards | {"shore": {"formula": "trolley.position", "weight": 0.1}})
    moves, pays = mirror_checks(replace(rehearsed, problem=lopsided))
    assert moves.passed and not pays.passed and "shore" in pays.evidence


def test_readings_that_are_no_numbers_do_not_stop_the_look(rehearsed: Seen) -> None:
    """A formula that fails for a while, as a logarithm does below zero, is another check's business."""
    for trials in rehearsed.rehearsals.values():
        kept = {k: replace(r, observations=r.observations.copy()) for k, r in trials.recordings.items()}
        for recording in kept.values():
            recording.observations[::7, 0] = np.nan
        rehearsed = replace(
            rehearsed, rehearsals=rehearsed.rehearsals | {trials.driver: replace(trials, recordings=kept)}
        )
    moves, pays = mirror_checks(rehearsed)
    assert moves.passed and pays.passed, (moves.evidence, pays.evidence)
    nothing = {n: replace(t, recordings={}) for n, t in rehearsed.rehearsals.items()}
    assert not list(mirror_checks(replace(rehearsed, rehearsals=nothing)))
