"""The causeway: project and choices at the left, a stake a station in the tide at the right, the job line below."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Choice, ElidedLabel, button, label
from plucky_heron.desktop.shell.project_menu import ProjectMenu
from plucky_heron.desktop.stations.catalogue import STATIONS
from plucky_heron.desktop.theme import font, theme
from plucky_heron.runs.executors import at_once
from plucky_heron.runs.store import DEAD

COUNT = len(STATIONS)


class Stakes(QWidget):
    """A stake a station; the water on a stake is its state."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.current = 0
        self.ring = False
        self.facts = [""] * COUNT
        self.levels = [0.0] * COUNT
        self.trouble = [False] * COUNT
        self.older = [False] * COUNT
        self.setMinimumSize(600, 78)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("stations")
        self.setToolTip(f"Ctrl+1 to Ctrl+{COUNT}")

    def show_state(self, number: int, level: float, fact: str, trouble: bool = False, older: bool = False) -> None:
        """Set what one stake shows."""
        self.levels[number], self.facts[number] = level, fact
        self.trouble[number], self.older[number] = trouble, older
        self.setAccessibleDescription("; ".join(f"{s.name}: {f}" for s, f in zip(STATIONS, self.facts, strict=True)))
        self.update()

    def centre(self, number: int) -> float:
        """Middle of a stake, in pixels."""
        return self.width() * (number + 0.5) / COUNT

    def paintEvent(self, event: QPaintEvent) -> None:
        """Water line, stakes, names, facts."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        xs = np.linspace(0, self.width(), 120)
        painter.setPen(QPen(t.color("water"), 1.4))
        painter.drawPolyline(QPolygonF([QPointF(x, 31 + 1.6 * np.sin(x / 21)) for x in xs]))
        for k, name in enumerate(s.name for s in STATIONS):
            x = self.centre(k)
            stake = QRectF(x - 4.5, 8, 9, 27)
            painter.setPen(QPen(t.color("ink" if k == self.current else "heron"), 1.4))
            painter.setBrush(t.color("card"))
            painter.drawRoundedRect(stake, 2, 2)
            level = self.levels[k]
            if level > 0:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(t.color("heron" if self.older[k] else "tide", 0.55 if self.older[k] else 1.0))
                painter.drawRect(QRectF(stake.left() + 1.5, stake.bottom() - 1.5 - 24 * level, 6, 24 * level))
            if self.trouble[k]:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(t.color("rust"))
                painter.drawPolygon(QPolygonF([QPointF(x + 5, 8), QPointF(x + 17, 12), QPointF(x + 5, 16)]))
            if self.older[k]:
                painter.setPen(t.color("soft"))
                painter.setFont(font(11))
                painter.drawText(QPointF(x + 9, 18), "older")
            painter.setFont(font(13, bold=k == self.current))
            painter.setPen(t.color("ink" if k == self.current else "soft"))
            width = self.width() / COUNT
            painter.drawText(QRectF(x - width / 2, 38, width, 18), Qt.AlignmentFlag.AlignCenter, name)
            painter.setFont(font(11))
            painter.setPen(t.color("ink" if self.trouble[k] else "soft"))
            fact = painter.fontMetrics().elidedText(self.facts[k], Qt.TextElideMode.ElideRight, int(width - 6))
            painter.drawText(QRectF(x - width / 2, 55, width, 15), Qt.AlignmentFlag.AlignCenter, fact)
            if k == self.current:
                painter.setPen(QPen(t.color("tide"), 2))
                painter.drawLine(QPointF(x - 36, 72), QPointF(x + 36, 72))
            if k == self.current and self.hasFocus() and self.ring:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(QRectF(x - width / 2 + 2, 3, width - 4, 72), 4, 4)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose."""
        self.chosen.emit(max(0, min(COUNT - 1, int(event.position().x() / self.width() * COUNT))))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Left and right choose the neighbour."""
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.chosen.emit(max(0, min(COUNT - 1, self.current + (1 if event.key() == Qt.Key.Key_Right else -1))))
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Show the ring, but only to those who came by keyboard."""
        self.ring = event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Hide the ring."""
        self.update()


class Causeway(QWidget):
    """The strip along the top."""

    def __init__(self, bench: Workbench, menu: ProjectMenu | None = None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench = bench
        outer = QVBoxLayout(self)
        outer.setContentsMargins(16, 6, 12, 2)
        outer.setSpacing(0)
        top = QHBoxLayout()
        left = QVBoxLayout()
        left.setSpacing(3)
        head = QHBoxLayout()
        head.setSpacing(8)
        head.addWidget(label(bench.project.name, "title"))
        if menu is not None:
            self.project = button("Project", lambda: None, "", "project")
            self.project.setToolTip("new, open, copies; machines, sites, tasks and recipes")
            self.project.setMenu(menu.menu)
            head.addWidget(self.project)
        head.addStretch(1)
        left.addLayout(head)
        fields = QHBoxLayout()
        fields.setSpacing(6)
        self.machine, self.task, self.run = Choice("machine"), Choice("task"), Choice("run")
        self.run.setMinimumWidth(150)
        self.machine.activated.connect(lambda k: bench.choose_machine(self.machine.itemText(k)))
        self.task.activated.connect(self._task_chosen)
        self.run.activated.connect(self._run_chosen)
        for widget in (self.machine, self.task, self.run):
            fields.addWidget(widget)
        fields.addStretch(1)
        left.addLayout(fields)
        self.line = JobLine(bench)
        left.addWidget(self.line)
        left.addStretch(1)
        top.addLayout(left, 36)
        self.stakes = Stakes()
        top.addWidget(self.stakes, 64)
        outer.addLayout(top)
        bench.problem_changed.connect(self.refresh)
        bench.runs_changed.connect(self.refresh)
        for signal in (bench.job_changed, bench.runs_changed, bench.troubled):
            signal.connect(self.update)
        self.refresh()

    def paintEvent(self, event: QPaintEvent) -> None:
        """The line under the causeway, filled as far as the job is; rust when something is wrong."""
        painter = QPainter(self)
        t = theme()
        y = self.height() - 1.5
        painter.setPen(QPen(t.color("rule"), 1))
        painter.drawLine(QPointF(0, y), QPointF(self.width(), y))
        if self.line.share is not None:
            painter.setPen(QPen(t.color("tide"), 3))
            painter.drawLine(QPointF(0, y), QPointF(self.width() * self.line.share, y))
        if self.bench.trouble:
            painter.setPen(QPen(t.color("rust"), 3))
            painter.drawLine(QPointF(0, y), QPointF(self.width(), y))

    def refresh(self) -> None:
        """Fill the fields."""
        bench = self.bench
        machine, _ = bench.chosen()
        self.machine.clear()
        self.machine.addItems(bench.project.machines())
        self.machine.setCurrentIndex(self.machine.findText(machine))
        self.machine.setEnabled(self.machine.count() > 0)
        if not self.machine.count():
            self.machine.addItem("no machine")
        self.task.clear()
        for name in bench.project.tasks():
            text = bench.problem.task.name if name == bench.task and bench.problem is not None else name
            self.task.addItem(text, name)
        if not bench.has_task:
            self.task.addItem("no task", "")
        self.task.setCurrentIndex(self.task.findData(bench.task))
        self.run.clear()
        for row in reversed(bench.rows):
            kept = f" · {100 * row.best_success:.0f} %" if row.best_success is not None else ""
            self.run.addItem(f"run {row.id} · seed {row.seed}{kept}", row.id)
        if not bench.rows:
            self.run.addItem("no run", None)
        self.run.setCurrentIndex(max(0, self.run.findData(bench.run)))
        for box in (self.machine, self.task, self.run):
            box.view().setMinimumWidth(box.sizeHint().width() + 40)

    def _task_chosen(self, index: int) -> None:
        if self.task.itemData(index):
            self.bench.choose_task(self.task.itemData(index))

    def _run_chosen(self, index: int) -> None:
        number = self.run.itemData(index)
        if number is not None:
            self.bench.choose_run(number)


class JobLine(QWidget):
    """What is running, how far, time left, Stop; trouble in words; a dead worker offers Resume."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.setFixedHeight(20)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        self.text = ElidedLabel("", "soft")
        self.stop = button("Stop", self._stop, "link")
        self.resume = button("Resume", self._resume, "link")
        layout.addWidget(self.text, 1)
        layout.addWidget(self.stop)
        layout.addWidget(self.resume)
        self.share: float | None = None
        self.note = ""
        for signal in (bench.job_changed, bench.runs_changed, bench.troubled):
            signal.connect(self.refresh)
        bench.noted.connect(self._noted)
        self._noted(bench.project.upgraded_text())

    def _noted(self, text: str) -> None:
        """Show what happened for a while, where nothing is more pressing."""
        self.note = text
        self.refresh()
        QTimer.singleShot(8000, self, lambda: self._forget(text))

    def _forget(self, text: str) -> None:
        if self.note == text:
            self.note = ""
            self.refresh()

    def refresh(self, *_: object) -> None:
        """Show the most pressing thing."""
        bench = self.bench
        dead = [row for row in bench.rows if row.state == DEAD]
        at_work = bench.training()
        self.share = None
        self.resume.setVisible(bool(dead))
        self.stop.setVisible(bench.job is not None or bool(at_work))
        if bench.trouble:
            self.text.setText(bench.trouble)
        elif bench.job is not None:
            self.share = bench.share
            self.text.setText(f"{bench.job.name} · {100 * bench.share:.0f} %")
        elif dead:
            self.text.setText(f"the worker of run {dead[0].id} is gone; nothing that it had reported is lost")
        elif at_work:
            rows = bench.batch_rows(at_work[0].batch)
            done = sum(row.steps if row.alive else row.budget for row in rows)
            self.share = done / max(1, sum(row.budget for row in rows))
            speed = sum(row.steps for row in at_work) / max(1e-9, sum(row.seconds for row in at_work))
            left = (
                sum(row.budget - row.steps for row in at_work)
                / speed
                / min(at_once(bench.project.folder), len(at_work))
                if speed > 0
                else None
            )
            tail = f" · at most {left:.0f} s left" if left is not None else ""
            self.text.setText(
                f"training {len(rows)} seed{'s' if len(rows) > 1 else ''} · {100 * self.share:.0f} %{tail}"
            )
        else:
            self.text.setText(self.note)

    def _stop(self) -> None:
        if self.bench.job is not None:
            self.bench.job.stop()
        else:
            self.bench.stop_training()

    def _resume(self) -> None:
        for row in self.bench.rows:
            if row.state == DEAD:
                self.bench.resume(row.id)
