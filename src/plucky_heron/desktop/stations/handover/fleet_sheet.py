"""A pack over a fleet of simulated devices, one row a device: one first, then waves, taken back from all where one fails."""

from __future__ import annotations

import dataclasses

from PySide6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QPlainTextEdit, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Choice, ElidedLabel, Mark, Rows, button, label, rule, scrolled
from plucky_heron.desktop.jobs import Job
from plucky_heron.errors import HeronError
from plucky_heron.handover.reading import Pack
from plucky_heron.rigs.faults import read_faults
from plucky_heron.rigs.fleet.coordinator import DeviceState, Fleet, FleetResult, mixed, waves_of
from plucky_heron.rigs.rollout import RIGS

MARKS = {"well": "passed", "failed": "wrong", "rolled back": "look"}
COUNTS = (3, 6, 12)
TRIALS = (1, 3, 10)


class FleetSheet(QDialog):
    """The sheet; the fleet keeps its state beside the pack, so that a rollout that was interrupted goes on."""

    def __init__(self, bench: Workbench, pack: Pack, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench, self.pack = bench, pack
        self.folder = pack.folder.parent / "fleet"
        self.setWindowTitle(f"Fleet: {pack.facts['task']}, run {pack.facts['run']['number']}")
        self.resize(760, 560)
        body = QVBoxLayout(self)
        body.setContentsMargins(16, 14, 16, 14)
        body.setSpacing(8)
        head = QHBoxLayout()
        self.count, self.trials = Choice("devices"), Choice("trials a device")
        for count in COUNTS:
            self.count.addItem(f"{count} devices", count)
        self.count.setCurrentIndex(1)
        for count in TRIALS:
            self.trials.addItem(f"{count} trial{'s' if count > 1 else ''} a device", count)
        self.trials.setCurrentIndex(1)
        self.count.currentIndexChanged.connect(lambda _: self._begin())
        self.told = ElidedLabel("", "soft")
        head.addWidget(self.count)
        head.addWidget(self.trials)
        head.addWidget(self.told, 1)
        body.addLayout(head)
        self.rows = Rows((0, 2, 2, 3, 2, 6), spacing=4)
        body.addWidget(scrolled(self.rows), 3)
        body.addWidget(rule())
        body.addWidget(label("LOG", "caption"))
        self.log = QPlainTextEdit()
        self.log.setReadOnly(True)
        self.log.setAccessibleName("log of the fleet")
        body.addWidget(self.log, 2)
        foot = QHBoxLayout()
        foot.addWidget(label(f"state and log in {self.folder}", "soft"))
        foot.addStretch(1)
        self.stop = button("Stop after this wave", self._stop)
        self.start = button("Roll out", self.roll_out, "primary")
        foot.addWidget(self.stop)
        foot.addWidget(button("Close", self.reject))
        foot.addWidget(self.start)
        body.addLayout(foot)
        self.devices: list[DeviceState] = []
        self.fields: dict[str, tuple[Choice, QLineEdit]] = {}
        self.job: Job | None = None
        self._begin()

    def _begin(self) -> None:
        """So many devices of mixed kinds, none of them asked for anything yet."""
        self.devices = mixed(int(self.count.currentData()), self.pack)
        self.rows.clear()
        self.fields = {}
        self.states: dict[str, tuple[Mark, ElidedLabel, ElidedLabel]] = {}
        kinds = [name for name in RIGS if name != "fleet"]
        self.rows.add(
            None, *(label(words, "caption") for words in ("DEVICE", "RIG", "FAULTS", "STATE", "SUCCESS, REASON"))
        )
        for device in self.devices:
            which, faults = Choice(f"rig of {device.name}"), QLineEdit()
            for name in kinds:
                which.addItem(name, name)
            which.setCurrentIndex(which.findData(device.kind))
            faults.setAccessibleName(f"faults of {device.name}")
            faults.setPlaceholderText("none")
            mark, state, reason = Mark("look"), ElidedLabel(device.state, ""), ElidedLabel("", "soft")
            mark.setVisible(False)
            self.rows.add(mark, label(device.name, "strong"), which, faults, state, reason)
            self.fields[device.name], self.states[device.name] = (which, faults), (mark, state, reason)
        self.rows.finish()
        self._show(self.devices, "")
        path = self.folder / "fleet.log"
        self.log.setPlainText(path.read_text() if path.is_file() else "")

    def _show(self, devices: list[DeviceState], told: str) -> None:
        for device in devices:
            mark, state, reason = self.states[device.name]
            mark.setVisible(device.state in MARKS)
            mark.state = MARKS.get(device.state, "look")
            mark.setAccessibleName(mark.state)
            mark.update()
            state.setText(device.state)
            reached = "" if device.success is None else f"{100 * device.success:.0f} %"
            reason.setText(device.reason or reached)
        waves = waves_of([d.name for d in devices])
        self.told.setText(told or f"{len(waves)} waves: {', then '.join(str(len(w)) for w in waves)}")
        at_work = self.job is not None and self.job.busy
        self.start.setEnabled(not at_work)
        self.stop.setEnabled(at_work)
        for widget in (self.count, self.trials, *(w for pair in self.fields.values() for w in pair)):
            widget.setEnabled(not at_work)

    def roll_out(self) -> None:
        """Roll the pack out over the devices as the rows have them."""
        episodes, folder, pack = int(self.trials.currentData()), self.folder, self.pack.folder
        for device in self.devices:
            which, faults = self.fields[device.name]
            device.kind, device.faults = str(which.currentData()), faults.text().strip()
            device.state, device.success, device.score, device.reason = "waiting", None, None, ""
            try:
                read_faults(device.faults)
            except HeronError as error:
                self.told.setText(f"{device.name}: {error}")
                return
        devices = self.devices

        def work(job: Job) -> FleetResult:
            with Fleet(folder, devices) as fleet:
                fleet.changed = lambda: job.show([dataclasses.replace(d) for d in devices])
                waves = len(waves_of([d.name for d in devices]))

                def progress(text: str) -> bool:
                    job.show(text)
                    return job.tell(fleet.rollout["wave"] / waves)

                return fleet.roll_out(pack, episodes, progress)

        self.job = self.bench.start_job(f"rolling out over {len(devices)} devices", work, self._ended)
        if self.job is None:
            return
        self.job.shown.connect(self._heard)
        self.job.failed.connect(self._failed)
        self._show(devices, "starting broker and devices")

    def _heard(self, told: object) -> None:
        if isinstance(told, str):
            self._show(self.devices, told)
        elif isinstance(told, list):
            self._show(told, self.told.text())

    def _failed(self, text: str) -> None:
        self.job = None
        self._show(self.devices, text)

    def _ended(self, result: FleetResult) -> None:
        self.job = None
        interrupted = any(d.state == "waiting" for d in result.devices) and not result.rolled_back
        words = f"taken back: {result.reason}" if result.rolled_back else "stopped; Roll out goes on at its wave" if interrupted else "complete"  # fmt: skip
        self._show(result.devices, words)
        self.log.setPlainText("\n".join(result.log))
        self.log.verticalScrollBar().setValue(self.log.verticalScrollBar().maximum())

    def _stop(self) -> None:
        if self.job is not None:
            self.job.stop()
            self.told.setText("stops after this wave")
