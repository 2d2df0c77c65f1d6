"""The soft controller: scaled registers, scan cycle, watchdog, and whatever comes over its port."""

from __future__ import annotations

import random
import socket
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plucky_heron.errors import StateError
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.rigs.datagrams import HOLDING, LIMITED, LOCK_STEP, SAFE, STOP, Command, episode_mark, pack_sensors
from plucky_heron.rigs.faults import read_faults
from plucky_heron.rigs.plc import PlcRig
from plucky_heron.rigs.registers import Scale
from plucky_heron.rigs.rollout import roll_out


@pytest.fixture(scope="module")
def pack(packed: Path) -> Pack:
    return read_pack(packed)


@pytest.fixture
def plc(pack: Pack) -> Iterator[PlcRig]:
    """A soft controller at work."""
    with PlcRig(pack) as rig:
        yield rig


def ask(rig: PlcRig, sequence: int, flags: int = LOCK_STEP, value: float = 0.1, wait: float = 5.0) -> Command | None:
    """Send and take the next answer."""
    rig.send(pack_sensors(sequence, sequence + 7, np.full(10, value), flags | episode_mark(0)))
    data = rig.receive_bytes(time.perf_counter() + wait)
    return rig.read(data) if data is not None else None


@given(st.floats(-1e6, 1e6), st.floats(1e-6, 1e6), st.floats(-3.0, 3.0))
def test_registers_hold_a_number_to_a_thirty_thousandth_of_its_range(low: float, width: float, share: float) -> None:
    scale = Scale([low], [low + width], 1.5)
    value = np.array([low + 0.5 * width + 0.5 * width * share])
    back = scale.from_registers(scale.to_registers(value))
    within = np.clip(value, low - 0.25 * width, low + 1.25 * width)
    assert abs(back[0] - within[0]) <= 1.5 * width / 65534 * 1.001 + 1e-9 * abs(low)


def test_what_is_no_number_stays_none_on_its_way() -> None:
    scale = Scale([0.0, 0.0, 0.0], [1.0, 1.0, 1.0], 1.5)
    assert np.isnan(scale.from_registers(scale.to_registers(np.array([np.nan, np.inf, -np.inf])))).all()
    assert all(0 <= r <= 0xFFFF for r in scale.to_registers(np.array([1e30, -1e30, 0.5])))


def test_it_gives_the_score_of_inside(packed: Path) -> None:
    result = roll_out(packed, "plc", episodes=1, lock_step=True).summary()
    assert result["missed"] == 0 and result["score"] == pytest.approx(result["score_inside"], rel=0.01, abs=0.5)
    assert result["command_difference"] < 2e-3  # sensors and commands are whole numbers of 16 bits


def test_lost_late_repeated_and_damaged_are_told_apart(plc: PlcRig) -> None:
    first = ask(plc, 1)
    assert first is not None and first.sequence == 1 and first.stamp == 8 and first.flags == 0
    jumped = ask(plc, 5)
    assert (
        jumped is not None
        and jumped.sequence == 5
        and jumped.counters["lost"] == 3
        and jumped.counters["received"] == 2
    )
    assert ask(plc, 3, wait=0.2) is None
    damaged = bytearray(pack_sensors(9, 1, np.full(10, 0.1), LOCK_STEP))
    damaged[30] ^= 4
    plc.send(bytes(damaged))
    assert plc.receive_bytes(time.perf_counter() + 0.1) is None
    again = ask(plc, 6)
    assert again is not None and again.sequence == 6


def test_a_sensor_that_says_nothing_is_refused_and_the_command_stays(plc: PlcRig) -> None:
    good = ask(plc, 1)
    bad = ask(plc, 2, value=float("nan"))
    assert good is not None and bad is not None and bad.flags == HOLDING and np.array_equal(bad.values, good.values)
    assert bad.counters["refused"] == 1


def test_the_watchdog_holds_then_makes_safe_and_a_stop_does_at_once(plc: PlcRig, pack: Pack) -> None:
    assert ask(plc, 1, flags=0) is not None
    seen: list[Command] = []
    began = time.perf_counter()
    while sum(bool(c.flags & SAFE) for c in seen) < 10:  # however late a busy machine lets it be
        data = plc.receive_bytes(time.perf_counter() + 10.0)
        assert data is not None
        command = plc.read(data)
        assert command is not None
        seen.append(command)
    samples = (time.perf_counter() - began) / pack.facts["sample_time"]
    assert (
        HOLDING in [c.flags for c in seen]
        and seen[-1].flags == HOLDING | SAFE
        and seen[-1].values.tolist() == [0.0, 0.0]
    )
    assert len(seen) < 2 * samples + 10  # once a sample, not as fast as it can
    stopped = ask(plc, 2, flags=LOCK_STEP | STOP)
    assert stopped is not None and stopped.flags == HOLDING | SAFE


def test_limited_authority_keeps_commands_near_the_safe_ones(pack: Pack) -> None:
    text = pack.files["policy.st"].decode()
    # a policy that always wants all there is
    wild = text.replace("made[i] := LIMIT(low[i],", "made[i] := LIMIT(low[i], high[i] +", 1)
    with PlcRig(replace(pack, files=pack.files | {"policy.st": wild.encode()})) as rig:
        free, limited = ask(rig, 1), ask(rig, 2, flags=LOCK_STEP | LIMITED)
        assert free is not None and limited is not None
        assert np.allclose(free.values, [500.0, 0.8], rtol=1e-2) and np.allclose(
            limited.values, [250.0, 0.4], rtol=1e-3
        )


def test_it_stands_whatever_comes_over_its_port(plc: PlcRig) -> None:
    chance = random.Random(3)
    port = plc._client.comm_params.port
    for _ in range(150):
        with socket.create_connection(("127.0.0.1", port), timeout=2.0) as line:
            line.settimeout(0.01)
            for _ in range(chance.randrange(1, 4)):
                body = bytes(chance.randrange(256) for _ in range(chance.randrange(300)))
                if chance.random() < 0.6:  # a whole head of the protocol, then anything
                    body = (
                        chance.randrange(65536).to_bytes(2, "big")
                        + b"\0\0"
                        + len(body).to_bytes(2, "big")
                        + b"\1"
                        + bytes([chance.choice((1, 2, 3, 4, 5, 6, 15, 16, 22, 23, 43, 200))])
                        + body
                    )
                line.sendall(body)
    assert plc.alive()
    for sequence in range(40_000, 40_004):
        answer = ask(plc, sequence)
        assert answer is not None or plc.alive()
    assert answer is not None and answer.sequence == 40_003


def test_with_faults_and_restarts_the_loop_stands(packed: Path) -> None:
    result = roll_out(
        packed,
        "plc",
        episodes=1,
        lock_step=True,
        faults=read_faults("loss=5%,duplicate=5%,reorder=5%,bit_errors=1e-4,restart=4s"),
    )
    assert len(result.scores) == 1 and result.link["lost"] > 5


def test_a_pack_without_structured_text_or_with_a_wrong_one_says_so(pack: Pack) -> None:
    with pytest.raises(StateError, match="--forms st"):
        PlcRig(replace(pack, files={n: d for n, d in pack.files.items() if n != "policy.st"}))
    wrong = pack.files["policy.st"].replace(b"refused := FALSE;", b"refused := 1.5;")
    with pytest.raises(StateError, match=r"policy\.st: line \d+: wanted BOOL"):
        PlcRig(replace(pack, files=pack.files | {"policy.st": wrong}))
