"""The charts of the Training station: two dozen runs with 2 000 evaluations and all health figures each, two charts, drawn, and the longest turn of the window's loop.

``PYTHONPATH=src .venv/bin/python benchmarks/charts.py`` (a minute); the second half while two seeds train.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from plucky_heron.desktop.application import make_application
from plucky_heron.desktop.stations.catalogue import STATIONS
from plucky_heron.desktop.window import Window
from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.runs.store import RunStore
from plucky_heron.training.recipe import with_changes

FIGURES = ("score", "success", "length", "kl", "critic_explains", "endings", "terms")


def project_of(place: Path, evaluations: int) -> Path:
    """The demo with its recorded runs in one batch, each with so many evaluations."""
    folder = place / "quillmere"
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    shutil.copytree(demo_source().parent / "recorded", folder / "runs")
    store, chance = RunStore(folder), np.random.default_rng(0)
    with store.writing():
        for row in store.runs():
            details = json.dumps(store.details(row.id)[-1][1])
            store.connection.execute("DELETE FROM evaluations WHERE run = ?", [row.id])
            rows = [
                (row.id, 225 * k, 0.01 * k, k, float(k / 20 + chance.normal()), float(np.clip(k / 1500 + 0.05 * chance.normal(), 0, 1)), 1, details)
                for k in range(evaluations)
            ]  # fmt: skip
            store.connection.executemany("INSERT INTO evaluations VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
        store.connection.execute("UPDATE runs SET batch = 1")
    store.close()
    return folder


def spin(application: object, seconds: float) -> float:
    """The longest turn of the loop in so many seconds."""
    worst, end = 0.0, time.perf_counter() + seconds
    while time.perf_counter() < end:
        began = time.perf_counter()
        application.processEvents()  # type: ignore[attr-defined]
        worst = max(worst, time.perf_counter() - began)
        time.sleep(0.002)
    return worst


def main() -> int:
    """Draw, turn, say."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--smoke", action="store_true")
    given = parser.parse_args()
    application = make_application()
    with tempfile.TemporaryDirectory() as place:
        folder = project_of(Path(place), 50 if given.smoke else 2000)
        window = Window(folder)
        window.resize(1280, 800)
        window.show()
        built = spin(application, 1)
        while len(window._made) < len(STATIONS):
            built = max(built, spin(application, 0.2))
        print(f"longest turn while the window opens and builds its stations: {1e3 * built:.0f} ms")
        spin(application, 2)
        window.enter(3)
        window.bench.choose_batch(1)
        station = window.station
        opening = spin(application, 1)
        while station.diagnosis._job is None or station.diagnosis._job.busy:  # type: ignore[attr-defined]
            opening = max(opening, spin(application, 1))
        print(f"longest turn while the station opens and its runs are diagnosed: {1e3 * opening:.0f} ms")
        for figure in FIGURES:
            choice = station.curves.quantity  # type: ignore[attr-defined]
            began = time.perf_counter()
            choice.setCurrentIndex(choice.findData(figure))
            window.grab()
            print(
                f"{figure}: drawn in {1e3 * (time.perf_counter() - began):.0f} ms (wanted under 200), longest turn after it {1e3 * spin(application, 0.5):.0f} ms (wanted under 50)"
            )
        recipe = with_changes(
            Project(folder).recipe("ppo"),
            {"steps": "2048" if given.smoke else "120000", "evaluation.every": "1024" if given.smoke else "4096"},
        )
        numbers = launch.train(folder, "lift", recipe, [1, 2])
        print(
            f"longest turn while two seeds train: {1e3 * spin(application, 2 if given.smoke else 25):.0f} ms (wanted under 50)"
        )
        launch.stop(folder, numbers)
        launch.wait(folder, numbers)
        window.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
