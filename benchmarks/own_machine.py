"""From nothing, or from a URDF, to a trained policy: in the real window, by its own buttons, menus and fields, with no file written by hand.

Run: OPENBLAS_NUM_THREADS=1 .venv/bin/python benchmarks/own_machine.py [--machines arm,rover] [--methods ppo,sac] [--seeds 3]
An arm, a rover and a vehicle of two thrusters are built, a URDF arm and a URDF rover are brought in; each gets a task from a wish, is
shaken down, and trained by the standard of each method. A row is the share of the 200 fresh trials of each seed's kept policy, and the
minutes that all seeds of a method took on this machine.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, cast

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
DATA = Path(__file__).resolve().parents[1] / "docs" / "data"

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QWidget

if TYPE_CHECKING:
    from plucky_heron.desktop.stations.machine.station import MachineStation
    from plucky_heron.desktop.stations.shakedown.station import ShakedownStation
    from plucky_heron.desktop.stations.task.station import TaskStation

BUILT = {
    "arm": ("stands", ["link: Driven link on link"], "reach a place"),
    "rover": ("drives", ["body: Wheel on body", "left_wheel: mirror", "body: Caster under body"], "reach a place"),
    "twin": ("flies in a plane", ["body: Thruster on body", "body: Thruster on body"], "hover and fly to points"),
}
IMPORTED = {"urdf-arm": ("picker.urdf", "reach a place"), "urdf-rover": ("cartbot.urdf", "reach a place")}


def spin(until: Callable[[], bool], seconds: float, what: str) -> None:
    """Let the window live until something holds."""
    end = time.monotonic() + seconds
    while not until():
        QApplication.processEvents()
        time.sleep(0.005)
        if time.monotonic() > end:
            raise SystemExit(f"{what}: not within {seconds:g} s")


def press(parent: QWidget, name: str) -> None:
    """Press a button by its name."""
    found = [b for b in parent.findChildren(QPushButton) if name in (b.text(), b.accessibleName()) and b.isVisible()]
    QTest.mouseClick(found[0], Qt.MouseButton.LeftButton)


class Session:
    """One window on one new project."""

    def __init__(self, folder: Path) -> None:
        from plucky_heron.desktop.application import make_application
        from plucky_heron.desktop.shell.project_menu import NewProject
        from plucky_heron.desktop.window import Window

        make_application()
        sheet = NewProject(lambda made: setattr(self, "made", made))
        sheet.folder.setText(str(folder))
        press_shown(sheet, "Make it")
        self.window = Window(folder)
        self.window.show()
        spin(lambda: self.window.isVisible(), 10, "window")
        self.bench = self.window.bench

    def build(self, name: str, stands: str, parts: list[str]) -> None:
        """A machine from nothing, by the page of an empty project and the menus of the Machine station."""
        assert self.window.begin is not None
        form = self.window.begin.form
        form.name.clear()
        QTest.keyClicks(form.name, name)
        form.stands.setCurrentIndex(form.stands.findData(stands))
        press(self.window.begin, "Make it")
        spin(lambda: self.bench.problem is not None, 20, "new machine")
        self.window.enter(0)
        station = cast("MachineStation", self.window.stations[0])
        for line in parts:
            body, _, action = line.partition(": ")
            station.choose("bodies", body)
            if action == "mirror":
                press(station, "Mirror")
            else:
                station.parts.fill()
                next(a for a in station.parts.menu.actions() if a.text() == action).trigger()
            if station.problem_text.text():
                raise SystemExit(station.problem_text.text())

    def bring_in(self, path: Path) -> None:
        """A URDF, by the sheet that lists what is assumed."""
        from plucky_heron.desktop.stations.machine.import_sheet import ImportSheet

        sheet = ImportSheet(self.bench, path, "", self.window)
        spin(lambda: not sheet.busy, 60, "reading")
        press_shown(sheet, "Keep it")
        spin(lambda: self.bench.problem is not None, 30, "import")

    def wish(self, name: str) -> None:
        """A task, by the page of wishes."""
        self.window.enter(1)
        station = cast("TaskStation", self.window.station)
        if self.bench.has_task:
            station.new_task()
        page = station.wish
        before = self.bench.task
        spin(lambda: page.look is not None, 60, "wishes")
        while page.list.name != name:
            QTest.keyClick(page.list, Qt.Key.Key_Down)
        press(page, "Write the task")
        spin(lambda: self.bench.task not in ("", before), 30, "task")

    def shake_down(self) -> list[str]:
        """The rehearsals and checks; names of what is not as it should be."""
        self.window.enter(2)
        cast("ShakedownStation", self.window.station).rehearse()
        spin(lambda: self.bench.shakedown is not None and self.bench.job is None, 120, "shakedown")
        assert self.bench.shakedown is not None
        return [c.name for c in self.bench.shakedown.checks if not c.passed]

    def train(self, method: str, seeds: int, steps: int | None) -> tuple[list[float], float]:
        """The standard of a method, by the Training station; success of each seed in fresh trials, minutes of all."""
        self.window.enter(3)
        self.bench.choose_method(method)
        if steps is not None:
            self.bench.edit("recipes", ["steps"], steps, "steps")
        began = time.monotonic()
        wrong = self.bench.train(list(range(1, seeds + 1)))
        if wrong:
            raise SystemExit(wrong)
        batch = self.bench.batch
        spin(lambda: all(not r.alive for r in self.bench.batch_rows(batch)), 3600, method)
        rows = sorted(self.bench.batch_rows(batch), key=lambda r: r.seed)
        return [float((r.retest or {}).get("success", 0.0)) for r in rows], (time.monotonic() - began) / 60.0

    def close(self) -> None:
        """The window goes."""
        self.window.close()


def press_shown(sheet: QWidget, name: str) -> None:
    """Show a sheet and press one of its buttons."""
    sheet.show()
    QApplication.processEvents()
    press(sheet, name)
    QApplication.processEvents()


def main() -> None:
    """Run what is asked and print a line a machine and method."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--machines", default=",".join([*BUILT, *IMPORTED]))
    parser.add_argument("--methods", default="ppo,sac")
    parser.add_argument("--seeds", type=int, default=3)
    parser.add_argument(
        "--smoke", action="store_true", help="one machine for a moment, to see that everything still runs"
    )
    asked = parser.parse_args()
    machines = ["twin"] if asked.smoke else asked.machines.split(",")
    won = total = 0
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as place:
        for name in machines:
            session = Session(Path(place) / name)
            if name in BUILT:
                stands, parts, wish = BUILT[name]
                session.build(name, stands, parts)
            else:
                file, wish = IMPORTED[name]
                session.bring_in(DATA / file)
            session.wish(wish)
            looks = session.shake_down()
            print(f"{name}: {wish}; the shakedown looks at {', '.join(looks) or 'nothing'}", flush=True)
            for method in ["ppo"] if asked.smoke else asked.methods.split(","):
                found, minutes = session.train(method, 1 if asked.smoke else asked.seeds, 4096 if asked.smoke else None)
                good = all(share >= 0.9 for share in found)
                won, total = won + good, total + 1
                text = ", ".join(f"{100 * share:.1f}" for share in found)
                print(
                    f"| {name} | {method} | {text} | {minutes:.1f} min | {'yes' if good and minutes < 10 else 'no'} |",
                    flush=True,
                )
            session.close()
    print(f"{won} of {total} succeed in 90 % of 200 trials by every seed")


if __name__ == "__main__":
    main()
