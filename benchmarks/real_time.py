"""Samples missed by the host rig in real time at 100 Hz: with ordinary and with real-time priority, on an idle computer and on a busy one.

``PYTHONPATH=src .venv/bin/python benchmarks/real_time.py`` (six minutes, on an otherwise idle computer). The machine is the hoist, commanded
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
from pathlib import Path
from unittest.mock import patch

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

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


def measure(pack: Path, episodes: int, samples: int, permitted: bool) -> RolloutResult:
    """So many episodes, ended early after so many samples."""
    seen = 0

    def watch(_: Sample) -> bool:
        nonlocal seen
        seen += 1
        return seen < samples

    with patch.object(priority, "raised", priority.raised if permitted else lambda process: False):
        return roll_out(pack, "host", episodes=episodes, watch=watch)


def main() -> int:
    """Measure and say."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--smoke", action="store_true")
    given = parser.parse_args()
    episodes, samples = (1, 50) if given.smoke else (20, 9_000)
    with tempfile.TemporaryDirectory() as room:
        pack = pack_at(Path(room))
        for at_work in (0, len(os.sched_getaffinity(0))):
            for permitted in (False, True):
                with busy(at_work):
                    found = measure(pack, episodes, samples, permitted)
                assert found.sample_time == 0.01 and found.samples > 0
                trip = found.summary()["round_trip_ms"]
                print(
                    f"{'busy' if at_work else 'idle'}, {'real-time' if found.real_time_priority else 'ordinary'} priority: {found.missed} of {found.samples} missed, "
                    f"plant waited {found.waited} times; round trip median {trip['median']:.2f} ms, 99 % {trip['p99']:.2f}, longest {trip['max']:.2f}",
                    flush=True,
                )
    return 0


if __name__ == "__main__":
    sys.exit(main())
