"""The pack computes what the policy computes; the rig's loop stands whatever comes over the line."""

from __future__ import annotations

import json
import os
import shutil
import struct
import subprocess
import sys
import time
import zlib
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import plucky_heron
from plucky_heron.errors import FileError, StateError
from plucky_heron.handover.description import pack_hash
from plucky_heron.handover.forms import catalogue
from plucky_heron.handover.forms.catalogue import TOLERANCE, run_c
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.pack import write_pack
from plucky_heron.handover.reading import read_pack
from plucky_heron.project import Project
from plucky_heron.rigs import loop
from plucky_heron.rigs.datagrams import HOLDING, LOCK_STEP, RESTART, SAFE, Command, pack_sensors, unpack_command
from plucky_heron.rigs.host import HostRig
from plucky_heron.rigs.rollout import roll_out
from plucky_heron.runs.store import RunRow


@pytest.fixture(scope="module")
def packed(trained: tuple[Project, RunRow], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A pack of the short run."""
    project, row = trained
    out = tmp_path_factory.mktemp("pack") / "pack"
    answer = write_pack(project.folder, row, out)
    assert max(answer["equality"].values()) <= TOLERANCE
    return out


def test_c_refuses_what_is_not_finite(packed: Path) -> None:
    files: dict[str, bytes | str] = {n: (packed / n).read_text() for n in ("policy.h", "policy.c", "check.c")}
    with pytest.raises(StateError, match="refused"):
        run_c(files, np.full((1, 10), np.nan))


def test_pack_says_all_that_a_controller_needs(packed: Path) -> None:
    pack = read_pack(packed).facts
    assert [s["name"] for s in pack["inputs"]][:2] == ["offset", "height"]
    assert pack["inputs"][4]["unit"] == "rad" and pack["outputs"][0]["drive"]["lag"] == 0.06
    assert pack["sample_time"] == 0.02 and pack["run"]["seed"] == 7 and pack["start_pose"]["reel"] == 4.0
    assert pack["safety"] == {"hold": 0.1, "command": [0.0, 0.0], "kind": "ramp", "warning": ""}
    lines = (packed / "vectors.csv").read_text().splitlines()
    assert len(lines) == 501 and lines[0].endswith("command push,command reel")
    sheet = (packed / "data-sheet.md").read_text()
    for word in ("offset", "cable rate", "Missing input", "past the mark"):
        assert word in sheet
    row = np.array([float(x) for x in lines[17].split(",")])
    policy_commands = run_c({n: (packed / n).read_text() for n in ("policy.h", "policy.c", "check.c")}, row[None, :10])
    np.testing.assert_allclose(policy_commands[0], row[10:], rtol=1e-5, atol=1e-4)


def test_a_pack_that_differs_is_not_written(
    trained: tuple[Project, RunRow], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    project, row = trained
    monkeypatch.setattr(catalogue, "run_onnx", lambda _, vectors, first: np.full((len(vectors), 2), 3.0))
    with pytest.raises(StateError, match="not written: onnx"):
        write_pack(project.folder, row, tmp_path / "out")
    assert not (tmp_path / "out").exists()


def test_a_folder_that_is_no_pack_is_left_alone(trained: tuple[Project, RunRow], tmp_path: Path) -> None:
    project, row = trained
    (tmp_path / "mine.txt").write_text("precious")
    with pytest.raises(FileError, match="not a pack"):
        write_pack(project.folder, row, tmp_path)
    assert (tmp_path / "mine.txt").read_text() == "precious"


def test_a_changed_pack_is_refused(packed: Path, tmp_path: Path) -> None:
    copy = tmp_path / "copy"
    shutil.copytree(packed, copy)
    (copy / "policy.c").write_text((copy / "policy.c").read_text() + "\n")
    with pytest.raises(FileError, match="changed"):
        read_pack(copy)
    facts = json.loads((packed / "pack.json").read_text())
    facts["hashes"]["../../etc/passwd"] = "0" * 64
    (copy / "pack.json").write_text(json.dumps(facts))
    with pytest.raises(FileError, match="was changed after"):
        read_pack(copy)
    facts["hash"] = pack_hash(facts)
    (copy / "policy.c").write_bytes((packed / "policy.c").read_bytes())
    (copy / "pack.json").write_text(json.dumps(facts))
    with pytest.raises(FileError, match="leads out of"):
        read_pack(copy)
    with pytest.raises(FileError, match="not a pack"):
        read_pack(tmp_path)


def test_lock_step_gives_the_score_of_inside_and_misses_nothing(packed: Path) -> None:
    result = roll_out(packed, episodes=4, lock_step=True).summary()
    assert result["missed"] == 0 and result["samples"] >= 4 * 50
    assert result["score"] == pytest.approx(result["score_inside"], rel=0.01)
    assert result["command_difference"] < TOLERANCE
    assert result["counters"]["damaged"] == result["counters"]["lost"] == 0
    with pytest.raises(StateError, match="no rig"):
        roll_out(packed, "moon")


def test_a_rollout_can_be_stopped(packed: Path) -> None:
    seen: list[Any] = []

    def watch(sample: Any) -> bool:
        if len(seen) == 20:
            return False
        seen.append(sample)
        return True

    result = roll_out(packed, episodes=3, lock_step=True, watch=watch)
    assert result.stopped and result.scores == [] and len(seen) == 20


class Line2Rig:
    """A rig with helpers to send whatever a bad line may bring."""

    def __init__(self, rig: HostRig) -> None:
        self.rig = rig

    def ask(self, datagram: bytes, wait: float = 10.0) -> Command | None:
        """Send and take the next answer."""
        self.rig.send(datagram)
        return self.rig.receive(time.perf_counter() + wait)


@pytest.fixture
def line(packed: Path):  # type: ignore[no-untyped-def]
    """A started rig."""
    with HostRig(read_pack(packed)) as rig:
        yield Line2Rig(rig)


def sensors(sequence: int, flags: int = 0, value: float = 0.1) -> bytes:
    """Sensor datagram for ten inputs."""
    return pack_sensors(sequence, 77, np.full(10, value), flags)


def test_damaged_repeated_and_late_datagrams_are_counted_and_survived(line: Line2Rig) -> None:
    first = line.ask(sensors(1, RESTART | LOCK_STEP))
    assert first is not None and first.sequence == 1 and first.stamp == 77 and first.flags == 0
    whole = sensors(2, LOCK_STEP)
    for bad in (
        whole[:-1],
        whole + b"x",
        b"",
        b"PHS1",
        whole[:30] + bytes([whole[30] ^ 1]) + whole[31:],
        b"\0" * len(whole),
    ):
        line.rig.send(bad)
    second = line.ask(whole)
    assert second is not None and second.sequence == 2
    assert second.counters["damaged"] == 6
    repeated = line.ask(whole)
    assert repeated is not None and repeated.counters["repeated"] == 1
    np.testing.assert_array_equal(repeated.values, second.values)
    jumped = line.ask(sensors(6, LOCK_STEP))
    assert jumped is not None and jumped.counters["lost"] == 3
    assert line.ask(sensors(4, LOCK_STEP), 0.1) is None
    last = line.ask(sensors(7, LOCK_STEP))
    assert last is not None and last.counters["late"] == 1 and last.counters["received"] == 4


def test_what_is_not_finite_holds_the_last_command(line: Line2Rig) -> None:
    good = line.ask(sensors(1, RESTART | LOCK_STEP))
    bad = line.ask(sensors(2, LOCK_STEP, float("nan")))
    assert good is not None and bad is not None
    assert bad.flags == HOLDING and bad.counters["refused"] == 1
    np.testing.assert_array_equal(bad.values, good.values)


def silence(line: Line2Rig, first: int) -> tuple[Command, list[Command]]:
    """One good sample, then nothing: the answer, and what the controller sent by itself until it was safe three times."""
    good = line.ask(sensors(first, RESTART, 0.3), 10.0)
    assert good is not None and np.abs(good.values).max() > 0
    answers: list[Command] = []
    while sum(bool(a.flags & SAFE) for a in answers) < 3:  # however late a busy machine lets the controller be
        command = line.rig.receive(time.perf_counter() + 10.0)
        assert command is not None
        answers.append(command)
    return good, answers


def test_silence_holds_then_goes_to_the_safe_command_and_comes_back(line: Line2Rig) -> None:
    for attempt in range(3):  # a busy machine may stop the controller for longer than its hold time
        good, answers = silence(line, 10 * attempt)
        held = [a for a in answers if a.flags == HOLDING]
        safe = [a for a in answers if a.flags == HOLDING | SAFE]
        if held:
            break
    assert held and safe and answers.index(safe[0]) == len(held)
    for a in held:
        np.testing.assert_array_equal(a.values, good.values)
    for a in safe:
        np.testing.assert_array_equal(a.values, [0.0, 0.0])
    back = None
    line.rig.send(sensors(10 * attempt + 1))
    while back is None or back.flags:
        back = line.rig.receive(time.perf_counter() + 10.0)
        assert back is not None
    assert back.sequence == 10 * attempt + 1 and back.counters["safe"] >= len(safe)


def test_datagrams_are_checked_on_this_side_too() -> None:
    body = struct.pack("<4sIQHH", b"PHC1", 3, 5, 2, 0) + np.array([1.0, -2.0], "<f4").tobytes() + bytes(32)
    whole = body + struct.pack("<I", zlib.crc32(body))
    command = unpack_command(whole, 2)
    assert command is not None and command.sequence == 3 and list(command.values) == [1.0, -2.0]
    assert unpack_command(whole[:-1], 2) is None
    assert unpack_command(whole, 3) is None
    assert unpack_command(whole[:20] + b"\1" + whole[21:], 2) is None


def test_the_runtime_compiles_as_strict_c99(packed: Path, tmp_path: Path) -> None:
    for name in ("policy.h", "policy.c"):
        shutil.copy2(packed / name, tmp_path)
    (tmp_path / "main.c").write_text('#include "policy.h"\nint main(void) { return HERON_POLICY_INPUTS - 10; }\n')
    assert compile_c(tmp_path, ["main.c", "policy.c"], "try").exists()
    (tmp_path / "bad.c").write_text("int main(void) { int unused; return 0; }\n")
    with pytest.raises(StateError, match="does not compile"):
        compile_c(tmp_path, ["bad.c"], "bad")


STARTER = """
import sys, time
from pathlib import Path
from plucky_heron.handover.reading import read_pack
from plucky_heron.rigs.host import HostRig
rig = HostRig(read_pack(Path(sys.argv[1])))
print(rig._process.pid, flush=True)
time.sleep(60)
"""
ADOPTER = """
import ctypes, os, signal, subprocess, sys, time
assert ctypes.CDLL(None).prctl(36, 1, 0, 0, 0) == 0  # children of a process that ends become ours, not those of process 1
starter = subprocess.Popen([sys.executable, "-c", sys.argv[1], sys.argv[2]], stdout=subprocess.PIPE, text=True)
rig = int(starter.stdout.readline())
if sys.argv[3] == "kill":
    starter.send_signal(signal.SIGKILL)
    starter.wait()
until = time.monotonic() + 5.0
ended = False
while not ended and time.monotonic() < until:
    try:
        ended = os.waitpid(rig, os.WNOHANG)[0] == rig
    except ChildProcessError:  # not ours: its starter is there
        until = min(until, time.monotonic() + 1.0)
    time.sleep(0.05)
print("ended" if ended else "at work", flush=True)
if sys.argv[3] != "kill":
    starter.kill()
"""


@pytest.mark.parametrize(("what", "said"), [("kill", "ended"), ("leave", "at work")])
def test_a_rig_ends_with_its_starter_also_where_another_process_adopts_it(packed: Path, what: str, said: str) -> None:
    source = str(Path(plucky_heron.__file__).parents[1])
    done = subprocess.run(
        [sys.executable, "-c", ADOPTER, STARTER, str(packed), what],
        capture_output=True, text=True, timeout=300, env={**os.environ, "PYTHONPATH": source}, check=False,
    )  # fmt: skip
    assert done.stdout.strip() == said, done.stderr


def test_a_computer_that_is_late_is_not_held_against_the_controller(
    packed: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    honest, count = time.sleep, 0

    def late(seconds: float) -> None:
        nonlocal count
        count += 1
        honest(seconds + (0.12 if count % 10 == 0 else 0.0))  # more than two samples

    monkeypatch.setattr(loop.time, "sleep", late)
    result = roll_out(packed, episodes=1, watch=lambda sample: sample.index < 60)
    assert result.stopped and result.samples == 61 and result.waited >= 6
    assert result.missed < 0.5 * result.waited  # each of them was one before
    assert result.summary()["waited"] == result.waited
