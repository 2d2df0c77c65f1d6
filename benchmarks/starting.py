"""Starting from the policy of another run: steps to 95 % success on a hoist that was changed, with and without.

``PYTHONPATH=src .venv/bin/python benchmarks/starting.py`` (some 10 minutes on two cores). The drive that pushes the trolley gets ten
times as slow, so that the policy learned before stands below 60 %; both ways have the same recipe, five seeds each.
"""

from __future__ import annotations

import argparse
import shutil
import sys
import tempfile
from pathlib import Path

import numpy as np

from plucky_heron.learning.policy import PolicyDriver
from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.runs.freeze import kept_policy
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.simulation.trials import run_trials
from plucky_heron.training.recipe import Recipe, with_changes
from plucky_heron.training.stopping.good_enough import GoodEnough

CHANGE = ('lag = "60 ms"', 'lag = "600 ms"')
"""Of the hoist's machine, once: the lag of the drive that pushes the trolley."""
WANTED = 0.95


def reached(project: Project, row: RunRow) -> float:
    """Steps to the first evaluation at `WANTED`; infinite where there is none."""
    store = RunStore(project.folder)
    try:
        return next((float(e.step) for e in store.course(row.id) if e.success >= WANTED), float("inf"))
    finally:
        store.close()


def measure(method: str, seeds: int, steps: int | None, trials: int) -> tuple[float, np.ndarray, np.ndarray]:
    """Success of the old policy on the changed task, and steps to 95 % from it and afresh, a number a seed."""
    with tempfile.TemporaryDirectory() as room:
        folder = Path(room) / "quillmere"
        shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
        project = Project(folder)
        recipe = project.recipe(method)
        if steps is not None:
            recipe = with_changes(
                recipe, {"steps": str(steps), "evaluation.every": str(max(1, steps // 4)), "evaluation.episodes": "8"}
            )
        # what is started from is the best of three seeds by fresh starts, as anybody would choose
        rows = launch.wait(folder, launch.train(folder, "lift", recipe, list(range(1, 2 + 2 * (seeds > 1)))))
        old = max(rows, key=lambda row: (row.retest or {}).get("score", -np.inf))
        path = folder / "machines" / "hoist.toml"
        text = path.read_text()
        assert text.count(CHANGE[0]) == 1, CHANGE
        path.write_text(text.replace(*CHANGE))
        driver = PolicyDriver(kept_policy(folder, old))
        stands = float(
            run_trials(
                project.problem("lift"), driver, seed=77_003, stream="fresh", count=trials, threads=2
            ).success.mean()
        )
        print(f"the old policy on the changed task: {100 * stands:.1f} % of {trials} fresh starts", flush=True)
        every = {"ppo": "8192", "sac": "1000"}[method]
        if steps is None:
            recipe = with_changes(recipe, {"evaluation.every": every})
        recipe = Recipe.model_validate(recipe.model_dump() | {"stop": [GoodEnough(at_least=WANTED).model_dump()]})
        start, found = launch.start_of(folder, old), []
        for name, source in (("from it", start), ("afresh", None)):
            rows = launch.wait(folder, launch.train(folder, "lift", recipe, list(range(1, seeds + 1)), source))
            found.append(np.array([reached(project, row) for row in rows]))
            print(
                f"{name}: steps to {100 * WANTED:.0f} % by seed: {', '.join(f'{s:,.0f}' for s in found[-1])}",
                flush=True,
            )
        return stands, found[0], found[1]


def main() -> int:
    """Measure and say."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("method", nargs="?", default="ppo", choices=("ppo", "sac"))
    parser.add_argument("--smoke", action="store_true")
    given = parser.parse_args()
    if given.smoke:
        measure("ppo", 1, 4_000, 20)
        return 0
    stands, from_it, afresh = measure(given.method, 5, None, 1000)
    medians = np.median(from_it), np.median(afresh)
    ratio = "" if np.isinf(medians[1]) else f" {medians[0] / medians[1]:.2f} of them"
    print(
        f"median {medians[0]:,.0f} steps from it, {medians[1]:,.0f} afresh:{ratio} (wanted 0.5, from below 60 %: it stood at {100 * stands:.0f} %)"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
