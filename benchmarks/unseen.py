"""What the standard settings of each method do by themselves on tasks that nobody tuned to.

Run: OPENBLAS_NUM_THREADS=1 .venv/bin/python benchmarks/unseen.py [--tasks swing_up,balance] [--methods ppo,sac] [--seeds 5] [--processes 2]
The tasks stand in `benchmarks/unseen`, written once and left alone. Those of `KNOWN` were looked at while standards were chosen;
those of `ASIDE` were not run before PPO's was, and then looked at for the replay methods'; those of `LATER` were written after them and run
when all was chosen. The kept policy of each run is judged on 200 fresh trials. A run ends early
once three evaluations in a row succeed in all episodes.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

PROJECT = Path(__file__).parent / "unseen"
KNOWN = ("swing_up", "balance", "reach", "hover")
ASIDE = ("steer", "hold", "follow", "stop")
LATER = ("roll", "dive", "aim", "shunt")
BUDGETS = {
    "ppo": 400_000, "sac": 60_000, "td3": 60_000, "ddpg": 80_000, "a2c": 1_000_000, "model-based": 12_000, "cross-entropy": 500_000,
    "evolution": 1_000_000,
}  # fmt: skip
WANTED = {"ppo": 7, "sac": 7, "td3": 7, "ddpg": 6, "a2c": 6, "model-based": 6}
"""Tasks of the first eight in which four of five seeds should reach 90 %."""


def run(job: tuple[str, str, int, int, int, tuple[tuple[str, str], ...]]) -> tuple[str, str, int, float, int, float]:
    """One training: task, method, seed, share of trials won, steps at which the kept policy was found, seconds."""
    from plucky_heron.files import validate
    from plucky_heron.learning.guide import preset
    from plucky_heron.learning.policy import Policy
    from plucky_heron.project import Project
    from plucky_heron.training.evaluation import retest
    from plucky_heron.training.fitting import fit
    from plucky_heron.training.loop import Run
    from plucky_heron.training.recipe import Recipe, with_changes

    task, method, seed, steps, trials, changes = job
    problem = Project(PROJECT).problem(task)
    recipe = validate(Recipe, {"name": method, **preset(method)}, "preset")
    every = {"model-based": 1_000, "ppo": 24_576, "a2c": 49_152}.get(method, max(2_500, steps // 20))
    recipe = with_changes(
        recipe, {"steps": str(steps), "evaluation.every": str(every), "evaluation.episodes": "50"} | dict(changes)
    )
    recipe = recipe.model_copy(
        update={
            "stop": Recipe.model_validate({"stop": [{"kind": "good enough", "at_least": "100 %", "running": 3}]}).stop
        }
    )
    recipe = fit(recipe, problem)
    with tempfile.TemporaryDirectory() as place:
        began = time.perf_counter()
        training = Run(problem, recipe, seed, Path(place), threads=1)
        training.work(lambda *_: None, lambda *_: None, lambda: False)
        seconds = time.perf_counter() - began
        assert training.best is not None
        won = retest(problem, Policy.load(Path(place) / "best.npz"), threads=1, episodes=trials)["success"]
    return task, method, seed, float(won), training.best.step, seconds


def main() -> None:
    """Run what is asked and print a line a run, then a table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--tasks", default=",".join(KNOWN + ASIDE + LATER))
    parser.add_argument("--methods", default=",".join(BUDGETS))
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--processes", type=int, default=2)
    parser.add_argument("--set", action="append", default=[], help="key=value, to try another setting")
    parser.add_argument("--smoke", action="store_true", help="a moment of each task, to see that everything still runs")
    asked = parser.parse_args()
    methods = asked.methods.split(",")
    changes = tuple((k, v) for k, _, v in (text.partition("=") for text in asked.set))
    jobs = [
        (task, method, seed, 600, 8, (("evaluation.episodes", "4"),))
        if asked.smoke
        else (task, method, seed, BUDGETS[method], 200, changes)
        for method in (["cross-entropy"] if asked.smoke else methods)
        for task in asked.tasks.split(",")
        for seed in range(asked.first, asked.first + (1 if asked.smoke else asked.seeds))
    ]
    won: dict[tuple[str, str], list[float]] = {}
    with ProcessPoolExecutor(asked.processes) as pool:
        for task, method, seed, share, step, seconds in pool.map(run, jobs):
            won.setdefault((task, method), []).append(share)
            print(
                f"{task:<10} {method:<14} seed {seed}  {100 * share:5.1f} %  best at {step:>9} steps  {seconds:6.1f} s"
            )
            sys.stdout.flush()
    for method in dict.fromkeys(m for _, m in won):
        cells = [
            f"{task} {', '.join(f'{100 * s:.0f}' for s in shares)}" for (task, m), shares in won.items() if m == method
        ]
        solved = sum(
            np.sum(np.array(shares) >= 0.9) >= 0.8 * len(shares) for (_, m), shares in won.items() if m == method
        )
        print(
            f"| {method} | {' | '.join(cells)} | {solved} of {len(cells)}, wanted {WANTED.get(method, 'none')} of 8 |"
        )


if __name__ == "__main__":
    main()
