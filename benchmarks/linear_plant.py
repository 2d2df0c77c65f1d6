"""Every method on the linear plant of the tests, five seeds: cost as a multiple of the Riccati optimum.

Run: OPENBLAS_NUM_THREADS=1 .venv/bin/python benchmarks/linear_plant.py [METHOD...]
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.learning.linear_plant import learn
from tests.learning.test_linear_plant import BUDGETS


def main() -> None:
    """A row a method."""
    print("| method | steps | seed 1 | 2 | 3 | 4 | 5 | within 5 % | seconds a seed |")
    print("|---|---|---|---|---|---|---|---|---|")
    if "--smoke" in sys.argv:
        print(f"| ppo | 4096 | {learn('ppo', 1, **(BUDGETS['ppo'] | {'steps': 4096})):.3f} |")
        return
    for method in sys.argv[1:] or BUDGETS:
        began = time.perf_counter()
        found = [learn(method, seed, **BUDGETS[method]) for seed in range(1, 6)]
        seconds = (time.perf_counter() - began) / 5
        cells = " | ".join(f"{f:.3f}" for f in found)
        print(
            f"| {method} | {BUDGETS[method]['steps']} | {cells} | {sum(f <= 1.05 for f in found)} of 5 | {seconds:.1f} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
