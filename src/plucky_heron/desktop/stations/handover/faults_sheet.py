"""Faults between plant and controller by sliders: what each does, and how much of it."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QLineEdit, QSlider, QVBoxLayout, QWidget

from plucky_heron.desktop.forms.widgets import button, label
from plucky_heron.errors import HeronError
from plucky_heron.rigs.faults import ALL, MOST, Faults, fault_value, read_faults

STEPS = 100
WORDS: dict[str, tuple[str, float]] = {
    "dead_time": ("every datagram takes longer, there and back", 0.1), "jitter": ("by up to so much more, evenly spread", 0.1),
    "loss": ("datagrams that never arrive", 0.5), "duplicate": ("that arrive twice", 0.5), "reorder": ("that arrive after the next one", 0.5),
    "bit_errors": ("chance of each bit to be turned", 1e-3), "drift": ("the plant's clock is slower by", 0.02),
    "restart": ("mean time between restarts of the controller", 60.0), "stuck": ("chance a second that a sensor holds for one", 1.0),
    "bias": ("offset of every sensor, of its range", 0.2), "noise": ("noise of every sensor, of its range", 0.2),
}  # fmt: skip
"""What each fault is, and where its slider ends; more can be typed."""


def shown(name: str, value: float) -> str:
    """A value as it is typed: ``20ms``, ``5%``."""
    if not value:
        return ""
    unit = MOST[name][0]
    if unit == "s":
        return f"{value:.3g}s" if value >= 1.0 else f"{1e3 * value:.3g}ms"
    return f"{value:.2g}" if value < 1e-4 else f"{100 * value:.3g}%"


class FaultsSheet(QDialog):
    """The sheet.

    Signals
    -------
    changed(str)
        All faults as they are typed: ``loss=5%,dead_time=20ms``.
    """

    changed = Signal(str)

    def __init__(self, text: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Faults on the way")
        self.setMinimumWidth(620)
        body = QVBoxLayout(self)
        body.setContentsMargins(16, 14, 16, 14)
        body.setSpacing(8)
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(4)
        self.sliders: dict[str, QSlider] = {}
        self.fields: dict[str, QLineEdit] = {}
        for row, (name, (words, _)) in enumerate(WORDS.items()):
            slider, field = QSlider(Qt.Orientation.Horizontal), QLineEdit()
            slider.setRange(0, STEPS)
            slider.setAccessibleName(f"{name.replace('_', ' ')} slider")
            field.setAccessibleName(name.replace("_", " "))
            field.setPlaceholderText("none")
            field.setFixedWidth(80)
            slider.valueChanged.connect(lambda step, name=name: self._slid(name, step))
            field.editingFinished.connect(lambda name=name: self._typed(name))
            self.sliders[name], self.fields[name] = slider, field
            grid.addWidget(label(name.replace("_", " "), "strong"), row, 0)
            grid.addWidget(slider, row, 1)
            grid.addWidget(field, row, 2)
            grid.addWidget(label(words, "soft"), row, 3)
        grid.setColumnStretch(1, 1)
        body.addLayout(grid)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        body.addWidget(self.wrong)
        foot = QHBoxLayout()
        foot.addWidget(button("None", lambda: self.put("")))
        foot.addWidget(button("Some of everything", lambda: self.put(ALL)))
        foot.addStretch(1)
        foot.addWidget(button("Done", self.accept, "primary"))
        body.addLayout(foot)
        self.put(text)

    def put(self, text: str) -> None:
        """Show these faults; what cannot be read is said, and none are shown."""
        try:
            faults = read_faults(text)
            self._say("")
        except HeronError as error:
            faults = Faults()
            self._say(str(error))
        for name in WORDS:
            self._show(name, getattr(faults, name))
        self._tell()

    def _show(self, name: str, value: float) -> None:
        slider, field = self.sliders[name], self.fields[name]
        with QSignalBlocker(slider):
            slider.setValue(min(STEPS, round(STEPS * (value / WORDS[name][1]) ** 0.5)))
        field.setText(shown(name, value))

    def _slid(self, name: str, step: int) -> None:
        # a square: small faults are those that matter
        self.fields[name].setText(shown(name, WORDS[name][1] * (step / STEPS) ** 2))
        self._tell()

    def _typed(self, name: str) -> None:
        text = self.fields[name].text().strip()
        try:
            value = fault_value(name, text) if text else 0.0
        except HeronError as error:
            self._say(str(error))
            return
        self._say("")
        with QSignalBlocker(self.sliders[name]):
            self.sliders[name].setValue(min(STEPS, round(STEPS * (value / WORDS[name][1]) ** 0.5)))
        self._tell()

    def _say(self, wrong: str) -> None:
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))

    def text(self) -> str:
        """All faults as they are typed."""
        return ",".join(f"{name}={field.text().strip()}" for name, field in self.fields.items() if field.text().strip())

    def _tell(self) -> None:
        self.changed.emit(self.text())
