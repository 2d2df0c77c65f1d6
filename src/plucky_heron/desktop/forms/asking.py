"""Small sheets that ask for one thing: a name, or a yes with what is lost by it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from plucky_heron.desktop.forms.widgets import button, label


class AskFirst(QDialog):
    """A question with a yes, which `does` it; what is wrong then stands there, and the sheet stays."""

    def __init__(self, title: str, says: str, does: Callable[[], str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.does = does
        self.setWindowTitle(title)
        self.setMinimumWidth(380)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(16, 14, 16, 14)
        self.body.setSpacing(8)
        self.body.addWidget(label(says, wrap=True))
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        self.body.addWidget(self.wrong)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button("Leave it", self.reject))
        row.addWidget(button(title, self.take, "primary"))
        self.body.addLayout(row)

    def take(self) -> None:
        """Do it; where it cannot be done, say why."""
        wrong = self.does()
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))
        if not wrong:
            self.accept()


class AskName(AskFirst):
    """A name; `takes` gets it, and says what is wrong with it or nothing."""

    def __init__(
        self, title: str, says: str, name: str, takes: Callable[[str], str], parent: QWidget | None = None
    ) -> None:
        super().__init__(title, says, lambda: takes(self.name.text().strip()), parent)
        self.name = QLineEdit(name)
        self.name.setAccessibleName("name")
        self.name.selectAll()
        self.name.returnPressed.connect(self.take)
        self.body.insertWidget(1, self.name)
        self.name.setFocus()
