"""What formulas cost: a task of 20 terms over 256 copies, a step; and each of its parts alone.

Run: .venv/bin/python benchmarks/formulas.py   (to reach: under 150 us a step, docs/results.md)
"""

from __future__ import annotations

import sys
import time

import numpy as np

from plucky_heron.formula import Program, parse_formula
from plucky_heron.project import demo_source
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import read_problem

SMOKE = "--smoke" in sys.argv
"""A second or two of it, to see that it still runs."""
COPIES, REPEATS = 256, 10 if SMOKE else 400
TERMS = (
    "-norm(offset, height)", "near(norm(offset, height), 0.3)", "near(drift, 0.3)", "-abs(cable.angle) / 0.5", "cable.rate**2",
    "clip(offset, -1, 1)", "max(abs(cable.angle) / 0.5236 - 0.6, 0)", "-(action.push / 500)**2", "-(action.push - previous.action.push)**2",
    "rate(offset)", "inside(height, -0.2, 0.2)", "where(offset > 0, drift, -drift)", "wrap(cable.angle)", "highest(abs(cable.angle))",
    "since(abs(offset) < 0.1)", "becomes(abs(offset) < 0.2)", "tanh(offset / 2)", "sqrt(1 + drift**2)", "offset * basket.velocity.x", "time / 12",
)  # fmt: skip


def best_of(function: object, repeats: int = REPEATS) -> float:
    """Seconds of the quickest fifth, as its mean: others use this machine too."""
    times = []
    for _ in range(repeats):
        began = time.perf_counter()
        function()  # type: ignore[operator]
        times.append(time.perf_counter() - began)
    return float(np.mean(sorted(times)[: repeats // 5]))


def main() -> None:
    """Measure and print."""
    problem = read_problem(demo_source(), "lift")
    batch = Batch(problem, COPIES, 1, "cost", threads=1)
    batch.start(np.arange(COPIES))
    formulas = [parse_formula(text, problem.units) for text in TERMS]
    program = batch.program(formulas)
    program.run()
    whole = best_of(program.run)
    print(f"{len(TERMS)} terms, {COPIES} copies: {1e6 * whole:.0f} us a step, {len(program._steps)} operations")
    empty = np.zeros(COPIES)
    one = best_of(lambda: np.add(empty, empty, out=empty))
    print(f"one array operation alone: {1e6 * one:.2f} us; all would be {1e6 * one * len(program._steps):.0f} us")
    task = best_of(lambda: batch._program.run(again=True))
    print(f"the hoist's own task: {1e6 * task:.0f} us a step")
    for text, formula in zip(TERMS, formulas, strict=True):
        alone: Program = batch.program([formula])
        alone.run()
        print(f"  {1e6 * best_of(alone.run, REPEATS // 4 + 5):6.1f} us  {text}")


if __name__ == "__main__":
    main()
