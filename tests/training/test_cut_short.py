"""Training episodes that are cut before the task's time limit: more starts are met, nothing that is judged changes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.errors import FileError
from plucky_heron.learning.method import Experience
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.runs.store import run_folder
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import Recipe, read_recipe, with_changes


def recipe(**changes: str) -> Recipe:
    """PPO, small."""
    small = {"copies": "16", "steps_per_update": "2048", "steps": "8192", "evaluation.episodes": "8"}
    return with_changes(Recipe(), small | changes)


def begun(folder: Path, place: Path, **changes: str) -> Run:
    """A run after two updates, not yet evaluated."""
    place.mkdir()
    run = Run(Project(folder).problem("lift"), recipe(**changes), 4, place)
    for _ in range(2):
        run.update()
    return run


def test_episodes_are_cut_and_valued_on_and_evaluations_run_in_full(
    folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    full, cut = begun(folder, tmp_path / "full"), begun(folder, tmp_path / "cut", training_time_limit="1 s")
    # 50 samples a second, 16 copies, 4096 steps: 256 samples a copy
    assert cut.episodes >= 16 * 5 > full.episodes
    assert cut.batch.age.max() < 50 < full.batch.age.max()
    # a cut is a time limit to the method: `over` tells it from an ending
    run = Run(Project(folder).problem("lift"), recipe(training_time_limit="1 s"), 4, tmp_path / "cut")
    told: list[tuple[np.ndarray, np.ndarray]] = []
    take = run.method.take

    def noted(experience: Experience) -> None:
        told.append((experience.ended.copy(), experience.cut.copy()))
        take(experience)

    monkeypatch.setattr(run.method, "take", noted)
    run.update()
    ended, was_cut = (np.array(part) for part in zip(*told, strict=True))
    assert was_cut.sum() >= 16 * 2 and not (ended & was_cut).any()
    evaluated: list[dict[str, Any]] = []
    cut._evaluate(lambda _run, _row, details: evaluated.append(details))
    assert evaluated[-1]["length"] > 50  # samples of an evaluation episode
    assert cut.course[0].episodes == cut.episodes


def test_a_longer_cut_than_the_time_limit_changes_nothing_and_resuming_is_exact(folder: Path, tmp_path: Path) -> None:
    rows = np.random.default_rng(2).uniform(-1, 1, (8, 10))
    full, same = begun(folder, tmp_path / "full"), begun(folder, tmp_path / "same", training_time_limit="90 s")
    np.testing.assert_array_equal(full.method.policy().commands(rows), same.method.policy().commands(rows))
    first = begun(folder, tmp_path / "first", training_time_limit="1.5 s")
    first._evaluate(lambda *_: None)
    first.checkpoint()
    (tmp_path / "second").mkdir()
    (tmp_path / "second" / "checkpoint.npz").write_bytes((tmp_path / "first" / "checkpoint.npz").read_bytes())
    second = Run(first.problem, first.recipe, 4, tmp_path / "second")
    assert second.resume()
    for run in (first, second):
        run.update()
    assert first.episodes == second.episodes and second.batch.age.max() < 75
    np.testing.assert_array_equal(first.method.policy().commands(rows), second.method.policy().commands(rows))


def test_it_is_read_with_its_unit_and_refused_without_sense(folder: Path) -> None:
    path = folder / "recipes" / "ppo.toml"
    text = path.read_text()
    path.write_text(text.replace("format = 2\n", 'format = 2\ntraining_time_limit = "500 ms"\n'))
    read = read_recipe(folder, "ppo")
    assert read.training_time_limit == 0.5
    assert with_changes(read, {"training_time_limit": "off"}).training_time_limit is None
    assert with_changes(read, {"training_time_limit": "5 s"}).training_time_limit == 5.0
    for wrong, why in (("5 m", "training_time_limit"), ("-1 s", "more than 0"), ("soon", "training_time_limit")):
        with pytest.raises(FileError, match=why):
            with_changes(read, {"training_time_limit": wrong})
    run = launch.create_batch(folder, "lift", with_changes(read, {"steps": "1000"}), [1])[0]
    frozen = run_folder(folder, run) / "frozen" / "recipe.json"
    assert Recipe.model_validate_json(frozen.read_text()).training_time_limit == 0.5
