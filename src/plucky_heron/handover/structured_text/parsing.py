"""Reading Structured Text (IEC 61131-3, third edition, annex A): structures, functions, function blocks and what stands in them."""

from __future__ import annotations

from plucky_heron.handover.structured_text.syntax import (
    Expression,
    Statement,
    TextError,
    Token,
    Type,
    Unit,
    Variable,
    tokens_of,
)

ROLES = {
    "VAR_INPUT": "input", "VAR_OUTPUT": "output", "VAR_IN_OUT": "in_out", "VAR": "local", "VAR_TEMP": "temporary",
}  # fmt: skip
# from what binds least to what binds most
LEVELS = (("OR",), ("XOR",), ("AND", "&"), ("=", "<>"), ("<", ">", "<=", ">="), ("+", "-"), ("*", "/", "MOD"), ("**",))
MOST_DEPTH = 60


def read_text(text: str) -> list[Unit]:
    """The units of a text, in order.

    Raises
    ------
    TextError
        With the line, and what was wanted there.
    """
    return _Reader(tokens_of(text)).units()


class _Reader:
    def __init__(self, tokens: list[Token]) -> None:
        self.tokens, self.at, self.depth = tokens, 0, 0

    @property
    def token(self) -> Token:
        return self.tokens[self.at]

    def take(self) -> Token:
        found = self.token
        self.at += found.kind != "end"
        return found

    def has(self, *texts: str) -> bool:
        return self.token.kind in ("word", "sign") and self.token.text in texts

    def skip(self, *texts: str) -> bool:
        if self.has(*texts):
            self.take()
            return True
        return False

    def want(self, text: str) -> Token:
        if not self.has(text):
            raise TextError(self.token.line, f"{self.token.text}: wanted {text}")
        return self.take()

    def word(self) -> str:
        if self.token.kind != "word":
            raise TextError(self.token.line, f"{self.token.text}: wanted a name")
        return self.take().text

    # --- declarations

    def units(self) -> list[Unit]:
        found: list[Unit] = []
        while self.token.kind != "end":
            if self.skip("TYPE"):
                while not self.skip("END_TYPE"):
                    found.append(self.structure())
            elif self.has("FUNCTION", "FUNCTION_BLOCK"):
                found.append(self.function())
            else:
                raise TextError(self.token.line, f"{self.token.text}: wanted TYPE, FUNCTION or FUNCTION_BLOCK")
        return found

    def structure(self) -> Unit:
        line, name = self.token.line, self.word()
        self.want(":")
        self.want("STRUCT")
        made = Unit("structure", name, line)
        while not self.skip("END_STRUCT"):
            made.variables += self.declaration("field")
        self.skip(";")
        return made

    def function(self) -> Unit:
        line = self.token.line
        kind = self.take().text
        made = Unit(kind.lower(), self.word(), line)
        if kind == "FUNCTION":
            self.want(":")
            made.returns = self.type()
        while self.has(*ROLES):
            role = ROLES[self.take().text]
            constant = self.skip("CONSTANT")
            self.skip("RETAIN", "NON_RETAIN")
            while not self.skip("END_VAR"):
                made.variables += self.declaration("constant" if constant else role)
        made.body = self.statements(f"END_{kind}")
        self.want(f"END_{kind}")
        return made

    def declaration(self, role: str) -> list[Variable]:
        line, names = self.token.line, [self.word()]
        while self.skip(","):
            names.append(self.word())
        self.want(":")
        declared = self.type()
        initial: tuple[Expression, ...] = ()
        if self.skip(":="):
            initial = tuple(self.listed()) if self.skip("[") else (self.expression(),)
        self.want(";")
        return [Variable(name, declared, role, line, initial) for name in names]

    def listed(self) -> list[Expression]:
        """Initial values of an array, ``3(0.0)`` being three of them."""
        found = []
        while not self.skip("]"):
            if self.token.kind == "whole" and self.tokens[self.at + 1].text == "(":
                count = int(self.take().text)
                self.want("(")
                value = self.expression()
                self.want(")")
                if count > 1_000_000:
                    raise TextError(value.line, f"{count} values are too many")
                found += [value] * count
            else:
                found.append(self.expression())
            if not self.has("]"):
                self.want(",")
        return found

    def type(self) -> Type:
        if not self.skip("ARRAY"):
            return Type(self.word())
        self.want("[")
        ranges = [self.range()]
        while self.skip(","):
            ranges.append(self.range())
        self.want("]")
        self.want("OF")
        return Type(self.word(), tuple(ranges))

    def range(self) -> tuple[int, int]:
        low = self.whole()
        self.want("..")
        high = self.whole()
        if high < low:
            raise TextError(self.token.line, f"{low}..{high}: wanted rising bounds")
        return low, high

    def whole(self) -> int:
        negative = self.skip("-")
        if self.token.kind != "whole":
            raise TextError(self.token.line, f"{self.token.text}: wanted a whole number")
        value = integer(self.take().text)
        return -value if negative else value

    # --- statements

    def statements(self, *ends: str) -> tuple[Statement, ...]:
        self.depth += 1
        if self.depth > MOST_DEPTH:
            raise TextError(self.token.line, "too deep")
        found = []
        while not self.has(*ends):
            if self.token.kind == "end":
                raise TextError(self.token.line, f"wanted {' or '.join(ends)}")
            if self.skip(";"):
                continue
            found.append(self.statement())
        self.depth -= 1
        return tuple(found)

    def statement(self) -> Statement:
        line = self.token.line
        for word, read in (
            ("IF", self.if_),
            ("FOR", self.for_),
            ("WHILE", self.while_),
            ("REPEAT", self.repeat),
            ("CASE", self.case),
        ):
            if self.skip(word):
                made = read(line)
                self.skip(";")
                return made
        for word in ("RETURN", "EXIT"):
            if self.skip(word):
                self.want(";")
                return Statement(word.lower(), line)
        target = self.place()
        if self.skip("("):
            arguments = []
            while not self.skip(")"):
                name = self.word()
                self.want(":=")
                arguments.append((name, self.expression()))
                if not self.has(")"):
                    self.want(",")
            self.want(";")
            return Statement("call", line, target, arguments=tuple(arguments))
        self.want(":=")
        value = self.expression()
        self.want(";")
        return Statement("assign", line, target, value)

    def if_(self, line: int) -> Statement:
        condition = self.expression()
        self.want("THEN")
        branches = [((condition,), self.statements("ELSIF", "ELSE", "END_IF"))]
        while self.skip("ELSIF"):
            condition = self.expression()
            self.want("THEN")
            branches.append(((condition,), self.statements("ELSIF", "ELSE", "END_IF")))
        other = self.statements("END_IF") if self.skip("ELSE") else ()
        self.want("END_IF")
        return Statement("if", line, branches=tuple(branches), body=other)

    def for_(self, line: int) -> Statement:
        target = self.place()
        self.want(":=")
        first = self.expression()
        self.want("TO")
        last = self.expression()
        by = (self.expression(),) if self.skip("BY") else ()
        self.want("DO")
        body = self.statements("END_FOR")
        self.want("END_FOR")
        return Statement("for", line, target, first, (last, *by), body=body)

    def while_(self, line: int) -> Statement:
        condition = self.expression()
        self.want("DO")
        body = self.statements("END_WHILE")
        self.want("END_WHILE")
        return Statement("while", line, value=condition, body=body)

    def repeat(self, line: int) -> Statement:
        body = self.statements("UNTIL")
        self.want("UNTIL")
        condition = self.expression()
        self.want("END_REPEAT")
        return Statement("repeat", line, value=condition, body=body)

    def case(self, line: int) -> Statement:
        selector = self.expression()
        self.want("OF")
        branches = []
        while not self.has("ELSE", "END_CASE"):
            labels = [self.expression()]
            while self.skip(","):
                labels.append(self.expression())
            self.want(":")
            branches.append((tuple(labels), self.case_body()))
        other = self.statements("END_CASE") if self.skip("ELSE") else ()
        self.want("END_CASE")
        return Statement("case", line, value=selector, branches=tuple(branches), body=other)

    def case_body(self) -> tuple[Statement, ...]:
        found = []
        while not self.has("ELSE", "END_CASE") and not self._at_label():
            if self.token.kind == "end":
                raise TextError(self.token.line, "wanted END_CASE")
            if not self.skip(";"):
                found.append(self.statement())
        return tuple(found)

    def _at_label(self) -> bool:
        """Whether a whole number and a colon or comma stand here: the next branch of a CASE."""
        ahead = self.at + (self.token.text == "-")
        return self.tokens[ahead].kind == "whole" and self.tokens[ahead + 1].text in (":", ",")

    # --- expressions

    def expression(self, level: int = 0) -> Expression:
        if level == len(LEVELS):
            return self.unary()
        self.depth += 1
        if self.depth > 20 * MOST_DEPTH:
            raise TextError(self.token.line, "too deep")
        left = self.expression(level + 1)
        while self.has(*LEVELS[level]):
            sign = self.take()
            left = Expression("binary", sign.line, sign.text, (left, self.expression(level + 1)))
        self.depth -= 1
        return left

    def unary(self) -> Expression:
        if self.has("-", "NOT", "+"):
            sign = self.take()
            inner = self.unary()
            return inner if sign.text == "+" else Expression("unary", sign.line, sign.text, (inner,))
        return self.primary()

    def primary(self) -> Expression:
        token = self.token
        if token.kind in ("real", "whole"):
            return Expression("literal", token.line, self.take().text)
        if self.skip("("):
            inner = self.expression()
            self.want(")")
            return inner
        if self.has("TRUE", "FALSE"):
            return Expression("literal", token.line, self.take().text)
        if token.kind == "word" and self.tokens[self.at + 1].text == "#":  # a literal with its type, such as REAL#1.0
            kind = self.take().text
            self.take()
            negative = "-" if self.skip("-") else ""
            if self.token.kind not in ("real", "whole"):
                raise TextError(token.line, f"{self.token.text}: wanted a number")
            return Expression("literal", token.line, negative + self.take().text, path=(kind,))
        if token.kind == "word" and self.tokens[self.at + 1].text == "(":
            name = self.word()
            self.take()
            arguments = []
            while not self.skip(")"):
                if self.token.kind == "word" and self.tokens[self.at + 1].text == ":=":
                    self.take()
                    self.take()
                arguments.append(self.expression())
                if not self.has(")"):
                    self.want(",")
            return Expression("call", token.line, name, tuple(arguments))
        return self.place()

    def place(self) -> Expression:
        line, name = self.token.line, self.word()
        path: list[str | tuple[Expression, ...]] = []
        while True:
            if self.skip("."):
                path.append(self.word())
            elif self.skip("["):
                indices = [self.expression()]
                while self.skip(","):
                    indices.append(self.expression())
                self.want("]")
                path.append(tuple(indices))
            else:
                return Expression("name", line, name, path=tuple(path))


def integer(text: str) -> int:
    """A whole number as the standard writes it, such as 16#FF."""
    base, sign, digits = text.partition("#")
    return int(digits, int(base)) if sign else int(text)
