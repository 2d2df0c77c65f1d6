"""The whole controller in Structured Text does, sample for sample, what the generated C does: formulas, joints, mixing, choices, counters."""

from __future__ import annotations

import random
import shutil
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.errors import StateError
from plucky_heron.handover.forms.c99 import to_c
from plucky_heron.handover.forms.controller import Answer, to_controller
from plucky_heron.handover.forms.controller_st import settings_of, to_controller_st
from plucky_heron.handover.forms.controlling import controlling
from plucky_heron.handover.forms.formula_code import FormulaCode
from plucky_heron.handover.forms.languages import STRUCTURED_TEXT
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.signals import SignalCode
from plucky_heron.handover.forms.st import to_st
from plucky_heron.handover.forms.whole_st import to_whole_st
from plucky_heron.handover.signal_check import TOLERANCE
from plucky_heron.handover.whole_check import HEAD, WholeText, check_whole_st, rows_of, run_whole_c, spans, whole_text
from plucky_heron.handover.wiring import Wire, Wiring
from plucky_heron.project import Project, demo_source
from plucky_heron.task.problem import Problem
from tests.handover.test_controller import random_policy
from tests.handover.test_signals import OBSERVED, _formula, crane
from tests.handover.test_structured_text import STRICT, run

Files = dict[str, bytes | str]
SETTINGS = {s.name.upper(): float(s.number) for s in settings_of(0.1, "ramp")}


def texts(problem: Problem, wiring: Wiring | None = None) -> tuple[SignalCode, Files, list[Line]]:
    """All generated files of a random policy, with policy and controller in ``policy.st``."""
    parts, policy = controlling(problem), random_policy(problem)
    code, count = SignalCode(problem, parts), len(problem.commands)
    if wiring is not None:
        code.wire(wiring, "wiring.toml")
    inputs, outputs = ([Line(f"x{k}", "", -1.0, 1.0) for k in range(n)] for n in (policy.given, count))
    safe, answers = [0.0] * count, [Answer()] * count
    files: Files = {
        **to_c(policy, "t", inputs, outputs, problem.sample_time),
        **to_controller(parts, policy, "t", safe, 0.1, answers),
        **code.files("t"),
    }
    files["policy.st"] = to_st(policy, "t", inputs, outputs, problem.sample_time) + to_controller_st(
        parts, policy, inputs, outputs, safe, 0.1, answers, "ramp", problem.sample_time
    )
    return code, files, outputs


def differences(problem: Problem, wiring: Wiring | None = None) -> np.ndarray:
    """Of recorded samples, some of them strange, how far the text is from the C."""
    code, files, outputs = texts(problem, wiring)
    text = whole_text(problem, code, files, outputs, 0.1, "ramp")
    return check_whole_st(problem, code, {**files, "policy.st": text}, SETTINGS)


def test_all_of_the_language_and_a_foreign_chain(tmp_path: Path) -> None:
    problem = crane(tmp_path, list(OBSERVED))
    found = differences(problem)
    assert len(found) > 300 and np.median(found) < 1e-5 and (found > TOLERANCE).mean() < 0.02


@pytest.mark.parametrize("seed", range(2))
def test_formulas_drawn_at_random(tmp_path: Path, seed: int) -> None:
    draws = random.Random(40 + seed)
    problem = crane(tmp_path, [(f"f{k}", _formula(draws, 4), "", 10.0) for k in range(12)])
    found = differences(problem)
    assert np.median(found) < 1e-5 and (found > TOLERANCE).mean() < 0.02


@pytest.mark.parametrize("task", ["hang", "lane", "dock", "stand"])
def test_our_tasks(task: str) -> None:
    assert differences(Project(demo_source()).problem(task)).max() < TOLERANCE


def test_nothing_of_it_is_undefined(tmp_path: Path) -> None:
    problem = crane(tmp_path, list(OBSERVED))
    code, files, outputs = texts(problem)
    text = str(files["policy.st"]) + to_whole_st(problem, code.parts, outputs, 0.1, "ramp", code.wired)
    rows = rows_of(problem, code)
    found = WholeText.build(text, tmp_path, STRICT).run(rows, SETTINGS)  # sanitizers on
    assert {0.0, 3.0, 4.0, 5.0} <= set(found["STATE"].tolist()) and {0.0, 2.0} <= set(found["REASON"].tolist())


