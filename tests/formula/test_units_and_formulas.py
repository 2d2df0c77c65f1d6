"""Quantities and the formula language: right values, right errors, and no input that gets through to Python."""

from __future__ import annotations

import ast
import math
import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from plucky_heron.errors import FormulaError, HeronError, UnitError
from plucky_heron.formula import FUNCTIONS, Program, evaluate_once, parse_formula
from plucky_heron.formula.hints import hint
from plucky_heron.units import how_often, parse, short_time, show, si_unit, unit_dimension, whole_number

SIGNALS = {"offset": "m", "cable.angle": "rad", "drift": "m/s", "beam[3]": "m", "action.push": "N", "time": "s"}


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("2 kN", "N", 2000.0), ("9.81/2", "m", 4.905), ("30 deg", "rad", math.pi / 6), ("95 %", "", 0.95),
        ("-3", "kg", -3.0), ("50 Hz", "1/s", 50.0), ("5 cm/s", "m/s", 0.05), ("1e-3", "m", 1e-3), ("2 * 3 m", "m", 6.0),
    ],
)  # fmt: skip
def test_quantities_are_read_in_si(text: str, unit: str, value: float) -> None:
    assert parse(text, unit) == pytest.approx(value)


@pytest.mark.parametrize("text", ["1 m", "nan", "__import__('os')", "9**9**9", "", "1 furlongish", "inf kg", "5 kg m"])
def test_wrong_quantities_name_what_would_be_right(text: str) -> None:
    with pytest.raises(UnitError, match="kg"):
        parse(text, "kg")


def test_whole_numbers_are_told_from_all_else() -> None:
    assert [whole_number(t) for t in ("12", " -3 ", "+7", "−4", "0")] == [12, -3, 7, -4, 0]
    assert {whole_number(t) for t in ("", "2.0", "²", "٣", "1e3", "--3", "3 m", "1_000", "9" * 16)} == {None}


def test_large_and_small_numbers_read_as_in_print() -> None:
    assert show(1.5e6, "N") == "1.5·10⁶ N" and show(-4.2e-5, "m") == "−4.2·10⁻⁵ m" and show(2.5, "m") == "2.50 m"
    assert [short_time(t) for t in (0.0, 2e-5, 0.02, 0.9996, 1.0, 2.5)] == [
        "0 s",
        "0.02 ms",
        "20 ms",
        "1 s",
        "1 s",
        "2.5 s",
    ]
    assert [how_often(r) for r in (50.0, 1.0, 0.5)] == ["50 times a second", "once a second", "every 2 s"]


def test_units_know_their_si_form() -> None:
    assert si_unit("deg/s") == "rad/s"
    assert unit_dimension("N*m") == (1, 2, -2, 0)
    assert show(-1.374, "m") == "−1.37 m"
    with pytest.raises(UnitError):
        unit_dimension("A")


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("offset + 2", 2.5), ("-offset**2", -0.25), ("near(offset, 0.5)", math.exp(-1.0)), ("inside(offset, 0, 1)", 1.0),
        ("1 if offset < 0.2 else 7", 7.0), ("0.2 < offset < 0.6", 1.0), ("not offset", 0.0), ("offset > 1 or drift > 1", 1.0),
        ("norm(offset, 1.2)", 1.3), ("clip(drift, -1, 1)", 1.0), ("max(offset, 0.1, 0.7)", 0.7), ("wrap(cable.angle + 2*pi)", 0.25),
        ("where(offset > 1, 1, 2)", 2.0), ("sin(cable.angle)", math.sin(0.25)), ("beam[3] % 2", 1.0), ("atan2(offset, offset)", math.pi / 4),
    ],
)  # fmt: skip
def test_formulas_compute(text: str, expected: float) -> None:
    values = {"offset": 0.5, "cable.angle": 0.25, "drift": 2.0, "beam[3]": 3.0}
    assert evaluate_once(parse_formula(text, SIGNALS), values) == pytest.approx(expected)


