"""Samples missed by the host rig in real time at 100 Hz: with ordinary and with real-time priority, on an idle computer and on a busy one.

``PYTHONPATH=src .venv/bin/python benchmarks/real_time.py`` (eight minutes, on an otherwise idle computer). The machine is the hoist, commanded
100 times a second by a policy that hardly learned; busy are as many processes as there are cores. A sample is missed when no command came
before it was over; where this computer itself comes late to a sample the plant waits, which is said apart.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from unittest.mock import patch

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from plucky_heron.handover.pack import write_pack
from plucky_heron.project import Project, demo_source
from plucky_heron.rigs import priority
from plucky_heron.rigs.outcome import RolloutResult, Sample
from plucky_heron.rigs.rollout import roll_out
from plucky_heron.runs import launch
from plucky_heron.training.recipe import with_changes

SLOW, FAST = 'control_rate = "50 Hz"', 'control_rate = "100 Hz"'


def pack_at(place: Path) -> Path:
    """A pack of the hoist at this rate."""
    folder = place / "quillmere"
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    project = Project(folder)
    task = folder / "tasks" / "lift.toml"
    text = task.read_text()
    assert text.count(SLOW) == 1
    task.write_text(text.replace(SLOW, FAST))
    short = {"steps": "2048", "copies": "32", "evaluation.every": "2048", "evaluation.episodes": "4"}
    row = launch.wait(folder, launch.train(folder, "lift", with_changes(project.recipe("ppo"), short), [1]))[0]
    write_pack(folder, row, place / "pack", ("onnx", "c99"))
    return place / "pack"


@contextmanager
def busy(count: int) -> Iterator[None]:
    """So many processes that do nothing but compute."""
    processes = [subprocess.Popen([sys.executable, "-c", "while True: sum(range(10000))"]) for _ in range(count)]
    try:
        yield
    finally:
        for process in processes:
            process.kill()
            process.wait()


def stolen() -> int:
    """Hundredths of a second that the host of a virtual machine has taken of its processors so far (Linux, proc(5), ``steal``)."""
    return int(Path("/proc/stat").read_text().split("\n", 1)[0].split()[8])


def measure(pack: Path, episodes: int, samples: int, permitted: bool) -> tuple[RolloutResult, int, int]:
    """So many episodes, ended early after so many samples; how many were missed while nothing was stolen, and what was stolen."""
    before = [stolen()]
    missed: list[int] = []

    def watch(sample: Sample) -> bool:
        before.append(stolen())
        if sample.round_trip is None:
            missed.append(len(before) - 1)
        return len(before) <= samples

    with patch.object(priority, "raised", priority.raised if permitted else lambda process: False):
        result = roll_out(pack, "host", episodes=episodes, watch=watch)
    # what is stolen is told in whole hundredths, sometimes with the next sample
    own = sum(before[max(0, k - 2)] == before[min(k + 1, len(before) - 1)] for k in missed)
    return result, own, before[-1] - before[0]


@dataclass
class Told:
    """What rounds of one kind showed in all."""

    samples: int = 0
    missed: int = 0
    own: int = 0
    waited: int = 0
    taken: int = 0
    trips: list[float] = field(default_factory=list)

    def add(self, found: RolloutResult, own: int, taken: int) -> None:
        """Another round."""
        self.samples, self.missed, self.waited = (
            self.samples + found.samples, self.missed + found.missed, self.waited + found.waited,
        )  # fmt: skip
        self.own, self.taken = self.own + own, self.taken + taken
        self.trips += found.round_trips

    def said(self) -> str:
        """In a line."""
        median, most = 1e3 * float(np.median(self.trips)), 1e3 * float(np.percentile(self.trips, 99))
        return (
            f"{self.missed} of {self.samples} missed, {self.own} of these while the host of this virtual machine took nothing of its processors "
            f"({self.taken / 100:.1f} s in all), plant waited {self.waited} times; round trip median {median:.2f} ms, 99 % {most:.2f}, "
            f"longest {1e3 * max(self.trips):.2f}"
        )


def main() -> int:
    """Measure in turns and say."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--smoke", action="store_true")
    given = parser.parse_args()
    rounds, samples = (1, 50) if given.smoke else (4, 2_500)
    with tempfile.TemporaryDirectory() as room:
        pack = pack_at(Path(room))
        for at_work in (0, len(os.sched_getaffinity(0))):
            told = {False: Told(), True: Told()}
            for permitted in (False, True) * rounds:
                with busy(at_work):
                    found, own, taken = measure(pack, 5, samples, permitted)
                assert found.sample_time == 0.01 and found.samples > 0
                told[found.real_time_priority].add(found, own, taken)
            for priority_given, one in told.items():
                if one.samples:
                    print(
                        f"{'busy' if at_work else 'idle'}, {'real-time' if priority_given else 'ordinary'} priority: {one.said()}",
                        flush=True,
                    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
