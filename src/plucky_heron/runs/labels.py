"""Batches as a person keeps them: a note, keywords, a mark; put away, brought back, deleted."""

from __future__ import annotations

import shutil
from pathlib import Path

from plucky_heron.errors import StateError, quoted
from plucky_heron.runs.store import RunRow, RunStore, run_folder

MOST_TEXT = 500
"""Characters of a note or of all keywords."""


def keywords_of(text: str) -> list[str]:
    """Keywords apart by commas: each once, without blanks around it, in the order given."""
    return list(dict.fromkeys(word for part in text.split(",") if (word := " ".join(part.split()))))


def members(store: RunStore, batch: int) -> list[RunRow]:
    """The runs of a batch.

    Raises
    ------
    StateError
        No such batch.
    """
    rows = store.runs(min(batch, 2**62))
    if not rows:
        known = sorted({row.batch for row in store.runs()})
        there = f"there are {', '.join(map(str, known[-12:]))}" if known else "nothing was trained here yet"
        raise StateError(f"no batch {quoted(batch)}; {there}")
    return rows


def label_batch(
    store: RunStore,
    batch: int,
    *,
    note: str | None = None,
    keywords: str | None = None,
    marked: bool | None = None,
    away: bool | None = None,
) -> None:
    """Set what is given.

    Raises
    ------
    StateError
        No such batch, a text that is too long, or a batch at work that is to be put away.
    """
    rows = members(store, batch)
    for name, text in (("note", note), ("keywords", keywords)):
        if text is not None and len(text) > MOST_TEXT:
            raise StateError(f"{name}: {len(text)} characters; wanted at most {MOST_TEXT}")
    if away and any(row.alive for row in rows):
        raise StateError(f"batch {batch} is at work; it can be put away once its runs have ended")
    values: dict[str, str | bool] = {}
    if note is not None:
        values["note"] = " ".join(note.split())
    if keywords is not None:
        values["keywords"] = ", ".join(keywords_of(keywords))
    if marked is not None:
        values["marked"] = marked
    if away is not None:
        values["away"] = away
    if values:
        store.label(batch, **values)


def what_is_lost(project: Path, store: RunStore, batch: int) -> str:
    """What goes when a batch is deleted, in words."""
    rows = members(store, batch)
    size = sum(p.stat().st_size for r in rows for p in run_folder(project, r.id).rglob("*") if p.is_file())
    policies = sum(row.best_step is not None for row in rows)
    evaluations = sum(store.evaluated(row.id) for row in rows)
    hours = sum(row.seconds for row in rows) / 60.0
    parts = [
        f"{len(rows)} run{'s' if len(rows) > 1 else ''}",
        f"{policies} kept polic{'ies' if policies != 1 else 'y'}",
        f"{evaluations} evaluations",
        f"{hours:.1f} minutes of training",
    ]
    proofs = sum(store.last_result(row.id, "proof") is not None for row in rows)
    if proofs:
        parts.append(f"{proofs} proof{'s' if proofs > 1 else ''}")
    return f"{', '.join(parts)}; {size / 1e6:.1f} MB. Packs made from them stay."


def delete_batch(project: Path, store: RunStore, batch: int) -> None:
    """Delete the runs of a batch, their metrics and their folders; packs and runs that started from them hold copies of their own.

    Raises
    ------
    StateError
        A run of it waits or is at work.
    """
    rows = members(store, batch)
    if any(row.alive for row in rows):
        raise StateError(f"batch {batch} is at work; stop it first")
    store.forget_batch(batch)
    for row in rows:
        shutil.rmtree(run_folder(project, row.id), ignore_errors=True)
    log = project / "runs" / f"batch-{batch}.log"
    if log.is_file() and not log.is_symlink():
        log.unlink()
