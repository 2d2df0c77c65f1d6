"""What the methods reach on the demo's tasks: five seeds each, two at a time, and the kept policy on 200 fresh starts.

Run: ./heron --help >/dev/null && .venv/bin/python benchmarks/reach.py [ROW...] [--first 1] [--seeds 5]
Rows are named TASK-METHOD, such as lift-sac; without any, all are run, the longest last.
"""

from __future__ import annotations

import argparse
import shutil
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

from plucky_heron.project import Project, demo_source
from plucky_heron.training import launch
from plucky_heron.training.recipe import with_changes


@dataclass(frozen=True)
class Row:
    """A task, a recipe of the demo with changes, and what is wanted: share of success within steps, of how many seeds."""

    task: str
    recipe: str
    wanted: float
    steps: int
    seeds: int
    changes: dict[str, str] = field(default_factory=dict)


ROWS = {
    "lift-sac": Row("lift", "sac", 0.95, 60_000, 5),
    "lift-td3": Row("lift", "td3", 0.95, 60_000, 4),
    "lift-ddpg": Row("lift", "ddpg", 0.95, 60_000, 4),
    "rock-ppo": Row("rock", "rock", 0.95, 1_000_000, 4),
    "dock-ppo": Row("dock", "dock", 0.95, 1_500_000, 4),
    "lane-ppo": Row("lane", "lane", 0.90, 3_000_000, 4),
    "walk-ppo": Row("walk", "walk", 0.90, 2_000_000, 4),
}


def main() -> None:
    """Train, print a table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("rows", nargs="*", choices=[*ROWS, []], help="which rows")
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--seeds", type=int, default=5)
    given = parser.parse_args()
    print(
        "| row | within | success on 200 fresh starts, seed by seed | kept at step | minutes a seed | wanted | reached |"
    )
    print("|---|---|---|---|---|---|---|")
    for name in given.rows or ROWS:
        row = ROWS[name]
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place) / "quillmere"
            shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
            recipe = with_changes(Project(folder).recipe(row.recipe), {"steps": str(row.steps), **row.changes})
            seeds = list(range(given.first, given.first + given.seeds))
            done = launch.wait(folder, launch.train(folder, row.task, recipe, seeds))
            minutes = sum(r.seconds for r in done) / len(done) / 60
            shares = [float((r.retest or {}).get("success", 0.0)) for r in done]
            reached = sum(share >= row.wanted for share in shares)
            cells = ", ".join(f"{100 * share:.1f} %" for share in shares)
            kept = ", ".join(f"{(r.best_step or 0) / 1000:.0f} k" for r in done)
            print(
                f"| {name} | {row.steps / 1000:.0f} k | {cells} | {kept} | {minutes:.1f} | {100 * row.wanted:.0f} %, {row.seeds} of 5 | "
                f"{reached} of {len(done)} |",
                flush=True,
            )


if __name__ == "__main__":
    main()
