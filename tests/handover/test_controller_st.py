"""The Structured Text around the policy does, sample for sample, what the C does: guards, states, sign test, homing, whatever comes."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.handover.contract import contract
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.controller_st import CONTROLLER_BLOCK, to_controller_st
from plucky_heron.handover.forms.controlling import controlling
from plucky_heron.handover.forms.st import to_st
from plucky_heron.handover.structured_text.translate import program, translate
from plucky_heron.handover.trying import sign_answers
from plucky_heron.project import Project, demo_source
from plucky_heron.task.problem import Problem
from tests.handover.test_controller import Controller, asked, random_policy, shaped
from tests.handover.test_structured_text import STRICT

Array = np.ndarray
__all__ = ["shaped"]  # the fixture

SETTINGS = {
    "as it is made": {},
    "all guards": {"check_rate": 1, "check_heartbeat": 1, "most_rate": 30.0, "command_rate": 200.0},
    "all that is asked for first": {"needs_homing": 1, "needs_test": 1, "homed_by": 1, "home": -0.1},
    "no range, other times": {"check_range": 0, "hold": 0.06, "ramp": 0.2, "test_time": 0.1, "authority": 0.6},
}
_INPUTS = {"hold": "HOLD_TIME"}


class Text:
    """The built Structured Text, asked by the same rows as `Controller`."""

    def __init__(self, folder: Path, text: str, changes: dict[str, float], sensors: int) -> None:
        for name in ("most_rate", "home"):
            if name in changes:
                text = text.replace(f"    {name} : ARRAY [0..{sensors - 1}] OF REAL;", f"    {name} : ARRAY [0..{sensors - 1}] OF REAL := [{', '.join([repr(float(changes[name]))] * sensors)}];")  # fmt: skip
        if "homed_by" in changes:
            text = text.replace(f"homed_by : ARRAY [0..{sensors - 1}] OF BOOL;", f"homed_by : ARRAY [0..{sensors - 1}] OF BOOL := [{', '.join(['TRUE'] * sensors)}];")  # fmt: skip
        if "command_rate" in changes:
            text = text.replace("command_rate : ARRAY [0..1] OF REAL;", f"command_rate : ARRAY [0..1] OF REAL := [{changes['command_rate']!r}, {changes['command_rate']!r}];")  # fmt: skip
        self.translated = translate(text, CONTROLLER_BLOCK)
        (folder / "text.c").write_text(program(self.translated))
        self.program = compile_c(folder, ["text.c"], "text", STRICT)
        self.names = [path.removeprefix("v_") for path, _ in self.translated.inputs]
        self.changes, self.sensors = changes, sensors
        self.outputs = [path.removeprefix("v_") for path, _ in self.translated.outputs]

    def run(self, rows: list[Array]) -> dict[str, Array]:
        """All outputs by their names."""
        standard = {"CHECK_RANGE": 1.0, "SAFE_KIND": 1.0, "AUTHORITY": 0.25, "HOLD_TIME": 0.1, "RAMP": 0.5, "TAKE_OVER": 0.3, "TEST_TIME": 0.4}  # fmt: skip
        standard |= {_INPUTS.get(k, k.upper()): float(v) for k, v in self.changes.items()}
        given, take_over = [], standard["TAKE_OVER"]
        for row in rows:
            begins, nothing, ask, beat, home, over = row[:6]
            if begins:
                take_over = over if over >= 0.0 else standard["TAKE_OVER"]
            told = {"VALID": 1.0 - nothing, "ASKED": ask, "HEARTBEAT": beat, "AT_HOME": home}
            values = standard | told | {"TAKE_OVER": take_over}
            sensors = iter(row[6:])
            given.append([begins, *(next(sensors) if n.startswith("SIGNALS.") else values.get(n, 0.0) for n in self.names)])  # fmt: skip
        done = subprocess.run(
            [str(self.program)], input=np.array(given).tobytes(), capture_output=True, check=True, timeout=60
        )
        assert done.stderr.split() == [b"0"]  # no index ever lay outside
        found = np.frombuffer(done.stdout, dtype=float).reshape(len(rows), -1)
        return {name: found[:, k] for k, name in enumerate(self.outputs)}


def text_of(problem: Problem, answers: list) -> str:  # type: ignore[type-arg]
    """Policy and controller in Structured Text, as a pack has them."""
    policy, parts = random_policy(problem), controlling(problem)
    inputs, outputs = contract(problem)
    return to_st(policy, "t", inputs, outputs, problem.sample_time) + to_controller_st(
        parts, policy, inputs, outputs, [10.0, 0.1], 0.1, answers, "ramp", problem.sample_time
    )


def script(problem: Problem, seed: int, count: int = 1200) -> list[Array]:
    """What may come in the life of a controller: good samples, bad ones, none, all that can be asked for."""
    draws = np.random.default_rng(seed)
    parts = controlling(problem)
    low, high = (np.array([getattr(s, side) for s in parts.sensors]) for side in ("low", "high"))
    rows, ask, beat, value = [], 0, 0, 0.5 * (low + high)
    for k in range(count):
        if draws.random() < 0.04:
            ask = int(draws.choice([0, 1, 2, 3, 4, 4, 4, 5, 9]))
        value = np.clip(value + 0.02 * (high - low) * draws.standard_normal(len(low)), low, high)
        row = value.copy()
        if draws.random() < 0.05:
            row[draws.integers(len(row))] = draws.choice([np.nan, np.inf, -np.inf, 1e30, -5.0])
        beat += draws.random() > 0.1
        begins = k == 0 or draws.random() < 0.004
        nothing = draws.random() < (0.6 if (k // 60) % 4 == 3 else 0.02)
        rows.append(asked(row, ask, begins=begins, nothing=nothing, beat=beat % 60_000, home=draws.random() < 0.05, take_over=float(draws.choice([-1.0, 0.0, 0.1]))))  # fmt: skip
    return rows


@pytest.mark.parametrize("which", list(SETTINGS))
@pytest.mark.parametrize("task", ["plain", "shaped"])
def test_it_does_what_the_c_does(which: str, task: str, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    problem = request.getfixturevalue("shaped") if task == "shaped" else Project(demo_source()).problem("lift")
    parts, policy, changes = controlling(problem), random_policy(problem), SETTINGS[which]
    answers = sign_answers(problem, parts, [0.0, 0.0])
    sensors = len(parts.sensors)
    lines = []
    for name, value in changes.items():
        if name in ("most_rate", "command_rate", "home", "homed_by"):
            size = 2 if name == "command_rate" else sensors
            lines += [f"            c.settings.{name}[{k}] = ({'uint8_t' if name == 'homed_by' else 'float'}){value};" for k in range(size)]  # fmt: skip
        else:
            lines.append(f"            c.settings.{name} = {value}{'f' if isinstance(value, float) else ''};")
    one = tmp_path / "c"
    one.mkdir()
    controller = Controller(one, policy, parts, problem.sample_time, [10.0, 0.1], answers, "ramp", "\n".join(lines))
    text = Text(tmp_path, text_of(problem, answers), changes, sensors)
    seen: set[int] = set()
    for seed in range(3):
        rows = script(problem, seed)
        states, reasons, drives, counts = controller.run(rows)
        found = text.run(rows)
        np.testing.assert_array_equal(found["STATE"], states)
        np.testing.assert_array_equal(found["REASON"], reasons)
        commands = np.stack([v for n, v in found.items() if n.startswith("COMMANDS.")], axis=1)
        span = np.array([s.within[1] - s.within[0] for s in parts.shaping])
        # the policy is steep and sees its own commands: rounding grows through the loop, a wrong step would be a jump
        off = np.abs((commands - drives) / span)
        assert np.median(off) < 1e-6 and off.max() < 1e-3
        last = [int(found[n][-1]) for n in ("RECEIVED", "REFUSED", "HELD_SAMPLES", "SAFE_SAMPLES", "FAULTS")]
        assert last == counts
        seen |= set(states.tolist())
        assert found["EVENTS"].max() >= 2
        at = int(found["EVENTS"].argmax())
        newest = (int(found["EVENTS"][at]) - 1) % 16
        assert found[f"EVENT_TO[{newest}]"][at] == states[at]
    assert {0, 5} <= seen and len(seen) >= (3 if changes.get("needs_test") else 5)
