"""What to write instead of what a formula does not know: the ways of other languages, units behind numbers, open brackets."""

from __future__ import annotations

import re

from plucky_heron.errors import UnitError
from plucky_heron.units import parse

_BASES = ("rad", "m", "s", "kg", "N", "N*m", "m/s", "rad/s", "m/s**2", "Hz", "Pa", "W", "J")
"""Units that a quantity in a formula is likely to be of."""
_QUANTITY = re.compile(
    r"(?<![\w.])((?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*(°|[A-Za-zµ°]+(?:\s*/\s*[A-Za-z]+(?:\*\*\d)?)?)(?![\w(.])"
)
_WORDS = ("and", "or", "not", "if", "else", "in", "is")
_OTHER = (
    (re.compile(r"\^"), "write ** for a power"),
    (re.compile(r"\|\|"), "write or"),
    (re.compile(r"&&|&"), "write and"),
    (re.compile(r"!(?!=)"), "write not"),
    (re.compile(r"\bif\s*\("), "write where(condition, a, b)"),
    (re.compile(r"\?"), "write: this if condition else that"),
    (re.compile(r"\|[^|]*\|"), "write abs(…)"),
    (re.compile(r"\|"), "write or"),
    (re.compile(r"(?<![<>=!])=(?!=)"), "write == to compare"),
    (re.compile(r"[×·⋅]"), "write *"),
    (re.compile(r"÷"), "write /"),
    (re.compile(r"[²³]"), "write ** 2 or ** 3 for a power"),
    (re.compile(r"≤|≥|≠"), "write <=, >= or !="),
    (re.compile(r"√"), "write sqrt(…)"),
    (re.compile(r"[−–]"), "write - for minus"),
    (re.compile(r"(?<![\w.])\d+,\d+(?![\w(])"), "write a point in numbers: 0.5"),
)  # fmt: skip
_PRODUCT = re.compile(r"(?<![\w.])(\d+\.?\d*)\s*(?=[A-Za-z_(])")


SIGNS = {
    "bitxor": "^", "bitor": "|", "bitand": "&", "tuple": "a comma", "lshift": "<<", "rshift": ">>", "floordiv": "//", "matmult": "@",
    "list": "a list in brackets", "dict": "a brace", "set": "a brace", "namedexpr": ":=", "in": "in", "notin": "not in",
}  # fmt: skip
"""Parts of the grammar that formulas do not have, as they are written."""


def hint(text: str) -> str:
    """What to write instead, for a formula that cannot be read; empty where nothing is known of it."""
    outside = re.sub(r"'[^']*'|\"[^\"]*\"", lambda m: " " * len(m[0]), text)
    for found in _QUANTITY.finditer(outside):
        said = _in_base_units(found[1], found[2])
        if said:
            return said
    for pattern, words in _OTHER:
        if pattern.search(outside):
            return words
    if outside.count("(") != outside.count(")"):
        more = outside.count("(") > outside.count(")")
        return "a bracket is not closed" if more else "a bracket is closed that was not opened"
    product = _PRODUCT.search(outside)
    if product and not re.match(r"[eE]\d", outside[product.end() :]):
        return f"write {product[1]} * …"
    return ""


def _in_base_units(number: str, unit: str) -> str:
    """What a number with a unit is in the unit that formulas count in, as an instruction."""
    if unit in _WORDS:
        return ""
    for base in _BASES:
        try:
            value = parse(f"{number} {unit}", base)
        except UnitError:
            continue
        written = f"{value:.6g}"
        return f"numbers in formulas are in SI units without their names: write {written} for {number} {unit}"
    return ""
