"""Many formulas as one straight list of array operations, with everything common computed once.

The list is made once for a batch size; running it allocates nothing. What formulas remember (`previous`, `highest`,
`since`, ...) stands in the program: it runs once a sample.
"""

from __future__ import annotations

import itertools
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
_TRUTHS = {"<", "<=", ">", ">=", "==", "!=", "and", "or", "not"}
"""Operations that give yes or no: kept as such, since NumPy is slow in writing them as numbers."""
_REDUCTIONS: dict[str, Any] = {"min of": np.minimum, "max of": np.maximum, "sum of": np.add, "mean of": np.add}
_RATE_OF_ANGLE = (0, 0, -1, 1)
_ANGLE = (0, 0, 0, 1)


class Program:
    """Formulas bound to signal arrays.

    Parameters
    ----------
    expressions
        The formulas, in the order of the rows of `results`.
    signals
        Name to array of shape (copies,), and, where they are at hand, names of lists to (length, copies). The arrays are
        read in place at every `run`, so they must stay the same objects; strided views are fine.
    copies
        Size of the batch.
    definitions
        Signals that are themselves formulas; they are computed in place where they are used.
    sample_time
        Seconds between two runs, for what formulas say about time.

    Attributes
    ----------
    results : array (numbers, copies)
        A row for each number: a formula that gives a list has as many.
    rows : list of slice
        Where each formula's numbers stand.
    """

    def __init__(
        self,
        expressions: Sequence[Expression],
        signals: Mapping[str, Array],
        copies: int,
        definitions: Mapping[str, Expression] | None = None,
        sample_time: float = 1.0,
    ) -> None:
        self.copies, self.sample_time = copies, sample_time
        self._definitions = definitions or {}
        edges = list(itertools.accumulate((e.width for e in expressions), initial=0))
        self.rows = [slice(a, b) for a, b in itertools.pairwise(edges)]
        self.results: Array = np.zeros((edges[-1], copies))
        self._signals = signals
        self._known: dict[Node, Array | float] = {}
        self._steps: list[tuple[Callable[..., Any], tuple[Array | float, ...], Array]] = []
        self._memory: list[Array] = []
        self._fresh: Array | slice | None = slice(None)
        self._advances = False
        for rows, expression in zip(self.rows, expressions, strict=True):
            out = self.results[rows] if expression.size else self.results[rows.start]
            self._steps.append((_copy, (self._compile(expression.root),), out))

    def run(self, fresh: Array | None = None, again: bool = False) -> Array:
        """Evaluate all formulas; returns `results`.

        Parameters
        ----------
        fresh
            Copies (indices) that have just begun an episode; the others stand where they stood. Without it, a sample
            has gone by for all copies; in the first run all begin.
        again
            Nothing has begun and no sample has gone by.
        """
        if self._fresh is None or fresh is not None:
            self._fresh = fresh
        self._advances = self._fresh is None and not again
        with np.errstate(all="ignore"):
            for operation, arguments, out in self._steps:
                operation(*arguments, out=out)
        self._fresh = None
        return self.results

    def keep(self) -> Array:
        """What the formulas remember, (numbers, copies)."""
        rows = [held.reshape(-1, self.copies) for held in self._memory]
        return np.concatenate(rows) if rows else np.zeros((0, self.copies))

    def restore(self, kept: Array) -> None:
        """Set what `keep` gave."""
        at = 0
        for held in self._memory:
            count = held.size // self.copies
            held[...] = kept[at : at + count].reshape(held.shape)
            at += count
        self._fresh = None

    def _compile(self, node: Node) -> Array | float:
        if node not in self._known:
            self._known[node] = self._make(node)
        return self._known[node]

    def _emit(
        self, operation: Callable[..., Any], *arguments: Array | float, size: int | None = None, truth: bool = False
    ) -> Array:
        if size is None:
            size = max((len(a) for a in arguments if isinstance(a, np.ndarray) and a.ndim == 2), default=0)
        out: Array = np.zeros((size, self.copies) if size else self.copies, dtype=np.bool_ if truth else float)
        self._steps.append((operation, arguments, out))
        return out

    def _make(self, node: Node) -> Array | float:
        op = node.op
        if op == "number":
            return node.value
        if op == "signal":
            if node.name in self._definitions:
                return self._compile(self._definitions[node.name].root)
            return self._signals[node.name]
        if op == "list":
            return self._list(node)
        args = [self._compile(arg) for arg in node.args]
        if op in ("and", "or", "not"):
            return self._emit(_UFUNCS[op], *args, truth=True)
        if op in ("becomes", "since"):
            return self._remember(_becomes if op == "becomes" else _since, args[0])
        if op == "where":
            return self._emit(_where, self._truth(args[0]), *map(self._number, args[1:]))
        args = [self._number(arg) for arg in args]
        if op == "item":
            whole = args[0]
            return whole[int(node.value)] if isinstance(whole, np.ndarray) else whole
        if op in ("min", "max"):
            ufunc = np.minimum if op == "min" else np.maximum
            result = args[0]
            for arg in args[1:]:
                result = self._emit(ufunc, result, arg)
            return result
        if op == "**" and isinstance(args[1], float) and args[1] == 2.0:
            return self._emit(np.square, args[0])
        if op == "clip":
            return self._emit(np.minimum, self._emit(np.maximum, args[0], args[1]), args[2])
        if op == "near":
            scaled = self._emit(np.divide, args[0], args[1])
            return self._emit(np.exp, self._emit(np.negative, self._emit(np.square, scaled)))
        if op == "inside":
            above = self._emit(np.greater_equal, args[0], args[1], truth=True)
            below = self._emit(np.less_equal, args[0], args[2], truth=True)
            return self._emit(np.logical_and, above, below, truth=True)
        if op == "wrap":
            return self._wrap(args[0])
        if op == "norm":
            total = self._emit(np.square, args[0])
            for arg in args[1:]:
                total = self._emit(np.add, total, self._emit(np.square, arg))
            return self._emit(np.sqrt, total)
        if op.endswith(" of"):
            return self._reduced(op, args[0])
        if op in _UFUNCS:
            return self._emit(_UFUNCS[op], *args, truth=op in _TRUTHS)
        if op in ("low_pass", "median", "complementary"):
            return self._estimated(node, args)
        return self._remembering(node, args[0])

    def _estimated(self, node: Node, args: list[Array | float]) -> Array:
        """Estimators: what they hold is brought to this sample by the value and, for two of them, a time."""
        if node.op == "median":
            return self._remember(_median, args[0], 3)
        share = 1.0 - float(np.exp(-self.sample_time / float(args[-1])))
        turns = node.dimension == _ANGLE
        if node.op == "low_pass":
            return self._remember(_low_pass(share, turns), args[0])
        return self._remember(_complementary(share, self.sample_time, turns), args[0], 2, args[1])

    def _number(self, value: Array | float) -> Array | float:
        """Yes and no as 1 and 0."""
        return self._emit(_copy, value) if isinstance(value, np.ndarray) and value.dtype == np.bool_ else value

    def _truth(self, value: Array | float) -> Array | float:
        known = isinstance(value, np.ndarray) and value.dtype == np.bool_
        return value if known else self._emit(np.not_equal, value, 0.0, truth=True)

    def _list(self, node: Node) -> Array:
        whole = self._signals.get(node.name) if node.name else None
        if whole is not None and whole.ndim == 2:
            return whole
        return self._emit(_stack, *[self._compile(arg) for arg in node.args], size=node.size)

    def _wrap(self, angle: Array | float) -> Array:
        turned = self._emit(np.mod, self._emit(np.add, angle, np.pi), 2 * np.pi)
        return self._emit(np.subtract, turned, np.pi)

    def _reduced(self, op: str, whole: Array | float) -> Array | float:
        """A list brought to one number, item after item: the order does not depend on the batch."""
        assert isinstance(whole, np.ndarray)
        if op == "norm of":
            return self._emit(np.sqrt, self._reduced("sum of", self._emit(np.square, whole)))
        out = self._emit(_reduce(_REDUCTIONS[op]), whole, size=0)
        return self._emit(np.divide, out, float(len(whole))) if op == "mean of" else out

    def _remembering(self, node: Node, value: Array | float) -> Array:
        if node.op == "rate":
            if node.dimension == _RATE_OF_ANGLE:
                change = self._wrap(self._remember(_change, value))
            else:
                change = self._remember(_change, value)
            return self._emit(np.multiply, change, 1.0 / self.sample_time)
        if node.op == "integral":
            return self._emit(np.multiply, self._remember(_total, value), self.sample_time)
        rules = {"previous": _previous, "highest": _highest, "lowest": _lowest, "total": _total}
        return self._remember(rules[node.op], value)

    def _remember(
        self, rule: Callable[..., None], value: Array | float, rooms: int = 2, *others: Array | float
    ) -> Array:
        size = max((len(v) for v in (value, *others) if isinstance(v, np.ndarray) and v.ndim == 2), default=0)
        held: Array = np.zeros((rooms, size, self.copies) if size else (rooms, self.copies))
        self._memory.append(held)

        def step(now: Array | float, *beside: Array | float, out: Array) -> None:
            rule(self, *held, np.broadcast_to(now, out.shape), *beside, out)

        return self._emit(step, value, *others)


