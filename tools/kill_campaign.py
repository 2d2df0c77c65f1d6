"""Kills training at random moments and resumes it: every run must end with the bits of one that was never interrupted.

``python tools/kill_campaign.py [--kills N] [--seed S] [--smoke]``; exit status 1 if a bit differs or anything is lost. Killed are workers
(by ``kill -9``), now and then the process of the batch as well, and now and then, alone or together with them, a window that is open on
the same project and writes all the time: edits of the recipe, notes of batches, what is remembered of its charts.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import random
import shutil
import signal
import subprocess
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
from plucky_heron.runs.store import DEAD, DONE, RunStore, run_folder
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


def work_in_window(folder: Path) -> None:
    """A window that edits, notes and looks about until it is killed."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from plucky_heron.desktop.application import make_application

    application = make_application()
    from PySide6.QtCore import QTimer

    from plucky_heron.desktop.window import Window
    from plucky_heron.runs.labels import label_batch

    window, count = Window(folder), 0
    window.show()
    window.enter(3)

    def turn() -> None:
        nonlocal count
        count += 1
        bench = window.bench
        wrong = bench.edit("recipes", ["seeds"], 1 + count % 7, f"seeds: {1 + count % 7}")
        if count % 5 == 0 and bench.batch is not None:
            label_batch(bench.store, bench.batch, note=f"edit {count}")
        if count % 11 == 0:
            beneath = window.station.curves.beneath  # type: ignore[attr-defined]
            beneath.setCurrentIndex(count % 3)
        (folder / "turns.txt").write_text(f"{count} {wrong}")

    beat = QTimer()
    beat.timeout.connect(turn)
    beat.start(150)
    sys.exit(application.exec())


class WindowApart:
    """The window's process, started again after it was killed; counts what it did."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.kills, self.turns = folder, 0, 0
        self.process = self._start()

    def _start(self) -> subprocess.Popen[bytes]:
        own = {**os.environ, "XDG_DATA_HOME": str(self.folder.parent / "data")}
        return subprocess.Popen([sys.executable, __file__, "--window-on", str(self.folder)], env=own)

    def kill(self) -> None:
        """End it as a power cut would, look at what it leaves, and open it again."""
        self.end()
        self.kills += 1
        self.process = self._start()

    def close(self) -> None:
        """End it for good."""
        if self.process.poll() is None:
            self.end()

    def end(self) -> None:
        """End it, and see that the project can be read."""
        if self.process.poll() is not None:
            raise SystemExit(f"the window ended by itself with status {self.process.returncode}")
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()
        seeds = Project(self.folder).recipe("ppo").seeds
        turns = self.folder / "turns.txt"
        said = turns.read_text() if turns.exists() else ""
        count, _, wrong = said.partition(" ")
        if wrong or not 1 <= seeds <= 7:
            raise SystemExit(f"after {count} edits: {wrong or f'{seeds} seeds'}")
        self.turns += int(count or 0)
        turns.unlink(missing_ok=True)


def interrupted(
    folder: Path, recipe: Recipe, random_: random.Random, most: int, longest: float, window: WindowApart
) -> tuple[int, int]:
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
            if random_.random() < 0.4:
                window.kill()
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
    parser.add_argument("--window-on", type=Path, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.window_on is not None:
        work_in_window(given.window_on)
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
        window = WindowApart(folder)
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
        try:
            while kills < wanted:
                method = random_.choice([*recipes])
                number, killed = interrupted(
                    folder, recipes[method], random_, min(5, wanted - kills), 0.6 * took[method], window
                )
                found = outcome(folder, number)
                differs = [key for key, value in references[method].items() if found.get(key) != value]
                if differs:
                    print(
                        f"{method}, run {number}, {killed} kills (seed {given.seed}): other bits in {', '.join(differs)}"
                    )
                    print(f"  never interrupted: {references[method]['ended']}\n  interrupted: {found['ended']}")
                    return 1
                kills, runs = kills + killed, runs + 1
                print(f"{kills} kills in {runs} runs, {window.kills} of the window", file=sys.stderr, flush=True)
        finally:
            window.close()
        parts = [path for path in folder.rglob(".*") if path.is_file() and "part" in path.name]
        store = RunStore(folder)
        broken = store.connection.execute("PRAGMA integrity_check").fetchone()[0]
        store.close()
    print(
        f"{kills} kills in {runs} runs and {window.kills} of a window that had written {window.turns} times, {time.perf_counter() - began:.0f} s: "
        f"every run ended with the bits of one never interrupted; the store: {broken}; half-written files left: {len(parts)}"
    )
    return 0 if broken == "ok" else 1


if __name__ == "__main__":
    sys.exit(main())
