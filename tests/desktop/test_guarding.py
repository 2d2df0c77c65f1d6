"""Faults of the window's own: each is told and kept, and the window lives on."""

from __future__ import annotations

import importlib
import inspect
import os
import pkgutil
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtCore import QAbstractTableModel, QEvent, QModelIndex, QObject, QPersistentModelIndex
from PySide6.QtGui import QPaintEvent
from PySide6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

import plucky_heron.desktop
from plucky_heron.desktop import guarding
from plucky_heron.desktop.picture.projection import round_length
from plucky_heron.desktop.window import Window
from plucky_heron.files import data_folder
from tests.desktop.test_window import opened

FAULTY = """
import sys
from pathlib import Path
from PySide6.QtWidgets import QApplication, QWidget
from plucky_heron.desktop.guarding import FAULTS, tell_faults
app = QApplication([])
tell_faults()
FAULTS.told.connect(lambda text: print("told", text, flush=True))
class Faulty(QWidget):
    def paintEvent(self, event):
        {statement}
widget = Faulty()
widget.show()
for _ in range(5):
    widget.repaint()
    app.processEvents()
print("alive", flush=True)
"""


@pytest.mark.parametrize(
    "statement", ["1 / 0", "next(iter(()))", "[][1]", "int('x')", "{}['x']", "raise ValueError('x')", "assert False"]
)
def test_no_exception_ends_the_program(tmp_path: Path, statement: str) -> None:
    """Those of the interpreter's own in a method that Qt calls end the process otherwise, without a word."""
    environment = os.environ | {"XDG_DATA_HOME": str(tmp_path), "QT_QPA_PLATFORM": "offscreen"}
    code = FAULTY.replace("{statement}", statement)
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=environment, check=False, timeout=120)  # fmt: skip
    lines = [line for line in done.stdout.splitlines() if line]
    assert done.returncode == 0 and lines[-1] == "alive", done.stderr
    # the same fault at each painting is told once
    assert len(lines) == 2 and lines[0].startswith("told a fault of the program: "), lines
    log = tmp_path / "plucky-heron" / "faults.log"
    assert lines[0].endswith(f"the whole of it is in {log}")
    assert "in paintEvent" in log.read_text() and done.stderr.count("Traceback") == 1


def test_every_method_of_the_window_that_qt_calls_is_guarded() -> None:
    bare = []
    for found in pkgutil.walk_packages(plucky_heron.desktop.__path__, "plucky_heron.desktop."):
        for made in vars(importlib.import_module(found.name)).values():
            if not inspect.isclass(made) or made.__module__ != found.name:
                continue
            bases = [base for base in made.__mro__ if base.__module__.startswith("PySide6")]
            for name, method in vars(made).items():
                called = name.endswith("Event") or name in guarding.ANSWERS
                if called and any(name in vars(base) for base in bases) and not hasattr(method, "__wrapped__"):
                    bare.append(f"{made.__name__}.{name}")
    assert not bare
    assert hasattr(Window.closeEvent, "__wrapped__")


def test_what_qt_asks_of_a_method_that_fails_is_answered(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    heard: list[BaseException] = []
    monkeypatch.setattr(sys, "excepthook", lambda _kind, error, _trace: heard.append(error))

    class Table(QAbstractTableModel):
        def rowCount(self, parent: QModelIndex | QPersistentModelIndex = QModelIndex()) -> int:
            return 1 // 0

    class Deaf(QWidget):
        def eventFilter(self, watched: QObject, event: QEvent) -> bool:
            raise IndexError

        def paintEvent(self, event: QPaintEvent) -> None:
            self.painted = True

    table, deaf = Table(), Deaf()
    qtbot.addWidget(deaf)
    assert table.rowCount() == 0
    assert deaf.eventFilter(deaf, QEvent(QEvent.Type.User)) is False
    assert [type(error) for error in heard] == [ZeroDivisionError, IndexError]
    deaf.show()
    qtbot.waitUntil(lambda: getattr(deaf, "painted", False), timeout=180_000)


def test_a_fault_is_told_in_the_line_of_the_window(qtbot: QtBot, folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sys, "__excepthook__", lambda *_: None)
    monkeypatch.setattr(guarding, "_TOLD", {})
    (data_folder() / "faults.log").unlink(missing_ok=True)
    for window in opened(qtbot, folder):
        guarding._tell(ValueError, ValueError("wrong\nin two lines"), None)
        assert window.bench.trouble.startswith(
            "a fault of the program: ValueError: wrong in two lines; the whole of it is in "
        )
        assert "ValueError: wrong" in (data_folder() / "faults.log").read_text()


@pytest.mark.parametrize(
    ("least", "length"),
    [(0.03, 0.05), (0.05, 0.05), (1.1, 2.0), (7.0, 10.0), (9.999999e11, 1e12), (2e-9, 2e-9), (0.0, 1.0), (float("inf"), 1.0)],
)  # fmt: skip
def test_round_lengths(least: float, length: float) -> None:
    assert round_length(least) == pytest.approx(length, rel=1e-12)


@pytest.mark.parametrize("size", ["1e12 m", "3 km", "2 um"])
def test_a_machine_of_any_size_is_drawn(qtbot: QtBot, folder: Path, size: str) -> None:
    """From what lies under a microscope to what nobody could mean; typed by mistake it can be taken back."""
    path = folder / "machines" / "hoist.toml"
    text = path.read_text()
    start = text.index("shapes", text.index("[bodies.basket]"))
    end = text.index("[bodies", start) if "[bodies" in text[start:] else text.index("[joints", start)
    shape = f'shapes = [{{ kind = "sphere", size = ["{size}"] }}]\n'
    path.write_text(text[:start] + shape + text[end:])
    for window in opened(qtbot, folder):
        for station in (0, 1):
            window.enter(station)
            assert not window.grab().isNull()
        assert "fault" not in window.bench.trouble
