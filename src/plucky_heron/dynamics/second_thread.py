"""A thread that waits for work with as little delay as Python gives: half as long as an executor's, from hand to hand.

Steps of small machines take some tenths of a millisecond; handing half of one over must not cost as much as it saves.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable


class SecondThread:
    """One waiting thread; work is given to it and waited for, one piece at a time."""

    def __init__(self, name: str) -> None:
        self._go, self._done = threading.Lock(), threading.Lock()
        self._go.acquire()
        self._done.acquire()
        self._work: Callable[[], None] | None = None
        self._error: BaseException | None = None
        self._ended = False
        threading.Thread(target=self._run, name=name, daemon=True).start()

    def give(self, work: Callable[[], None]) -> None:
        """Begin `work` there."""
        self._work = work
        self._go.release()

    def wait(self) -> None:
        """Wait until it is done; what it raised is raised here."""
        self._done.acquire()
        error, self._error = self._error, None
        if error is not None:
            raise error

    def end(self) -> None:
        """Let the thread go; nothing may be given any more."""
        self._ended = True
        with contextlib.suppress(RuntimeError):  # it has been told to go already, by the last work given
            self._go.release()

    def _run(self) -> None:
        while True:
            self._go.acquire()
            if self._ended:
                return
            try:
                if self._work is not None:
                    self._work()
            except BaseException as error:
                self._error = error
            self._work = None
            self._done.release()
