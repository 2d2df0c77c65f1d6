"""Films of kept policies."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from plucky_heron.cli.common import Json, ProjectOption, app, find_run, report


@app.command()
def film(
    run: Annotated[str, typer.Argument(help="RUN, or RUN@WHICH with best, last or the step of a milestone.")],
    out: Annotated[Path, typer.Option("--out", help="The video: a name that ends with .webm or .mp4.")],
    starts: Annotated[
        int, typer.Option("--starts", min=1, max=16, help="Starts shown together, others as ghosts.")
    ] = 1,
    speed: Annotated[float, typer.Option("--speed", min=0.05, max=50.0, help="Times real time.")] = 1.0,
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Write an episode of a kept policy as a short video."""
    from plucky_heron.runs.filming import film_apart

    number, at, which = run.rpartition("@")
    if not at:
        number, which = run, "best"
    found, row = find_run(number, project)
    pictures = film_apart(found.folder, row.id, which, out, lambda _: True, starts, speed)
    report(
        {"run": row.id, "policy": which, "file": str(out), "pictures": pictures},
        json_,
        [f"written: {out}, {pictures} pictures"],
    )
