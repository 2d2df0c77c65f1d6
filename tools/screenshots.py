"""Render every station, and every machine on its site, at 1280x800 from demo data into docs/screenshots.

The batches are those that come with the demo; a policy of theirs is proved, handed over and rolled out. ``--keep
FOLDER`` keeps the project, and takes up what is there already. ``--machines`` renders the machines only,
``--tasks`` the tasks of other machines than the first.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import cast

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

ROOT = Path(__file__).resolve().parents[1]
SIZE = (1280, 800)
"""Of every picture, dialogs included."""
sys.path.insert(0, str(ROOT / "src"))

from plucky_heron.desktop.application import make_application
from plucky_heron.desktop.stations.catalogue import STATIONS
from plucky_heron.desktop.stations.task.station import TaskStation
from plucky_heron.desktop.stations.training.inside_sheet import InsideSheet
from plucky_heron.desktop.stations.training.station import TrainingStation
from plucky_heron.desktop.window import Window
from plucky_heron.learning.guide import preset
from plucky_heron.project import demo_copy
from plucky_heron.simulation.drivers import Rule
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import Recipe

MACHINES = {
    "station": 150, "lane": 420, "stand": 70, "brace": 60, "hover": 500,
}  # fmt: skip
"""Task of each machine, and the sample of its rule's first episode that shows what it is for."""
TASKS = (("lane", 150, {1: "task-marshcart"}),)
"""Tasks shown besides the first: the sample that is played, and the picture of each station."""


def prepare(folder: Path) -> Path:
    """The demo project with the batches that come with it."""
    os.environ["XDG_DATA_HOME"] = str(folder)
    return demo_copy()


def editing(window: Window, pause: Callable[[float], None]) -> None:
    """The davit in a pose that is held, its forearm chosen: handles, and what follows from the pose."""
    station = window.stations[0]
    window.bench.choose_task("hang")
    window.enter(0)
    pause(0.5)
    station.drawing.view = "side"
    station.choose("bodies", "forearm")
    pose = window.bench.problem.model.start.copy()
    pose[1], pose[2] = 0.9, -1.2
    station.drawing.zoom = 1.5
    station.drawing.set_pose(pose)
    station.drawing.posed.emit()
    pause(0.8)


def methods_sheet(
    training: TrainingStation, out: Path, idle: Callable[[], None], pause: Callable[[float], None]
) -> None:
    """The sheet of methods, with what the recipe costs measured."""
    training.choose_method()
    training.sheet.resize(*SIZE)
    training.sheet.measure()
    pause(0.5)
    idle()
    pause(0.5)
    training.sheet.grab().save(str(out / "method-and-settings.png"))
    training.sheet.reject()


def inside_sheet(problem: Problem, out: Path, pause: Callable[[float], None]) -> None:
    """What a model foresaw after five thousand steps on the hoist."""
    recipe = Recipe.model_validate(preset("model-based", "quick look"))
    with tempfile.TemporaryDirectory() as place:
        run = Run(problem, recipe, 1, Path(place), threads=2)
        run.work(lambda *_: None, lambda *_: None, lambda: False)
        sheet = InsideSheet(problem, Path(place))
        sheet.resize(*SIZE)
        sheet.show()
        pause(1.0)
        sheet.grab().save(str(out / "inside-the-method.png"))
        sheet.close()


def own_machine(
    window: Window, out: Path, wait: Callable[[Callable[[], bool]], None], pause: Callable[[float], None]
) -> None:
    """What the davit could be wished to do, and the sheet of one of its parts."""
    window.bench.choose_machine("davit")
    window.enter(1)
    station = cast("TaskStation", window.station)
    station.new_task()
    wait(lambda: station.wish.look is not None)
    pause(0.8)
    window.grab().save(str(out / "task-from-a-wish.png"))
    station.wish.left.emit()
    window.enter(0)
    pause(0.3)
    window.stations[0].choose("drives", "luff")
    sheet = window.stations[0].parts.edit_all()
    sheet.resize(*SIZE)
    pause(0.5)
    sheet.grab().save(str(out / "all-of-a-part.png"))
    sheet.reject()


def smoke() -> None:
    """The first station alone."""
    with tempfile.TemporaryDirectory() as place:
        folder = prepare(Path(place))
        app = make_application(False)
        window = Window(folder)
        window.resize(*SIZE)
        window.show()
        app.processEvents()
        picture = Path(place) / "machine.png"
        window.grab().save(str(picture))
        print(f"{picture.stat().st_size} bytes")
        window.close()


