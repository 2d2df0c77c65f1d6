"""A body's inertia as a whole: principal values, how their axes are turned, and the solid box that has them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QWidget

from plucky_heron.desktop.forms.widgets import QuantityField, label
from plucky_heron.dynamics.mass import equal_box, inertia_of, principal
from plucky_heron.machine.schema import Body

INERTIA = "kg*m**2"
ROWS = (
    ("principal inertia", INERTIA, "principal inertia {}", "about three axes through the centre of mass, none above the sum of the others"),
    ("axes turned by", "deg", "{} of the principal axes", "roll, pitch, yaw against the body's own axes"),
    ("as a solid box of", "m", "side {} of the box of equal inertia", "of the same mass along these axes; drawn dotted about the centre of mass"),
)  # fmt: skip
ORDINALS, ANGLES = ("one", "two", "three"), ("roll", "pitch", "yaw")


class InertiaRows(QWidget):
    """Three rows of three fields; each follows from the others.

    Signals
    -------
    edited(list)
        Another inertia, as the file has it: xx, yy, zz, and xy, xz, yz where axes are turned.
    wrong(str)
        Why what was typed is none; nothing where the last one was taken back.
    """

    edited = Signal(list)
    wrong = Signal(str)

    def __init__(self, body: Body) -> None:
        super().__init__()
        self.mass = body.mass
        values, turn = principal(body.inertia)
        self.exact = (values, np.degrees(turn), equal_box(body.mass, values))
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 4, 0, 4)
        grid.setSpacing(4)
        self.fields: list[list[QuantityField]] = []
        for row, (title, unit, name, says) in enumerate(ROWS):
            words = label(title, "soft")
            words.setToolTip(says)
            grid.addWidget(words, row, 0)
            line = []
            for k in range(3):
                field = QuantityField(unit, name.format((ANGLES if row == 1 else ORDINALS)[k]))
                field.setToolTip(says)
                field.show_value(float(self.exact[row][k]))
                field.edited.connect(lambda *_, row=row: self._edited(row))
                grid.addWidget(field, row, 1 + k)
                line.append(field)
            self.fields.append(line)
        self.texts = [[field.text() for field in line] for line in self.fields]

    def _numbers(self, row: int) -> list[float] | None:
        """What a row says; where nobody typed, to all digits."""
        found = [
            float(exact) if field.text() == text else field.value()
            for field, text, exact in zip(self.fields[row], self.texts[row], self.exact[row], strict=True)
        ]
        return None if None in found else [float(value) for value in found if value is not None]

    def _edited(self, row: int) -> None:
        sides = self._numbers(2)
        if row == 2 and sides is not None:
            if min(sides) < 0.0 or not max(sides) > 0.0:
                self.wrong.emit("a box has sides above zero")
                return
            a, b, c = (side**2 * self.mass / 12.0 for side in sides)
            self._emit([b + c, a + c, a + b])
        elif row != 2 and (values := self._numbers(0)) is not None:
            self._emit(values)

    def _emit(self, values: Sequence[float]) -> None:
        turn = self._numbers(1)
        if turn is None:
            return
        one, two, three = sorted(values)
        if one < 0.0 or three > (one + two) * (1.0 + 1e-9):
            # a larger one is typed number by number: what is typed stays, and counts once it fits
            self.wrong.emit(
                f"no solid has this inertia yet: {three:.6g} is above the sum of the others; type these, too"
            )
            return
        inertia = [float(value) for value in inertia_of(values, np.radians(turn).tolist())]
        kept = inertia if any(inertia[3:]) else inertia[:3]
        self.edited.emit([f"{value + 0.0:.9g} {INERTIA}" for value in kept])
