"""Tools that some rigs need and not every machine has."""

from __future__ import annotations

import shutil

from plucky_heron.errors import StateError


def needed(tool: str, packages: str) -> str:
    """The path of a tool.

    Raises
    ------
    StateError
        It is not installed; says the command that does.
    """
    path = shutil.which(tool)
    if path is None:
        raise StateError(f"{tool} is not installed; apt-get install {packages}")
    return path
