"""Learning a correction on a law: the law is what the regulator does, the sum is what acts and what goes out."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.control.base_controller import base_controller
from plucky_heron.control.regulator import regulator_for
from plucky_heron.errors import FileError, StateError
from plucky_heron.handover.equality import TOLERANCE, check_forms
from plucky_heron.handover.forms.c99 import to_c
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.onnx import to_onnx
from plucky_heron.learning.policy import Policy
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
    files: dict[str, bytes | str] = {"policy.onnx": to_onnx(read), **to_c(read, "sum", inputs, outputs, 0.02)}
    high = np.array([e.high for e in problem.sensed])
    vectors = np.random.default_rng(1).uniform(-high, high, (200, len(high))).astype(np.float32).astype(np.float64)
    expected = policy.commands(vectors)
    alone = np.clip(policy.middle + policy.half * 0.0, policy.low, policy.high)
    assert np.abs(expected - alone).max() > 0.5 * policy.high[0]
    assert max(check_forms(files, vectors, expected, problem.high - problem.low).values()) <= TOLERANCE


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
