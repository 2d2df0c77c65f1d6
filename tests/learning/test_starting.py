"""Starting from another run: the policy commands what it commanded there, whatever order, ranges and names the new task has."""

from __future__ import annotations

import re
import shutil
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.cli.main import main
from plucky_heron.errors import StateError
from plucky_heron.learning.off_policy import OffPolicy
from plucky_heron.learning.on_policy import OnPolicy
from plucky_heron.learning.starting import Source, source_of, start_from
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.runs.store import RunRow
from plucky_heron.task.problem import Problem, read_problem
from plucky_heron.training.loop import Run, method_of, names_of
from plucky_heron.training.recipe import Recipe

SHORT: dict[str, dict[str, Any]] = {
    "ppo": {"copies": 8, "steps": 1500, "settings": {"steps_per_update": 256, "minibatch": 64, "hidden": [24, 16]}},
    "a2c": {"copies": 8, "steps": 1000, "settings": {"hidden": [24, 16]}},
    "sac": {"copies": 4, "steps": 900, "settings": {"hidden": [24, 16], "minibatch": 32, "random_start_steps": 200, "updates_per_step": 0.2}},
    "td3": {"copies": 4, "steps": 900, "settings": {"hidden": [24, 16], "minibatch": 32, "random_start_steps": 200, "updates_per_step": 0.2}},
}  # fmt: skip


def recipe_of(method: str, **more: Any) -> Recipe:
    return Recipe.model_validate(
        {"method": method, "evaluation": {"every": 5000, "episodes": 2}} | SHORT[method] | more
    )


@pytest.fixture(scope="module")
def sources(tmp_path_factory: pytest.TempPathFactory, problem: Problem) -> dict[str, tuple[Run, Source]]:
    """A short run of each method, and what can be started from it."""
    found = {}
    for method in SHORT:
        run = Run(problem, recipe_of(method), 1, tmp_path_factory.mktemp(method))
        health: dict[str, float] = {}

        def on_update(_: Run, told: dict[str, float], health: dict[str, float] = health) -> None:
            health.update(told)

        run.work(on_update, lambda *_: None, lambda: False)
        told = Source(1, run.steps, run.method.policy(), *names_of(problem), method, problem.fingerprint())
        found[method] = run, source_of(run.method, told.policy, told, health)
    return found


def observations(problem: Problem, count: int = 200) -> np.ndarray:
    """Observations within the middle of their ranges."""
    low = np.array([e.low for e in problem.entries])
    high = np.array([e.high for e in problem.entries])
    return np.random.default_rng(0).uniform(0.7 * low + 0.3 * high, 0.3 * low + 0.7 * high, (count, len(low)))


def worth(method: Any, seen: np.ndarray, commands: np.ndarray) -> np.ndarray:
    """What its first critic says, in its own units."""
    if isinstance(method, OnPolicy):
        return np.array(method.loss.value(method.parameters, method.inputs.of(seen)))
    assert isinstance(method, OffPolicy)
    return method.critics[0].of(np.concatenate([method.inputs.of(seen), commands], axis=1, dtype=np.float32)).copy()


@pytest.mark.parametrize("method", SHORT)
def test_on_the_same_task_policy_and_critic_say_what_they_said(
    method: str, sources: dict[str, tuple[Run, Source]], problem: Problem
) -> None:
    run, source = sources[method]
    fresh = method_of(problem, recipe_of(method), 9)
    said = start_from(fresh, source, *names_of(problem), problem.fingerprint())
    seen = observations(problem)
    span = problem.high - problem.low
    assert np.abs((fresh.policy().commands(seen) - source.policy.commands(seen)) / span).max() < 1e-4
    commands = np.random.default_rng(1).uniform(-1, 1, (len(seen), 2))
    assert np.allclose(worth(fresh, seen, commands), worth(run.method, seen, commands), atol=2e-3)
    assert said[:3] == ["10 of 10 observations", "2 of 2 commands", "critic and statistics carried over"]
    if isinstance(fresh, OnPolicy) and isinstance(run.method, OnPolicy):
        part = fresh.loss.spread_part
        assert np.allclose(fresh.parameters[part], run.method.parameters[part].mean(), atol=0.05)
        assert np.array_equal(fresh.paid.keep(), run.method.paid.keep())


