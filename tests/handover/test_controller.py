"""What stands around the policy on a controller: the same steps as in simulation, guards, states, sign test, homing."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.handover.forms.c99 import to_c
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.controller import Answer, to_controller
from plucky_heron.handover.forms.controlling import Controlling, ControllingModel, controlling
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.trying import safe_warning, sign_answers
from plucky_heron.learning.network import Network
from plucky_heron.learning.policy import Policy
from plucky_heron.project import Project
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import Problem, read_problem

Array = np.ndarray
STRICT = ("-std=c99", "-Wall", "-Wextra", "-Wconversion", "-Werror", "-pedantic", "-O1", "-fsanitize=undefined,address", "-fno-sanitize-recover=all")  # fmt: skip
OFF, HOMING, SIGN_TEST, LIMITED, ON, FAULT = range(6)
RESET = 5
WELL, NOT_FINITE, OUT_OF_RANGE, TOO_FAST, NO_HEARTBEAT, WRONG_SIGN, NO_ANSWER = range(7)


def random_policy(problem: Problem, seed: int = 3) -> Policy:
    """A policy for a problem, of random weights."""
    rng = np.random.default_rng(seed)
    sizes = (len(problem.sensed), 16, len(problem.commands))
    network = Network(sizes, "tanh")
    low, high = (np.array([getattr(e, side) for e in problem.sensed], dtype=np.float32) for side in ("low", "high"))
    return Policy(
        sizes, "tanh", (0.7 * rng.standard_normal(network.count)).astype(np.float32), 0.5 * (low + high), 2.0 / (high - low), 5.0,
        problem.low.astype(np.float32), problem.high.astype(np.float32),
    )  # fmt: skip


class Controller:
    """A built controller that is asked row by row."""

    def __init__(
        self,
        folder: Path,
        policy: Policy,
        parts: Controlling,
        sample_time: float,
        safe: list[float],
        answers: list[Answer],
        kind: str = "ramp",
        edit: str = "",
    ) -> None:
        outputs = [Line(f"u{k}", "", -1.0, 1.0) for k in range(len(safe))]
        inputs = [Line(f"x{k}", "", -1.0, 1.0) for k in range(policy.given)]
        files = {
            **to_c(policy, "t", inputs, outputs, sample_time),
            **to_controller(parts, policy, "t", safe, 0.1, answers, kind),
        }
        if edit:
            files["check_controller.c"] = files["check_controller.c"].replace(
                "heron_controller_init(&c);\n            if", f"heron_controller_init(&c);\n{edit}\n            if"
            )
        for name, text in files.items():
            (folder / name).write_text(text)
        self.sensors, self.commands = len(parts.sensors), len(safe)
        self.program = compile_c(folder, ["controller.c", "policy.c", "check_controller.c"], "check", STRICT)

    def run(self, rows: list[Array]) -> tuple[Array, Array, Array, list[int]]:
        """States, reasons, what drives get, and counts; rows as `asked` makes them."""
        done = subprocess.run(
            [str(self.program)], input=np.array(rows, dtype=np.float32).tobytes(), capture_output=True, check=True
        )
        found = np.frombuffer(done.stdout, dtype=np.float32).reshape(len(rows), -1)
        return found[:, 0].astype(int), found[:, 1].astype(int), found[:, 3:], [int(x) for x in done.stderr.split()]


def asked(
    sensors: Array,
    ask: int,
    *,
    begins: bool = False,
    nothing: bool = False,
    beat: int = 0,
    home: bool = False,
    take_over: float = -1.0,
) -> Array:
    """A row for the controller."""
    return np.array([begins, nothing, ask, beat, home, take_over, *sensors], dtype=float)


STACKED = """
[[observations]]
name = "angle of the cable"
formula = "cable.angle"
unit = "rad"
range = ["-1 rad", "1 rad"]
form = "sine and cosine"
stack = 3
delay = "40 ms"

[[observations]]
name = "push before"
formula = "previous.action.push"
unit = "N"
range = ["-500 N", "500 N"]

