"""Task: what is sensed and commanded, what is paid for, how it starts and ends."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QGridLayout, QLineEdit, QWidget

from plucky_heron.desktop.drawing import Drawing
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.theme import SERIES, theme
from plucky_heron.desktop.widgets import Card, ElidedLabel, QuantityField, Rows, bare_card, label, rule, scrolled
from plucky_heron.desktop.workbench import Workbench
from plucky_heron.simulation.trials import Trials
from plucky_heron.task.problem import Problem
from plucky_heron.units import factor_to_si, pretty_unit, show


class Gauge(QWidget):
    """A range: what rehearsals met as a band, the playing episode's value as a hand."""

    def __init__(self, low: float, high: float) -> None:
        super().__init__()
        self.low, self.high = low, high
        self.met: tuple[float, float] | None = None
        self.now: float | None = None
        self.setFixedHeight(16)
        self.setMinimumWidth(90)

    def show_met(self, met: tuple[float, float] | None, now: float | None) -> None:
        """Set band and hand."""
        self.met, self.now = met, now
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Trough, band, hand."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        box = QRectF(1, 4, self.width() - 2, 8)
        painter.setPen(QPen(t.color("rule"), 1))
        painter.setBrush(t.color("faint"))
        painter.drawRoundedRect(box, 4, 4)

        def x(value: float) -> float:
            return box.left() + box.width() * float(np.clip((value - self.low) / (self.high - self.low), 0, 1))

        if self.met is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("heron", 0.55))
            painter.drawRoundedRect(QRectF(x(self.met[0]), 4.5, max(2.0, x(self.met[1]) - x(self.met[0])), 7), 3, 3)
        if self.now is not None:
            painter.setPen(QPen(t.color("tide"), 2.2))
            painter.drawLine(QPointF(x(self.now), 1), QPointF(x(self.now), 15))


