"""The emulated board and ARM Linux: the same commands as inside the program, how much of the board is used, and nothing but whole frames."""

from __future__ import annotations

import random
import shutil
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import psutil
import pytest

from plucky_heron.errors import StateError
from plucky_heron.handover.reading import read_pack
from plucky_heron.rigs import board as board_module
from plucky_heron.rigs import host as host_module
from plucky_heron.rigs.board import BoardRig
from plucky_heron.rigs.datagrams import LOCK_STEP, pack_sensors
from plucky_heron.rigs.faults import read_faults
from plucky_heron.rigs.framing import stuffed
from plucky_heron.rigs.rollout import Sample, roll_out

TOOLS = {"board": ("arm-none-eabi-gcc", "qemu-system-arm"), "arm64": ("aarch64-linux-gnu-gcc", "qemu-aarch64"), "arm32": ("arm-linux-gnueabihf-gcc", "qemu-arm")}  # fmt: skip


def need(rig: str) -> None:
    """Leave a test out where its tools are not installed; set-up for the tests installs them where it can."""
    lacking = [tool for tool in TOOLS[rig] if shutil.which(tool) is None]
    if lacking:
        pytest.skip(f"{', '.join(lacking)} not installed")


@pytest.mark.parametrize("rig", ["board", "board-fixed", "arm64", "arm32"])
def test_each_rig_gives_the_score_of_inside(packed: Path, rig: str) -> None:
    need(rig.removesuffix("-fixed"))
    result = roll_out(packed, rig, episodes=1, lock_step=True).summary()
    assert result["missed"] == 0 and result["rig"] == rig
    fixed = rig == "board-fixed"
    assert result["command_difference"] < (0.02 if fixed else 1e-5)
    assert result["score"] == pytest.approx(result["score_inside"], rel=0.01, abs=0.5)
    if rig.startswith("board"):
        used = result["footprint"]
        assert 10_000 < used["flash"] < 60_000 and 500 < used["ram"] < 5_000 and 300 < used["stack"] < 4_000
        # a call of the hoist's policy at an assumed 80 MHz takes at most a fifth of a sample
        assert 10_000 < used["instructions"] < 0.2 * 0.02 * 80e6


def test_instructions_of_a_call_are_counted_alike_each_time(packed: Path) -> None:
    need("board")
    pack = read_pack(packed)
    counted = []
    for _ in range(2):
        with BoardRig(pack) as rig:
            for k in range(20):
                rig.send(pack_sensors(k, 1, np.full(10, 0.1), LOCK_STEP))
                assert rig.receive_bytes(time.perf_counter() + 10.0) is not None
            counted.append(rig.footprint()["instructions"])
    # of the bus, only when the clock's interrupt comes differs
    assert abs(counted[0] - counted[1]) < 0.02 * counted[0]


def test_the_board_stands_whatever_comes_on_its_line(packed: Path) -> None:
    need("board")
    chance = random.Random(5)
    with BoardRig(read_pack(packed)) as rig:
        good = pack_sensors(1, 7, np.full(10, 0.1), LOCK_STEP)
        assert rig._socket is not None
        # an emulated line on a busy computer takes its time; whoever writes to it here may wait
        rig._socket.settimeout(60.0)
        for _ in range(300):
            kind = chance.randrange(4)
            if kind == 0:
                rig._socket.sendall(bytes(chance.randrange(256) for _ in range(chance.randrange(400))))
            elif kind == 1:
                rig._socket.sendall(stuffed(good[: chance.randrange(len(good))]))
            elif kind == 2:
                wrong = bytearray(good)
                wrong[chance.randrange(len(wrong))] ^= 1 << chance.randrange(8)
                rig._socket.sendall(stuffed(bytes(wrong)))
            else:
                rig._socket.sendall(b"\x05" * 2000 + b"\0")
        rig._socket.sendall(b"\0")
        # what was sent is still being read
        patience = time.perf_counter() + 60.0
        for sequence in range(2, 5):
            rig.send(pack_sensors(sequence, sequence, np.full(10, 0.1), LOCK_STEP))
        seen: list[int] = []
        while len(seen) < 3 and (data := rig.receive_bytes(patience)) is not None:
            command = rig.read(data)
            if command is not None and command.stamp < 7:
                seen.append(command.sequence)
        assert seen == [2, 3, 4] and rig.alive()
        rig.restart()
        rig.send(good)
        data = rig.receive_bytes(time.perf_counter() + 10.0)
        assert data is not None and rig.read(data) is not None


def test_in_real_time_and_with_faults(packed: Path) -> None:
    need("board")
    seen: list[Sample] = []

    def watch(sample: Sample) -> bool:
        seen.append(sample)
        return len(seen) < 200  # four seconds of it

    result = roll_out(
        packed, "board", episodes=1, faults=read_faults("loss=10%,bit_errors=1e-5,restart=2s"), watch=watch
    )
    assert (
        result.stopped
        and len(seen) == 200
        and result.link["lost"] > 5
        and result.counters["received"] > 0  # how many answers are in time depends on what else this computer does
    )


def test_the_emulator_ends_with_whoever_started_it(packed: Path) -> None:
    need("board")
    if shutil.which("setpriv") is None:
        pytest.skip("setpriv not installed")
    code = (
        "import sys, time; from pathlib import Path; from plucky_heron.handover.reading import read_pack\n"
        "from plucky_heron.rigs.board import BoardRig\n"
        "rig = BoardRig(read_pack(Path(sys.argv[1]))); print(rig._process.pid, rig._place.name, flush=True); time.sleep(600)"
    )
    with subprocess.Popen([sys.executable, "-c", code, str(packed)], stdout=subprocess.PIPE, text=True) as ours:
        assert ours.stdout is not None
        pid, place = ours.stdout.readline().split()
        assert "qemu" in Path(f"/proc/{pid}/cmdline").read_text()
        ours.kill()
        ours.wait()
        until = time.perf_counter() + 60.0
        while psutil.pid_exists(int(pid)) and psutil.Process(int(pid)).status() != psutil.STATUS_ZOMBIE:
            assert time.perf_counter() < until
            time.sleep(0.05)
    shutil.rmtree(place)


def test_the_firmware_of_a_pack_builds_by_its_makefile(packed: Path, tmp_path: Path) -> None:
    need("board")
    copy = tmp_path / "pack"
    shutil.copytree(packed, copy)
    for options in ([], ["FIXED=1"], ["WHOLE=1"]):
        subprocess.run(["make", "-C", str(copy / "firmware"), "clean"], check=True, capture_output=True)
        subprocess.run(["make", "-C", str(copy / "firmware"), *options], check=True, capture_output=True)
        assert (copy / "firmware" / "firmware.elf").stat().st_size > 10_000


def test_what_is_lacking_is_named_with_the_command_that_installs_it(
    packed: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from plucky_heron.rigs import tools

    monkeypatch.setattr(tools.shutil, "which", lambda tool: None)
    for rig, package in (
        ("board", "qemu-system-arm gcc-arm-none-eabi"),
        ("arm32", "gcc-arm-linux-gnueabihf"),
        ("arm64", "qemu-user"),
    ):
        with pytest.raises(StateError, match=f"is not installed; apt-get install .*{package}"):
            roll_out(packed, rig)
    assert board_module.needed is host_module.needed


def test_a_pack_without_fixed_point_says_so(packed: Path) -> None:
    need("board")
    pack = read_pack(packed)
    bare = replace(pack, files={name: data for name, data in pack.files.items() if "fixed" not in name})
    with pytest.raises(StateError, match="--forms fixed"):
        BoardRig(bare, fixed=True)
