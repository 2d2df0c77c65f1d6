"""The command line: short readable reports, or exactly one JSON object with --json.

Heavy imports wait inside the commands, so that --help answers at once. Exit status: 0 done, 1 the answer is no,
2 wrong use or bad input. The commands stand in modules by station, in the order of the work; importing one registers them.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from typing import Any

import typer

from plucky_heron.cli import (  # noqa: F401
    batches,
    compare,
    diagnosis,
    film,
    handover,
    identification,
    machine,
    projects,
    proving,
    shakedown,
    stops,
    training,
)
from plucky_heron.cli.common import app, complain
from plucky_heron.errors import HeronError, StateError


def main(arguments: list[str] | None = None) -> int:
    """Run a command line; every error becomes one line: with status 2, and a fault of the program a log file."""
    given = behind_the_command(sys.argv[1:] if arguments is None else arguments)
    as_json = "--json" in given
    run: Callable[..., Any] = typer.main.get_command(app).main
    try:
        status = run(given, prog_name="heron", standalone_mode=False)
        sys.stdout.flush()
    except HeronError as error:
        complain(error, as_json)
        return 2
    except (KeyboardInterrupt, typer.Abort):
        return 130
    except typer.Exit as stop:
        return int(stop.exit_code)
    except BrokenPipeError:  # whoever read the report has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except Exception as error:
        from plucky_heron.fault_log import fault_text

        explain = getattr(error, "format_message", None)  # wrong use, found by the argument parser
        if callable(explain):
            if said := str(explain()):  # nothing, where the help was shown instead
                complain(StateError(said), as_json)
            return 2
        complain(StateError(fault_text(error)), as_json)
        return 2
    return int(status or 0)


def behind_the_command(given: list[str]) -> list[str]:
    """Arguments with --project and --json behind the command where they stand before it: both orders are usual."""
    first, k = [], 0
    while k < len(given) and (given[k] in ("--json", "--project") or given[k].startswith("--project=")):
        count = 2 if given[k] == "--project" else 1
        first += given[k : k + count]
        k += count
    return [*given[k : k + 1], *first, *given[k + 1 :]] if first and k < len(given) else given


if __name__ == "__main__":
    sys.exit(main())
