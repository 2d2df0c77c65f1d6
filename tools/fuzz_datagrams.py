"""Sends a rig whatever a bad line may bring, under the address and undefined-behaviour sanitizers: it must neither fall nor fall silent.

``python tools/fuzz_datagrams.py [--count N] [--seed S] [--smoke]``; exit status 1 if it did. Half of them go to a rig with the policy
alone, half to one with the whole controller, which is also asked for states at random.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from plucky_heron.handover.pack import write_pack
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.project import Project, demo_source
from plucky_heron.rigs.datagrams import LOCK_STEP, RESTART, pack_sensors, pack_signals, unpack_command
from plucky_heron.rigs.host import FLAGS, HostRig
from plucky_heron.runs import launch
from plucky_heron.training.recipe import with_changes

SANITIZERS = ("-fsanitize=address,undefined", "-fno-sanitize-recover=all", "-fno-omit-frame-pointer", "-g")


def small_pack(place: Path) -> Pack:
    """A pack of a run that hardly learned."""
    folder = place / "quillmere"
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    project = Project(folder)
    short = {
        "steps": "512",
        "copies": "16",
        "steps_per_update": "256",
        "evaluation.every": "256",
        "evaluation.episodes": "4",
    }
    row = launch.wait(folder, launch.train(folder, "lift", with_changes(project.recipe("ppo"), short), [1]))[0]
    write_pack(folder, row, place / "pack")
    return read_pack(place / "pack")


Make = Callable[[int, int, np.ndarray, int], bytes]


def for_whole(random_: random.Random) -> Make:
    """Datagrams for the whole controller, asking for any state and some that are none."""

    def make(sequence: int, stamp: int, values: np.ndarray, flags: int) -> bytes:
        words = values.astype("<f4").view("<u4")
        return pack_signals(
            sequence, stamp, words, flags, random_.choice((0, 1, 2, 3, 4, 4, 4, 5, 255)), random_.random() < 0.1
        )

    return make


def wrong(random_: random.Random, inputs: int, number: int, make: Make) -> bytes:
    """A datagram with something wrong about it, or nothing at all."""
    values = np.array(
        [random_.choice((0.0, 1.0, 1e30, -1e30, float("nan"), float("inf"), 1e-40)) for _ in range(inputs)]
    )
    good = bytearray(
        make(
            number, random_.getrandbits(40), values, random_.choice((0, RESTART, LOCK_STEP, RESTART | LOCK_STEP, 0xF8))
        )
    )
    kind = random_.random()
    if kind < 0.2:
        return bytes(random_.getrandbits(8) for _ in range(random_.randrange(0, 2100)))
    if kind < 0.5:
        good[random_.randrange(len(good))] ^= 1 << random_.randrange(8)
    elif kind < 0.6:
        del good[random_.randrange(len(good)) :]
    elif kind < 0.7:
        good += bytes(random_.randrange(1, 1500))
    elif kind < 0.8:
        return make(random_.choice((0, 1, 2**31, 2**32 - 1)), 0, values, 0)
    elif kind < 0.85:
        return make(number, 0, np.zeros(random_.randrange(0, 400)), 0)
    return bytes(good)


def answers(rig: HostRig, number: int, make: Make) -> bool:
    """Whether the rig still answers a good datagram."""
    for attempt in range(5):
        rig.send(make(number, 0, np.full(rig.inputs, 0.1), RESTART | LOCK_STEP))
        until = time.perf_counter() + 2.0
        while (command := rig.receive(until)) is not None:
            if command.sequence == number and np.isfinite(command.values).all():
                return True
        number += attempt + 1
    return False


def main() -> int:
    """Send, look in now and then, count."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=60_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--smoke", action="store_true", help="a second or two of it")
    given = parser.parse_args()
    count = 600 if given.smoke else given.count
    random_ = random.Random(given.seed)
    began = time.perf_counter()
    with tempfile.TemporaryDirectory(prefix="heron-rig-") as place:
        os.environ["XDG_DATA_HOME"] = place
        pack = small_pack(Path(place))
        taken_wrong, alive = 0, True
        for whole, make in ((False, pack_sensors), (True, for_whole(random_))):
            with HostRig(pack, (*FLAGS, *SANITIZERS), whole) as rig:
                for number in range(count // 2):
                    rig.send(wrong(random_, rig.inputs, number, make))
                    if number % 200 == 199 and not answers(rig, number + 1, make):
                        kind = "whole controller" if whole else "policy"
                        print(
                            f"{kind}: silent or fallen after {number + 1} datagrams (seed {given.seed}); alive: {rig.alive()}"
                        )
                        return 1
                alive &= rig.alive()
        # what arrives on our side is checked as well
        for _ in range(count // 10):
            data = bytes(random_.getrandbits(8) for _ in range(random_.randrange(0, 200)))
            taken_wrong += rig.read(data) is not None or unpack_command(data, len(pack.facts["outputs"])) is not None
    print(
        f"{count} datagrams under {SANITIZERS[0]} in {time.perf_counter() - began:.0f} s: alive and answering: {alive}; {taken_wrong} of {count // 10} random answers taken for good"
    )
    return 0 if alive and not taken_wrong else 1


if __name__ == "__main__":
    sys.exit(main())
