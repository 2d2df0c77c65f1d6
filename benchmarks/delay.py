"""Whether a policy that was trained with a rig's dead time does better on that rig than one trained without.

``PYTHONPATH=src .venv/bin/python benchmarks/delay.py`` (some 10 minutes on two cores): the hoist by its PPO recipe, three seeds each way, on the host rig
with a link that takes so long.
"""

from __future__ import annotations

import argparse
import shutil
import sys
import tempfile
from pathlib import Path

import numpy as np

from plucky_heron.handover.pack import write_pack
from plucky_heron.project import Project, demo_source
from plucky_heron.rigs.faults import Faults
from plucky_heron.rigs.rollout import roll_out
from plucky_heron.runs import launch
from plucky_heron.training.recipe import with_changes

DEAD_TIME = 0.2
"""Seconds on the way there and back."""


def measure(seeds: int, steps: int | None, episodes: int) -> tuple[list[float], list[float]]:
    """Success on the rig of policies trained without and with its dead time, a number a seed."""
    found: list[list[float]] = []
    for trained_with in (0.0, DEAD_TIME):
        with tempfile.TemporaryDirectory() as room:
            folder = Path(room) / "quillmere"
            shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
            task = folder / "tasks" / "lift.toml"
            text = task.read_text()
            assert text.count("[timing]\n") == 1
            task.write_text(text.replace("[timing]\n", f'[timing]\ndead_time = "{trained_with} s"\n'))
            recipe = Project(folder).recipe("ppo")
            if steps is not None:
                recipe = with_changes(
                    recipe, {"steps": str(steps), "evaluation.every": str(steps // 2), "evaluation.episodes": "8"}
                )
            rows = launch.wait(folder, launch.train(folder, "lift", recipe, list(range(1, seeds + 1))))
            # on the rig the machine is the same for both: the dead time is in the link
            task.write_text(text)
            found.append([])
            for row in rows:
                pack = Path(room) / f"pack{row.id}"
                write_pack(folder, row, pack)
                frozen = pack / "frozen" / "tasks" / "lift.toml"
                successes = on_the_rig(pack, frozen, episodes)
                found[-1].append(successes)
                print(
                    f"trained with {1e3 * trained_with:g} ms, seed {row.seed}: success {100 * successes:.0f} % on the rig",
                    flush=True,
                )
    return found[0], found[1]


def on_the_rig(pack: Path, frozen: Path, episodes: int) -> float:
    """Success of a pack with the link's dead time in the place of the task's."""
    inside = '[timing]\ndead_time = "0.2 s"\n' in frozen.read_text()
    faults = Faults() if inside else Faults(dead_time=DEAD_TIME)
    return float(np.mean(roll_out(pack, "host", episodes=episodes, lock_step=True, faults=faults).successes))


def main() -> int:
    """Measure and say."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--smoke", action="store_true")
    given = parser.parse_args()
    without, with_it = measure(1, 2_000, 1) if given.smoke else measure(3, None, 50)
    print(
        f"median success on a rig with {1e3 * DEAD_TIME:g} ms: {100 * np.median(without):.0f} % trained without, {100 * np.median(with_it):.0f} % with"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