@pytest.mark.parametrize(
    ("text", "column", "words"),
    [
        ("offset + cable.angle", 10, "rad"), ("cabel.angle", 1, "cable.angle"), ("sin(offset)", 5, "angle"), ("near(1)", 1, "2 arguments"),
        ("offset +", 9, "cannot be read"), ("(lambda: 1)()", 8, "cannot be read"), ("[1, 2]", 1, "list of 2"), ("open('x')", 1, "not a function"),
        ("offset.__class__", 1, "unknown name"), ("  offset < cable.angle", 12, "rad"), ("'a'", 1, "not a number"), ("offset if 1", 1, "cannot"),
        ("max(*offset)", 1, "plain"), ("offset := 3", 8, "cannot"), ("~offset", 1, "not part"), ("1e999", 1, "too large"),
    ],
)  # fmt: skip
def test_formula_errors_carry_the_column(text: str, column: int, words: str) -> None:
    with pytest.raises(FormulaError) as caught:
        parse_formula(text, SIGNALS)
    assert caught.value.column == column
    assert words in str(caught.value)


def test_result_unit_is_checked() -> None:
    parse_formula("drift * time", SIGNALS, "m")
    with pytest.raises(FormulaError, match="wanted m"):
        parse_formula("drift", SIGNALS, "m")


def test_common_parts_are_computed_once() -> None:
    offset = np.linspace(-1, 1, 5)
    formulas = [
        parse_formula(t, SIGNALS) for t in ("near(offset, 0.3)", "2 * near(offset, 0.3)", "near(offset, 0.3) + 1")
    ]
    program = Program(formulas, {"offset": offset}, 5)
    alone = Program(formulas[:1], {"offset": offset}, 5)
    assert len(program._steps) == len(alone._steps) + 4  # one product, one sum, two results
    offset += 0.1  # bound in place
    np.testing.assert_allclose(program.run()[1], 2 * np.exp(-((offset / 0.3) ** 2)))


_NAMES = st.sampled_from([*SIGNALS, *FUNCTIONS, "pi", "x", "__import__", "os.system"])
_PIECES = st.one_of(
    _NAMES,
    st.sampled_from([*"+-*/%()<>=,[]{}:.~@!&|^ ", "**", "==", " and ", " if ", " else ", "lambda "]),
    st.integers().map(str),
)


@settings(max_examples=400, deadline=None)
@given(st.one_of(st.text(max_size=60), st.lists(_PIECES, max_size=25).map("".join)))
def test_no_text_crashes_the_formula_language(text: str) -> None:
    """Whatever is typed is either a formula, whose value is a number, or one clear error."""
    try:
        expression = parse_formula(text, SIGNALS)
    except FormulaError as error:
        assert error.column >= 1
        return
    assert isinstance(evaluate_once(expression, dict.fromkeys(SIGNALS, 0.5)), float)


@settings(max_examples=200, deadline=None)
@given(st.text(max_size=40))
def test_no_text_crashes_the_quantity_reader(text: str) -> None:
    try:
        assert math.isfinite(parse(text, "m"))
    except HeronError:
        return


def test_deep_and_long_formulas_are_refused() -> None:
    with pytest.raises(FormulaError, match="deep"):
        parse_formula("-" * 100 + "1", SIGNALS)
    with pytest.raises(FormulaError, match="longer"):
        parse_formula("1 + " * 400 + "1", SIGNALS)


@settings(max_examples=200, deadline=None)
@given(st.floats(-1e6, 1e6, allow_nan=False), st.sampled_from(["m", "N", "rad", "kg", "m/s", "N*s/m"]))
def test_what_is_written_with_its_unit_is_read_back(value: float, unit: str) -> None:
    assert parse(f"{value!r} {unit}", unit) == pytest.approx(value, rel=1e-12)


