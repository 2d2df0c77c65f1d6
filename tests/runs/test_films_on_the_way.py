"""Films of evaluations that a recipe asks for: which, when, and that they are made behind the runs of their batch."""

from __future__ import annotations

import re
import time
from pathlib import Path

import av
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plucky_heron.errors import FileError
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.runs.filming import Filming, films_folder, films_of
from plucky_heron.runs.store import RunStore, run_folder
from plucky_heron.training.keeping import due_films, milestones_of
from plucky_heron.training.recipe import read_recipe, with_changes
from tests.conftest import copy_demo


@given(st.lists(st.integers(1, 5_000), min_size=1, max_size=60), st.integers(1, 20_000))
def test_every_multiple_has_one_film_and_what_is_kept_tells_which(gaps: list[int], every: int) -> None:
    steps = [0]
    for gap in gaps:
        steps.append(steps[-1] + gap)
    due = due_films(steps, every)
    assert due[0] == 0 and due == sorted(set(due))
    # one film of each interval between multiples in which there is an evaluation: its first
    assert [step // every for step in due] == sorted({step // every for step in steps})
    assert all(step == min(s for s in steps if s // every == step // every) for step in due)
    assert due_films(due, every) == due
    # decided at each evaluation in turn, the same are kept
    assert [step for k, step in enumerate(steps) if step in due_films(steps[: k + 1], every)] == due


def test_more_films_than_anyone_looks_at_are_refused(folder: Path) -> None:
    recipe = read_recipe(folder, "ppo")
    assert with_changes(recipe, {"evaluation.film_every": "100000"}).evaluation.film_every == 100_000
    assert with_changes(recipe, {"evaluation.film_every": "off"}).evaluation.film_every is None
    with pytest.raises(FileError, match="at most 100"):
        with_changes(recipe, {"steps": "50000000", "evaluation.film_every": "30000", "evaluation.every": "4096"})
    with pytest.raises(FileError, match=r"film_every.*0"):
        with_changes(recipe, {"evaluation.film_every": "0"})


@pytest.mark.alone  # films have the lowest priority: beside other tests they would wait for long
def test_films_follow_the_run_and_what_fails_is_tried_once(tmp_path: Path) -> None:
    project = Project(copy_demo(tmp_path / "quillmere"))
    task = project.folder / "tasks" / "lift.toml"
    whole, count = re.subn(r'(?m)^time_limit = ".*"$', 'time_limit = "1 s"', task.read_text(encoding="utf-8"))
    assert count == 1
    task.write_text(whole, encoding="utf-8")  # short episodes, so that films are short
    changes = {
        "steps": "4000", "copies": "16", "steps_per_update": "512", "evaluation.every": "1024",
        "evaluation.episodes": "4", "evaluation.film_every": "3000",
    }  # fmt: skip
    recipe = with_changes(project.recipe("ppo"), changes)
    (row,) = launch.wait(project.folder, launch.train(project.folder, "lift", recipe, [3]))
    store = RunStore(project.folder)
    steps = due_films([e.step for e in store.course(row.id)], 3000)
    store.close()
    assert len(steps) == 2 and set(steps) <= set(milestones_of(run_folder(project.folder, row.id)).steps())
    wanted = sorted(f"{step}.webm" for step in steps)
    folder = films_folder(project.folder, row.id)
    (folder / ".best-part.webm").mkdir(parents=True)  # a folder in the way: this film cannot be written
    until = time.monotonic() + 340  # with the lowest priority, behind whatever else is at work
    while sorted(p.name for p in films_of(project.folder, row.id)) != wanted and time.monotonic() < until:
        time.sleep(0.5)
    films = films_of(project.folder, row.id)
    assert sorted(p.name for p in films) == wanted
    for path in films:
        with av.open(str(path)) as video:
            assert next(video.decode(video=0)).width >= 320
    # nothing is left to do but the one that cannot be written: it is tried, and given up
    filming = Filming(project.folder)
    assert filming.go_on([row]) and filming.of == folder / "best.webm"
    while filming.go_on([row]):
        time.sleep(0.1)
    assert filming.given_up == {folder / "best.webm"} and not filming.go_on([row])
    log = project.folder / "runs" / f"batch-{row.batch}.log"
    while "filming: " not in log.read_text() and time.monotonic() < until:
        time.sleep(0.5)
    assert "best.webm: cannot be written" in log.read_text() and "Traceback" not in log.read_text()
