"""Faults in the window: told in its line and kept in a file, and the window lives on.

Qt calls methods of ours in the place of its own: painting, keys, the mouse. An exception that leaves one of them can end the process without
a word: PySide6 6.11 takes it for an object, which under Python 3.11 it may not be yet, as after a division by zero or a last item that is
not there. So all such methods of all classes that are made from here on keep their exceptions to themselves.
"""

from __future__ import annotations

import functools
import sys
import threading
import time
from collections.abc import Callable
from types import FunctionType, TracebackType
from typing import Any

from PySide6.QtCore import QObject, Signal
from shiboken6 import Shiboken

from plucky_heron.fault_log import fault_text

ANSWERS: dict[str, object] = {
    "paint": None, "data": None, "headerData": None, "undo": None, "redo": None, "event": False, "eventFilter": False,
    "hasHeightForWidth": False, "rowCount": 0, "columnCount": 0,
}  # fmt: skip
"""Methods beside those of single events that Qt calls, and what it is answered where one fails."""
AGAIN = 10.0
"""Seconds after which the same fault is told again: what fails to be painted fails at each painting."""


class Faults(QObject):
    """What went wrong: `told(str)` is a line about a fault, in the thread of the window."""

    told = Signal(str)


FAULTS = Faults()


def guard_all() -> None:
    """Guard the methods that Qt calls of all classes that are made from its own from here on."""
    Shiboken.Object.__init_subclass__ = classmethod(_guard)  # type: ignore[assignment]


def _guard(cls: Any, /, **words: Any) -> None:
    super(Shiboken.Object, cls).__init_subclass__(**words)
    for name, method in list(vars(cls).items()):
        if not isinstance(method, FunctionType) or not (name.endswith("Event") or name in ANSWERS):
            continue
        if any(name in vars(base) for base in cls.__mro__ if base.__module__.startswith("PySide6")):
            setattr(cls, name, _guarded(method, ANSWERS.get(name)))


def _guarded(method: Callable[..., Any], answer: object) -> Callable[..., Any]:
    @functools.wraps(method)
    def call(*given: Any, **named: Any) -> Any:
        try:
            return method(*given, **named)
        except Exception as error:
            sys.excepthook(type(error), error, error.__traceback__)
            return answer

    return call


def tell_faults() -> None:
    """Have every exception that nobody catches told by `FAULTS`, kept in the log and printed."""
    sys.excepthook = _tell
    threading.excepthook = lambda said: _tell(said.exc_type, said.exc_value, said.exc_traceback)


_TOLD: dict[tuple[str, int], float] = {}


def _tell(kind: type[BaseException], error: BaseException | None, trace: TracebackType | None) -> None:
    if error is None or not issubclass(kind, Exception):
        sys.__excepthook__(kind, error or kind(), trace)
        return
    last = trace
    while last is not None and last.tb_next is not None:
        last = last.tb_next
    place = (last.tb_frame.f_code.co_filename, last.tb_lineno) if last is not None else ("", 0)
    now = time.monotonic()
    if now - _TOLD.get(place, -AGAIN) < AGAIN:
        return
    _TOLD[place] = now
    sys.__excepthook__(kind, error, trace)
    text = fault_text(error)
    if threading.current_thread() is threading.main_thread():
        FAULTS.told.emit(text)
