"""Stop rules chosen on some runs and judged on others: steps and success against the best fixed budget chosen on the same runs.

``PYTHONPATH=src .venv/bin/python benchmarks/stopping.py ppo`` (some 25 minutes on two cores) or ``sac``. Rules and budget are chosen on
batch A by its recorded evaluations; batch B has other seeds and is trained with each. What is compared are the kept policies of B on
fresh starts that took no part in anything. Said besides: what no rule at all could have saved more of, on A and on B.
"""

from __future__ import annotations

import argparse
import shutil
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.analysis.statistics import paired_difference
from plucky_heron.analysis.stopping.replay import recorded
from plucky_heron.analysis.stopping.tuning import Tried, choose, most_saved, most_words, parse_try, sweep
from plucky_heron.learning.policy import PolicyDriver
from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.runs.freeze import kept_policy
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.simulation.trials import run_trials
from plucky_heron.training.recipe import Recipe
from plucky_heron.training.stopping import StopRule
from plucky_heron.training.stopping.budget import Budget
from plucky_heron.training.stopping.good_enough import GoodEnough

FRESH_SEED = 77_003
FIRST_SEED, FRESH_SEEDS = 301, 401
"""Of the runs of A, and of B."""
EVERY = {"ppo": 12_288, "sac": 2_000}
SEEDS = {"ppo": 10, "sac": 5}
EPISODES = 256
"""Of an evaluation: enough to tell a point or two apart."""


@dataclass
class Outcome:
    """What a batch cost and what its kept policies are worth."""

    name: str
    steps: np.ndarray
    success: np.ndarray


def train(project: Project, recipe: Recipe, seeds: list[int], rules: list[StopRule]) -> list[RunRow]:
    """A batch with these rules."""
    changed = recipe.model_copy(update={"stop": tuple(rules)})
    rows = launch.wait(project.folder, launch.train(project.folder, "lift", changed, seeds))
    wrong = [row.stop_text for row in rows if row.state != "done"]
    if wrong:
        raise SystemExit(f"a run failed: {wrong[0]}")
    return rows


def outcome(project: Project, name: str, rows: list[RunRow], trials: int) -> Outcome:
    """Steps, and success of the kept policies on fresh starts, the same for all."""
    problem = project.problem("lift")
    shares = []
    for row in rows:
        driver = PolicyDriver(kept_policy(project.folder, row))
        shares.append(
            float(run_trials(problem, driver, seed=FRESH_SEED, stream="fresh", count=trials, threads=2).success.mean())
        )
    return Outcome(name, np.array([row.steps for row in rows], dtype=float), np.array(shares))


def said(tried: Tried, rules: list[StopRule]) -> str:
    """A choice on A in words."""
    return f"{', '.join(r.words() for r in rules)} (on A: saves {100 * tried.saved.mean():.0f} % of the steps, loses {100 * tried.mean_lost:.2f} points)"


def measure(method: str, seeds: int, trials: int, steps: int | None) -> list[Outcome]:
    """The whole comparison."""
    with tempfile.TemporaryDirectory() as room:
        folder = Path(room) / "quillmere"
        shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
        project = Project(folder)
        data = project.recipe(method).model_dump() | {
            "stop": [],
            "evaluation": {"every": EVERY[method], "episodes": EPISODES},
        }
        if steps is not None:
            data |= {"steps": steps, "evaluation": {"every": max(1, steps // 6), "episodes": 8}}
        recipe = Recipe.model_validate(data)
        most = Budget(steps=recipe.steps)
        train(project, recipe, list(range(FIRST_SEED, FIRST_SEED + seeds)), [most])
        store = RunStore(folder)
        runs = recorded(store, store.runs())
        store.close()
        print(f"on A {most_words(most_saved(runs))}")
        rules: list[StopRule] = [GoodEnough(at_least=0.9, running=1), most]
        axes = [parse_try("at_least=90%:100%:41", rules), parse_try("running=1:10", rules)]
        tried = sweep(runs, rules, axes)
        best = tried[choose(tried)]
        chosen: list[StopRule] = [GoodEnough(at_least=best.values[0], running=int(best.values[1])), most]
        every = recipe.evaluation.every
        budgets = sweep(
            runs, [most], [parse_try(f"steps={every}:{recipe.steps}:{max(2, recipe.steps // every)}", [most])]
        )
        fixed = budgets[choose(budgets)]
        print(f"rule chosen on A: {said(best, chosen[:1])}")
        limit = Budget(steps=int(fixed.values[0]))
        print(f"fixed budget chosen on A: {said(fixed, [limit])}", flush=True)
        fresh = list(range(FRESH_SEEDS, FRESH_SEEDS + seeds))
        found: list[Outcome] = []
        for name, stop in (("all steps", [most]), ("fixed budget", [limit]), ("rule", chosen)):
            rows = train(project, recipe, fresh, list(stop))
            if not found:
                store = RunStore(folder)
                print(f"on B {most_words(most_saved(recorded(store, rows)))}")
                store.close()
            found.append(outcome(project, name, rows, trials))
            one = found[-1]
            print(
                f"B, {name}: steps mean {one.steps.mean():,.0f}; success mean {100 * one.success.mean():.2f} %, worst {100 * one.success.min():.1f} %",
                flush=True,
            )
        return found


def main() -> int:
    """Measure and say."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("method", nargs="?", default="ppo", choices=sorted(EVERY))
    parser.add_argument("--trials", type=int, default=2000)
    parser.add_argument("--smoke", action="store_true")
    given = parser.parse_args()
    if given.smoke:
        found = measure("ppo", 1, 4, 1_200)
        return 0 if len(found) == 3 else 1
    whole, fixed, rule = measure(given.method, SEEDS[given.method], given.trials, None)
    saved = 1.0 - rule.steps.mean() / fixed.steps.mean()
    for name, other in (("all steps", whole), ("fixed budget", fixed)):
        lost, half = paired_difference(other.success, rule.success)
        print(
            f"rule against {name}: steps {100 * (1 - rule.steps.mean() / other.steps.mean()):+.0f} % saved, success lost {100 * lost:+.2f} points (± {100 * half:.2f})"
        )
    print(f"wanted: at least 20 % of the fixed budget saved and at most 1 point lost; saved {100 * saved:.0f} %")
    return 0


if __name__ == "__main__":
    sys.exit(main())
