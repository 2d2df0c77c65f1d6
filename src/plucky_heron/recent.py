"""Projects that were open lately, newest first, as this machine remembers them."""

from __future__ import annotations

import json
from pathlib import Path

from plucky_heron.errors import HeronError
from plucky_heron.files import data_folder, is_file, read_json, write_whole

MOST = 12


def recent_projects() -> list[Path]:
    """Folders that still hold a project."""
    try:
        told = read_json(data_folder() / "recent.json")
    except (HeronError, OSError):
        return []
    folders = [Path(text) for text in told if isinstance(text, str)] if isinstance(told, list) else []
    return [folder for folder in folders if is_file(folder / "project.toml")]


def remember_project(folder: Path) -> None:
    """Put a project in front; a machine that cannot be written to forgets it."""
    folder = folder.resolve()
    found = [folder, *(known for known in recent_projects() if known != folder)][:MOST]
    try:
        data_folder().mkdir(parents=True, exist_ok=True)
        write_whole(data_folder() / "recent.json", json.dumps([str(path) for path in found], indent=1))
    except (HeronError, OSError):
        return
