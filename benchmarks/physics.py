"""Physics: substeps a second on one core, two cores against one, and the ratio to hand-written C.

Run: ./heron --help >/dev/null && .venv/bin/python benchmarks/physics.py
"""

from __future__ import annotations

import subprocess
import tempfile
import time
from pathlib import Path

import numpy as np

from plucky_heron.dynamics.model import build_model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.machine.schema import read_machine
from plucky_heron.project import demo_source

COPIES, SAMPLES, SUBSTEPS = 256, 300, 5


def ours(threads: int) -> float:
    """Substeps a second of the generic kernels on the hoist."""
    model = build_model(read_machine(demo_source() / "machines" / "hoist.toml"))
    plant = Plant(model, COPIES, 0.004, threads=threads)
    plant.settle_drives(np.arange(COPIES))
    plant.winds[:, 0] = 1.0
    commands = np.random.default_rng(1).uniform(-200, 200, (COPIES, 2)) * [1.0, 0.001]
    plant.step(commands, SUBSTEPS)
    began = time.perf_counter()
    for _ in range(SAMPLES):
        plant.step(commands, SUBSTEPS)
    return COPIES * SAMPLES * SUBSTEPS / (time.perf_counter() - began)


def closed_form(folder: Path) -> float:
    """Nanoseconds a substep of the hand-written loop, gcc -O2."""
    program = folder / "hoist"
    source = Path(__file__).with_name("hoist_closed_form.c")
    subprocess.run(["gcc", "-O2", "-o", str(program), str(source), "-lm"], check=True)
    done = subprocess.run([str(program), "5000000"], capture_output=True, text=True, check=True)
    return float(done.stdout.split()[0])


def main() -> None:
    """Best of five rounds, taken in turns, so that a noisy machine troubles both alike."""
    with tempfile.TemporaryDirectory() as place:
        rounds = [(ours(1), ours(2), closed_form(Path(place))) for _ in range(5)]
    one, two = max(r[0] for r in rounds), max(r[1] for r in rounds)
    c = min(r[2] for r in rounds)
    print(f"hoist, 3 joints, one core      {one / 1e6:6.2f} M substeps/s   (wanted: at least 1)")
    print(f"two cores, {COPIES} copies         {two / 1e6:6.2f} M substeps/s   {two / one:.2f} times one core")
    print(
        f"closed form in C, gcc -O2      {c:6.1f} ns a substep   ours is {1e9 / one / c:.1f} times slower (wanted: at most 25)"
    )


if __name__ == "__main__":
    main()
