"""The whole controller on a rig: signals of instruments in, values of drives out, with its guards and the states of commissioning."""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.cli.main import main
from plucky_heron.errors import FileError, StateError
from plucky_heron.handover.pack import write_pack
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.project import Project, demo_source
from plucky_heron.rigs.datagrams import (
    ASKS,
    AT_ONCE,
    HOLDING,
    LOCK_STEP,
    RESTART,
    SAFE,
    STOP,
    Command,
    pack_sensors,
    pack_signals,
)
from plucky_heron.rigs.host import HostRig
from plucky_heron.rigs.outcome import Sample
from plucky_heron.rigs.plc import PlcRig
from plucky_heron.rigs.rollout import roll_out
from plucky_heron.rigs.sides import Asking, Script, WholeSide, Wired
from plucky_heron.runs.store import RunRow, RunStore
from tests.conftest import copy_demo
from tests.rigs.test_boards import need

WIRING = """
[signals."trolley.position"]
at = [[500, "-1 m"], [-99500, "1 m"]]
turns_over = 4096
[signals."reel.velocity"]
at = [[0, 0], [100000, "2 m/s"]]
[drives.push]
at = [[150000, 0], [100000, "600 N"]]
"""


MARK = 3 << 8
"""Of an episode."""
OwnRig = HostRig | PlcRig
OWN: dict[str, type[OwnRig]] = {"host": HostRig, "plc": PlcRig}


