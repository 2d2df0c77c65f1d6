"""Sends the board random bytes and frames, the soft controller random registers and requests, a device of a fleet and whoever leads it
random messages: all must go on answering.

``python tools/fuzz_rigs.py [--count N] [--seed S] [--smoke]``; exit status 1 if one did not. A rig whose tools are not installed is left out, and said.
"""

from __future__ import annotations

import argparse
import base64
import json
import os
import random
import socket
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from tests.packs import small_pack

from plucky_heron.errors import StateError
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.rigs.board import BoardRig
from plucky_heron.rigs.datagrams import LOCK_STEP, episode_mark, pack_sensors
from plucky_heron.rigs.fleet.coordinator import DeviceState, Fleet
from plucky_heron.rigs.framing import stuffed
from plucky_heron.rigs.plc import PlcRig


def answers(rig: BoardRig | PlcRig, inputs: int, number: int) -> bool:
    """Whether a rig answers a good datagram of a new episode."""
    for attempt in range(4):
        flags = LOCK_STEP | 1 | episode_mark(number + attempt)
        rig.send(pack_sensors(number + attempt, 1, np.full(inputs, 0.1), flags))
        until = time.perf_counter() + 5.0
        while (data := rig.receive_bytes(until)) is not None:
            command = rig.read(data)
            if command is not None and command.sequence == number + attempt:
                return True
    return False


def frames(pack: Pack, count: int, chance: random.Random) -> bool:
    """Whether the board stands so many."""
    inputs = len(pack.facts["inputs"])
    with BoardRig(pack) as rig:
        assert rig._socket is not None
        for number in range(count):
            good = bytearray(
                pack_sensors(
                    number, 1, np.full(inputs, chance.choice((0.0, 1e30, float("nan")))), chance.randrange(256) & ~4
                )
            )
            kind = chance.randrange(4)
            if kind == 0:
                rig._socket.sendall(bytes(chance.getrandbits(8) for _ in range(chance.randrange(120))))
            elif kind == 1:
                good[chance.randrange(len(good))] ^= 1 << chance.randrange(8)
                rig._socket.sendall(stuffed(bytes(good)))
            elif kind == 2:
                rig._socket.sendall(stuffed(bytes(good[: chance.randrange(len(good))])))
            else:
                rig._socket.sendall(stuffed(bytes(good)))
            if number % 3 == 0:
                while rig.receive_bytes(time.perf_counter()) is not None:
                    pass
            if number % 500 == 499:
                rig._socket.sendall(b"\0")
                if not answers(rig, inputs, 1_000_000 + number):
                    return False
        rig._socket.sendall(b"\0")
        return answers(rig, inputs, 2_000_000)


def requests(pack: Pack, count: int, chance: random.Random) -> bool:
    """Whether the soft controller stands so many."""
    inputs = len(pack.facts["inputs"])
    with PlcRig(pack) as rig:
        port, line = rig._client.comm_params.port, None
        for number in range(count):
            if line is None:
                line = socket.create_connection(("127.0.0.1", port), timeout=5.0)
                line.settimeout(0.5)
            code = chance.choice((1, 2, 3, 4, 5, 6, 15, 16, 16, 16, 22, 23, chance.randrange(256)))
            body = bytes(chance.getrandbits(8) for _ in range(chance.randrange(60)))
            if code == 16 and chance.random() < 0.7:  # a whole write of any numbers
                at, some = chance.randrange(inputs), chance.randrange(1, 4)
                body = (
                    at.to_bytes(2, "big")
                    + some.to_bytes(2, "big")
                    + bytes([2 * some])
                    + bytes(chance.getrandbits(8) for _ in range(2 * some))
                )
            line.settimeout(0.5)
            try:
                line.send(
                    chance.randrange(65536).to_bytes(2, "big")
                    + b"\0\0"
                    + (len(body) + 2).to_bytes(2, "big")
                    + b"\1"
                    + bytes([code])
                    + body
                )
                if number % 10 == 9:  # else both ends would wait for the other to read
                    line.settimeout(0.01)
                    line.recv(65536)
            except TimeoutError:
                pass
            except OSError:
                line.close()
                line = None
            if number % 1000 == 999 and not answers(rig, inputs, 40_000 + number % 20_000):
                return False
        if line is not None:
            line.close()
        return rig.alive() and answers(rig, inputs, 5)


def orders(pack: Pack, count: int, chance: random.Random) -> bool:
    """Whether a device of a fleet, and its coordinator, stand so many messages; afterwards a rollout must be complete."""
    values: tuple[object, ...] = (
        "",
        "x" * 300,
        None,
        -1,
        1e308,
        float("inf"),
        [],
        {},
        True,
        "\ud800",
        "../../etc",
        pack.digest,
        [[[]]],
    )
    with (
        tempfile.TemporaryDirectory(prefix="heron-fleet-") as place,
        Fleet(Path(place), [DeviceState("d1", "host")], silence=150.0) as fleet,
    ):
        if not fleet.ask(["d1"], {"do": "nothing"}):
            return False
        for number in range(count):
            kind = chance.randrange(4)
            told: dict[str, object] = {
                "do": chance.choice(("install", "trial", "rollback", "nothing", *values)), "id": chance.choice(values), "hash": chance.choice(values),
                "pack": chance.choice((base64.b64encode(bytes(chance.getrandbits(8) for _ in range(40))).decode(), *values)), "episodes": chance.choice(values),
            }  # fmt: skip
            data = json.dumps(told).encode()
            if kind == 0:
                data = bytes(chance.getrandbits(8) for _ in range(chance.randrange(80)))
            elif kind == 1:
                data = data[: chance.randrange(len(data))]
            elif kind == 2:
                data = b"[" * chance.randrange(1, 3000) + data
            where = chance.choice(("heron/d1/do", "heron/d1/do", "heron/d1/says", "heron//says", "heron/d1/x/says"))
            fleet.client.publish(where, data, qos=0)
            if number % 500 == 499:
                while not fleet._said.empty():
                    fleet._said.get()
                if not fleet.ask(["d1"], {"do": "nothing"}):
                    return False
        fleet.rollout = {}
        return not fleet.roll_out(pack.folder, 1).stopped and fleet.devices["d1"].version == pack.digest


def main() -> int:
    """Send, look in now and then, say."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=100_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--smoke", action="store_true", help="a few of them")
    given = parser.parse_args()
    count, wrong = (300 if given.smoke else given.count), 0
    with tempfile.TemporaryDirectory(prefix="heron-fuzz-") as place:
        os.environ["XDG_DATA_HOME"] = place
        pack = read_pack(small_pack(Path(place)))
        for name, send in (
            ("frames to the board", frames),
            ("requests to the soft controller", requests),
            ("messages to a fleet", orders),
        ):
            began = time.perf_counter()
            try:
                stands = send(pack, count, random.Random(given.seed))
            except StateError as error:
                print(f"{name}: left out, {error}")
                continue
            print(f"{count} {name} in {time.perf_counter() - began:.0f} s: alive and answering: {stands}")
            wrong += not stands
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
