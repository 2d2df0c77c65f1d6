"""From text to a checked expression tree.

Python's parser gives the grammar; a fixed list of node kinds and functions is let through and nothing is ever
executed. Units are inferred where they are known: a bare number takes whatever unit its surroundings ask for. A value
is one number or a list of numbers; lists meet lists of the same length, or one number. `docs/formulas.md` has the
grammar.
"""

from __future__ import annotations

import ast
import keyword
import math
import operator
import re
import warnings
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from plucky_heron.errors import FormulaError, did_you_mean, shortened
from plucky_heron.formula.functions import FUNCTIONS, MEMORY
from plucky_heron.formula.hints import SIGNS, hint
from plucky_heron.units import DIMENSIONLESS, Dimension, pretty_unit, si_unit, unit_dimension

Functions = Mapping[str, tuple[int, int, str]]
"""Functions by name: fewest and most arguments, and what they give."""

LONGEST = 1000
DEEPEST = 40

_ANGLE: Dimension = (0, 0, 0, 1)
ANY = None
"""The dimension of a bare number: fits everywhere."""

LONGEST_LIST = 512

_BINARY = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.Mod: "%", ast.Pow: "**"}
_COMPARE = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!="}
_CONSTANTS = {"pi": 3.141592653589793, "True": 1.0, "False": 0.0}


@dataclass(frozen=True)
class Node:
    """One operation: `op` with its arguments, or a `signal` or `number` leaf. Equal nodes are computed once."""

    op: str
    args: tuple[Node, ...] = ()
    name: str = ""
    value: float = 0.0
    size: int = 0
    """Length of a list; 0 for one number."""
    dimension: Dimension | None = field(default=ANY, compare=False)
    column: int = field(default=1, compare=False)


@dataclass(frozen=True)
class Expression:
    """A checked formula: its text, its tree and the signals it reads."""

    text: str
    root: Node
    signals: tuple[str, ...]

    @property
    def dimension(self) -> Dimension | None:
        """The dimension of the result, or None where a bare number decides."""
        return self.root.dimension

    @property
    def size(self) -> int:
        """Length of the list that results; 0 for one number."""
        return self.root.size

    @property
    def width(self) -> int:
        """How many numbers result."""
        return max(self.root.size, 1)

    def on_event(self, event: Expression) -> Expression:
        """This value in the sample in which `event` begins to hold, 0 otherwise."""
        root = Node("where", (Node("becomes", (event.root,)), self.root, Node("number")), dimension=self.dimension)
        return replace(self, root=root, signals=tuple(sorted({*self.signals, *event.signals})))

    def part(self, index: int) -> Expression:
        """One number of a list."""
        return self if self.size == 0 else replace(self, root=_item(self.root, index))


def parse_formula(
    text: str,
    signals: Mapping[str, str],
    unit: str | None = None,
    *,
    lists: bool = False,
    places: Mapping[str, str] | None = None,
    functions: Functions = FUNCTIONS,
) -> Expression:
    """Check `text` against the known `signals` (name to unit) and, if given, the `unit` of the result.

    Parameters
    ----------
    lists
        Whether the result may be a list.
    places
        What `clearance` and `overlap` may name: name to "body", "solid" or "zone".
    functions
        Those that may be called; others than the language's own are given to whoever computes the tree.

    Raises
    ------
    FormulaError
        With the column and what would be right.
    """
    if not text.strip():
        raise FormulaError(text, 1, "is empty; write for example near(cable.angle, 0.1)")
    if len(text) > LONGEST:
        raise FormulaError(text[:40] + "...", LONGEST, f"is longer than {LONGEST} characters")
    lead = len(text) - len(text.lstrip())
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", SyntaxWarning)  # such as "1if": what is typed may be odd
            tree = ast.parse(_with_names(text.strip()), mode="eval")
    except SyntaxError as error:
        column = error.offset or len(text.strip()) + 1  # no offset: the text ends too early
        said = hint(text)
        raise FormulaError(text, column + lead, f"cannot be read here{f'; {said}' if said else ''}") from error
    except (ValueError, RecursionError, MemoryError) as error:
        raise FormulaError(text, 1, "cannot be read") from error
    reader = _Reader(text, lead, signals, places or {}, functions)
    try:
        root = reader.read(tree.body, 0)
    except RecursionError as error:
        raise FormulaError(text, 1, "is nested too deeply") from error
    if unit is not None and root.dimension is not ANY and root.dimension != unit_dimension(unit):
        raise FormulaError(
            text,
            root.column,
            f"is in {_dimension_text(root.dimension)}, wanted {pretty_unit(unit) or 'a plain number'}",
        )
    if root.size and not lists:
        raise FormulaError(text, root.column, f"is a list of {root.size} numbers, wanted one; take min, mean or norm")
    return Expression(text, root, tuple(sorted(reader.used)))


