"""Shared pieces of the tests: a copy of the demo project, its problem, and one short training."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import pytest
from hypothesis import settings

from plucky_heron.files import data_folder
from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.runs.store import RunRow
from plucky_heron.task.problem import Problem, bind, read_problem
from plucky_heron.task.schema import Task
from plucky_heron.training.recipe import with_changes

# the same examples every time where a failure costs a landing; fresh ones where a person can look into it; on a busy machine any
# example may take long
settings.register_profile("landing", derandomize=True, deadline=None)
settings.register_profile("desk", deadline=None)
settings.load_profile("landing" if os.environ.get("CI") else "desk")


def copy_demo(target: Path) -> Path:
    """A fresh copy of the demo project."""
    shutil.copytree(demo_source(), target, ignore=shutil.ignore_patterns("runs", "packs"))
    return target


def altered(problem: Problem, **updates: object) -> Problem:
    """The same problem with parts of its task replaced or added, written as in a task file."""
    data = problem.task.model_dump(exclude_defaults=True) | updates
    return bind(problem.machine, problem.site, Task.model_validate(data))


@pytest.fixture(autouse=True, scope="session")
def own_data_folder(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """No test touches the user's own copy of the demo, or what the user trusts."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("XDG_DATA_HOME", str(tmp_path_factory.getbasetemp() / "data"))
        yield


@pytest.fixture(autouse=True)
def looked_at_for_the_first_time(own_data_folder: None) -> None:
    """No test finds the charts as another left them."""
    (data_folder() / "view.json").unlink(missing_ok=True)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A project folder of the test's own."""
    return copy_demo(tmp_path / "quillmere")


@pytest.fixture(scope="session")
def problem() -> Problem:
    """The hoist's task as shipped."""
    return read_problem(demo_source(), "lift")


@pytest.fixture(scope="session")
def trained(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Project, RunRow]]:
    """A project with one short, finished run."""
    project = Project(copy_demo(tmp_path_factory.mktemp("trained") / "quillmere"))
    recipe = with_changes(project.recipe("ppo"), {"steps": "12000", "evaluation.every": "4096", "copies": "32"})
    rows = launch.wait(project.folder, launch.train(project.folder, "lift", recipe, [7]))
    yield project, rows[0]