def _reduce(ufunc: Any) -> Callable[..., None]:
    def reduce(whole: Array, out: Array) -> None:
        np.copyto(out, whole[0])
        for row in whole[1:]:
            ufunc(out, row, out=out)

    return reduce


def _stack(*items: Array | float, out: Array) -> None:
    for row, item in zip(out, items, strict=True):
        np.copyto(row, item)


def _copy(value: Array | float, out: Array) -> None:
    np.copyto(out, value)


def _where(condition: Array, yes: Array, no: Array, out: Array) -> None:
    np.copyto(out, no)
    np.copyto(out, yes, where=condition)


# What is remembered: `before` and `held` are arrays as large as the value; each rule brings them to this sample.


def _shift(program: Program, before: Array, held: Array, now: Array) -> None:
    """`held` becomes the value of this sample, `before` that of the one before it."""
    if program._advances:
        before[:] = held
    elif program._fresh is not None:
        before[..., program._fresh] = now[..., program._fresh]
    held[:] = now


def _previous(program: Program, before: Array, held: Array, now: Array, out: Array) -> None:
    _shift(program, before, held, now)
    out[:] = before


def _change(program: Program, before: Array, held: Array, now: Array, out: Array) -> None:
    _shift(program, before, held, now)
    np.subtract(held, before, out=out)


