"""Runs in worker processes: stop rules, the store, kill and resume bit for bit, many seeds."""

from __future__ import annotations

import os
import random
import signal
import sqlite3
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.errors import FileError, HeronError, StateError
from plucky_heron.learning.policy import Policy, PolicyDriver
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.runs.executors import at_once, start_batch
from plucky_heron.runs.store import DEAD, STORE_FORMAT, RunRow, RunStore, median_run, run_folder
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import Recipe, read_recipe, with_changes
from plucky_heron.training.stopping import Evaluation
from plucky_heron.training.stopping.budget import Budget
from tests.conftest import copy_demo


@pytest.mark.parametrize(
    ("key", "value", "words"),
    [
        ("learning_rate", "-1", "learning_rate"),
        ("lerning_rate", "1e-3", "learning_rate"),
        ("steps", "0", "steps"),
        ("hidden", "x", "hidden"),
    ],
)
def test_wrong_settings_are_named(folder: Path, key: str, value: str, words: str) -> None:
    with pytest.raises(HeronError, match=words):
        with_changes(read_recipe(folder, "ppo"), {key: value})


def test_settings_can_be_switched_off_by_text(folder: Path) -> None:
    changed = with_changes(read_recipe(folder, "ppo"), {"ratio_limit": "none", "hidden": "[32]", "copies": "8"})
    assert changed.settings["ratio_limit"] is None and changed.settings["hidden"] == [32] and changed.copies == 8
    assert changed.method_settings().ratio_limit is None


def quick(project: Project, steps: int = 9000) -> Recipe:
    """A recipe that ends soon, with several checkpoints."""
    changes = {
        "steps": str(steps),
        "copies": "16",
        "steps_per_update": "512",
        "evaluation.every": "1024",
        "evaluation.episodes": "8",
    }
    recipe = with_changes(project.recipe("ppo"), changes)
    return recipe.model_copy(update={"stop": (Budget(steps=steps),)})


def outcome(project: Project, run: int) -> tuple[list[Any], list[Any], np.ndarray, np.ndarray]:
    """Everything of a run that must not depend on interruptions."""
    store = RunStore(project.folder)
    evaluations = [(e.step, e.episodes, e.score, e.success) for e in store.course(run)]
    updates = store.health(run)
    store.close()
    with np.load(run_folder(project.folder, run) / "checkpoint.npz") as kept:
        parameters = kept["method.parameters"]
    with np.load(run_folder(project.folder, run) / "best.npz") as kept:
        best = kept["parameters"]
    return evaluations, updates, parameters, best


@pytest.mark.long
def test_a_killed_run_resumes_to_the_same_bits(tmp_path: Path) -> None:
    project = Project(copy_demo(tmp_path / "quillmere"))
    recipe = quick(project)
    whole = launch.wait(project.folder, launch.train(project.folder, "lift", recipe, [11]))[0]
    (number,) = launch.train(project.folder, "lift", recipe, [11])
    store = RunStore(project.folder)
    chance = random.Random()
    kills = 0
    while kills < 2:
        deadline = time.monotonic() + 240
        aim = store.run(number).steps + chance.randint(512, 3000)
        while store.run(number).steps < aim and time.monotonic() < deadline and store.run(number).alive:
            time.sleep(0.01)
        row = store.connection.execute("SELECT pid, state FROM runs WHERE id = ?", [number]).fetchone()
        if row["state"] != "running":
            break
        os.kill(row["pid"], signal.SIGKILL)
        kills += 1
        while store.run(number).state != DEAD:
            time.sleep(0.02)
        time.sleep(0.3)  # its batch process sees the end too
        launch.resume(project.folder, number)
    assert kills >= 1
    resumed = launch.wait(project.folder, [number])[0]
    assert resumed.state == "done" and resumed.steps == whole.steps
    first, second = outcome(project, whole.id), outcome(project, number)
    assert first[0] == second[0]
    assert [(s, {k: v for k, v in h.items()}) for s, h in first[1]] == [(s, h) for s, h in second[1]]
    np.testing.assert_array_equal(first[2], second[2])
    np.testing.assert_array_equal(first[3], second[3])
    assert whole.retest == resumed.retest
    store.close()


