"""Bringing files of older formats up to date: each step renames what was renamed, and changes nothing else."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, MutableMapping
from typing import Any, NamedTuple

FORMAT = 2
"""Version of a project's text files; a file that names a newer one is refused, not guessed at."""

Table = MutableMapping[str, Any]


class Renamed(NamedTuple):
    """A key that has another name since a format."""

    place: str
    """Table in which it stands: its keys with points between them, ``*`` for any; "" for the file itself."""
    old: str
    new: str


STEPS: dict[tuple[str, int], tuple[Renamed, ...]] = {
    ("tasks", 1): (
        Renamed("rewards.*", "pay", "when"),
        Renamed("acknowledged", "pay is of the size of 1", "reward is of the size of 1"),
        Renamed("acknowledged", "success pays", "success is rewarded"),
        Renamed("acknowledged", "standing still pays less", "standing still is rewarded less"),
        Renamed("acknowledged", "no loop pays better", "no loop is rewarded better"),
        Renamed("acknowledged", "pays alike in the mirror", "rewards are alike in the mirror"),
    ),
    ("recipes", 1): (
        Renamed("", "cut_after", "training_time_limit"),
        Renamed("settings", "step_size_end", "learning_rate_share_end"),
        Renamed("settings", "policy_rests", "critic_only_steps"),
        Renamed("settings", "branches", "model_rollouts"),
    ),
}
"""What brings a file of a kind and a format to the next one; nothing, where none is named."""


def _steps(table: Table, kind: str) -> list[Renamed] | None:
    """What is to be done to a file; None where it is up to date, or of a format that nobody knows."""
    version = table.get("format", 1)
    if isinstance(version, bool) or not isinstance(version, int) or not 1 <= version < FORMAT:
        return None
    return [step for number in range(version, FORMAT) for step in STEPS.get((kind, number), ())]


def _places(table: Any, place: list[str]) -> Iterator[Table]:
    if not isinstance(table, MutableMapping):
        return
    if not place:
        yield table
    elif place[0] == "*":
        for inner in list(table.values()):
            yield from _places(inner, place[1:])
    else:
        yield from _places(table.get(place[0]), place[1:])


def rename(table: Table, old: str, new: str) -> bool:
    """Give a key of a table another name, its value as it was; nothing where there is no such key. Whether there was."""
    if old not in table or new in table:
        return False
    table[new] = table.pop(old)
    return True


def upgrade(table: Table, kind: str) -> bool:
    """Bring the tables of a file of this `kind` (its folder's name) up to date in place; whether anything was older.

    A file that names no format may be of any: it is taken for the oldest, and is left as it is where no name in it is old.
    """
    steps = _steps(table, kind)
    if steps is None:
        return False
    changed = [
        rename(found, old, new)
        for place, old, new in steps
        for found in _places(table, place.split(".") if place else [])
    ]
    if any(changed) or "format" in table:
        table["format"] = FORMAT
        return True
    return False


def upgrade_text(text: str, kind: str) -> str:
    """The text of a TOML file of this `kind`, brought up to date; comments, order and spaces stay. Itself where it is not older.

    Keys are renamed where they stand. Where a name stands elsewhere too (in a formula, as the name of a signal), so that the
    result would not say what it has to, the file is written from its tables, which may move a key behind a comment.

    Raises
    ------
    ValueError
        No TOML.
    """
    wanted = tomllib.loads(text)
    steps, older = _steps(wanted, kind), upgrade(wanted, kind)
    if steps is None or not older:
        return text
    found, count = re.subn(r"^format(\s*=\s*)\d+", rf"format\g<1>{FORMAT}", text, count=1, flags=re.MULTILINE)
    if not count:
        found = f"format = {FORMAT}\n{text}"
    for _, old, new in steps:
        shown = new if re.fullmatch(r"[\w-]+", new) else f'"{new}"'
        found = re.sub(
            rf"(?<![\w.\"'-])(?:{re.escape(old)}|\"{re.escape(old)}\"|'{re.escape(old)}')(?=\s*=[^=])", shown, found
        )
    try:
        if tomllib.loads(found) == wanted:
            return found
    except ValueError:
        pass
    import tomlkit  # only where it is needed

    document = tomlkit.parse(text)
    upgrade(document, kind)
    return tomlkit.dumps(document)
