"""The command line: short readable reports, or exactly one JSON object with --json.

Heavy imports wait inside the commands, so that --help answers at once. Exit status: 0 done, 1 the answer is no,
2 wrong use or bad input. The commands stand in modules by station, in the order of the work; importing one registers them.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

import typer

from plucky_heron.cli import compare, handover, machine, projects, proving, shakedown, training  # noqa: F401
from plucky_heron.cli.common import app
from plucky_heron.errors import HeronError


def main(arguments: list[str] | None = None) -> int:
    """Run a command line; every expected error becomes one line and status 2."""
    run: Callable[..., Any] = typer.main.get_command(app).main
    try:
        status = run(arguments, prog_name="heron", standalone_mode=False)
    except HeronError as error:
        print(f"heron: {error}", file=sys.stderr)
        return 2
    except (KeyboardInterrupt, typer.Abort):
        return 130
    except typer.Exit as stop:
        return int(stop.exit_code)
    except Exception as error:
        explain = getattr(error, "format_message", None)  # wrong use, found by the argument parser
        if not callable(explain):
            raise
        print(f"heron: {explain()}", file=sys.stderr)
        return 2
    return int(status or 0)


if __name__ == "__main__":
    sys.exit(main())