@pytest.mark.long
def test_several_seeds_stop_by_hand_and_keep_what_they_have(tmp_path: Path) -> None:
    project = Project(copy_demo(tmp_path / "quillmere"))
    runs = launch.train(project.folder, "lift", quick(project, 400_000), [1, 2, 3])
    store = RunStore(project.folder)
    deadline = time.monotonic() + 240
    while sum(store.run(r).steps > 1500 for r in runs) < 2 and time.monotonic() < deadline:
        time.sleep(0.05)
    assert [store.run(r).state for r in runs].count("running") == 2  # two at a time
    with pytest.raises(StateError, match="already"):
        launch.resume(project.folder, runs[0])
    launch.stop(project.folder, runs)
    rows = launch.wait(project.folder, runs)
    store.close()
    assert all(row.stop_rule == "by hand" for row in rows)
    done = [row for row in rows if row.steps]
    assert len(done) == 2 and all(row.best_step is not None and row.retest for row in done)
    assert done[0].facts["packages"]["numpy"] == np.__version__ and done[0].facts["cores"] >= 1
    assert project.policy(done[0].id).commands(np.zeros((1, 10))).shape == (1, 2)
    with pytest.raises(FileError, match="no policy"):
        project.policy(rows[2].id)


def test_a_run_that_cannot_begin_says_why(folder: Path) -> None:
    project = Project(folder)
    (number,) = launch.create_batch(folder, "lift", quick(project), [1])
    task = run_folder(folder, number) / "frozen" / "tasks" / "lift.toml"
    task.write_text(task.read_text().replace('machine = "hoist"', 'machine = "hoists"'))
    store = RunStore(folder)
    start_batch(folder, store.run(number).batch)
    (row,) = launch.wait(folder, [number])
    store.close()
    assert row.state == "failed" and "hoists" in (row.stop_text or "")


OLD_STORE = """
CREATE TABLE runs (
    id INTEGER PRIMARY KEY, batch INTEGER NOT NULL, task TEXT NOT NULL, machine TEXT NOT NULL, recipe TEXT NOT NULL,
    method TEXT NOT NULL, seed INTEGER NOT NULL, fingerprint TEXT NOT NULL, state TEXT NOT NULL, request TEXT,
    created REAL NOT NULL, pid INTEGER, pid_started REAL, beat REAL, steps INTEGER NOT NULL DEFAULT 0,
    seconds REAL NOT NULL DEFAULT 0, budget INTEGER NOT NULL, stop_rule TEXT, stop_text TEXT,
    best_step INTEGER, best_score REAL, best_success REAL, retest TEXT, facts TEXT
);
CREATE TABLE evaluations (run INTEGER, step INTEGER, seconds REAL, episodes INTEGER, score REAL, success REAL, finite INTEGER, details TEXT);
CREATE TABLE updates (run INTEGER, step INTEGER, health TEXT);
INSERT INTO runs (id, batch, task, machine, recipe, method, seed, fingerprint, state, created, budget)
    VALUES (4, 2, 'lift', 'hoist', 'ppo', 'ppo', 9, 'x', 'done', 1.0, 100);
PRAGMA user_version = 1;
"""


def test_an_older_store_is_upgraded_and_a_copy_kept(tmp_path: Path) -> None:
    (tmp_path / "runs").mkdir()
    old = sqlite3.connect(tmp_path / "runs" / "store.sqlite")
    old.executescript(OLD_STORE)
    old.close()
    store = RunStore(tmp_path)
    assert store.run(4).seed == 9 and store.run(4).note == ""
    store.add_result(4, "proof", {"trials": 3})
    assert store.last_result(4, "proof") == {"trials": 3}
    assert store.connection.execute("PRAGMA user_version").fetchone()[0] == STORE_FORMAT
    kept = sqlite3.connect(tmp_path / "runs" / "store.format-1.sqlite")
    assert kept.execute("PRAGMA user_version").fetchone()[0] == 1
    assert kept.execute("SELECT seed FROM runs").fetchone()[0] == 9
    kept.close()
    store.connection.execute("PRAGMA user_version = 99")
    store.close()
    with pytest.raises(FileError, match="99"):
        RunStore(tmp_path)


