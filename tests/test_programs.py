"""Every program in benchmarks/ and tools/ still runs: a second or two of each."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[1]
PROGRAMS = sorted([*ROOT.glob("benchmarks/*.py"), *ROOT.glob("tools/*.py")])


@pytest.mark.parametrize("program", PROGRAMS, ids=lambda path: f"{path.parent.name}/{path.name}")
def test_it_runs(program: Path, tmp_path: Path) -> None:
    environment = {
        **os.environ, "PYTHONPATH": str(ROOT / "src"), "QT_QPA_PLATFORM": "offscreen", "OPENBLAS_NUM_THREADS": "1", "XDG_DATA_HOME": str(tmp_path),
    }  # fmt: skip
    done = subprocess.run(
        [sys.executable, "-P", str(program), "--smoke"],
        cwd=tmp_path,
        env=environment,
        capture_output=True,
        text=True,
        timeout=300,
        check=False,
    )
    assert done.returncode == 0, done.stderr[-2000:]
    assert done.stdout.strip() or program.name == "warm_kernels.py"
