"""The tutorial, line by line, as it stands in docs/tutorial.md."""

from __future__ import annotations

import json
import re
import shlex
import shutil
from pathlib import Path

import pytest

from plucky_heron.cli.main import main

ROOT = Path(__file__).parents[1]


def test_every_line_of_the_tutorial_does_what_it_says(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    text = (ROOT / "docs" / "tutorial.md").read_text()
    lines = [line for block in re.findall(r"```sh\n(.*?)```", text, re.DOTALL) for line in block.splitlines()]
    assert len(lines) >= 8
    (tmp_path / "docs").mkdir()
    shutil.copytree(ROOT / "docs" / "data", tmp_path / "docs" / "data")
    monkeypatch.chdir(tmp_path)
    for line in lines:
        words = shlex.split(line)
        assert words[0] == "heron"
        said = main(words[1:] if words[1] != "train" else [*words[1:], "--json"])
        out = capsys.readouterr()
        assert said == 0, f"{line}: {out.out}{out.err}"
        if words[1] == "train":
            runs = json.loads(out.out)["runs"]
            assert all(run["best"]["success"] >= 0.9 for run in runs), runs
    assert (tmp_path / "cell" / "tasks" / "reach_a_place.toml").is_file() and (tmp_path / "pack").is_dir()