def test_a_damaged_store_is_named(tmp_path: Path) -> None:
    (tmp_path / "runs").mkdir()
    (tmp_path / "runs" / "store.sqlite").write_bytes(b"not a database at all" * 100)
    with pytest.raises(FileError, match="damaged"):
        RunStore(tmp_path)


def test_the_median_run_is_in_the_middle() -> None:
    def row(number: int, success: float | None) -> RunRow:
        facts: Any = (
            number,
            1,
            "t",
            "m",
            "r",
            "ppo",
            number,
            "",
            "done",
            0.0,
            1,
            1.0,
            1,
            None,
            None,
            1,
            0.0,
            success,
            None,
            {},
            "",
        )
        made = RunRow(*facts)
        return made if success is not None else RunRow(**{**made.__dict__, "best_score": None})

    assert median_run([row(1, 0.9), row(2, 0.2), row(3, 0.5), row(4, None)]).id == 3
    assert median_run([row(4, None)]) is None
    fresh = [{"success": s, "score": v} for s, v in ((0.991, 80.0), (0.989, 90.0), (0.99, 85.0))]
    tested = [RunRow(**{**row(k, 1.0).__dict__, "retest": f}) for k, f in enumerate(fresh)]
    assert median_run(tested).id == 2  # alike to the per cent: the score decides


def test_the_library_is_what_a_notebook_uses(trained: tuple[Project, RunRow]) -> None:
    import plucky_heron as ph

    project, row = trained
    opened = ph.open(project.folder)
    assert "lift" in opened.tasks() and opened.run(row.id).seed == 7
    assert opened.frozen(row.id).fingerprint() == row.fingerprint
    assert row.stop_rule == "budget" and row.best_step is not None
    assert row.retest is not None and row.retest["episodes"] == 200


def test_a_learner_that_is_not_finite_is_stopped_and_its_last_good_policy_kept(folder: Path) -> None:
    """Broken weights end the run as gone wrong, whatever its rules say."""
    project = Project(folder)
    run = Run(project.problem("lift"), quick(project), 3, folder / "run")
    seen: list[Evaluation] = []

    def break_it(run: Run, _: dict[str, float]) -> None:
        if run.updates == 3:
            run.method.parameters[:] = np.nan

    verdict = run.work(break_it, lambda _, row, __: seen.append(row), lambda: False)
    assert verdict.rule == "gone wrong" and "not finite" in verdict.text
    assert not seen[-1].finite and seen[0].finite
    kept = Policy.load(folder / "run" / "best.npz")
    assert np.isfinite(kept.parameters).all()


def test_a_run_is_taken_up_by_one_worker_only(folder: Path) -> None:
    project = Project(folder)
    (number,) = launch.create_batch(folder, "lift", quick(project), [1])
    first, second = RunStore(folder), RunStore(folder)
    assert first.claim(number)
    assert not second.claim(number)
    assert first.run(number).state == "running"
    first.close()
    second.close()


def test_a_damaged_checkpoint_is_named(folder: Path) -> None:
    project = Project(folder)
    run = Run(project.problem("lift"), quick(project), 3, folder / "run")
    assert not run.resume()
    run.checkpoint()
    path = folder / "run" / "checkpoint.npz"
    path.write_bytes(path.read_bytes()[:500])
    with pytest.raises(FileError, match="damaged"):
        run.resume()


def test_a_checkpoint_without_what_the_method_keeps_now_is_refused_in_a_line(folder: Path) -> None:
    project = Project(folder)
    run = Run(project.problem("lift"), quick(project), 3, folder / "run")
    run.checkpoint()
    path = folder / "run" / "checkpoint.npz"
    with np.load(path) as file:
        kept = {name: file[name] for name in file.files if name != "method.parameters"}
    np.savez(path, **kept)
    with pytest.raises(FileError, match=r"parameters.*another version of the program wrote it; train anew"):
        run.resume()


