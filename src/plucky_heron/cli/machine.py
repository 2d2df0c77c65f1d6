"""Machines: open-loop simulation."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from plucky_heron.cli.common import Json, app, pairs, report


@app.command()
def simulate(
    file: Annotated[Path, typer.Argument(help="A machine file (.toml) or a URDF.")],
    seconds: Annotated[float, typer.Option("--seconds", help="Duration.")],
    out: Annotated[Path, typer.Option("--out", help="CSV file to write.")],
    start: Annotated[list[str], typer.Option("--start", help="joint=value, such as cable='10 deg'.")] = [],  # noqa: B006
    rate: Annotated[float, typer.Option("--rate", help="Physics steps a second.")] = 1000.0,
    integrator: Annotated[str, typer.Option("--integrator", help="semi-implicit or rk4.")] = "semi-implicit",
    every: Annotated[int, typer.Option("--every", help="One row every so many steps.")] = 1,
    free: Annotated[bool, typer.Option("--free", help="The root link of a URDF moves freely.")] = False,
    json_: Json = False,
) -> None:
    """Let a machine go and write its motion as a table."""
    from plucky_heron.dynamics.open_loop import simulate as run
    from plucky_heron.files import check_output, write_whole
    from plucky_heron.machine.reading import read_machine
    from plucky_heron.units import parse

    check_output(out, "--out")
    notes: list[str] = []
    if file.suffix.lower() in (".urdf", ".xml"):
        from plucky_heron.machine.urdf import read_urdf

        described = read_urdf(file, free=free)
        machine, notes = described.machine, described.notes
        if free:
            notes = [*notes, "it moves freely and there is no ground here, so it falls; heron import puts it on one"]
    else:
        machine = read_machine(file)
    given = pairs(start, "--start")
    begin = {
        joint: parse(text, machine.coordinate_unit(joint) if joint in machine.coordinates() else "")
        for joint, text in given.items()
    }
    track = run(machine, seconds, start=begin, rate=rate, integrator=integrator, every=every)
    write_whole(out, track.to_csv())
    notes += track.notes
    for note in notes:
        print(f"heron: {file}: {note}", file=sys.stderr)
    total = track.column("energy.kinetic") + track.column("energy.potential")
    answer = {"out": str(out), "rows": len(track.rows), "columns": list(track.columns), "notes": notes}
    lines = [
        f"{len(track.rows)} rows to {out}",
        f"total energy {total[0]:.6g} J at the start, {total[-1]:.6g} J at the end",
    ]
    report(answer, json_, lines)
