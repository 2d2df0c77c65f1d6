"""Parts of a project made, copied, renamed, removed: what refers to them follows, and nothing is written before it fits."""

from __future__ import annotations

from pathlib import Path

import pytest
import tomlkit

from plucky_heron.errors import FileError
from plucky_heron.files import inside, write_whole
from plucky_heron.machine import editing
from plucky_heron.machine.reading import read_machine
from plucky_heron.project import Project, demo_source, empty_project
from plucky_heron.task.project_files import STANDS, Changes, copied, new_machine, removed, renamed
from plucky_heron.task.provisional import provisional_problem
from plucky_heron.task.renaming import entry_renamed


def apply(folder: Path, changes: Changes) -> None:
    """Write changes as an edit does."""
    for path, text in changes.items():
        place = inside(folder, path)
        if text is None:
            place.unlink()
        else:
            place.parent.mkdir(parents=True, exist_ok=True)
            write_whole(place, text)


@pytest.mark.parametrize("stands", STANDS)
def test_a_new_machine_can_be_looked_at_at_once(tmp_path: Path, stands: str) -> None:
    project = empty_project(tmp_path / "new")
    apply(project.folder, new_machine(project.folder, "first", stands))
    problem = provisional_problem(project.folder, "first", project.site_of("first"))
    assert len(problem.model.joints) > 0 and problem.model.row.size
    with pytest.raises(FileError, match="is there already"):
        new_machine(project.folder, "first", stands)
    with pytest.raises(FileError, match="letters, digits"):
        new_machine(project.folder, "../first", stands)


def test_a_renamed_machine_and_site_keep_their_tasks(folder: Path) -> None:
    before = {t: Project(folder).problem(t).model.row.tolist() for t in Project(folder).tasks_of("hoist")}
    assert before
    apply(folder, renamed(folder, "machines", "hoist", "crane"))
    apply(folder, renamed(folder, "sites", "quay", "pier"))
    project = Project(folder)
    assert "crane" in project.machines() and "hoist" not in project.machines()
    assert project.problem("lift").task.machine == "crane" and project.problem("lift").task.site == "pier"
    assert {t: project.problem(t).model.row.tolist() for t in before} == before, "nothing else has changed"


def test_a_renamed_task_is_followed_by_its_recipes_and_scores(folder: Path) -> None:
    users = [r for r, tasks in Project(folder).recipes_of(["lift"]).items() if "lift" in tasks]
    assert users
    apply(folder, renamed(folder, "tasks", "lift", "set_down"))
    project = Project(folder)
    assert set(users) <= {r for r, tasks in project.recipes_of(["set_down"]).items() if "set_down" in tasks}
    for what in ("scores", "measured"):
        there, left = (folder / "tasks" / f"{name}.{what}.json" for name in ("set_down", "lift"))
        assert there.is_file() and not left.exists()


def test_what_is_used_is_not_removed(folder: Path) -> None:
    with pytest.raises(FileError, match="is used by tasks/"):
        removed(folder, "machines", "hoist")
    with pytest.raises(FileError, match="is used by tasks/"):
        removed(folder, "sites", "quay")
    apply(folder, removed(folder, "tasks", "climb"))
    assert "climb" not in Project(folder).tasks()
    assert not list((folder / "tasks").glob("climb.*")), "nothing of it is left"
    assert not any("climb" in tasks for tasks in Project(folder).recipes_of(["climb"]).values())


def test_a_copy_is_a_part_of_its_own(folder: Path) -> None:
    apply(folder, copied(folder, "tasks", "lift", "lift_again"))
    assert Project(folder).problem("lift_again").fingerprint() == Project(folder).problem("lift").fingerprint()


@pytest.mark.parametrize(("section", "old", "new"), [("joints", "cable", "rope"), ("bodies", "basket", "load"), ("drives", "push", "pull"), ("joints", "reel", "winch")])  # fmt: skip
def test_a_part_is_renamed_wherever_it_is_named(folder: Path, section: str, old: str, new: str) -> None:
    machine = read_machine(folder / "machines" / "hoist.toml")
    assert old in getattr(machine, section)
    project = Project(folder)
    tasks = project.tasks_of("hoist")
    changes = entry_renamed(folder, "machines/hoist.toml", section, old, new)
    apply(folder, changes)
    again = Project(folder)
    assert new in getattr(read_machine(folder / "machines" / "hoist.toml"), section)
    for task in tasks:
        problem = again.problem(task)
        assert len(problem.entries) == len(Project(demo_source()).problem(task).entries)
    with pytest.raises(FileError, match="is there already"):
        entry_renamed(folder, "machines/hoist.toml", section, new, new)


@pytest.mark.parametrize("machine", ["davit", "marshcart", "crab", "punt", "sower"])
def test_every_part_of_every_machine_can_be_renamed(folder: Path, machine: str) -> None:
    found = read_machine(folder / "machines" / f"{machine}.toml")
    tasks = Project(folder).tasks_of(machine)
    for section in editing.SECTIONS:
        for name in list(getattr(found, section)):
            apply(folder, entry_renamed(folder, f"machines/{machine}.toml", section, name, f"other_{name}"))
    again = Project(folder)
    for task in tasks:
        again.problem(task)
    text = tomlkit.parse((folder / "machines" / f"{machine}.toml").read_text())
    assert all(name.startswith("other_") for section in editing.SECTIONS for name in text.get(section, {}))