def test_a_refused_sample_leaves_nothing_behind_in_either_language(tmp_path: Path) -> None:
    problem = crane(tmp_path, list(OBSERVED))
    code, files, outputs = texts(problem)
    text = WholeText.build(whole_text(problem, code, files, outputs, 0.1, "ramp"), tmp_path)
    rows = rows_of(problem, code, strange=False)[:60]  # afterwards the crane leaves its range
    at = 30
    assert not rows[1:, 0].any() and (rows[:, 2] == 4.0).all()  # one episode, on all the time
    given = []
    for bad in (np.nan, np.inf, -np.inf, 1e30):
        tried = rows.copy()
        tried[at, HEAD:] = bad
        found = text.run(tried, SETTINGS)
        drives = np.array([v for k, v in found.items() if k.startswith("DRIVES.")]).T
        by_c = run_whole_c(files, tmp_path, tried, len(code.drives))
        assert (by_c[:, 0] == 4.0).all() and (found["STATE"] == 4.0).all()  # a lone one is held over
        assert np.isfinite(by_c).all() and np.isfinite(drives).all()
        given.append((by_c, drives))
    # whatever the refused sample said, all that follows is the same to the last bit
    for by_c, drives in given[1:]:
        assert np.array_equal(by_c[:, 2:], given[0][0][:, 2:]) and np.array_equal(drives, given[0][1])
    whole = run_whole_c(files, tmp_path, rows, len(code.drives))
    assert (
        np.abs(whole[at + 1 :, 2:] - given[0][0][at + 1 :, 2:]).max() > 0.0
    )  # and a sample that counts would have left something


RAW = Wiring(
    signals={
        "turn.position": Wire(at=((100, "0 rad"), (-65436, "2 rad")), turns_over=4096),
        "lift.position": Wire(at=((0, "0 rad"), (1000000, "1 rad")), turns_over=2**32),
        "gyro.rate.y": Wire(at=((2048, "0 rad/s"), (4095, "8 rad/s"))),
    },
    drives={"turn": Wire(at=((1500, "0 N*m"), (2000, "120 N*m")), what="pulse width in microseconds"), "wrist": Wire(at=((0, "0 N*m"), (-30000, "9 N*m")))},
)  # fmt: skip


def test_raw_numbers_counters_and_pulse_widths(tmp_path: Path) -> None:
    problem = crane(tmp_path, list(OBSERVED))
    code, files, outputs = texts(problem, RAW)
    text = whole_text(problem, code, files, outputs, 0.1, "ramp")
    assert "raw: pulse width in microseconds, 1000 .. 2000" in text
    rows = rows_of(problem, code, strange=False)
    place = next(m.index for m in code.wired[0] if m.name == "turn.position")
    turned = rows.copy()
    turned[:, HEAD + place] %= 4096  # as it comes from an encoder; rows begin anew at each episode
    begins = np.flatnonzero(rows[:, 0])
    wanted = run_whole_c(files, tmp_path, turned, len(code.drives))
    found = WholeText.build(text, tmp_path).run(turned, SETTINGS)
    drives = np.array([v for k, v in found.items() if k.startswith("DRIVES.")]).T
    off = np.abs(drives - wanted[:, 2:]) / spans(problem, code)
    assert np.quantile(off, 0.99) < 2.0 / 1000.0  # a microsecond of the pulse
    # the way is counted through the turn: the same as from counts that never turn over, but for where an episode began
    straight = rows.copy()
    for first, last in zip(begins, [*begins[1:], len(rows)], strict=True):
        straight[first:last, HEAD + place] += turned[first, HEAD + place] - rows[first, HEAD + place]
    assert np.abs(np.diff(rows[:, HEAD + place])).max() > 0.0 and not np.array_equal(straight, turned)
    again = WholeText.build(text, tmp_path).run(straight, SETTINGS)
    other = np.array([v for k, v in again.items() if k.startswith("DRIVES.")]).T
    assert np.abs(other - drives).max() == 0.0


def test_a_counter_too_wide_for_the_text_is_refused(tmp_path: Path) -> None:
    problem = crane(tmp_path, list(OBSERVED))
    wide = Wiring(signals={"turn.position": Wire(at=((0, "0 rad"), (4096, "1 rad")), turns_over=3 * 2**30)})
    code, files, outputs = texts(problem, wide)
    with pytest.raises(StateError, match="counts up to 2147483647"):
        whole_text(problem, code, files, outputs, 0.1, "ramp")


