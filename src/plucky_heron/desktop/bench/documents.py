"""Changing TOML documents in place, so that comments and order stay."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import tomlkit

Key = Sequence[str | int]


def put(document: Any, key: Key, value: object) -> None:
    """Set a value in a TOML document, or take it out where it is None.

    Tables on the way are made where they are missing; one past the end of an array of tables appends to it.
    """
    at = document
    for part in key[:-1]:
        if isinstance(part, str) and part not in at:
            at[part] = tomlkit.table()
        at = at[part]
    last = key[-1]
    if value is None:
        if isinstance(last, int) or last in at:
            del at[last]
    elif isinstance(last, int) and last == len(at):
        at.append(_table(value))
    else:
        at[last] = _inline(value) if isinstance(value, dict) and key[0] in _INLINE else _made(value)


_INLINE = ("starts", "variation", "setpoints")
"""Tables whose entries are short enough for one line."""


def _made(value: object) -> object:
    return _table(value) if isinstance(value, dict) else value


def _table(value: object) -> object:
    if not isinstance(value, dict):
        return value
    table = tomlkit.table()
    for name, part in value.items():
        table[name] = part
    return table


def _inline(value: dict[str, object]) -> object:
    table = tomlkit.inline_table()
    for name, part in value.items():
        table[name] = _inline(part) if isinstance(part, dict) else part
    return table
