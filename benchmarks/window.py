"""The window: from starting the process to the first picture, one paint of every demo machine, lists of thousands of rows.

Run: ./heron --help >/dev/null && .venv/bin/python benchmarks/window.py
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from plucky_heron.project import Project, demo_source

CHILD = """
import sys, time
from pathlib import Path
from plucky_heron.desktop.application import make_application
app = make_application()
from plucky_heron.desktop.window import Window
window = Window(Path(sys.argv[1]))
window.show()
while not window.windowHandle().isExposed():
    app.processEvents()
window.repaint()
print(time.time() - float(sys.argv[2]))
"""
SMOKE = "--smoke" in sys.argv
"""A second or two of it, to see that it still runs."""


def starts(count: int) -> list[float]:
    """Seconds from starting the process to the first painted picture, on a copy of the demo project."""
    seconds = []
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "quillmere"
        shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
        for _ in range(count):
            command = [sys.executable, "-P", "-c", CHILD, str(folder), str(time.time())]
            environment = {**os.environ, "XDG_DATA_HOME": place}
            done = subprocess.run(command, capture_output=True, text=True, check=True, env=environment)
            seconds.append(float(done.stdout))
    return seconds


def paints(task: str, count: int) -> list[float]:
    """Milliseconds of painting one moment after another of an episode, 900 x 520 pixels."""
    from PySide6.QtGui import QPixmap

    from plucky_heron.desktop.bench.playback import Playback
    from plucky_heron.desktop.picture.drawing import Drawing
    from plucky_heron.simulation.drivers import Rule
    from plucky_heron.simulation.trials import run_trials

    problem = Project(demo_source()).problem(task)
    driver = Rule(problem, next(iter(problem.task.rules)))
    recording = run_trials(problem, driver, seed=5, stream="driving", count=1, record=[0]).recordings[0]
    playback = Playback()
    drawing = Drawing(playback)
    drawing.resize(900, 520)
    drawing.set_problem(problem)
    playback.load(problem, recording, "")
    drawing.show()
    picture = QPixmap(drawing.size())
    found = []
    for k in range(count):
        playback.seek(min(recording.steps, 3 * k))
        began = time.perf_counter()
        drawing.render(picture)
        found.append(1e3 * (time.perf_counter() - began))
    drawing.close()
    return found


def table(rows: int) -> tuple[float, float]:
    """Milliseconds to show a table of so many runs, and of the slowest step of scrolling through it."""
    from PySide6.QtWidgets import QApplication

    from plucky_heron.desktop.forms.tables import Column, Table

    app = QApplication.instance()
    assert isinstance(app, QApplication)
    columns = [
        Column(name, partial("{1} {0}".format, k))
        for k, name in enumerate(("run", "seed", "steps", "best", "fresh", "ended by", ""))
    ]
    began = time.perf_counter()
    view = Table(columns, "runs")
    view.resize(700, 400)
    view.show_rows(list(range(rows)))
    view.show()
    app.processEvents()
    shown = 1e3 * (time.perf_counter() - began)
    slowest = 0.0
    for place in np.linspace(0, view.verticalScrollBar().maximum(), 60):
        began = time.perf_counter()
        view.verticalScrollBar().setValue(int(place))
        view.repaint()
        app.processEvents()
        slowest = max(slowest, 1e3 * (time.perf_counter() - began))
    view.close()
    return shown, slowest


def main() -> None:
    """Print all of it."""
    from plucky_heron.desktop.application import make_application

    seconds = starts(1 if SMOKE else 5)
    text = ", ".join(f"{s:.2f}" for s in seconds)
    print(f"start to first picture: median {np.median(seconds):.2f} s of {text}   (wanted: under 3)")
    app = make_application()
    for task in (
        ("lift",)
        if SMOKE
        else (
            "lift",
            "station",
            "lane",
            "stand",
            "walk",
            "brace",
            "follow",
            "hover",
            "sow",
            "hang",
            "climb",
            "rock",
            "dock",
        )
    ):
        found = paints(task, 5 if SMOKE else 60)
        print(
            f"painting {task:8}   median {np.median(found):5.1f} ms, longest after the first {max(found[1:]):5.1f}   (wanted: under 8)"
        )
    shown, slowest = table(500 if SMOKE else 5000)
    print(
        f"a table of {500 if SMOKE else 5000} rows: shown in {shown:.0f} ms, the slowest step of scrolling {slowest:.1f} ms   (wanted: no stall of 50)"
    )
    app.quit()


if __name__ == "__main__":
    main()
