"""From the text of Structured Text to its parts: tokens, declarations, statements, expressions."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from plucky_heron.errors import HeronError, quoted


class TextError(HeronError):
    """A text that the standard does not allow, or that is not known here; says the line."""

    def __init__(self, line: int, text: str) -> None:
        super().__init__(f"line {line}: {text}")
        self.line = line


@dataclass(frozen=True)
class Token:
    """A word, number or sign; words in capitals where the standard does not tell them apart."""

    kind: str
    text: str
    line: int


_TOKEN = re.compile(
    r"(?P<space>\s+)|(?P<comment>\(\*.*?\*\)|//[^\n]*)|(?P<real>\d[\d_]*\.\d[\d_]*(?:[eE][+-]?\d+)?|\d[\d_]*[eE][+-]?\d+)"
    r"|(?P<whole>16#[0-9A-Fa-f_]+|2#[01_]+|\d[\d_]*)|(?P<word>[A-Za-z_]\w*)"
    r"|(?P<sign>:=|=>|<=|>=|<>|\.\.|\*\*|[-+*/&=<>()\[\];:,.#])",
    re.DOTALL,
)


def tokens_of(text: str) -> list[Token]:
    """The tokens of a text, an ``end`` last.

    Raises
    ------
    TextError
        A sign that means nothing.
    """
    found: list[Token] = []
    at, line = 0, 1
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            raise TextError(line, f"{quoted(text[at])} means nothing here")
        kind = str(match.lastgroup)
        if kind not in ("space", "comment"):
            word = match.group().upper() if kind == "word" else match.group().replace("_", "")
            found.append(Token(kind, word, line))
        line += match.group().count("\n")
        at = match.end()
    return [*found, Token("end", "the end", line)]


# --- types


@dataclass(frozen=True)
class Type:
    """An elementary type by its name, a structure or function block by its name, or an array of one of them."""

    name: str
    ranges: tuple[tuple[int, int], ...] = ()

    @property
    def element(self) -> Type:
        """What an array is made of."""
        return Type(self.name)

    def __str__(self) -> str:
        bounds = ", ".join(f"{a}..{b}" for a, b in self.ranges)
        return f"ARRAY [{bounds}] OF {self.name}" if bounds else self.name


# --- expressions and statements


@dataclass(frozen=True)
class Expression:
    """``kind`` is literal, name, unary, binary or call; see the parser."""

    kind: str
    line: int
    text: str = ""
    parts: tuple[Expression, ...] = ()
    path: tuple[str | tuple[Expression, ...], ...] = ()
    """Of a name: fields, and the indices of arrays."""


@dataclass(frozen=True)
class Statement:
    """``kind`` is assign, call, if, for, while, repeat, case, return, exit or nothing."""

    kind: str
    line: int
    target: Expression | None = None
    value: Expression | None = None
    more: tuple[Expression, ...] = ()
    branches: tuple[tuple[tuple[Expression, ...], tuple[Statement, ...]], ...] = ()
    body: tuple[Statement, ...] = ()
    arguments: tuple[tuple[str, Expression], ...] = ()


@dataclass(frozen=True)
class Variable:
    """A declared variable; ``role`` is input, output, in_out, local, temporary or constant."""

    name: str
    type: Type
    role: str
    line: int
    initial: tuple[Expression, ...] = ()


@dataclass
class Unit:
    """A function, function block or structure."""

    kind: str
    name: str
    line: int
    variables: list[Variable] = field(default_factory=list)
    body: tuple[Statement, ...] = ()
    returns: Type | None = None
