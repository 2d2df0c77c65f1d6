"""What the window remembers of how a person likes to look at things, on this machine; nothing of a project."""

from __future__ import annotations

import json

from plucky_heron.errors import HeronError
from plucky_heron.files import data_folder, read_json, write_whole

FILE = "view.json"


def remembered(part: str) -> dict[str, str | int]:
    """What was remembered of a part of the window; empty where there is nothing or it cannot be read."""
    told = _all().get(part)
    return {k: v for k, v in told.items() if isinstance(v, str | int)} if isinstance(told, dict) else {}


def remember(part: str, values: dict[str, str | int]) -> None:
    """Keep it; a machine that cannot be written to forgets it."""
    told = _all() | {part: values}
    try:
        data_folder().mkdir(parents=True, exist_ok=True)
        write_whole(data_folder() / FILE, json.dumps(told, indent=1))
    except (HeronError, OSError):
        return


def _all() -> dict[str, object]:
    try:
        told = read_json(data_folder() / FILE)
    except (HeronError, OSError):
        return {}
    return told if isinstance(told, dict) else {}
