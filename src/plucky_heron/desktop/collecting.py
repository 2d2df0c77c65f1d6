"""Cyclic garbage is collected in the window's thread only, also while a job runs in another one.

Python collects in whichever thread happens to allocate. A closed window is a cycle of widgets, chart items and the
functions connected to them; collected by a job's thread, its Qt halves would be torn down beside the window's own
painting, which Qt does not allow.

What stands when work begins (all stations of the window, which take a quarter of a second to look through) is set aside
until no thread is at work any more: Python itself looks through everything only when a quarter of it is new, by counts
that it does not tell.
"""

from __future__ import annotations

import gc
import threading
import weakref

from PySide6.QtCore import QCoreApplication, QObject, QTimer

COLLECT_MILLISECONDS = 50


class Collector(QObject):
    """Holds the automatic collection off while threads are at work, and collects by Python's own thresholds."""

    _only: Collector | None = None

    def __init__(self, parent: QObject | None) -> None:
        super().__init__(parent)
        self._threads: weakref.WeakSet[threading.Thread] = weakref.WeakSet()
        self._timer = QTimer(self)
        self._timer.setInterval(COLLECT_MILLISECONDS)
        self._timer.timeout.connect(self._collect)

    @classmethod
    def watch(cls, thread: threading.Thread) -> None:
        """Called in the window's thread before `thread` starts."""
        if cls._only is None:
            cls._only = cls(QCoreApplication.instance())
        cls._only._threads.add(thread)
        if gc.isenabled():  # what later threads find is new
            gc.disable()
            gc.freeze()
        cls._only._timer.start()

    def _collect(self) -> None:
        if not any(thread.is_alive() for thread in self._threads):
            self._timer.stop()
            gc.unfreeze()
            gc.enable()
            return
        # as the automatic collection would: the oldest generation whose count is over its threshold
        counts, thresholds = gc.get_count(), gc.get_threshold()
        over = [k for k in range(3) if counts[k] > thresholds[k] > 0]
        if over:
            gc.collect(max(over))
