"""Handover: the contract, the forms and their equality, the rig with the loop running."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtWidgets import QCheckBox, QFileDialog, QGridLayout, QHBoxLayout, QVBoxLayout

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
from plucky_heron.desktop.stations.handover.fleet_sheet import FleetSheet
from plucky_heron.desktop.stations.handover.rig_card import RigCard
from plucky_heron.errors import HeronError
from plucky_heron.files import inside, is_file
from plucky_heron.handover.contract import contract
from plucky_heron.handover.equality import VECTORS
from plucky_heron.handover.forms.catalogue import ALWAYS, TOLERANCE, TOLERANCES
from plucky_heron.handover.pack import HOLD_TIME, write_pack
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.rigs.faults import read_faults
from plucky_heron.rigs.rollout import ROLLOUT_STREAM, RolloutResult, Sample, roll_out
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
COMMISSIONING_TIME = 600.0
"""Seconds that the machine may stand while the states are gone through by hand."""


class HandoverStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.samples: list[Sample] = []
        self._drawn: object = None
        self.result: RolloutResult | None = None
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
        self.rig = RigCard(bench)
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
        bench.problem_changed.connect(self.later)
        bench.runs_changed.connect(self.later)
        bench.results_changed.connect(self.later)
        self.refresh()

    def _pack(self) -> dict[str, Any] | None:
        bench = self.bench
        return bench.store.last_result(bench.run, PACK) if bench.run is not None else None

    def _proof(self) -> dict[str, Any] | None:
        bench = self.bench
        return bench.store.last_result(bench.run, PROOF) if bench.run is not None else None

    def _folder(self) -> Path | None:
        row = self.bench.row()
        return self.bench.project.folder / "packs" / f"run-{row.id}" if row is not None else None

    def _written(self) -> Path | None:
        """Where the last pack of this run lies, inside the project; a store that names a place elsewhere is not believed."""
        pack, own = self._pack(), self._folder()
        if pack is None or own is None:
            return None
        try:
            last = inside(self.bench.project.folder, str(pack.get("within_project") or "packs"))
        except HeronError:
            return own if is_file(own / "pack.json") else None
        return next((folder for folder in (last, own) if is_file(folder / "pack.json")), None)

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
        pack, folder = self._pack(), self._written()
        there = folder is not None
        self.write.setEnabled(row is not None and row.best_step is not None)
        self.roll.setEnabled(there)
        self.over_fleet.setEnabled(there)
        self.note.setText(
            "train a run first"
            if row is None
            else f"{folder}"
            if there
            else f"run {row.id}, seed {row.seed}; no pack yet"
            if pack is None
            else f"run {row.id}, seed {row.seed}; the last pack is not in this project: {pack['pack']}"
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
        row, found = self.bench.row(), None
        if row is not None and not self.samples:
            found = self.bench.store.last_result(row.id, ROLLOUT)
        if self.result is not None and not self.samples and (self.result.faults or self.result.whole):
            found = self.result.summary()
        self.rig.show_rollout(self.samples, found, self.result)

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
        folder = self._written()
        pack = self._readable(folder) if folder is not None else None
        if pack is not None:
            self.fleet = FleetSheet(self.bench, pack, self)
            self.fleet.open()

    def roll_out(self) -> None:
        """Run the pack on the chosen rig; the strip recorder follows."""
        bench, row, folder = self.bench, self.bench.row(), self._written()
        if row is None or folder is None:
            return
        lock_step, project = bool(self.mode.currentData()), bench.project.folder
        rig, whole = self.rig.rig, self.rig.whole
        asking, before = self.rig.begin(), None
        if whole and asking.ask != "on":  # it is commissioned by hand, for as long as that takes
            before = asking
            before.lasts = COMMISSIONING_TIME
        pack = self._readable(folder)
        if pack is None:
            return
        try:
            faults = read_faults(self.rig.faults.text())
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
        self.bench.playback.show(problem, recording, f"rig {self.rig.rig} · start {sample.episode} · running")
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
