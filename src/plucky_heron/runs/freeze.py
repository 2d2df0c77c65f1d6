"""What a run depends on, copied when it is queued: machine, site, task, recipe, and every other file that they name."""

from __future__ import annotations

import shutil
from pathlib import Path

from plucky_heron.files import inside, write_whole
from plucky_heron.learning.method import is_own, load_own_method
from plucky_heron.runs.store import RunRow
from plucky_heron.task.problem import Problem, read_problem
from plucky_heron.training.recipe import Recipe


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


def freeze(project: Path, run: int, problem: Problem, task: str, recipe: Recipe) -> None:
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
