"""Work that takes longer than a blink: in a thread, with progress and Stop, its result handed to the window's thread."""

from __future__ import annotations

import threading
import traceback
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from plucky_heron.errors import HeronError


class Job(QObject):
    """One piece of work.

    The function gets the job; it may call `tell(share)` now and then, which answers False once Stop was asked.

    Signals
    -------
    progressed(float), done(object), failed(str)
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
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)

    def start(self) -> Job:
        """Begin."""
        self._thread.start()
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
        self.progressed.emit(share)
        return not self._stop.is_set()

    def wait(self, seconds: float = 30.0) -> None:
        """Wait for the end."""
        self._thread.join(seconds)

    def _run(self) -> None:
        try:
            result = self._function(self)
        except HeronError as error:
            self._emit(self.failed, str(error))
        except Exception as error:
            traceback.print_exc()
            self._emit(self.failed, f"{self.name} failed: {error}")
        else:
            self._emit(self.done, result)

    @staticmethod
    def _emit(signal: Any, value: object) -> None:
        try:
            signal.emit(value)
        except RuntimeError:
            return  # the window has gone while the work went on
