"""Structured Text as C: types checked as strictly as the standard has it, indices watched, nothing of the text taken over unread."""

from __future__ import annotations

from dataclasses import dataclass

from plucky_heron.handover.structured_text.parsing import integer, read_text
from plucky_heron.handover.structured_text.syntax import Expression, Statement, TextError, Type, Unit, Variable

WHOLE = {"SINT": "int8_t", "INT": "int16_t", "DINT": "int32_t", "UINT": "uint16_t", "UDINT": "uint32_t"}
FLOAT = {"REAL": "float", "LREAL": "double"}
BITS = {"BYTE": "uint8_t", "WORD": "uint16_t", "DWORD": "uint32_t"}
C_TYPES = {"BOOL": "bool", **WHOLE, **FLOAT, **BITS}
ONE_REAL = {"EXP": "exp", "LN": "log", "SQRT": "sqrt", "SIN": "sin", "COS": "cos", "TAN": "tan", "ATAN": "atan", "ASIN": "asin", "ACOS": "acos"}  # fmt: skip
_ORDER = ["SINT", "INT", "DINT"]

PRELUDE = """#include <math.h>
#include <stdbool.h>
#include <stdint.h>
#include <string.h>

/* how often an index lay outside its array; it is held within */
static uint32_t st_faults;
static int32_t st_index(int32_t i, int32_t low, int32_t high)
{
    if (i < low || i > high) {
        st_faults++;
        i = i < low ? low : high;
    }
    return i - low;
}
static int32_t st_divide(int32_t a, int32_t b)
{
    if (b == 0 || (b == -1 && a == INT32_MIN)) {
        st_faults++;
        return 0;
    }
    return a / b;
}
static int32_t st_modulo(int32_t a, int32_t b)
{
    return b == 0 || b == -1 ? 0 : a % b;
}
"""


@dataclass(frozen=True)
class Translated:
    """C text, and what the function block asked for is given and gives.

    Attributes
    ----------
    inputs, outputs
        Paths in C within the block's structure, with their types, arrays and structures taken apart.
    """

    text: str
    block: str
    inputs: list[tuple[str, str]]
    outputs: list[tuple[str, str]]


def translate(text: str, block: str) -> Translated:
    """A text as C, with ``NAME_begin`` and ``NAME_call`` of every function block.

    Raises
    ------
    TextError
        With the line: wrong syntax, an unknown name, types that do not go together.
    """
    return _Translator(read_text(text)).run(block.upper())


