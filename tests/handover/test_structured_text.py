"""The translator of Structured Text, by programs written by hand and what they have to give."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.structured_text.syntax import TextError, tokens_of
from plucky_heron.handover.structured_text.translate import program, translate

STRICT = ("-std=c99", "-Wall", "-Wno-unused-function", "-Wno-unused-const-variable", "-Werror", "-O1", "-fsanitize=undefined,address", "-fno-sanitize-recover=all")  # fmt: skip


def run(
    text: str, rows: Sequence[Sequence[float]], folder: Path, block: str = "Main", compiled: tuple[str, ...] = STRICT
) -> list[list[float]]:
    """Outputs of a function block for rows of inputs, the first number of each saying whether it begins anew."""
    translated = translate(text, block)
    (folder / "text.c").write_text(program(translated))
    built = compile_c(folder, ["text.c"], "text", compiled)
    out = subprocess.run(
        [str(built)], input=np.array(rows, dtype=float).tobytes(), capture_output=True, check=True, timeout=20
    )
    return np.frombuffer(out.stdout, dtype=float).reshape(len(rows), -1).tolist()


def block(declared: str, body: str, before: str = "") -> str:
    """A function block around declarations and statements."""
    return f"{before}\nFUNCTION_BLOCK Main\n{declared}\n{body}\nEND_FUNCTION_BLOCK\n"


def test_state_is_kept_from_call_to_call_and_begins_anew(tmp_path: Path) -> None:
    text = block(
        "VAR_INPUT x : REAL; END_VAR VAR_OUTPUT total : REAL; calls : DINT; END_VAR VAR last : REAL := 0.5; END_VAR",
        "total := total + x * last; last := x; calls := calls + 1;",
    )
    assert run(text, [[0, 2], [0, 3], [1, 4]], tmp_path) == [[1.0, 1], [7.0, 2], [2.0, 1]]


def test_statements(tmp_path: Path) -> None:
    text = block(
        "VAR_INPUT n : DINT; END_VAR VAR_OUTPUT sum, first, evens, word : DINT; END_VAR VAR i : DINT; END_VAR",
        """
        sum := 0; evens := 0; first := -1; word := 0;
        FOR i := 1 TO n DO sum := sum + i; END_FOR;
        FOR i := n TO 0 BY -2 DO evens := evens + 1; IF evens > 10 THEN EXIT; END_IF; END_FOR;
        i := 0;
        WHILE i < n DO i := i + 3; END_WHILE;
        first := i;
        REPEAT i := i - 1; UNTIL i <= 0 END_REPEAT;
        CASE n OF
            0: word := 100;
            1, 2: word := 200; (* two labels *)
            -3: word := 300;
        ELSE
            IF n > 50 THEN word := 1; ELSIF n > 5 THEN word := 2; ELSE word := 3; END_IF;
        END_CASE;
        """,
    )
    rows = [[0, n] for n in (0, 1, 2, 4, 7, 60, -3)]
    expected = [[n * (n + 1) // 2 if n > 0 else 0, 0, 0, 0] for n in (0, 1, 2, 4, 7, 60, -3)]
    for row, n in zip(expected, (0, 1, 2, 4, 7, 60, -3), strict=True):
        row[1] = -(-n // 3) * 3 if n > 0 else 0
        row[2] = min(11, n // 2 + 1) if n >= 0 else 0
        row[3] = {0: 100, 1: 200, 2: 200, 4: 3, 7: 2, 60: 1, -3: 300}[n]
    assert run(text, rows, tmp_path) == expected


@pytest.mark.parametrize(
    ("expression", "value"),
    [
        ("2.0 + 3.0 * 4.0 ** 2.0", 50.0), ("-(1.0 - 3.0)", 2.0), ("7.0 / 2.0", 3.5), ("DINT_TO_REAL(7 / 2)", 3.0), ("DINT_TO_REAL(-7 MOD 4)", -3.0),
        ("SEL(1 = 1, 3.0, 4.0)", 4.0), ("LIMIT(-1.0, 5.0, 2.0)", 2.0), ("MIN(2.0, -3.0) + MAX(2, 3.0)", 0.0), ("EXP(LN(3.0))", 3.0),
        ("SQRT(ABS(-16.0))", 4.0), ("DINT_TO_REAL(REAL_TO_DINT(2.5)) + DINT_TO_REAL(TRUNC(-2.7))", 0.0), ("SEL(NOT TRUE OR (1 < 2 AND 2.0 >= 2.0) XOR FALSE, 0.0, 1.0)", 1.0),
        ("DINT_TO_REAL(16#FF + 2#101)", 260.0), ("REAL#1.5 + 1E1", 11.5), ("1_000.5", 1000.5), ("DINT_TO_REAL(2147483647 + 1)", -2147483648.0), ("SIN(0.0) + COS(0.0)", 1.0),
    ],
)  # fmt: skip
def test_expressions(expression: str, value: float, tmp_path: Path) -> None:
    found = run(block("VAR_OUTPUT y : REAL; END_VAR", f"y := {expression};"), [[0]], tmp_path)
    assert found == [[pytest.approx(value, rel=1e-6)]]


def test_structures_arrays_functions_and_blocks_within_blocks(tmp_path: Path) -> None:
    text = """
    TYPE Pair : STRUCT left : REAL; right : ARRAY [1..2] OF REAL; END_STRUCT; END_TYPE
    FUNCTION Twice : REAL VAR_INPUT x : REAL; END_VAR VAR CONSTANT two : REAL := 2.0; END_VAR Twice := two * x; END_FUNCTION
    FUNCTION_BLOCK Lag
    VAR_INPUT x : REAL; END_VAR VAR_OUTPUT y : REAL := 10.0; END_VAR
    y := y + 0.5 * (x - y);
    END_FUNCTION_BLOCK
    FUNCTION_BLOCK Main
    VAR_INPUT given : Pair; END_VAR
    VAR_OUTPUT made : Pair; lagged : REAL; END_VAR
    VAR CONSTANT table : ARRAY [-1..1, 0..1] OF REAL := [1.0, 2.0, 2(3.0), 5.0, 6.0]; END_VAR
    VAR lag : Lag; copy : Pair; k : DINT; END_VAR
    copy := given;
    made.left := Twice(copy.left) + table[-1, 1] + table[1, 0];
    FOR k := 1 TO 2 DO made.right[k] := copy.right[3 - k] + table[0, k - 1]; END_FOR;
    lag(x := copy.left);
    lagged := lag.y;
    END_FUNCTION_BLOCK
    """
    assert run(text, [[0, 1, 2, 3], [0, 1, 2, 3]], tmp_path) == [[9, 6, 5, 5.5], [9, 6, 5, 3.25]]


def test_an_index_outside_its_array_is_held_within_and_counted(tmp_path: Path) -> None:
    text = block(
        "VAR_INPUT k : DINT; END_VAR VAR_OUTPUT y : REAL; END_VAR VAR a : ARRAY [1..3] OF REAL := [1.0, 2.0, 3.0]; END_VAR",
        "y := a[k];",
    )
    assert run(text, [[0, -5], [0, 2], [0, 2_000_000]], tmp_path) == [[1.0], [2.0], [3.0]]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (block("VAR x : REAL; END_VAR", "x := 1;\n y := 2.0;"), "Y: no such variable"),
        (block("VAR x : REAL; k : DINT; END_VAR", "x := k;"), "wanted REAL, found DINT"),
        (block("VAR x : REAL; k : DINT; END_VAR", "x := x + k;"), "convert one of them"),
        (block("VAR k : DINT; END_VAR", "IF k THEN END_IF;"), "wanted BOOL, found DINT"),
        (block("VAR CONSTANT x : REAL := 1.0; END_VAR", "x := 2.0;"), "constant and cannot be assigned"),
        (block("VAR_INPUT x : REAL; END_VAR", "x := 2.0;"), "input and cannot be assigned"),
        (block("VAR a : ARRAY [0..2] OF REAL; END_VAR", "a[0, 1] := 2.0;"), "1 indices, not 2"),
        (block("VAR CONSTANT a : ARRAY [0..2] OF REAL := [1.0]; END_VAR", ""), "1 values for 3 places"),
        (block("VAR x : Thing; END_VAR", ""), "THING: no such type"),
        (block("VAR x : REAL; END_VAR", "x := FOO(1.0);"), "FOO with 1 values: no such function"),
        (block("VAR x : REAL; END_VAR", "x := 1.0"), "wanted ;"),
        (block("VAR x : REAL; END_VAR", "IF x > 1.0 THEN x := 0.0;"), "wanted"),
        (block("VAR x : REAL; x : DINT; END_VAR", ""), "declared twice"),
        (block("VAR x : REAL; END_VAR", "x := system('ls');"), "means nothing here"),
        ("PROGRAM Main END_PROGRAM", "wanted TYPE, FUNCTION or FUNCTION_BLOCK"), ("", "no function block MAIN"),
    ],
)  # fmt: skip
def test_what_the_standard_does_not_allow_is_named_with_its_line(text: str, said: str) -> None:
    with pytest.raises(TextError, match=said):
        translate(text, "Main")


@settings(max_examples=300, deadline=None)
@given(st.text(alphabet="VARENDFUIOX_ :=;()[].0123456789+-*\n'\"{}#abc", max_size=300))
def test_no_text_brings_anything_but_an_answer(text: str) -> None:
    try:
        tokens_of(text)
        translate(text, "Main")
    except TextError as error:
        assert str(error).startswith("line ")
