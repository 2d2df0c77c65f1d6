"""An ended run that is given more steps is, to the bit, the run that had them from the start."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.cli.main import main
from plucky_heron.errors import StateError
from plucky_heron.files import read_arrays
from plucky_heron.learning.policy import Policy
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.runs.freeze import frozen_recipe, kept_policy
from plucky_heron.runs.store import RunRow, RunStore, run_folder
from plucky_heron.task.problem import Problem
from plucky_heron.training.keeping import milestones_of
from plucky_heron.training.loop import Best, Run
from plucky_heron.training.recipe import Recipe, recipe_from_json, with_changes
from plucky_heron.training.stopping import Evaluation
from plucky_heron.training.stopping.budget import Budget

METHODS: dict[str, dict[str, Any]] = {
    "ppo": {"copies": 16, "settings": {"steps_per_update": 512, "minibatch": 128, "passes": 2}},
    "sac": {"copies": 4, "settings": {"hidden": [32, 32], "minibatch": 64, "random_start_steps": 400, "updates_per_step": 0.25}},
    "model-based": {"copies": 4, "settings": {"hidden": [32, 32], "minibatch": 64, "random_start_steps": 400, "updates_per_step": 0.25}},
}  # fmt: skip
NOT_OF_BITS = ("seconds", "course", "of", "verdict")


def recipe_of(method: str, steps: int, schedule: int | None = None) -> Recipe:
    """A short recipe that falls along its schedule, with evaluations that do not meet its end."""
    data = METHODS[method] | {
        "name": method, "method": method, "steps": steps, "schedule_steps": schedule, "evaluation": {"every": 700, "episodes": 8},
        "stop": [{"kind": "budget", "steps": steps}],
    }  # fmt: skip
    data["settings"] = data["settings"] | {"learning_rate_share_end": 0.2}
    return Recipe.model_validate(data)


def ended(project: Path, recipe: Recipe) -> RunRow:
    """A run of the hoist by this recipe, from its start to its end."""
    row = launch.wait(project, launch.train(project, "lift", recipe, [3]))[0]
    assert row.state == "done", row.stop_text
    return row


def curve(project: Path, row: RunRow) -> list[tuple[Evaluation, dict[str, float]]]:
    """The evaluations of a run without what they cost in time, and their figures."""
    store = RunStore(project)
    try:
        return [
            (e.__class__(e.step, 0.0, e.episodes, e.score, e.success), dict(e.figures))
            for e in store.whole_course(row.id)
        ]
    finally:
        store.close()


@pytest.mark.parametrize("method", METHODS)
def test_going_on_gives_the_bits_of_the_longer_budget(method: str, problem: Problem, tmp_path: Path) -> None:
    def worked(recipe: Recipe, folder: Path) -> Run:
        run = Run(problem, recipe, 3, folder)
        run.resume()
        run.work(lambda *_: None, lambda *_: None, lambda: False)
        return run

    first = worked(recipe_of(method, 1900), tmp_path / "a")
    assert first.extra, "it ends beside the multiples"
    longer = worked(recipe_of(method, 3800, 1900), tmp_path / "a")
    whole = worked(recipe_of(method, 3800, 1900), tmp_path / "b")
    assert longer.steps == whole.steps >= 3800 and longer.dropped == first.steps
    assert [(e.step, e.score, e.success, e.figures) for e in longer.course] == [
        (e.step, e.score, e.success, e.figures) for e in whole.course
    ]
    assert longer.best == whole.best and longer.verdict == whole.verdict
    a, b = (read_arrays(tmp_path / name / "checkpoint.npz") for name in "ab")
    assert a.keys() == b.keys()
    for name in a.keys() - set(NOT_OF_BITS):
        assert np.array_equal(a[name], b[name], equal_nan=a[name].dtype.kind == "f"), name
    for which in ("best", "last"):
        mine, theirs = (Policy.load(tmp_path / name / f"{which}.npz").parameters for name in "ab")
        assert np.array_equal(mine, theirs)


def test_a_run_goes_on_twice_by_its_number(folder: Path) -> None:
    first = ended(folder, recipe_of("ppo", 1300))
    assert "learning rate stays at 0.2" in launch.resume(folder, first.id, 2100)
    launch.wait(folder, [first.id])
    launch.resume(folder, first.id, 3500)
    longer, whole = launch.wait(folder, [first.id])[0], ended(folder, recipe_of("ppo", 3500, 1300))
    assert longer.steps == whole.steps >= 3500 and longer.stop_rule == whole.stop_rule == "budget"
    assert (longer.best_step, longer.best_score, longer.best_success) == (
        whole.best_step, whole.best_score, whole.best_success,
    )  # fmt: skip
    assert curve(folder, longer) == curve(folder, whole) and longer.retest == whole.retest
    kept = recipe_from_json(
        (run_folder(folder, first.id) / "frozen" / f"recipe-before-{first.steps}.json").read_text(), ""
    )
    assert kept.steps == 1300 and frozen_recipe(folder, longer).steps == 3500


def test_a_rule_that_holds_already_is_lifted_and_said(folder: Path) -> None:
    recipe = recipe_of("ppo", 9000).model_dump() | {
        "stop": [{"kind": "good enough", "at_least": 0.0, "running": 2}, {"kind": "gone wrong"}]
    }
    first = ended(folder, Recipe.model_validate(recipe))
    assert first.stop_rule == "good enough" and first.steps < 2000
    assert "without the rule good enough, which holds already" in launch.resume(folder, first.id, 3000)
    row = launch.wait(folder, [first.id])[0]
    assert row.steps >= 3000 and row.stop_rule == "budget"
    assert [rule.kind for rule in frozen_recipe(folder, row).stop] == ["gone wrong"]


def test_a_policy_that_only_an_early_end_showed_stays_as_a_milestone(folder: Path) -> None:
    """The evaluation beside the multiples was the best: the longer run does not have it, and its policy is not lost."""
    project = Project(folder)
    run = Run(project.problem("lift"), recipe_of("ppo", 500), 1, folder / "own")
    run.work(lambda *_: None, lambda *_: None, lambda: False)
    assert run.extra and [e.step for e in run.course] == [0, 512]
    policy = run.method.policy()
    run.before, run.best = Best(0, -1.0, 0.0), Best(run.steps, 5.0, 0.5)
    policy.save(folder / "own" / "best.npz")
    run.checkpoint()
    again = Run(project.problem("lift"), recipe_of("ppo", 3000, 500), 1, folder / "own")
    assert again.resume() and again.verdict is None and again.dropped == run.steps
    assert again.best == Best(0, -1.0, 0.0) and run.steps in milestones_of(folder / "own").steps()


def test_what_cannot_go_on_says_why(trained: tuple[Project, RunRow], capsys: pytest.CaptureFixture[str]) -> None:
    project, row = trained
    with pytest.raises(StateError, match="give it more than that"):
        launch.resume(project.folder, row.id, row.steps)
    with pytest.raises(StateError, match="give it more steps to go on"):
        launch.resume(project.folder, row.id)
    assert main(["train", "--resume", str(row.id), "--steps", "100", "--project", str(project.folder)]) == 2
    assert f"has done {row.steps} steps" in capsys.readouterr().err


def test_milestones_are_kept_at_powers_of_ten_and_where_success_jumps(trained: tuple[Project, RunRow]) -> None:
    project, row = trained
    kept = milestones_of(run_folder(project.folder, row.id))
    steps = kept.steps()
    store = RunStore(project.folder)
    course = store.course(row.id)
    store.close()
    for at in (1000, 10_000):
        assert next(e.step for e in course if e.step >= at) in steps
    policy = kept_policy(project.folder, row, str(steps[0]))
    assert policy.identity == row.identity
    with pytest.raises(Exception, match="keeps best, last and the steps"):
        kept_policy(project.folder, row, "17")
    jumps = [(0, 0.0), (5000, 0.2), (6000, 0.3), (7000, 0.5), (8000, 0.9)]
    assert [kept.due(jumps[: k + 1]) for k in range(5)] == [False, True, True, False, True]


def test_more_steps_move_the_budget_that_was_all_of_them() -> None:
    recipe = Recipe.model_validate(
        {"steps": 1000, "stop": [{"kind": "budget", "steps": 1000}, {"kind": "budget", "steps": 700}]}
    )
    changed = with_changes(recipe, {"steps": "5000"})
    assert [rule.model_dump()["steps"] for rule in changed.stop] == [5000, 700] and changed.schedule == 5000


@pytest.mark.long
def test_runs_at_work_obey_other_rules_when_asked_to(folder: Path) -> None:
    recipe = recipe_of("ppo", 400_000)
    runs = launch.train(folder, "lift", recipe, [1])
    store = RunStore(folder)
    try:
        while store.run(runs[0]).steps < 2000:
            time.sleep(0.05)
        launch.obey(folder, runs, [Budget(steps=1)])
        row = launch.wait(folder, runs)[0]
    finally:
        store.close()
    assert (
        row.stop_rule == "budget"
        and row.stop_text is not None
        and row.stop_text.endswith("of 1")
        and row.steps < 200_000
    )
    (changed,) = row.facts["rules_changed"]
    assert changed["rules"] == ["budget: 1 steps"] and 2000 <= changed["step"] <= row.steps
    assert [r.kind for r in frozen_recipe(folder, row).stop] == ["budget"]
