"""Findings on runs of a project, worked out here or in a process of their own.

A process of its own serves the window: it would wait for Python's lock while a thread reads thousands of evaluations.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from plucky_heron.analysis.diagnosis.diagnosis import diagnose
from plucky_heron.analysis.diagnosis.finding import Finding, Try
from plucky_heron.analysis.diagnosis.record import record_of
from plucky_heron.errors import HeronError, StateError
from plucky_heron.runs.executors import interpreter, worker_environment
from plucky_heron.runs.store import RunStore

MUCH = 2000
"""Evaluations from which reading them takes longer than starting a process."""
LISTEN_SECONDS = 0.05
BEHIND = 10
"""Niceness of the process: behind the window, before training."""


def findings_on(project: Path, runs: Sequence[int], measure: bool = True) -> list[Finding]:
    """Named findings on runs of one batch, the weightiest first.

    Parameters
    ----------
    measure
        Whether the task may be measured for what fits it, which takes some seconds the first time.

    Raises
    ------
    FileError
        What a run froze is missing or damaged.
    """
    found = findings_until(project, runs, measure, lambda: False)
    assert found is not None
    return found


def findings_until(
    project: Path, runs: Sequence[int], measure: bool, stopping: Callable[[], bool]
) -> list[Finding] | None:
    """`findings_on`; None where `stopping` said so before all runs were read.

    Raises
    ------
    FileError
        What a run froze is missing or damaged.
    """
    store, records = RunStore(project), []
    try:
        for run in runs:
            if stopping():
                return None
            records.append(record_of(project, store, store.run(run), measure))
    finally:
        store.close()
    return diagnose(records)


def findings_apart(
    project: Path, runs: Sequence[int], measure: bool, stopping: Callable[[], bool]
) -> list[Finding] | None:
    """`findings_until` by a process of its own; None where `stopping` said so.

    Raises
    ------
    StateError
        What was wrong, in a line.
    """
    command = [*interpreter(), "-m", "plucky_heron.analysis.diagnosis.of_runs", str(project), str(int(measure))]
    process = subprocess.Popen(
        [*command, *map(str, runs)], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        text=True, env=worker_environment(),
    )  # fmt: skip
    try:
        while True:
            try:
                said, wrong = process.communicate(timeout=LISTEN_SECONDS)
                break
            except subprocess.TimeoutExpired:
                if stopping():
                    return None
    finally:
        process.kill()
        process.wait()
    if process.returncode != 0:
        raise StateError(([*wrong.strip().splitlines()] or ["the process that diagnoses ended early"])[-1])
    return [_finding(one) for one in json.loads(said)]


def _finding(data: dict[str, Any]) -> Finding:
    tries = tuple(Try(**one) for one in data["tries"])
    return Finding(**(data | {"tries": tries, "seeds": tuple(data["seeds"])}))


def main(arguments: Sequence[str]) -> int:
    """Write the findings on runs as JSON: the project's folder, whether to measure (1 or 0), and the runs' numbers."""
    os.nice(BEHIND)
    try:
        found = findings_on(Path(arguments[0]), [int(run) for run in arguments[2:]], arguments[1] == "1")
    except HeronError as error:
        print(error, file=sys.stderr)
        return 1
    print(json.dumps([asdict(one) for one in found]))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
