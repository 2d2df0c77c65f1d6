"""Many formulas as one straight list of array operations, with everything common computed once.

The list is made once for a batch size; running it allocates nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from plucky_heron.formula.parsing import Expression, Node

Array = np.ndarray

_UFUNCS: dict[str, Any] = {
    "+": np.add, "-": np.subtract, "*": np.multiply, "/": np.divide, "%": np.mod,
    "<": np.less, "<=": np.less_equal, ">": np.greater, ">=": np.greater_equal, "==": np.equal, "!=": np.not_equal,
    "and": np.logical_and, "or": np.logical_or, "not": np.logical_not, "negative": np.negative,
    "abs": np.abs, "sqrt": np.sqrt, "exp": np.exp, "log": np.log, "sin": np.sin, "cos": np.cos, "tan": np.tan,
    "atan2": np.arctan2, "tanh": np.tanh, "sign": np.sign, "**": np.float_power,
}  # fmt: skip


class Program:
    """Formulas bound to signal arrays.

    Parameters
    ----------
    expressions
        The formulas, in the order of the rows of `results`.
    signals
        Name to array of shape (copies,). The arrays are read in place at every `run`, so they must stay the same
        objects; strided views are fine.
    copies
        Size of the batch.
    definitions
        Signals that are themselves formulas; they are computed in place where they are used.

    Attributes
    ----------
    results : array (formulas, copies)
    """

    def __init__(
        self,
        expressions: Sequence[Expression],
        signals: Mapping[str, Array],
        copies: int,
        definitions: Mapping[str, Expression] | None = None,
    ) -> None:
        self.copies = copies
        self._definitions = definitions or {}
        self.results: Array = np.zeros((len(expressions), copies))
        self._signals = signals
        self._known: dict[Node, Array | float] = {}
        self._steps: list[tuple[Callable[..., Any], tuple[Array | float, ...], Array]] = []
        for row, expression in enumerate(expressions):
            self._steps.append((np.positive, (self._compile(expression.root),), self.results[row]))

    def run(self) -> Array:
        """Evaluate all formulas; returns `results`."""
        with np.errstate(all="ignore"):
            for operation, arguments, out in self._steps:
                operation(*arguments, out=out)
        return self.results

    def _compile(self, node: Node) -> Array | float:
        if node not in self._known:
            self._known[node] = self._make(node)
        return self._known[node]

    def _emit(self, operation: Callable[..., Any], *arguments: Array | float) -> Array:
        out: Array = np.zeros(self.copies)
        self._steps.append((operation, arguments, out))
        return out

    def _make(self, node: Node) -> Array | float:
        if node.op == "number":
            return node.value
        if node.op == "signal":
            if node.name in self._definitions:
                return self._compile(self._definitions[node.name].root)
            return self._signals[node.name]
        args = [self._compile(arg) for arg in node.args]
        if node.op in ("min", "max"):
            ufunc = np.minimum if node.op == "min" else np.maximum
            result = args[0]
            for arg in args[1:]:
                result = self._emit(ufunc, result, arg)
            return result
        if node.op == "**" and args[1] == 2.0:
            return self._emit(np.square, args[0])
        if node.op == "clip":
            return self._emit(np.minimum, self._emit(np.maximum, args[0], args[1]), args[2])
        if node.op == "near":
            scaled = self._emit(np.divide, args[0], args[1])
            return self._emit(np.exp, self._emit(np.negative, self._emit(np.square, scaled)))
        if node.op == "inside":
            above = self._emit(np.greater_equal, args[0], args[1])
            return self._emit(np.logical_and, above, self._emit(np.less_equal, args[0], args[2]))
        if node.op == "wrap":
            turned = self._emit(np.mod, self._emit(np.add, args[0], np.pi), 2 * np.pi)
            return self._emit(np.subtract, turned, np.pi)
        if node.op == "norm":
            total = self._emit(np.square, args[0])
            for arg in args[1:]:
                total = self._emit(np.add, total, self._emit(np.square, arg))
            return self._emit(np.sqrt, total)
        if node.op == "where":
            return self._emit(_where, *args)
        return self._emit(_UFUNCS[node.op], *args)


def _where(condition: Array, yes: Array, no: Array, out: Array) -> None:
    np.copyto(out, no)
    np.copyto(out, yes, where=np.not_equal(condition, 0.0))


def evaluate_once(expression: Expression, values: Mapping[str, float]) -> float:
    """The value of one formula for one set of signal values; for displays and tests."""
    arrays = {name: np.array([values[name]], dtype=float) for name in expression.signals}
    return float(Program([expression], arrays, 1).run()[0, 0])
