"""Handover: the contract, the forms and their equality, the rig with the loop running."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QCheckBox, QFileDialog, QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.charts.strip_recorder import StripRecorder
from plucky_heron.desktop.forms.widgets import (
    Card,
    Choice,
    ElidedLabel,
    Mark,
    Rows,
    bare_card,
    button,
    label,
    rule,
    scrolled,
)
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.stations.handover import model
from plucky_heron.desktop.stations.handover.faults_sheet import FaultsSheet
from plucky_heron.desktop.stations.handover.fleet_sheet import FleetSheet
from plucky_heron.desktop.theme import font, theme
from plucky_heron.errors import HeronError
from plucky_heron.handover.contract import contract
from plucky_heron.handover.equality import VECTORS
from plucky_heron.handover.forms.catalogue import ALWAYS, TOLERANCE, TOLERANCES
from plucky_heron.handover.pack import HOLD_TIME, write_pack
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.rigs.datagrams import ASKS
from plucky_heron.rigs.faults import ALL, MOST, read_faults
from plucky_heron.rigs.rollout import RIGS, ROLLOUT_STREAM, RolloutResult, Sample, roll_out
from plucky_heron.rigs.sides import WHOLE_RIGS, Asking
from plucky_heron.runs.results import PACK, PROOF, ROLLOUT
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.trust import UntrustedError
from plucky_heron.units import pretty_unit

FORM_WORDS = {
    "onnx": "ONNX, opset 17", "c99": "C99, float32, no heap", "c": "C99, float32, no heap", "fixed": "C99, fixed point, 16 bits", "st": "Structured Text",
    "fmu": "FMU, FMI 3.0",
}  # fmt: skip
EXTRA = {"fixed": "fixed point", "st": "Structured Text", "fmu": "FMU"}
"""Forms that are not in every pack."""
RIG_WORDS = {
    "host": "host", "arm64": "ARM Linux, 64 bits", "arm32": "ARM Linux, 32 bits", "board": "board, Cortex-M4F", "board-fixed": "board, fixed point", "plc": "soft controller (PLC)",
}  # fmt: skip
RIG_DOES = {
    "host": "own process, the pack's C, UDP on loopback", "arm64": "the same C for ARM, under an emulator of its instructions", "arm32": "the same C for ARM, under an emulator of its instructions",
    "board": "the pack's firmware without an operating system, emulated, over its serial line", "board-fixed": "the firmware with the fixed-point form, no floating-point unit used",
    "plc": "the pack's Structured Text in a scan cycle, Modbus registers of 16 bits",
}  # fmt: skip


COMMISSIONING_TIME = 600.0
"""Seconds that the machine may stand while the states are gone through by hand."""


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


class HandoverStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.samples: list[Sample] = []
        self._drawn: object = None
        self.result: RolloutResult | None = None
        self.measured = 0.0
        """Median round trip of the last rollout in real time (s)."""
        self.shown_problem: Problem | None = None
        grid = QGridLayout(self)
        grid.setContentsMargins(16, 10, 16, 14)
        grid.setSpacing(10)
        self.contract = Card("The contract", "")
        self.contract_rows = Rows((0, 4, 2, 4, 4), spacing=2)
        self.contract.body.addWidget(scrolled(self.contract_rows), 1)
        self.promise = label("", "soft", wrap=True)
        self.contract.body.addWidget(rule())
        self.contract.body.addWidget(self.promise)
        self.forms = Card("Forms", "")
        self.form_rows = Rows((0, 5, 3), spacing=4)
        self.forms.body.addWidget(self.form_rows)
        more = QHBoxLayout()
        self.extra = {form: QCheckBox(words) for form, words in EXTRA.items()}
        for form, box in self.extra.items():
            box.setToolTip(FORM_WORDS[form])
            more.addWidget(box)
        more.addStretch(1)
        self.forms.body.addLayout(more)
        safe = QHBoxLayout()
        self.safe = Choice("without valid inputs")
        for words, key in (
            ("ramp to the safe commands", "ramp"),
            ("safe commands at once", "command"),
            ("hold the last ones", "hold"),
        ):
            self.safe.addItem(words, key)
        safe.addWidget(label("without inputs", "soft"))
        safe.addWidget(self.safe, 1)
        self.wiring: Path | None = None
        self.wire = button("wiring …", self.choose_wiring, "link", "wiring of raw numbers")
        self.wire.setToolTip("a file that says what raw counts and pulse widths mean; see docs/handover.md")
        safe.addWidget(self.wire)
        self.forms.body.addLayout(safe)
        self.warning = label("", "wrong", wrap=True)
        self.warning.hide()
        self.forms.body.addWidget(self.warning)
        self.forms.body.addWidget(rule())
        self.forms.body.addWidget(label("FILES", "caption"))
        self.file_rows = Rows((1,), spacing=1)
        self.forms.body.addWidget(scrolled(self.file_rows), 1)
        self.rig = Card("Rig", "simulated controller")
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
        self.rig.body.addLayout(which)
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
        self.rig.body.addLayout(asked)
        self.what.currentIndexChanged.connect(self._choose_what)
        self.which.currentIndexChanged.connect(self._choose_what)
        self.ask.currentIndexChanged.connect(self._ask_for)
        self.asking = Asking()
        self.slower = label("", "wrong", wrap=True)
        self.take = button("Take it into the task", self.take_delay, "", "take the rig's dead time into the task")
        self.slower.hide()
        self.take.hide()
        self.running, self.state = label("", "strong"), label("", "strong")
        self.fault = label("", "wrong", wrap=True)
        for told in (self.running, self.state, self.fault):
            self.rig.body.addWidget(told)
        self.rig_rows = Rows((4, 5), spacing=2)
        self.rig.body.addWidget(self.rig_rows)
        self.trips = RoundTrips()
        self.rig.body.addWidget(self.slower)
        self.rig.body.addWidget(self.take)
        self.rig.body.addWidget(self.trips, 1)
        self.drawing = Drawing(bench.playback)
        picture = bare_card(self.drawing, "drawing")
        strip = bare_card(StripRecorder(bench.playback), "strip recorder")
        row = QHBoxLayout()
        self.write = button("Write the pack", self.write_the_pack, "primary")
        self.roll = button("Roll out", self.roll_out)
        self.mode = Choice("how fast")
        self.mode.addItem("in real time", False)
        self.mode.addItem("in lock-step", True)
        self.note = ElidedLabel("", "soft")
        self.over_fleet = button("Fleet …", self.open_fleet)
        self.over_fleet.setToolTip("roll the pack out over several simulated devices, in waves")
        for widget in (self.write, self.roll, self.mode, self.over_fleet):
            row.addWidget(widget)
        row.addWidget(self.note, 1)
        left = QVBoxLayout()
        left.setSpacing(10)
        left.addWidget(strip, 1)
        left.addLayout(row)
        grid.addWidget(self.contract, 0, 0)
        grid.addWidget(self.forms, 0, 1)
        grid.addWidget(self.rig, 0, 2)
        grid.addWidget(picture, 1, 0)
        grid.addLayout(left, 1, 1, 1, 2)
        for column, stretch in enumerate((40, 29, 31)):
            grid.setColumnStretch(column, stretch)
        grid.setRowStretch(0, 52)
        grid.setRowStretch(1, 48)
        self._choose_what()
        bench.problem_changed.connect(self.later)
        bench.runs_changed.connect(self.later)
        bench.results_changed.connect(self.later)
        self.refresh()

    def _choose_what(self) -> None:
        """States are of the whole controller, which not every rig can run."""
        possible = str(self.which.currentData()) in WHOLE_RIGS
        self.what.setEnabled(possible)
        if not possible:
            self.what.setCurrentIndex(0)
        whole = bool(self.what.currentData())
        self.ask.setVisible(whole)
        self.ask_label.setVisible(whole)

    def _ask_for(self) -> None:
        """Also of the controller that is at work."""
        self.asking.ask = str(self.ask.currentData())

    def _pack(self) -> dict[str, Any] | None:
        bench = self.bench
        return bench.store.last_result(bench.run, PACK) if bench.run is not None else None

    def _proof(self) -> dict[str, Any] | None:
        bench = self.bench
        return bench.store.last_result(bench.run, PROOF) if bench.run is not None else None

    def _folder(self) -> Path | None:
        row = self.bench.row()
        return self.bench.project.folder / "packs" / f"run-{row.id}" if row is not None else None

    def refresh(self) -> None:
        """Contract, forms, rig."""
        bench, row = self.bench, self.bench.row()
        problem = bench.problem
        drawn = (id(problem), bench.run, row is not None and row.best_step is not None, self._pack(), self._proof())
        if drawn == self._drawn:
            self._show_rig()
            return
        self._drawn = drawn
        if problem is not None:
            self._show_contract(problem)
        pack, folder = self._pack(), self._folder()
        there = pack is not None and folder is not None and (folder / "pack.json").is_file()
        self.write.setEnabled(row is not None and row.best_step is not None)
        self.roll.setEnabled(there)
        self.over_fleet.setEnabled(there)
        self.note.setText(
            "train a run first"
            if row is None
            else f"{folder}"
            if there
            else f"run {row.id}, seed {row.seed}; no pack yet"
        )
        self.form_rows.clear()
        self.file_rows.clear()
        if pack is None:
            self.forms.note.setText("")
            self.form_rows.add(None, label("written and checked together", "soft"))
        else:
            self.forms.note.setText(f"largest difference on {VECTORS} vectors")
            for form, box in self.extra.items():
                box.setChecked(form in pack["equality"])
            for form, value in pack["equality"].items():
                cells = (
                    Mark("passed" if value <= TOLERANCES.get(form, TOLERANCE) else "wrong"),
                    label(FORM_WORDS.get(form, form), "strong"),
                    label(f"{value:.0e} of range", ""),
                )
                self.form_rows.add(*cells)
            for name in pack["files"]:
                self.file_rows.add(ElidedLabel(name, "soft"))
        self.form_rows.finish()
        self.file_rows.finish()
        told = pack.get("warnings", []) if pack is not None else []
        self.warning.setText(told[0] if told else "")
        self.warning.setVisible(bool(told))
        self._show_rig()

    def _show_contract(self, problem: Problem) -> None:
        inputs, outputs = contract(problem)
        self.contract.note.setText(f"float32, each {1000 * problem.sample_time:g} ms, raw SI values")
        self.contract_rows.clear()
        for way, lines in (("in", inputs), ("out", outputs)):
            for k, line in enumerate(lines):
                span = f"{line.low:.4g} … {line.high:.4g}".replace("-", "−")
                sign = f"+ {line.positive}" if line.positive else ""
                self.contract_rows.add(
                    label(f"{way} {k}", "soft"), label(line.name, "strong"), label(pretty_unit(line.unit), "soft"),
                    label(span, "soft"), ElidedLabel(sign, "soft"),
                )  # fmt: skip
        self.contract_rows.finish()
        proof = self._proof()
        proved = (
            f"Proved: {100 * proof['drivers']['policy']['success']:.1f} % of {proof['trials']} trials."
            if proof
            else "Not proved yet."
        )
        self.promise.setText(f"Missing input: hold {1000 * HOLD_TIME:g} ms, then the safe command. {proved}")

    def _show_rig(self) -> None:
        last = self.samples[-1].state if self.samples else ""
        self.running.setVisible(bool(self.samples))
        self.state.setVisible(bool(last) and last != "fault")
        self.fault.setVisible(last == "fault")
        if not self.samples or self.rig_rows.count:
            self.rig_rows.clear()
        row = self.bench.row()
        found = None
        if row is not None and not self.samples:
            found = self.bench.store.last_result(row.id, ROLLOUT)
        if self.result is not None and not self.samples and (self.result.faults or self.result.whole):
            found = self.result.summary()
        self._show_delay(found)
        if self.samples:
            missed = sum(s.round_trip is None for s in self.samples)
            self.running.setText(f"running, sample {len(self.samples)}, {missed} missed")
            state, reason = self.samples[-1].state, self.samples[-1].reason
            for told in (self.state, self.fault):
                told.setText(f"in state {state}: {reason}" if reason else f"in state {state}")
            self.trips.trips = [s.round_trip for s in self.samples if s.round_trip]
        elif found is None:
            self.rig_rows.add_wide(label(RIG_DOES[str(self.which.currentData())], "soft", wrap=True))
        else:
            lines = model.rig_lines(found)
            for title, text in lines:
                self.rig_rows.add(label(title, "soft"), ElidedLabel(text, ""))
            if self.result is not None:
                self.trips.trips = self.result.round_trips
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

    def choose_wiring(self) -> None:
        """Choose the file of the wiring; none takes it away again."""
        name, _ = QFileDialog.getOpenFileName(
            self, "Wiring", str(self.wiring or self.bench.project.folder), "Wiring (*.toml)"
        )
        self.wiring = Path(name) if name else None
        self.wire.setText(self.wiring.name if self.wiring is not None else "wiring …")

    def write_the_pack(self) -> None:
        """Export and check."""
        bench, row, folder = self.bench, self.bench.row(), self._folder()
        if row is None or folder is None:
            return
        project, safe = bench.project.folder, str(self.safe.currentData())
        forms, wiring = (*ALWAYS, *(form for form, box in self.extra.items() if box.isChecked())), self.wiring
        bench.start_job(
            f"writing the pack of run {row.id}",
            lambda _: write_pack(project, row, folder, forms, safe, wiring=wiring),
            lambda _: None,
        )

    def set_faults(self) -> None:
        """Open the sheet of sliders; the field follows."""
        self.faults_sheet = FaultsSheet(self.faults.text(), self)
        self.faults_sheet.changed.connect(self.faults.setText)
        self.faults_sheet.open()

    def _readable(self, folder: Path) -> Pack | None:
        """The pack, where it is whole and may be run here; else what is wrong is said."""
        try:
            pack = read_pack(folder)
            pack.ask()
            return pack
        except UntrustedError as error:
            self.bench.trust_asked.emit(error)
        except HeronError as error:
            self.bench.say(str(error))
        return None

    def open_fleet(self) -> None:
        """Open the sheet of the fleet."""
        folder = self._folder()
        pack = self._readable(folder) if folder is not None else None
        if pack is not None:
            self.fleet = FleetSheet(self.bench, pack, self)
            self.fleet.open()

    def roll_out(self) -> None:
        """Run the pack on the chosen rig; the strip recorder follows."""
        bench, row, folder = self.bench, self.bench.row(), self._folder()
        if row is None or folder is None:
            return
        lock_step, project = bool(self.mode.currentData()), bench.project.folder
        rig, whole = str(self.which.currentData()), bool(self.what.currentData())
        self.asking = Asking(str(self.ask.currentData()))
        asking, before = self.asking, None
        if whole and asking.ask != "on":  # it is commissioned by hand, for as long as that takes
            before = asking
            before.lasts = COMMISSIONING_TIME
        pack = self._readable(folder)
        if pack is None:
            return
        try:
            faults = read_faults(self.faults.text())
            problem = pack.problem()
        except HeronError as error:
            bench.say(str(error))
            return
        self.shown_problem, self.samples = problem, []

        def work(job: Job) -> RolloutResult:
            total = problem.task.timing.steps * (5 if lock_step else 1)
            seen = 0

            def watch(sample: Sample) -> bool:
                nonlocal seen
                seen += 1
                job.show(sample)
                return job.tell(min(1.0, seen / total)) if seen % 10 == 0 else not job.stopping

            return roll_out(
                folder,
                rig,
                episodes=5 if lock_step else 1,
                lock_step=lock_step,
                faults=faults,
                watch=watch,
                project=project,
                whole=whole,
                asking=asking if whole else None,
                commissioning=before,
            )

        def then(result: RolloutResult) -> None:
            self.samples, self.result = [], result
            if result.scores:
                bench.playback.load(
                    problem,
                    result.recordings[-1],
                    f"rig {rig} · start {len(result.scores) - 1} · {result.summary()['mode']}",
                    tuple(result.inside[-1:]),
                )

        job = bench.start_job(f"rolling out on the rig {rig}", work, then)
        if job is not None:
            job.shown.connect(self._sample)

    def _sample(self, sample: Sample) -> None:
        if self.bench.closed:
            return
        if self.samples and sample.episode != self.samples[-1].episode:
            self.samples = []
        self.samples.append(sample)
        if len(self.samples) % 5 or self.shown_problem is None:
            return
        problem = self.shown_problem
        recording = live_recording(problem, self.samples)
        self.bench.playback.show(
            problem, recording, f"rig {self.which.currentData()} · start {sample.episode} · running"
        )
        self._show_rig()


def live_recording(problem: Problem, samples: list[Sample]) -> Recording:
    """The episode so far as the playback shows it; rewards and target are known when it has ended."""
    first = samples[0]
    position = np.array([first.position, *[s.position for s in samples]])
    observations = np.array([first.observation, *[s.observation for s in samples]])
    length = len(samples)
    made = Recording(
        "rig host", ROLLOUT_STREAM, EVALUATION_SEED, first.episode, problem.sample_time, position, np.zeros_like(position),
        observations, np.array([s.command for s in samples]), np.zeros((length, len(problem.rewards))),
        np.full((length + 1, 3), np.nan), np.zeros(length + 1), "", False,
    )  # fmt: skip
    return replace(made)


__all__ = ["HandoverStation", "live_recording"]
