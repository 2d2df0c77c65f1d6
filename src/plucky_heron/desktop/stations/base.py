"""What every station offers the window."""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QWidget

from plucky_heron.desktop.bench.workbench import Workbench


class Station(QWidget):
    """Base of the stations."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self._stale = False

    def refresh(self) -> None:
        """Show everything as it is now."""

    def later(self, *_: object) -> None:
        """Something changed: show it now if in sight, otherwise when entered."""
        if self.isVisible():
            self.refresh_in_place()
        else:
            self._stale = True

    def refresh_in_place(self) -> None:
        """Show everything anew with the focus where it was: fields that were made again are known by their names."""
        focus = QApplication.focusWidget()
        name = focus.accessibleName() if focus is not None and self.isAncestorOf(focus) else ""
        self.refresh()
        if name and focus is not None:
            QTimer.singleShot(0, self, lambda: self._focus_again(name))  # what was made again is shown in the next turn

    def _focus_again(self, name: str) -> None:
        now = QApplication.focusWidget()
        if now is not None and now.accessibleName() == name:
            return
        again = [w for w in self.findChildren(QWidget) if w.accessibleName() == name and w.isVisible()]
        if again:
            again[0].setFocus()

    def entered(self) -> None:
        """The station comes into sight."""
        if self._stale:
            # in a turn of its own: first the station appears, then it catches up
            QTimer.singleShot(0, self, self.catch_up)

    def catch_up(self) -> None:
        """Show what changed while out of sight."""
        if self._stale:
            self._stale = False
            self.refresh()

    def takes_keys(self) -> bool:
        """Whether arrow keys and Space belong to the station just now."""
        return False
