"""Compiling generated C with the compiler of this machine, or one for another."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

from plucky_heron.errors import StateError

C_FLAGS = ("-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic", "-O2")


def compile_c(
    folder: Path, sources: list[str], name: str, flags: tuple[str, ...] = C_FLAGS, another: tuple[str, ...] = ()
) -> Path:
    """Compile with gcc into `folder`, or with `another` compiler (its path, then flags); warnings are errors.

    Raises
    ------
    StateError
        No compiler, or what it says first.
    """
    compiler = another[0] if another else shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        raise StateError("no C compiler found; install gcc (Debian: apt-get install gcc libc6-dev)")
    command = [compiler, *another[1:], *flags, "-o", name, *sources, "-lm"]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=120, check=False)
    if done.returncode != 0:
        said = next((line for line in done.stderr.splitlines() if "error" in line), done.stderr.strip()[:200])
        raise StateError(f"the C code does not compile: {said}")
    return folder / name
