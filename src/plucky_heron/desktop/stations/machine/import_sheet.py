"""The sheet that brings in a file: what was read, what was converted, what was left out; kept only when agreed to."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Card, Choice, ElidedLabel, QuantityField, Rows, button, label, scrolled
from plucky_heron.desktop.jobs import Job
from plucky_heron.errors import FileError, HeronError
from plucky_heron.machine import editing
from plucky_heron.task.importing import (  # fmt: skip
    MEANINGS,
    Assumed,
    ImportReport,
    drawing_of_site,
    legend_of,
    mesh_shape,
    plain_name,
    together,
)
from plucky_heron.task.machine_copy import MACHINE_FILES, machine_from_file
from plucky_heron.task.machine_import import TAKES, travels
from plucky_heron.task.project_files import check_name
from plucky_heron.task.wishes.catalogue import WISHES

PATTERNS = "*.toml *.urdf *.xml *.stl *.obj *.svg *.png"
_UNUSED = "not used"
_NO_WISH = "to see it and let it go"
_BESIDE = 3
"""Numbers of several joints in a row."""
_SUITS = "what the file says, else what suits each"


class ImportSheet(QDialog):
    """One file on its way into the project: a machine, a mesh for a body, or a drawing for the site."""

    def __init__(self, bench: Workbench, path: Path, body: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench, self.path, self.body = bench, path, body
        self.report: ImportReport | None = None
        self._entry: dict[str, Any] = {}
        self.job: Job | None = None
        self.numbers: dict[str, str] = {}
        """What is to stand in the place of what is assumed, by its key."""
        self.assumed: dict[str, QLineEdit] = {}
        self.setWindowTitle(f"Bring in {path.name}")
        self.resize(620, 520)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.setSpacing(10)
        layout.addWidget(label(path.name, "title"))
        self.becomes = label("", "soft", wrap=True)
        layout.addWidget(self.becomes)
        self.choices = Rows((3, 4))
        layout.addWidget(self.choices)
        self._make_choices()
        card = Card("What becomes of it")
        self.lines = Rows((1, 5), spacing=4)
        card.body.addWidget(scrolled(self.lines), 1)
        layout.addWidget(card, 1)
        self.wrong = label("", "wrong", wrap=True)
        layout.addWidget(self.wrong)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button("Leave it", self.reject))
        self.keep = button("Keep it", self.keep_it, "primary")
        row.addWidget(self.keep)
        layout.addLayout(row)
        self.read()

    @property
    def kind(self) -> str:
        """What the file is, by its name."""
        suffix = self.path.suffix.lower()
        return "machine" if suffix in MACHINE_FILES else "mesh" if suffix in (".stl", ".obj") else "drawing"

    @property
    def _ours(self) -> bool:
        """A machine file of ours says all of what has to be assumed of others."""
        return self.path.suffix.lower() == ".toml"

    def _make_choices(self) -> None:
        self.free = QCheckBox("its first link moves freely; else it stands on the ground")
        self.free.setAccessibleName("moves freely")
        self.name, self.wish = QLineEdit(plain_name(self.path)), Choice("its first task")
        self.name.setAccessibleName("name of the machine")
        self.takes = Choice("what its drives take")
        self.legend: dict[str, Choice] = {}
        self.scale = QuantityField("m", "metres a unit of the drawing")
        self.scale.show_value(0.01)
        if self.kind == "machine":
            if not self._ours:
                self.free.setChecked(self._looks_free())
                self.free.toggled.connect(lambda _: self.read())
                self.choices.add_wide(self.free)
            self.name.editingFinished.connect(self.read)
            self.choices.add("called", self.name)
            self.takes.addItems([_SUITS, *TAKES])
            if not self._ours:
                self.takes.activated.connect(lambda _: self.read())
                self.choices.add("its drives take", self.takes)
            self.wish.addItems([_NO_WISH, *(wish.name for wish in WISHES)])
            self.wish.activated.connect(lambda _: self.read())
            self.choices.add("its first task", self.wish)
        elif self.kind == "drawing":
            self.scale.edited.connect(lambda *_: self.read())
            self.choices.add("one unit or pixel is", self.scale)
            try:
                found = legend_of(self.path)
            except HeronError:
                found = {}
            for name, count in found.items():
                choice = Choice(f"meaning of {name}")
                choice.addItems([_UNUSED, *MEANINGS])
                meaning = name.lower().rstrip("s")
                choice.setCurrentText(meaning if meaning in MEANINGS else _UNUSED)
                choice.currentTextChanged.connect(lambda _: self.read())
                self.legend[name] = choice
                what = "line" if self.path.suffix.lower() == ".svg" else "pixel"
                self.choices.add(f"{name}, {count} {what}{'s' if count > 1 else ''}", choice)

    def _looks_free(self) -> bool:
        try:
            return travels(self.path)
        except (HeronError, OSError):
            return False

    def read(self) -> None:
        """Read the file as chosen, and say what it gives: of a machine once it has been rehearsed, which may take seconds."""
        self.report, self.job = None, None
        self.keep.setEnabled(False)
        try:
            if self.kind != "machine":
                self._read_is(self._read())
                return
            work = self._machine()
        except (HeronError, OSError) as error:
            self._failed(str(error))
            return
        job = self.job = Job("reading", lambda _: work(), self)
        # an answer to what was chosen before says nothing of what is chosen now
        job.done.connect(lambda report: self._read_is(report) if job is self.job else None)
        job.failed.connect(lambda text: self._failed(text) if job is self.job else None)
        self._say("")
        if not self.assumed:
            self.lines.clear()
            self.lines.add_wide(label("reading …", "soft"))
            self.lines.finish()
        job.start()

    @property
    def busy(self) -> bool:
        """Whether it is still reading."""
        return self.job is not None

    def _read_is(self, report: ImportReport) -> None:
        self.report, self.job = report, None
        self.keep.setEnabled(True)
        self._say("")
        self._list()

    def _failed(self, wrong: str) -> None:
        self.job = None
        self._say(wrong)
        self._list()

    def _list(self) -> None:
        """What became of the file, line by line."""
        if self.report is None and self.numbers:
            return  # what was typed stands beside what is wrong with it
        focus = next((key for key, field in self.assumed.items() if field.hasFocus()), "")
        half_typed = self.assumed[focus].text() if focus and self.assumed[focus].isModified() else ""
        self.lines.clear()
        self.assumed = {}
        if self.report is not None:
            for k, group in enumerate(self.report.groups):
                row = self._assumed_row(group[0]) if len(group) == 1 else self._assumed_group(group)
                head = label("" if k else "assumed", "soft")
                head.setAlignment(Qt.AlignmentFlag.AlignTop)
                self.lines.add(head, row)
            for title, texts in (
                ("read", self.report.read), ("converted", together(self.report.converted)), ("left out", together(self.report.left_out)),
                ("written", [*self.report.texts, *self.report.copies]),
            ):  # fmt: skip
                for k, text in enumerate(texts):
                    self.lines.add(label("" if k else title, "soft"), label(text, wrap=True))
        self.lines.finish()
        if focus in self.assumed:
            self.assumed[focus].setFocus()
            if half_typed:  # while it was read
                self.assumed[focus].setText(half_typed)
                self.assumed[focus].setModified(True)

    def _assumed_row(self, assumed: Assumed) -> QWidget:
        """A number that can be typed over, and why it is as it is."""
        whole = QWidget()
        row = QHBoxLayout(whole)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self._field(assumed))
        row.addWidget(label(assumed.words, wrap=True), 1)
        return whole

    def _assumed_group(self, group: list[Assumed]) -> QWidget:
        """Numbers of several joints that were assumed for one reason, beside one another."""
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 4)
        column.setSpacing(2)
        column.addWidget(label(f"{len(group)} {group[0].kind}s, each: {group[0].why}", wrap=True))
        fields = Rows((0, 1) * _BESIDE, spacing=2)
        for k in range(0, len(group), _BESIDE):
            cells: list[QWidget] = []
            for assumed in group[k : k + _BESIDE]:
                cells += [self._field(assumed), ElidedLabel(assumed.part, "soft")]
            fields.add(*cells)
        column.addWidget(fields)
        return whole

    def _field(self, assumed: Assumed) -> QLineEdit:
        field = QLineEdit(assumed.value)
        field.setAccessibleName(assumed.key)
        field.setToolTip(f"{assumed.key}: {assumed.words}")
        field.setMinimumHeight(24)
        field.setFixedWidth(120)
        field.editingFinished.connect(lambda: self._typed(assumed, field))
        self.assumed[assumed.key] = field
        return field

    def _typed(self, assumed: Assumed, field: QLineEdit) -> None:
        text = field.text().strip()
        if text != self.numbers.get(assumed.key, assumed.value):
            self.numbers[assumed.key] = text
            self.read()

    def _machine(self) -> Callable[[], ImportReport]:
        """What reads a machine as chosen, without touching the window."""
        self.becomes.setText("becomes a machine of this project, with a plain site and a task to see it in")
        name = self.name.text().strip()
        check_name(self.bench.project.folder, "machines", name)
        path = self.path  # the thread is not to hold the sheet: it must not be the last to let go of it
        free = None if self._ours else self.free.isChecked()
        numbers, folder = dict(self.numbers), self.bench.project.folder
        wish = "" if self.wish.currentText() == _NO_WISH else self.wish.currentText()
        takes = "" if self.takes.currentText() == _SUITS else self.takes.currentText()

        def work() -> ImportReport:
            try:
                return machine_from_file(path, free, wish, folder=folder, name=name, numbers=numbers, takes=takes)
            except OSError as error:
                raise FileError(path, "", None, str(error)) from error

        return work

    def _read(self) -> ImportReport:
        """A mesh or drawing."""
        problem = self.bench.problem
        if problem is None:
            raise FileError(self.path, "", None, "needs a task: choose one first")
        if self.kind == "mesh":
            self.becomes.setText(f"becomes a shape of {self.body.replace('_', ' ')}, as its convex hull")
            report, self._entry = mesh_shape(self.bench.path_of("machines"), self.path)
            return report
        self.becomes.setText(f"becomes courses, walls and gates of the site {problem.task.site}")
        legend = {name: c.currentText() for name, c in self.legend.items() if c.currentText() != _UNUSED}
        scale = self.scale.value() or 0.01
        report, self._entry = drawing_of_site(self.bench.path_of("sites"), self.path, legend, scale)
        return report

    def keep_it(self) -> None:
        """Write it into the project."""
        report, bench = self.report, self.bench
        if report is None:
            return
        try:
            report.keep(bench.project.folder)
        except (HeronError, OSError) as error:
            self._say(str(error))
            return
        wrong = ""
        if self.kind == "machine":
            bench.choose_task(report.task)
        elif self.kind == "mesh":
            wrong = bench.rewrite(
                "machines", lambda d: editing.put_shape(d, self.body, self._entry), f"{self.path.name} on {self.body}"
            )
        else:
            wrong = bench.rewrite(
                "sites",
                lambda d: editing.put_part(d, "drawings", report.name, self._entry),
                f"{self.path.name} on the site",
            )
        if wrong:
            for relative in report.copies:
                (bench.project.folder / relative).unlink()
            self._say(wrong)
            return
        self.accept()

    def _say(self, wrong: str) -> None:
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))
