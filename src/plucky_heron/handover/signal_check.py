"""Whether the generated C between instruments and controller makes of recorded signals what the simulation makes of them."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np

from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.signals import SignalCode
from plucky_heron.simulation.batch import GOING, Batch
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

Array = np.ndarray

EPISODES, SAMPLES = 4, 120
TOLERANCE = 2e-4
"""Of a sensor's or drive's range: what single precision leaves of sums and turns over a chain of joints."""


def recorded(problem: Problem, code: SignalCode) -> tuple[Array, Array, Array]:
    """Rows for the generated program, and the sensors (N, sensors) and drives (N, drives) that the simulation made of them.

    Commands wander at random, so that every part of every formula is met.
    """
    batch = Batch(problem, 1, EVALUATION_SEED, "signals", threads=1)
    draws = np.random.default_rng(11)
    readable, commander, columns = batch.readable, batch.commander, list(code.parts.columns)
    low, high = problem.low, problem.high
    rows: list[Array] = []
    sensors: list[Array] = []
    drives: list[Array] = []
    for episode in range(EPISODES):
        batch.start(np.array([episode]))
        way, begins = 0.5 * (low + high), 1.0
        for _ in range(SAMPLES):
            way = np.clip(way + 0.2 * (high - low) * draws.standard_normal(len(low)), low, high)
            signals = np.array([float(readable[s.name][0]) for s in code.signals])
            before = [commander.given[0].copy(), commander.previous[0].copy(), commander.values[0].copy()]
            made = batch.results[columns, 0].copy()
            outcome = batch.step(way[None, :])
            after = [commander.given[0], commander.previous[0], commander.values[0], commander.values[0]]
            rows.append(np.concatenate([[begins], signals, *before, *after]))
            sensors.append(made)
            drives.append(commander.drives[0].copy())
            begins = 0.0
            if outcome.ending[0] != GOING:
                break
    return np.array(rows), np.array(sensors), np.array(drives)


def check_signals(problem: Problem, code: SignalCode, folder: Path) -> Array:
    """Build the files in `folder` and run them over recorded signals; the largest difference of each sample as a share of a range.

    A few samples may differ by much: where a value stands on an edge (an angle at half a turn, a condition), single and double
    precision fall to different sides of it.

    Raises
    ------
    StateError
        The code does not compile, or there is no compiler.
    """
    rows, sensors, drives = recorded(problem, code)
    program = compile_c(folder, ["signals.c", "controller.c", "policy.c", "check_signals.c"], "check-signals")
    done = subprocess.run(
        [str(program)], input=rows.astype(np.float32).tobytes(), capture_output=True, check=True, timeout=60
    )
    found = np.frombuffer(done.stdout, dtype=np.float32).reshape(len(rows), -1).astype(float)
    spans = np.array([s.high - s.low for s in code.parts.sensors] + [_span(problem, d) for d in code.drives])
    wanted = np.concatenate([sensors, drives], axis=1)
    # values far beyond their range, as at a singular place, are judged by their own size
    scale = np.maximum(spans, np.abs(wanted))
    return np.asarray((np.abs(found - wanted) / scale).max(axis=1, initial=0.0))


def _span(problem: Problem, drive: str) -> float:
    low, high = problem.machine.command_range(drive)
    return float(high - low)
