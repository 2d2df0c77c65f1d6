"""Work that takes longer than a blink: in a thread, with progress and Stop, its result handed to the window's thread."""

from __future__ import annotations

import queue
import threading
import traceback
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from plucky_heron.desktop.collecting import Collector
from plucky_heron.errors import HeronError
from plucky_heron.fault_log import fault_text

POLL_MILLISECONDS = 10  # how soon the window hears of what the thread has told


class Job(QObject):
    """One piece of work.

    The function gets the job; it may call `tell(share)` now and then, which answers False once Stop was asked, and
    `show(value)` for anything that the window may draw while the work goes on.

    The thread never touches Qt: what it tells waits in a queue that the window's own thread reads. A signal emitted by
    the thread while the window deletes its sender reads freed memory, and either crashes or waits forever.

    Signals
    -------
    progressed(float), shown(object), done(object), failed(str)
        Emitted in the window's thread only, in the order in which they were told.
    """

    progressed = Signal(float)
    done = Signal(object)
    failed = Signal(str)
    shown = Signal(object)

    def __init__(self, name: str, function: Callable[[Job], Any], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.name = name
        self._function = function
        self._stop = threading.Event()
        self._told: queue.SimpleQueue[tuple[str, Any]] = queue.SimpleQueue()
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MILLISECONDS)
        self._timer.timeout.connect(self._hand_over)

    def start(self) -> Job:
        """Begin."""
        Collector.watch(self._thread)
        self._thread.start()
        self._timer.start()
        return self

    def stop(self) -> None:
        """Ask it to end at the next chance."""
        self._stop.set()

    @property
    def stopping(self) -> bool:
        """Whether Stop was asked."""
        return self._stop.is_set()

    @property
    def busy(self) -> bool:
        """Whether it is still at work."""
        return self._thread.is_alive()

    def tell(self, share: float) -> bool:
        """Report the share done; False means stop."""
        self._told.put(("progressed", share))
        return not self._stop.is_set()

    def show(self, value: object) -> None:
        """Hand something to the window while the work goes on."""
        self._told.put(("shown", value))

    def wait(self, seconds: float = 30.0) -> None:
        """Wait for the end."""
        self._thread.join(seconds)

    def _run(self) -> None:
        try:
            self._told.put(("done", self._function(self)))
        except HeronError as error:
            self._told.put(("failed", str(error)))
        except Exception as error:
            traceback.print_exc()
            self._told.put(("failed", f"{self.name}: {fault_text(error)}"))

    def _hand_over(self) -> None:
        """Emit what has been told; of shares that wait together only the last."""
        share: float | None = None
        for _ in range(self._told.qsize()):
            kind, value = self._told.get()
            if kind == "progressed":
                share = value
                continue
            if share is not None:
                self.progressed.emit(share)
                share = None
            if kind in ("done", "failed"):
                self._timer.stop()
            getattr(self, kind).emit(value)
        if share is not None:
            self.progressed.emit(share)
