"""When the user last did something: what is not urgent waits for a pause."""

from __future__ import annotations

import time

from PySide6.QtCore import QEvent, QObject

INPUTS = frozenset(
    {
        QEvent.Type.MouseMove,
        QEvent.Type.MouseButtonPress,
        QEvent.Type.MouseButtonRelease,
        QEvent.Type.Wheel,
        QEvent.Type.KeyPress,
        QEvent.Type.KeyRelease,
        QEvent.Type.TouchUpdate,
    }
)


class LastInput(QObject):
    """Watches the native window, which sees each input once; a filter on all widgets would run for each of their events."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._at = -1e9
        self._watched: QObject | None = None

    def watch(self, window: QObject | None) -> None:
        """Watch this native window from now on; None: none."""
        if window is self._watched:
            return
        if self._watched is not None:
            self._watched.removeEventFilter(self)
        self._watched = window
        if window is not None:
            window.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Keep the time of what comes from mouse, keys or touch; take nothing."""
        if event.type() in INPUTS:
            self._at = time.monotonic()
        return False

    def rests(self, seconds: float) -> bool:
        """Whether nothing came for so long."""
        return time.monotonic() - self._at > seconds
