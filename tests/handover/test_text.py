"""No text of a task leaves a comment or a string of what is generated."""

from __future__ import annotations

import itertools
import re
import subprocess
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plucky_heron.handover.forms.c99 import to_c
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.text import plain_text
from plucky_heron.learning.network import Network
from plucky_heron.learning.policy import Policy

NASTY = st.text(alphabet=st.sampled_from([*"*/\\?()\"'`#${}<>!-\n\r\t \u2028\0ab°µ\u202e☃"]), max_size=60) | st.text(
    max_size=60
)


@given(NASTY)
def test_the_alphabet_holds_nothing_that_ends_a_comment_or_a_string(text: str) -> None:
    plain = plain_text(text)
    assert re.fullmatch(r"[A-Za-z0-9 _.,:;+\-*/()\[\]=%<>]{0,200}", plain)
    assert not re.search(r"\*/|/\*|//|\(\*|\*\)|--|->|<!|</|<[A-Za-z]|\?\?", plain)
    assert plain_text(plain) == plain


@pytest.mark.parametrize(
    ("text", "plain"), [("N*m/s", "N*m/s"), ("30 °C", "30 deg C"), ("m/s²", "m/s2"), ("*\\/", "* /"), ("a ?? / b", "a / b"), ("µ ± 5 %", "u +- 5 %")]
)  # fmt: skip
def test_units_and_words_stay_readable(text: str, plain: str) -> None:
    assert plain_text(text) == plain


def small_policy() -> Policy:
    """A policy of two inputs and one output."""
    network = Network((2, 3, 1), "tanh")
    one = np.ones(2, np.float32)
    return Policy((2, 3, 1), "tanh", np.zeros(network.count, np.float32), one, one, 3.0, -one[:1], one[:1])


ATTACKS = (
    "*/ int evil = 1; /*", "*\\/ int evil = 1; /\\*", "*\\\n/ int evil;", "*??/\n/ int evil;", "\\", "//", "/* /* */", "*)\n evil (*", '"; int evil; "', "\u2028*/evil",
    "}} {{ 7*7 }} {% raw %}", "#define evil", "\r\n*/evil/*", "＊／evil", "*\u200b/evil",
)  # fmt: skip


def test_attacks_through_every_text_compile_to_nothing(tmp_path: Path) -> None:
    inputs = [Line(a, b, -1.0, 1.0, a) for a, b in itertools.pairwise(ATTACKS[:3])]
    for number, attack in enumerate(ATTACKS):
        place = tmp_path / str(number)
        place.mkdir()
        files = to_c(small_policy(), attack, inputs, [Line(attack, attack, -1.0, 1.0, attack)], 0.02)
        for name, text in files.items():
            (place / name).write_text(text)
            code = re.sub(r"/\*.*?\*/", "", text, flags=re.DOTALL)
            assert "evil" not in code and "{{" not in text
        done = subprocess.run(
            ["gcc", "-std=c99", "-trigraphs", "-Wall", "-Wextra", "-Werror", "-c", "policy.c"],
            cwd=place,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, done.stderr
