"""Starting, stopping, resuming and watching runs: everything that the window and the command line need of training."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from plucky_heron.control.base_controller import base_controller, check_base
from plucky_heron.errors import FileError, StateError
from plucky_heron.files import is_file, read_arrays, read_text, write_whole
from plucky_heron.learning.method import Method
from plucky_heron.learning.starting import Source, source_of, start_from
from plucky_heron.runs.executors import start_batch
from plucky_heron.runs.freeze import freeze, frozen_folder, frozen_problem, frozen_recipe, kept_policy
from plucky_heron.runs.store import DEAD, FAILED, RUNNING, RunRow, RunStore, run_folder
from plucky_heron.task.problem import Problem
from plucky_heron.training.fitting import fit
from plucky_heron.training.loop import method_of, names_of
from plucky_heron.training.recipe import Recipe, with_budget
from plucky_heron.training.shaping import potential_of
from plucky_heron.training.stopping import Course, StopRule, read_rule


def create_batch(
    project: Path, task: str, recipe: Recipe, seeds: list[int], start: Source | None = None, note: str = ""
) -> list[int]:
    """Queue one run a seed, with frozen copies of all it depends on; returns their numbers.

    Raises
    ------
    StateError
        The recipe cannot start from `start`; says what it needs.
    """
    problem, frozen = freeze(project, task, recipe)
    recipe = fit(recipe, problem, project)
    if recipe.shaping is not None:  # a recipe is written for one task: with another, its formula may know no signal
        potential_of(problem, recipe.shaping.potential, f"recipe {recipe.name}")
    if recipe.residual is not None:
        check_base(problem, recipe.residual.on, f"recipe {recipe.name}")
    if start is not None:
        tried_start(problem, recipe, start, project)
    store = RunStore(project)
    try:
        batch = store.new_batch()
        runs = []
        for seed in seeds:
            run = store.add(
                batch=batch, task=task, machine=problem.task.machine, recipe=recipe.name, method=recipe.method, seed=seed,
                fingerprint=problem.fingerprint(), budget=recipe.steps, request="prepare", note=note,
            )  # fmt: skip
            frozen.put(project, store.run(run), recipe)
            if start is not None:
                start.save(run_folder(project, run) / "frozen")
            runs.append(run)
        return runs
    finally:
        store.close()


def tried_start(problem: Problem, recipe: Recipe, start: Source, project: Path) -> list[str]:
    """What a recipe would take over from another run, in words.

    Raises
    ------
    StateError
        It cannot start from there.
    """
    plan = recipe.residual
    method = method_of(
        problem, recipe, 0, 1, base_controller(problem, plan.on, 1, project) if plan is not None else None
    )
    return start_from(method, start, *names_of(problem), problem.fingerprint())


def start_of(project: Path, row: RunRow, which: str = "best") -> Source:
    """What another run can start from: a kept policy, and critics and statistics as they stood at its last checkpoint.

    Raises
    ------
    FileError
        No such policy is kept, or what is kept is damaged.
    """
    policy = kept_policy(project, row, which)
    problem, recipe = frozen_problem(project, row), frozen_recipe(project, row)
    step = row.best_step or 0 if which == "best" else row.steps if which == "last" else int(which)
    told = Source(row.id, step, policy, *names_of(problem), recipe.method, problem.fingerprint())
    method = restored_method(project, row, problem, recipe)
    if method is None:
        return told
    store = RunStore(project)
    try:
        health = store.health(row.id)
    finally:
        store.close()
    return source_of(method, policy, told, health[-1][1] if health else {})


def restored_method(project: Path, row: RunRow, problem: Problem, recipe: Recipe) -> Method | None:
    """The method of a run as it stood at its last checkpoint; None without one, and for methods of others' code.

    Raises
    ------
    FileError
        The checkpoint is damaged.
    """
    path = run_folder(project, row.id) / "checkpoint.npz"
    if not is_file(path) or recipe.own is not None:
        return None
    plan = recipe.residual
    base = base_controller(problem, plan.on, 1, project) if plan is not None else None
    method = method_of(problem, recipe, row.seed, 1, base)
    kept = read_arrays(path)
    try:
        method.restore({k[7:]: v for k, v in kept.items() if k.startswith("method.")})
    except (KeyError, ValueError, IndexError, TypeError) as error:
        raise FileError(path, "", None, f"damaged, or of another version: {error}") from error
    return method


def train(
    project: Path, task: str, recipe: Recipe, seeds: list[int], start: Source | None = None, note: str = ""
) -> list[int]:
    """Queue and start; returns the runs' numbers at once."""
    if start is not None:
        note = f"{note}, from run {start.run} at {start.step} steps".removeprefix(", ")
    runs = create_batch(project, task, recipe, seeds, start, note)
    store = RunStore(project)
    try:
        begin_batch(project, store, store.run(runs[0]).batch)
    finally:
        store.close()
    return runs


def begin_batch(project: Path, store: RunStore, batch: int) -> None:
    """Start the process of a batch, and note which it is."""
    process = start_batch(project, batch)
    store.work_on_batch(batch, process.pid)


