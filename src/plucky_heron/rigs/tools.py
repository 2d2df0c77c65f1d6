"""Tools that some rigs need and not every machine has."""

from __future__ import annotations

import shutil

from plucky_heron.errors import StateError


def ends_with_us() -> list[str]:
    """What a command begins with so that its process ends when this one does, whatever ends it; empty where util-linux is not there."""
    found = shutil.which("setpriv")
    return [found, "--pdeathsig", "KILL", "--"] if found is not None else []


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
