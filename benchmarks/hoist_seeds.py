"""The hoist by PPO: five seeds trained with the demo's recipe, two at a time, and each proved on the same 200 trials.

Run: ./heron --help >/dev/null && .venv/bin/python benchmarks/hoist_seeds.py [--first 1] [--seeds 5]
"""

from __future__ import annotations

import argparse
import shutil
import tempfile
from pathlib import Path

import numpy as np

from plucky_heron.analysis.proving.proof import prove
from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.training.recipe import with_changes


def main() -> None:
    """Train, prove, print a table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--smoke", action="store_true", help="a second or two of it")
    given = parser.parse_args()
    short = (
        {"steps": "2048", "copies": "16", "evaluation.every": "1024", "evaluation.episodes": "8"} if given.smoke else {}
    )
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "quillmere"
        shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
        project = Project(folder)
        seeds = list(range(given.first, given.first + (1 if given.smoke else given.seeds)))
        rows = launch.wait(folder, launch.train(folder, "lift", with_changes(project.recipe("ppo"), short), seeds))
        print("| seed | steps | seconds | stopped by | kept at | settles, 200 trials | 95 % interval | score |")
        print("|---|---|---|---|---|---|---|---|")
        scores, regulator = [], {}
        for row in rows:
            drivers = prove(
                project.frozen(row.id), project.policy(row.id), project=folder, trials=8 if given.smoke else 200
            ).summary()
            ours, regulator = drivers["policy"], drivers["regulator"]
            low, high = ours["success_interval"]
            scores.append(ours["score"]["mean"])
            print(
                f"| {row.seed} | {row.steps} | {row.seconds:.1f} | {row.stop_rule} | {row.best_step} | "
                f"{100 * ours['success']:.1f} % | {100 * low:.1f} to {100 * high:.1f} % | {scores[-1]:.1f} |",
                flush=True,
            )
        print(
            f"\nmedian score {np.median(scores):.1f}; the tuned regulator settles in {100 * regulator['success']:.1f} %, ",
            end="",
        )
        print(f"score {regulator['score']['mean']:.1f}")


if __name__ == "__main__":
    main()
