"""Nothing runs that was not trusted: not from the folder a command is given in, not from a compiled copy, not from a file that was swapped."""

from __future__ import annotations

import json
import py_compile
import subprocess
import sys
from pathlib import Path

import pytest

from plucky_heron import trust as trust_module
from plucky_heron.errors import FileError
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.runs.executors import interpreter, worker_environment
from plucky_heron.task import own_code
from plucky_heron.training.recipe import with_changes
from plucky_heron.trust import UntrustedError, trust, trust_digest, trust_file, trusted

ROOT = Path(__file__).resolve().parents[1]
PLANTED = ("json", "numpy", "typer", "sqlite3", "site", "usercustomize", "numba", "random", "pydantic")


def plant(folder: Path) -> None:
    """Modules that leave a mark when they are imported."""
    for name in PLANTED:
        (folder / f"{name}.py").write_text(
            f"open({str(folder / 'ran')!r}, 'a').write('{name} ')\nraise SystemExit(9)\n"
        )


def test_no_command_imports_from_the_folder_it_is_given_in(folder: Path) -> None:
    plant(folder)
    for command in (["runs"], ["shakedown", "nothing"], ["--help"]):
        done = subprocess.run(
            [str(ROOT / "heron"), *command], cwd=folder, capture_output=True, text=True, timeout=300, check=False
        )
        assert done.returncode in (0, 2), done.stderr
    assert not (folder / "ran").exists()


def test_workers_do_not_either(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    plant(folder)
    monkeypatch.chdir(folder)
    monkeypatch.setenv("PYTHONPATH", f":{folder.name}:")  # an empty entry is the current folder
    project = Project(folder)
    small = {
        "steps": "256",
        "copies": "16",
        "steps_per_update": "256",
        "evaluation.every": "256",
        "evaluation.episodes": "4",
    }
    (row,) = launch.wait(folder, launch.train(folder, "lift", with_changes(project.recipe("ppo"), small), [1]))
    assert row.state == "done" and not (folder / "ran").exists()
    told = subprocess.run(
        [*interpreter(), "-c", "import sys; print(sys.path)"],
        env=worker_environment(),
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    assert "''" not in told and str(folder) not in told


@pytest.fixture
def code(folder: Path) -> Path:
    """A task with code of its own."""
    path = folder / "tasks" / "lift.toml"
    path.write_text(
        path.read_text().replace(
            "[rewards.effort]", '[code]\nfile = "lean.py"\nsignals = { leaning = "rad" }\n\n[rewards.effort]'
        )
    )
    file = folder / "lean.py"
    file.write_text('def leaning(signals):\n    return signals["cable.angle"]\n')
    return file


def test_a_compiled_copy_beside_the_file_is_not_looked_at(code: Path) -> None:
    text = code.read_text()
    code.write_text("raise RuntimeError('the planted copy ran')\n")
    py_compile.compile(str(code), invalidation_mode=py_compile.PycInvalidationMode.UNCHECKED_HASH)
    code.write_text(text)
    trust(code)
    assert Project(code.parent).problem("lift").code is not None


def test_a_file_that_is_swapped_between_hash_and_run_does_not_run(code: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    trust(code)
    digest_of = own_code.digest_of

    def swap(data: bytes) -> str:
        code.write_text("raise RuntimeError('the swapped file ran')\n")
        return digest_of(data)

    monkeypatch.setattr(own_code, "digest_of", swap)
    problem = Project(code.parent).problem("lift")
    assert problem.code is not None and "leaning" in problem.code.functions


def test_what_was_shown_is_trusted_not_what_the_file_says_by_now(code: Path) -> None:
    code.write_text(code.read_text() + "\n# not like any other\n")
    with pytest.raises(UntrustedError) as asked:
        Project(code.parent).problem("lift")
    assert asked.value.text == code.read_text()
    code.write_text("raise RuntimeError('changed while it was read')\n")
    trust_digest(asked.value.digest, code)
    with pytest.raises(UntrustedError):
        Project(code.parent).problem("lift")


@pytest.mark.parametrize("damage", ["[1, 2", '["a"]', '{"a": 1}', "\0"])
def test_a_damaged_list_of_trust_is_said_and_not_written_over(
    damage: str, code: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "other"))
    trust(code)
    trust_file().write_text(damage)
    for use in (trusted, lambda: trust(code)):
        with pytest.raises(FileError, match=r"trusted\.json"):
            use()
    assert trust_file().read_text() == damage


def test_own_methods_of_two_projects_do_not_replace_each_other(folder: Path, tmp_path: Path) -> None:
    guide = (ROOT / "docs" / "methods.md").read_text().split("```python\n")[1].split("```")[0]
    recipe = 'format = 2\nmethod = "climber.py"\ncopies = 16\nsteps = 1000\n[settings]\nstep = 0.5\n'
    projects = []
    for name, text in (
        ("one", guide),
        ("two", guide.replace("class Settings", "class Unused").replace("Settings):", "Settings):", 1)),
    ):
        place = tmp_path / name
        place.mkdir()
        (place / "project.toml").write_text('format = 2\nname = "x"\n')
        (place / "recipes").mkdir()
        (place / "recipes" / "climber.toml").write_text(recipe)
        (place / "climber.py").write_text(text + f"\nMARK = {name!r}\n")
        trust(place / "climber.py")
        projects.append(Project(place))
    first = projects[0].recipe("climber")
    with pytest.raises(FileError, match="class Settings"):
        projects[1].recipe("climber")
    assert first.own is not None and first.own.digest == trust_module.digest_of(
        (tmp_path / "one" / "climber.py").read_bytes()
    )
    assert first.method_settings().model_dump()["step"] == 0.5


def test_the_launcher_is_told_apart_from_python_of_the_folder() -> None:
    text = (ROOT / "heron").read_text()
    assert "PYTHONSAFEPATH=1" in text and "-P -m plucky_heron" in text and "${PYTHONPATH" not in text
    assert sys.version_info >= (3, 11)  # where -P came
    assert json.loads("{}") == {}