def stop(project: Path, runs: list[int]) -> None:
    """Ask runs to stop; what they have is kept."""
    store = RunStore(project)
    for number in runs:
        if store.run(number).alive:
            store.request(number, "stop")
    store.close()


def obey(project: Path, runs: list[int], rules: Sequence[StopRule]) -> None:
    """Let runs that wait or are at work obey other stop rules from their next update on; their step is noted among their facts."""
    store = RunStore(project)
    try:
        for number in runs:
            row = store.run(number)
            if not row.alive:
                continue
            frozen = frozen_folder(project, row)
            recipe = frozen_recipe(project, row).model_copy(update={"stop": tuple(rules)})
            write_whole(frozen / "recipe.json", recipe.model_dump_json(indent=2))
            if row.state == RUNNING:
                store.request(number, "rules")
    finally:
        store.close()


def resume(project: Path, number: int, steps: int | None = None) -> str:
    """Put a dead, failed or stopped run back to work from its last checkpoint; with `steps`, any run that has ended, up to that many.

    Returns
    -------
    str
        What has to be known of going on, in a line; "" where there is nothing.

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
        said = ""
        if steps is not None:
            said = _give_more(project, row, steps)
            store.update(number, budget=steps)
        elif row.state not in (DEAD, FAILED) and row.stop_rule != "by hand":
            raise StateError(
                f"run {number} has ended ({row.stop_text}); give it more steps to go on: --resume {number} --steps {2 * row.steps}"
            )
        store.update(number, state="queued", request="resume", stop_rule=None, stop_text=None)
        begin_batch(project, store, row.batch)
    finally:
        store.close()
    return said


def _give_more(project: Path, row: RunRow, steps: int) -> str:
    """Write the recipe of an ended run with a larger budget: schedules stay those it began with, a rule that ended it is lifted."""
    if steps <= row.steps:
        raise StateError(f"run {row.id} has done {row.steps} steps; give it more than that, such as {2 * row.steps}")
    if not is_file(run_folder(project, row.id) / "checkpoint.npz"):
        raise StateError(
            f"run {row.id} has no checkpoint to go on from; train again, or start from its policy with --from"
        )
    recipe = frozen_recipe(project, row)
    store = RunStore(project)
    try:
        course = Course(store.whole_course(row.id))
    finally:
        store.close()
    if len(course) and course.not_finite()[-1]:
        raise StateError(f"run {row.id} is not finite any more; start from its kept policy with --from {row.id}")
    data = with_budget(recipe.model_dump(), steps)
    data["schedule_steps"] = recipe.schedule
    stay: list[dict[str, Any]] = []
    lifted: list[dict[str, Any]] = []
    for rule in data["stop"]:
        if rule.get("kind") == "budget" and rule.get("steps") is not None and rule["steps"] < steps:
            rule = rule | {"steps": steps}
        # what holds already would end it again at once, whatever is learned
        acts = len(course) and bool(read_rule(rule).met(course)[-1])
        (lifted if acts else stay).append(rule)
    data["stop"] = stay
    changed = Recipe.model_validate(data).knowing(recipe.own)
    frozen = frozen_folder(project, row)
    write_whole(frozen / f"recipe-before-{row.steps}.json", read_text(frozen / "recipe.json"))
    write_whole(frozen / "recipe.json", changed.model_dump_json(indent=2))
    said = [f"without the rule {rule['kind']}, which holds already" for rule in lifted]
    left = getattr(recipe.method_settings(), "learning_rate_share_end", None)
    falls = getattr(recipe.method_settings(), "schedule", "linear") == "linear"
    if left is not None and left < 1.0 and falls and row.steps >= recipe.schedule:
        said.append(f"schedules have run out: the learning rate stays at {left:g} of its start")
    return "; ".join(said)


def wait(project: Path, runs: list[int], tick: float = 0.2, patience: float = 90.0) -> list[RunRow]:
    """Wait until all runs have ended; raises `patience` seconds after the last of them got on while none is at work.

    Raises
    ------
    StateError
        A worker died or never started; names its log.
    """
    store = RunStore(project)
    began, before = time.monotonic(), None
    try:
        while True:
            rows = [store.run(number) for number in runs]
            now = [(row.state, row.steps) for row in rows]
            if now != before or any(row.state == RUNNING for row in store.runs()):  # it may wait behind other batches
                began, before = time.monotonic(), now
            lost = [row for row in rows if row.state == DEAD]
            if lost:
                raise StateError(
                    f"the worker of run {lost[0].id} died; see runs/batch-{lost[0].batch}.log, then --resume {lost[0].id}"
                )
            if not any(row.alive for row in rows):
                return rows
            if time.monotonic() - began > patience:
                waiting = next(row for row in rows if row.alive)
                raise StateError(
                    f"no worker took up run {waiting.id}; see runs/batch-{waiting.batch}.log, then --resume {waiting.id}"
                )
            time.sleep(tick)
    finally:
        store.close()
