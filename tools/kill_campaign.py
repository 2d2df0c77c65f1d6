"""Kills training at random moments and resumes it: every run must end with the bits of one that was never interrupted.

``python tools/kill_campaign.py [--kills N] [--seed S] [--smoke]``; exit status 1 if a bit differs or anything is lost. Killed are workers
(by ``kill -9``), now and then the process of the batch as well.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import random
import shutil
import signal
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.runs.freeze import run_folder
from plucky_heron.runs.store import DEAD, DONE, RunStore
from plucky_heron.training.recipe import Recipe, with_changes
from plucky_heron.training.stopping.budget import Budget

METHODS = {
    "ppo": {
        "steps": "9000",
        "copies": "16",
        "steps_per_update": "512",
        "evaluation.every": "1024",
        "evaluation.episodes": "8",
    },
    "sac": {
        "steps": "3000",
        "copies": "16",
        "random_start_steps": "512",
        "evaluation.every": "512",
        "evaluation.episodes": "8",
    },
}


def outcome(folder: Path, run: int) -> dict[str, object]:
    """Everything of a run that must not depend on interruptions."""
    store = RunStore(folder)
    row = store.run(run)
    found: dict[str, object] = {
        "evaluations": [(e.step, e.episodes, e.score, e.success) for e in store.course(run)], "updates": store.health(run), "retest": row.retest,
        "ended": (row.state, row.steps, row.stop_rule, row.stop_text, row.best_step),
    }  # fmt: skip
    store.close()
    if row.state != DONE:
        return {"ended": found["ended"]}
    for name in ("best", "last"):
        with np.load(run_folder(folder, run) / f"{name}.npz") as kept:
            found[name] = kept["parameters"].tobytes()
    with np.load(run_folder(folder, run) / "checkpoint.npz") as kept:
        found["checkpoint"] = {k: kept[k].tobytes() for k in kept.files if k.startswith(("method.", "batch."))}
    return found


def interrupted(folder: Path, recipe: Recipe, random_: random.Random, most: int, longest: float) -> tuple[int, int]:
    """A run that is killed up to `most` times; its number, and how often it was."""
    (number,) = launch.train(folder, "lift", recipe, [11])
    store, kills = RunStore(folder), 0
    try:
        while kills < most:
            time.sleep(random_.uniform(0.0, longest))
            row = store.connection.execute("SELECT pid, state, batch FROM runs WHERE id = ?", [number]).fetchone()
            if row["state"] not in ("running", "queued"):
                break
            batch = store.connection.execute("SELECT pid FROM batches WHERE batch = ?", [row["batch"]]).fetchone()
            victims = ([row["pid"]] if row["state"] == "running" else []) + (
                [batch["pid"]] if random_.random() < 0.4 or row["state"] == "queued" else []
            )
            for pid in victims:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
            kills += bool(victims)
            until = time.monotonic() + 10.0
            while store.run(number).alive and time.monotonic() < until:
                with contextlib.suppress(ChildProcessError):
                    os.waitpid(-1, os.WNOHANG)  # a killed child must not stay as a shadow of itself
                time.sleep(0.02)
            if store.run(number).state == DEAD:
                with contextlib.suppress(
                    StateError
                ):  # a worker that the killed batch had just begun took it up meanwhile
                    launch.resume(folder, number)
    finally:
        store.close()
    launch.wait(folder, [number])
    return number, kills


def main() -> int:
    """Reference runs, then kills until there were enough."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=50)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--smoke", action="store_true", help="a few seconds of it")
    given = parser.parse_args()
    wanted, random_ = (1 if given.smoke else given.kills), random.Random(given.seed)
    began, kills, runs = time.perf_counter(), 0, 0
    with tempfile.TemporaryDirectory(prefix="heron-kills-") as place:
        folder = Path(place) / "quillmere"
        shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
        project, references, recipes, took = Project(folder), {}, {}, {}
        for method, changes in METHODS.items():
            if given.smoke and method != "ppo":
                continue
            short = {"steps": "2000"} if given.smoke else {}
            recipe = with_changes(project.recipe(method), changes | short)
            recipes[method] = recipe.model_copy(update={"stop": (Budget(steps=recipe.steps),)})
            start = time.perf_counter()
            row = launch.wait(folder, launch.train(folder, "lift", recipes[method], [11]))[0]
            references[method], took[method] = outcome(folder, row.id), time.perf_counter() - start
        while kills < wanted:
            method = random_.choice([*recipes])
            number, killed = interrupted(folder, recipes[method], random_, min(5, wanted - kills), 0.6 * took[method])
            found = outcome(folder, number)
            differs = [key for key, value in references[method].items() if found.get(key) != value]
            if differs:
                print(f"{method}, run {number}, {killed} kills (seed {given.seed}): other bits in {', '.join(differs)}")
                print(f"  never interrupted: {references[method]['ended']}\n  interrupted: {found['ended']}")
                return 1
            kills, runs = kills + killed, runs + 1
        store = RunStore(folder)
        broken = store.connection.execute("PRAGMA integrity_check").fetchone()[0]
        store.close()
    print(
        f"{kills} kills in {runs} runs, {time.perf_counter() - began:.0f} s: every run ended with the bits of one never interrupted; the store: {broken}"
    )
    return 0 if broken == "ok" else 1


if __name__ == "__main__":
    sys.exit(main())