class ShareBar(QWidget):
    """What a term paid over an episode, against the largest term."""

    def __init__(self, value: float, most: float, role: str) -> None:
        super().__init__()
        self.value, self.most, self.role = value, most, role
        self.setFixedHeight(16)
        self.setMinimumWidth(80)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The bar."""
        painter = QPainter(self)
        t = theme()
        zero = self.width() * 0.3
        length = self.value / max(self.most, 1e-9) * (self.width() * (0.68 if self.value > 0 else 0.28))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color(self.role))
        painter.drawRect(QRectF(zero, 3, length, 10).normalized())
        painter.setPen(QPen(t.color("ink"), 1))
        painter.drawLine(QPointF(zero, 0), QPointF(zero, 16))


class TaskStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        grid = QGridLayout(self)
        grid.setContentsMargins(16, 10, 16, 14)
        grid.setSpacing(10)
        self.senses = Card("What it senses")
        self.sense_rows = Rows((4, 4, 0), spacing=8)
        self.senses.body.addWidget(scrolled(self.sense_rows))
        self.commands = Card("What it commands")
        self.command_rows = Rows((3, 4), spacing=8)
        self.commands.body.addWidget(self.command_rows)
        self.commands.body.addWidget(rule())
        self.commands.body.addWidget(label("STARTS AND VARIATION", "caption"))
        self.start_rows = Rows((3, 4), spacing=6)
        self.commands.body.addWidget(self.start_rows, 1)
        self.ends = Card("How it ends")
        self.end_rows = Rows((1, 2), spacing=5)
        self.ends.body.addWidget(self.end_rows)
        self.ends.body.addWidget(rule())
        self.ends.body.addWidget(label("MEASURE, APART FROM THE PAY", "caption"))
        self.measure = QLineEdit()
        self.measure.setAccessibleName("measure")
        self.measure.editingFinished.connect(self._measure_edited)
        self.measure_text = label("", "soft", wrap=True)
        self.ends.body.addWidget(self.measure_text)
        self.ends.body.addWidget(self.measure)
        self.ends.body.addWidget(rule())
        self.ends.body.addWidget(label("CLOCK", "caption"))
        self.clock = label("", "soft", wrap=True)
        self.ends.body.addWidget(self.clock)
        self.ends.body.addStretch(1)
        self.pays = Card("What it is paid for")
        self.pay_rows = Rows((2, 14, 0, 0, 3, 0), spacing=3)
        self.pays.body.addWidget(scrolled(self.pay_rows), 1)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        self.pays.body.addWidget(self.wrong)
        self.drawing = Drawing(bench.playback)
        picture = bare_card(self.drawing, "drawing")
        grid.addWidget(self.senses, 0, 0)
        grid.addWidget(self.commands, 0, 1)
        grid.addWidget(self.ends, 0, 2)
        grid.addWidget(self.pays, 1, 0, 1, 2)
        grid.addWidget(picture, 1, 2)
        for column, stretch in enumerate((42, 30, 30)):
            grid.setColumnStretch(column, stretch)
        grid.setRowStretch(0, 52)
        grid.setRowStretch(1, 48)
        self.gauges: list[Gauge] = []
        bench.problem_changed.connect(self.later)
        bench.results_changed.connect(self.later)
        bench.playback.moved.connect(self._hands)
        self.refresh()

    def _rehearsed(self) -> Trials | None:
        shaken = self.bench.shakedown
        if shaken is None or not shaken.rehearsals:
            return None
        return max(shaken.rehearsals.values(), key=lambda t: float(t.score.mean()))

    def refresh(self) -> None:
        """Show the task as it is now."""
        problem = self.bench.problem
        if problem is None:
            return
        task = problem.task
        self.senses.note.setText(f"{len(problem.entries)} numbers, {task.timing.control_rate:g} times a second")
        self._show_senses(problem)
        self.commands.note.setText(f"{len(task.actions)} continuous")
        self.command_rows.clear()
        for action in problem.commands:
            lag = problem.machine.drives[problem.model.drives[action.drive]].lag if action.drive >= 0 else 0.0
            span = f"{show(action.low)} … {show(action.high)} {pretty_unit(action.unit)}"
            sign = f", + {action.positive}" if action.positive else ""
            self.command_rows.add(
                label(action.name + sign, "strong"), label(f"{span}, lag {1000 * lag:.0f} ms", "soft")
            )
        self.start_rows.clear()
        for draw in problem.draws:
            self.start_rows.add(label(draw.target, ""), ElidedLabel(draw.distribution.text().replace("-", "−"), "soft"))
        self.start_rows.finish()
        self.end_rows.clear()
        for name, ending in task.endings.items():
            self.end_rows.add(label(name, "strong"), label(ending.kind, "soft"))
            self.end_rows.add_wide(label(ending.formula or f"after {ending.deadline:g} s", "soft", wrap=True))
        self.end_rows.add(label("time is up", "strong"), label(f"{task.timing.time_limit:g} s, not a failure", "soft"))
        hold = f", held {task.measure.hold:g} s as the episode ends" if task.measure.hold else ""
        self.measure_text.setText(f"{task.measure.name}{hold}")
        if not self.measure.hasFocus():
            self.measure.setText(task.measure.formula)
            self.measure.setCursorPosition(0)
        timing = task.timing
        self.clock.setText(
            f"physics {timing.control_rate * timing.substeps:g} Hz, {timing.substeps} substeps a command; "
            f"control {timing.control_rate:g} Hz, up to {timing.steps} commands"
        )
        self._show_pay(problem)

    def _show_senses(self, problem: Problem) -> None:
        self.sense_rows.clear()
        self.sense_rows.add(
            label("signal", "soft"), label("now, and what rehearsals met", "soft"), label("range, noise", "soft")
        )
        self.gauges = []
        trials = self._rehearsed()
        for k, o in enumerate(problem.entries):
            unit = {"rad": "deg", "rad/s": "deg/s"}.get(o.si, o.si)
            factor = factor_to_si(unit) if unit else 1.0
            gauge = Gauge(o.low, o.high)
            gauge.setAccessibleName(f"{o.name} range")
            if trials is not None:
                met = np.concatenate([r.observations[:, k] for r in trials.recordings.values()])
                gauge.show_met((float(met.min()), float(met.max())), None)
            self.gauges.append(gauge)
            span = f"{o.low / factor:.4g} … {o.high / factor:.4g} {pretty_unit(unit)}".replace("-", "−")
            noise = f" ±{o.noise / factor:.2g}" if o.noise else ""
            late = f" {1000 * o.delay:g} ms late" if o.delay else ""
            name = label(o.name, "strong")
            name.setToolTip(f"{o.formula}" + (f"; + {o.positive}" if o.positive else ""))
            self.sense_rows.add(name, gauge, label(span + noise + late, "soft"))
        self.sense_rows.finish()
        self._hands()

    def _hands(self, *_: object) -> None:
        recording = self.bench.playback.recording
        if recording is None or recording.observations.shape[1] != len(self.gauges) or not self.isVisible():
            return
        row = recording.observations[self.bench.playback.index]
        for gauge, value in zip(self.gauges, row, strict=True):
            gauge.show_met(gauge.met, float(value))

    def _show_pay(self, problem: Problem) -> None:
        self.pay_rows.clear()
        trials = self._rehearsed()
        paid = trials.terms.mean(axis=0) if trials is not None else None
        self.pays.note.setText(
            f"paid over an episode by the {trials.driver}, mean of {len(trials.score)}" if trials is not None
            else "rehearse to see what each term pays"
        )  # fmt: skip
        heads = ("term", "formula", "weight", "when", "paid" if paid is not None else "", "")
        self.pay_rows.add(*[label(h, "soft") for h in heads])
        most = float(np.abs(paid).max()) if paid is not None else 1.0
        for k, (name, reward) in enumerate(problem.task.rewards.items()):
            if reward.ending is None:
                formula: QWidget = QLineEdit(reward.formula)
                formula.setCursorPosition(0)
                formula.setAccessibleName(f"{name} formula")
                formula.editingFinished.connect(lambda n=name, f=formula: self._formula_edited(n, f))
            else:
                formula = label(f"once, when {reward.ending}", "soft")
            weight = QuantityField("", f"{name} weight")
            weight.setFixedWidth(64)
            weight.show_value(reward.weight)
            weight.edited.connect(
                lambda v, _t, n=name: self._edit(["rewards", n, "weight"], v, f"weight of {n}: {v:g}")
            )
            cells: list[QWidget | None] = [
                label(name, "strong"),
                formula,
                weight,
                label(reward.pay.removeprefix("each "), "soft"),
            ]
            if paid is not None:
                value = float(paid[k])
                cells += [
                    ShareBar(value, most, SERIES[k % 5]),
                    label(f"{value:+.1f}".replace("-", "−") if abs(value) >= 0.05 else "0", "strong"),
                ]
            self.pay_rows.add(*cells)
        if paid is not None:
            total = label(f"{float(paid.sum()):+.1f}".replace("-", "−"), "strong")
            self.pay_rows.add(label("sum = score", "strong"), None, None, None, None, total)
        self.pay_rows.finish()

    def _formula_edited(self, name: str, field: QLineEdit) -> None:
        problem = self.bench.problem
        if problem is not None and field.text() != problem.task.rewards[name].formula:
            self._edit(["rewards", name, "formula"], field.text(), f"formula of {name}", field)

    def _measure_edited(self) -> None:
        problem = self.bench.problem
        if problem is not None and self.measure.text() != problem.task.measure.formula:
            self._edit(["measure", "formula"], self.measure.text(), "measure", self.measure)

    def _edit(self, key: list[str], value: object, text: str, field: QLineEdit | None = None) -> None:
        wrong = self.bench.edit("tasks", key, value, text)
        self.wrong.setText(wrong.partition(": ")[2] or wrong)
        self.wrong.setVisible(bool(wrong))
        if field is not None:
            field.setProperty("wrong", bool(wrong))
            field.setToolTip(wrong)
            field.style().unpolish(field)
            field.style().polish(field)