def test_a_text_that_does_something_else_is_not_written(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    problem = crane(tmp_path, list(OBSERVED[:3]))
    code, files, outputs = texts(problem)
    whole = FormulaCode._one

    def wrong(self: FormulaCode, node: object, args: Sequence[str]) -> str:
        made = whole(self, node, list(args))  # type: ignore[arg-type]
        return f"({made} + 0.3)" if self.language is STRUCTURED_TEXT else made

    monkeypatch.setattr(FormulaCode, "_one", wrong)
    with pytest.raises(StateError, match=r"policy\.st differs from signals\.c"):
        whole_text(problem, code, files, outputs, 0.1, "ramp")


def test_servos_that_are_led_go_on_from_where_they_stand(tmp_path: Path) -> None:
    folder = tmp_path / "quillmere"
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    project = Project(folder)
    problem = project.problem(project.write_wish("davit", "hold a pose", name="led").task)
    assert differences(problem).max() < TOLERANCE
    code, files, _ = texts(problem)
    names = [s.name for s in code.signals]
    assert [names[i] for _, i in code.standing] == [f"{j}.position" for j in ("slew", "luff", "fold", "wrist")]
    rows = rows_of(problem, code, strange=False)[:40]
    rows[:, 0], rows[:, 2] = 0.0, 4.0  # on at once, as power comes on
    rows[0, 0] = 1.0
    drives = run_whole_c(files, tmp_path, rows, len(code.drives))[:, 2:]
    stood = rows[0, [HEAD + i for _, i in code.standing]]
    assert np.abs(stood).max() > 0.3, "none of them stands at its safe command"
    step = problem.high * problem.sample_time
    assert (np.abs(drives[0] - stood) <= step + 1e-6).all()
    late = rows.copy()
    late[0, 1] = 1.0  # the first sample is lost: then drives were given their safe commands already
    assert np.abs(run_whole_c(files, tmp_path, late, len(code.drives))[0, 2:]).max() < 1e-6


FUNCTIONS = """
FUNCTION_BLOCK Main
VAR_INPUT
    a : REAL;
    b : REAL;
END_VAR
VAR_OUTPUT
    quotient : REAL;
    root : REAL;
    grown : REAL;
    logarithm : REAL;
    arcsine : REAL;
    power : REAL;
END_VAR
    quotient := HeronQuotient(a, b);
    root := HeronRoot(a);
    grown := HeronExp(a);
    logarithm := HeronLog(a);
    arcsine := HeronArcsine(a);
    power := HeronPower(a, b);
END_FUNCTION_BLOCK
"""


def test_what_has_no_value_stops_no_controller_and_is_refused(tmp_path: Path) -> None:
    """Divisions by zero, roots and logarithms of negative numbers: a number that the guard takes for one that is not finite."""
    problem = crane(tmp_path, list(OBSERVED[:1]))
    code, files, outputs = texts(problem)
    text = whole_text(problem, code, files, outputs, 0.1, "ramp")
    ours = text[text.index("FUNCTION HeronQuotient") : text.index("FUNCTION HeronAtan2")]
    edges = [0.0, 1.0, -1.0, 2.0, -2.0, 3.0, -3.0, 0.5, -0.5, 1e-30, -1e-30, 1e30, -1e30, 88.0, -88.0, 0.3]
    rows = [(a, b) for a in edges for b in edges]
    rows += np.random.default_rng(4).normal(scale=3.0, size=(200, 2)).astype(np.float32).tolist()
    # a division by zero, or a number too large for single precision, ends the program
    strict = (*STRICT, "-fsanitize=float-divide-by-zero,float-cast-overflow")
    found = np.array(run(ours + FUNCTIONS, [(0.0, *row) for row in rows], tmp_path, compiled=strict))
    a, b = np.array(rows, dtype=np.float32).T
    with np.errstate(all="ignore"):
        wanted = np.array([a / b, np.sqrt(a), np.exp(a), np.log(a), np.arcsin(a), np.power(a, b)]).T
    none = ~np.isfinite(wanted) | (np.abs(wanted) > 3e38)
    assert none.any(axis=0).all() and not none.all(axis=0).any()
    assert (np.abs(found[none]) > 3.0e38).all() and np.isfinite(found).all()
    with np.errstate(all="ignore"):
        off = np.abs(found - wanted) > 1e-5 * np.abs(wanted) + 1e-37
    wrong = [(rows[k], found[k, j], wanted[k, j], j) for k, j in zip(*np.nonzero(off & ~none), strict=True)]
    assert not wrong


def test_a_formula_that_divides_by_zero_is_answered_as_one_that_is_not_finite(tmp_path: Path) -> None:
    problem = crane(tmp_path, [("steep", "tool.z / (tool.x - tool.x)", "", 9.0), OBSERVED[0]])
    code, files, outputs = texts(problem)
    text = whole_text(problem, code, files, outputs, 0.1, "ramp")
    rows = np.repeat(rows_of(problem, code, strange=False)[:1], 40, axis=0)
    rows[1:, 0] = 0.0  # one episode
    assert (rows[:, 2] == 4.0).all()
    found = WholeText.build(text, tmp_path).run(rows, SETTINGS)
    by_c = run_whole_c(files, tmp_path, rows, len(code.drives))
    assert (by_c[:, :2] == np.array([found["STATE"], found["REASON"]]).T).all()
    assert found["STATE"][-1] == 5.0 and found["REASON"][-1] == 1.0
