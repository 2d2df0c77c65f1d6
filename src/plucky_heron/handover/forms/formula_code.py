"""Formulas as code: the same operations as `formula.program.Program`, for one machine, in single precision."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence

from plucky_heron.formula.functions import ESTIMATORS
from plucky_heron.formula.parsing import Expression, Node, constant_of
from plucky_heron.handover.forms.languages import C, Language

_INFIX = {"+", "-", "*", "/", "<", "<=", ">", ">=", "==", "!="}
_NAMES = re.compile(r"n\d+")
_TRUTHS = {"<", "<=", ">", ">=", "==", "!=", "and", "or", "not", "inside"}
_RATE_OF_ANGLE = (0, 0, -1, 1)
_ANGLE = (0, 0, 0, 1)


class FormulaCode:
    """Writes formulas as statements, each common part once.

    Parameters
    ----------
    leaf
        The expression of a signal that no definition stands for.
    definitions
        Signals that are themselves formulas.
    sample_time
        Seconds between two calls.
    slots
        How many numbers of the state's ``memory`` are taken already; what these formulas remember comes after them.

    Attributes
    ----------
    lines : list of str
        Statements, each a value or a change of what is remembered; ``fresh`` says that an episode begins.
    slots : int
        Numbers of ``memory`` that are taken now.
    """

    def __init__(
        self,
        leaf: Callable[[str], str],
        definitions: Mapping[str, Expression],
        sample_time: float,
        slots: int = 0,
        language: Language = C,
    ) -> None:
        self.language = language
        self.leaf, self.definitions, self.sample_time, self.slots = leaf, definitions, sample_time, slots
        self.lines: list[str] = []
        self._known: dict[Node, list[str]] = {}

    def of(self, expression: Expression) -> list[str]:
        """Expressions of the numbers that a formula gives."""
        return self._read(expression.root)

    def needed(self, wanted: Sequence[str]) -> list[str]:
        """The statements without those whose value neither another statement nor `wanted` uses: compilers complain about them."""
        kept: list[str] = []
        used = set(_NAMES.findall(" ".join(wanted)))
        for line in reversed(self.lines):
            named = line.removeprefix("const float ").partition(" ")[0]
            if named.startswith("memory") or named in used:
                kept.append(line)
                used.update(_NAMES.findall(line.partition("=")[2]))
        return kept[::-1]

    def _read(self, node: Node) -> list[str]:
        if node not in self._known:
            self._known[node] = self._make(node)
        return self._known[node]

    def _value(self, text: str) -> str:
        """The statement that works out a number, and the number's name."""
        name = f"n{len(self.lines)}"
        self.lines.append(self.language.value(name, text))
        return name

    def _put(self, place: str, text: str) -> None:
        """The statement that changes what is remembered."""
        self.lines.append(self.language.put(place, text))

    def _make(self, node: Node) -> list[str]:
        op = node.op
        if op == "number":
            return [f"({self.language.number(node.value)})"]
        if op == "signal":
            if node.name in self.definitions:
                return self._read(self.definitions[node.name].root)
            return [self.leaf(node.name)]
        if op == "list":
            return [self._read(arg)[0] for arg in node.args]
        parts = [self._read(arg) for arg in node.args]
        if op == "item":
            return [parts[0][int(node.value)]]
        if op.endswith(" of"):
            return [self._reduced(op, parts[0])]
        width = max(node.size, 1)
        rows = [[part[k] if len(part) > 1 else part[0] for part in parts] for k in range(width)]
        return [self._one(node, row) for row in rows]

    def _one(self, node: Node, args: list[str]) -> str:
        op = node.op
        if op in _TRUTHS or op == "where":
            return self._value(self._truth(op, args))
        if op == "/":
            return self._value(self.language.quotient(args[0], args[1], constant_of(node.args[1])))
        if op in _INFIX:
            return self._value(f"{args[0]} {op} {args[1]}")
        if op == "**" and constant_of(node.args[1]) == 2.0:
            return self._value(f"{args[0]} * {args[0]}")
        if op in ("min", "max") and len(args) > 2:
            found = args[0]
            for arg in args[1:]:
                found = self._value(self.language.call(op, found, arg))
            return found
        if op in self.language.calls:
            return self._value(self.language.call(op, *args))
        if op == "%":
            return self._value(f"{self.language.modulo}({args[0]}, {args[1]})")
        if op == "negative":
            return self._value(f"-{args[0]}")
        if op == "sign":
            return self._value(self.language.sign(args[0]))
        if op == "clip":
            return self._value(self.language.clip(args[0], args[1], args[2]))
        if op == "near":
            scaled = self._value(self.language.quotient(args[0], args[1], constant_of(node.args[1])))
            return self._value(self.language.call("exp", f"-({scaled} * {scaled})"))
        if op == "wrap":
            return self._value(f"{self.language.wrapped}({args[0]})")
        if op == "norm":
            return self._value(self.language.call("sqrt", " + ".join(f"{a} * {a}" for a in args)))
        if op in ESTIMATORS:
            return self._estimated(node, args)
        return self._remembering(node, args[0])

    def _estimated(self, node: Node, args: list[str]) -> str:
        """Estimators, as `formula.program` has them."""
        op, now, first, text = node.op, args[0], self.slots, self.language
        self.slots += 3 if op == "median" else 1
        held = f"memory[{first}]"
        if op == "median":
            before, last = f"memory[{first + 1}]", f"memory[{first + 2}]"
            self._put(before, text.choose("fresh", now, last))
            self._put(last, text.choose("fresh", now, held))
            self._put(held, now)
            low, high = self._value(text.call("min", before, last)), self._value(text.call("max", before, last))
            return self._value(text.call("max", low, text.call("min", high, held)))
        time = constant_of(node.args[-1])
        assert time is not None
        share = text.number(1.0 - math.exp(-self.sample_time / time))
        if op == "complementary":
            self._put(held, text.choose("fresh", now, f"{held} + {text.number(self.sample_time)} * {args[1]}"))
        change = self._value(f"{text.wrapped}({now} - {held})" if node.dimension == _ANGLE else f"{now} - {held}")
        self._put(held, text.choose("fresh", now, f"{held} + {share} * {change}"))
        return self._value(held)

    def _truth(self, op: str, args: list[str]) -> str:
        text = self.language
        if op == "where":
            return text.choose(text.holds(args[0]), args[1], args[2])
        if op == "not":
            return text.truth(f"{args[0]} {text.sign_of('==')} {text.number(0.0)}")
        if op in ("and", "or"):
            return text.truth(text.joined(op, [text.holds(a) for a in args]))
        if op == "inside":
            return text.truth(text.joined("and", [f"{args[0]} >= {args[1]}", f"{args[0]} <= {args[2]}"]))
        return text.truth(f"{args[0]} {text.sign_of(op)} {args[1]}")

    def _reduced(self, op: str, items: list[str]) -> str:
        kind = op.removesuffix(" of")
        if kind in ("min", "max"):
            found = items[0]
            for item in items[1:]:
                found = self._value(self.language.call(kind, found, item))
            return found
        squares = [f"{a} * {a}" for a in items] if kind == "norm" else items
        total = self._value(" + ".join(squares))
        if kind == "norm":
            return self._value(self.language.call("sqrt", total))
        return self._value(f"{total} / {self.language.number(float(len(items)))}") if kind == "mean" else total

    def _remembering(self, node: Node, now: str) -> str:
        """What depends on earlier samples: two numbers of ``memory`` each, the value before and the one held."""
        op, first, text = node.op, self.slots, self.language
        self.slots += 2
        before, held = f"memory[{first}]", f"memory[{first + 1}]"
        if op in ("previous", "rate", "becomes"):
            if op == "becomes":
                now = self._value(text.truth(text.holds(now)))
            self._put(before, text.choose("fresh", now, held))
            self._put(held, now)
            if op == "previous":
                return self._value(before)
            change = self._value(f"{held} - {before}")
            if op == "becomes":
                return self._value(text.call("max", change, text.number(0.0)))
            if node.dimension == _RATE_OF_ANGLE:
                change = self._value(f"{text.wrapped}({change})")
            return self._value(f"{change} * {text.number(1.0 / self.sample_time)}")
        if op in ("highest", "lowest"):
            call = text.call("max" if op == "highest" else "min", held, now)
            self._put(held, text.choose("fresh", now, call))
        elif op == "since":
            zero, passed = text.number(0.0), f"{held} + {text.number(self.sample_time)}"
            self._put(held, text.choose("fresh", zero, f"({text.choose(text.holds(now), zero, passed)})"))
        elif op in ("total", "integral"):
            self._put(held, text.choose("fresh", text.number(0.0), f"{held} + {now}"))
            if op == "integral":
                return self._value(f"{held} * {text.number(self.sample_time)}")
        else:
            raise ValueError(f"no code for {op}")
        return self._value(held)
