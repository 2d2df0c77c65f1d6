"""The menu of the project: new, open, recent, a copy; and its machines, sites, tasks and recipes."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QDialog, QFileDialog, QHBoxLayout, QLineEdit, QMenu, QVBoxLayout, QWidget

from plucky_heron.desktop.bench import parts
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.asking import AskFirst, AskName
from plucky_heron.desktop.forms.file_sheet import FileSheet
from plucky_heron.desktop.forms.widgets import Choice, button, label
from plucky_heron.desktop.shell.site_sheet import SiteSheet
from plucky_heron.errors import HeronError
from plucky_heron.project import empty_project
from plucky_heron.recent import recent_projects
from plucky_heron.task.project_files import ONE, STANDS, Kind, free_name

STANDS_SAID = {
    "stands": "stands: an arm, a crane, a pendulum", "drives": "drives over the ground", "flies": "flies, in space",
    "floats": "floats, in space", "flies in a plane": "flies, seen from the side only", "floats in a plane": "glides over the plane: a boat, a sled",
}  # fmt: skip


class ProjectMenu(QObject):
    """What can be done with the project and its parts; each entry also stands in the finder.

    Signals
    -------
    opened(Path)
        Another project is to be opened.
    """

    opened = Signal(object)

    def __init__(self, bench: Workbench, window: QWidget) -> None:
        super().__init__(window)
        self.bench, self.window_ = bench, window
        self.sheet: QDialog | None = None
        self.menu = QMenu(window)
        self.menu.aboutToShow.connect(self.fill)

    def entries(self) -> list[tuple[str, Callable[[], object]]]:
        """Everything that can be done now, in words."""
        found: list[tuple[str, Callable[[], object]]] = [
            ("New project …", self.new_project), ("Open project …", self.open_project), ("Save a copy of the project …", self.save_copy),
            ("New machine …", self.new_machine), ("Bring in a machine …", self.bring_in),
            ("New site …", self.new_site), ("Identify from a log …", self.identify),
        ]  # fmt: skip
        kinds: tuple[Kind, ...] = ("machines", "sites", "tasks", "recipes")
        for kind in kinds:
            name = parts.current(self.bench, kind)
            if name and (self.bench.project.folder / kind / f"{name}.toml").is_file():
                word = ONE[kind]
                found += [
                    (f"All of {word} {name} …", partial(self.edit_all, kind)),
                    (f"Copy {word} {name} …", partial(self.ask_name, "Copy", kind)),
                    (f"Rename {word} {name} …", partial(self.ask_name, "Rename", kind)),
                    (f"Remove {word} {name} …", partial(self.ask_remove, kind)),
                ]
        return found

    def fill(self) -> None:
        """The menu as it is now."""
        self.menu.clear()
        entries = self.entries()
        for text, action in entries[:3]:
            self.menu.addAction(text, action)
        recent = self.menu.addMenu("Recent projects")
        others = [folder for folder in recent_projects() if folder != self.bench.project.folder]
        for folder in others:
            recent.addAction(f"{folder.name}   {folder.parent}", lambda f=folder: self.opened.emit(f))
        recent.setEnabled(bool(others))
        self.menu.addSeparator()
        for text, action in entries[3:7]:
            self.menu.addAction(text, action)
        inner: dict[str, QMenu] = {}
        for text, action in entries[7:]:
            word = text.split()[2 if text.startswith("All of") else 1]
            if word not in inner:
                inner[word] = self.menu.addMenu(word.capitalize())
            inner[word].addAction(text, action)

    def show_sheet(self, sheet: QDialog) -> QDialog:
        """Open a sheet over the window."""
        self.sheet = sheet
        sheet.open()
        return sheet

    # --- projects

    def new_project(self) -> None:
        """A folder for a new project."""
        self.show_sheet(NewProject(self.opened.emit, self.window_))

    def open_project(self) -> None:
        """A folder that holds a project."""
        name = QFileDialog.getExistingDirectory(self.window_, "Open project", str(self.bench.project.folder.parent))
        if name:
            self.opened.emit(Path(name))

    def save_copy(self) -> None:
        """The project without its runs and packs, in another folder."""
        name, _ = QFileDialog.getSaveFileName(self.window_, "Save a copy as", str(self.bench.project.folder) + "_copy")
        if name:
            self.bench.say(self.copy_to(Path(name)))

    def copy_to(self, folder: Path) -> str:
        """Copy the project; returns what is wrong, or nothing."""
        source = self.bench.project.folder
        if folder.exists():
            return f"{folder}: is there already; name a new folder"
        if source in folder.resolve().parents:
            return f"{folder}: lies inside the project itself; name a folder elsewhere"
        try:
            shutil.copytree(source, folder, ignore=shutil.ignore_patterns("runs", "packs"), symlinks=True)
        except (OSError, shutil.Error) as error:
            return f"{folder}: cannot be written: {error}"
        self.opened.emit(folder)
        return ""

    # --- parts

    def new_machine(self) -> None:
        """Ask how a new machine stands."""
        self.show_sheet(NewMachine(self.bench, self.window_))

    def new_site(self) -> None:
        """Ask for the name of a new site."""
        wanted = free_name(self.bench.project.folder, "sites", "site")
        says = (
            "a plain site with level ground or water; the task stands on it from then on"
            if self.bench.has_task
            else "a plain site with level ground"
        )
        self.show_sheet(AskName("Make it", says, wanted, lambda name: parts.make_site(self.bench, name), self.window_))

    def bring_in(self) -> None:
        """A machine from elsewhere: a file of ours or a URDF."""
        from plucky_heron.desktop.stations.machine.import_sheet import ImportSheet

        name, _ = QFileDialog.getOpenFileName(self.window_, "Bring in", "", "machines (*.toml *.urdf *.xml)")
        if name:
            self.show_sheet(ImportSheet(self.bench, Path(name), "", self.window_))

    def identify(self) -> None:
        """Parameters of the machine from a log of it."""
        from plucky_heron.desktop.forms.identify_sheet import IdentifySheet

        if self.bench.problem is None:
            self.bench.say("choose a machine with a task first: its names and its site are those of the log")
            return
        name, _ = QFileDialog.getOpenFileName(self.window_, "Log of the machine", "", "logs (*.csv)")
        if name:
            self.show_sheet(IdentifySheet(self.bench, Path(name), self.window_))

    def edit_all(self, kind: Kind) -> None:
        """Everything that stands in the chosen file of a kind."""
        if kind == "sites":
            self.show_sheet(SiteSheet(self.bench, (), self.window_))
            return
        self.show_sheet(FileSheet(self.bench, kind, (), self.window_))

    def ask_name(self, title: str, kind: Kind) -> None:
        """Ask for the name of a copy, or another name."""
        old = parts.current(self.bench, kind)
        does = parts.copy if title == "Copy" else parts.rename
        wanted = free_name(self.bench.project.folder, kind, old) if title == "Copy" else old
        says = (
            f"{title.lower()} {ONE[kind]} {old} as"
            if title == "Copy"
            else f"{old} is to be called, in every file that names it"
        )
        self.show_sheet(AskName(title, says, wanted, lambda new: does(self.bench, kind, new), self.window_))

    def ask_remove(self, kind: Kind) -> None:
        """Ask before something is removed."""
        old = parts.current(self.bench, kind)
        says = f"{ONE[kind]} {old} goes out of the project; Ctrl+Z brings it back."
        self.show_sheet(AskFirst("Remove", says, lambda: parts.remove(self.bench, kind), self.window_))


class NewProject(QDialog):
    """Where a new project is to be."""

    def __init__(self, opened: Callable[[Path], object], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.opened = opened
        self.setWindowTitle("New project")
        self.setMinimumWidth(460)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.setSpacing(8)
        layout.addWidget(label("a new, empty folder for machines, tasks and runs", "soft"))
        row = QHBoxLayout()
        self.folder = QLineEdit(str(self._proposed()))
        self.folder.setAccessibleName("folder of the project")
        self.folder.returnPressed.connect(self.make)
        row.addWidget(self.folder, 1)
        row.addWidget(button("Look …", self._look, name="look for a folder"))
        layout.addLayout(row)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        layout.addWidget(self.wrong)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button("Leave it", self.reject))
        row.addWidget(button("Make it", self.make, "primary"))
        layout.addLayout(row)

    def _proposed(self) -> Path:
        base, number = Path.home() / "heron" / "project", 2
        folder = base
        while folder.exists():
            folder, number = base.with_name(f"project{number}"), number + 1
        return folder

    def _look(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Folder of the project")
        if name:
            self.folder.setText(name)

    def make(self) -> None:
        """Make the folder, and open it."""
        try:
            made = empty_project(Path(self.folder.text().strip()).expanduser())
        except HeronError as error:
            self.wrong.setText(str(error))
            self.wrong.show()
            return
        self.accept()
        self.opened(made.folder)


class NewMachine(QDialog):
    """The name of a new machine, and how it stands."""

    def __init__(self, bench: Workbench, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench = bench
        self.setWindowTitle("New machine")
        self.setMinimumWidth(420)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.setSpacing(8)
        self.form = NewMachineForm(bench, self.accept)
        layout.addWidget(self.form)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button("Leave it", self.reject))
        row.addWidget(button("Make it", self.form.make, "primary"))
        layout.addLayout(row)


class NewMachineForm(QWidget):
    """The two fields, in a sheet or on the page of an empty project."""

    def __init__(self, bench: Workbench, made: Callable[[], object]) -> None:
        super().__init__()
        self.bench, self.made = bench, made
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        self.name = QLineEdit(free_name(bench.project.folder, "machines", "machine"))
        self.name.setAccessibleName("name of the machine")
        self.name.returnPressed.connect(self.make)
        self.stands = Choice("how it stands")
        for stands in STANDS:
            self.stands.addItem(STANDS_SAID[stands], stands)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        for widget in (label("name", "soft"), self.name, label("how it stands", "soft"), self.stands, self.wrong):
            layout.addWidget(widget)

    def make(self) -> None:
        """Make the machine."""
        wrong = parts.make_machine(self.bench, self.name.text().strip(), self.stands.currentData())
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))
        if not wrong:
            self.made()