def _becomes(program: Program, before: Array, held: Array, now: Array, out: Array) -> None:
    _shift(program, before, held, now != 0.0)
    np.subtract(held, before, out=out)
    np.maximum(out, 0.0, out=out)


def _begin(program: Program, held: Array, first: Array | float) -> bool:
    """Whether a sample has gone by; copies that have just begun hold `first`."""
    if program._fresh is None:
        return program._advances
    held[..., program._fresh] = first if isinstance(first, float) else first[..., program._fresh]
    return False


def _highest(program: Program, before: Array, held: Array, now: Array, out: Array) -> None:
    if _begin(program, held, now):
        np.maximum(held, now, out=held)
    out[:] = held


def _lowest(program: Program, before: Array, held: Array, now: Array, out: Array) -> None:
    if _begin(program, held, now):
        np.minimum(held, now, out=held)
    out[:] = held


def _total(program: Program, before: Array, held: Array, now: Array, out: Array) -> None:
    if _begin(program, held, 0.0):
        np.add(held, now, out=held)
    out[:] = held


def _since(program: Program, before: Array, held: Array, now: Array, out: Array) -> None:
    if _begin(program, held, 0.0):
        np.add(held, program.sample_time, out=held)
        np.copyto(held, 0.0, where=now != 0.0)
    out[:] = held


def _turned(difference: Array, turns: bool) -> Array:
    """A difference; of angles, the short way round."""
    return (difference + np.pi) % (2.0 * np.pi) - np.pi if turns else difference


def _low_pass(share: float, turns: bool) -> Callable[..., None]:
    def rule(program: Program, _: Array, held: Array, now: Array, out: Array) -> None:
        if _begin(program, held, now):
            held += share * _turned(now - held, turns)
        out[:] = held

    return rule


def _median(program: Program, first: Array, second: Array, held: Array, now: Array, out: Array) -> None:
    """The middle one of three: the sum without the largest and the smallest would lose digits."""
    if program._advances:
        first[:], second[:] = second, held
    elif program._fresh is not None:
        first[..., program._fresh] = second[..., program._fresh] = now[..., program._fresh]
    held[:] = now
    np.maximum(np.minimum(first, second), np.minimum(np.maximum(first, second), held), out=out)


def _complementary(share: float, time: float, turns: bool) -> Callable[..., None]:
    """``estimate = (estimate + rate * time)`` drawn to the angle by `share` (R. Mahony et al., IEEE Trans. AC 53, 2008, for one axis)."""

    def rule(program: Program, _: Array, held: Array, now: Array, rate: Array | float, out: Array) -> None:
        if _begin(program, held, now):
            held += time * rate
            held += share * _turned(now - held, turns)
        out[:] = held

    return rule


def evaluate_once(expression: Expression, values: Mapping[str, float]) -> float:
    """The value of one formula for one set of signal values, as at the start of an episode; a list's first number."""
    arrays = {name: np.array([values[name]], dtype=float) for name in expression.signals}
    return float(Program([expression], arrays, 1).run()[0, 0])