_SIMPLE = st.recursive(
    st.one_of(st.sampled_from(["offset", "drift", "time"]), st.floats(0.1, 9.0).map(lambda x: f"{x:.3f}")),
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["+", "-", "*"]), inner).map(lambda p: f"({p[0]} {p[1]} {p[2]})"),
        inner.map(lambda x: f"-{x}"),
        st.tuples(inner, inner).map(lambda p: f"max({p[0]}, {p[1]})"),
        st.tuples(inner, inner).map(lambda p: f"({p[0]} if {p[1]} > 1 else 2)"),
    ),
    max_leaves=12,
)


@settings(max_examples=150, deadline=None)
@given(_SIMPLE, st.tuples(*[st.floats(-3, 3)] * 3))
def test_formulas_mean_what_python_means(text: str, values: tuple[float, float, float]) -> None:
    """Random expressions without units against Python's own arithmetic."""
    names = dict(zip(("offset", "drift", "time"), values, strict=True))
    found = evaluate_once(parse_formula(text, dict.fromkeys(names, "")), names)
    wanted = _python(compile(text, "test", "eval", flags=0x400), names)
    assert found == pytest.approx(wanted, rel=1e-9, abs=1e-9)


def _python(tree: ast.AST, names: dict[str, float]) -> float:
    """A second, independent interpreter of the same grammar."""
    match tree:
        case ast.Expression(body=body):
            return _python(body, names)
        case ast.Constant(value=int() | float() as value):
            return float(value)
        case ast.Name(id=name):
            return names[name]
        case ast.UnaryOp(operand=inner):
            return -_python(inner, names)
        case ast.BinOp(left=left, op=op, right=right):
            a, b = _python(left, names), _python(right, names)
            return a + b if isinstance(op, ast.Add) else a - b if isinstance(op, ast.Sub) else a * b
        case ast.Call(args=args):
            return max(_python(a, names) for a in args)
        case ast.IfExp(test=ast.Compare(left=left), body=yes, orelse=no):
            return _python(yes if _python(left, names) > 1 else no, names)
    raise AssertionError(tree)


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("arm.angle < 180 deg", "write 3.14159 for 180 deg"), ("x < 10cm and x > 0", "write 0.1 for 10 cm"), ("x < 2.5e2 mm", "write 0.25 for"), ("x < 5 m/s", "write 5 for 5 m/s"),
        ("arm.angle < 90°", "write 1.5708 for 90 °"), ("x^2", "write **"), ("x < 1 || x > 2", "write or"), ("x < 1 && x > 2", "write and"), ("!(x < 1)", "write not"),
        ("x = 1", "write =="), ("|x| < 1", "write abs"), ("abs(x", "a bracket is not closed"), ("abs(x))", "not opened"), ("2x", "write 2 * "), ("3 (x + 1) x", "write 3 * "),
        ("if(x > 1, 2, 3)", "write where"), ("x > 1 ? 2 : 3", "if condition else"), ("1,5 * x", "write a point"), ("x × 2", "write *"), ("x²", "write ** 2"),
        ("x ≤ 2", "write <="), ("−x", "write -"),
    ],
)  # fmt: skip
def test_ways_of_other_languages_are_answered_with_ours(text: str, wanted: str) -> None:
    with pytest.raises(FormulaError, match=re.escape(wanted)):
        parse_formula(text, {"arm.angle": "rad", "x": "m"})


@pytest.mark.parametrize("text", ["x + ", "x ** ** 2", "and", "x 1e", "))((", "'10 cm'", "x.'y'"])
def test_where_nothing_is_known_the_column_alone_is_said(text: str) -> None:
    with pytest.raises(FormulaError) as caught:
        parse_formula(text, {"x": "m"})
    assert "column" in str(caught.value)


@given(st.text(max_size=60))
def test_a_hint_is_one_short_line_for_any_text(text: str) -> None:
    said = hint(text)
    assert "\\n" not in said and len(said) < 200
