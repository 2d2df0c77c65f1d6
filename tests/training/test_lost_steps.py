"""What the loop tells a method: simulations that are lost, clocks of the first episodes, shaping beside the reward, searches on equal starts."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.control.base_controller import _Heard
from plucky_heron.learning.method import Experience
from plucky_heron.project import Project
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Random, Rule
from plucky_heron.simulation.trials import run_trials
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import Recipe, with_changes

SMALL: dict[str, dict[str, str]] = {
    "ppo": {"steps_per_update": "512"},
    "sac": {"random_start_steps": "64", "hidden": "[16]", "minibatch": "16", "replay_capacity": "4096"},
    "td3": {"random_start_steps": "64", "hidden": "[16]", "minibatch": "16", "replay_capacity": "4096"},
    "model-based": {"random_start_steps": "64", "hidden": "[16]", "minibatch": "16", "replay_capacity": "4096", "model_updates": "2"},
    "cross-entropy": {"candidates": "16", "episodes": "2"},
}  # fmt: skip


def begun(folder: Path, place: Path, method: str, **changes: str) -> Run:
    place.mkdir(exist_ok=True)
    small = {"copies": "16", "steps": "4096", "training_time_limit": "1 s", "evaluation.episodes": "8"}
    recipe = with_changes(Recipe(method=method), small | SMALL[method] | changes)
    return Run(Project(folder).problem("lift"), recipe, 4, place)


def told(run: Run, monkeypatch: pytest.MonkeyPatch) -> list[Experience]:
    """All that the method is told from now on."""
    heard: list[Experience] = []
    take = run.method.take

    def noted(experience: Experience) -> None:
        heard.append(experience)
        take(experience)

    monkeypatch.setattr(run.method, "take", noted)
    return heard


def breaking(run: Run, monkeypatch: pytest.MonkeyPatch) -> None:
    """Every fortieth step the speed of one copy becomes no number."""
    plant, calls = run.batch.plant, [0]
    step = plant.step

    def broken(commands: np.ndarray, substeps: int) -> None:
        step(commands, substeps)
        calls[0] += 1
        if calls[0] % 40 == 39:
            plant.velocity[calls[0] // 40 % 16, 0] = np.nan

    monkeypatch.setattr(plant, "step", broken)


@pytest.mark.parametrize("method", SMALL)
def test_a_simulation_that_blew_up_is_counted_and_teaches_nothing(
    folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, method: str
) -> None:
    run = begun(folder, tmp_path / "run", method)
    heard = told(run, monkeypatch)
    breaking(run, monkeypatch)
    lost = 0.0
    while len(heard) < 200:
        health = run.update()
        lost += health["lost"]
        assert all(np.isfinite(v) for v in health.values()), health
    rows = [(e, k) for e in heard if e.lost is not None for k in np.flatnonzero(e.lost)]
    assert lost == len(rows) >= 4
    for e, k in rows:
        assert e.cut[k] and not e.ended[k] and e.reward[k] == 0.0 and e.before is not None
        np.testing.assert_array_equal(e.after[k], e.before[k])
    assert np.isfinite(run.method.policy().parameters).all()
    kept = run.method.keep()
    if "replay.observations" in kept and len(heard) * 16 <= 4096:
        # the step itself is nowhere in the buffer; the one before it stands there as cut
        first, lost_copy = next(
            (t, int(np.flatnonzero(e.lost)[0])) for t, e in enumerate(heard) if e.lost is not None and e.lost.any()
        )
        here, before = first * 16 + lost_copy, (first - 1) * 16 + lost_copy
        np.testing.assert_array_equal(kept["replay.observations"][here], kept["replay.observations"][before])
        np.testing.assert_array_equal(kept["replay.after"][here], kept["replay.after"][before])
        assert kept["replay.over"][before] == kept["replay.over"][here] == 2


@pytest.mark.parametrize("number", [np.nan, 1e6])
def test_in_trials_it_is_a_failure(folder: Path, monkeypatch: pytest.MonkeyPatch, number: float) -> None:
    """Success is denied; where a quarter is lost the evaluation is not finite, where one of many is it scores no better than the worst."""
    from plucky_heron.dynamics.plant import Plant
    from plucky_heron.training.evaluation import summarise

    step = Plant.step

    def broken(plant: Any, commands: np.ndarray, substeps: int) -> None:
        step(plant, commands, substeps)
        plant.velocity[0, 0] = number

    monkeypatch.setattr(Plant, "step", broken)
    problem = Project(folder).problem("lift")
    trials = run_trials(problem, Rule(problem, "steady"), seed=1, stream="evaluation", count=4, threads=1)
    assert not trials.success[0] and trials.steps[0] == 1
    assert not summarise(trials, 0, 0.0, 0, 0.02, {})[0].finite
    many = run_trials(problem, Rule(problem, "steady"), seed=1, stream="evaluation", count=16, threads=1)
    costly = replace(many, score=many.score - 200.0)  # where steps cost something, to be lost is the best of all
    costly.score[0] = 0.0
    row, _ = summarise(costly, 0, 0.0, 0, 0.02, {})
    assert row.finite and row.success < 1.0
    assert row.score == pytest.approx((costly.score[1:].sum() + costly.score[1:].min()) / 16)


def test_first_episodes_begin_at_the_time_that_they_are_said_to_begin_at(folder: Path) -> None:
    """Staggered by their clocks: what is observed at first is what a sample later would be expected to follow."""
    problem = Project(folder).problem("lift")
    batch = Batch(problem, 8, 4, "training", 1)
    ages = np.linspace(0, batch.limit - 1, 8).astype(np.int64)
    batch.start(np.arange(8), ages)
    np.testing.assert_allclose(batch.signals["time"], ages * problem.sample_time)
    left = batch.signals["time.left"].copy()
    batch.step(np.zeros((8, 2)))
    np.testing.assert_allclose(batch.signals["time"], (ages + 1) * problem.sample_time)
    if np.isfinite(left).all():
        np.testing.assert_allclose(left - batch.signals["time.left"], problem.sample_time)


@pytest.mark.parametrize("method", ["ppo", "sac"])
def test_a_run_staggers_its_first_episodes_so(folder: Path, tmp_path: Path, method: str) -> None:
    run = begun(folder, tmp_path / "run", method)
    assert run.batch.signals["time"].max() > 0.9 and len(np.unique(run.batch.signals["time"])) == 16


def test_a_search_judges_its_candidates_on_equal_starts_and_on_no_episode_more(
    folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    run = begun(folder, tmp_path / "run", "cross-entropy", copies="10")
    begun_with: list[tuple[int, int]] = []
    restart = run.batch.restart

    def noted(copies: np.ndarray, episodes: np.ndarray, ages: Any = None) -> None:
        begun_with.extend(zip(copies.tolist(), episodes.tolist(), strict=True))
        restart(copies, episodes, ages)

    monkeypatch.setattr(run.batch, "restart", noted)
    run.update()
    run.update()
    # ten are under way since the run was made; 2 rounds of 16 candidates, two episodes each, and the first ten of the third
    assert len(begun_with) + 10 == 3 * 32 - 22
    numbers = [number for _, number in begun_with]
    assert set(numbers) == {0, 1, 2, 3, 4, 5} or set(numbers) == {0, 1, 2, 3, 4}
    assert run.episodes == 64
    assert run.steps <= 64 * run.batch.limit


def test_what_stood_still_after_its_end_is_no_part_of_a_fit(folder: Path) -> None:
    problem = Project(folder).problem("lift")
    heard = _Heard(Random(problem, 3))
    trials = run_trials(problem, heard, seed=1, stream="evaluation", count=24, threads=1)
    assert trials.steps.min() < trials.steps.max()
    assert (
        sum(len(rows) for rows in heard.observations) == trials.steps.sum() == sum(len(rows) for rows in heard.commands)
    )


def test_shaping_is_never_held_by_the_reward_limit(
    folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Held, what was lent would not be given back: the sum over an episode is the same with any limit."""
    stored = []
    for limit in ("0.001", "off"):
        run = begun(
            folder, tmp_path / limit, "sac", **{"reward_limit": limit, "shaping.potential": "30 * norm(offset, height)"}
        )
        heard = told(run, monkeypatch)
        while len(heard) < 60:
            run.update()
        kept = run.method.keep()["replay.reward"][: 40 * 16]
        shaping = np.concatenate([e.shaping for e in heard[:40] if e.shaping is not None])
        own = np.concatenate([e.reward for e in heard[:40]]) - shaping
        held = np.clip(own, -0.001, 0.001) if limit != "off" else own
        np.testing.assert_allclose(kept, held + shaping, atol=1e-4)
        stored.append(np.abs(shaping).max())
    assert min(stored) > 0.1
