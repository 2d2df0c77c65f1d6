"""Starting the window."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path

os.environ.setdefault("PYQTGRAPH_QT_LIB", "PySide6")
os.environ.setdefault("QT_API", "pyside6")

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from plucky_heron.desktop.guarding import tell_faults
from plucky_heron.desktop.theme import apply_theme


def make_application(dark: bool = False) -> QApplication:
    """The application object with our theme; the existing one if there is one."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    _HELD[:] = [app]
    app.setApplicationName("Plucky Heron")
    apply_theme(app, dark)
    return app


_HELD: list[QApplication] = []
"""The application: it would be gone as soon as nobody in Python held it."""


def run_window(folder: Path | None, dark: bool | None = None) -> int:
    """Open the window on a project, or on the choice of one, and stay until it is closed."""
    app = make_application(os.environ.get("HERON_THEME") == "night" if dark is None else dark)
    tell_faults()
    from plucky_heron.desktop.window import open_window

    if folder is not None:
        open_window(folder)
    else:
        from plucky_heron.desktop.shell.chooser import Chooser

        chooser = Chooser(open_window)
        chooser.show()
    # lets Python see Ctrl-C in the terminal
    signal.signal(signal.SIGINT, lambda *_: app.closeAllWindows())
    beat = QTimer()
    beat.start(200)
    beat.timeout.connect(lambda: None)
    return app.exec()
