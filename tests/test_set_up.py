"""The set-up: what it asks of the system, and that its lists are whole."""

from __future__ import annotations

import importlib.util
import os
import re
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path
from types import ModuleType

import pytest

ROOT = Path(__file__).resolve().parents[1]


@pytest.fixture(scope="module")
def set_up() -> ModuleType:
    """The set-up script as a module."""
    spec = importlib.util.spec_from_file_location("set_up", ROOT / "tools" / "set_up.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def test_nothing_is_missing_here_and_what_is_missing_is_named(
    set_up: ModuleType, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert set_up.missing_packages() == []
    monkeypatch.setattr(set_up, "_offered", lambda what: what not in ("gcc", "libEGL.so.1"))
    assert set_up.missing_packages() == ["gcc", "libegl1"]


def test_without_root_the_one_command_is_printed(
    set_up: ModuleType, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(set_up, "missing_packages", lambda: ["gcc", "libegl1"])
    monkeypatch.setattr(set_up.os, "geteuid", lambda: 1000)
    with pytest.raises(SystemExit) as stopped:
        set_up.system_packages()
    assert stopped.value.code == 2
    said = capsys.readouterr().err
    assert "sudo apt-get update && sudo apt-get install --yes --no-install-recommends gcc libegl1" in said


def test_every_dependency_is_locked_to_one_version() -> None:
    lines = [
        x
        for lock in ("requirements.lock", "requirements-test.lock")
        for x in (ROOT / lock).read_text().splitlines()
        if x and not x.startswith("#")
    ]
    assert len(lines) > 40
    for line in lines:
        assert re.fullmatch(r"[A-Za-z0-9_.-]+==[0-9][A-Za-z0-9.]*", line), line
    assert "PySide6_Essentials==6.11.0" in lines


def test_the_stamp_covers_lock_packages_and_kernels() -> None:
    """The launcher sets up again when any of these changes, and only then."""
    text = (ROOT / "heron").read_text()
    for part in (
        "requirements.lock",
        "debian-packages.txt",
        "/kernels.py",
        "heron-ready-to-",
        "requirements-test.lock",
    ):
        assert part in text
    assert subprocess.run(["sh", "-n", str(ROOT / "heron")], check=False).returncode == 0


def names(lock: str) -> set[str]:
    """Distributions of a lock file, as indexes compare their names."""
    lines = (ROOT / lock).read_text().splitlines()
    return {re.sub(r"[-_.]+", "-", x.partition("==")[0]).lower() for x in lines if x and not x.startswith("#")}


def test_what_running_needs_holds_nothing_of_the_tests() -> None:
    running, testing = names("requirements.lock"), names("requirements-test.lock")
    assert not running & testing
    assert not running & {
        "sympy",
        "pytest",
        "mypy",
        "ruff",
        "hypothesis",
        "qtawesome",
        "qtpy",
        "pygame",
        "import-linter",
    }


def test_every_import_of_the_program_is_stated_and_nothing_else() -> None:
    """By the names under which distributions are imported."""
    from importlib import metadata

    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    stated = {re.sub(r"[-_.]+", "-", re.split(r"[<>=!~ ]", r)[0]).lower() for r in project["dependencies"]}
    owners = metadata.packages_distributions()
    used = set()
    for path in (ROOT / "src").rglob("*.py"):
        for module in re.findall(r"^\s*(?:from|import) (\w+)", path.read_text(), re.MULTILINE):
            used |= {re.sub(r"[-_.]+", "-", owner).lower() for owner in owners.get(module, [])}
    used |= {"font-source-sans-pro"}  # read as data
    assert used - {"pygame", "shiboken6"} == stated


@pytest.mark.long
def test_an_installed_package_has_a_working_command(tmp_path: Path) -> None:
    tree = tmp_path / "tree"
    for name in ("src", "demo"):
        shutil.copytree(ROOT / name, tree / name, ignore=shutil.ignore_patterns("__pycache__", "runs", "packs"))
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        shutil.copy2(ROOT / name, tree / name)
    place = tmp_path / "installed"
    command = [
        sys.executable,
        "-P",
        "-m",
        "pip",
        "install",
        "--quiet",
        "--disable-pip-version-check",
        "--no-deps",
        "--target",
        str(place),
        str(tree),
    ]
    subprocess.run(command, check=True, capture_output=True, timeout=300)
    heron = next((place / "bin").glob("heron"))
    environment = {**os.environ, "PYTHONPATH": str(place), "XDG_DATA_HOME": str(tmp_path / "data")}
    done = subprocess.run(
        [sys.executable, "-P", str(heron), "new", str(tmp_path / "yard"), "--json"],
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0 and '"lift"' in done.stdout, done.stderr
    assert (place / "plucky_heron" / "handover" / "templates" / "policy.c.j2").is_file()
    assert (place / "plucky_heron" / "rigs" / "host_runtime.c").is_file()
