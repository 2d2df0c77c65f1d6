"""Python of a project's own: never run before it is trusted, named wherever it is used, and its errors are said."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from typer.testing import CliRunner

from plucky_heron.cli.main import app
from plucky_heron.errors import FileError, StateError
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.simulation.batch import Batch
from plucky_heron.training.recipe import with_changes
from plucky_heron.trust import UntrustedError, digest_of, trust, trusted

CODE = '''"""What formulas cannot say."""
from pathlib import Path

(Path(__file__).parent / "ran").touch()


def leaning(signals):
    return signals["cable.angle"] * 2.0
'''


@pytest.fixture
def with_code(folder: Path) -> Path:
    """A project whose lift is paid by a function of its own."""
    (folder / "code").mkdir()
    (folder / "code" / "lean.py").write_text(CODE)
    path = folder / "tasks" / "lift.toml"
    text = path.read_text().replace(
        "[rewards.effort]", '[code]\nfile = "code/lean.py"\nsignals = { leaning = "rad" }\n\n[rewards.leaning]\nformula = "-abs(own.leaning)"\n\n[rewards.effort]'
    )  # fmt: skip
    path.write_text(text)
    return folder


def test_code_runs_only_once_it_is_trusted_and_again_when_it_changes(with_code: Path) -> None:
    project, code = Project(with_code), with_code / "code" / "lean.py"
    with pytest.raises(UntrustedError, match="not trusted on this machine"):
        project.problem("lift")
    assert not (with_code / "code" / "ran").exists()
    done = CliRunner().invoke(app, ["trust", str(code)])
    assert done.exit_code == 0
    problem = project.problem("lift")
    assert (with_code / "code" / "ran").exists() and digest_of(code.read_bytes()) in trusted()
    batch = Batch(problem, 4, 1, "own")
    batch.start(np.arange(4))
    batch.step(np.tile([300.0, 0.0], (4, 1)))
    np.testing.assert_allclose(batch.signals["own.leaning"], 2.0 * batch.signals["cable.angle"])
    before = problem.fingerprint()
    code.write_text(CODE.replace("2.0", "3.0"))
    with pytest.raises(UntrustedError):
        project.problem("lift")
    trust(code)
    assert project.problem("lift").fingerprint() != before


@pytest.mark.parametrize(
    ("text", "words"),
    [("def other(s):\n    return 1\n", "no function"), ("1 / 0\n", "ZeroDivisionError"), ("def (", "SyntaxError")],
)
def test_code_that_cannot_be_used_says_why(with_code: Path, text: str, words: str) -> None:
    code = with_code / "code" / "lean.py"
    code.write_text(text)
    trust(code)
    with pytest.raises(FileError, match=words):
        Project(with_code).problem("lift")


def test_a_function_that_fails_or_writes_is_named(with_code: Path) -> None:
    code = with_code / "code" / "lean.py"
    for body, words in (("return signals['nothing']", "leaning: KeyError"), ("signals['time'][:] = 0", "read-only")):
        code.write_text(f"def leaning(signals):\n    {body}\n")
        trust(code)
        batch = Batch(Project(with_code).problem("lift"), 2, 1, "own")
        with pytest.raises(StateError, match=words):
            batch.start(np.arange(2))


def test_no_file_outside_the_project_is_looked_at(with_code: Path) -> None:
    path = with_code / "tasks" / "lift.toml"
    path.write_text(path.read_text().replace("code/lean.py", "../lean.py"))
    with pytest.raises(FileError, match="leads out of the project"):
        Project(with_code).problem("lift")


def test_runs_name_the_code_they_used_and_keep_it(with_code: Path) -> None:
    digest = trust(with_code / "code" / "lean.py")
    project = Project(with_code)
    quick = {
        "steps": "1024",
        "copies": "16",
        "steps_per_update": "512",
        "evaluation.every": "1024",
        "evaluation.episodes": "8",
    }
    rows = launch.wait(with_code, launch.train(with_code, "lift", with_changes(project.recipe("ppo"), quick), [1]))
    assert rows[0].state == "done" and rows[0].facts["own_code"] == {"file": "code/lean.py", "sha256": digest}
    (with_code / "code" / "lean.py").write_text("changed = True\n")
    assert project.frozen(rows[0].id).code.digest == digest  # the run's own copy


def test_keys_of_others_survive_and_are_read_by_nobody(folder: Path) -> None:
    path = folder / "tasks" / "lift.toml"
    path.write_text(
        path.read_text().replace("[timing]", 'x_reviewed = "2026-11-20"\n[timing]\nx_note = { by = "night watch" }')
    )
    problem = Project(folder).problem("lift")
    assert problem.task.timing.control_rate == 50.0
    path.write_text(path.read_text().replace("x_reviewed", "reviewed"))
    with pytest.raises(FileError, match="unknown key"):
        Project(folder).problem("lift")
