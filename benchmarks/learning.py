"""Learning: time of one PPO update step, and control steps a second end to end.

Run: ./heron --help >/dev/null && OPENBLAS_NUM_THREADS=1 .venv/bin/python benchmarks/learning.py
"""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.learning.actor_critic import ActorCriticLoss, Minibatch
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.ppo import ProximalSettings
from plucky_heron.project import Project, demo_source
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import Recipe, with_changes


def update_time(minibatch: int, rounds: int = 200) -> float:
    """Seconds of one gradient step at 64x64 with 10 observations and 2 actions."""
    loss = ActorCriticLoss(ProximalSettings(), 10, 2, ratio_limit=0.2)
    generator = np.random.default_rng(1)
    parameters = loss.initial(generator)
    adam = Adam(loss.count)

    def normal(*shape: int) -> np.ndarray:
        return generator.standard_normal(shape).astype(np.float32)

    rows = Minibatch(
        normal(minibatch, 10),
        normal(minibatch, 2),
        normal(minibatch),
        normal(minibatch),
        normal(minibatch),
        normal(minibatch),
    )
    best = np.inf
    for _ in range(5):
        began = time.perf_counter()
        for _ in range(rounds):
            loss(parameters, rows)
            adam.step(parameters, loss.gradient, 1e-4, 0.5)
        best = min(best, (time.perf_counter() - began) / rounds)
    return best


def end_to_end(copies: int, passes: int, minibatch: int, threads: int, rounds: int = 8) -> float:
    """Control steps a second of collecting and improving, evaluations left out."""
    project = Project(demo_source())
    recipe = with_changes(
        project.recipe("ppo"), {"copies": str(copies), "passes": str(passes), "minibatch": str(minibatch)}
    )
    with tempfile.TemporaryDirectory() as place:
        run = Run(project.problem("lift"), recipe, 1, Path(place), threads)
        run.update()
        began, before = time.perf_counter(), run.steps
        for _ in range(rounds):
            run.update()
        return (run.steps - before) / (time.perf_counter() - began)


def off_policy(method: str, minibatch: int, threads: int, seconds: float = 4.0) -> float:
    """Updates a second end to end, at one update a step of one copy."""
    project = Project(demo_source())
    recipe = Recipe.model_validate({
        "method": method, "copies": 16, "settings": {"minibatch": minibatch, "random_start_steps": 1024, "replay_capacity": 100_000},
    })  # fmt: skip
    with tempfile.TemporaryDirectory() as place:
        run = Run(project.problem("lift"), recipe, 1, Path(place), threads)
        for _ in range(6):
            run.update()
        learner: Any = run.method
        began, before = time.perf_counter(), learner.updates
        while time.perf_counter() - began < seconds:
            run.update()
        return float((learner.updates - before) / (time.perf_counter() - began))


def memory() -> float:
    """Megabytes of a process with a SAC learner, 64x64, and a full buffer of a million entries of 24 observations."""
    program = """
import numpy as np, psutil
from plucky_heron.learning.method import Experience, Space, make_method, settings_class
wide = np.ones(24)
learner = make_method("sac", settings_class("sac")(replay_capacity=1_000_000), Space(-wide, wide, -wide[:2], wide[:2]), 16, 1)
replay = learner.replay
for name in replay._columns:
    getattr(replay, name)[...] = 1
replay.size = replay.capacity
for _ in range(20):
    learner.learn_once()
print(psutil.Process().memory_info().rss / 1e6)
"""
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
    return float(done.stdout)


def main() -> None:
    """Best of three, in turns."""
    if "--smoke" in sys.argv:
        print(
            f"{1e6 * update_time(64, 5):.0f} us, {end_to_end(16, 1, 256, 1, 1):.0f} steps/s, {off_policy('sac', 64, 1, 0.1):.0f} updates/s"
        )
        return
    for minibatch in (64, 256):
        print(f"PPO gradient step, 64x64, minibatch {minibatch:3d}   {1e6 * update_time(minibatch):6.0f} us")
    cases = [(64, 5, 256), (128, 5, 256), (64, 8, 256), (64, 10, 64)]
    best = dict.fromkeys(cases, 0.0)
    for _ in range(3):
        for case in cases:
            best[case] = max(best[case], end_to_end(*case, threads=2))
    for (copies, passes, minibatch), speed in best.items():
        wanted = "   (wanted: at least 35 k)" if (passes, minibatch) == (5, 256) else ""
        print(
            f"end to end, {copies:3d} copies, {passes:2d} passes, minibatch {minibatch:3d}   {speed / 1e3:5.1f} k steps/s{wanted}"
        )

    rates = {(minibatch, threads): 0.0 for minibatch in (64, 256) for threads in (1, 2)}
    for _ in range(3):
        for pair in rates:
            rates[pair] = max(rates[pair], off_policy("sac", *pair))
    wanted_rates = {64: 900, 256: 500}
    for (minibatch, threads), rate in rates.items():
        print(
            f"SAC end to end, 64x64, minibatch {minibatch:3d}, {threads} thread{'s' if threads > 1 else ' '}   {rate:5.0f} updates/s   (wanted: {wanted_rates[minibatch]})"
        )
    print(f"SAC learner, a million entries of 24 observations   {memory():.0f} MB   (wanted: under 400)")


if __name__ == "__main__":
    main()
