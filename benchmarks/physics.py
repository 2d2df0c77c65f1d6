"""Physics: substeps a second on one core, two cores against one, memory a copy, from edit to motion, compilation.

Run: ./heron --help >/dev/null && .venv/bin/python benchmarks/physics.py [--compile]
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.project import demo_source
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Rule
from plucky_heron.task.problem import Problem, read_problem

COPIES, ROUNDS = 256, 5
WANTED = {"lift": 1500, "lane": 300, "stand": 120, "brace": 40}
"""k substeps/s on one core: hoist, marshcart with its 24 beams, wader, crab (both in contact)."""


def rate(problem: Problem, threads: int, seconds: float = 1.0) -> float:
    """Substeps a second under the task's first rule, sensors read once a sample; formulas not counted.

    Of the samples' times the tenth percentile counts: what others do on the machine is not ours to measure.
    """
    batch = Batch(problem, COPIES, 1, "benchmark", threads=threads)
    driver = Rule(problem, next(iter(problem.task.rules)))
    batch.start(np.arange(COPIES))
    driver.begin(batch)
    substeps = problem.task.timing.substeps
    times: list[float] = []
    until = time.perf_counter() + 2.0 * seconds
    while time.perf_counter() < until:
        batch.step(driver.drive(batch, batch.observe()))
        began = time.perf_counter()
        batch.plant.step(batch.commander.drives, substeps)
        batch.instruments.read(batch.plant, batch.episode, batch.age)
        times.append(time.perf_counter() - began)
        batch.running[:] = True
    return COPIES * substeps / float(np.quantile(times, 0.1))


def closed_form(folder: Path) -> float:
    """Nanoseconds a substep of the hand-written hoist, gcc -O2."""
    program = folder / "hoist"
    source = Path(__file__).with_name("hoist_closed_form.c")
    subprocess.run(["gcc", "-O2", "-o", str(program), str(source), "-lm"], check=True)
    done = subprocess.run([str(program), "5000000"], capture_output=True, text=True, check=True)
    return float(done.stdout.split()[0])


def both_cores(folder: Path) -> float:
    """How much more two independent programs do than one: the most that threads can bring here."""
    command = [str(folder / "hoist"), "5000000"]
    ratios = []
    for _ in range(5):
        began = time.perf_counter()
        subprocess.run(command, check=True, capture_output=True)
        alone = time.perf_counter() - began
        began = time.perf_counter()
        pair = [subprocess.Popen(command, stdout=subprocess.DEVNULL) for _ in range(2)]
        for process in pair:
            process.wait()
        ratios.append(2.0 * alone / (time.perf_counter() - began))
    return float(np.median(ratios))


def edit_to_motion(problem: Problem) -> float:
    """Seconds from a changed machine to its first moved sample (kernels loaded)."""
    began = time.perf_counter()
    model = build_model(problem.machine)
    plant = Plant(model, 1, problem.task.timing.physics_step, threads=1, surroundings=problem.surroundings)
    plant.step(np.zeros((1, len(model.drives))), problem.task.timing.substeps)
    plant.locate()
    return time.perf_counter() - began


def compilation() -> float:
    """Seconds to compile everything into an empty cache."""
    with tempfile.TemporaryDirectory() as cache:
        script = Path(__file__).resolve().parents[1] / "tools" / "warm_kernels.py"
        began = time.perf_counter()
        subprocess.run(
            [sys.executable, str(script)],
            check=True,
            env={**os.environ, "NUMBA_CACHE_DIR": cache},
            stderr=subprocess.DEVNULL,
        )
        return time.perf_counter() - began


def main() -> None:
    """Best of some rounds, one core and two in turns, so that a noisy machine troubles both alike."""
    demo = demo_source()
    if "--smoke" in sys.argv:
        problem = read_problem(demo, "lift")
        with tempfile.TemporaryDirectory() as place:
            print(
                f"{rate(problem, 1, 0.1) / 1e3:.0f} k/s, {1e3 * edit_to_motion(problem):.1f} ms, {closed_form(Path(place)):.1f} ns"
            )
        return
    print(f"{'machine':12} {'one core':>16} {'wanted':>8} {'two cores':>18} {'a copy':>9} {'edit to motion':>15}")
    fastest = 0.0
    for task in ("lift", "lane", "stand", "brace", "station", "hover", "hang", "climb", "rock"):
        problem = read_problem(demo, task)
        rounds = [(rate(problem, 1, 0.4), rate(problem, 2, 0.4)) for _ in range(ROUNDS)]
        one, two = max(r[0] for r in rounds), max(r[1] for r in rounds)
        fastest = one if task == "lift" else fastest
        plant = Plant(problem.model, 16, 1e-3, surroundings=problem.surroundings)
        size = sum(array.nbytes for array in plant.keep().values()) / 16 / 1e3
        wait = min(edit_to_motion(problem) for _ in range(3)) * 1e3
        wanted = f"{WANTED[task]} k" if task in WANTED else ""
        print(
            f"{problem.machine.name:12} {one / 1e3:10.0f} k/s   {wanted:>8} {two / 1e3:10.0f} k/s {two / one:4.2f}x {size:6.1f} kB {wait:12.1f} ms"
        )
    with tempfile.TemporaryDirectory() as place:
        c = min(closed_form(Path(place)) for _ in range(3))
        ceiling = both_cores(Path(place))
    print(f"closed form of the hoist in C, gcc -O2: {c:.1f} ns a substep; ours is {1e9 / fastest / c:.1f} times slower")
    print(f"two such C programs at once do {ceiling:.2f} times the work of one: what these two cores give")
    if "--compile" in sys.argv:
        print(f"all kernels into an empty cache: {compilation():.0f} s (wanted: under 90)")


if __name__ == "__main__":
    main()