_OURS = ("and", "or", "not", "if", "else", "True", "False")
_OTHERS = "|".join(word for word in keyword.kwlist if word not in _OURS)
_RESERVED = re.compile(
    rf"(?<![\w.])(?:{_OTHERS})\b|(?<![\w.])(?:{'|'.join(_OURS)})(?=\.[A-Za-z_])|(?<=\.)(?:{'|'.join(keyword.kwlist)})\b"
)
_BOLD = {ord(c): 0x1D41A + k for k, c in enumerate("abcdefghijklmnopqrstuvwxyz")} | {
    ord(c): 0x1D400 + k for k, c in enumerate("ABCDEFGHIJKLMNOPQRSTUVWXYZ")
}


def _with_names(text: str) -> str:
    """The text with names that are words of Python's (a joint ``lambda``, a choice ``grip.in``) in letters that it takes for a name.

    It brings such letters back to plain ones itself (PEP 3131), so that columns stay and names come out as they were written.
    """
    return _RESERVED.sub(lambda found: found.group().translate(_BOLD), text)


_ARITHMETIC: dict[str, Callable[..., float]] = {
    "negative": operator.neg, "+": operator.add, "-": operator.sub, "*": operator.mul, "/": operator.truediv, "%": operator.mod,
    "**": math.pow,
}  # fmt: skip


def constant_of(node: Node) -> float | None:
    """The value of plain arithmetic of numbers, not a number where it has none; None where a signal or a function is in it."""
    if node.op == "number":
        return node.value
    values = [constant_of(arg) for arg in node.args]
    if node.size or node.op not in _ARITHMETIC or any(value is None for value in values):
        return None
    try:
        return float(_ARITHMETIC[node.op](*values))
    except (ZeroDivisionError, OverflowError, ValueError):
        return math.nan


