"""Faults of the program's own: a line for whoever met one, the whole of it in a file for whoever mends it."""

from __future__ import annotations

import sys
import time
import traceback

from plucky_heron.errors import one_line, printable
from plucky_heron.files import data_folder


def fault_text(error: BaseException) -> str:
    """A fault of the program's in a line, the whole of it in a log file."""
    text = one_line(f"{type(error).__name__}: {error}", 160)
    log = data_folder() / "faults.log"
    command = printable(" ".join(sys.argv))
    try:
        log.parent.mkdir(parents=True, exist_ok=True)
        with log.open("a") as file:
            file.write(
                f"{time.strftime('%Y-%m-%d %H:%M:%S')} {command}\n{''.join(traceback.format_exception(error))}\n"
            )
    except OSError:
        return f"a fault of the program: {text}"
    return f"a fault of the program: {text}; the whole of it is in {log}"
