"""The sheet that finds parameters of the machine from a log of it, and takes them into machine and task."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtWidgets import QCheckBox, QDialog, QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.analysis.identification import taking
from plucky_heron.analysis.identification.fitting import Fit, identify
from plucky_heron.analysis.identification.log import read_log
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Rows, button, label, scrolled
from plucky_heron.errors import HeronError


class IdentifySheet(QDialog):
    """Parameters to find on the left, what was found on the right."""

    def __init__(self, bench: Workbench, log: Path, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench, self.log = bench, log
        self.fit: Fit | None = None
        self.setWindowTitle("Identify from a log")
        self.resize(860, 520)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.setSpacing(8)
        layout.addWidget(label(f"{log.name}: which parameters of the machine explain it best", "soft"))
        row = QHBoxLayout()
        listed = Rows((1,), spacing=2)
        problem = bench.problem
        self.boxes = {name: QCheckBox(name) for name in (problem.model.parameters if problem is not None else [])}
        for box in self.boxes.values():
            listed.add(box)
        listed.finish()
        self.rows = Rows((4, 2, 2, 4, 5), spacing=3)
        row.addWidget(scrolled(listed), 2)
        row.addWidget(scrolled(self.rows), 5)
        layout.addLayout(row, 1)
        self.said = label("", "soft", wrap=True)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        layout.addWidget(self.said)
        layout.addWidget(self.wrong)
        line = QHBoxLayout()
        self.start = button("Find them", self.run, "primary")
        self.to_machine = button("Values into the machine", lambda: self.take("machine"))
        self.to_task = button("Intervals into the task", lambda: self.take("task"))
        for widget in (self.start, self.to_machine, self.to_task):
            line.addWidget(widget)
        line.addStretch(1)
        line.addWidget(button("Close", self.reject))
        layout.addLayout(line)
        self._allow(False)

    def _allow(self, found: bool) -> None:
        self.to_machine.setEnabled(found)
        self.to_task.setEnabled(found)

    def _complain(self, text: str) -> None:
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))

    def chosen(self) -> list[str]:
        """Names that are ticked."""
        return [name for name, box in self.boxes.items() if box.isChecked()]

    def run(self) -> None:
        """Fit in a job."""
        bench, names, log = self.bench, self.chosen(), self.log
        problem = bench.problem
        if problem is None or not names:
            self._complain("tick at least one parameter")
            return
        self._complain("")
        try:
            taken = read_log(log, problem.model, problem)
        except HeronError as error:
            self._complain(str(error))
            return
        self.start.setEnabled(False)

        def then(fit: Fit) -> None:
            self.start.setEnabled(True)
            self.show_fit(fit)

        job = bench.start_job(
            "identifying", lambda job: identify(problem.model, taken, names, problem.surroundings, physics_step=problem.task.timing.physics_step, progress=job.tell), then
        )  # fmt: skip
        if job is None:
            self.start.setEnabled(True)
            self._complain("something else is at work; try again when it has ended")
        else:
            job.failed.connect(lambda *_: self.start.setEnabled(True))

    def show_fit(self, fit: Fit) -> None:
        """What was found."""
        self.fit = fit
        self.rows.clear()
        self.rows.add(*(label(text, "soft") for text in ("parameter", "was", "found", "95 % interval", "")))
        for p in fit.parameters:
            low, high = p.interval
            said = "" if p.told else "the log does not tell it"
            said = f"told only together with {p.with_}" if p.with_ else said
            cells = (
                p.name,
                f"{p.nominal:.5g}",
                f"{p.value:.5g}",
                f"{low:.4g} … {high:.4g}".replace("-", "−") if np.isfinite(high) else "–",
                said,
            )
            self.rows.add(
                *(label(text, "strong" if k == 0 else "soft" if k == 4 else "") for k, text in enumerate(cells))
            )
        self.rows.finish()
        better = ", ".join(
            f"{name} {b:.3g} → {a:.3g}" for name, b, a in zip(fit.channels, fit.before, fit.after, strict=True)
        )
        self.said.setText(
            f"{fit.windows} windows of {fit.window:.3g} s; measured less simulated in {fit.held_out} others: {better}"
        )
        self._allow(bool(taking.told(fit)))

    def take(self, where: str) -> None:
        """Write what the log tells; one change that can be undone."""
        bench, fit = self.bench, self.fit
        if fit is None or bench.problem is None:
            return
        written: list[str] = []
        put = taking.values_into if where == "machine" else taking.intervals_into
        kind = "machines" if where == "machine" else "tasks"

        def change(document: Any) -> None:
            written[:] = put(document, fit)

        wrong = bench.rewrite(kind, change, "what a log tells")
        if wrong:
            self._complain(wrong)
            return
        bench.noted.emit("; ".join(written))
        self.said.setText(f"written: {'; '.join(written)}")
