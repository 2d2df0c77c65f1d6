"""The set-up: what it asks of the system, and that its lists are whole."""

from __future__ import annotations

import importlib.util
import re
import subprocess
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
    lines = [x for x in (ROOT / "requirements.lock").read_text().splitlines() if x and not x.startswith("#")]
    assert len(lines) > 40
    for line in lines:
        assert re.fullmatch(r"[A-Za-z0-9_.-]+==[0-9][A-Za-z0-9.]*", line), line
    assert "PySide6_Essentials==6.11.0" in lines


def test_the_stamp_covers_lock_packages_and_kernels() -> None:
    """The launcher sets up again when any of these changes, and only then."""
    text = (ROOT / "heron").read_text()
    for part in ("requirements.lock", "debian-packages.txt", "/kernels.py", "heron-ready"):
        assert part in text
    assert subprocess.run(["sh", "-n", str(ROOT / "heron")], check=False).returncode == 0