@pytest.mark.parametrize("method", ["ppo", "sac"])
def test_names_decide_whatever_order_and_ranges(
    method: str, sources: dict[str, tuple[Run, Source]], folder: Path
) -> None:
    """The observations in another order, other ranges, one more; the limits of a command narrower: in SI units it is the same policy."""
    _, source = sources[method]
    path = folder / "tasks" / "lift.toml"
    blocks = re.split(r"(?=\[\[observations\]\])", path.read_text())
    head, *listed = blocks
    last, tail = re.split(r"(?=# --- what is commanded)", listed[-1])
    listed[-1] = last
    extra = '[[observations]]\nname = "drift"\nformula = "drift"\nunit = "m/s"\nrange = ["0 m/s", "4 m/s"]\n\n'
    text = head + extra + "".join(reversed(listed)) + tail
    text = text.replace('range = ["-10 m", "10 m"]', 'range = ["-14 m", "6 m"]')
    if method == "ppo":  # a squashed policy keeps only its slope
        text = text.replace('limits = ["-0.8 m/s", "0.8 m/s"]', 'limits = ["-0.8 m/s", "0.7 m/s"]')
    path.write_text(text)
    other = read_problem(folder, "lift")
    fresh = method_of(other, recipe_of(method), 9)
    unmoved = method_of(other, recipe_of(method), 9)
    said = start_from(fresh, source, *names_of(other), other.fingerprint())
    assert (
        said[0] == "10 of 11 observations (drift afresh)" and said[-1] == "another problem: explores as the recipe says"
    )
    if isinstance(fresh, OnPolicy) and isinstance(unmoved, OnPolicy):
        part = fresh.loss.spread_part
        assert np.array_equal(fresh.parameters[part], unmoved.parameters[part])
    seen = observations(read_problem(Project(folder).folder, "lift"))
    names = names_of(other)[0]
    theirs = np.column_stack([seen[:, names.index(name)] for name in source.observations])
    span = source.policy.high - source.policy.low
    wanted = np.clip(source.policy.commands(theirs), other.low, other.high)
    difference = np.abs((fresh.policy().commands(seen) - wanted) / span)
    assert difference.max() < 1e-4
    moved = seen.copy()
    moved[:, names.index("drift")] += 1.0
    assert np.allclose(fresh.policy().commands(moved), fresh.policy().commands(seen)), (
        "what is new has no influence yet"
    )


def test_what_does_not_fit_says_what_it_needs(sources: dict[str, tuple[Run, Source]], problem: Problem) -> None:
    _, source = sources["ppo"]

    def refused(
        recipe: Recipe, source: Source = source, names: tuple[tuple[str, ...], tuple[str, ...]] | None = None
    ) -> str:
        with pytest.raises(StateError) as caught:
            start_from(method_of(problem, recipe, 1), source, *(names or names_of(problem)))
        return str(caught.value)

    other = recipe_of("ppo", settings={"hidden": [8], "activation": "relu"})
    assert "hidden=[24, 16] and activation=tanh" in refused(other)
    assert "cannot serve a replay method" in refused(
        recipe_of("sac", settings={"hidden": [24, 16], "activation": "tanh"})
    )
    assert "random search" in refused(Recipe.model_validate({"method": "random search"}))
    assert "shares no observation" in refused(recipe_of("ppo"), names=(("a",) * 10, source.commands))
    assert "set residual as it was there" in refused(
        recipe_of("ppo"), replace(source, policy=replace(source.policy, base=np.zeros((2, 11), np.float32)))
    )


def test_a_bare_policy_starts_with_a_fresh_critic(sources: dict[str, tuple[Run, Source]], problem: Problem) -> None:
    _, source = sources["sac"]
    bare = Source(1, 5, source.policy, source.observations, source.commands, "sac")
    fresh = method_of(problem, recipe_of("sac"), 9)
    assert "the critic begins afresh" in start_from(fresh, bare, *names_of(problem))
    assert isinstance(fresh, OffPolicy) and fresh.resting, "and learns alone at first"
    seen = observations(problem)
    assert np.allclose(fresh.policy().commands(seen), source.policy.commands(seen), atol=1e-3)


def test_a_source_is_written_and_read(sources: dict[str, tuple[Run, Source]], tmp_path: Path) -> None:
    _, source = sources["sac"]
    source.save(tmp_path)
    again = Source.load(tmp_path)
    assert again is not None and again.observations == source.observations and again.spread == source.spread
    assert again.entropy_weight == source.entropy_weight and len(again.critics) == 2
    assert all(
        np.array_equal(a.parameters, b.parameters) and a.sizes == b.sizes
        for a, b in zip(again.critics, source.critics, strict=True)
    )
    assert np.array_equal(again.policy.parameters, source.policy.parameters)
    assert Source.load(tmp_path / "nothing") is None


def test_from_on_the_command_line(
    trained: tuple[Project, RunRow], capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    """The first evaluation of a run that starts from another is worth what that one's policy was worth."""
    row = trained[1]
    project = Project(shutil.copytree(trained[0].folder, tmp_path / "own"))  # others count the runs of the shared one
    call = [
        "train",
        "lift",
        "--recipe",
        "ppo",
        "--project",
        str(project.folder),
        "--set",
        "evaluation.every=4096",
        "--set",
        "copies=32",
        "--steps",
        "3000",
    ]
    assert main([*call, "--from", f"{row.id}", "--json"]) == 0
    said = capsys.readouterr()
    assert f"starts from run {row.id} at {row.best_step} steps: 10 of 10 observations; 2 of 2 commands" in said.err
    began = project.runs()[-1]
    assert began.facts["started_with"][2] == "critic and statistics carried over"
    first = project.curve(began.id).rows[0]
    assert first[1] == pytest.approx(row.best_success or 0.0) and first[2] == pytest.approx(
        row.best_score or 0.0, abs=0.05
    )
    assert main([*call, "--from", f"{row.id}@17"]) == 2
    assert "keeps best, last and the steps" in capsys.readouterr().err
    assert main([*call, "--from", f"{row.id}", "--set", "hidden=[8, 8]"]) == 2
    assert "hidden=[64, 64]" in capsys.readouterr().err
    assert main([*call, "--from", "99"]) == 2
    again = launch.start_of(project.folder, row, "last")
    assert again.step == row.steps
