"""F1: what has the focus means, and the page of the handbook on the station in sight."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QTextBrowser, QVBoxLayout, QWidget

from plucky_heron.desktop.forms.widgets import label
from plucky_heron.desktop.stations.catalogue import STATIONS
from plucky_heron.files import read_text

PAGES = ("machines", "tasks", "tasks", "methods", "results", "reliability", "rollout-protocol")
"""Page of each station."""


def handbook() -> Path:
    """Where the pages are: in the source tree, or in the installed package."""
    here = Path(__file__).resolve()
    beside = here.parents[4] / "docs"
    return beside if beside.is_dir() else here.parents[2] / "docs"


class Page(QDialog):
    """One page, beside the window."""

    def __init__(self, station: int, focus: QWidget | None, parent: QWidget | None = None) -> None:
        super().__init__(parent, Qt.WindowType.Tool)
        self.setWindowTitle(f"{STATIONS[station].name}: handbook")
        self.resize(680, 640)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 12, 14, 12)
        layout.setSpacing(8)
        name = focus.accessibleName() if focus is not None else ""
        says = (focus.accessibleDescription() or focus.toolTip()) if focus is not None else ""
        self.about = label(f"{name}: {says}" if name and says else name, "strong", wrap=True)
        self.about.setVisible(bool(name))
        layout.addWidget(self.about)
        self.text = QTextBrowser()
        self.text.setAccessibleName("page of the handbook")
        path = handbook() / f"{PAGES[station]}.md"
        self.text.setSearchPaths([str(path.parent)])
        self.text.setMarkdown(
            read_text(path) if path.is_file() else "The handbook is not installed here; see docs/ of the source."
        )
        layout.addWidget(self.text, 1)
        if name:
            self.text.find(name.split()[0])
