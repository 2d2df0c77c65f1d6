"""The physics of this checkout against another's, in turns on one core: how many times faster each task's substeps are.

Run: .venv/bin/python benchmarks/against.py CHECKOUT [TASK:COMMANDS...] [--rounds 5]
Each program takes 32 copies of a demo task through 25 samples, keeps the next six states, and steps each of them many
times; the shortest time of each counts, and of all rounds the best. Each reads the demo of its own checkout. COMMANDS are `rule`, the task's first rule, or
`random`, which is what training meets.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

HERE = Path(__file__).resolve().parents[1]
COPIES, BEFORE, KEPT = 32, 25, 6
WANTED = {"brace:rule": 1.6, "stand:rule": 1.6, "follow:random": 1.4, "walk:random": 1.4, "lane:random": 1.4}
"""Crab and wader standing, then under random commands, and the marshcart, against the engine before its step was new."""
ROWS = [*WANTED, "lift:random", "station:random", "hover:random", "hang:random", "climb:random", "rock:random"]


def rate(row: str, repeats: int) -> float:
    """Substeps a second of one row, by the program that is on the path."""
    from plucky_heron.project import Project, demo_source
    from plucky_heron.simulation.batch import Batch
    from plucky_heron.simulation.drivers import Rule

    task, commands = row.split(":")
    problem = Project(demo_source()).problem(task)
    batch = Batch(problem, COPIES, 1, "against", 1)
    batch.start(np.arange(COPIES))
    generator = np.random.default_rng(1)
    driver = Rule(problem, next(iter(problem.task.rules)))
    driver.begin(batch)
    states = []
    for sample in range(BEFORE + KEPT):
        if commands == "rule":
            given = driver.drive(batch, batch.observe())
        else:
            given = generator.uniform(problem.low, problem.high, (COPIES, len(problem.low)))
        if sample >= BEFORE:
            states.append((batch.plant.keep(), np.array(batch.commander.give(given))))
        batch.step(given)
        batch.running[:] = True
    substeps, total = problem.task.timing.substeps, 0.0
    for kept, drives in states:
        shortest = np.inf
        for _ in range(repeats):
            batch.plant.restore(kept)
            batch.plant.active[:] = True
            began = time.perf_counter()
            batch.plant.step(drives, substeps)
            shortest = min(shortest, time.perf_counter() - began)
        total += shortest
    return COPIES * substeps * KEPT / total


def ask(checkout: Path, row: str, repeats: int) -> float:
    """The rate of one row by the program of a checkout, in a process of its own."""
    command = [sys.executable, __file__, "--measure", row, "--repeats", str(repeats)]
    environment = {**os.environ, "PYTHONPATH": str(checkout / "src")}
    done = subprocess.run(command, capture_output=True, text=True, env=environment, check=True)
    return float(done.stdout.split()[-1])


def main() -> None:
    """Measure in turns, print a table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("checkout", nargs="?", type=Path)
    parser.add_argument("rows", nargs="*", default=ROWS)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--repeats", type=int, default=25)
    parser.add_argument("--measure", help=argparse.SUPPRESS)
    parser.add_argument("--smoke", action="store_true", help="this checkout against itself, one row, once")
    given = parser.parse_args()
    if given.measure:
        print(rate(given.measure, given.repeats))
        return
    if given.smoke:
        given.checkout, given.rows, given.rounds, given.repeats = HERE, ["lift:random"], 1, 2
    if given.checkout is None:
        parser.error("which other checkout of the program?")
    print(f"{'task':16} {'there':>10} {'here':>10} {'faster':>7} {'wanted':>7}")
    for row in given.rows:
        rounds = [(ask(given.checkout, row, given.repeats), ask(HERE, row, given.repeats)) for _ in range(given.rounds)]
        there, here = (max(r[k] for r in rounds) / 1e3 for k in range(2))
        print(f"{row:16} {there:8.0f} k {here:8.0f} k {here / there:7.2f} {WANTED.get(row, ''):>7}", flush=True)


if __name__ == "__main__":
    main()
