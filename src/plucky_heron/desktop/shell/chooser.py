"""What the program begins with when it is given no project: lately opened ones, a new one, one from a folder, the demo."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from plucky_heron.desktop.forms.widgets import Card, button, label
from plucky_heron.desktop.shell.project_menu import NewProject
from plucky_heron.errors import HeronError
from plucky_heron.project import Project, demo_copy
from plucky_heron.recent import recent_projects


class Chooser(QWidget):
    """The window of the choice; `opened` gets the folder, and raises what is wrong with it."""

    def __init__(self, opened: Callable[[Path], object]) -> None:
        super().__init__()
        self.opened = opened
        self.setWindowTitle("Plucky Heron")
        self.resize(720, 460)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(28, 22, 28, 22)
        outer.setSpacing(14)
        outer.addWidget(label("Plucky Heron", "title"))
        row = QHBoxLayout()
        row.setSpacing(14)
        card = Card("Lately open", "Enter opens it")
        self.list = QListWidget()
        self.list.setAccessibleName("lately open projects")
        for folder in recent_projects():
            item = QListWidgetItem(f"{_title(folder)}\n{folder}")
            item.setData(Qt.ItemDataRole.UserRole, folder)
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        self.list.itemActivated.connect(lambda item: self.open_it(item.data(Qt.ItemDataRole.UserRole)))
        card.body.addWidget(self.list, 1)
        if not self.list.count():
            card.body.addWidget(
                label("none yet: begin with the demo, or with a machine of your own", "soft", wrap=True)
            )
        row.addWidget(card, 3)
        side = QVBoxLayout()
        side.setSpacing(8)
        side.addWidget(button("New project …", self.new, "primary"))
        side.addWidget(button("Open a folder …", self.look))
        side.addWidget(button("The demo, Quillmere", self.demo))
        side.addStretch(1)
        row.addLayout(side, 1)
        outer.addLayout(row, 1)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        outer.addWidget(self.wrong)
        (self.list if self.list.count() else side.itemAt(0).widget()).setFocus()  # type: ignore[union-attr]

    def open_it(self, folder: Path) -> None:
        """Open a project, or say why it cannot be."""
        try:
            self.opened(folder)
        except HeronError as error:
            self.wrong.setText(str(error))
            self.wrong.show()
            return
        self.close()

    def new(self) -> None:
        """A new project."""
        self.sheet = NewProject(self.open_it, self)
        self.sheet.open()

    def look(self) -> None:
        """A folder that holds a project."""
        name = QFileDialog.getExistingDirectory(self, "Open project")
        if name:
            self.open_it(Path(name))

    def demo(self) -> None:
        """The demo's copy."""
        self.open_it(demo_copy())


def _title(folder: Path) -> str:
    try:
        return Project(folder).name
    except HeronError:
        return folder.name
