"""The rig in the Handover station: which one, what runs on it, what goes wrong on the way, and what came of it."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Card, Choice, ElidedLabel, Rows, button, label
from plucky_heron.desktop.stations.handover import model
from plucky_heron.desktop.stations.handover.faults_sheet import FaultsSheet
from plucky_heron.desktop.theme import font, theme
from plucky_heron.rigs.datagrams import ASKS
from plucky_heron.rigs.faults import ALL, MOST
from plucky_heron.rigs.rollout import RIGS, RolloutResult, Sample
from plucky_heron.rigs.sides import Asking

RIG_WORDS = {
    "host": "host", "arm64": "ARM Linux, 64 bits", "arm32": "ARM Linux, 32 bits", "board": "board, Cortex-M4F", "board-fixed": "board, fixed point", "plc": "soft controller (PLC)",
}  # fmt: skip
RIG_DOES = {
    "host": "own process, the pack's C, UDP on loopback", "arm64": "the same C for ARM, under an emulator of its instructions", "arm32": "the same C for ARM, under an emulator of its instructions",
    "board": "the pack's firmware without an operating system, emulated, over its serial line", "board-fixed": "the firmware with the fixed-point form, no floating-point unit used",
    "plc": "the pack's Structured Text in a scan cycle, Modbus registers of 16 bits",
}  # fmt: skip


class RoundTrips(QWidget):
    """How long answers took, against the sample time."""

    def __init__(self) -> None:
        super().__init__()
        self.trips: list[float] = []
        self.sample = 0.02
        self.setMinimumHeight(70)
        self.setAccessibleName("round trips")

    def paintEvent(self, event: QPaintEvent) -> None:
        """A histogram on a logarithmic axis."""
        painter = QPainter(self)
        t = theme()
        painter.setFont(font(11))
        painter.setPen(t.color("soft"))
        if not self.trips:
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignVCenter, "round trips are counted while a rollout runs")
            return
        low, high = 1e-5, max(self.sample * 1.6, max(self.trips))
        bins = np.geomspace(low, high, 40)
        counts, _ = np.histogram(np.clip(self.trips, low, high), bins)
        base, top = self.height() - 16.0, 14.0

        def x(seconds: float) -> float:
            return 4 + (self.width() - 8) * float(np.log(seconds / low) / np.log(high / low))

        painter.drawText(QRectF(0, 0, self.width(), 13), Qt.AlignmentFlag.AlignLeft, "round trips")
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("tide", 0.7))
        for count, a, b in zip(counts, bins, bins[1:], strict=False):
            height = (base - top) * count / counts.max()
            painter.drawRect(QRectF(x(a) + 0.5, base - height, x(b) - x(a) - 1, height))
        painter.setPen(QPen(t.color("ink"), 1))
        painter.drawLine(QPointF(4, base), QPointF(self.width() - 4, base))
        painter.setPen(QPen(t.color("ink"), 1.5, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x(self.sample), top), QPointF(x(self.sample), base))
        painter.setPen(t.color("soft"))
        for seconds, text in ((1e-4, "0.1 ms"), (1e-3, "1 ms"), (self.sample, f"{1000 * self.sample:g}, the sample")):
            width = 90
            place = QRectF(min(x(seconds) - width / 2, self.width() - width), base + 1, width, 14)
            painter.drawText(place, Qt.AlignmentFlag.AlignCenter, text)


class RigCard(Card):
    """The card.

    Attributes
    ----------
    asking
        What the whole controller is asked for, also while it runs.
    measured
        Median round trip of the last rollout in real time (s).
    """

    def __init__(self, bench: Workbench) -> None:
        super().__init__("Rig", "simulated controller")
        self.bench = bench
        self.measured = 0.0
        self.asking = Asking()
        which = QHBoxLayout()
        self.which = Choice("rig")
        for name in RIGS:
            self.which.addItem(RIG_WORDS[name], name)
        self.faults = QLineEdit()
        self.faults.setAccessibleName("faults on the way")
        self.faults.setPlaceholderText("faults, such as loss=5%")
        self.faults.setToolTip(f"apart by commas: {', '.join(MOST)}; for some of everything: {ALL}")
        which.addWidget(self.which, 1)
        which.addWidget(self.faults, 1)
        self.slide = button("…", self.set_faults, "tool", "faults by sliders")
        which.addWidget(self.slide)
        self.body.addLayout(which)
        asked = QHBoxLayout()
        self.what = Choice("what runs on the rig")
        self.what.addItem("policy alone", False)
        self.what.addItem("whole controller", True)
        self.what.setToolTip("the whole controller: signals in, values of drives out, with its guards and states")
        self.ask = Choice("state that is asked for")
        for state in ASKS:
            self.ask.addItem(state, state)
        self.ask.setCurrentIndex(ASKS.index("on"))
        self.ask.setToolTip("may be changed while it runs; started with another than on, the machine stands")
        self.ask_label = label("ask for", "soft")
        asked.addWidget(self.what, 1)
        asked.addWidget(self.ask_label)
        asked.addWidget(self.ask, 1)
        self.body.addLayout(asked)
        self.what.currentIndexChanged.connect(self._choose_what)
        self.ask.currentIndexChanged.connect(self._ask_for)
        self.running, self.state = label("", "strong"), label("", "strong")
        self.fault = label("", "wrong", wrap=True)
        for told in (self.running, self.state, self.fault):
            self.body.addWidget(told)
        self.rows = Rows((4, 5), spacing=2)
        self.body.addWidget(self.rows)
        self.slower = label("", "wrong", wrap=True)
        self.take = button("Take it into the task", self.take_delay, "", "take the rig's dead time into the task")
        self.slower.hide()
        self.take.hide()
        self.trips = RoundTrips()
        self.body.addWidget(self.slower)
        self.body.addWidget(self.take)
        self.body.addWidget(self.trips, 1)
        self._choose_what()

    @property
    def rig(self) -> str:
        """The rig that is chosen."""
        return str(self.which.currentData())

    @property
    def whole(self) -> bool:
        """Whether the whole controller is to run."""
        return bool(self.what.currentData())

    def begin(self) -> Asking:
        """What is asked for in a rollout that begins now."""
        self.asking = Asking(str(self.ask.currentData()))
        return self.asking

    def _choose_what(self) -> None:
        """States are of the whole controller."""
        self.ask.setVisible(self.whole)
        self.ask_label.setVisible(self.whole)

    def _ask_for(self) -> None:
        """Also of the controller that is at work."""
        self.asking.ask = str(self.ask.currentData())

    def set_faults(self) -> None:
        """Open the sheet of sliders; the field follows."""
        self.faults_sheet = FaultsSheet(self.faults.text(), self)
        self.faults_sheet.changed.connect(self.faults.setText)
        self.faults_sheet.open()

    def show_rollout(self, samples: list[Sample], found: dict[str, Any] | None, result: RolloutResult | None) -> None:
        """What runs (`samples` so far), or what came of the last one: its summary as it was kept, and the whole of it where it was just made."""
        last = samples[-1].state if samples else ""
        self.running.setVisible(bool(samples))
        self.state.setVisible(bool(last) and last != "fault")
        self.fault.setVisible(last == "fault")
        if not samples or self.rows.count:
            self.rows.clear()
        self._show_delay(found)
        if samples:
            missed = sum(s.round_trip is None for s in samples)
            self.running.setText(f"running, sample {len(samples)}, {missed} missed")
            reason = samples[-1].reason
            for told in (self.state, self.fault):
                told.setText(f"in state {last}: {reason}" if reason else f"in state {last}")
            self.trips.trips = [s.round_trip for s in samples if s.round_trip]
        elif found is None:
            self.rows.add_wide(label(RIG_DOES[self.rig], "soft", wrap=True))
        else:
            for title, text in model.rig_lines(found):
                self.rows.add(label(title, "soft"), ElidedLabel(text, ""))
            if result is not None:
                self.trips.trips = result.round_trips
        if self.bench.problem is not None:
            self.trips.sample = self.bench.problem.sample_time
        self.trips.update()

    def _show_delay(self, found: dict[str, Any] | None) -> None:
        """Whether the rig was slower than the task assumes, and the way to tell it."""
        problem = self.bench.problem
        median = 1e-3 * found["round_trip_ms"]["median"] if found is not None and found["mode"] == "real time" else 0.0
        assumed = problem.task.timing.dead_time if problem is not None else 0.0
        slower = problem is not None and median > assumed + max(0.001, 0.1 * problem.sample_time)
        self.measured = median
        self.slower.setText(
            f"the rig takes {1e3 * median:.3g} ms, the task assumes {1e3 * assumed:g} ms" if slower else ""
        )
        self.slower.setVisible(slower)
        self.take.setVisible(slower)

    def take_delay(self) -> None:
        """Write the rig's median round trip into the task as its dead time."""
        told = f"{1e3 * self.measured:.3g} ms"
        wrong = self.bench.edit("tasks", ["timing", "dead_time"], told, f"dead time: {told}, as measured on the rig")
        if wrong:
            self.bench.say(wrong)


__all__ = ["RigCard", "RoundTrips"]
