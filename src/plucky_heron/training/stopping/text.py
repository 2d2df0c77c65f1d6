"""Stop rules as one types them on a command line."""

from __future__ import annotations

import re
from typing import Any

from plucky_heron.errors import StateError, did_you_mean, quoted
from plucky_heron.training.stopping.rule import StopRule

_MAIN = {"good enough": "at_least", "no more gain": "less_than", "gone wrong": "below_best", "budget": "steps"}
"""What a number without a name is."""
_COUNT = re.compile(r"^(\d[\d _]*(?:\.\d+)?)\s*(k|M)?$")
_NAMED = re.compile(r"^(\w+)\s*=\s*(.+)$")
_AFTERWARDS = re.compile(r"^(.+?)\s*(running|steps|episodes|minutes)$")


def table_of(text: str) -> dict[str, Any]:
    """The table of a recipe for a rule as typed: ``good enough: 95 %, 6 running`` or ``no more gain: less_than=1, of=score, within=8``.

    What begins with no kind of a rule is a formula.

    Raises
    ------
    StateError
        It cannot be read.
    """
    kind = next((k for k in sorted(StopRule.kinds, key=len, reverse=True) if re.match(rf"{k}\b", text.strip())), "")
    if not kind and re.match(r"[a-z]+( [a-z]+)*\s*:", text.strip()):
        given = text.partition(":")[0].strip()
        raise StateError(f"--rule {quoted(text)}: no stop rule {quoted(given)}; {did_you_mean(given, StopRule.kinds)}")
    said = text.strip()[len(kind) :].lstrip(" :")
    if kind in ("", "formula"):
        return {"kind": "formula", "when": said}
    found: dict[str, Any] = {"kind": kind}
    for part in filter(None, (p.strip() for p in said.split(","))):
        named, after = _NAMED.match(part), _AFTERWARDS.match(part)
        if named is not None:
            key, value = named.group(1), named.group(2)
        elif after is not None:
            key, value = after.group(2), after.group(1)
        else:
            key, value = _MAIN[kind], part
        if key in found:
            raise StateError(f"--rule {quoted(text)}: {key} is given twice")
        found[key] = typed_value(key, value.strip())
    return found


def typed_value(key: str, value: str) -> Any:
    """What a typed value is in the table of a rule: counts may be written as 150 k, all else is left to the rule's schema."""
    count = _COUNT.match(value)
    if key not in ("running", "within", "after", "steps", "episodes") or count is None:
        return value
    number = float(count.group(1).replace(" ", "").replace("_", "")) * {"k": 1e3, "M": 1e6}.get(
        count.group(2) or "", 1.0
    )
    return int(number) if number == int(number) else number
