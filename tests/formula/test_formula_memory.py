"""Lists and memory of the formula language, against plain loops."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import lfilter, medfilt

from plucky_heron.errors import FormulaError
from plucky_heron.formula import FUNCTIONS, Program, parse_formula
from plucky_heron.formula.functions import MEMORY

SIGNALS = {
    "x": "m", "turn": "rad", "beam[0]": "m", "beam[1]": "m", "beam[2]": "m", "hull.x": "m", "hull.y": "m", "hull.z": "m",
    "mark.x": "m", "mark.y": "m", "mark.z": "m", "time": "s",
}  # fmt: skip
STEP = 0.1


def history(text: str, rows: dict[str, list[float]], fresh_at: tuple[int, ...] = ()) -> np.ndarray:
    """Values of a formula while its signals go through `rows`, (T, numbers); at `fresh_at` an episode begins."""
    names = {name: np.zeros(1) for name in SIGNALS}
    program = Program([parse_formula(text, SIGNALS, lists=True)], names, 1, sample_time=STEP)
    found = []
    for k in range(len(next(iter(rows.values())))):
        for name, values in rows.items():
            names[name][0] = values[k]
        found.append(program.run(fresh=np.array([0]) if k in fresh_at else None)[:, 0].copy())
    return np.array(found)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("beam", [1.0, 2.0, 3.0]), ("2 * beam + x", [2.5, 4.5, 6.5]), ("sum(beam)", [6.0]), ("mean(beam)", [2.0]), ("min(beam)", [1.0]),
        ("max(beam[0:2])", [2.0]), ("norm(hull - mark)", [3.0]), ("beam[1:]", [2.0, 3.0]), ("[sin(turn), cos(turn)]", [0.0, 1.0]),
        ("sum(beam * beam)", [14.0]), ("max(beam, 2)", [2.0, 2.0, 3.0]), ("(beam * 2)[1]", [4.0]), ("sum(near(beam - 1, 1) > 0.9)", [1.0]),
    ],
)  # fmt: skip
def test_lists_are_computed_item_by_item(text: str, expected: list[float]) -> None:
    rows = {
        "x": [0.5],
        "beam[0]": [1.0],
        "beam[1]": [2.0],
        "beam[2]": [3.0],
        "hull.x": [1.0],
        "hull.y": [2.0],
        "hull.z": [2.0],
    }
    np.testing.assert_allclose(history(text, rows)[0], expected)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("beam", "list of 3"), ("beam + [1, 2]", "3 numbers do not go together"), ("sum(x)", "takes a list"), ("beam[4:9]", "0 .. 3"),
        ("previous(2)", "says nothing"), ("[beam, 1]", "not lists"), ("beam[x]", "signals"), ("clearance(x, hull)", "no body"),
        ("rate(x) + x", "beside"),
    ],
)  # fmt: skip
def test_wrong_lists_and_memories_say_why(text: str, words: str) -> None:
    with pytest.raises(FormulaError, match=words):
        parse_formula(text, SIGNALS)


SERIES = st.lists(st.floats(-3.0, 3.0), min_size=2, max_size=12)


@settings(max_examples=60, deadline=None)
@given(SERIES)
def test_memory_means_what_a_loop_over_the_episode_means(values: list[float]) -> None:
    rows = {"x": values}
    x = np.array(values)
    before = np.concatenate([x[:1], x[:-1]])
    np.testing.assert_allclose(history("previous(x)", rows)[:, 0], before)
    np.testing.assert_allclose(history("rate(x)", rows)[:, 0], (x - before) / STEP)
    np.testing.assert_allclose(history("highest(x)", rows)[:, 0], np.maximum.accumulate(x))
    np.testing.assert_allclose(history("lowest(x)", rows)[:, 0], np.minimum.accumulate(x))
    np.testing.assert_allclose(history("total(x)", rows)[:, 0], np.cumsum(np.concatenate([[0], x[1:]])), atol=1e-12)
    np.testing.assert_allclose(
        history("integral(x)", rows)[:, 0], STEP * np.cumsum(np.concatenate([[0], x[1:]])), atol=1e-12
    )
    on = x > 0
    began = on & ~np.concatenate([on[:1], on[:-1]])
    np.testing.assert_array_equal(history("becomes(x > 0)", rows)[:, 0], began)
    since, clock = [0.0], 0.0
    for now in on[1:]:
        clock = 0.0 if now else clock + STEP
        since.append(clock)
    np.testing.assert_allclose(history("since(x > 0)", rows)[:, 0], since, atol=1e-12)


def test_memory_of_a_new_episode_is_empty() -> None:
    rows = {"x": [5.0, 7.0, 1.0, 2.0]}
    np.testing.assert_allclose(history("highest(x)", rows, fresh_at=(2,))[:, 0], [5, 7, 1, 2])
    np.testing.assert_allclose(history("rate(x)", rows, fresh_at=(2,))[:, 0], [0, 20, 0, 10])
    np.testing.assert_allclose(history("total(x)", rows, fresh_at=(2,))[:, 0], [0, 7, 0, 2])


def test_an_angle_changes_the_short_way_round() -> None:
    rows = {"turn": [3.1, -3.1]}
    assert history("rate(turn)", rows)[1, 0] == pytest.approx((2 * np.pi - 6.2) / STEP)


def test_running_again_changes_nothing_and_what_is_kept_goes_on() -> None:
    signals = {"x": np.array([1.0, 2.0])}
    asked = {"becomes": "x > 2", "since": "x > 2", "low_pass": "x, 0.3", "complementary": "x, x * 0.5, 0.3"}
    text = [parse_formula(f"{name}({asked.get(name, 'x')})", SIGNALS) for name in MEMORY]
    program, other = Program(text, signals, 2, sample_time=STEP), Program(text, signals, 2, sample_time=STEP)
    program.run()
    signals["x"] += 1.5
    first = program.run().copy()
    np.testing.assert_array_equal(program.run(again=True), first)
    other.restore(program.keep())
    np.testing.assert_array_equal(other.run(again=True), first)
    signals["x"] -= 4.0
    np.testing.assert_array_equal(other.run(), program.run())


def test_estimators_against_filters_that_are_known() -> None:
    rng = np.random.default_rng(3)
    x = rng.normal(size=60).cumsum()
    share = 1.0 - np.exp(-STEP / 0.35)
    wanted, _ = lfilter([share], [1.0, share - 1.0], x, zi=[(1.0 - share) * x[0]])
    np.testing.assert_allclose(history("low_pass(x, 0.35)", {"x": list(x)})[:, 0], wanted, rtol=1e-12)
    middle = history("median(x)", {"x": list(x)})[:, 0]
    np.testing.assert_array_equal(middle[2:], medfilt(x, 3)[1:-1])
    assert middle[0] == x[0] and middle[1] == x[0]  # the start counts as if it had been there before
    again = history("low_pass(x, 0.35)", {"x": list(x)}, fresh_at=(30,))[:, 0]
    np.testing.assert_array_equal(again[:30], wanted_of(x[:30]))
    np.testing.assert_array_equal(again[30:], wanted_of(x[30:]))
    turning = np.arange(80) * 0.3
    turn = (turning + np.pi) % (2 * np.pi) - np.pi  # goes over half a turn: the estimate follows the short way
    lag = np.unwrap(history("low_pass(turn, 0.2)", {"turn": list(turn)})[:, 0])
    late = turning[40:] - lag[40:]
    assert abs(late - late[0]).max() < 1e-9 and 0.0 < late[0] < 0.9


def wanted_of(x: np.ndarray) -> np.ndarray:
    """The low pass by itself."""
    return history("low_pass(x, 0.35)", {"x": list(x)})[:, 0]


def test_an_attitude_from_a_drifting_rate_and_a_noisy_angle() -> None:
    """The estimate has neither the drift of the one nor the noise of the other."""
    rng = np.random.default_rng(0)
    time = np.arange(3000) * STEP
    true = 0.4 * np.sin(0.5 * time)
    rate = 0.2 * np.cos(0.5 * time) + 0.01
    tilt = true + 0.1 * rng.normal(size=len(time))
    signals = {"turn": np.zeros(1), "spin": np.zeros(1)}
    units = {"turn": "rad", "spin": "rad/s"}
    program = Program([parse_formula("complementary(turn, spin, 2)", units)], signals, 1, sample_time=STEP)
    found = []
    for angle, turning in zip(tilt, rate, strict=True):
        signals["turn"][0], signals["spin"][0] = angle, turning
        found.append(float(program.run()[0, 0]))
    late = np.array(found)[200:] - true[200:]
    alone = np.cumsum(rate) * STEP - true
    assert np.sqrt((late**2).mean()) < 0.3 * 0.1 and abs(alone[-1]) > 2.0
    assert abs(late.mean() - 0.01 * 2.0) < 0.01  # a drift is left by the time times its size


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("low_pass(x, 0)", "above 0"), ("low_pass(x, time)", "fixed number"), ("low_pass(x, -1)", "above 0"), ("low_pass(x)", "takes 2"),
        ("complementary(turn, x, 0.1)", "beside"), ("median(3)", "says nothing"), ("low_pass(x, [1, 2])", "fixed number"), ("low_pass(2, 0.1)", "says nothing"),
    ],
)  # fmt: skip
def test_what_estimators_are_not_given(text: str, words: str) -> None:
    with pytest.raises(FormulaError, match=words):
        parse_formula(text, SIGNALS, lists=True)


def test_names_that_are_words_of_python_are_names_here() -> None:
    units = {
        "lambda": "", "arm.in": "", "class.from": "", "x": "", "arm.not": "", "is": "", "and.position": "", "if.or": "", "True.x": "",
    }  # fmt: skip
    signals = {name: np.array([float(k + 1)]) for k, name in enumerate(units)}
    for text, value in (
        ("and.position > 1 and not.5 < -if.or", 1.0), ("and.position - if.or if True.x > if.or and True else 0", -1.0),
        ("lambda + 1", 2.0), ("arm.in * 2", 4.0), ("class.from - x", -1.0), ("not x", 0.0), ("arm.not if is > 5 and not False else lambda", 5.0),
        ("lambda if x in_range else 1", None), ("x in arm.in", None), ("lambda x: x", None), ("await x", None), ("yield", None), ("x is x", None),
    ):  # fmt: skip
        if value is None:
            with pytest.raises(FormulaError):
                parse_formula(text, units)
        else:
            assert float(Program([parse_formula(text, units)], signals, 1).run()[0, 0]) == value
    with pytest.raises(FormulaError, match=r"column 10: unknown name lambdas; did you mean lambda"):
        parse_formula("lambda + lambdas", units)


_NAMES = st.sampled_from([*SIGNALS, "beam", "hull", "mark", *FUNCTIONS, "pi"])
_PIECES = st.one_of(
    _NAMES, st.sampled_from([*"+-*/()<>,[]: ", "**", " and ", " if ", " else "]), st.integers(0, 9).map(str)
)


@settings(max_examples=300, deadline=None)
@given(st.lists(_PIECES, max_size=20).map("".join))
def test_no_text_crashes_lists_and_memory(text: str) -> None:
    try:
        expression = parse_formula(text, SIGNALS, lists=True, places={"hull": "body", "mark": "zone"})
    except FormulaError as error:
        assert error.column >= 1
        return
    program = Program([expression], {name: np.full(3, 0.5) for name in expression.signals}, 3)
    program.run()
    assert program.run().shape == (expression.width, 3)
