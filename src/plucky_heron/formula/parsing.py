"""From text to a checked expression tree.

Python's parser gives the grammar; a fixed list of node kinds and functions is let through and nothing is ever
executed. Units are inferred where they are known: a bare number takes whatever unit its surroundings ask for.
"""

from __future__ import annotations

import ast
import difflib
import warnings
from collections.abc import Mapping
from dataclasses import dataclass, field

from plucky_heron.errors import FormulaError
from plucky_heron.units import DIMENSIONLESS, Dimension, pretty_unit, si_unit, unit_dimension

LONGEST = 500
DEEPEST = 40

_ANGLE: Dimension = (0, 0, 0, 1)
ANY = None
"""The dimension of a bare number: fits everywhere."""

FUNCTIONS: dict[str, tuple[int, int, str]] = {
    "abs": (1, 1, "size without sign"),
    "sqrt": (1, 1, "square root"),
    "exp": (1, 1, "e to the power"),
    "log": (1, 1, "natural logarithm"),
    "sin": (1, 1, "sine of an angle"),
    "cos": (1, 1, "cosine of an angle"),
    "tan": (1, 1, "tangent of an angle"),
    "atan2": (2, 2, "angle of the point (x, y), written atan2(y, x)"),
    "tanh": (1, 1, "hyperbolic tangent: soft limit at ±1"),
    "sign": (1, 1, "-1, 0 or 1"),
    "min": (2, 8, "the smallest"),
    "max": (2, 8, "the largest"),
    "clip": (3, 3, "clip(x, low, high): x kept between low and high"),
    "near": (2, 2, "near(x, width): 1 at x = 0, falling as exp(-(x/width)**2)"),
    "inside": (3, 3, "inside(x, low, high): 1 while low <= x <= high, else 0"),
    "wrap": (1, 1, "an angle brought into -pi .. pi"),
    "norm": (1, 8, "root of the sum of squares"),
    "where": (3, 3, "where(condition, a, b): a while the condition holds, else b"),
}

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


