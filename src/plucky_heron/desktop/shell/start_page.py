"""What a project without a machine shows in the place of every station: what to begin with."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Card, Choice, button, label
from plucky_heron.desktop.shell.project_menu import NewMachineForm, ProjectMenu
from plucky_heron.errors import HeronError
from plucky_heron.project import Project, demo_machine_files, demo_source


class StartPage(QWidget):
    """Three ways to begin: a machine built here, one from a URDF, one of the demo's."""

    def __init__(self, bench: Workbench, menu: ProjectMenu) -> None:
        super().__init__()
        self.bench = bench
        outer = QVBoxLayout(self)
        outer.setContentsMargins(40, 36, 40, 36)
        outer.setSpacing(18)
        outer.addStretch(2)
        outer.addWidget(label("Nothing is in this project yet. Begin with a machine:", "title"))
        row = QHBoxLayout()
        row.setSpacing(14)
        row.addStrut(260)
        own = Card("Build one here", "body by body")
        self.form = NewMachineForm(bench, lambda: None)
        own.body.addWidget(self.form)
        own.body.addStretch(1)
        own.body.addWidget(button("Make it", self.form.make, "primary"))
        row.addWidget(own)
        urdf = Card("Bring one in", "from a URDF")
        urdf.body.addWidget(
            label(
                "Its links, joints, limits and meshes become a machine of ours. What the file does not say is assumed, and every assumption is listed before anything is kept.",
                "soft",
                wrap=True,
            )
        )
        urdf.body.addStretch(1)
        urdf.body.addWidget(button("Choose a file …", menu.bring_in, "primary"))
        row.addWidget(urdf)
        demo = Card("Take one of Quillmere's", "with its site, tasks and recipes")
        self.demo = Choice("machine of the demo")
        self.demo.addItems(Project(demo_source()).machines())
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        demo.body.addWidget(self.demo)
        demo.body.addWidget(self.wrong)
        demo.body.addStretch(1)
        demo.body.addWidget(button("Take it", self.take, "primary"))
        row.addWidget(demo)
        outer.addLayout(row)
        outer.addStretch(3)

    def take(self) -> None:
        """Copy a machine of the demo with what belongs to it."""
        name = self.demo.currentText()
        try:
            texts, task = demo_machine_files(name)
        except HeronError as error:
            self.wrong.setText(str(error))
            self.wrong.show()
            return
        self.bench.change_files(texts, f"{name} of Quillmere", name, task)
