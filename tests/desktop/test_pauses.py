"""What the window's thread does beside the user: garbage is not looked for in what stood before, stations are built in a pause."""

import gc
import threading
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from plucky_heron.desktop import window as window_module
from plucky_heron.desktop.collecting import Collector
from plucky_heron.desktop.window import Window


def test_what_stood_when_work_began_is_set_aside_while_it_lasts(qtbot: QtBot) -> None:
    over = threading.Event()
    thread = threading.Thread(target=over.wait, args=(30.0,), daemon=True)
    Collector.watch(thread)
    thread.start()
    try:
        assert not gc.isenabled()
        assert gc.get_freeze_count() > 1000
        ring: list[object] = []
        ring.append(ring)
        assert any(o is ring for o in gc.get_objects())  # what is made since is collected as before
    finally:
        over.set()
    qtbot.waitUntil(gc.isenabled, timeout=10_000)
    assert gc.get_freeze_count() == 0


def test_stations_are_built_while_nobody_does_anything(
    qtbot: QtBot, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(window_module, "REST", 1.5)
    window = Window(folder)
    qtbot.addWidget(window)
    window.show()
    qtbot.waitUntil(lambda: window.bench.problem is not None and len(window._made) > 1, timeout=120_000)
    before = len(window._made)
    assert before < 7
    # the mouse is moved over the causeway for two seconds: nothing is built meanwhile
    counts = []
    for k in range(20):
        QTest.mouseMove(window.windowHandle(), QPoint(300 + 5 * k, 20))
        qtbot.wait(100)
        counts.append(len(window._made))
    assert counts[-1] <= before + 1  # one may have begun before the first move
    assert counts[2:] == [counts[2]] * len(counts[2:])
    QTest.keyClick(window, Qt.Key.Key_Shift)
    qtbot.waitUntil(lambda: len(window._made) == 7, timeout=120_000)
    window.close()
