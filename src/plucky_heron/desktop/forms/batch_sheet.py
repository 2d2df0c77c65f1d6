"""The sheet of a batch: its note, keywords and mark; put away, brought back, deleted."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QCheckBox, QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.asking import AskFirst
from plucky_heron.desktop.forms.widgets import button, label
from plucky_heron.errors import HeronError
from plucky_heron.runs.labels import delete_batch, label_batch, what_is_lost


class BatchSheet(QDialog):
    """Note, keywords and mark of a batch, kept with Enter or *Keep*."""

    def __init__(self, bench: Workbench, batch: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench, self.batch = bench, batch
        self.asking: AskFirst | None = None
        row = bench.batch_rows(batch)[0]
        self.setWindowTitle(f"Batch {batch}")
        self.setMinimumWidth(460)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.setSpacing(8)
        self.note, self.keywords = QLineEdit(row.note), QLineEdit(row.keywords)
        for field, name in ((self.note, "note"), (self.keywords, "keywords, apart by commas")):
            field.setAccessibleName(name)
            field.returnPressed.connect(self.keep)
            layout.addWidget(label(name, "soft"))
            layout.addWidget(field)
        self.marked = QCheckBox("marked")
        self.marked.setChecked(bool(row.marked))
        layout.addWidget(self.marked)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        layout.addWidget(self.wrong)
        line = QHBoxLayout()
        for widget in (
            button("Put away", lambda: self.put_away()),
            button("Delete …", self.ask_delete, name=f"delete batch {batch}"),
        ):
            line.addWidget(widget)
        line.addStretch(1)
        line.addWidget(button("Leave it", self.reject))
        keep = button("Keep", self.keep, "primary")
        keep.setDefault(True)
        line.addWidget(keep)
        layout.addLayout(line)

    def _try(self, does: Callable[[], object], said: str) -> str:
        """Do something to the store and show what came of it; returns what is wrong, or nothing."""
        try:
            does()
        except (HeronError, OSError) as error:
            self.wrong.setText(str(error))
            self.wrong.show()
            return str(error)
        self.accept()
        self.bench.refresh_runs()
        self.bench.noted.emit(said)
        return ""

    def keep(self) -> None:
        """Keep what stands in the fields."""
        note, keywords, marked = self.note.text(), self.keywords.text(), self.marked.isChecked()
        self._try(
            lambda: label_batch(self.bench.store, self.batch, note=note, keywords=keywords, marked=marked),
            f"batch {self.batch}: kept",
        )

    def put_away(self) -> None:
        """Keep the batch without showing it."""
        self._try(
            lambda: label_batch(self.bench.store, self.batch, away=True),
            f"batch {self.batch} is put away; Compare brings it back",
        )

    def ask_delete(self) -> None:
        """Say what is lost, and delete it when told so."""
        bench, batch = self.bench, self.batch
        lost = what_is_lost(bench.project.folder, bench.store, batch)
        self.asking = AskFirst(
            "Delete",
            f"Batch {batch} is deleted for good: {lost}",
            lambda: self._try(
                lambda: delete_batch(bench.project.folder, bench.store, batch), f"batch {batch} is deleted"
            ),
            self,
        )
        self.asking.open()