def main() -> None:
    """Drive the window through its stations and take their pictures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--keep", type=Path)
    parser.add_argument("--out", type=Path, default=ROOT / "docs" / "screenshots")
    parser.add_argument("--dark", action="store_true")
    parser.add_argument("--machines", action="store_true")
    parser.add_argument("--tasks", action="store_true")
    parser.add_argument("--methods", action="store_true", help="the Training station and its sheets alone")
    parser.add_argument("--smoke", action="store_true", help="one station, into a folder that is thrown away")
    given = parser.parse_args()
    if given.smoke:
        smoke()
        return
    with tempfile.TemporaryDirectory() as place:
        folder = prepare(given.keep or Path(place))
        app = make_application(given.dark)
        window = Window(folder)
        window.resize(*SIZE)
        window.show()

        def wait(condition: Callable[[], bool], limit: float = 180.0) -> None:
            end = time.monotonic() + limit
            while not condition() and time.monotonic() < end:
                app.processEvents()
                time.sleep(0.005)

        def idle() -> None:
            pause(0.3)
            wait(lambda: window.bench.job is None)
            pause(0.4)

        def pause(seconds: float) -> None:
            end = time.monotonic() + seconds
            wait(lambda: time.monotonic() >= end)

        def take(number: int) -> None:
            window.enter(number)
            pause(0.5)
            given.out.mkdir(parents=True, exist_ok=True)
            window.grab().save(str(given.out / f"{number + 1}-{STATIONS[number].name.lower()}.png"))

        stations, playback = window.stations, window.bench.playback
        for task, sample in () if given.tasks or given.methods else MACHINES.items():
            window.bench.choose_task(task)
            idle()
            problem = window.bench.problem
            assert problem is not None
            driver = Rule(problem, next(iter(problem.task.rules)))
            done = run_trials(problem, driver, seed=5, stream="driving", count=1, record=[0])
            window.enter(0)
            pause(0.3)
            playback.load(problem, done.recordings[0], f"{driver.name}, start 1", play=False)
            playback.seek(min(sample, done.recordings[0].steps))
            pause(0.8)
            given.out.mkdir(parents=True, exist_ok=True)
            window.grab().save(str(given.out / f"machine-{problem.machine.name}.png"))
        for task, sample, pictures in () if given.machines or given.methods else TASKS:
            window.bench.choose_task(task)
            idle()
            window.enter(2)
            stations[2].rehearse()
            idle()
            playback.seek(sample)
            for number, name in pictures.items():
                window.enter(number)
                pause(3.5)
                window.grab().save(str(given.out / f"{name}.png"))
        if not given.methods:
            own_machine(window, given.out, wait, pause)
        if not given.tasks and not given.methods:
            editing(window, pause)
            window.grab().save(str(given.out / "machine-editing.png"))
        if given.machines or given.tasks:
            window.close()
            return
        window.bench.choose_task("lift")
        idle()
        window.bench.choose_batch(next(row.batch for row in window.bench.rows if row.recipe == "ppo"))
        stations[2].rehearse()
        idle()
        playback.seek(110)
        for number in (3,) if given.methods else (1, 2, 3, 4):
            if number == 3:
                window.enter(3)
                wait(lambda: bool(cast("TrainingStation", stations[3]).diagnosis.findings))
            take(number)
        window.enter(3)
        assert window.bench.problem is not None
        training = cast("TrainingStation", stations[3])
        training.open_rules()
        wait(lambda: training.trial.map is not None)
        pause(0.5)
        window.grab().save(str(given.out / "stop-rules.png"))
        training.close_rules()
        methods_sheet(training, given.out, idle, pause)
        inside_sheet(window.bench.problem, given.out, pause)
        if given.methods:
            window.close()
            return
        window.enter(0)
        stations[0].drop_pose()
        stations[0].let_go()
        wait(lambda: playback.recording is not None and playback.recording.steps >= 300, 60.0)
        playback.step(-20)
        take(0)
        stations[5].prove()
        idle()
        idle()
        playback.pause()
        playback.seek(100)
        take(5)
        stations[6].write_the_pack()
        idle()
        stations[6].mode.setCurrentIndex(0)
        stations[6].roll_out()
        idle()
        playback.seek(130)
        take(6)
        window.close()


if __name__ == "__main__":
    main()
