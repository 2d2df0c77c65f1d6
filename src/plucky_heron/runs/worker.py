"""The processes that train: one that works through a batch, and one a run.

``python -m plucky_heron.runs.worker --batch PROJECT N`` or ``... PROJECT RUN THREADS``.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from plucky_heron.errors import HeronError, one_line
from plucky_heron.learning.starting import Source
from plucky_heron.runs.executors import THREADS, at_once, interpreter, worker_environment
from plucky_heron.runs.facts import facts
from plucky_heron.runs.filming import Filming
from plucky_heron.runs.freeze import frozen_folder, frozen_problem, frozen_recipe, kept_policy, run_folder
from plucky_heron.runs.store import DONE, FAILED, QUEUED, RUNNING, RunRow, RunStore
from plucky_heron.training.evaluation import retest
from plucky_heron.training.loop import Run
from plucky_heron.training.stopping import Evaluation

BETWEEN_FILMS = 2.0
"""Seconds between looks for policies to film, while runs are at work."""


def work_through(project: Path, batch: int) -> None:
    """Start waiting runs of a batch until none waits; all batches of the project together have `at_once` at work, earlier batches first."""
    store = RunStore(project)
    at_work: dict[int, subprocess.Popen[bytes]] = {}
    filming, filmed = Filming(project), 0.0
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
            busy, filmed = filming.go_on(store.runs(batch)), time.monotonic()
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


def work_on(project: Path, number: int, threads: int) -> None:
    """Train one run to its end, or on from its checkpoint."""
    store = RunStore(project)
    row = store.run(number)
    if not store.claim(number):
        return
    try:
        run = Run(
            frozen_problem(project, row),
            frozen_recipe(project, row),
            row.seed,
            run_folder(project, number),
            threads,
            project,
            identity=row.identity,
            start=Source.load(frozen_folder(project, row)),
        )
        resumed = run.resume()
        store.forget_after(number, run.steps if resumed else -1)
        if run.dropped is not None:
            store.forget_evaluation(number, run.dropped)
        code = run.problem.code
        own: dict[str, Any] = {"own_code": {"file": code.file, "sha256": code.digest}} if code is not None else {}
        if run.recipe.own is not None:
            own["own_method"] = {"file": run.recipe.method, "sha256": run.recipe.own.digest}
        if run.started_with:
            own["started_with"] = run.started_with
        store.update(number, facts=facts() | {"threads": threads} | own)
        _train(store, run, project, row)
    except HeronError as error:
        store.update(number, state=FAILED, stop_rule="failed", stop_text=str(error))
        raise
    except MemoryError:
        text = (
            f"not enough memory; a smaller replay or fewer copies take less, and --resume {number} goes on where it was"
        )
        store.update(number, state=FAILED, stop_rule="failed", stop_text=text)
        raise
    except Exception as error:  # a fault of the program's: the run says so, the log has the whole of it
        text = one_line(f"{type(error).__name__}: {error}", 200)
        store.update(
            number,
            state=FAILED,
            stop_rule="failed",
            stop_text=f"a fault of the program: {text}; see runs/batch-{row.batch}.log",
        )
        raise
    finally:
        store.close()


def _train(store: RunStore, run: Run, project: Path, row: RunRow) -> None:
    number = row.id
    asked = {"stop": False}

    def by_signal(*_: Any) -> None:
        asked["stop"] = True

    signal.signal(signal.SIGTERM, by_signal)
    signal.signal(signal.SIGINT, by_signal)

    def on_update(run: Run, health: dict[str, float]) -> None:
        store.add_update(number, run.steps, health)
        store.update(number, steps=run.steps, seconds=run.seconds, beat=time.time())

    def on_evaluation(run: Run, evaluation: Evaluation, details: dict[str, Any]) -> None:
        store.add_evaluation(number, evaluation, details)
        if run.best is not None:
            store.update(number, best_step=run.best.step, best_score=run.best.score, best_success=run.best.success)

    def stop_asked() -> bool:
        request = store.requested(number)
        if request == "rules":
            _obey_other_rules(store, run, project, row)
        return asked["stop"] or request == "stop"

    verdict = run.work(on_update, on_evaluation, stop_asked)
    fresh = retest(run.problem, kept_policy(project, row), run.threads) if run.best is not None else None
    store.update(
        number, state=DONE, steps=run.steps, seconds=run.seconds, stop_rule=verdict.rule, stop_text=verdict.text,
        retest=fresh or {}, request=None,
    )  # fmt: skip


def _obey_other_rules(store: RunStore, run: Run, project: Path, row: RunRow) -> None:
    """Take up stop rules that were changed while the run is at work; when that was stands in its facts."""
    run.recipe = run.recipe.model_copy(update={"stop": frozen_recipe(project, row).stop})
    known = store.run(row.id).facts
    changed = [
        *known.get("rules_changed", []),
        {"step": run.steps, "rules": [f"{r.kind}: {r.words()}" for r in run.recipe.stop]},
    ]
    store.update(row.id, facts=known | {"rules_changed": changed}, request=None)


def main(arguments: list[str]) -> int:
    """Entry point of both kinds of process."""
    os.nice(10)  # the window stays fluid while both cores train
    try:
        if arguments[0] == "--batch":
            work_through(Path(arguments[1]), int(arguments[2]))
        else:
            work_on(Path(arguments[0]), int(arguments[1]), int(arguments[2]))
    except HeronError as error:
        print(f"worker: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
