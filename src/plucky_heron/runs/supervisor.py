"""The process that works through a batch: ``python -m plucky_heron.runs.supervisor PROJECT BATCH``.

It starts a worker a run and sees to it that no more are at work than may be. It imports little, so that the first worker starts
at once: what reads tasks and policies takes a second.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING

from plucky_heron.errors import HeronError
from plucky_heron.files import read_json
from plucky_heron.runs.executors import THREADS, at_once, interpreter, worker_environment
from plucky_heron.runs.store import DONE, FAILED, QUEUED, RUNNING, RunRow, RunStore, run_folder

if TYPE_CHECKING:
    from plucky_heron.runs.filming import Filming

BETWEEN_FILMS = 2.0
"""Seconds between looks for policies to film, while runs are at work."""


def work_through(project: Path, batch: int) -> None:
    """Start waiting runs of a batch until none waits; all batches of the project together have `at_once` at work, earlier batches first."""
    store = RunStore(project)
    at_work: dict[int, subprocess.Popen[bytes]] = {}
    filming: Filming | None = None
    filmed = time.monotonic()
    while True:
        most = at_once(project)  # a person may change it meanwhile
        at_work = {run: process for run, process in at_work.items() if process.poll() is None}
        waiting = [row for row in store.runs(batch) if row.state == QUEUED and row.id not in at_work]
        for row in list(waiting):
            if store.requested(row.id) == "stop":
                store.update(row.id, state=DONE, stop_rule="by hand", stop_text="stopped before it began", request=None)
                waiting.remove(row)
        over = not waiting and not at_work
        if over or time.monotonic() - filmed > BETWEEN_FILMS:
            filming, filmed = filming or films(project, store.runs(batch)), time.monotonic()
            busy = filming is not None and filming.go_on(store.runs(batch))
            if over and not busy:
                return
        others = [row for row in store.runs() if row.batch != batch and row.alive]
        first = any(row.state == QUEUED and row.batch < batch for row in others)
        free = 0 if first else most - len(at_work) - sum(row.state == RUNNING for row in others)
        for row in waiting[: max(0, free)]:
            threads = 1 if len(waiting) + len(at_work) + len(others) > 1 else min(THREADS, len(os.sched_getaffinity(0)))
            command = [*interpreter(), "-m", "plucky_heron.runs.worker", str(project), str(row.id), str(threads)]
            at_work[row.id] = subprocess.Popen(command, stdin=subprocess.DEVNULL, env=worker_environment())
        time.sleep(0.1)
        for run, process in at_work.items():
            # a run that waits again was resumed after its worker had been killed; one that nobody took up could not start
            died = process.poll() not in (None, 0)
            if died and store.run(run).state == QUEUED and store.taken_up_by(run) != process.pid:
                store.update(run, state=FAILED, stop_rule="failed", stop_text="the worker could not start; see the log")


def films(project: Path, rows: list[RunRow]) -> Filming | None:
    """What films the policies of a batch; None where no recipe asks for it."""
    for row in rows:
        try:
            recipe = read_json(run_folder(project, row.id) / "frozen" / "recipe.json")
        except HeronError:  # training the run says it
            continue
        asked = recipe.get("evaluation") if isinstance(recipe, dict) else None
        if isinstance(asked, dict) and asked.get("film_every") is not None:
            from plucky_heron.runs.filming import Filming

            return Filming(project)
    return None


def main(arguments: list[str]) -> int:
    """Entry point."""
    os.nice(10)  # the window stays fluid while both cores train
    try:
        work_through(Path(arguments[0]), int(arguments[1]))
    except HeronError as error:
        print(f"batch: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
