"""The contract of a controller: signals in order, with unit, range and sign."""

from __future__ import annotations

from plucky_heron.handover.forms.line import Line
from plucky_heron.task.problem import Problem


def contract(problem: Problem) -> tuple[list[Line], list[Line]]:
    """Inputs and outputs in order, with unit, range and sign."""
    inputs = [Line(e.name, e.si, e.low, e.high, e.positive) for e in problem.sensed]
    outputs = [Line(c.name, c.unit, c.low, c.high, c.positive) for c in problem.commands]
    return inputs, outputs
