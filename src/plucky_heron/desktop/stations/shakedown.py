"""Shakedown: rehearsals on the same starts, checks with evidence, driving by hand."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.analysis.proving import record_trial
from plucky_heron.analysis.shakedown import REHEARSAL_STREAM, REHEARSALS, Shakedown, shake_down
from plucky_heron.desktop.drawing import Drawing
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.live import Person
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.strip import Ledger, StripRecorder
from plucky_heron.desktop.theme import font, theme
from plucky_heron.desktop.widgets import Card, ElidedLabel, Mark, Rows, bare_card, button, label, scrolled
from plucky_heron.desktop.workbench import Workbench
from plucky_heron.simulation.trials import Recording


class Dots(QWidget):
    """Scores of every rehearsal, a dot an episode, one row a driver; click a dot to see that episode."""

    picked = Signal(str, int)

    def __init__(self) -> None:
        super().__init__()
        self.shaken: Shakedown | None = None
        self.person: list[Recording] = []
        self.setMinimumHeight(110)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("rehearsals")
        self.cursor = (0, 0)
        self._points: list[tuple[QPointF, str, int]] = []

    def rows(self) -> list[tuple[str, np.ndarray, float]]:
        """Name, scores, success share."""
        if self.shaken is None:
            return []
        found = [(n, t.score, float(t.success.mean())) for n, t in self.shaken.rehearsals.items()]
        if self.person:
            scores = np.array([r.score for r in self.person])
            found.append(("you, by keyboard", scores, float(np.mean([r.success for r in self.person]))))
        return found

    def paintEvent(self, event: QPaintEvent) -> None:
        """Rows of dots on one axis."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        rows = self.rows()
        self._points = []
        if not rows:
            painter.setPen(t.color("soft"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Not rehearsed yet")
            return
        every = np.concatenate([scores for _, scores, _ in rows])
        low, high = float(every.min()), float(every.max())
        left, right = 122.0, self.width() - 62.0
        height = (self.height() - 34) / len(rows)
        painter.setFont(font(11))
        painter.setPen(t.color("soft"))
        painter.drawText(QRectF(0, 0, 120, 14), Qt.AlignmentFlag.AlignLeft, "who drives")
        painter.drawText(QRectF(self.width() - 60, 0, 60, 14), Qt.AlignmentFlag.AlignRight, "success")

        def x(score: float) -> float:
            return left + (score - low) / max(high - low, 1e-9) * (right - left)

        for k, (name, scores, share) in enumerate(rows):
            y = 16 + (k + 0.5) * height
            best = k == int(np.argmax([s.mean() for _, s, _ in rows]))
            painter.setFont(font(13, bold=best))
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(0, y - 10, 120, 20), Qt.AlignmentFlag.AlignVCenter, name)
            painter.drawText(
                QRectF(self.width() - 60, y - 10, 60, 20),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                f"{100 * share:.0f} %",
            )
            painter.setPen(QPen(t.color("rule"), 1))
            painter.drawLine(QPointF(left, y), QPointF(right, y))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("reed" if name.startswith(("you", "rule")) else "tide" if best else "heron", 0.5))
            for number, score in enumerate(scores):
                point = QPointF(x(float(score)), y + (number % 5 - 2) * 1.6)
                painter.drawEllipse(point, 3, 3)
                self._points.append((point, name, number))
            painter.setPen(QPen(t.color("ink"), 2))
            painter.drawLine(QPointF(x(float(np.median(scores))), y - 7), QPointF(x(float(np.median(scores))), y + 7))
        painter.setFont(font(11))
        painter.setPen(t.color("soft"))
        base = self.height() - 14
        painter.drawText(QRectF(0, base, 120, 14), Qt.AlignmentFlag.AlignLeft, "score")
        for value in np.linspace(low, high, 5):
            painter.drawText(
                QRectF(x(value) - 30, base, 60, 14), Qt.AlignmentFlag.AlignCenter, f"{value:.0f}".replace("-", "−")
            )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Pick the nearest dot."""
        here = event.position()
        near = min(self._points, key=lambda p: (p[0] - here).manhattanLength(), default=None)
        if near is not None and (near[0] - here).manhattanLength() < 14:
            self.picked.emit(near[1], near[2])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down choose a driver, Enter plays its first episode."""
        rows = self.rows()
        if rows and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            row = (self.cursor[0] + (1 if event.key() == Qt.Key.Key_Down else -1)) % len(rows)
            self.cursor = (row, 0)
            self.picked.emit(rows[row][0], 0)
        else:
            super().keyPressEvent(event)


class ShakedownStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.person: Person | None = None
        self.driven: list[Recording] = []
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 14)
        layout.setSpacing(12)
        left = QVBoxLayout()
        left.setSpacing(10)
        self.drawing = Drawing(bench.playback)
        picture = bare_card(self.drawing, "drawing")
        left.addWidget(picture, 55)
        strip = bare_card(StripRecorder(bench.playback), "strip recorder")
        left.addWidget(strip, 45)
        layout.addLayout(left, 60)
        right = QVBoxLayout()
        right.setSpacing(10)
        card = Card("Rehearsals", f"the same {REHEARSALS} starts for all")
        self.dots = Dots()
        self.dots.picked.connect(self.replay)
        card.body.addWidget(self.dots)
        right.addWidget(card, 30)
        self.ledger_card = Card("Score ledger", "")
        self.ledger = Ledger(bench.playback)
        self.ledger_card.body.addWidget(self.ledger)
        right.addWidget(self.ledger_card, 36)
        self.checks = Card("Checks", "")
        self.check_rows = Rows((0, 3, 7), spacing=2)
        self.checks.body.addWidget(scrolled(self.check_rows))
        right.addWidget(self.checks, 34)
        row = QHBoxLayout()
        self.drive = button("Drive it yourself", self.toggle_driving, "primary")
        self.again = button("Rehearse", self.rehearse)
        row.addWidget(self.drive)
        row.addWidget(self.again)
        row.addStretch(1)
        self.hint = label("", "soft")
        row.addWidget(self.hint)
        right.addLayout(row)
        layout.addLayout(right, 40)
        bench.problem_changed.connect(self.later)
        bench.results_changed.connect(self.later)
        bench.playback.loaded.connect(self._name_ledger)
        self.refresh()

    def takes_keys(self) -> bool:
        """While driving, all keys are the driver's."""
        return self.person is not None and self.person.running

    def refresh(self) -> None:
        """Show rehearsals and checks."""
        bench = self.bench
        self.dots.shaken, self.dots.person = bench.shakedown, self.driven
        self.dots.update()
        problem = bench.problem
        if problem is not None:
            names = [c.name for c in problem.commands]
            keys = ["← →", "↑ ↓", "A D", "S W"]
            self.hint.setText("keys: " + ", ".join(f"{k} {n}" for k, n in zip(keys, names, strict=False)))
        self.check_rows.clear()
        shaken = bench.shakedown
        if shaken is None:
            self.checks.note.setText("run with the rehearsals")
            self.check_rows.add(None, label("Rehearse to check the task before training", "soft"))
        else:
            passed = sum(c.passed for c in shaken.checks)
            old = " · older than the task" if bench.shakedown_older() else ""
            self.checks.note.setText(f"{passed} of {len(shaken.checks)} pass, {len(shaken.wrong)} wrong{old}")
            for check in sorted(shaken.checks, key=lambda c: (c.passed, c.severity != "wrong")):
                state = "passed" if check.passed else check.severity
                self.check_rows.add(
                    Mark(state),
                    ElidedLabel(check.name, "strong" if not check.passed else ""),
                    ElidedLabel(check.evidence, "soft"),
                )
        self.check_rows.finish()
        self._name_ledger()

    def _name_ledger(self) -> None:
        self.ledger_card.note.setText(self.bench.playback.title)

    def rehearse(self) -> None:
        """Run all rehearsals and checks."""
        problem, folder = self.bench.problem, self.bench.project.folder
        if problem is None:
            return

        def work(job: Job) -> Shakedown:
            return shake_down(problem, folder, lambda _, share: job.tell(share))

        def then(result: Shakedown) -> None:
            self.bench.shakedown, self.bench.shakedown_of = result, problem.fingerprint()
            best = max(result.rehearsals, key=lambda n: float(result.rehearsals[n].score.mean()))
            self._show(best, 0, result.rehearsals[best].recordings[0])

        self.bench.start_job("rehearsing", work, then)

    def _show(self, name: str, number: int, recording: Recording) -> None:
        shaken = self.bench.shakedown
        problem = shaken.problem if shaken is not None else self.bench.problem
        assert problem is not None
        other = None
        if shaken is not None:
            against = "nobody" if name != "nobody" else "random"
            other = shaken.rehearsals[against].recordings.get(number) if against in shaken.rehearsals else None
        self.bench.playback.load(
            problem, recording, f"{name} · episode {number} of {REHEARSALS} · start {number}", other
        )

    def replay(self, name: str, number: int) -> None:
        """Show one rehearsal; those not kept are run again."""
        shaken = self.bench.shakedown
        if name.startswith("you"):
            self._show("you", number, self.driven[number])
            return
        if shaken is None:
            return
        kept = shaken.rehearsals[name].recordings.get(number)
        if kept is not None:
            self._show(name, number, kept)
            return
        driver = shaken.drivers[name]
        self.bench.start_job(
            f"replaying episode {number}",
            lambda _: record_trial(shaken.problem, driver, REHEARSALS, number, REHEARSAL_STREAM),
            lambda recording: self._show(name, number, recording),
        )

    def toggle_driving(self) -> None:
        """Begin or end driving by hand."""
        problem = self.bench.problem
        if self.takes_keys() and self.person is not None:
            self.person.stop()
            self._finished(self.person.recording())
            return
        if problem is None:
            return
        self.person = Person(problem, len(self.driven), self)
        self.person.advanced.connect(
            lambda r: self.bench.playback.show(problem, r, f"you, by keyboard · start {r.episode}")
        )
        self.person.ended.connect(self._finished)
        self.bench.playback.pause()
        self.person.start()
        self.drive.setText("End driving")
        self.drawing.setFocus()

    def _finished(self, recording: Recording) -> None:
        self.drive.setText("Drive it yourself")
        if recording.steps:
            self.driven.append(recording)
            assert self.bench.problem is not None
            self.bench.playback.show(self.bench.problem, recording, f"you, by keyboard · start {recording.episode}")
        self.refresh()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Keys of the driver."""
        if self.person is not None and self.takes_keys():
            if event.key() == Qt.Key.Key_Escape:
                self.toggle_driving()
            elif event.key() == Qt.Key.Key_Space:
                self.person.paused = not self.person.paused
            elif not self.person.key(event.key(), True):
                super().keyPressEvent(event)
            return
        super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        """Keys of the driver."""
        if self.person is not None and not event.isAutoRepeat() and self.person.key(event.key(), False):
            return
        super().keyReleaseEvent(event)
