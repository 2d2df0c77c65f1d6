"""Kernels do not run old machine code after an edit of anything that they are made from, and are made in one way."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import plucky_heron.kernels as kernels_module
from plucky_heron.kernels import sources_of

SOURCE = Path(kernels_module.__file__).parent

ENTRY = """
from plucky_heron.inner import doubled
from plucky_heron.kernels import kernel

@kernel(entry=True)
def run(x):
    return doubled(x) + 1.0
"""
INNER = """
from plucky_heron.constants import FACTOR
from plucky_heron.kernels import kernel

@kernel
def doubled(x):
    return FACTOR * x
"""


def test_an_edit_of_what_a_kernel_calls_or_imports_compiles_it_again(tmp_path: Path) -> None:
    package = tmp_path / "plucky_heron"
    package.mkdir()
    shutil.copy(SOURCE / "kernels.py", package)
    (package / "__init__.py").write_text("")
    (package / "constants.py").write_text("FACTOR = 2.0\n")
    (package / "inner.py").write_text(INNER)
    (package / "entry.py").write_text(ENTRY)

    def result() -> tuple[float, int]:
        code = "from plucky_heron.entry import run; print(run(10.0), run.stats.cache_hits[run.signatures[0]] if run.stats.cache_hits else 0)"
        environment = {**os.environ, "PYTHONPATH": str(tmp_path)}
        done = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=True)
        value, hits = done.stdout.split()
        return float(value), int(hits)

    assert result() == (21.0, 0)
    assert result() == (21.0, 1)  # from the disk
    (package / "constants.py").write_text("FACTOR = 3.0\n")
    assert result() == (31.0, 0)
    (package / "inner.py").write_text(INNER.replace("FACTOR * x", "FACTOR * x + 4.0"))
    assert result() == (35.0, 0)
    assert result() == (35.0, 1)


def test_learning_kernels_know_what_they_are_made_from() -> None:
    names = {path.name for path in sources_of(SOURCE / "learning" / "kernels" / "off_policy.py")}
    assert {"off_policy.py", "layers.py", "kernels.py"} <= names
    stepped = {path.name for path in sources_of(SOURCE / "dynamics" / "kernels" / "step.py")}
    assert {"step.py", "contact.py", "manifold.py", "layout.py", "places.py"} <= stepped


def test_there_is_one_way_to_make_a_kernel() -> None:
    for path in SOURCE.rglob("*.py"):
        if path != SOURCE / "kernels.py":
            assert not re.search(r"\b(njit|numba\.jit|import jit)\b", path.read_text()), path


def test_the_set_up_is_done_again_when_a_kernel_changes() -> None:
    launcher = (SOURCE.parents[1] / "heron").read_text()
    for path in SOURCE.rglob("*.py"):
        if "@kernel" in path.read_text():
            place = path.relative_to(SOURCE)
            assert path.name == "kernels.py" or place.parent.name == "kernels", place
    for pattern in ("src/plucky_heron/kernels.py", "src/plucky_heron/*/kernels.py", "src/plucky_heron/*/kernels/*.py"):
        assert pattern in launcher.replace('"$here"/', "")


SHARED = """
import math
from plucky_heron.kernels import kernel

@kernel(entry=True)
def mixed(x):
    total = 0.0
    for i in range(len(x)):
        for k in range(i):
            total += math.sin(x[i]) * math.exp(x[k]) if x[i] > total else math.tanh(x[i] - x[k] * total)
        for k in range(i, len(x)):
            total += math.cos(x[i] * math.atan2(x[k], total)) / math.sqrt(1.0 + x[k] * total)
    return total

@kernel(entry=True)
def twice(x):
    return mixed(x) + mixed(x[1:]) * mixed(x[2:]) - mixed(x[:1]) / mixed(x[:2])
"""
LINKED = """
import numpy as np
from llvmlite.binding import Linkage
from plucky_heron.shared import mixed, twice
twice(np.ones(3)), mixed(np.ones(3))
for entry in (mixed, twice):
    (made,) = entry.overloads.values()
    functions = [f for f in made.library._final_module.functions if not f.is_declaration]
    own = [f.name for f in functions if f.linkage != Linkage.internal]
    print(len(functions), sum("mixed" in name for name in own), sum("twice" in name for name in own), sum("mixed" in f.name for f in functions))
"""


def test_each_kernel_runs_its_own_copies_of_what_it_calls(tmp_path: Path) -> None:
    """Else the bits of a run depend on which kernels its process has loaded or compiled before."""
    package = tmp_path / "plucky_heron"
    package.mkdir()
    shutil.copy(SOURCE / "kernels.py", package)
    (package / "__init__.py").write_text("")
    (package / "shared.py").write_text(SHARED)
    environment = {**os.environ, "PYTHONPATH": str(tmp_path), "NUMBA_CACHE_DIR": str(tmp_path / "cache")}
    done = subprocess.run([sys.executable, "-c", LINKED], env=environment, capture_output=True, text=True, check=True)
    of_mixed, of_twice = (list(map(int, line.split())) for line in done.stdout.splitlines())
    assert of_mixed[1] > 0 and of_mixed[2] == 0
    assert of_twice[2] > 0 and of_twice[1] == 0
    assert of_twice[3] > 0  # which would tell nothing if all of it had been inlined