class _Reader:
    def __init__(
        self, text: str, lead: int, signals: Mapping[str, str], places: Mapping[str, str], functions: Functions
    ) -> None:
        self.text, self.lead, self.signals, self.places, self.functions = text, lead, signals, places, functions
        self.stripped = _with_names(text.strip()).encode()
        self.used: set[str] = set()

    def fail(self, node: ast.AST, message: str) -> FormulaError:
        return FormulaError(self.text, self.column(node), message)

    def unknown(self, node: ast.AST, word: str) -> FormulaError:
        """What is not part of the language, and what to write instead where that is known."""
        said = hint(self.text)
        return self.fail(
            node, f"{SIGNS.get(word, word)} is not part of the formula language{f'; {said}' if said else ''}"
        )

    def column(self, node: ast.AST) -> int:
        offset = getattr(node, "col_offset", 0)
        return len(self.stripped[:offset].decode(errors="ignore")) + 1 + self.lead

    def read(self, node: ast.expr, depth: int) -> Node:
        if depth > DEEPEST:
            raise self.fail(node, "is nested too deeply")
        match node:
            case ast.Constant():
                return self.number(node)
            case ast.Subscript(slice=ast.Slice()):
                return self.sliced(node, depth)
            case ast.Name() | ast.Attribute() | ast.Subscript():
                return self.signal(node, depth)
            case ast.List():
                return self.listed(node, depth)
            case ast.UnaryOp():
                return self.unary(node, depth)
            case ast.BinOp():
                return self.binary(node, depth)
            case ast.Compare():
                return self.compare(node, depth)
            case ast.BoolOp():
                op = "and" if isinstance(node.op, ast.And) else "or"
                parts = [self.read(value, depth + 1) for value in node.values]
                return self.chain(op, parts, node)
            case ast.IfExp():
                condition, yes, no = (self.read(part, depth + 1) for part in (node.test, node.body, node.orelse))
                return self.made("where", node, condition, yes, no, dimension=self.same(node, yes, no))
            case ast.Call():
                return self.call(node, depth)
        raise self.unknown(node, type(node).__name__.lower())

    def number(self, node: ast.Constant) -> Node:
        if isinstance(node.value, bool):
            return Node("number", value=float(node.value), dimension=DIMENSIONLESS, column=self.column(node))
        if not isinstance(node.value, int | float):
            raise self.fail(node, f"{node.value!r} is not a number")
        try:
            value = float(node.value)
        except OverflowError as error:
            raise self.fail(node, "the number is too large") from error
        if value in (float("inf"), float("-inf")):
            raise self.fail(node, "the number is too large")
        return Node("number", value=value, column=self.column(node))

    def made(self, op: str, node: ast.AST, *args: Node, dimension: Dimension | None) -> Node:
        """A node whose length is that of its arguments."""
        sizes = {arg.size for arg in args if arg.size}
        if len(sizes) > 1:
            raise self.fail(node, f"lists of {' and '.join(map(str, sorted(sizes)))} numbers do not go together")
        return Node(op, args, size=max(sizes, default=0), dimension=dimension, column=self.column(node))

    def listed(self, node: ast.List, depth: int) -> Node:
        if not 1 <= len(node.elts) <= LONGEST_LIST:
            raise self.fail(node, f"a list has 1 to {LONGEST_LIST} numbers")
        parts = [self.read(part, depth + 1) for part in node.elts]
        for part, source in zip(parts, node.elts, strict=True):
            if part.size:
                raise self.fail(source, "a list holds numbers, not lists")
        known = {part.dimension for part in parts if part.dimension is not ANY}
        dimension = known.pop() if len(known) == 1 else ANY
        return Node("list", tuple(parts), size=len(parts), dimension=dimension, column=self.column(node))

    def sliced(self, node: ast.Subscript, depth: int) -> Node:
        whole = self.read(node.value, depth + 1)
        edges = node.slice
        assert isinstance(edges, ast.Slice)
        numbers = [self.edge(edge) for edge in (edges.lower, edges.upper)]
        first, last = (numbers[0] or 0), (whole.size if numbers[1] is None else numbers[1])
        if edges.step is not None or not 0 <= first < last <= whole.size:
            wanted = f"[first:after] within 0 .. {whole.size}" if whole.size else "a list before it"
            raise self.fail(node, f"a part of a list is written {wanted}")
        parts = tuple(_item(whole, k) for k in range(first, last))
        return Node("list", parts, size=len(parts), dimension=whole.dimension, column=self.column(node))

    def edge(self, edge: ast.expr | None) -> int | None:
        if edge is None:
            return None
        if isinstance(edge, ast.Constant) and type(edge.value) is int:
            return edge.value
        raise self.fail(edge, "the ends of a part are whole numbers")

    def several(self, name: str) -> tuple[str, ...]:
        """Parts of a list signal: NAME[0], NAME[1], ... or NAME.x, NAME.y, NAME.z."""
        if f"{name}[0]" in self.signals:
            count = 1
            while f"{name}[{count}]" in self.signals:
                count += 1
            return tuple(f"{name}[{k}]" for k in range(count))
        axes = tuple(f"{name}.{axis}" for axis in "xyz")
        return axes if all(axis in self.signals for axis in axes) else ()

    def signal(self, node: ast.Name | ast.Attribute | ast.Subscript, depth: int = 0) -> Node:
        if isinstance(node, ast.Subscript) and not isinstance(node.value, ast.Name | ast.Attribute | ast.Subscript):
            whole, index = self.read(node.value, depth + 1), self.edge(node.slice)
            if index is None or not 0 <= index < whole.size:
                raise self.fail(node, f"an item is written [number] within 0 .. {max(whole.size - 1, 0)}, after a list")
            return _item(whole, index)
        name = self.dotted(node)
        if name in _CONSTANTS:
            return Node("number", value=_CONSTANTS[name], column=self.column(node))
        parts = self.several(name) if name not in self.signals else ()
        if parts:
            self.used.update(parts)
            dimension = unit_dimension(self.signals[parts[0]])
            column = self.column(node)
            leaves = tuple(Node("signal", name=part, dimension=dimension, column=column) for part in parts)
            return Node("list", leaves, name=name, size=len(parts), dimension=dimension, column=column)
        if name not in self.signals:
            if name in FUNCTIONS:
                raise self.fail(node, f"{name} is a function; write {name}(...)")
            raise self.fail(node, f"unknown name {shortened(name, 60)}; {did_you_mean(name, self.signals)}")
        self.used.add(name)
        return Node("signal", name=name, dimension=unit_dimension(self.signals[name]), column=self.column(node))

    def dotted(self, node: ast.expr) -> str:
        match node:
            case ast.Name():
                return node.id
            case ast.Attribute():
                return f"{self.dotted(node.value)}.{node.attr}"
            case ast.Subscript(slice=ast.Constant(value=int(index))) if not isinstance(index, bool):
                return f"{self.dotted(node.value)}[{index}]"
        raise self.fail(node, "only names, dotted names and name[number] are signals")

    def unary(self, node: ast.UnaryOp, depth: int) -> Node:
        inner = self.read(node.operand, depth + 1)
        match node.op:
            case ast.USub():
                return self.made("negative", node, inner, dimension=inner.dimension)
            case ast.UAdd():
                return inner
            case ast.Not():
                return self.made("not", node, inner, dimension=DIMENSIONLESS)
        raise self.unknown(node, "~")

    def binary(self, node: ast.BinOp, depth: int) -> Node:
        op = _BINARY.get(type(node.op))
        if op is None:
            raise self.unknown(node, type(node.op).__name__.lower())
        left, right = self.read(node.left, depth + 1), self.read(node.right, depth + 1)
        if op in "+-%":
            dimension = self.same(node, left, right)
        elif op == "**":
            dimension = self.power(node, left, right)
        elif left.dimension is ANY or right.dimension is ANY:
            dimension = ANY
        else:
            sign = 1 if op == "*" else -1
            dimension = tuple(a + sign * b for a, b in zip(left.dimension, right.dimension, strict=True))  # type: ignore[assignment]
        made = self.made(op, node, left, right, dimension=dimension)
        if op in "/%" and constant_of(right) == 0.0:
            raise self.fail(node, "divides by zero")
        value = constant_of(made)
        if value is not None and not math.isfinite(value):
            raise self.fail(node, "comes to no finite number")
        return made

    def power(self, node: ast.BinOp, base: Node, exponent: Node) -> Dimension | None:
        if exponent.dimension not in (ANY, DIMENSIONLESS):
            raise self.fail(node.right, "an exponent must be a plain number")
        if base.dimension in (ANY, DIMENSIONLESS):
            return base.dimension
        value = constant_of(exponent)
        if value is not None and abs(value) < 20 and value == int(value):
            assert base.dimension is not None
            return tuple(int(p * value) for p in base.dimension)  # type: ignore[return-value]
        return ANY

    def compare(self, node: ast.Compare, depth: int) -> Node:
        sides = [self.read(side, depth + 1) for side in (node.left, *node.comparators)]
        parts = []
        for op, left, right in zip(node.ops, sides, sides[1:], strict=False):
            symbol = _COMPARE.get(type(op))
            if symbol is None:
                raise self.unknown(node, type(op).__name__.lower())
            self.same(node, left, right)
            parts.append(self.made(symbol, node, left, right, dimension=DIMENSIONLESS))
        return self.chain("and", parts, node)

    def chain(self, op: str, parts: list[Node], node: ast.AST) -> Node:
        result = parts[0]
        for part in parts[1:]:
            result = self.made(op, node, result, part, dimension=DIMENSIONLESS)
        return result

    def call(self, node: ast.Call, depth: int) -> Node:
        if not isinstance(node.func, ast.Name) or node.func.id not in self.functions:
            name = node.func.id if isinstance(node.func, ast.Name) else "this"
            raise self.fail(
                node,
                f"{shortened(name, 60)} is not a function of the formula language; {did_you_mean(name, self.functions)}",
            )
        name = node.func.id
        least, most, _ = self.functions[name]
        if node.keywords or any(isinstance(a, ast.Starred) for a in node.args):
            raise self.fail(node, f"{name} takes plain arguments only")
        if not least <= len(node.args) <= most:
            wanted = str(least) if least == most else f"{least} to {most}"
            raise self.fail(node, f"{name} takes {wanted} arguments, got {len(node.args)}")
        if name in ("clearance", "overlap"):
            return self.between(node, name)
        args = tuple(self.read(arg, depth + 1) for arg in node.args)
        dimension = self.result(node, name, args)
        if name in ("low_pass", "complementary"):
            self.lasting(node.args[-1], name, args[-1])
        if len(args) == 1 and name in ("min", "max", "sum", "mean", "norm"):
            if not args[0].size:
                if name == "norm":
                    return Node("abs", args, dimension=dimension, column=self.column(node))
                raise self.fail(
                    node,
                    f"{name} of one number; it takes a list"
                    + (" or several values" * (name[0] == "m" and name != "mean")),
                )
            return Node(f"{name} of", args, dimension=dimension, column=self.column(node))
        if name in MEMORY and name != "since" and any(arg.op == "number" for arg in args[:1]):
            raise self.fail(node, f"{name} of a fixed number says nothing")
        return self.made(name, node, *args, dimension=dimension)

    def lasting(self, node: ast.expr, name: str, time: Node) -> None:
        """A time that an estimator is given: fixed, in seconds."""
        value = constant_of(time)
        if time.size or value is None or not 0.0 < value <= 3600.0:
            raise self.fail(node, f"the time of {name} is a fixed number of seconds above 0, such as 0.05")

    def between(self, node: ast.Call, name: str) -> Node:
        """Distance between a body and something: a signal of its own, named by both."""
        first, second = (self.dotted(arg) for arg in node.args)
        for place, source, wanted in (
            (first, node.args[0], ("body",)),
            (second, node.args[1], ("body", "solid", "zone")),
        ):
            if self.places.get(place) not in wanted:
                known = [p for p, kind in self.places.items() if kind in wanted]
                raise self.fail(
                    source, f"{shortened(place, 60)} is no {' or '.join(wanted)} here; {did_you_mean(place, known)}"
                )
        if first == second:
            raise self.fail(node.args[1], f"{second} is no other than {first}")
        distance = f"clearance({first}, {second})"
        self.used.add(distance)
        leaf = Node("signal", name=distance, dimension=unit_dimension("m"), column=self.column(node))
        if name == "clearance":
            return leaf
        zero = Node("number", column=self.column(node))
        return Node("<", (leaf, zero), dimension=DIMENSIONLESS, column=self.column(node))

    def result(self, node: ast.Call, name: str, args: tuple[Node, ...]) -> Dimension | None:
        if name in ("abs", "sum", "mean", "previous", "highest", "lowest", "total", "best", "gain"):
            return args[0].dimension
        if name in ("low_pass", "median"):
            return args[0].dimension
        if name == "complementary":
            turning = args[1].dimension
            if turning is not ANY:
                turning = (turning[0], turning[1], turning[2] + 1, turning[3])
            return self.same(node, args[0], Node("rate", dimension=turning, column=args[1].column))
        if name in ("rate", "integral"):
            known = args[0].dimension
            return ANY if known is ANY else (known[0], known[1], known[2] + (1 if name == "integral" else -1), known[3])
        if name == "since":
            return unit_dimension("s")
        if name in ("becomes", "running"):
            return DIMENSIONLESS
        if name in ("min", "max", "clip", "norm"):
            return self.same(node, *args)
        if name == "where":
            return self.same(node, *args[1:])
        if name in ("near", "inside", "atan2"):
            self.same(node, *args)
            return _ANGLE if name == "atan2" else DIMENSIONLESS
        if name == "sign":
            return DIMENSIONLESS
        if name == "sqrt":
            known = args[0].dimension
            if known is ANY or any(p % 2 for p in known):
                return ANY
            return tuple(p // 2 for p in known)  # type: ignore[return-value]
        if args[0].dimension not in (ANY, DIMENSIONLESS, _ANGLE):
            raise self.fail(
                node.args[0],
                f"{name} takes an angle or a plain number, this is in {_dimension_text(args[0].dimension)}",
            )
        return _ANGLE if name == "wrap" else DIMENSIONLESS

    def same(self, node: ast.AST, *parts: Node) -> Dimension | None:
        """The common dimension of `parts`; bare numbers fit everything."""
        known = [part for part in parts if part.dimension is not ANY]
        for part in known[1:]:
            if part.dimension != known[0].dimension:
                here = _dimension_text(part.dimension)
                raise FormulaError(
                    self.text, part.column, f"is in {here}, beside {_dimension_text(known[0].dimension)}"
                )
        return known[0].dimension if known else ANY


def _item(whole: Node, index: int) -> Node:
    """One number of a list."""
    if whole.op == "list":
        return whole.args[index]
    return Node("item", (whole,), value=float(index), dimension=whole.dimension, column=whole.column)


def _dimension_text(dimension: Dimension | None) -> str:
    if dimension is ANY:
        return "any unit"
    names = ("kg", "m", "s", "rad")
    for unit in ("m", "s", "kg", "rad", "m/s", "rad/s", "m/s**2", "N", "N*m"):
        if unit_dimension(unit) == dimension:
            return pretty_unit(si_unit(unit))
    text = "·".join(n if p == 1 else f"{n}^{p}" for n, p in zip(names, dimension, strict=True) if p)
    return text or "a plain number"
