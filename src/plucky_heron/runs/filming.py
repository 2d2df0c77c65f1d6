"""Films of kept policies, made by a process of its own behind all other work: it needs the window's painters, which nothing here knows."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from pathlib import Path

from plucky_heron.errors import StateError
from plucky_heron.runs.executors import interpreter, worker_environment


def film_apart(
    project: Path, run: int, which: str, path: Path, tell: Callable[[float], bool], starts: int = 1, speed: float = 1.0
) -> int:
    """Film a kept policy on its first evaluation start, with further starts as ghosts; returns the pictures, 0 where `tell` asked to stop.

    Raises
    ------
    StateError
        What was wrong, in a line.
    """
    command = [
        *interpreter(),
        "-m",
        "plucky_heron.desktop.filming",
        str(project),
        str(run),
        which,
        str(path.absolute()),
        str(starts),
        str(speed),
    ]
    environment = worker_environment() | {"QT_QPA_PLATFORM": "offscreen"}
    process = subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=environment
    )
    assert process.stdout is not None and process.stderr is not None
    pictures = 0
    try:
        for line in process.stdout:
            if line.startswith("written"):
                pictures = int(line.split()[1])
            elif not tell(float(line)):
                return 0
        said = process.stderr.read().strip().splitlines()
        if process.wait() != 0:
            raise StateError(said[-1].removeprefix("filming: ") if said else "the process that films ended early")
        return pictures
    finally:
        process.kill()
        process.wait()
        process.stdout.close()
        process.stderr.close()