class _Translator:
    def __init__(self, units: list[Unit]) -> None:
        self.units = {unit.name: unit for unit in units}
        if len(self.units) < len(units):
            names = [u.name for u in units]
            twice = next(u for u in units if names.count(u.name) > 1)
            raise TextError(twice.line, f"{twice.name} is declared twice")
        self.order = units
        self.unit = units[0] if units else Unit("", "", 1)
        self.names: dict[str, Variable] = {}
        self.lines: list[str] = []

    def run(self, block: str) -> Translated:
        asked = self.units.get(block)
        if asked is None or asked.kind != "function_block":
            raise TextError(1, f"there is no function block {block}")
        for unit in self.order:
            self.unit, self.names = unit, {v.name: v for v in unit.variables}
            if len(self.names) < len(unit.variables):
                raise TextError(unit.line, f"{unit.name}: a variable is declared twice")
            getattr(self, unit.kind)(unit)
        found = {
            role: [
                leaf for v in asked.variables if v.role == role for leaf in self.leaves(f"v_{v.name}", v.type, v.line)
            ]
            for role in ("input", "output")
        }
        return Translated(PRELUDE + "\n".join(self.lines) + "\n", block, found["input"], found["output"])

    def leaves(self, path: str, declared: Type, line: int) -> list[tuple[str, str]]:
        """A variable taken apart into elementary ones."""
        if declared.ranges:
            found = [path]
            for low, high in declared.ranges:
                found = [f"{p}[{k}]" for p in found for k in range(high - low + 1)]
            return [leaf for p in found for leaf in self.leaves(p, declared.element, line)]
        if declared.name in C_TYPES:
            return [(path, declared.name)]
        return [
            leaf
            for v in self.known(declared, line).variables
            for leaf in self.leaves(f"{path}.v_{v.name}", v.type, line)
        ]

    def known(self, declared: Type, line: int) -> Unit:
        unit = self.units.get(declared.name)
        if unit is None or unit.kind == "function":
            raise TextError(line, f"{declared.name}: no such type")
        return unit

    # --- units

    def structure(self, unit: Unit) -> None:
        self.lines += ["typedef struct {", *(f"    {self.declared(v)};" for v in unit.variables), f"}} T_{unit.name};"]

    def function_block(self, unit: Unit) -> None:
        name = unit.name
        held = [v for v in unit.variables if v.role not in ("constant", "temporary")]
        self.constants(unit)
        self.lines += ["typedef struct {", *(f"    {self.declared(v)};" for v in held), f"}} T_{name};"]
        self.lines += [f"static void {name}_begin(T_{name} *self)", "{", "    memset(self, 0, sizeof *self);"]
        for v in held:
            self.begin(v)
        self.lines += ["}", f"static void {name}_call(T_{name} *self)", "{"]
        self.temporaries(unit)
        self.block(unit.body, 1)
        self.lines.append("}")

    def function(self, unit: Unit) -> None:
        assert unit.returns is not None
        if unit.returns.ranges or unit.returns.name not in C_TYPES:
            raise TextError(
                unit.line, f"{unit.name}: returns {unit.returns}; only elementary types can be returned here"
            )
        self.names[unit.name] = Variable(unit.name, unit.returns, "result", unit.line)
        self.constants(unit)
        given = [v for v in unit.variables if v.role == "input"]
        told = ", ".join(self.declared(v) for v in given) or "void"
        self.lines += [f"static {C_TYPES[unit.returns.name]} {unit.name}_call({told})", "{"]
        self.lines.append(f"    {C_TYPES[unit.returns.name]} v_{unit.name} = 0;")
        self.temporaries(unit, ("local", "temporary", "output"))
        self.block(unit.body, 1)
        self.lines += [f"    return v_{unit.name};", "}"]

    def constants(self, unit: Unit) -> None:
        for v in unit.variables:
            if v.role == "constant":
                self.lines.append(f"static const {self.declared(v, f'c_{unit.name}_{v.name}')} = {self.initial(v)};")

    def temporaries(self, unit: Unit, roles: tuple[str, ...] = ("temporary",)) -> None:
        for v in unit.variables:
            if v.role in roles:
                value = (
                    self.initial(v) if v.initial else "{ 0 }" if v.type.ranges or v.type.name not in C_TYPES else "0"
                )
                self.lines.append(f"    {self.declared(v)} = {value};")

    def declared(self, v: Variable, name: str = "") -> str:
        base = C_TYPES.get(v.type.name)
        if base is None:
            base = f"T_{self.known(v.type, v.line).name}"
        return f"{base} {name or 'v_' + v.name}" + "".join(f"[{b - a + 1}]" for a, b in v.type.ranges)

    def initial(self, v: Variable) -> str:
        if not v.initial:
            raise TextError(v.line, f"{v.name}: a constant needs a value")
        values = [self.as_type(e, v.type.element) for e in v.initial]
        if not v.type.ranges:
            return values[0]
        count = 1
        for low, high in v.type.ranges:
            count *= high - low + 1
        if len(values) != count:
            raise TextError(v.line, f"{v.name}: {len(values)} values for {count} places")
        return self._nested(values, [b - a + 1 for a, b in v.type.ranges])

    def _nested(self, values: list[str], sizes: list[int]) -> str:
        if len(sizes) > 1:
            each = len(values) // sizes[0]
            values = [self._nested(values[k * each : (k + 1) * each], sizes[1:]) for k in range(sizes[0])]
        return "{ " + ", ".join(values) + " }"

    def begin(self, v: Variable) -> None:
        if v.type.name not in C_TYPES and self.known(v.type, v.line).kind == "function_block":
            if v.type.ranges:
                raise TextError(v.line, f"{v.name}: arrays of function blocks are not known here")
            self.lines.append(f"    {v.type.name}_begin(&self->v_{v.name});")
        elif v.initial and not v.type.ranges:
            self.lines.append(f"    self->v_{v.name} = {self.as_type(v.initial[0], v.type)};")
        elif v.initial:
            self.initial(v)
            leaves = self.leaves(f"self->v_{v.name}", v.type, v.line)
            for (path, _), value in zip(leaves, v.initial, strict=True):
                self.lines.append(f"    {path} = {self.as_type(value, v.type.element)};")

    # --- statements

    def block(self, body: tuple[Statement, ...], depth: int) -> None:
        for statement in body:
            self.statement(statement, depth)

    def put(self, depth: int, text: str) -> None:
        self.lines.append("    " * depth + text)

    def statement(self, s: Statement, depth: int) -> None:
        if s.kind == "assign":
            assert s.target is not None and s.value is not None
            place, declared = self.place(s.target, written=True)
            if declared.ranges or declared.name not in C_TYPES:
                source, other = self.place(s.value) if s.value.kind == "name" else ("", Type("?"))
                if other != declared:
                    raise TextError(s.line, f"{s.target.text} is {declared}; what is assigned is of another type")
                self.put(depth, f"memcpy(&{place}, &{source}, sizeof {place});")
            else:
                self.put(depth, f"{place} = {self.as_type(s.value, declared)};")
        elif s.kind == "call":
            self.call_block(s, depth)
        elif s.kind == "if":
            for k, ((condition,), body) in enumerate(s.branches):
                self.put(depth, f"{'} else ' if k else ''}if ({self.as_type(condition, Type('BOOL'))}) {{")
                self.block(body, depth + 1)
            if s.body:
                self.put(depth, "} else {")
                self.block(s.body, depth + 1)
            self.put(depth, "}")
        elif s.kind == "for":
            self.for_(s, depth)
        elif s.kind in ("while", "repeat"):
            assert s.value is not None
            holds = self.as_type(s.value, Type("BOOL"))
            self.put(depth, f"while ({holds}) {{" if s.kind == "while" else "do {")
            self.block(s.body, depth + 1)
            self.put(depth, "}" if s.kind == "while" else f"}} while (!({holds}));")
        elif s.kind == "case":
            self.case(s, depth)
        elif s.kind == "exit":
            self.put(depth, "break;")
        else:
            self.put(depth, f"return{f' v_{self.unit.name}' if self.unit.kind == 'function' else ''};")

    def for_(self, s: Statement, depth: int) -> None:
        assert s.target is not None and s.value is not None
        place, declared = self.place(s.target, written=True)
        if declared.name not in WHOLE:
            raise TextError(s.line, f"{s.target.text}: FOR counts with whole numbers")
        first, last = self.as_type(s.value, declared), self.as_type(s.more[0], declared)
        by = self.as_type(s.more[1], declared) if len(s.more) > 1 else "1"
        down = by.startswith("(-") or by.startswith("-")
        kind = C_TYPES[declared.name]
        self.put(
            depth,
            f"for ({place} = {first}; {place} {'>=' if down else '<='} {last}; {place} = ({kind})({place} + {by})) {{",
        )
        self.block(s.body, depth + 1)
        self.put(depth, "}")

    def case(self, s: Statement, depth: int) -> None:
        assert s.value is not None
        text, kind = self.value(s.value)
        if kind not in WHOLE and kind != "?whole":
            raise TextError(s.line, f"CASE chooses by a whole number, not {kind}")
        for k, (labels, body) in enumerate(s.branches):
            told = " || ".join(f"{text} == {self.as_type(label, Type(kind))}" for label in labels)
            self.put(depth, f"{'} else ' if k else ''}if ({told}) {{")
            self.block(body, depth + 1)
        if s.body:
            self.put(depth, "} else {")
            self.block(s.body, depth + 1)
        self.put(depth, "}")

    def call_block(self, s: Statement, depth: int) -> None:
        assert s.target is not None
        place, declared = self.place(s.target, written=True)
        unit = self.units.get(declared.name)
        if unit is None or unit.kind != "function_block":
            raise TextError(s.line, f"{s.target.text} is no function block")
        inputs = {v.name: v for v in unit.variables if v.role == "input"}
        for name, value in s.arguments:
            if name not in inputs:
                raise TextError(s.line, f"{declared.name} has no input {name}")
            wanted = inputs[name].type
            if wanted.ranges or wanted.name not in C_TYPES:
                source, other = self.place(value) if value.kind == "name" else ("", Type("?"))
                if other != wanted:
                    raise TextError(s.line, f"{name} is {wanted}; what is given is of another type")
                self.put(depth, f"memcpy(&{place}.v_{name}, &{source}, sizeof {place}.v_{name});")
            else:
                self.put(depth, f"{place}.v_{name} = {self.as_type(value, wanted)};")
        self.put(depth, f"{declared.name}_call(&{place});")

    # --- expressions

    def place(self, e: Expression, written: bool = False) -> tuple[str, Type]:
        """A variable in C, and its type."""
        v = self.names.get(e.text)
        if e.kind != "name" or v is None:
            raise TextError(e.line, f"{e.text}: no such variable")
        if written and v.role in ("constant", "input") and not (v.role == "input" and self.unit.kind == "function"):
            raise TextError(
                e.line, f"{e.text} is {'a constant' if v.role == 'constant' else 'an input'} and cannot be assigned"
            )
        text = f"v_{v.name}" if self.unit.kind == "function" or v.role == "temporary" else f"self->v_{v.name}"
        if v.role == "constant":
            text = f"c_{self.unit.name}_{v.name}"
        declared = v.type
        for step in e.path:
            if isinstance(step, str):
                unit = None if declared.ranges or declared.name in C_TYPES else self.known(declared, e.line)
                inner = next((f for f in unit.variables if f.name == step), None) if unit is not None else None
                if inner is None:
                    raise TextError(e.line, f"{declared} has no field {step}")
                text, declared = f"{text}.v_{step}", inner.type
            else:
                if len(step) != len(declared.ranges):
                    raise TextError(e.line, f"{e.text} has {len(declared.ranges)} indices, not {len(step)}")
                for index, (low, high) in zip(step, declared.ranges, strict=True):
                    text += f"[st_index({self.as_type(index, Type('DINT'))}, {low}, {high})]"
                declared = declared.element
        return text, declared

    def as_type(self, e: Expression, wanted: Type) -> str:
        """An expression as a value of an elementary type; only what loses nothing is converted."""
        text, kind = self.value(e)
        if kind == wanted.name:
            return text
        if kind == "?whole" and (wanted.name in WHOLE or wanted.name in BITS):
            return text
        if kind in ("?real", "?whole") and wanted.name in FLOAT:
            return f"(({C_TYPES[wanted.name]}){text})"
        if kind in _ORDER and wanted.name in _ORDER and _ORDER.index(kind) < _ORDER.index(wanted.name):
            return text
        if (kind, wanted.name) == ("REAL", "LREAL"):
            return text
        raise TextError(e.line, f"wanted {wanted.name}, found {kind.lstrip('?')}")

    def value(self, e: Expression) -> tuple[str, str]:
        """An expression in C, and its type; literals without a type are ``?real`` or ``?whole``."""
        if e.kind == "literal":
            return self.literal(e)
        if e.kind == "name":
            text, declared = self.place(e)
            if declared.ranges or declared.name not in C_TYPES:
                raise TextError(e.line, f"{e.text} is {declared}, no single value")
            return text, declared.name
        if e.kind == "unary":
            text, kind = self.value(e.parts[0])
            if (e.text == "NOT") != (kind == "BOOL"):
                raise TextError(e.line, f"{e.text} does not go with {kind.lstrip('?')}")
            return f"({'!' if e.text == 'NOT' else '-'}{text})", kind
        return self.binary(e) if e.kind == "binary" else self.call(e)

    def literal(self, e: Expression) -> tuple[str, str]:
        if e.text in ("TRUE", "FALSE"):
            return e.text.lower(), "BOOL"
        real = "." in e.text or ("E" in e.text.upper() and "#" not in e.text)
        if e.path:
            kind = str(e.path[0])
            if kind not in C_TYPES or (real and kind not in FLOAT):
                raise TextError(e.line, f"{kind}#{e.text} is no literal")
            if kind in FLOAT:
                return f"({C_TYPES[kind]})({e.text})", kind
            return f"(({C_TYPES[kind]})({integer(e.text.lstrip('-')) * (-1 if e.text.startswith('-') else 1)}))", kind
        return (e.text, "?real") if real else (str(integer(e.text)), "?whole")

    def common(self, e: Expression) -> tuple[str, str, str]:
        """Both sides in one type."""
        (a, one), (b, two) = (self.value(part) for part in e.parts)
        if one == two:
            if one == "?real":
                return f"((float){a})", f"((float){b})", "REAL"
            return a, b, one
        for kind in (one, two):
            if not kind.startswith("?"):
                try:
                    return self.as_type(e.parts[0], Type(kind)), self.as_type(e.parts[1], Type(kind)), kind
                except TextError:
                    continue
        raise TextError(e.line, f"{e.text} between {one.lstrip('?')} and {two.lstrip('?')}: convert one of them")

    def binary(self, e: Expression) -> tuple[str, str]:
        a, b, kind = self.common(e)
        if e.text in ("AND", "&", "OR", "XOR"):
            if kind != "BOOL":
                raise TextError(e.line, f"{e.text} goes with BOOL, not {kind}")
            return f"({a} {({'OR': '||', 'XOR': '!='}).get(e.text, '&&')} {b})", "BOOL"
        if e.text in ("=", "<>", "<", ">", "<=", ">="):
            return f"({a} {({'=': '==', '<>': '!='}).get(e.text, e.text)} {b})", "BOOL"
        if kind == "BOOL":
            raise TextError(e.line, f"{e.text} does not go with BOOL")
        if e.text == "**":
            if kind not in FLOAT:
                raise TextError(e.line, "** goes with REAL")
            return f"{'powf' if kind == 'REAL' else 'pow'}({a}, {b})", kind
        whole = kind in WHOLE or kind == "?whole"
        if e.text == "MOD" and not whole:
            raise TextError(e.line, "MOD goes with whole numbers")
        if e.text in ("/", "MOD") and whole:
            inner = f"{'st_divide' if e.text == '/' else 'st_modulo'}({a}, {b})"
            return inner if kind in ("DINT", "?whole") else f"(({C_TYPES[kind]}){inner})", kind
        if whole:  # what overflows wraps, as on a controller
            return f"(({C_TYPES.get(kind, 'int32_t')})((uint32_t)({a}) {e.text} (uint32_t)({b})))", kind
        return f"({a} {e.text} {b})", kind

    def call(self, e: Expression) -> tuple[str, str]:
        name, given = e.text, e.parts
        unit = self.units.get(name)
        if unit is not None and unit.kind == "function":
            wanted = [v for v in unit.variables if v.role == "input"]
            if len(wanted) != len(given):
                raise TextError(e.line, f"{name} takes {len(wanted)} values, not {len(given)}")
            assert unit.returns is not None
            return (
                f"{name}_call({', '.join(self.as_type(g, v.type) for g, v in zip(given, wanted, strict=True))})",
                unit.returns.name,
            )
        kinds = [self.value(g)[1] for g in given]
        kind = next((k for k in kinds if not k.startswith("?")), "REAL" if "?real" in kinds else "DINT")
        if name in ONE_REAL and len(given) == 1:
            kind = kind if kind in FLOAT else "REAL"
            return f"{ONE_REAL[name]}{'f' if kind == 'REAL' else ''}({self.as_type(given[0], Type(kind))})", kind
        if name == "ABS" and len(given) == 1:
            text = self.as_type(given[0], Type(kind))
            return (
                (f"fabs{'f' if kind == 'REAL' else ''}({text})", kind)
                if kind in FLOAT
                else (f"({text} < 0 ? -{text} : {text})", kind)
            )
        if name in ("MIN", "MAX") and len(given) == 2:
            a, b = (self.as_type(g, Type(kind)) for g in given)
            return f"({a} {'<' if name == 'MIN' else '>'} {b} ? {a} : {b})", kind
        if name == "LIMIT" and len(given) == 3:
            low, x, high = (self.as_type(g, Type(kind)) for g in given)
            return f"({x} < {low} ? {low} : ({x} > {high} ? {high} : {x}))", kind
        if name == "SEL" and len(given) == 3:
            kind = next((k for k in kinds[1:] if not k.startswith("?")), "REAL" if "?real" in kinds[1:] else "DINT")
            choose = self.as_type(given[0], Type("BOOL"))
            a, b = (self.as_type(g, Type(kind)) for g in given[1:])
            return f"({choose} ? {b} : {a})", kind
        source, _, target = name.partition("_TO_")
        if target in C_TYPES and source in C_TYPES and len(given) == 1:
            text = self.as_type(given[0], Type(source))
            if source in FLOAT and target in WHOLE:  # to the nearest, halves to even
                text = f"nearbyint({text})"
            return f"(({C_TYPES[target]})({text}))", target
        if name == "EXPT" and len(given) == 2:
            kind = kind if kind in FLOAT else "REAL"
            a, b = (self.as_type(g, Type(kind)) for g in given)
            return f"pow{'f' if kind == 'REAL' else ''}({a}, {b})", kind
        if name == "TRUNC" and len(given) == 1:
            return f"((int32_t)({self.as_type(given[0], Type(kind))}))", "DINT"
        raise TextError(e.line, f"{name} with {len(given)} values: no such function")