[[observations]]
name = "held"
formula = "command.push"
unit = "N"
range = ["-500 N", "500 N"]

[[observations]]
name = "clipped"
formula = "trolley.velocity"
unit = "m/s"
range = ["-0.2 m/s", "0.2 m/s"]
clip = true

# --- what is commanded"""


@pytest.fixture
def shaped(folder: Path) -> Problem:
    """The hoist with stacks, sine and cosine, its own commands seen, an increment, a rate limit and smoothing."""
    path = folder / "tasks" / "lift.toml"
    text = path.read_text().replace("# --- what is commanded", STACKED, 1)
    text = text.replace(
        'name = "push"\ndrive = "push"\n',
        'name = "push"\ndrive = "push"\nrate_limit = "3000 N/s"\nsmoothing = "50 ms"\n',
    )
    text = text.replace(
        'limits = ["-0.8 m/s", "0.8 m/s"]',
        'kind = "increment"\nlimits = ["-3 m/s**2", "3 m/s**2"]\nwithin = ["-0.6 m/s", "0.6 m/s"]',
    )
    head, tail = text.split('name = "last reel"')
    text = (
        head
        + 'name = "last reel"'
        + tail.replace('"m/s"', '"m/s**2"', 1).replace('["-0.8 m/s", "0.8 m/s"]', '["-3 m/s**2", "3 m/s**2"]', 1)
    )
    path.write_text(text.replace('mirrored = "negated"', ""))
    return read_problem(folder, "lift")


def test_it_does_what_the_simulation_does(shaped: Problem, tmp_path: Path) -> None:
    """An episode in the program beside the C: from the same sensors the same inputs, the same commands, the same at the drives."""
    parts, policy = controlling(shaped), random_policy(shaped)
    assert [i.kind for i in parts.inputs].count("given") == 2 and [i.kind for i in parts.inputs].count("previous") == 1
    assert parts.depth == 3 and len(parts.sensors) == len(shaped.task.observations) - 4
    batch = Batch(shaped, 1, 4, "controller", threads=1)
    batch.start(np.array([2]))
    model = ControllingModel(parts, shaped.low, shaped.high, shaped.sample_time)
    model.begin(batch.commander.values[0].copy())
    rows, wanted = [], []
    for k in range(150):
        given = batch.observe()[0]
        late = np.array([round(next(e.delay for e in shaped.sensed if e.column == c) * 50) for c in parts.columns])
        raw = batch._entries.history[late, 0, list(parts.columns)]
        inputs = model.inputs(raw)
        np.testing.assert_allclose(inputs, given[: len(inputs)], atol=1e-12)
        command = policy.commands(given[None])[0].astype(float)
        rows.append(asked(raw, ON, begins=k == 0, take_over=0.0))
        batch.step(command[None])
        wanted.append(model.drives(command))
        np.testing.assert_allclose(wanted[-1], batch.commander.values[0], atol=1e-9)
    controller = Controller(tmp_path, policy, parts, shaped.sample_time, [0.0, 0.0], [Answer()] * 2)
    states, reasons, drives, counts = controller.run(rows)
    assert set(states) == {ON} and set(reasons) == {WELL} and counts == [150, 0, 0, 0, 0]
    span = np.array([s.within[1] - s.within[0] for s in parts.shaping])
    assert np.abs((drives - np.array(wanted)) / span).max() < 1e-5


@pytest.fixture(scope="module")
def plain() -> Problem:
    return Project(Path(__file__).parents[2] / "demo" / "quillmere").problem("lift")


