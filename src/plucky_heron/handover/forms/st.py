"""IEC 61131-3 Structured Text: a function block with its data types, in one file."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

import numpy as np

from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.numbers import gates_of
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.learning.kernels.layers import LEAK, SPREAD_FLOOR
from plucky_heron.learning.policy import Policy

Array = np.ndarray

BLOCK = "HeronPolicy"
ST_BENDS = {
    "tanh": "HeronTanh(x)", "relu": "MAX(x, 0.0)", "leaky relu": f"MAX(x, {LEAK} * x)", "elu": "SEL(x > 0.0, EXP(MIN(x, 0.0)) - 1.0, x)",
    "silu": "x * HeronGate(x)",
}  # fmt: skip
"""The activations in Structured Text."""
_KEYWORDS = frozenset(
    [
        "ABS",
        "ACTION",
        "AND",
        "ARRAY",
        "ASIN",
        "AT",
        "BOOL",
        "BY",
        "BYTE",
        "CASE",
        "CONSTANT",
        "COS",
        "CONTINUE",
        "DATE",
        "DINT",
        "DO",
        "DWORD",
        "ELSE",
        "ELSIF",
        "END",
        "EXIT",
        "EXP",
        "FALSE",
        "FOR",
        "FUNCTION",
        "IF",
        "INT",
        "LEN",
        "LIMIT",
        "LN",
        "LOG",
        "LREAL",
        "MAX",
        "MIN",
        "MOD",
        "MOVE",
        "MUX",
        "NOT",
        "OF",
        "ON",
        "OR",
        "PROGRAM",
        "REAL",
        "REPEAT",
        "RETAIN",
        "RETURN",
        "SEL",
        "SIN",
        "SINT",
        "SQRT",
        "STEP",
        "STRING",
        "STRUCT",
        "TAN",
        "TASK",
        "THEN",
        "TIME",
        "TO",
        "TRANSITION",
        "TRUE",
        "TRUNC",
        "TYPE",
        "UDINT",
        "UINT",
        "UNTIL",
        "VAR",
        "WHILE",
        "WITH",
        "WORD",
        "XOR",
        "R",
        "S",
        "N",
        "P",
        "L",
        "D",
    ]
)


def identifiers(names: Iterable[str]) -> list[str]:
    """Names as identifiers of the standard: letters, digits and single underscores, no keyword, each once whatever its capitals."""
    found: list[str] = []
    taken: set[str] = set()
    for name in names:
        word = re.sub(r"_+", "_", re.sub(r"[^A-Za-z0-9]+", "_", name)).strip("_") or "signal"
        if not word[0].isalpha():
            word = f"s_{word}"
        if word.upper() in _KEYWORDS:
            word = f"{word}_value"
        word = word[:28].rstrip("_")
        made, number = word, 2
        while made.upper() in taken:
            made, number = f"{word}_{number}", number + 1
        taken.add(made.upper())
        found.append(made)
    return found


def real(value: Any) -> str:
    """A float32 as a literal of type REAL that reads back to the same bits."""
    text = np.format_float_scientific(np.float32(value), unique=True, trim="0", exp_digits=2)
    mantissa, _, exponent = text.partition("e")
    return f"{mantissa if '.' in mantissa else mantissa + '.0'}E{exponent}"


def reals(values: Array) -> Code:
    """A row of REAL literals, a few on a line: some controllers limit the length of lines."""
    told = [real(v) for v in np.asarray(values).ravel()]
    lines = [", ".join(told[k : k + 8]) for k in range(0, len(told), 8)]
    return Code(",\n        ".join(lines))


def to_st(policy: Policy, title: str, inputs: list[Line], outputs: list[Line], sample_time: float) -> str:
    """``policy.st``: structures of sensors and commands, and the function block that makes one from the other."""
    layers: list[dict[str, Any]] = []
    parts = policy.network.layers(policy.parameters)
    for k, (weights, biases, *norm) in enumerate(parts):
        layers.append(
            {
                "inputs": weights.shape[0], "outputs": weights.shape[1], "weights": reals(weights.T), "biases": reals(biases),
                "hidden": k < len(parts) - 1, "norm": [reals(values) for values in norm],
            }
        )  # fmt: skip
    values: dict[str, Any] = {
        "title": title, "inputs": list(zip(inputs, map(Code, identifiers(s.name for s in inputs)), strict=True)),
        "outputs": list(zip(outputs, map(Code, identifiers(s.name for s in outputs)), strict=True)), "sample_time": Code(repr(sample_time)),
        "offset": reals(policy.offset), "scale": reals(policy.scale), "limit": Code(real(policy.limit)), "layers": layers, "widest": max(policy.sizes),
        "bend": Code(ST_BENDS[policy.activation]), "floor": Code(real(SPREAD_FLOOR)), "squashed": policy.squashed, "normalised": policy.normalised,
        "middle": reals(policy.middle if policy.base is None else policy.base[:, -1]), "half": reals(policy.half), "low": reals(policy.low), "high": reals(policy.high),
        "base": None if policy.base is None else reals(policy.base[:, :-1]), "memory": policy.memory,
    }  # fmt: skip
    if policy.memory:
        weights, biases, own_weights, own_biases = gates_of(policy)
        values |= {
            "gates": reals(weights.T), "gate_biases": reals(biases), "own_gates": reals(own_weights.T), "own_biases": reals(own_biases),
        }  # fmt: skip
    return templates().get_template("policy.st.j2").render(values)
