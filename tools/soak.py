"""Runs a pack on rigs for minutes with everything wrong that can be: nothing may hang, end, or grow.

``python tools/soak.py [--minutes M] [--rigs host,plc] [--seed S] [--smoke]``; exit status 1 if something did.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import psutil
from tests.packs import small_pack

from plucky_heron.errors import HeronError
from plucky_heron.rigs.faults import ALL, read_faults
from plucky_heron.rigs.rollout import RolloutResult, Sample, roll_out

MOST_GROWTH = 60e6
"""Bytes that this process may grow by between the first minute and the last."""


def soak(pack: Path, rig: str, seconds: float) -> tuple[int, int, dict[str, int], float, str]:
    """Episodes, samples, what went wrong on the way, growth in bytes, and what stopped it."""
    faults, own = read_faults(ALL), psutil.Process()
    began: list[float] = []  # with the first sample: how long a rig takes to start is not looked at here
    episodes = samples = 0
    link: dict[str, int] = {}
    at_first = 0.0

    def goes_on() -> bool:
        return not began or time.monotonic() - began[0] < seconds

    def watch(_: Sample) -> bool:
        began.append(time.monotonic())
        del began[1:]
        return goes_on()

    while goes_on():
        try:
            result: RolloutResult = roll_out(pack, rig, episodes=3, faults=faults, watch=watch)
        except HeronError as error:
            return episodes, samples, link, 0.0, str(error)
        episodes += len(result.scores)
        samples += result.samples
        for what, count in result.link.items():
            link[what] = link.get(what, 0) + count
        at_first = at_first or float(own.memory_info().rss)
    return episodes, samples, link, own.memory_info().rss - at_first, ""


def main() -> int:
    """Soak each rig, and say."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--rigs", default="host,plc")
    parser.add_argument("--smoke", action="store_true", help="some seconds of it")
    given = parser.parse_args()
    wrong = 0
    with tempfile.TemporaryDirectory(prefix="heron-soak-") as place:
        os.environ["XDG_DATA_HOME"] = place
        pack = small_pack(Path(place))
        for rig in given.rigs.split(","):
            seconds = 3.0 if given.smoke else 60.0 * given.minutes
            episodes, samples, link, growth, stopped = soak(pack, rig, seconds)
            left = [p for p in psutil.Process().children(recursive=True) if p.status() != psutil.STATUS_ZOMBIE]
            told = ", ".join(f"{count} {what}" for what, count in link.items())
            print(
                f"{rig}: {seconds / 60:.3g} minutes, {episodes} episodes, {samples} samples; on the way {told}; grew by {growth / 1e6:.1f} MB; {len(left)} processes left {stopped}"
            )
            wrong += bool(stopped) or samples < 10 or growth > MOST_GROWTH or bool(left)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
