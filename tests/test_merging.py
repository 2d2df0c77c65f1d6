"""Two changes of one text: both stay, or neither is written."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from plucky_heron.merging import merged

LINES = st.lists(st.sampled_from(["a\n", "b\n", "c = 1\n", "\n", "d"]), max_size=12).map("".join)


@given(LINES, LINES)
def test_where_only_one_changed_the_change_is_taken(base: str, other: str) -> None:
    assert merged(base, other, base) == other
    assert merged(base, base, other) == other
    assert merged(base, other, other) == other


@given(LINES, LINES, LINES)
def test_it_does_not_matter_who_came_first(base: str, one: str, two: str) -> None:
    assert merged(base, one, two) == merged(base, two, one)


def test_changes_apart_both_stay_and_of_one_line_neither() -> None:
    base = "a\nb\nc\nd\ne\n"
    assert merged(base, base.replace("a", "A"), base.replace("e", "E")) == "A\nb\nc\nd\nE\n"
    assert merged(base, base.replace("c", "X"), base.replace("c", "Y")) is None
    assert merged(base, base.replace("c\n", ""), base.replace("c", "Y")) is None
