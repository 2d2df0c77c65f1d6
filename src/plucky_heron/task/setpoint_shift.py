"""The same moment with other set-points: how observations follow set-points, where they follow them in a straight line.

A machine does not know where it is asked to go. What it met on the way to one set-point it could have met on the way to another; the
observations of that are known without going there, where each differs by a number times the change of the set-points (goals put in
afterwards: Andrychowicz et al. 2017, "Hindsight experience replay"; here for single moments only, so that no reward has to be known).
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import accumulate

import numpy as np

from plucky_heron.formula.parsing import Node
from plucky_heron.task.problem import Problem

Array = np.ndarray


@dataclass(frozen=True)
class SetpointShift:
    """How observations move with set-points.

    Attributes
    ----------
    names
        The set-points that observations tell of, S of them.
    slope : (S, observations)
        Change of each observation for each unit of change of a set-point, SI.
    """

    names: tuple[str, ...]
    slope: Array

    def observations(self, rows: Array, change: Array) -> Array:
        """Observations (N, observations) as they would have been with set-points changed by `change` (N, S)."""
        return np.asarray(rows + change @ self.slope)


def setpoint_shift(problem: Problem) -> SetpointShift | None:
    """The shift of a problem; None where no observation tells of a drawn set-point, or one does so in another way than a straight line."""
    drawn = {d.target: d.every for d in problem.draws if d.kind == "setpoint"}
    slopes = np.zeros((len(drawn), len(problem.entries)))
    firsts = list(accumulate((f.width for f in problem.observations), initial=0))
    for number, entry in enumerate(problem.entries):
        formula = problem.observations[entry.source]
        found = _slopes(formula.part(entry.column - firsts[entry.source]).root, problem, drawn)
        if found is None:
            return None
        # an angle's sine is no straight line, a clipped number stands still, a late one tells of the set-point before
        late = entry.samples_ago > 0 and any(drawn[name] > 0.0 for name in found)
        if found and (entry.shape != "value" or entry.clip or late):
            return None
        for name, slope in found.items():
            slopes[list(drawn).index(name), number] = slope
    told = [k for k in range(len(drawn)) if slopes[k].any()]
    return SetpointShift(tuple(list(drawn)[k] for k in told), slopes[told]) if told else None


def _slopes(node: Node, problem: Problem, drawn: dict[str, float]) -> dict[str, float] | None:
    """Set-points that a formula follows, with the number that each counts; None if it is no straight line in them."""
    if node.op == "signal":
        if node.name in problem.definitions:
            return _slopes(problem.definitions[node.name].root, problem, drawn)
        if node.name.startswith("own."):
            return None  # code may read anything
        return {node.name: 1.0} if node.name in drawn else {}
    parts = [_slopes(arg, problem, drawn) for arg in node.args]
    known = [p for p in parts if p is not None]
    if len(known) < len(parts):
        return None
    if not any(known):
        return {}
    factors = [arg.value if arg.op == "number" else None for arg in node.args]
    match node.op:
        case "negative":
            return _sum([(-1.0, known[0])])
        case "+":
            return _sum([(1.0, known[0]), (1.0, known[1])])
        case "-":
            return _sum([(1.0, known[0]), (-1.0, known[1])])
        case "*" if factors[0] is not None:
            return _sum([(factors[0], known[1])])
        case "*" if factors[1] is not None:
            return _sum([(factors[1], known[0])])
        case "/" if factors[1]:
            return _sum([(1.0 / factors[1], known[0])])
    return None


def _sum(parts: list[tuple[float, dict[str, float]]]) -> dict[str, float]:
    total: dict[str, float] = {}
    for factor, slopes in parts:
        for name, slope in slopes.items():
            total[name] = total.get(name, 0.0) + factor * slope
    return {name: slope for name, slope in total.items() if slope != 0.0}