def parse_formula(text: str, signals: Mapping[str, str], unit: str | None = None) -> Expression:
    """Check `text` against the known `signals` (name to unit) and, if given, the `unit` of the result.

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
            tree = ast.parse(text.strip(), mode="eval")
    except SyntaxError as error:
        column = error.offset or len(text.strip()) + 1  # no offset: the text ends too early
        raise FormulaError(text, column + lead, "cannot be read here") from error
    except (ValueError, RecursionError, MemoryError) as error:
        raise FormulaError(text, 1, "cannot be read") from error
    reader = _Reader(text, lead, signals)
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
    return Expression(text, root, tuple(sorted(reader.used)))


class _Reader:
    def __init__(self, text: str, lead: int, signals: Mapping[str, str]) -> None:
        self.text, self.lead, self.signals = text, lead, signals
        self.stripped = text.strip().encode()
        self.used: set[str] = set()

    def fail(self, node: ast.AST, message: str) -> FormulaError:
        return FormulaError(self.text, self.column(node), message)

    def column(self, node: ast.AST) -> int:
        offset = getattr(node, "col_offset", 0)
        return len(self.stripped[:offset].decode(errors="ignore")) + 1 + self.lead

    def read(self, node: ast.expr, depth: int) -> Node:
        if depth > DEEPEST:
            raise self.fail(node, "is nested too deeply")
        match node:
            case ast.Constant():
                return self.number(node)
            case ast.Name() | ast.Attribute() | ast.Subscript():
                return self.signal(node)
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
                return Node("where", (condition, yes, no), dimension=self.same(node, yes, no), column=self.column(node))
            case ast.Call():
                return self.call(node, depth)
        raise self.fail(node, f"{type(node).__name__.lower()} is not part of the formula language")

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

    def signal(self, node: ast.Name | ast.Attribute | ast.Subscript) -> Node:
        name = self.dotted(node)
        if name in _CONSTANTS:
            return Node("number", value=_CONSTANTS[name], column=self.column(node))
        if name not in self.signals:
            near = difflib.get_close_matches(name, [*self.signals], n=3, cutoff=0.4)
            if name in FUNCTIONS:
                raise self.fail(node, f"{name} is a function; write {name}(...)")
            hint = f"; near it: {', '.join(near)}" if near else ""
            raise self.fail(node, f"unknown name {name}{hint}")
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
                return Node("negative", (inner,), dimension=inner.dimension, column=self.column(node))
            case ast.UAdd():
                return inner
            case ast.Not():
                return Node("not", (inner,), dimension=DIMENSIONLESS, column=self.column(node))
        raise self.fail(node, "~ is not part of the formula language")

    def binary(self, node: ast.BinOp, depth: int) -> Node:
        op = _BINARY.get(type(node.op))
        if op is None:
            raise self.fail(node, f"{type(node.op).__name__.lower()} is not part of the formula language")
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
        return Node(op, (left, right), dimension=dimension, column=self.column(node))

    def power(self, node: ast.BinOp, base: Node, exponent: Node) -> Dimension | None:
        if exponent.dimension not in (ANY, DIMENSIONLESS):
            raise self.fail(node.right, "an exponent must be a plain number")
        if base.dimension in (ANY, DIMENSIONLESS):
            return base.dimension
        if exponent.op == "number" and exponent.value == int(exponent.value) and abs(exponent.value) < 20:
            assert base.dimension is not None
            return tuple(int(p * exponent.value) for p in base.dimension)  # type: ignore[return-value]
        return ANY

    def compare(self, node: ast.Compare, depth: int) -> Node:
        sides = [self.read(side, depth + 1) for side in (node.left, *node.comparators)]
        parts = []
        for op, left, right in zip(node.ops, sides, sides[1:], strict=False):
            symbol = _COMPARE.get(type(op))
            if symbol is None:
                raise self.fail(node, f"{type(op).__name__.lower()} is not part of the formula language")
            self.same(node, left, right)
            parts.append(Node(symbol, (left, right), dimension=DIMENSIONLESS, column=self.column(node)))
        return self.chain("and", parts, node)

    def chain(self, op: str, parts: list[Node], node: ast.AST) -> Node:
        result = parts[0]
        for part in parts[1:]:
            result = Node(op, (result, part), dimension=DIMENSIONLESS, column=self.column(node))
        return result

    def call(self, node: ast.Call, depth: int) -> Node:
        if not isinstance(node.func, ast.Name) or node.func.id not in FUNCTIONS:
            name = node.func.id if isinstance(node.func, ast.Name) else "this"
            near = difflib.get_close_matches(name, [*FUNCTIONS], n=3, cutoff=0.5)
            hint = f"; near it: {', '.join(near)}" if near else f"; known are {', '.join(FUNCTIONS)}"
            raise self.fail(node, f"{name} is not a function of the formula language{hint}")
        name = node.func.id
        least, most, _ = FUNCTIONS[name]
        if node.keywords or any(isinstance(a, ast.Starred) for a in node.args):
            raise self.fail(node, f"{name} takes plain arguments only")
        if not least <= len(node.args) <= most:
            wanted = str(least) if least == most else f"{least} to {most}"
            raise self.fail(node, f"{name} takes {wanted} arguments, got {len(node.args)}")
        args = tuple(self.read(arg, depth + 1) for arg in node.args)
        return Node(name, args, dimension=self.result(node, name, args), column=self.column(node))

    def result(self, node: ast.Call, name: str, args: tuple[Node, ...]) -> Dimension | None:
        if name == "abs":
            return args[0].dimension
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


def _dimension_text(dimension: Dimension | None) -> str:
    if dimension is ANY:
        return "any unit"
    names = ("kg", "m", "s", "rad")
    for unit in ("m", "s", "kg", "rad", "m/s", "rad/s", "m/s**2", "N", "N*m"):
        if unit_dimension(unit) == dimension:
            return pretty_unit(si_unit(unit))
    text = "·".join(n if p == 1 else f"{n}^{p}" for n, p in zip(names, dimension, strict=True) if p)
    return text or "a plain number"