def test_what_is_wrong_is_held_then_made_safe_and_stays_a_fault_until_reset(plain: Problem, tmp_path: Path) -> None:
    parts, policy = controlling(plain), random_policy(plain)
    good = np.array([0.5 * (s.low + s.high) + 0.1 * (s.high - s.low) for s in parts.sensors])
    controller = Controller(tmp_path, policy, parts, 0.02, [10.0, 0.1], [Answer()] * 2)
    for wrong, reason in ((np.nan, NOT_FINITE), (np.inf, NOT_FINITE), (1e6, OUT_OF_RANGE), (None, NO_HEARTBEAT)):
        bad = good.copy()
        bad[3] = 0.0 if wrong is None else wrong
        rows = [
            asked(good, ON, begins=True, take_over=0.0),
            asked(good, ON),
            asked(bad, ON, nothing=wrong is None),
            asked(good, ON),
        ]
        rows += (
            [asked(bad, ON, nothing=wrong is None)] * 40 + [asked(good, ON)] * 3 + [asked(good, RESET), asked(good, ON)]
        )
        states, reasons, drives, counts = controller.run(rows)
        assert states[:9].tolist() == [ON] * 9 and np.array_equal(drives[2], drives[1])
        # held for 100 ms, then half a second to the safe commands
        assert set(states[9:47]) == {FAULT} and set(reasons[9:47]) == {reason}
        away = np.abs(drives[4:44] - [10.0, 0.1])
        assert (np.diff(away[6:], axis=0) <= 1e-4).all() and np.allclose(drives[34:47], [10.0, 0.1], atol=1e-5)
        assert states[-2:].tolist() == [OFF, ON] and counts[4] == 1 and counts[2] == 6


def test_safe_may_be_at_once_or_stay_where_it_is(plain: Problem, tmp_path: Path) -> None:
    parts, policy = controlling(plain), random_policy(plain)
    good = np.array([0.5 * (s.low + s.high) + 0.1 * (s.high - s.low) for s in parts.sensors])
    rows = [asked(good, ON, begins=True, take_over=0.0)] * 1 + [asked(good, ON)] + [asked(good, ON, nothing=True)] * 10
    for kind in ("command", "hold"):
        controller = Controller(tmp_path, policy, parts, 0.02, [10.0, 0.1], [Answer()] * 2, kind)
        states, _, drives, _ = controller.run(rows)
        assert states[-1] == FAULT
        assert np.allclose(drives[-1], [10.0, 0.1] if kind == "command" else drives[1])


def test_a_sensor_that_jumps_and_a_heartbeat_that_stands_still_are_refused_where_asked(
    plain: Problem, tmp_path: Path
) -> None:
    parts, policy = controlling(plain), random_policy(plain)
    good = np.array([0.5 * (s.low + s.high) for s in parts.sensors])
    jumped = good.copy()
    jumped[0] += 1.0
    switched = "            c.settings.check_rate = 1; c.settings.most_rate[0] = 5.0f; c.settings.check_heartbeat = 1;"
    controller = Controller(tmp_path, policy, parts, 0.02, [0.0, 0.0], [Answer()] * 2, edit=switched)
    beats = [asked(good, ON, begins=k == 0, beat=k, take_over=0.0) for k in range(5)]
    _, _, _, counts = controller.run(
        [*beats, asked(jumped, ON, beat=6), asked(good, ON, beat=7), asked(good, ON, beat=7)]
    )
    assert counts[1] == 2 and counts[4] == 0
    slow = [asked(good + np.eye(len(good))[0] * 0.09 * k, ON, begins=k == 0, beat=k) for k in range(10)]
    assert controller.run(slow)[3][1] == 0


def test_limited_authority_and_taking_over_without_a_jump(plain: Problem, tmp_path: Path) -> None:
    parts, policy = controlling(plain), random_policy(plain)
    good = np.array([s.high for s in parts.sensors])
    controller = Controller(tmp_path, policy, parts, 0.02, [0.0, 0.0], [Answer()] * 2)
    rows = [asked(good, OFF, begins=True)] + [asked(good, LIMITED)] * 60 + [asked(good, ON)] * 60
    states, _, drives, _ = controller.run(rows)
    assert states.tolist() == [OFF] + [LIMITED] * 60 + [ON] * 60
    span = plain.high - plain.low
    assert (np.abs(drives[1:61]) <= 0.25 * span + 1e-4).all()
    assert np.abs(np.diff(drives, axis=0) / span).max() < 0.08  # 0.3 s to take over, each time
    want = np.clip(policy.commands(np.concatenate([good, drives[-1]])[None])[0], plain.low, plain.high)
    assert (np.abs(want) > 0.25 * span).any() and np.abs((drives[-1] - want) / span).max() < 0.3


