"""Batches of runs as a person keeps them."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from plucky_heron.cli.common import Json, ProjectOption, app, fail, find_project, report
from plucky_heron.cli.reports import run_answer


@app.command()
def batch(
    number: Annotated[int, typer.Argument(min=1, max=10**12, help="The batch; heron runs lists them.")],
    note: Annotated[str | None, typer.Option("--note", help="What is special about it.")] = None,
    keywords: Annotated[str | None, typer.Option("--keywords", help="Keywords, apart by commas.")] = None,
    mark: Annotated[bool | None, typer.Option("--mark/--no-mark", help="Mark it, or take the mark off.")] = None,
    away: Annotated[
        bool | None, typer.Option("--put-away/--bring-back", help="Keep it without showing it, or show it again.")
    ] = None,
    delete: Annotated[bool, typer.Option("--delete", help="Delete its runs; says what is lost, and asks.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Delete without asking.")] = False,
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Note, keywords and mark of a batch; put it away, bring it back, delete it."""
    from plucky_heron.runs.labels import delete_batch, label_batch, members, what_is_lost
    from plucky_heron.runs.store import RunStore

    found = find_project(project)
    store = RunStore(found.folder)
    try:
        if delete:
            lost = what_is_lost(found.folder, store, number)
            if not yes and (not sys.stdin.isatty() or not typer.confirm(f"Delete batch {number}: {lost}", err=True)):
                raise fail(f"batch {number} was not deleted ({lost} With --yes it is, without asking.)", 1)
            delete_batch(found.folder, store, number)
            report({"batch": number, "deleted": lost}, json_, [f"batch {number} deleted: {lost}"])
            return
        label_batch(store, number, note=note, keywords=keywords, marked=mark, away=away)
        rows = members(store, number)
    finally:
        store.close()
    first = rows[0]
    lines = [
        f"batch {number}{' *' if first.marked else ''}: {len(rows)} run{'s' if len(rows) > 1 else ''} of {first.task} by {first.recipe}"
        + (", put away" if first.away else "")
    ]
    lines += [f"note: {first.note}"] if first.note else []
    lines += [f"keywords: {first.keywords}"] if first.keywords else []
    report({"batch": number, "runs": [run_answer(row) for row in rows]}, json_, lines)
