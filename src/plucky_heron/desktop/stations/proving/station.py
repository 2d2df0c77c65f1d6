"""Proving: the same fresh trials for everyone, with intervals; the worst trials replayed."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.analysis.proving.proof import Proof, prove, prove_run
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.charts.strip_recorder import Ledger, StripRecorder
from plucky_heron.desktop.forms.widgets import Card, Choice, Rows, bare_card, button, label, scrolled
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.stations.proving.model import outcome, verdict, what_is_proved
from plucky_heron.desktop.theme import font, theme
from plucky_heron.runs.freeze import frozen_problem, kept_policy
from plucky_heron.runs.looking import Looked, worth_along
from plucky_heron.runs.results import PROOF
from plucky_heron.simulation.trials import Recording


class IntervalBars(QWidget):
    """Success share of every driver with its Wilson interval; click a row to list its worst trials."""

    picked = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.summary: dict[str, dict[str, Any]] = {}
        self.selected = "policy"
        self.setMinimumHeight(120)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("drivers")

    def paintEvent(self, event: QPaintEvent) -> None:
        """One bar a driver."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        if not self.summary:
            painter.setPen(t.color("soft"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Not proved yet: choose a run, then Prove")
            return
        columns = [self.width() - x for x in (340, 268, 138, 60)]
        left, right = 130.0, columns[0] - 12.0
        painter.setFont(font(11))
        painter.setPen(t.color("soft"))
        for x, text, width in (
            (columns[0], "success", 60),
            (columns[1], "against the policy", 116),
            (columns[2], "score", 62),
            (columns[3], "effort", 56),
        ):
            painter.drawText(QRectF(x, 0, width, 14), Qt.AlignmentFlag.AlignRight, text)
        height = min(34.0, (self.height() - 18) / len(self.summary))
        for k, (name, d) in enumerate(self.summary.items()):
            y = 18 + (k + 0.5) * height
            bold = name == self.selected
            painter.setFont(font(13, bold=bold))
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(0, y - 10, left - 6, 20), Qt.AlignmentFlag.AlignVCenter, name)
            painter.setPen(QPen(t.color("rule"), 1))
            painter.drawLine(QPointF(left, y), QPointF(right, y))
            painter.setPen(Qt.PenStyle.NoPen)
            role = "tide" if name == "policy" else "reed" if name.startswith("rule") else "heron"
            painter.setBrush(t.color(role, 0.45))
            painter.drawRoundedRect(QRectF(left, y - 5, (right - left) * d["success"], 10), 2, 2)
            low, high = d["success_interval"]
            painter.setPen(QPen(t.color("ink"), 3))
            painter.drawLine(QPointF(left + (right - left) * low, y), QPointF(left + (right - left) * high, y))
            painter.setPen(t.color("ink"))
            painter.setFont(font(13, bold=True))
            align = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
            painter.drawText(QRectF(columns[0], y - 10, 60, 20), align, f"{100 * d['success']:.1f} %")
            painter.setFont(font(13))
            painter.setPen(t.color("soft"))
            if name != "policy":
                difference, half = d["against_policy"]
                painter.drawText(
                    QRectF(columns[1], y - 10, 116, 20),
                    align,
                    f"{100 * difference:+.1f} ± {100 * half:.1f}".replace("-", "−"),
                )
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(columns[2], y - 10, 62, 20), align, f"{d['score']['mean']:.1f}".replace("-", "−"))
            painter.drawText(QRectF(columns[3], y - 10, 56, 20), align, f"{100 * d['effort']:.0f} %")
            if bold and self.hasFocus():
                painter.setPen(QPen(t.color("tide"), 2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(QRectF(-1, y - height / 2 + 1, self.width(), height - 2), 4, 4)

    def _row_height(self) -> float:
        return min(34.0, (self.height() - 18) / max(1, len(self.summary)))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose a driver."""
        row = int((event.position().y() - 18) // self._row_height())
        if 0 <= row < len(self.summary):
            self.picked.emit(list(self.summary)[row])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down."""
        names = list(self.summary)
        if names and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.picked.emit(
                names[(names.index(self.selected) + (1 if event.key() == Qt.Key.Key_Down else -1)) % len(names)]
            )
        else:
            super().keyPressEvent(event)


class ProvingStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.driver = "policy"
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 14)
        layout.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(10)
        self.table = Card("Trials, the same for all", "success with 95 % interval · effort as share of the limits")
        self.bars = IntervalBars()
        self.bars.picked.connect(self.choose)
        self.table.body.addWidget(self.bars, 1)
        self.words = label("", "soft", wrap=True)
        self.table.body.addWidget(self.words)
        left.addWidget(self.table, 40)
        strip = bare_card(StripRecorder(bench.playback), "strip recorder")
        left.addWidget(strip, 52)
        row = QHBoxLayout()
        self.start = button("Prove", self.prove, "primary")
        self.trials = Choice("number of trials")
        for count in (200, 500, 2000):
            self.trials.addItem(f"{count} trials", count)
        self.note = label("", "soft")
        for widget in (self.start, self.trials):
            row.addWidget(widget)
        row.addWidget(self.note)
        row.addStretch(1)
        left.addLayout(row)
        layout.addLayout(left, 58)
        right = QVBoxLayout()
        right.setSpacing(10)
        self.drawing = Drawing(bench.playback)
        picture = bare_card(self.drawing, "drawing")
        right.addWidget(picture, 46)
        self.worst = Card("Worst trials", "")
        self.worst_rows = Rows((2, 3, 3, 4, 2), spacing=3)
        self.worst.body.addWidget(scrolled(self.worst_rows))
        right.addWidget(self.worst, 26)
        ledger = Card("Score ledger", "of the trial shown")
        ledger.body.addWidget(Ledger(bench.playback))
        right.addWidget(ledger, 34)
        layout.addLayout(right, 42)
        bench.runs_changed.connect(self.later)
        bench.results_changed.connect(self.later)
        self.refresh()

    def _summary(self) -> dict[str, Any] | None:
        bench = self.bench
        if bench.run is None:
            return None
        if bench.proof is not None and bench.proof_run == bench.run:
            return {
                "trials": len(bench.proof.trials["policy"].score),
                "drivers": bench.proof.summary(),
                "run": bench.run,
            }
        return bench.store.last_result(bench.run, PROOF)

    def refresh(self) -> None:
        """Show the proof of the chosen run."""
        row, found = self.bench.row(), self._summary()
        self.start.setEnabled(row is not None and row.best_step is not None)
        self.note.setText(what_is_proved(row))
        self.bars.summary = found["drivers"] if found else {}
        if self.driver not in self.bars.summary:
            self.driver = "policy"
        self.bars.selected = self.driver
        self.bars.update()
        self.worst_rows.clear()
        if not found:
            self.table.caption.setText("TRIALS, THE SAME FOR ALL")
            self.words.setText("")
            self.worst.note.setText("")
            self.worst_rows.add(label("listed after the proof, to be replayed", "soft"))
            self.worst_rows.finish()
            return
        self.table.caption.setText(f"{found['trials']} fresh trials, the same for all".upper())
        self.words.setText(verdict(found["drivers"], found["trials"]))
        self._show_worst(found)

    def _show_worst(self, found: dict[str, Any]) -> None:
        self.worst.note.setText(f"of the {self.driver}")
        proof = self.bench.proof if self.bench.proof_run == self.bench.run else None
        for number in found["drivers"][self.driver]["worst"]:
            score = success = ending = ""
            if proof is not None:
                trials = proof.trials[self.driver]
                score = f"score {trials.score[number]:.1f}".replace("-", "−")
                success, ending = outcome(trials, number)
            replay = button("replay", partial(self.replay, number), "link", f"replay trial {number}")
            self.worst_rows.add(
                label(f"trial {number}", "strong"), label(score), label(success), label(ending, "soft"), replay
            )
        self.worst_rows.finish()

    def choose(self, driver: str) -> None:
        """Look at another driver's worst trials."""
        self.driver = driver
        self.refresh()

    def prove(self) -> None:
        """Run the trials."""
        bench, row = self.bench, self.bench.row()
        if row is None:
            return
        folder, count = bench.project.folder, self.trials.currentData()

        def work(job: Job) -> Proof:
            return prove_run(folder, row, trials=count, progress=lambda _, share: job.tell(share))[0]

        def then(proof: Proof) -> None:
            bench.proof, bench.proof_run = proof, row.id
            self.driver = "policy"
            self.refresh()
            self.replay(proof.trials["policy"].worst(1)[0])

        bench.start_job(f"proving run {row.id}", work, then)

    def replay(self, number: int) -> None:
        """Play one trial, with the regulator as ghost."""
        bench, row, name = self.bench, self.bench.row(), self.driver
        if row is None:
            return
        proof = bench.proof if bench.proof_run == row.id else None
        folder = bench.project.folder
        found = self._summary()
        count = int(found["trials"]) if found else 200

        def work(_: Job) -> tuple[Proof, Recording, Recording | None, Looked | None]:
            known = proof or prove(frozen_problem(folder, row), kept_policy(folder, row), trials=count, project=folder)
            ghost = "regulator" if name == "policy" else "policy"
            shown = known.replay(name, number)
            looked = worth_along(folder, row, shown) if name == "policy" else None
            return (known, shown, known.replay(ghost, number) if ghost in known.trials else None, looked)

        def then(result: tuple[Proof, Recording, Recording | None, Looked | None]) -> None:
            known, recording, ghost, looked = result
            bench.proof, bench.proof_run = known, row.id
            bench.playback.load(
                known.problem,
                recording,
                f"{name} · trial {number} of {count}",
                (ghost,) if ghost is not None else (),
                play=True,
                looked=looked,
            )

        bench.start_job(f"replaying trial {number}", work, then)
