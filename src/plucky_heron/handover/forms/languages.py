"""What formulas come to, as text: the same operations in C and in IEC 61131-3 Structured Text."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Sequence

from plucky_heron.handover.forms.numbers import number
from plucky_heron.handover.forms.st import real


class Language(ABC):
    """How a language writes numbers, calls, conditions and statements; numbers are of single precision.

    Attributes
    ----------
    modulo, wrapped
        Functions of the generated text: a rest with the sign of the divisor, and an angle within half a turn.
    state
        What stands before the names of choices' states.
    ordered
        The name of what the controller puts out.
    """

    state: str
    ordered: str
    modulo: str
    wrapped: str
    calls: dict[str, str]
    """Its functions, by the formula's."""
    signs: dict[str, str]
    """Its signs of comparison and conjunction, where they differ from the formula's."""

    @abstractmethod
    def number(self, value: float) -> str:
        """A literal that reads back to the same bits."""

    @abstractmethod
    def value(self, name: str, text: str) -> str:
        """The statement that works out a number."""

    @abstractmethod
    def put(self, place: str, text: str) -> str:
        """The statement that changes what is remembered."""

    @abstractmethod
    def choose(self, condition: str, yes: str, no: str) -> str:
        """One of two numbers."""

    @abstractmethod
    def truth(self, condition: str) -> str:
        """1 where a condition holds, else 0."""

    @abstractmethod
    def whole(self, text: str) -> str:
        """A whole number as one of single precision."""

    @abstractmethod
    def sign(self, text: str) -> str:
        """-1, 0 or 1."""

    def quotient(self, text: str, by: str, known: float | None) -> str:
        """One number divided by another; `known` is what it is divided by where that is the same all the time."""
        return f"{text} / {by}"

    def sign_of(self, op: str) -> str:
        """A comparison's sign."""
        return self.signs.get(op, op)

    def call(self, op: str, *args: str) -> str:
        """A function's value."""
        return f"{self.calls[op]}({', '.join(args)})"

    def holds(self, text: str) -> str:
        """The condition that a number is not zero."""
        return f"{text} {self.sign_of('!=')} {self.number(0.0)}"

    def joined(self, op: str, conditions: Sequence[str]) -> str:
        """Conditions that have to hold all ("and") or one of them ("or")."""
        return f" {self.sign_of(op)} ".join(conditions)

    def clip(self, text: str, low: str, high: str) -> str:
        """A number kept within two."""
        return self.call("min", self.call("max", text, low), high)


class InC(Language):
    """C99."""

    modulo, wrapped, state = "modulo", "wrapped", "s->"
    ordered = "commands"
    calls = {
        "abs": "fabsf", "sqrt": "sqrtf", "exp": "expf", "log": "logf", "sin": "sinf", "cos": "cosf", "tan": "tanf", "tanh": "tanhf",
        "asin": "asinf", "atan2": "atan2f", "min": "fminf", "max": "fmaxf", "**": "powf",
    }  # fmt: skip
    signs = {"and": "&&", "or": "||"}

    def number(self, value: float) -> str:
        """With an ``f`` behind it."""
        return str(number(value)) if value else "0.0f"

    def value(self, name: str, text: str) -> str:
        """A constant of the block."""
        return f"const float {name} = {text};"

    def put(self, place: str, text: str) -> str:
        """An assignment."""
        return f"{place} = {text};"

    def choose(self, condition: str, yes: str, no: str) -> str:
        """The conditional operator."""
        return f"{condition} ? {yes} : {no}"

    def truth(self, condition: str) -> str:
        """A cast."""
        return f"(float)({condition})"

    def whole(self, text: str) -> str:
        """A cast."""
        return f"(float){text}"

    def sign(self, text: str) -> str:
        """The difference of two comparisons."""
        return f"(float)(({text} > 0.0f) - ({text} < 0.0f))"


class InStructuredText(Language):
    """Structured Text with the standard functions of IEC 61131-3 (tables 23 to 28) and REAL alone.

    What has no value (a division by zero, the root or the logarithm of a negative number) stops some controllers: functions of ours ask
    before, and give a number so large that the guard takes it for one that is not finite.
    """

    modulo, wrapped, state = "HeronModulo", "HeronWrapped", ""
    ordered = "ordered"
    calls = {
        "abs": "ABS", "sqrt": "HeronRoot", "exp": "HeronExp", "log": "HeronLog", "sin": "SIN", "cos": "COS", "tan": "TAN", "tanh": "HeronTanh",
        "asin": "HeronArcsine", "atan2": "HeronAtan2", "min": "MIN", "max": "MAX", "**": "HeronPower",
    }  # fmt: skip
    signs = {"and": "AND", "or": "OR", "==": "=", "!=": "<>"}

    def number(self, value: float) -> str:
        """A literal of type REAL."""
        return real(value) if value else "0.0"

    def value(self, name: str, text: str) -> str:
        """An assignment to a variable that is declared elsewhere."""
        return f"{name} := {text};"

    def put(self, place: str, text: str) -> str:
        """An assignment."""
        return f"{place} := {text};"

    def choose(self, condition: str, yes: str, no: str) -> str:
        """SEL takes what holds without the condition first."""
        return f"SEL({condition}, {no}, {yes})"

    def truth(self, condition: str) -> str:
        """A selection."""
        return f"SEL({condition}, 0.0, 1.0)"

    def whole(self, text: str) -> str:
        """A conversion."""
        return f"DINT_TO_REAL({text})"

    def sign(self, text: str) -> str:
        """Two selections."""
        return f"SEL({text} > 0.0, SEL({text} < 0.0, 0.0, -1.0), 1.0)"

    def quotient(self, text: str, by: str, known: float | None) -> str:
        """By a function, unless it is known never to be divided by zero."""
        return f"{text} / {by}" if known else f"HeronQuotient({text}, {by})"

    def joined(self, op: str, conditions: Sequence[str]) -> str:
        """Comparisons in parentheses: controllers differ in how tightly AND binds."""
        return super().joined(op, [f"({c})" for c in conditions])


C, STRUCTURED_TEXT = InC(), InStructuredText()

MODULO = """static float modulo(float a, float b)
{
    float r = fmodf(a, b);
    return r != 0.0f && ((r < 0.0f) != (b < 0.0f)) ? r + b : r;
}
"""
HELPERS = f"""{MODULO}
static float wrapped(float angle)
{{
    return modulo(angle + {number(math.pi)}, {number(2.0 * math.pi)}) - {number(math.pi)};
}}
"""
"""What the statements call."""
