"""Starting, stopping, resuming and watching runs: everything that the window and the command line need of training."""

from __future__ import annotations

import datetime
import os
import platform
import shutil
import subprocess
import sys
import time
from importlib import metadata
from pathlib import Path
from typing import Any

from plucky_heron.errors import StateError
from plucky_heron.files import inside, write_whole
from plucky_heron.learning.method import is_own, load_own_method
from plucky_heron.task.problem import Problem, read_problem
from plucky_heron.training.recipe import Recipe
from plucky_heron.training.shaping import potential_of
from plucky_heron.training.store import DEAD, RunRow, RunStore

AT_ONCE = 2
"""Runs at work at the same time: one a core of the smallest machine we serve."""


def run_folder(project: Path, run: int) -> Path:
    """The folder of a run."""
    return inside(project, f"runs/{run:04d}")


def frozen_problem(project: Path, run: RunRow) -> Problem:
    """The problem exactly as the run saw it."""
    return read_problem(run_folder(project, run.id) / "frozen", run.task)


def frozen_recipe(project: Path, run: RunRow) -> Recipe:
    """The recipe exactly as the run used it."""
    frozen = run_folder(project, run.id) / "frozen"
    recipe = Recipe.model_validate_json((frozen / "recipe.json").read_text())
    if is_own(recipe.method):
        load_own_method(frozen, recipe.method, frozen / "recipe.json")
    return recipe


def create_batch(project: Path, task: str, recipe: Recipe, seeds: list[int]) -> list[int]:
    """Queue one run a seed, with frozen copies of all it depends on; returns their numbers."""
    problem = read_problem(project, task)
    if recipe.shaping is not None:  # a recipe is written for one task: with another, its formula may know no signal
        potential_of(problem, recipe.shaping.potential, f"recipe {recipe.name}")
    store = RunStore(project)
    try:
        batch = store.new_batch()
        runs = []
        for seed in seeds:
            run = store.add(
                batch=batch, task=task, machine=problem.task.machine, recipe=recipe.name, method=recipe.method, seed=seed,
                fingerprint=problem.fingerprint(), budget=recipe.steps, request="prepare",
            )  # fmt: skip
            _freeze(project, run, problem, task, recipe)
            runs.append(run)
        return runs
    finally:
        store.close()


def _freeze(project: Path, run: int, problem: Problem, task: str, recipe: Recipe) -> None:
    frozen = run_folder(project, run) / "frozen"
    names = {"tasks": task, "machines": problem.task.machine, "sites": problem.task.site}
    for kind, name in names.items():
        for ending in (".toml", ".urdf"):
            source = inside(project, f"{kind}/{name}{ending}")
            if source.is_file():
                (frozen / kind).mkdir(parents=True, exist_ok=True)
                shutil.copy2(source, frozen / kind / source.name)
    own = [problem.task.code.file] if problem.task.code is not None else []
    for file in own + ([recipe.method] if is_own(recipe.method) else []):
        place = inside(frozen, file)
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy2(inside(project, file), place)
    write_whole(frozen / "recipe.json", recipe.model_dump_json(indent=2))


def start_batch(project: Path, batch: int) -> subprocess.Popen[bytes]:
    """Start the process that works through a batch's waiting runs; it outlives this one."""
    log = inside(project, f"runs/batch-{batch}.log")
    # the worker gets its own session: closing the window or the terminal does not end it
    with log.open("ab") as out:
        return subprocess.Popen(
            [sys.executable, "-m", "plucky_heron.training.worker", "--batch", str(project), str(batch)],
            stdin=subprocess.DEVNULL, stdout=out, stderr=out, start_new_session=True, env=worker_environment(),
        )  # fmt: skip


def worker_environment() -> dict[str, str]:
    """One BLAS thread (measured fastest at these sizes, and the same bits everywhere)."""
    threads = {
        name: "1" for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS", "NUMBA_NUM_THREADS")
    }
    source = str(Path(__file__).resolve().parents[2])
    paths = [source, *filter(None, [os.environ.get("PYTHONPATH")])]
    return {**os.environ, **threads, "PYTHONPATH": os.pathsep.join(paths)}


def train(project: Path, task: str, recipe: Recipe, seeds: list[int]) -> list[int]:
    """Queue and start; returns the runs' numbers at once."""
    runs = create_batch(project, task, recipe, seeds)
    store = RunStore(project)
    batch = store.run(runs[0]).batch
    store.close()
    start_batch(project, batch)
    return runs


def stop(project: Path, runs: list[int]) -> None:
    """Ask runs to stop; what they have is kept."""
    store = RunStore(project)
    for number in runs:
        if store.run(number).alive:
            store.request(number, "stop")
    store.close()


def resume(project: Path, number: int) -> None:
    """Put a dead, failed or stopped run back to work from its last checkpoint.

    Raises
    ------
    StateError
        It is at work, or has nothing left to do.
    """
    store = RunStore(project)
    try:
        row = store.run(number)
        if row.alive:
            raise StateError(f"run {number} is {row.state} already")
        if row.state not in (DEAD, "failed") and row.stop_rule != "by hand":
            raise StateError(f"run {number} has ended ({row.stop_text}); train again with a larger budget instead")
        store.update(number, state="queued", request="resume", stop_rule=None, stop_text=None)
        start_batch(project, row.batch)
    finally:
        store.close()


def wait(project: Path, runs: list[int], tick: float = 0.2, patience: float = 90.0) -> list[RunRow]:
    """Wait until all runs have ended; a run that nobody takes up within `patience` seconds raises.

    Raises
    ------
    StateError
        A worker died or never started; names its log.
    """
    store = RunStore(project)
    began = time.monotonic()
    try:
        while True:
            rows = [store.run(number) for number in runs]
            if any(row.state == "running" or row.steps for row in rows):
                began = time.monotonic()
            lost = [row for row in rows if row.state == DEAD]
            if lost:
                raise StateError(
                    f"the worker of run {lost[0].id} died; see runs/batch-{lost[0].batch}.log, then --resume {lost[0].id}"
                )
            if not any(row.alive for row in rows):
                return rows
            if time.monotonic() - began > patience:
                raise StateError(f"no worker took up run {rows[0].id}; see runs/batch-{rows[0].batch}.log")
            time.sleep(tick)
    finally:
        store.close()


def facts() -> dict[str, Any]:
    """What a run works on: system, processor, threads, versions, commit."""
    packages = {name: metadata.version(name) for name in ("numpy", "scipy", "numba")}
    return {
        "system": platform.platform(),
        "processor": _processor(),
        "cores": os.cpu_count(),
        "python": platform.python_version(),
        "packages": packages,
        "commit": _commit(),
        "started": datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"),
    }


def _processor() -> str:
    try:
        for line in Path("/proc/cpuinfo").read_text().splitlines():
            if line.startswith("model name"):
                return line.partition(":")[2].strip()
    except OSError:
        pass
    return platform.machine()


def _commit() -> str:
    root = Path(__file__).resolve().parents[3]
    try:
        done = subprocess.run(
            ["git", "-C", str(root), "rev-parse", "--short", "HEAD"],
            capture_output=True,
            text=True,
            timeout=5,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout.strip() if done.returncode == 0 else ""