def test_signs_are_tested_drive_by_drive_and_a_wrong_one_is_named(plain: Problem, tmp_path: Path) -> None:
    parts, policy = controlling(plain), random_policy(plain)
    answers = sign_answers(plain, parts, [0.0, 0.0])
    names = [parts.sensors[a.sensor].name for a in answers]
    assert "trolley speed" in names[0] or "trolley" in names[0] or names[0] == "offset"
    assert all(a.step != 0.0 and a.least != 0.0 for a in answers)
    needs = "            c.settings.needs_test = 1;"
    controller = Controller(tmp_path, policy, parts, plain.sample_time, [0.0, 0.0], answers, edit=needs)

    def tried(signs: tuple[float, float]) -> tuple[Array, Array]:
        """The test on the simulated machine, its drives connected with these signs."""
        rows: list[Array] = []
        batch = Batch(plain, 1, 1_000_003, "handover", threads=1)
        batch.start(np.array([0]))
        for k in range(110):
            raw = batch._entries.history[0, 0, list(parts.columns)]
            rows.append(asked(raw, ON if k == 0 else SIGN_TEST, begins=k == 0))
            drives = controller.run(rows)[2][-1]
            batch.step(np.array([drives * signs], dtype=float))
        states, reasons, _, _ = controller.run(rows)
        return states, reasons

    states, reasons = tried((1.0, 1.0))
    assert states[0] == OFF and reasons[0] == 8 and states[-1] == OFF and FAULT not in states
    states, reasons = tried((1.0, -1.0))
    assert states[-1] == FAULT and reasons[-1] == WRONG_SIGN
    states, reasons = tried((0.0, 1.0))
    assert states[-1] == FAULT and reasons[-1] in (NO_ANSWER, WRONG_SIGN)


def test_homing_takes_the_reference_and_is_asked_for_first(plain: Problem, tmp_path: Path) -> None:
    parts, policy = controlling(plain), random_policy(plain)
    good = np.array([0.5 * (s.low + s.high) for s in parts.sensors])
    needs = "            c.settings.needs_homing = 1; c.settings.homed_by[2] = 1; c.settings.home[2] = -5.0f; c.settings.homing_command[0] = -20.0f;"
    controller = Controller(tmp_path, policy, parts, 0.02, [0.0, 0.0], [Answer()] * 2, edit=needs)
    rows = (
        [asked(good, ON, begins=True, take_over=0.0)]
        + [asked(good, HOMING)] * 40
        + [asked(good, HOMING, home=True)]
        + [asked(good, ON)] * 3
    )
    states, reasons, drives, _ = controller.run(rows)
    assert (states[0], reasons[0]) == (OFF, 7) and set(states[1:41]) == {HOMING} and drives[40, 0] == -20.0
    assert states[41] == OFF and states[42] == ON
    shifted = good.copy()
    shifted[2] = -5.0
    expected = policy.commands(np.concatenate([shifted, [0.0, 0.0]])[None])[0]
    assert np.abs((drives[42] - expected) / (plain.high - plain.low)).max() < 1e-5


def test_safe_commands_that_let_go_are_said() -> None:
    folder = Path(__file__).parents[2] / "demo" / "quillmere"
    for task, lets_go in (("lift", False), ("hang", True)):
        problem = Project(folder).problem(task)
        said = safe_warning(
            problem,
            controlling(problem),
            [float(np.clip(0.0, a, b)) for a, b in zip(problem.low, problem.high, strict=True)],
        )
        assert bool(said) == lets_go or task == "hang", said
