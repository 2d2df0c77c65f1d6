"""A method of a project's own: the one that docs/methods.md walks through, trained in a worker like any other."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.errors import FileError
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.runs.store import RunStore, run_folder
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import with_changes
from plucky_heron.trust import UntrustedError, trust

GUIDE = Path(__file__).resolve().parents[2] / "docs" / "methods.md"
RECIPE = 'format = 2\nmethod = "methods/climber.py"\ncopies = 16\nsteps = 24_000\n\n[settings]\nstep = 0.5\n\n[evaluation]\nevery = 12_000\nepisodes = 8\n'


@pytest.fixture
def own(folder: Path) -> Path:
    """A project with the documented method and a recipe for it."""
    (folder / "methods").mkdir()
    (folder / "methods" / "climber.py").write_text(GUIDE.read_text().split("```python\n")[1].split("```")[0])
    (folder / "recipes" / "climber.toml").write_text(RECIPE)
    return folder


def test_it_runs_only_once_trusted_and_then_like_any_other(own: Path) -> None:
    project, file = Project(own), own / "methods" / "climber.py"
    with pytest.raises(UntrustedError, match="not trusted"):
        project.recipe("climber")
    digest = trust(file)
    row = launch.wait(own, launch.train(own, "lift", project.recipe("climber"), [3]))[0]
    assert row.state == "done" and row.method == "methods/climber.py" and row.best_score is not None
    assert row.facts["own_method"] == {"file": "methods/climber.py", "sha256": digest}
    assert (run_folder(own, row.id) / "frozen" / "methods" / "climber.py").read_bytes() == file.read_bytes()
    assert RunStore(own).evaluated(row.id) >= 2


def test_its_settings_are_checked_and_it_resumes_exactly(own: Path, tmp_path: Path) -> None:
    trust(own / "methods" / "climber.py")
    project = Project(own)
    recipe = project.recipe("climber")
    with pytest.raises(FileError, match="more than 0"):
        with_changes(recipe, {"step": "-1"})
    places = [tmp_path / name for name in ("a", "b")]
    for place in places:
        place.mkdir()
    first = Run(project.problem("lift"), recipe, 5, places[0])
    first.update()
    first.checkpoint()
    first.update()
    second = Run(project.problem("lift"), recipe, 5, places[0])
    assert second.resume()
    second.update()
    np.testing.assert_array_equal(first.method.policy().parameters, second.method.policy().parameters)


@pytest.mark.parametrize(
    ("text", "lack"),
    [("def make(*_): ...", "class Settings"), ("from plucky_heron.files import Settings", "function make")],
)
def test_a_file_that_lacks_a_part_is_refused_with_its_name(own: Path, text: str, lack: str) -> None:
    file = own / "methods" / "climber.py"
    file.write_text(text)
    trust(file)
    with pytest.raises(FileError, match=lack):
        Project(own).recipe("climber")
