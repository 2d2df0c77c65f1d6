"""A formula over the figures of evaluations: "solved" is often two conditions at once."""

from __future__ import annotations

import functools
import re
from dataclasses import dataclass, replace
from typing import ClassVar, Literal

import numpy as np
from pydantic import field_validator

from plucky_heron.errors import FormulaError
from plucky_heron.formula.functions import FUNCTIONS, MEMORY
from plucky_heron.formula.parsing import Expression, Node, constant_of, parse_formula
from plucky_heron.formula.program import Program
from plucky_heron.training.stopping.evaluation import (
    HEALTH_FIGURES,
    OWN_FIGURES,
    SUCCESS,
    Course,
    best_so_far,
    gain,
    running,
    show_value,
)
from plucky_heron.training.stopping.rule import MOST_STEPS, StopRule

Array = np.ndarray
OVER_EVALUATIONS = {
    "best": (1, 1, "best(x): the highest value so far"),
    "gain": (2, 2, "gain(x, evaluations): the best of the last evaluations less the best before them"),
    "running": (2, 2, "running(condition, evaluations): 1 while it has held in so many evaluations running"),
}
_ALLOWED = {k: v for k, v in FUNCTIONS.items() if k not in (*MEMORY, "clearance", "overlap")} | OVER_EVALUATIONS
_UNITS = OWN_FIGURES | dict.fromkeys(HEALTH_FIGURES, "")
_SHARE = re.compile(r"(?<![\w.])(\d+(?:\.\d*)?|\.\d+)\s*%(?=\s*(?:$|[),<>=!+*/-]|(?:and|or)\b))")
_SECONDS = re.compile(r"(?<![\w.])(\d+(?:\.\d*)?|\.\d+)\s*s\b")


class Formula(StopRule):
    """Ends a run in whose last evaluation the formula `when` holds.

    It reads success, score, length (s), worst (the lowest score) and the method's health figures by their keys, and knows
    `best(x)`, `gain(x, evaluations)` and `running(condition, evaluations)`. Shares may be written as per cent, lengths in s.
    Where a figure is missing, or there are too few evaluations to tell, it does not hold.
    """

    kind: Literal["formula"] = "formula"
    when: str

    role: ClassVar[str] = "heron"

    @field_validator("when")
    @classmethod
    def _can_be_read(cls, text: str) -> str:
        try:
            compiled(text)
        except FormulaError as error:
            raise ValueError(f"column {error.column}: {error.message}") from error
        return text

    def met(self, course: Course) -> Array:
        """See `StopRule.met`."""
        return compiled(self.when).holds(course)

    def reason(self, course: Course) -> str:
        """See `StopRule.reason`."""
        seen = [
            f"{name} {show_value(name, float(course.of(name)[-1]))}" for name in compiled(self.when).expression.signals
        ]
        return f"{self.when} holds" + (f" ({', '.join(seen)})" if seen else "")

    def words(self) -> str:
        """See `StopRule.words`."""
        return self.when if len(self.when) < 76 else f"{self.when[:72]} …"

    def earliest(self, every: int) -> int:
        """See `StopRule.earliest`."""
        return compiled(self.when).waits * every

    def beyond_shares(self) -> list[float]:
        """Numbers above one that success is compared with: 95 is 9500 %."""
        found = []
        for node in _walk(compiled(self.when).expression.root):
            if node.op not in ("<", "<=", ">", ">=", "==", "!="):
                continue
            sides = [arg.args[0] if arg.op == "best" else arg for arg in node.args]
            numbers = [constant_of(side) for side in sides]
            if any(side.op == "signal" and side.name == SUCCESS for side in sides):
                found += [number for number in numbers if number is not None and number > 1.0]
        return found

    def state(self, course: Course) -> str:
        """See `StopRule.state`."""
        made = compiled(self.when)
        if bool(made.holds(course)[-1]):
            return "holds"
        streaks = [f"{held} of {count}" for held, count in made.streaks(course)]
        return ", ".join(streaks) if streaks else "does not hold"


@dataclass(frozen=True)
class _Compiled:
    """A formula that was read."""

    expression: Expression
    waits: int
    """Evaluations after the first before it can hold."""

    def holds(self, course: Course) -> Array:
        """Where it holds, (n,)."""
        used: list[Array] = []
        value = _values(self.expression.root, course, used)
        known = np.ones(len(course), dtype=bool)
        for array in used:
            known &= np.isfinite(array)
        return np.array((value != 0.0) & known, dtype=bool)

    def streaks(self, course: Course) -> list[tuple[int, int]]:
        """For each `running`: evaluations in which it has held now, and how many it wants."""
        found = []
        for node in _walk(self.expression.root):
            if node.op == "running":
                count = _count(node)
                held = int(running(_values(node.args[0], course, []) != 0.0)[-1])
                found.append((min(held, count), count))
        return found


@functools.lru_cache(maxsize=256)
def compiled(text: str) -> _Compiled:
    """Read a formula.

    Raises
    ------
    FormulaError
        It is none over the figures of evaluations.
    """
    plain = _SECONDS.sub(r"\1", _SHARE.sub(lambda m: f"({m.group(1)}/100)", text))
    try:
        expression = parse_formula(plain, _UNITS, functions=_ALLOWED)
    except FormulaError as error:
        raise FormulaError(text, min(error.column, len(text) + 1), error.message) from error
    for node in _walk(expression.root):
        if node.op in ("gain", "running"):
            count = constant_of(node.args[1])
            if count is None or not 1 <= count <= MOST_STEPS or count != int(count):
                raise FormulaError(text, 1, f"{node.op} takes a whole number of evaluations, such as {node.op}(…, 4)")
    return _Compiled(expression, _waits(expression.root))


def _walk(node: Node) -> list[Node]:
    return [node, *(inner for arg in node.args for inner in _walk(arg))]


def _count(node: Node) -> int:
    return int(constant_of(node.args[1]) or 1)


def _waits(node: Node) -> int:
    inner = max((_waits(arg) for arg in node.args), default=0)
    if node.op == "running":
        return inner + _count(node) - 1
    return inner + _count(node) if node.op == "gain" else inner


def _values(root: Node, course: Course, used: list[Array]) -> Array:
    """The value of a tree in every evaluation, (n,); `used` takes every figure that it is made of."""
    arrays: dict[str, Array] = {}

    def plain(node: Node) -> Node:
        """The tree with what looks over evaluations put in as figures."""
        if node.op == "signal":
            arrays[node.name] = course.of(node.name)
            used.append(arrays[node.name])
            return node
        if node.op not in OVER_EVALUATIONS:
            return replace(node, args=tuple(plain(arg) for arg in node.args))
        inside = _values(node.args[0], course, used if node.op == "running" else [])
        if node.op == "best":
            found = best_so_far(inside)
        elif node.op == "gain":
            found = gain(inside, _count(node))
        else:
            found = (running(inside != 0.0) >= _count(node)).astype(float)
        name = f"#{len(arrays)}"
        arrays[name] = found
        used.append(found)
        return Node("signal", name=name, dimension=node.dimension)

    tree = plain(root)
    expression = Expression("", tree, tuple(arrays))
    return np.array(Program([expression], arrays, len(course)).run()[0])
