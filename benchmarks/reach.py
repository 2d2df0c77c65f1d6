"""What the methods reach on the demo's tasks: five seeds each, two at a time, and the kept policy on 200 fresh trials in the ranges of a proof.

Run: ./heron --help >/dev/null && .venv/bin/python benchmarks/reach.py ROW... [--first 1] [--seeds 5]
Rows are named TASK-METHOD, such as lift-sac; `all` runs them all, the longest last. A row is judged by what stands in it: the share of
trials in which the task's measure is met, the mean score beside the tuned regulator's, or the mean of what the task measures.
"""

from __future__ import annotations

import argparse
import shutil
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from plucky_heron.control.regulator import regulator_for
from plucky_heron.learning.policy import PolicyDriver
from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.simulation.trials import Trials, run_trials
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.training.recipe import with_changes

TRIALS = 200
SOWER_BOUND = 150.0
"""Square metres: 7.5 kg of seed at 20 square metres a kilogram. No flight sows more, so a share of this is at least that share of the optimum."""


@dataclass(frozen=True)
class Row:
    """A task, a recipe of the demo with changes, and what is wanted within how many steps, of how many seeds."""

    task: str
    recipe: str
    steps: int
    wanted: float = 0.95
    seeds: int = 4
    of: str = "success"
    """success, or score (wanted: at least the regulator's), or value (wanted as a share of what the sower can sow at most)."""
    changes: dict[str, str] = field(default_factory=dict)


ROWS = {
    "lift-ddpg": Row("lift", "ddpg", 60_000),
    "lift-td3": Row("lift", "td3", 60_000),
    "lift-sac": Row("lift", "sac", 60_000, seeds=5),
    "lift-sac-long": Row("lift", "sac", 120_000, of="score", changes={"stop": "budget"}),
    "lift-model": Row("lift", "model", 15_000),
    "rock-sac": Row("rock", "rock-sac", 150_000),
    "rock-ppo": Row("rock", "rock", 1_000_000),
    "dock-ppo": Row("dock", "dock", 1_500_000),
    "dock-sac": Row("dock", "dock-sac", 250_000),
    "climb-ddpg": Row("climb", "climb-ddpg", 100_000),
    "climb-sac": Row("climb", "climb-sac", 100_000),
    "sow-ppo": Row("sow", "sow", 1_000_000, 0.97, of="value"),
    "sow-td3": Row("sow", "sow-td3", 250_000, 0.97, of="value"),
    "walk-ppo": Row("walk", "walk", 2_000_000, 0.90),
    "walk-sac": Row("walk", "walk-sac", 400_000, 0.90),
    "lane-ppo": Row("lane", "lane", 3_000_000, 0.90),
    "hang-sac": Row("hang", "hang-sac", 200_000),
    "follow-ppo": Row("follow", "follow", 15_000_000, seeds=3),
}


def trials(project: Project, row: Row, run: int) -> Trials:
    """The kept policy of a run on fresh trials."""
    policy = project.policy(run)
    problem = project.problem(row.task).for_proving()
    return run_trials(problem, PolicyDriver(policy), seed=EVALUATION_SEED, stream="retest", count=TRIALS)


def judge(project: Project, row: Row, found: list[Trials]) -> tuple[list[str], list[bool]]:
    """What each seed reached, in words, and whether it is what is wanted."""
    shares = [float(t.success.mean()) for t in found]
    if row.of == "success":
        return [f"{100 * s:.1f} %" for s in shares], [s >= row.wanted for s in shares]
    if row.of == "value":
        values = [float(t.value.mean()) / SOWER_BOUND for t in found]
        return (
            [f"{100 * v:.1f} % ({100 * s:.1f} % land)" for v, s in zip(values, shares, strict=True)],
            [v >= row.wanted for v in values],
        )
    problem = project.problem(row.task).for_proving()
    regulator = regulator_for(problem, project.folder)
    wanted = run_trials(problem, regulator, seed=EVALUATION_SEED, stream="retest", count=TRIALS).score.mean()
    return [f"{t.score.mean():.1f} of {wanted:.1f}" for t in found], [bool(t.score.mean() >= wanted) for t in found]


def main() -> None:
    """Train, print a table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("rows", nargs="*", help=f"which rows: {', '.join(ROWS)}, or all")
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--smoke", action="store_true", help="a second or two of it")
    given = parser.parse_args()
    if given.smoke:
        given.rows, given.seeds = ["lift-sac"], 1
    if not given.rows or set(given.rows) - {*ROWS, "all"}:
        parser.error(f"rows: wanted some of {', '.join(ROWS)}, or all")
    print("| row | within | 200 fresh trials, seed by seed | kept at step | minutes a seed | wanted | reached |")
    print("|---|---|---|---|---|---|---|")
    for name in ROWS if "all" in given.rows else given.rows:
        row = ROWS[name]
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place) / "quillmere"
            shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
            project = Project(folder)
            short = {"steps": "1500", "evaluation.every": "1000", "evaluation.episodes": "4"} if given.smoke else {}
            changes = {"steps": str(row.steps), **{k: v for k, v in row.changes.items() if k != "stop"}, **short}
            recipe = with_changes(project.recipe(row.recipe), changes)
            if row.changes.get("stop") == "budget":
                recipe = recipe.model_copy(update={"stop": ()})
            seeds = list(range(given.first, given.first + given.seeds))
            done = launch.wait(folder, launch.train(folder, row.task, recipe, seeds))
            cells, reached = judge(project, row, [trials(project, row, r.id) for r in done])
            minutes = np.mean([r.seconds for r in done]) / 60
            kept = ", ".join(f"{(r.best_step or 0) / 1000:.0f} k" for r in done)
            wanted = "the regulator's score" if row.of == "score" else f"{100 * row.wanted:.0f} %"
            print(
                f"| {name} | {row.steps / 1000:.0f} k | {', '.join(cells)} | {kept} | {minutes:.1f} | {wanted}, {row.seeds} of 5 | "
                f"{sum(reached)} of {len(done)} |",
                flush=True,
            )


if __name__ == "__main__":
    main()
