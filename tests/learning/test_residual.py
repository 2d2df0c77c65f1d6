"""Learning a correction on a law: the law is what the regulator does, the sum is what acts and what goes out."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.control.base_controller import base_controller
from plucky_heron.control.regulator import regulator_for
from plucky_heron.errors import FileError, StateError
from plucky_heron.handover.equality import check_forms
from plucky_heron.handover.forms.catalogue import FORMS, TOLERANCES, make_forms
from plucky_heron.handover.forms.line import Line
from plucky_heron.learning.method import Space, make_method, settings_class
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.residual import Residual
from plucky_heron.project import Project
from plucky_heron.simulation.drivers import Driver, Rule
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED, evaluate
from plucky_heron.training.loop import Run, method_of
from plucky_heron.training.recipe import Recipe, read_recipe, with_changes


def recipe(**changes: str) -> Recipe:
    """Small PPO on a rule, which needs no tuning."""
    small = {"copies": "16", "steps_per_update": "512", "steps": "2048", "evaluation.episodes": "8"}
    return with_changes(Recipe(), small | {"residual": "steady"} | changes)


def test_the_law_drives_as_the_regulator_does(folder: Path) -> None:
    problem = Project(folder).problem("lift")
    law = base_controller(problem, "regulator", threads=1, project=folder)
    assert law.explained.min() > 0.8 and law.gain.shape == (2, 11)
    assert not law.gain[:, 8:10].any()  # the last commands are no part of it
    drivers = law, regulator_for(problem, folder)
    score, wanted = (
        run_trials(problem, d, seed=3, stream="evaluation", count=48, threads=1).score.mean() for d in drivers
    )
    assert wanted > 75 and score > wanted - 5
    first, again = (base_controller(problem, "steady", threads=threads) for threads in (1, 2))
    np.testing.assert_array_equal(again.gain, first.gain)


def test_the_untrained_sum_is_nearly_the_law_and_stays_within_limits(folder: Path) -> None:
    problem = Project(folder).problem("lift")
    base = base_controller(problem, "steady")
    learner = method_of(problem, recipe(**{"residual.reach": "0.2", "last_layer_scale": "0.0001"}), 1, base=base)
    law = base.gain
    rows = np.random.default_rng(1).uniform(-0.5, 0.5, (64, 10)) * np.array([e.high for e in problem.entries])
    wanted = np.clip(rows @ law[:, :-1].T + law[:, -1], problem.low, problem.high)
    policy = learner.policy()
    np.testing.assert_allclose(policy.commands(rows), wanted, atol=2e-3 * float(problem.high[0]))
    explored = learner.choose(rows[:16])
    assert (explored >= problem.low).all() and (explored <= problem.high).all()
    law_alone = rows[:16] @ law[:, :-1].T + law[:, -1]
    free = (np.abs(law_alone) < 0.5 * problem.high).all(axis=1)
    assert free.any()
    # a Gaussian draw may go beyond its range; it is the plant's limit that clips it
    assert np.abs(explored - law_alone)[free].max() < 5 * 0.2 * problem.high.max()


def test_every_form_holds_the_sum(folder: Path, tmp_path: Path) -> None:
    problem = Project(folder).problem("lift")
    wanted = recipe(last_layer_scale="1.0")
    policy = method_of(problem, wanted, 1, base=base_controller(problem, "steady")).policy()
    policy.save(tmp_path / "sum.npz")
    read = Policy.load(tmp_path / "sum.npz")
    assert read.base is not None and read.reach == 0.3
    inputs = [Line(e.name, e.si, e.low, e.high) for e in problem.sensed]
    outputs = [Line(c.name, c.unit, c.low, c.high) for c in problem.commands]
    high = np.array([e.high for e in problem.sensed])
    vectors = np.random.default_rng(1).uniform(-high, high, (200, len(high))).astype(np.float32).astype(np.float64)
    expected = policy.commands(vectors)
    alone = np.clip(policy.middle + policy.half * 0.0, policy.low, policy.high)
    assert np.abs(expected - alone).max() > 0.5 * policy.high[0]
    made = make_forms(FORMS, read, "sum", inputs, outputs, 0.02, vectors, [0.0, 0.0])
    found = check_forms(made, vectors, expected, problem.high - problem.low)
    assert set(found) == set(FORMS) and all(value <= TOLERANCES[form] for form, value in found.items()), found


def _score(problem: Problem, driver: Driver) -> float:
    trials = run_trials(problem, driver, seed=EVALUATION_SEED, stream="evaluation", count=32, threads=1)
    return float(trials.score.mean())


def test_a_residual_run_begins_where_its_base_is_and_resumes_to_the_bit(folder: Path, tmp_path: Path) -> None:
    problem = Project(folder).problem("lift")
    places = tmp_path / "a", tmp_path / "b"
    for place in places:
        place.mkdir()
    first = Run(problem, recipe(), 4, places[0])
    assert first.base is not None and first.base.explained.min() > 0.9
    begun = evaluate(problem, first.method.policy(), 32, 1).score.mean()
    assert abs(begun - _score(problem, Rule(problem, "steady"))) < 10.0
    first.update()
    first.checkpoint()
    (places[1] / "checkpoint.npz").write_bytes((places[0] / "checkpoint.npz").read_bytes())
    second = Run(problem, recipe(), 4, places[1])
    assert second.resume()
    for run in (first, second):
        run.update()
    rows = np.random.default_rng(2).uniform(-1, 1, (8, 10))
    np.testing.assert_array_equal(first.method.policy().commands(rows), second.method.policy().commands(rows))


def test_what_the_sensors_do_not_tell_is_refused(folder: Path) -> None:
    project = Project(folder)
    with pytest.raises(StateError, match=r"residual on strip: .* explains \d+ % of its command 'tilt'"):
        base_controller(project.problem("sow"), "strip")
    with pytest.raises(StateError, match="no rule 'tidy'"):
        base_controller(project.problem("lift"), "tidy")


def test_a_recipe_file_names_what_it_corrects(folder: Path) -> None:
    path = folder / "recipes" / "ppo.toml"
    text = path.read_text()
    path.write_text(text + '\n[residual]\non = "steady"\nreach = 0.5\n')
    read = read_recipe(folder, "ppo")
    assert read.residual is not None and (read.residual.on, read.residual.reach) == ("steady", 0.5)
    assert with_changes(read, {"residual": "off"}).residual is None
    path.write_text(text + "\n[residual]\nreach = 3\n")
    with pytest.raises(FileError, match=r"residual\.reach"):
        read_recipe(folder, "ppo")


@pytest.mark.parametrize(("method", "squashed"), [("ppo", False), ("a2c", False), ("sac", True)])
def test_a_correction_never_leaves_its_reach(method: str, squashed: bool) -> None:
    """In training, in the policy that is kept, and in every form that goes out; the network asks for ten times as much."""
    low, high = np.array([-5.0, -1.0]), np.array([5.0, 3.0])
    space = Space(np.full(3, -1.0), np.full(3, 1.0), low, high)
    base, reach = np.array([[0.3, 0.0, -0.2, 0.1], [0.0, 0.2, 0.0, 1.0]]), 0.3
    settings = settings_class(method)()
    learner = Residual(lambda s: make_method(method, settings, s, 16, 1), space, base, reach)
    inner: Any = learner.inner
    parameters = inner.parameters
    network = inner.loss.actor if method in ("ppo", "a2c") else inner.actor
    network.layers(parameters[: network.count])[-1][1][:2] = 10.0, -10.0
    rows = np.random.default_rng(1).uniform(-1, 1, (16, 3))
    alone = rows @ base[:, :-1].T + base[:, -1]
    most = reach * 0.5 * (high - low)
    if method != "sac":
        assert (np.abs(learner.choose(rows) - alone) <= most + 1e-6).all()
    policy = learner.policy()
    corrected = policy.commands(rows) - alone
    assert (np.abs(corrected) <= most + 1e-5).all() and np.abs(corrected[:, 0]).max() > 0.95 * most[0]
    assert policy.squashed == squashed
    inputs, outputs = (
        [Line(f"x{k}", "m", -1.0, 1.0) for k in range(3)],
        [Line(f"u{k}", "N", lo, hi) for k, (lo, hi) in enumerate(zip(low, high, strict=True))],
    )
    vectors = rows.astype(np.float32).astype(np.float64)
    made = make_forms(("onnx", "c99"), policy, "sum", inputs, outputs, 0.02, vectors, [0.0, 0.0])
    assert max(check_forms(made, vectors, policy.commands(vectors), high - low).values()) <= TOLERANCES["c99"]


def test_what_the_task_knows_of_its_reward_is_known_of_the_sum() -> None:
    """A judge is asked about the commands that go out, not about corrections."""
    asked: list[np.ndarray] = []

    class Judge:
        every_reward = every_ending = True

        def judge(self, before: np.ndarray, commands: np.ndarray, after: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
            asked.append(commands)
            return commands[:, 0], np.zeros(len(commands), bool)

    space = Space(np.full(3, -1.0), np.full(3, 1.0), np.full(1, -5.0), np.full(1, 5.0), judge=Judge())
    base = np.array([[0.3, 0.0, -0.2, 4.9]])
    learner = Residual(lambda s: make_method("sac", settings_class("sac")(), s, 16, 1), space, base, 0.3)
    judge = learner.inner.space.judge
    rows, corrections = np.random.default_rng(1).uniform(-1, 1, (16, 3)), np.full((16, 1), 1.5)
    judge.judge(rows, corrections, rows)
    np.testing.assert_allclose(asked[0], np.clip(rows @ base[:, :-1].T + base[:, -1] + 1.5, -5.0, 5.0), atol=1e-6)
    assert asked[0].max() == 5.0
