"""The firmware that goes into a pack: a project for a board without an operating system."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from plucky_heron.handover.forms.numbers import row
from plucky_heron.handover.forms.templates import templates

NAMES = ("Makefile", "link.ld", "main.c", "policy_by_fixed.c", "runtime.c", "runtime.h", "start.c")


def firmware_text(name: str) -> str:
    """One of the files that are the same in every pack."""
    return (Path(__file__).with_name("firmware") / name).read_text()


def firmware_files(sample_time: float, hold: float, safe: Sequence[float]) -> dict[str, bytes | str]:
    """All files of the project, under ``firmware/``."""
    board = templates().get_template("board.h.j2").render(
        sample=round(sample_time * 1e6), hold=round(hold * 1e6), safe=row(np.array(safe))
    )  # fmt: skip
    found: dict[str, bytes | str] = {f"firmware/{name}": firmware_text(name) for name in NAMES}
    return found | {"firmware/board.h": board}
