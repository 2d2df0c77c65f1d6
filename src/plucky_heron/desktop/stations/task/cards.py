"""Cards of the Task station whose entries open in a sheet; what is sensed, and how it ends."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QMenu, QPushButton, QStackedWidget, QWidget

from plucky_heron.desktop.charts.gauges import Bars, Gauge
from plucky_heron.desktop.forms.entry_sheet import EntrySheet, Field
from plucky_heron.desktop.forms.formula_field import FormulaField
from plucky_heron.desktop.forms.widgets import Card, ElidedLabel, QuantityField, Rows, button, label, rule, scrolled
from plucky_heron.desktop.stations.task.model import TaskModel, transport_text
from plucky_heron.desktop.theme import theme
from plucky_heron.task.problem import Problem
from plucky_heron.task.setpoint_shift import setpoint_shift
from plucky_heron.task.wording import pickable
from plucky_heron.units import factor_to_si, how_often, in_print, pretty_unit, short_time

Array = np.ndarray

_MOST_HANDS = 3
FACTS = 76
"""Pixels that what is said of an observation gets at least; the rest of it is in the tooltip."""


def name_button(text: str, action: Callable[[], object], tip: str = "") -> QPushButton:
    """A name that opens its entry."""
    made = button(text, action, "name")
    made.setToolTip(tip)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    return made


def menu_button(text: str, name: str = "") -> tuple[QPushButton, QMenu]:
    """A button that drops a menu."""
    made = QPushButton(text)
    made.setAccessibleName(name or text)
    menu = QMenu(made)
    made.setMenu(menu)
    return made, menu


class EditCard(Card):
    """A card whose entries open in a sheet below them."""

    def __init__(self, caption: str, model: TaskModel) -> None:
        super().__init__(caption)
        self.model = model
        model.opening.connect(self.close_entry)
        self.sheet: EntrySheet | None = None
        self.foot: tuple[QWidget, ...] = ()
        """What makes room while an entry is open."""
        self._open: tuple[str | int, ...] | None = None

    def open_entry(self, title: str, key: tuple[str | int, ...], fields: list[Field]) -> None:
        """Show the sheet of one entry; asked again, close it."""
        if self._open == key and self.sheet is not None:
            self.close_entry()
            return
        self.model.opening.emit()
        values: Any = self.model.bench.document("tasks")
        try:
            for part in key:
                values = values[part]
        except (KeyError, IndexError):
            return
        problem = self.model.bench.problem
        assert problem is not None
        sheet = EntrySheet(title, fields, values if isinstance(values, dict) else {"": values}, problem)
        sheet.edited.connect(lambda k, v: self.entry_edited(key, k, v))
        sheet.removed.connect(lambda: self.remove(key, title))
        sheet.closed.connect(self.close_entry)
        self.sheet, self._open = sheet, key
        self.body.addWidget(sheet)
        for beneath in self.foot:
            beneath.hide()
        sheet.show_series(self.model.series)
        sheet.show_index(self.model.bench.playback.index)

    def close_entry(self) -> None:
        """Put the sheet away."""
        if self.sheet is not None:
            self.sheet.hide()
            self.sheet.deleteLater()
            for part in self.foot:
                part.show()
        self.sheet, self._open = None, None

    def entry_edited(self, key: tuple[str | int, ...], field: str, value: object) -> None:
        """A value of the open entry was changed."""
        wrong = self.model.change((*key, field), value, f"{key[-1]}: {field}")
        if self.sheet is not None:
            self.sheet.say(wrong)

    def remove(self, key: tuple[str | int, ...], title: str) -> None:
        """Take an entry out of the file."""
        wrong = self.model.change(key, None, f"remove {title}")
        if wrong and self.sheet is not None:
            self.sheet.say(wrong)
        elif not wrong:
            self.close_entry()

    def append(self, key: tuple[str | int, ...], value: object, text: str) -> None:
        """Put a new entry into the file."""
        self.model.change(key, value, text)


OBSERVATION = [
    Field("formula", "formula", "list"), Field("range", "range", "pair"), Field("name", "name"),
    Field("unit", "unit", hint="SI or deg, such as m/s"), Field("noise", "noise", default="0", hint="standard deviation, such as 5 mm"),
    Field("delay", "dead time", default="0 s"), Field("stack", "last samples", "whole", default=1),
    Field("critic_only", "critic alone", "switch", default=False),
    Field("scaling", "scaling", "choice", ("standardise", "range", "none"), "standardise"),
    Field("form", "form", "choice", ("value", "sine and cosine"), "value"), Field("clip", "clipped", "switch", default=False, hint="readings stop at the range"),
    Field("positive", "positive is", default=""), Field("mirrored", "in the mirror", default="", hint="same; or negated, or the other side's name"),
]  # fmt: skip


class SensesCard(EditCard):
    """What the policy is given, each with a live gauge."""

    def __init__(self, model: TaskModel) -> None:
        super().__init__("Observations", model)
        self.rows = Rows((5, 5, 6), spacing=6)
        self.body.addWidget(scrolled(self.rows), 1)
        foot = QHBoxLayout()
        self.adding, self.menu = menu_button("Add a signal")
        self.menu.aboutToShow.connect(self._fill)
        foot.addWidget(self.adding)
        self.frames = label("", "soft", wrap=True)
        foot.addWidget(self.frames, 1)
        self.body.addLayout(foot)
        self.foot = (self.adding, self.frames)
        self.gauges: list[tuple[list[int], list[Gauge] | Bars]] = []

    def _fill(self) -> None:
        self.menu.clear()
        problem = self.model.bench.problem
        if problem is None:
            return
        groups: dict[str, QMenu] = {}
        for group, title, entry in pickable(problem):
            if group not in groups:
                groups[group] = self.menu.addMenu(group)
            groups[group].addAction(title, lambda e=entry: self.add(e))
        self.menu.addSeparator()
        body = next(iter(problem.machine.bodies))
        entry = {"name": "formula", "formula": f"norm({body}.velocity)", "unit": "m/s", "range": ["0 m/s", "5 m/s"]}
        self.menu.addAction("a formula", lambda: self.add(entry))

    def add(self, entry: dict[str, Any]) -> None:
        """Sense one thing more."""
        problem = self.model.bench.problem
        assert problem is not None
        names = {o.name for o in problem.task.observations}
        name, number = entry["name"], 2
        while name in names:
            name, number = f"{entry['name']} {number}", number + 1
        at = len(problem.task.observations)
        self.append(("observations", at), entry | {"name": name}, f"sense {name}")
        self.open_entry(name, ("observations", at), OBSERVATION)

    def refresh(self, problem: Problem) -> None:
        """Show all observations."""
        task = problem.task
        self.note.setText(f"{len(problem.entries)} numbers, {how_often(task.timing.control_rate)}")
        self.rows.clear()
        self.gauges = []
        met = self.model.met()
        for source, o in enumerate(task.observations):
            own = [(k, e.samples_ago) for k, e in enumerate(problem.entries) if e.source == source]
            columns = [k for k, ago in own if ago == own[0][1]]
            entry = problem.entries[columns[0]]
            unit = {"rad": "deg", "rad/s": "deg/s"}.get(entry.si, entry.si)
            factor = factor_to_si(unit) if unit else 1.0
            if len(columns) > _MOST_HANDS:
                bars = Bars(entry.low, entry.high, len(columns))
                if met is not None:
                    bars.show_met(np.array([met[:, columns].min(axis=0), met[:, columns].max(axis=0)]), None)
                self.gauges.append((columns, bars))
                gauge: QWidget = bars
            else:
                gauge = QWidget()
                line = QHBoxLayout(gauge)
                line.setContentsMargins(0, 0, 0, 0)
                line.setSpacing(2)
                hands = []
                for k in columns:
                    hand = Gauge(problem.entries[k].low, problem.entries[k].high)
                    hand.setMinimumWidth(30)
                    if met is not None:
                        hand.show_met((float(met[:, k].min()), float(met[:, k].max())), None)
                    hands.append(hand)
                    line.addWidget(hand)
                self.gauges.append((columns, hands))
            gauge.setAccessibleName(f"{o.name} range")
            low, high = (in_print(f"{v / factor:.3g}") for v in (entry.low, entry.high))
            span = f"±{high}" if entry.low == -entry.high else f"{low} … {high}"
            span += f" {pretty_unit(unit)}"
            if o.form != "value":
                span = "sine, cosine"
            more = [f"±{o.noise / factor:.2g}" if o.noise else "", f"{short_time(o.delay)} late" if o.delay else ""]
            more += [f"× {o.stack}" if o.stack > 1 else "", "stops" if o.clip else ""]
            more += ["" if o.scaling == "standardise" else "range only" if o.scaling == "range" else "unscaled"]
            more += ["critic alone" if o.critic_only else ""]
            text = ", ".join(part for part in [span.strip(), *more] if part)
            count = f"  {len(columns)}" if len(columns) > 1 and o.form == "value" else ""
            tip = o.formula + (f"\n+ {o.positive}" if o.positive else "")
            open_it = name_button(
                o.name + count, partial(self.open_entry, o.name, ("observations", source), OBSERVATION), tip
            )
            facts = ElidedLabel(text, "soft")
            facts.setMinimumWidth(min(facts.fontMetrics().horizontalAdvance(text) + 2, FACTS))
            self.rows.add(open_it, gauge, facts)
        self.rows.finish()
        self._frames(problem)

    def _frames(self, problem: Problem) -> None:
        """Whether the policy could learn the map by heart, what a mirror changes, and what another set-point would."""
        behind = {name for e in problem.observations for name in e.signals}
        bodies = problem.machine.bodies
        world = sorted(n for n in behind if n.partition(".")[0] in bodies and n.partition(".")[2] in ("x", "y", "yaw"))
        if not any(
            f"{b}.y" in problem.units and len(problem.machine.joints[problem.machine.joint_above(b)].letters) >= 3
            for b in bodies
        ):
            text = ""
        elif world:
            text = f"in the world's axes: {', '.join(world[:4])}"
        else:
            text = "no place in the world is sensed: no learning the map by heart"
        if problem.mirror is not None:
            places, signs = problem.mirror.observation_place, problem.mirror.observation_sign
            other = int(((places != np.arange(len(places))) | (signs < 0.0)).sum())
            text += f"{'; ' if text else ''}{other} of {len(places)} change in the mirror"
        shift = setpoint_shift(problem)
        if shift is not None:
            moved = int(shift.slope.any(axis=0).sum())
            text += f"{'; ' if text else ''}{moved} shift with {' and '.join(shift.names)}"
        self.frames.setText(text)

    def show_index(self, row: Array | None) -> None:
        """Hands at one sample's row of numbers."""
        for columns, gauge in self.gauges:
            if row is not None and max(columns) >= len(row):
                return
            if isinstance(gauge, Bars):
                gauge.show_met(gauge.met, row[columns] if row is not None else None)
            else:
                for hand, k in zip(gauge, columns, strict=True):
                    hand.show_met(hand.met, float(row[k]) if row is not None else None)