@pytest.fixture(scope="module")
def wired(trained: tuple[Project, RunRow], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same with raw numbers, one of which turns over."""
    project, row = trained
    place = tmp_path_factory.mktemp("wired")
    (place / "wiring.toml").write_text(WIRING)
    write_pack(project.folder, row, place / "pack", ("onnx", "c99", "st"), wiring=place / "wiring.toml")
    return place / "pack"


@pytest.fixture(scope="module")
def shipped(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo with the runs that come with it."""
    place = copy_demo(tmp_path_factory.mktemp("shipped") / "quillmere")
    shutil.copytree(demo_source().parent / "recorded", place / "runs")
    return place


@pytest.fixture(params=["host", "plc"])
def rig(packed: Path, request: pytest.FixtureRequest) -> Iterator[tuple[OwnRig, Pack]]:
    """The whole controller in C, and in Structured Text."""
    pack = read_pack(packed)
    with OWN[request.param](pack, whole=True) as made:
        yield made, pack


def told(rig: OwnRig, sequence: int, values: np.ndarray, ask: str = "on", flags: int = LOCK_STEP) -> Command:
    """What it answers in lock-step."""
    flags |= 0 if flags >> 8 else MARK
    rig.send(pack_signals(sequence, 1, values.astype("<f4").view("<u4"), flags, ASKS.index(ask), False))
    command = rig.receive(time.perf_counter() + 10.0)
    assert command is not None and command.sequence == sequence
    return command


def signals_of(pack: Pack) -> np.ndarray:
    """Signals as in the start pose."""
    pose = pack.facts["start_pose"]
    names = [s["name"] for s in pack.facts["controller"]["signals"]["given"]]
    return np.array(
        [pose.get(name.removesuffix(".position"), 0.0) if name.endswith(".position") else 0.0 for name in names]
    )


@pytest.mark.parametrize("on", ["host", "board", "arm64", "plc"])
def test_it_commands_what_the_policy_commands_inside(packed: Path, on: str) -> None:
    if on not in ("host", "plc"):
        need(on)
    result = roll_out(packed, on, episodes=1, lock_step=True, whole=True).summary()
    assert result["missed"] == 0 and result["whole"] and result["counters"]["refused"] == 0
    assert result["command_difference"] < 1e-5 and result["drive_difference"] < 1e-6
    assert result["score"] == pytest.approx(result["score_inside"], abs=0.1)
    assert [one["state"] for one in result["states"]] == ["on"]


def test_without_a_floating_point_unit_it_does_what_the_fixed_point_form_can(packed: Path) -> None:
    need("board")
    result = roll_out(packed, "board-fixed", episodes=1, lock_step=True, whole=True).summary()
    assert result["missed"] == 0 and result["counters"]["refused"] == 0
    assert 0.0 < result["command_difference"] < 2e-3 and result["drive_difference"] < 1e-6
    assert result["score"] == pytest.approx(result["score_inside"], abs=0.3)


@pytest.mark.parametrize("on", ["host", "plc"])
def test_raw_numbers_on_the_way_cost_no_more_than_their_resolution(wired: Path, on: str) -> None:
    result = roll_out(wired, on, episodes=2, lock_step=True, whole=True).summary()
    assert 0.0 < result["command_difference"] < 2e-3  # a count of the trolley is 2e-5 m of its 12 m
    assert 0.0 < result["drive_difference"] < 1.1 * 600.0 / 50_000 / 1000.0
    assert result["score"] == pytest.approx(result["score_inside"], abs=0.2)


def test_a_count_turns_over_as_a_real_one_does() -> None:
    one = Wired(0, 500, -2e-4, -1.0, 4096)
    first = one.raw(-1.5, None)
    assert first == 500 + 2500 and one.raw(-1.0, first) == 500
    assert one.raw(-1.9, first) == (500 + 4500) % 4096
    assert Wired(0, 0, 1e-12, 0.0, 0).raw(9.0, None) == 2**31 - 1 and one.raw(float("nan"), first) == 0


def test_states_are_gone_through_on_a_machine_that_stands(packed: Path) -> None:
    seen: list[Sample] = []

    def watch(sample: Sample) -> bool:
        seen.append(sample)
        return True

    script = Script("homing, sign test, limited 1 s, on")
    result = roll_out(packed, "host", episodes=1, lock_step=True, whole=True, commissioning=script, watch=watch)
    before = [one["state"] for one in result.states if one["episode"] < 0]
    assert before == ["homing", "off", "sign test", "off", "limited", "on"] and len(result.scores) == 1
    limited = [s for s in seen if s.state == "limited"]
    assert 0.9 < len(limited) * 0.02 < 1.1
    tested = [s for s in seen if s.state == "sign test"]
    step = read_pack(packed).facts["controller"]["sign_test"][0]["step"]
    assert step and any(s.command[0] == pytest.approx(step) for s in tested)


def test_a_drive_that_is_wired_the_wrong_way_is_found(packed: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    right = WholeSide.take

    def crossed(self: WholeSide, command: Command) -> np.ndarray:
        commands = right(self, command)
        self._now[0] = -self._now[0]
        return commands

    monkeypatch.setattr(WholeSide, "take", crossed)
    with pytest.raises(StateError, match="wrong sign: push; nothing was rolled out"):
        roll_out(packed, "host", episodes=1, lock_step=True, whole=True, commissioning=Script("sign test, on"))


def test_what_is_asked_for_may_change_while_it_runs(packed: Path) -> None:
    asking = Asking("off")
    states: list[str] = []

    def watch(sample: Sample) -> bool:
        states.append(sample.state)
        if len(states) == 20:
            asking.ask = "on"
        return len(states) < 40

    result = roll_out(packed, "host", episodes=1, lock_step=True, whole=True, asking=asking, watch=watch)
    assert states[:20] == ["off"] * 20 and states[21:] == ["on"] * 19 and result.stopped


def test_guards_hold_then_go_to_their_fault_and_stay_until_reset(rig: tuple[OwnRig, Pack]) -> None:
    host, pack = rig
    good = signals_of(pack)
    assert told(host, 0, good, flags=LOCK_STEP | RESTART | AT_ONCE).state == "on"
    wrong = good.copy()
    wrong[0] = np.nan
    commands = [told(host, k, wrong) for k in range(1, 10)]
    assert [c.state for c in commands[:5]] == ["on"] * 5 and all(c.flags & HOLDING for c in commands)
    assert commands[-1].state == "fault" and commands[-1].reason == "not finite" and commands[-1].flags & SAFE
    assert told(host, 10, good).state == "fault" and told(host, 11, good, "off").state == "fault"
    assert told(host, 12, good, "reset").state == "off" and told(host, 13, good).state == "on"
    far = good.copy()
    far[[s["name"] for s in pack.facts["controller"]["signals"]["given"]].index("cable.position")] = 3.0
    last = [told(host, k, far) for k in range(14, 24)][-1]
    sensors = [s["name"] for s in pack.facts["controller"]["sensors"]]
    assert last.reason == "out of range" and sensors[last.index] in (
        "height",
        "cable angle",
    )  # height is worked out from it
    assert last.counters["refused"] == 19 and last.counters["received"] == 24


def test_stop_goes_to_off_and_the_safe_commands(rig: tuple[OwnRig, Pack]) -> None:
    host, pack = rig
    good = signals_of(pack)
    first = told(host, 0, good, flags=LOCK_STEP | RESTART | AT_ONCE)
    assert np.abs(first.values[:2]).max() > 0.0
    last = [told(host, k, good * 0.0, flags=LOCK_STEP | STOP) for k in range(1, 40)][-1]
    assert last.state == "off" and last.values[:2] == pytest.approx([0.0, 0.0], abs=1e-6)


def test_what_was_homed_and_tested_holds_for_the_next_episode(rig: tuple[OwnRig, Pack]) -> None:
    """Of a machine whose sensors answer by themselves as the sign test wants."""
    host, pack = rig
    good, names = signals_of(pack), [s["name"] for s in pack.facts["controller"]["signals"]["given"]]
    tests = [t for t in pack.facts["controller"]["sign_test"] if t["step"]]
    assert {t["sensor"] for t in tests} == {"trolley speed", "reel speed"}
    for k in range(200):
        signals = good.copy()
        for t, name in zip(tests, ("trolley.velocity", "reel.velocity"), strict=True):
            signals[names.index(name)] = 2.0 * t["least"] * (k % 41 >= 19)
        command = told(host, k, signals, "sign test", LOCK_STEP | 1 << 8)
        if k and command.state != "sign test":
            break
    assert command.state == "off" and command.tested and not command.homed
    command = told(host, 0, good, "off", LOCK_STEP | 2 << 8)
    assert command.tested and command.state == "off"


def test_in_real_time_silence_ends_in_the_fault(rig: tuple[OwnRig, Pack]) -> None:
    host, pack = rig
    told(host, 0, signals_of(pack), flags=RESTART | AT_ONCE)
    until, states = time.perf_counter() + 20.0, []
    while time.perf_counter() < until and "fault" not in states:
        command = host.receive(until)
        assert command is not None
        states.append(command.state)
        assert command.flags & HOLDING
    assert states[-1] == "fault" and "on" in states and command.reason == "nothing new in time"


def test_datagrams_of_the_policy_alone_are_not_its(rig: tuple[OwnRig, Pack]) -> None:
    host, pack = rig
    if isinstance(host, PlcRig):  # what is damaged ends at its coupler
        host.send(b"PHI1")
        assert host.receive(time.perf_counter() + 0.2) is None and told(host, 0, signals_of(pack)).state == "on"
        return
    host.send(pack_sensors(0, 1, np.zeros(len(pack.facts["inputs"])), LOCK_STEP | RESTART))
    host.send(pack_signals(0, 1, np.zeros(99, dtype="<u4"), LOCK_STEP | RESTART, 4, False))
    host.send(b"PHI1")
    command = told(host, 0, signals_of(pack), flags=LOCK_STEP | RESTART)
    assert command.counters["damaged"] == 3 and host.read(b"PHD1" + bytes(80)) is None


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("fly", "no such state"), ("reset", "no such state"), ("", "name the states"), ("limited x", "limited"), ("limited 0 s", "more than 0"),
        ("limited 2 h", "at most an hour"), ("limited -1 s", "more than 0"), ("onward", "no such state"), ("limited 1 m", "limited"),
    ],
)  # fmt: skip
def test_states_that_are_none_get_one_line(text: str, said: str) -> None:
    with pytest.raises(FileError, match=said):
        Script(text)


