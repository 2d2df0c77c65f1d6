"""Small sheets that ask for one thing: a name, or a yes with what is lost by it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from plucky_heron.desktop.forms.widgets import button, label


class AskName(QDialog):
    """A name; `take` gets it, and says what is wrong with it or nothing."""

    def __init__(
        self, title: str, says: str, name: str, take: Callable[[str], str], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.take_it = take
        self.setWindowTitle(title)
        self.setMinimumWidth(380)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.setSpacing(8)
        layout.addWidget(label(says, "soft"))
        self.name = QLineEdit(name)
        self.name.setAccessibleName("name")
        self.name.selectAll()
        self.name.returnPressed.connect(self.take)
        layout.addWidget(self.name)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        layout.addWidget(self.wrong)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button("Leave it", self.reject))
        row.addWidget(button(title, self.take, "primary"))
        layout.addLayout(row)

    def take(self) -> None:
        """Hand the name over; a wrong one stays to be mended."""
        wrong = self.take_it(self.name.text().strip())
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))
        if not wrong:
            self.accept()


class AskFirst(QDialog):
    """What is about to be lost, and a yes to it."""

    def __init__(self, title: str, says: str, yes: Callable[[], str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.yes_it = yes
        self.setWindowTitle(title)
        self.setMinimumWidth(380)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.setSpacing(8)
        layout.addWidget(label(says, wrap=True))
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        layout.addWidget(self.wrong)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button("Leave it", self.reject))
        row.addWidget(button(title, self.yes, "primary"))
        layout.addLayout(row)

    def yes(self) -> None:
        """Do it; where it cannot be done, say why."""
        wrong = self.yes_it()
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))
        if not wrong:
            self.accept()
