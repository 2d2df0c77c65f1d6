"""Small sheets that ask for one thing: a name, or a yes with what is lost by it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from plucky_heron.desktop.forms.widgets import button, label


class Ask(QDialog):
    """A question with a yes; what is wrong with the answer stands there, and the sheet stays."""

    def __init__(self, title: str, says: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
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
        wrong = self.answer()
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))
        if not wrong:
            self.accept()

    def answer(self) -> str:
        """What is wrong, or nothing."""
        raise NotImplementedError


class AskName(Ask):
    """A name; `takes` gets it, and says what is wrong with it or nothing."""

    def __init__(
        self, title: str, says: str, name: str, takes: Callable[[str], str], parent: QWidget | None = None
    ) -> None:
        super().__init__(title, says, parent)
        self.takes = takes
        self.name = QLineEdit(name)
        self.name.setAccessibleName("name")
        self.name.selectAll()
        self.name.returnPressed.connect(self.take)
        self.body.insertWidget(1, self.name)
        self.name.setFocus()

    def answer(self) -> str:
        """Hand the name over."""
        return self.takes(self.name.text().strip())


class AskFirst(Ask):
    """What is about to be lost, and a yes to it."""

    def __init__(self, title: str, says: str, does: Callable[[], str], parent: QWidget | None = None) -> None:
        super().__init__(title, says, parent)
        self.does = does

    def answer(self) -> str:
        """Do it."""
        return self.does()
