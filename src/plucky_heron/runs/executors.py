"""Where runs are worked through: on this machine, in processes of their own that outlive whoever started them."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

from plucky_heron.errors import HeronError
from plucky_heron.files import inside, is_file, read_text, write_whole

MOST_WORKERS = 256
WORKERS = "HERON_WORKERS"
"""Variable of the environment that says how many runs may be at work at the same time."""
CHOSEN = "runs/at-once.txt"
"""File of a project that says it too: chosen in the window, and obeyed by batches that are at work already."""
THREADS = 2
"""Of a run that is alone: more did not pay on the machines that were measured."""


def at_once(project: Path) -> int:
    """How many runs of a project may be at work at the same time: what `WORKERS` says, else what was chosen, else one a core."""
    return _workers(os.environ.get(WORKERS, "")) or chosen_at_once(project) or len(os.sched_getaffinity(0))


def chosen_at_once(project: Path) -> int | None:
    """What was chosen in the window; None for one a core."""
    path = inside(project, CHOSEN)
    try:
        return _workers(read_text(path).strip()) if is_file(path) else None
    except HeronError:
        return None


def choose_at_once(project: Path, count: int | None) -> None:
    """Let so many runs of a project be at work at the same time; None for one a core. Runs at work are not stopped."""
    path = inside(project, CHOSEN)
    if count is None:
        path.unlink(missing_ok=True)
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    write_whole(path, f"{min(max(count, 1), MOST_WORKERS)}\n")


def _workers(said: str) -> int | None:
    digits = said.isascii() and said.isdigit() and len(said) < 6
    return int(said) if digits and 1 <= int(said) <= MOST_WORKERS else None


def start_batch(project: Path, batch: int) -> subprocess.Popen[bytes]:
    """Start the process that works through a batch's waiting runs; it outlives this one."""
    log = inside(project, f"runs/batch-{batch}.log")
    # the worker gets its own session: closing the window or the terminal does not end it
    with log.open("ab") as out:
        out.write(f"batch {batch} begins {time.strftime('%Y-%m-%d %H:%M:%S')}\n".encode())
        out.flush()
        return subprocess.Popen(
            [*interpreter(), "-m", "plucky_heron.runs.supervisor", str(project), str(batch)],
            stdin=subprocess.DEVNULL, stdout=out, stderr=out, start_new_session=True, env=worker_environment(),
        )  # fmt: skip


def interpreter() -> list[str]:
    """Python, so that nothing is imported from the folder it happens to be started in: a stranger's project may hold a ``json.py``."""
    return [sys.executable, "-P"]


def worker_environment() -> dict[str, str]:
    """One BLAS thread (measured fastest at these sizes, and the same bits everywhere)."""
    threads = {
        name: "1" for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS", "NUMBA_NUM_THREADS")
    }
    source = str(Path(__file__).resolve().parents[2])
    # an empty entry of the path would be the current folder
    paths = [source, *filter(os.path.isabs, os.environ.get("PYTHONPATH", "").split(os.pathsep))]
    return {**os.environ, **threads, "PYTHONPATH": os.pathsep.join(paths), "PYTHONSAFEPATH": "1"}
