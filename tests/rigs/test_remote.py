"""A controller at an address: frames on a serial line, UDP, nothing sent unasked, limited authority first, and a stop at the end."""

from __future__ import annotations

import json
import os
import pty
import re
import select
import socket
import subprocess
import sys
import threading
import tty
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plucky_heron.errors import StateError
from plucky_heron.handover.reading import read_pack
from plucky_heron.rigs.datagrams import LIMITED, STOP
from plucky_heron.rigs.framing import Frames, stuffed, unstuffed
from plucky_heron.rigs.host import HostRig
from plucky_heron.rigs.remote import check_address
from plucky_heron.rigs.rollout import dry_run, roll_out


class Device(threading.Thread):
    """Stands for a controller: hands what comes on to a host rig and back, and keeps what came."""

    def __init__(self, rig: HostRig) -> None:
        super().__init__(daemon=True)
        self.rig, self.came = rig, []  # type: ignore[var-annotated]
        self.over = threading.Event()

    def pass_on(self, data: bytes) -> bytes | None:
        """One datagram, and the answer."""
        self.came.append(data)
        self.rig.socket.send(data)
        ready, _, _ = select.select([self.rig.socket], [], [], 1.0)
        return self.rig.socket.recv(65536) if ready else None


class UdpDevice(Device):
    """At a UDP port of this computer."""

    def __init__(self, rig: HostRig) -> None:
        super().__init__(rig)
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.bind(("127.0.0.1", 0))
        self.name_ = f"udp:127.0.0.1:{self.socket.getsockname()[1]}"

    def run(self) -> None:
        while not self.over.is_set():
            ready, _, _ = select.select([self.socket], [], [], 0.1)
            if ready:
                data, peer = self.socket.recvfrom(65536)
                answer = self.pass_on(data)
                if answer is not None:
                    self.socket.sendto(answer, peer)
        self.socket.close()


class SerialDevice(Device):
    """At the other end of a pseudo terminal."""

    def __init__(self, rig: HostRig) -> None:
        super().__init__(rig)
        self.own, other = pty.openpty()
        tty.setraw(self.own)
        tty.setraw(other)
        self.name_ = f"serial:{os.ttyname(other)}"
        self.other = other

    def run(self) -> None:
        frames = Frames()
        while not self.over.is_set():
            ready, _, _ = select.select([self.own], [], [], 0.1)
            if ready:
                for data in frames.take(os.read(self.own, 4096)):
                    answer = self.pass_on(data)
                    if answer is not None:
                        os.write(self.own, b"\x01noise" + b"\0" + stuffed(answer))
        os.close(self.own)
        os.close(self.other)


@pytest.fixture(params=[UdpDevice, SerialDevice])
def device(packed: Path, request: pytest.FixtureRequest) -> Iterator[Device]:
    """A controller at work."""
    with HostRig(read_pack(packed)) as rig:
        made = request.param(rig)
        made.start()
        yield made
        made.over.set()
        made.join(5.0)


@given(st.binary(max_size=700))
def test_frames_come_back_and_hold_no_zero(data: bytes) -> None:
    frame = stuffed(data)
    assert (
        frame[-1] == 0
        and 0 not in frame[:-1]
        and unstuffed(frame[:-1]) == data
        and len(frame) <= len(data) + len(data) // 254 + 2
    )


@given(st.lists(st.binary(min_size=1, max_size=80), max_size=8), st.lists(st.integers(1, 40), min_size=1, max_size=20))
def test_frames_are_found_however_the_bytes_come(datas: list[bytes], pieces: list[int]) -> None:
    whole, frames, found = b"".join(map(stuffed, datas)), Frames(), []
    at = k = 0
    while at < len(whole):
        size = pieces[k % len(pieces)]
        found += frames.take(whole[at : at + size])
        at, k = at + size, k + 1
    assert found == datas and frames.dropped == 0


@given(st.binary(max_size=3000))
def test_whatever_comes_on_the_line_does_no_harm(data: bytes) -> None:
    frames = Frames()
    frames.take(data)
    assert stuffed(b"whole") and frames.take(b"\0" + stuffed(b"whole"))[-1] == b"whole"


def test_a_pack_runs_on_a_controller_at_an_address_with_limited_authority_first(packed: Path, device: Device) -> None:
    result = roll_out(packed, device.name_, episodes=1, lock_step=True)
    summary = result.summary()
    assert summary["missed"] == 0 and summary["score"] == pytest.approx(summary["score_inside"], rel=0.01)
    assert summary["limited_first"] and summary["command_difference"] < 1e-5
    flags = [data[18] for data in device.came]
    first = next(k for k, f in enumerate(flags) if not f & LIMITED)
    assert first > 20 and all(f & LIMITED for f in flags[:first]) and not any(f & LIMITED for f in flags[first:])
    assert all(f & STOP for f in flags[-3:]) and not any(f & STOP for f in flags[:-3])


