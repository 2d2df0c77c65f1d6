"""The process that trains a run: ``python -m plucky_heron.runs.worker PROJECT RUN THREADS``."""

from __future__ import annotations

import os
import signal
import sys
import time
from pathlib import Path
from typing import Any

from plucky_heron.errors import HeronError, one_line
from plucky_heron.learning.starting import Source
from plucky_heron.runs.facts import facts
from plucky_heron.runs.freeze import frozen_folder, frozen_problem, frozen_recipe, kept_policy
from plucky_heron.runs.store import DONE, FAILED, RunRow, RunStore, run_folder
from plucky_heron.training.evaluation import retest
from plucky_heron.training.loop import Run
from plucky_heron.training.stopping import Evaluation


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
    """Entry point."""
    os.nice(10)  # behind the process that works through the batch, and that behind the window
    try:
        work_on(Path(arguments[0]), int(arguments[1]), int(arguments[2]))
    except HeronError as error:
        print(f"worker: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
