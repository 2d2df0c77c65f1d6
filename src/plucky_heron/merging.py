"""Putting a change into a text that somebody else changed too: line by line, or not at all."""

from __future__ import annotations

from difflib import SequenceMatcher

Change = tuple[int, int, list[str]]


def merged(base: str, mine: str, theirs: str) -> str | None:
    """What `mine` changed of `base`, changed in `theirs` as well; None where both changed the same lines, or lines that touch."""
    lines = base.splitlines(keepends=True)
    own, others = _changes(lines, mine), _changes(lines, theirs)
    for first, last, text in own:
        for begin, end, other in others:
            same = (first, last, text) == (begin, end, other)
            if not same and first <= end and begin <= last:
                return None
    found = list(lines)
    for first, last, text in sorted(own + [c for c in others if c not in own], key=lambda c: c[0], reverse=True):
        found[first:last] = text
    return "".join(found)


def _changes(lines: list[str], other: str) -> list[Change]:
    """What has to be put in the place of which lines, to come to `other`."""
    after = other.splitlines(keepends=True)
    codes = SequenceMatcher(None, lines, after, autojunk=False).get_opcodes()
    return [(a, b, after[c:d]) for tag, a, b, c, d in codes if tag != "equal"]