def test_a_script_waits_for_what_comes_to_its_end() -> None:
    script = Script("sign test, limited 0.5 s, on")
    assert script.now(0.0, "off") == "sign test" and script.now(0.1, "sign test") == "sign test"
    assert script.now(1.0, "off") == "limited" and script.now(1.4, "limited") == "limited" and script.waits == "limited"
    assert script.now(1.6, "limited") == "on" and script.waits == "" and script.now(99.0, "fault") == "on"


def test_the_command_line_names_what_cannot_be(
    trained: tuple[Project, RunRow], packed: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    for more, said in (
        (["--ask", "on", "--on", "fleet"], "leave --ask out"), (["--whole", "--on", "kettle"], "no rig"),
        (["--ask", "fly"], "no such state"), (["--whole", "--map", "loss=0:30%:2"], "policy alone"),
    ):  # fmt: skip
        assert main(["rollout", str(packed), "--fast", "--episodes", "1", *more]) == 2
        err = capsys.readouterr().err.strip()
        assert said in err and "\n" not in err
    assert trained[0].rollout(packed, episodes=1, ask="limited 0.5 s, on").states[0]["state"] == "limited"
    assert main(["rollout", str(packed), "--whole", "--dry-run"]) == 0
    assert "trolley.velocity 0" in capsys.readouterr().out


@pytest.mark.parametrize("task", ["rock", "dock", "sow", "hang", "lane", "walk", "lift"])
def test_every_shipped_policy_runs_as_a_whole_controller(shipped: Path, task: str, tmp_path: Path) -> None:
    """Mixing, choices, forward kinematics, contacts: machines and tasks as they are shipped, packed and run without a setting."""
    store = RunStore(shipped)
    row = next(r for r in reversed(store.runs()) if r.task == task and r.best_step is not None)
    store.close()
    write_pack(shipped, row, tmp_path / "pack")
    result = roll_out(tmp_path / "pack", "host", episodes=1, lock_step=True, whole=True).summary()
    assert result["missed"] == 0 and result["counters"]["refused"] == 0
    assert result["drive_difference"] < 1e-5 and result["command_difference"] < 1e-3


def test_raw_names_that_are_none_are_left_out(packed: Path) -> None:
    """As a pack of a stranger may have them; the text says what it takes."""
    pack = read_pack(packed)
    facts = json.loads(json.dumps(pack.facts))
    strange = {
        "name": "kettle",
        "zero": 0,
        "scale": 1.0,
        "offset": 0.0,
        "low": 0,
        "high": 1,
        "turns_over": 0,
        "what": "",
    }
    facts["controller"]["signals"] |= {"read": [strange], "put": [strange]}
    with PlcRig(replace(pack, facts=facts), whole=True) as rig:
        assert told(rig, 0, signals_of(pack)).state == "on"
