"""The contract of a controller: signals in order, with unit, range and sign."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from plucky_heron.handover.forms.direction import direction_of_command, direction_of_entry
from plucky_heron.handover.forms.line import Line
from plucky_heron.task.problem import Problem


def contract(problem: Problem) -> tuple[list[Line], list[Line]]:
    """Inputs and outputs in order, with unit, range and sign."""
    inputs = [Line(e.name, e.si, e.low, e.high, direction_of_entry(problem.machine, e)) for e in problem.sensed]
    outputs = [Line(c.name, c.unit, c.low, c.high, direction_of_command(problem, c)) for c in problem.commands]
    return inputs, outputs


def definitions(pack: Mapping[str, Any]) -> dict[str, str]:
    """The named quantities that formulas of a pack's inputs and of its mixing use, themselves or through others, each with its formula."""
    known: dict[str, str] = pack["signals"]
    used: set[str] = set()
    unread = [s["formula"] for s in (*pack["inputs"], *pack["controller"]["sensors"])] + list(pack["mixing"].values())
    while unread:
        found = {name for name in re.findall(r"[\w.]+", unread.pop()) if name in known} - used
        used |= found
        unread += [known[name] for name in found]
    return {name: formula for name, formula in known.items() if name in used}