def test_limited_commands_stay_near_the_safe_ones(packed: Path) -> None:
    import time

    from plucky_heron.rigs.datagrams import LOCK_STEP, pack_sensors

    far = 3.0 * np.array([-10.0, 4.0, 5.0, 3.0, 0.5, 1.0, 3.0, 0.5, 500.0, 0.8])
    rows = far * np.random.default_rng(1).uniform(-1, 1, (200, 10))
    pack = read_pack(packed)
    # as if the ranges were far narrower, so that this policy, which has hardly learned, comes up against the quarter
    header = re.sub(rb"HERON_POLICY_SPAN {[^}]*}", b"HERON_POLICY_SPAN { 1.0f, 0.01f }", pack.files["policy.h"])
    narrow = replace(pack, files=pack.files | {"policy.h": header})
    with HostRig(narrow) as rig:
        found = {}
        for limited in (0, LIMITED):
            for k, row in enumerate(rows):
                rig.send(pack_sensors(k, 1, row, LOCK_STEP | limited | (1 if k == 0 else 0)))
                command = rig.receive(time.perf_counter() + 5.0)
                assert command is not None
                found[limited, k] = command.values
        most = np.array([0.25, 0.0025])
        free = np.array([found[0, k] for k in range(len(rows))])
        held = np.array([found[LIMITED, k] for k in range(len(rows))])
        assert (np.abs(free) > most).any(axis=0).all() and np.allclose(held, np.clip(free, -most, most), rtol=1e-6)
        rig.send(pack_sensors(999, 1, far, LOCK_STEP | STOP))
        command = rig.receive(time.perf_counter() + 5.0)
        assert command is not None and command.flags == 3 and command.values.tolist() == [0.0, 0.0]


def command(*arguments: str) -> subprocess.CompletedProcess[str]:
    """The command line."""
    whole = [sys.executable, "-m", "plucky_heron.cli.main", "rollout", *arguments]
    return subprocess.run(whole, capture_output=True, text=True, timeout=300, check=False, stdin=subprocess.DEVNULL)


def test_nothing_is_sent_before_somebody_says_that_the_limits_are_right(packed: Path) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
        own.bind(("127.0.0.1", 0))
        own.setblocking(False)
        where = f"udp:127.0.0.1:{own.getsockname()[1]}"
        refused = command(str(packed), "--on", where)
        assert (
            refused.returncode == 2
            and "push -500 .. 500 N" in refused.stderr
            and "--confirm-limits" in refused.stderr
            and refused.stderr.count("\n") == 1
        )
        shown = command(str(packed), "--on", where, "--dry-run", "--json")
        answer = json.loads(shown.stdout)
        assert (
            answer["dry_run"]
            and len(answer["samples"]) == 5
            and answer["limits"][0]["high"] == 500.0
            and answer["bytes"] == 64
        )
        with pytest.raises(BlockingIOError):
            own.recv(100)
        gone = command(str(packed), "--on", where, "--confirm-limits", "--episodes", "1")
        assert gone.returncode == 2 and "was silent" in gone.stderr and own.recv(100)[:4] == b"PHS1"


def test_dry_run_says_the_commands_of_the_policy(packed: Path) -> None:
    answer = dry_run(packed, "serial:/dev/nothing")
    inside = roll_out(packed, episodes=1, lock_step=True)
    assert answer["score_inside"] == pytest.approx(inside.scores_inside[0]) and "/dev/nothing" in answer["to"]
    np.testing.assert_allclose(answer["samples"][3]["commands"], inside.recordings[0].commands[3], rtol=1e-3, atol=1e-3)


@pytest.mark.parametrize(
    "rig",
    [
        "udp:",
        "udp:host",
        "udp:host:0",
        "udp:host:70000",
        "udp:a b:1",
        "serial:",
        "serial:ttyUSB0",
        "serial:/dev/x@fast",
        "usb:1",
    ],
)
def test_wrong_addresses_are_named(rig: str, packed: Path) -> None:
    with pytest.raises(StateError, match="wanted udp:HOST:PORT"):
        check_address(rig)
    with pytest.raises(StateError, match="udp:HOST:PORT"):
        roll_out(packed, rig)


def test_a_line_that_cannot_be_opened_is_named(packed: Path) -> None:
    with pytest.raises(StateError, match="cannot be opened"):
        roll_out(packed, "serial:/dev/there-is-none")
