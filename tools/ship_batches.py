"""Record the batches that the demo project comes with: the hoist by PPO and by SAC without stop rules, one recipe that fails, and a run
of each other machine.

Run as ``PYTHONPATH=src .venv/bin/python tools/ship_batches.py``, some ten minutes on two cores for the hoist; with ``--machines`` the runs
of the other machines are made anew beside what is recorded, an hour, half of it for the crab. Written to ``demo/recorded``. What is shipped is what a training
leaves, less its checkpoints; of its health figures every update is kept that a chart can show.
"""

from __future__ import annotations

import argparse
import shutil
import sqlite3
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.runs.labels import delete_batch
from plucky_heron.runs.store import RunStore
from plucky_heron.training.recipe import Recipe

TARGET = Path(__file__).resolve().parents[1] / "demo" / "recorded"
MOST_UPDATES = 60
"""Updates of a run whose health figures are shipped."""
BATCHES: tuple[tuple[str, str, dict[str, Any], int, str], ...] = (
    ("ppo-too-fast", "ppo", {"steps": 150_000, "learning_rate": 0.1}, 3, "PPO with a learning rate of 0.1: see the diagnosis"),
    ("sac", "sac", {"evaluation": {"every": 2_000, "episodes": 64}}, 5, "SAC without stop rules: to replay them over"),
    ("ppo", "ppo", {"evaluation": {"every": 12_288, "episodes": 64}}, 10, "PPO without stop rules: to replay them over"),
)  # fmt: skip
"""Name, recipe of the demo, what is changed in it, seeds, note."""
MACHINES = (("rock", "rock"), ("dock", "dock"), ("sow", "sow"), ("hang", "hang"), ("lane", "lane"), ("walk", "walk"), ("climb", "climb-ddpg"), ("follow", "follow"))  # fmt: skip
"""Task and recipe of the run of each other machine, one seed by the recipe as it stands."""
SEED = 1


def changed(project: Project, name: str, base: str, changes: dict[str, Any]) -> Recipe:
    """A recipe of the demo without stop rules but its budget."""
    data = project.recipe(base).model_dump()
    rate = changes.get("learning_rate")
    data |= {k: v for k, v in changes.items() if k != "learning_rate"} | {"name": name}
    if rate is not None:
        data["settings"]["learning_rate"] = rate
    data["stop"] = [{"kind": "budget", "steps": data["steps"]}]
    return Recipe.model_validate(data)


def thin(store: Path) -> None:
    """Leave out updates that no chart can show, and what says which processes worked."""
    # the process of the last batch lets go of the store a moment after its last run has ended
    connection = sqlite3.connect(store, isolation_level=None, timeout=60.0)
    for _ in range(60):
        try:
            connection.execute("PRAGMA journal_mode=DELETE")
            break
        except sqlite3.OperationalError:
            time.sleep(1.0)
    for (run,) in connection.execute("SELECT id FROM runs").fetchall():
        steps = [s for (s,) in connection.execute("SELECT step FROM updates WHERE run = ? ORDER BY step", [run])]
        size = -(-len(steps) // MOST_UPDATES) if steps else 1
        for k, step in enumerate(steps):
            if k % size and k != len(steps) - 1:
                connection.execute("DELETE FROM updates WHERE run = ? AND step = ?", [run, step])
    connection.execute("DELETE FROM batches")
    connection.execute("UPDATE runs SET pid = NULL, pid_started = NULL")
    connection.execute("VACUUM")
    connection.close()


def ship(room: Path, target: Path, shrink: int = 0) -> None:
    """Train all batches and write them to `target`; `shrink` tries it on that many steps."""
    folder = room / "quillmere"
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    project = Project(folder)
    project.shakedown("lift")
    for name, base, changes, seeds, note in BATCHES if not shrink else BATCHES[-1:]:
        recipe = changed(project, name, base, changes | ({"steps": shrink} if shrink else {}))
        runs = launch.train(folder, "lift", recipe, list(range(1, (1 if shrink else seeds) + 1)))
        rows = launch.wait(folder, runs)
        store = sqlite3.connect(folder / "runs" / "store.sqlite", isolation_level=None)
        store.execute(f"UPDATE runs SET note = ? WHERE id IN ({','.join('?' * len(runs))})", [note, *runs])
        store.close()
        print(
            f"{name}: {', '.join(f'{row.best_success:.2f}' for row in rows if row.best_success is not None)}",
            flush=True,
        )
    write(folder, target)


def write(folder: Path, target: Path) -> None:
    """The runs of a project, less what nobody needs to look at them."""
    thin(folder / "runs" / "store.sqlite")
    shutil.rmtree(target, ignore_errors=True)
    keep = shutil.ignore_patterns(
        "checkpoint.npz", "*.log", "store.format-*", "inside*", "milestones", "best-before.npz", "*-wal", "*-shm"
    )
    shutil.copytree(folder / "runs", target, ignore=keep)
    print(f"{sum(p.stat().st_size for p in target.rglob('*') if p.is_file()) / 1e6:.2f} MB in {target.name}")


def ship_machines(room: Path, target: Path, asked: tuple[tuple[str, str], ...]) -> None:
    """Add a run of each task, in the place of one that is there."""
    folder = room / "quillmere"
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    shutil.copytree(target, folder / "runs")
    project, store = Project(folder), RunStore(folder)
    for batch in {row.batch for row in store.runs() if row.task in dict(asked)}:
        delete_batch(folder, store, batch)
    runs = []
    for task, recipe in asked:
        runs += launch.train(folder, task, project.recipe(recipe), [SEED], None, "one seed by the recipe as it stands")
    for row in launch.wait(folder, runs):
        fresh = f", on fresh starts {100 * row.retest['success']:.1f} %" if row.retest else ""
        print(
            f"{row.task} by {row.recipe}: {row.state}, {row.steps} steps in {row.seconds:.0f} s, {row.best_success}{fresh}",
            flush=True,
        )
    store.close()
    write(folder, target)


def main() -> int:
    """Record them."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--smoke", action="store_true", help="one tiny batch, written nowhere")
    parser.add_argument(
        "--machines", nargs="*", metavar="TASK", help="only the runs of the other machines, or of these tasks"
    )
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as room:
        if given.smoke:
            ship(Path(room), Path(room) / "recorded", 6_000)
        elif given.machines is not None:
            asked = tuple(one for one in MACHINES if not given.machines or one[0] in given.machines)
            ship_machines(Path(room), TARGET, asked)
        else:
            ship(Path(room), TARGET)
    return 0


if __name__ == "__main__":
    sys.exit(main())