@pytest.mark.parametrize("threads", [1, 2])
def test_a_run_goes_on_from_its_checkpoint_bit_for_bit(folder: Path, threads: int) -> None:
    """In memory: one run of six updates, and one of three, kept, taken up by a new object, and three more."""
    project = Project(folder)
    recipe = with_changes(quick(project), {"copies": "160", "steps_per_update": "640", "exploration_memory": "0.6"})
    problem = project.problem("lift")
    whole = Run(problem, recipe, 8, folder / "whole", threads)
    for _ in range(6):
        whole.update()
    first = Run(problem, recipe, 8, folder / "part", threads)
    for _ in range(3):
        first.update()
    first.checkpoint()
    second = Run(problem, recipe, 8, folder / "part", 3 - threads)  # another number of threads changes nothing
    assert second.resume()
    for _ in range(3):
        second.update()
    for name, value in whole.method.keep().items():
        np.testing.assert_array_equal(value, second.method.keep()[name], err_msg=name)
    for name, value in whole.batch.keep().items():
        np.testing.assert_array_equal(value, second.batch.keep()[name], err_msg=name)
    assert (whole.steps, whole.episodes, whole.recent) == (second.steps, second.episodes, second.recent)


@pytest.mark.parametrize("method", ["ppo", "sac"])
def test_observations_for_critics_alone_stay_out_of_policy_and_pack(folder: Path, tmp_path: Path, method: str) -> None:
    """A place that no sensor of the hoist tells: the critic learns from it, policy, pack and rig do without."""
    from plucky_heron.handover.pack import write_pack
    from plucky_heron.handover.reading import read_pack
    from plucky_heron.rigs.rollout import inside_driver
    from plucky_heron.simulation.trials import run_trials

    path = folder / "tasks" / "lift.toml"
    entry = '[[observations]]\nname = "place"\nformula = "basket.x + trolley.position"\nunit = "m"\nrange = ["-20 m", "20 m"]\ncritic_only = true\n\n'
    text = path.read_text()
    path.write_text(text.replace("# --- what is commanded", entry + "# --- what is commanded", 1))
    problem = Project(folder).problem("lift")
    assert len(problem.entries) == 11 and len(problem.sensed) == 10
    recipe = Recipe.model_validate(
        {"method": method, "copies": 16, "steps": 6000, "evaluation": {"every": 6000, "episodes": 4}}
    )
    row = launch.wait(folder, launch.train(folder, "lift", recipe, [1]))[0]
    assert row.state == "done", row.stop_text
    policy = Project(folder).policy(row.id)
    assert policy.sizes[0] == 10
    answer = write_pack(folder, row, tmp_path / "pack")
    assert max(answer["equality"].values()) <= 1e-5
    again = run_trials(problem, inside_driver(read_pack(tmp_path / "pack")), seed=1, stream="rig", count=2)
    assert np.isfinite(again.score).all()
    path.write_text(text.replace("[[observations]]", entry + "[[observations]]", 1))
    first = Project(folder).problem("lift")  # wherever it stands in the file, the policy's numbers come first
    assert first.sensed == tuple(replace(e, source=e.source + 1, column=e.column + 1) for e in problem.sensed)
    anew = run_trials(first, PolicyDriver(policy), seed=1, stream="rig", count=2)
    np.testing.assert_array_equal(
        anew.score, run_trials(problem, PolicyDriver(policy), seed=1, stream="rig", count=2).score
    )


@pytest.mark.long
def test_batches_queue_behind_each_other(folder: Path) -> None:
    """Two batches started at once share the workers; the second begins when the first leaves one free."""
    recipe = with_changes(
        Project(folder).recipe("ppo"),
        {"steps": "30000", "evaluation.every": "15000", "evaluation.episodes": "16", "copies": "32"},
    )
    first = launch.train(folder, "lift", recipe, [1, 2])
    second = launch.train(folder, "lift", recipe, [3])
    store, most = RunStore(folder), 0
    try:
        while any(row.alive for row in store.runs()):
            rows = store.runs()
            at_work = [row for row in rows if row.state == "running"]
            most = max(most, len(at_work))
            if any(row.id in second for row in at_work):
                assert all(row.state != "queued" for row in rows if row.id in first)
            time.sleep(0.05)
    finally:
        store.close()
    assert most <= at_once(folder)
    assert [row.state for row in launch.wait(folder, [*first, *second])] == ["done"] * 3
