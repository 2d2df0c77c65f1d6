"""What can be done to the parts of a machine: add, duplicate, mirror, remove, copy, paste, bring in from a file."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog, QMenu

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.file_sheet import FileSheet
from plucky_heron.desktop.stations.machine.import_sheet import PATTERNS, ImportSheet
from plucky_heron.errors import HeronError
from plucky_heron.files import write_whole
from plucky_heron.machine import editing
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.urdf_writing import write_urdf


class PartActions(QObject):
    """Actions on the chosen part, with the menu that adds new ones.

    Signals
    -------
    chosen(str, str)
        Another part is to be chosen: section of the machine file, and name.
    said(str)
        What is wrong with what was asked for; empty when nothing is.
    """

    chosen = Signal(str, str)
    said = Signal(str)

    def __init__(self, bench: Workbench, menu: QMenu, more: QMenu, selected: Callable[[], tuple[str, str]]) -> None:
        super().__init__(menu)
        self.bench, self.menu, self.more, self.selected = bench, menu, more, selected
        menu.aboutToShow.connect(self.fill)
        more.addAction("All of this part … (Ctrl+E)", self.edit_all)
        more.addSeparator()
        more.addAction("Copy (Ctrl+C)", self.copy)
        more.addAction("Paste (Ctrl+V)", self.paste)
        more.addSeparator()
        more.addAction("From a file …", self.import_file)
        more.addAction("Write as URDF …", self.export_file)

    def body(self) -> str:
        """The body of the chosen part."""
        problem = self.bench.problem
        return body_of(problem.machine, *self.selected()) if problem is not None else ""

    def change(self, action: Callable[[Any, Machine], object], text: str) -> object:
        """Change the machine file by one of `editing`'s actions; returns what that gave, None if it was refused."""
        problem = self.bench.problem
        if problem is None:
            return None
        given: list[object] = []
        wrong = self.bench.rewrite("machines", lambda document: given.append(action(document, problem.machine)), text)
        self.said.emit(wrong)
        return given[0] if given and not wrong else None

    def fill(self) -> None:
        """The menu for the body that is chosen now."""
        self.menu.clear()
        body = self.body()
        problem = self.bench.problem
        if problem is None:
            return
        for text, kind, shape in (
            ("Body hinged to", "hinge", "box"), ("Body sliding on", "slider", "box"), ("Body fixed to", "fixed", "box"),
        ):  # fmt: skip
            self.menu.addAction(f"{text} {body}", lambda k=kind, s=shape: self.add_body(k, s))
        self.menu.addAction(
            f"Driven link on {body}",
            lambda: self._add("bodies", lambda d, m: editing.add_link(d, m, body), f"link on {body}"),
        )
        self.menu.addAction(
            f"Wheel on {body}",
            lambda: self._add("bodies", lambda d, m: editing.add_wheel(d, m, body), f"wheel on {body}"),
        )
        self.menu.addAction(
            f"Caster under {body}",
            lambda: self._add("bodies", lambda d, m: editing.add_caster(d, m, body), f"caster under {body}"),
        )
        self.menu.addAction(
            f"Thruster on {body}",
            lambda: self._add("drives", lambda d, m: editing.add_thruster(d, m, body), f"thruster on {body}"),
        )
        shapes = self.menu.addMenu(f"Shape of {body}")
        for shape in ("box", "sphere", "capsule", "cylinder"):
            shapes.addAction(
                shape, lambda s=shape: self.change(lambda d, _: editing.add_shape(d, body, s), f"{s} for {body}")
            )
        self.menu.addSeparator()
        joint = problem.machine.joint_above(body)
        if problem.machine.joints[joint].kind in ("hinge", "slider"):
            self.menu.addAction(
                f"Drive of {joint}", lambda: self._add("drives", lambda d, m: editing.add_drive(d, m, joint))
            )
            self.menu.addAction(
                f"Sensor of {joint}",
                lambda: self._add("sensors", lambda d, m: editing.add_sensor(d, m, "joint", joint)),
            )
        for kind, text in (("pose", "Pose sensor"), ("inertial", "Inertial unit"), ("contact", "Contact sensor"), ("beams", "Range beams")):  # fmt: skip
            self.menu.addAction(
                f"{text} on {body}", lambda k=kind: self._add("sensors", lambda d, m: editing.add_sensor(d, m, k, body))
            )

    def _add(self, section: str, action: Callable[[Any, Machine], str], text: str = "") -> None:
        name = self.change(action, text or f"new one of the {section}")
        if name is not None:
            self.chosen.emit(section, str(name))

    def add_body(self, kind: str, shape: str = "box") -> None:
        """A new body on the chosen one."""
        parent = self.body()
        self._add("bodies", lambda d, m: editing.add_body(d, m, parent, kind, shape), f"body on {parent}")

    def duplicate(self) -> None:
        """The chosen body's limb once more, beside itself."""
        body = self.body()
        self._add(
            "bodies",
            lambda d, m: editing.put_limb(d, m, editing.shifted(editing.take_limb(d, m, body), 0.2)),
            f"{body} duplicated",
        )

    def mirror(self) -> None:
        """The chosen body's limb on the other side."""
        body = self.body()
        self._add(
            "bodies",
            lambda d, m: editing.put_limb(d, m, editing.mirrored(editing.take_limb(d, m, body))),
            f"{body} mirrored",
        )

    def remove(self) -> None:
        """Take the chosen part out."""
        kind, name = self.selected()
        problem = self.bench.problem
        if problem is None:
            return
        above = GROUND
        if kind in ("bodies", "joints"):
            above = problem.machine.joints[problem.machine.joint_above(self.body())].parent
        if (
            self.change(lambda d, m: editing.remove(d, m, kind, name), f"without {name}") is not None
            and above != GROUND
        ):
            self.chosen.emit("bodies", above)

    def copy(self) -> None:
        """The chosen body's limb to the clipboard, as a piece of a machine file."""
        problem = self.bench.problem
        if problem is None:
            return
        try:
            limb = editing.take_limb(self.bench.machine_document(), problem.machine, self.body())
            QGuiApplication.clipboard().setText(editing.as_text(limb))
            self.bench.say(f"copied {', '.join(limb['bodies'])}: Ctrl+V hangs it on a body, in any project")
        except (HeronError, OSError) as error:
            self.said.emit(str(error))

    def paste(self) -> None:
        """What was copied, hung on the chosen body."""
        parent, text = self.body(), QGuiApplication.clipboard().text()
        self._add("bodies", lambda d, m: editing.put_limb(d, m, editing.from_text(text), parent), f"pasted on {parent}")

    def edit_all(self) -> FileSheet:
        """Every key of the chosen part, and of the whole file."""
        sheet = FileSheet(self.bench, "machines", self.selected(), self.menu.window())
        sheet.open()
        return sheet

    def import_file(self) -> None:
        """A machine, a mesh or a drawing from elsewhere."""
        name, _ = QFileDialog.getOpenFileName(
            self.menu.window(), "Bring in", "", f"machines, meshes, drawings ({PATTERNS})"
        )
        if name:
            self.bring_in(Path(name)).exec()

    def export_file(self) -> None:
        """Ask where to, and write the machine as a URDF there."""
        name, _ = QFileDialog.getSaveFileName(self.menu.window(), "Write as URDF", "", "URDF (*.urdf)")
        if name:
            self.write_urdf(Path(name).with_suffix(".urdf"))

    def write_urdf(self, path: Path) -> None:
        """Write the machine as a URDF, and say what that format has no words for."""
        problem = self.bench.problem
        if problem is None:
            return
        try:
            text, notes = write_urdf(problem.machine)
            lines = "".join(f"<!-- {note.replace('--', '- -')} -->\n" for note in notes)
            write_whole(path, f"{text.rstrip()}\n{lines}")
        except (HeronError, OSError) as error:
            self.said.emit(str(error))
            return
        left = f"{len(notes)} things that URDF cannot say are listed at its end" if notes else "nothing is left out"
        self.bench.say(f"{path.name} is written; {left}")

    def bring_in(self, path: Path) -> ImportSheet:
        """The sheet that says what a file would become here."""
        return ImportSheet(self.bench, path, self.body(), self.menu.window())


def body_of(machine: Machine, kind: str, name: str) -> str:
    """The body that a part is, carries or stands on."""
    part = getattr(machine, kind)[name]
    if kind == "bodies":
        return name
    if kind == "joints":
        return str(part.child)
    joint = getattr(part, "joint", None)
    if joint is not None:
        return machine.joints[joint].child
    tank = getattr(part, "tank", None)
    body = getattr(part, "body", None) or getattr(part, "wheel", None) or getattr(part, "a", None)
    if body is None and tank is not None:
        body = machine.tanks[tank].body
    return str(body) if body in machine.bodies else next(iter(machine.bodies))