ENDING = [
    Field("formula", "when", "formula"), Field("kind", "is a", "choice", ("success", "failure"), "failure"),
    Field("hold", "held for", default="0 s"),
]  # fmt: skip
DEADLINE = [Field("deadline", "after"), Field("kind", "is a", "choice", ("success", "failure"), "failure")]


class EndsCard(EditCard):
    """How it ends, the yardstick, the clock."""

    def __init__(self, model: TaskModel) -> None:
        super().__init__("Endings", model)
        self.rows = Rows((1, 0), spacing=2)
        self.body.addWidget(scrolled(self.rows), 1)
        self.adding, menu = menu_button("Add an ending")
        menu.addAction("success, by a formula", lambda: self.add("success"))
        menu.addAction("failure, by a formula", lambda: self.add("failure"))
        menu.addAction("deadline, a true end", self.add_deadline)
        self.body.addWidget(self.adding, 0, Qt.AlignmentFlag.AlignLeft)
        self.body.addWidget(rule())
        self.body.addWidget(label("MEASURE", "caption"))
        self.measure_text = label("", "soft", wrap=True)
        self.body.addWidget(self.measure_text)
        self.measure = FormulaField("measure")
        self.measure.settled.connect(
            lambda text: self.measure.mark_wrong(model.change(("measure", "formula"), text, "measure"))
        )
        self.body.addWidget(self.measure)
        self.body.addWidget(rule())
        head = QHBoxLayout()
        head.addWidget(label("TIMING", "caption"))
        head.addStretch(1)
        self.turn = button("how late commands come", self.turn_timing, "link", "turn between clock and lateness")
        head.addWidget(self.turn)
        self.body.addLayout(head)
        self.rate, self.limit = QuantityField("1/s", "control rate"), QuantityField("s", "time limit")
        self.substeps = QuantityField("", "substeps")
        self.late, self.jitter = QuantityField("s", "dead time"), QuantityField("s", "jitter")
        self.lost = QuantityField("", "share lost")
        self.late.setToolTip("from a sample of the sensors until its command is at the drives: transport and computing")
        self.jitter.setToolTip("by how much more that may be, evenly spread, drawn for each sample")
        self.lost.setToolTip("share of samples whose command never arrives: drives hold the one before")
        self.timing = QStackedWidget()
        for fields in (
            ((self.rate, "control_rate", "Hz control"), (self.substeps, "substeps", "substeps"), (self.limit, "time_limit", "time limit")),
            ((self.late, "dead_time", "dead time"), (self.jitter, "jitter", "jitter"), (self.lost, "lost", "share lost")),
        ):  # fmt: skip
            page = QWidget()
            line = QGridLayout(page)
            line.setContentsMargins(0, 0, 0, 0)
            line.setHorizontalSpacing(6)
            line.setVerticalSpacing(1)
            for column, (field, key, text) in enumerate(fields):
                field.edited.connect(lambda v, _t, k=key, x=text: model.change(("timing", k), _clock(k, v), x))
                line.addWidget(label(text, "soft"), 0, column)
                line.addWidget(field, 1, column)
            self.timing.addWidget(page)
        self.body.addWidget(self.timing)
        self.clock = label("", "soft", wrap=True)
        self.body.addWidget(self.clock)

    def turn_timing(self) -> None:
        """Show the clock, or how late commands come."""
        late = self.timing.currentIndex() == 0
        self.timing.setCurrentIndex(int(late))
        self.turn.setText("clock" if late else "how late commands come")

    def add(self, kind: str) -> None:
        """An ending to start from."""
        problem = self.model.bench.problem
        assert problem is not None
        name = free_name("ended", problem.task.endings)
        self.append(("endings", name), {"kind": kind, "formula": "time > 1e6"}, f"ending {name}")
        self.open_entry(name, ("endings", name), ENDING)

    def add_deadline(self) -> None:
        """A true end after a time."""
        problem = self.model.bench.problem
        assert problem is not None
        name = free_name("too late", problem.task.endings)
        after = f"{0.8 * problem.task.timing.time_limit:g} s"
        self.append(("endings", name), {"kind": "failure", "deadline": after}, f"deadline {name}")
        self.open_entry(name, ("endings", name), DEADLINE)

    def refresh(self, problem: Problem) -> None:
        """Show endings, measure, clock."""
        task, timing = problem.task, problem.task.timing
        self.rows.clear()
        tally = self.model.tally()
        for name, ending in task.endings.items():
            fields = DEADLINE if ending.deadline is not None else ENDING
            line = QWidget()
            row = QHBoxLayout(line)
            row.setContentsMargins(0, 0, 0, 0)
            row.addWidget(Stripe("moss" if ending.kind == "success" else "rust"))
            row.addWidget(name_button(name, partial(self.open_entry, name, ("endings", name), fields)))
            row.addStretch(1)
            self.rows.add(
                line, label(ending.kind + (f", met {tally[name]}" if tally and name in tally else ""), "soft")
            )
            when = (
                ending.formula
                if ending.deadline is None
                else f"after {ending.deadline:g} s, punished or not: a true end"
            )
            self.rows.add_wide(ElidedLabel((when or "") + (f", held {ending.hold:g} s" if ending.hold else ""), "soft"))
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(Stripe("heron"))
        row.addWidget(label("time is up", "strong"))
        row.addStretch(1)
        self.rows.add(line, label(f"{timing.time_limit:g} s", "soft"))
        self.rows.add_wide(ElidedLabel("not a failure: what follows still counts", "soft"))
        self.rows.finish()
        hold = f", held {task.measure.hold:g} s as the episode ends" if task.measure.hold else ""
        value = f"; beside it {task.measure.value} ({pretty_unit(task.measure.unit)})" if task.measure.value else ""
        self.measure_text.setText(f"{task.measure.name}{hold}{value}")
        self.measure.set_problem(problem)
        self.measure.show_formula(task.measure.formula)
        self.rate.show_value(timing.control_rate)
        self.rate.setText(f"{timing.control_rate:g}")
        self.substeps.show_value(timing.substeps)
        self.limit.show_value(timing.time_limit)
        self.late.show_value(timing.dead_time)
        self.jitter.show_value(timing.jitter)
        self.lost.show_value(timing.lost)
        late = f", {transport_text(timing)} late" if timing.dead_time or timing.jitter or timing.lost else ""
        self.clock.setText(f"physics {timing.control_rate * timing.substeps:g} Hz, up to {timing.steps} commands{late}")


def _clock(key: str, value: float) -> object:
    if key in ("substeps", "lost"):
        return round(value) if key == "substeps" else value
    return f"{value:g} {'Hz' if key == 'control_rate' else 's'}"


def free_name(name: str, taken: Any) -> str:
    found, number = name, 2
    while found in taken:
        found, number = f"{name} {number}", number + 1
    return found


class Stripe(QWidget):
    """A coloured stripe before a line."""

    def __init__(self, role: str) -> None:
        super().__init__()
        self.role = role
        self.setFixedSize(5, 18)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The stripe; of a failure broken, so that it shows without colour."""
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().color(self.role))
        pieces = [(0, 7), (10, 8)] if self.role == "rust" else [(0, 18)]
        for top, height in pieces:
            painter.drawRect(QRectF(0, top, 4, height))
