"""The pack that most of these tests roll out."""

from __future__ import annotations

from pathlib import Path

import pytest

from plucky_heron.handover.pack import write_pack
from plucky_heron.project import Project
from plucky_heron.runs.store import RunRow


@pytest.fixture(scope="session")
def packed(trained: tuple[Project, RunRow], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A pack of the short run, with every form that a rig runs; no test changes it."""
    project, row = trained
    out = tmp_path_factory.mktemp("pack") / "pack"
    write_pack(project.folder, row, out, ("onnx", "c99", "fixed", "st"))
    return out
