"""What a run depends on, copied when it is queued: every file that reading its problem and its recipe touched.

What was touched is recorded while reading, not guessed: meshes, drawings and own code come along whatever they are called.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

from plucky_heron.errors import FileError
from plucky_heron.files import inside, is_file, read_bytes, read_json, read_text, recording_files, write_whole
from plucky_heron.learning.policy import Policy
from plucky_heron.runs.store import RunRow, run_folder
from plucky_heron.task.problem import Problem, read_problem
from plucky_heron.training.keeping import milestones_of
from plucky_heron.training.recipe import Recipe, recipe_from_json


def frozen_folder(project: Path, run: RunRow) -> Path:
    """The folder of a run's frozen files, if they are this run's.

    Raises
    ------
    FileError
        They are those of another run that had this number.
    """
    folder = run_folder(project, run.id) / "frozen"
    note = folder / "run.json"
    if run.identity and is_file(note):
        kept = read_json(note)
        if not isinstance(kept, dict) or kept.get("identity") != run.identity:
            raise FileError(
                note,
                "identity",
                None,
                f"belongs to another run than run {run.id} of the catalogue; its files are left alone",
            )
    return folder


def frozen_problem(project: Path, run: RunRow) -> Problem:
    """The problem exactly as the run saw it.

    Raises
    ------
    FileError
        Missing, changed since, or of another run.
    """
    folder = frozen_folder(project, run)
    problem = read_problem(folder, run.task)
    if problem.fingerprint() != run.fingerprint:
        raise FileError(
            folder, "", None, f"was changed after run {run.id} began; what it learned is of another problem"
        )
    return problem


def frozen_recipe(project: Path, run: RunRow) -> Recipe:
    """The recipe exactly as the run used it."""
    frozen = frozen_folder(project, run)
    path = frozen / "recipe.json"
    return recipe_from_json(read_text(path), path).with_own(frozen, path)


def kept_policy(project: Path, run: RunRow, which: str = "best") -> Policy:
    """The kept policy of a run: ``"best"``, ``"last"``, or the step of a milestone, such as ``"100352"``.

    Raises
    ------
    FileError
        None is kept, it is damaged, or of another run.
    """
    folder = run_folder(project, run.id)
    path = folder / f"{which}.npz"
    if which not in ("best", "last"):
        kept = milestones_of(folder)
        there = kept.steps()
        if not (which.isascii() and which.isdigit() and len(which) < 16 and int(which) in there):
            said = f"best, last and the steps {', '.join(map(str, there))}" if there else "best and last"
            raise FileError(folder / "milestones", "step", which, f"run {run.id} keeps {said}")
        path = kept.path(int(which))
    policy = Policy.load(path)
    if run.identity and policy.identity and policy.identity != run.identity:
        raise FileError(path, "identity", None, f"belongs to another run than run {run.id} of the catalogue")
    return policy


@dataclass(frozen=True)
class Frozen:
    """Files by their path in the project, as they were when they were read."""

    files: dict[str, bytes]

    def put(self, project: Path, run: RunRow, recipe: Recipe) -> None:
        """Write them into the folder of a run, with its recipe and what tells it from others."""
        frozen = run_folder(project, run.id) / "frozen"
        for name, data in self.files.items():
            write_whole(inside(frozen, name), data)
        write_whole(frozen / "recipe.json", recipe.model_dump_json(indent=2))
        facts = {
            "run": run.id,
            "identity": run.identity,
            "fingerprint": run.fingerprint,
            "task": run.task,
            "seed": run.seed,
        }
        write_whole(frozen / "run.json", json.dumps(facts, indent=1) + "\n")


def freeze(project: Path, task: str, recipe: Recipe) -> tuple[Problem, Frozen]:
    """Read a problem and take a copy of all that it and the recipe are made of.

    Raises
    ------
    FileError
        Something cannot be read, or changed while it was.
    """
    root = project.resolve()
    with recording_files() as touched:
        problem = read_problem(project, task)
        if recipe.own is not None:
            read_bytes(inside(project, recipe.method))
    files = (
        {"project.toml": b""}
        if not is_file(root / "project.toml")
        else {"project.toml": read_bytes(root / "project.toml")}
    )
    for path in sorted(touched):
        if path.is_relative_to(root):
            files[str(path.relative_to(root))] = read_bytes(path)
    if read_problem(project, task).fingerprint() != problem.fingerprint():
        raise FileError(project, "", None, "a file was changed while it was read; try again")
    return problem, Frozen(files)