def program(translated: Translated) -> str:
    """A C program: rows of numbers (double) for all inputs from standard input, all outputs of each call to standard output.

    Before each row stands another number; where it is not zero the block begins anew.
    """
    name = translated.block
    fill = "\n".join(
        f"        block.{path} = {f'row[{k + 1}] != 0.0' if kind == 'BOOL' else f'({C_TYPES[kind]})row[{k + 1}]'};"
        for k, (path, kind) in enumerate(translated.inputs)
    )
    give = "\n".join(f"        out[{k}] = (double)block.{path};" for k, (path, _) in enumerate(translated.outputs))
    count, results = len(translated.inputs) + 1, max(1, len(translated.outputs))
    return f"""{translated.text}
#include <stdio.h>
int main(void)
{{
    static T_{name} block;
    static double row[{count}], out[{results}];
    {name}_begin(&block);
    while (fread(row, sizeof row[0], {count}, stdin) == {count}) {{
        if (row[0] != 0.0) {{
            {name}_begin(&block);
        }}
{fill}
        {name}_call(&block);
{give}
        fwrite(out, sizeof out[0], {len(translated.outputs)}, stdout);
        fflush(stdout);
    }}
    fprintf(stderr, "%lu\\n", (unsigned long)st_faults);
    return 0;
}}
"""
