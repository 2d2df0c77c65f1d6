"""A pack to try rigs on: of a run that hardly learned, in all forms that rigs run."""

from __future__ import annotations

from pathlib import Path

from plucky_heron.handover.pack import write_pack
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.training.recipe import with_changes
from tests.conftest import copy_demo


def small_pack(place: Path) -> Path:
    """Its folder, made below `place`."""
    folder = copy_demo(place / "quillmere")
    short = {"steps": "2048", "copies": "32", "evaluation.every": "2048", "evaluation.episodes": "4"}
    recipe = with_changes(Project(folder).recipe("ppo"), short)
    row = launch.wait(folder, launch.train(folder, "lift", recipe, [1]))[0]
    write_pack(folder, row, place / "pack", ("onnx", "c99", "fixed", "st"))
    return place / "pack"
