"""What is lent to a learner adds up to nothing that could change what is best, and is never part of a score."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.errors import FileError
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Random
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import Recipe, read_recipe, with_changes
from plucky_heron.training.shaping import Shaping, potential_of

POTENTIAL = "integral(abs(offset)) - 2 * norm(offset, height)"


def recipe(**changes: str) -> Recipe:
    """PPO, small."""
    small = {"copies": "16", "steps_per_update": "512", "steps": "2048", "evaluation.episodes": "8"}
    return with_changes(Recipe(), small | {"shaping.potential": POTENTIAL} | changes)


def test_what_is_lent_telescopes(folder: Path) -> None:
    """Ng, Harada and Russell 1999: the discounted sum is the last potential less the first; nothing is left at an ending."""
    problem = Project(folder).problem("lift")
    batch, discount, copies = Batch(problem, 24, 5, "training", 1), 0.97, np.arange(24)
    shaping = Shaping(batch, potential_of(problem, POTENTIAL), discount)
    batch.start(copies)
    shaping.begin(copies)
    first = shaping.potential.copy()
    driver = Random(problem, 3)
    driver.begin(batch)
    lent, last, ended, going = np.zeros(24), np.zeros(24), np.zeros(24, bool), np.ones(24, bool)
    for k in range(200):
        outcome = batch.step(driver.drive(batch, batch.observe()))
        over = outcome.ending >= 0
        pay = shaping.pay(over)
        lent += np.where(going, discount**k * pay, 0.0)
        last = np.where(going, discount ** (k + 1) * np.where(over, 0.0, shaping.potential), last)
        ended |= over
        going &= ~over
    assert ended.any() and going.any()
    np.testing.assert_allclose(lent, last - first, atol=1e-9)
    np.testing.assert_allclose(lent[ended], -first[ended], atol=1e-9)


def test_a_copy_that_begins_anew_owes_nothing(folder: Path) -> None:
    problem = Project(folder).problem("lift")
    batch = Batch(problem, 4, 5, "training", 1)
    shaping = Shaping(batch, potential_of(problem, "integral(time >= 0)"), 1.0)
    batch.start(np.arange(4))
    shaping.begin(np.arange(4))
    for _ in range(10):
        batch.step(batch.commands * 0.0)
        shaping.pay(np.zeros(4, bool))
    some = np.array([1, 3])
    batch.restart(some, np.array([7, 8]))
    shaping.begin(some)
    fresh = shaping.potential[some]
    assert (fresh < shaping.potential[[0, 2]] - 0.1).all()
    batch.step(batch.commands * 0.0)
    np.testing.assert_allclose(shaping.pay(np.zeros(4, bool)), problem.sample_time, atol=1e-12)


def test_scores_never_see_it_and_a_run_resumes_to_the_bit(folder: Path, tmp_path: Path) -> None:
    problem = Project(folder).problem("lift")
    places = [tmp_path / name for name in "abc"]
    for place in places:
        place.mkdir()
    plain, first = (
        Run(problem, recipe(**{"shaping.potential": "off"}), 4, places[0]),
        Run(problem, recipe(), 4, places[1]),
    )
    for run in (plain, first):
        run._evaluate(lambda *_: None)
        run.update()
    assert plain.course[0].score == first.course[0].score
    assert plain.recent == first.recent  # the same commands so far: what is said of training is the task's pay
    rows = np.random.default_rng(2).uniform(-1, 1, (8, 10))
    assert (plain.method.policy().commands(rows) != first.method.policy().commands(rows)).any()
    first.checkpoint()
    (places[2] / "checkpoint.npz").write_bytes((places[1] / "checkpoint.npz").read_bytes())
    second = Run(problem, recipe(), 4, places[2])
    assert second.resume()
    for run in (first, second):
        run.update()
    np.testing.assert_array_equal(first.method.policy().commands(rows), second.method.policy().commands(rows))


def test_a_formula_that_this_task_cannot_tell_is_refused_before_anything_starts(folder: Path) -> None:
    with pytest.raises(FileError, match=r"shaping\.potential.*column 7.*sown"):
        launch.create_batch(folder, "lift", recipe(**{"shaping.potential": "0.1 * sown"}), [1])
    assert not Project(folder).runs()
    path = folder / "recipes" / "ppo.toml"
    path.write_text(path.read_text() + '\n[shaping]\npotential = "-norm(offset, height)"\n')
    read = read_recipe(folder, "ppo")
    assert read.shaping is not None and read.shaping.potential == "-norm(offset, height)"
    assert with_changes(read, {"shaping.potential": "off"}).shaping is None
    with pytest.raises(FileError, match="must be a named signal of the task"):
        potential_of(Project(folder).problem("lift"), "clearance(basket, trolley)")
