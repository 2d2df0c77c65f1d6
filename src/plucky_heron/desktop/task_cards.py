"""The cards of the Task station: what is sensed, commanded, paid, how it starts and ends, and one sample of it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QMenu, QPushButton, QWidget

from plucky_heron.desktop.drawing import Drawing
from plucky_heron.desktop.entry_sheet import EntrySheet, Field
from plucky_heron.desktop.formula_field import FormulaField
from plucky_heron.desktop.gauges import Bars, Gauge, ShareBar, Spark
from plucky_heron.desktop.theme import SERIES, font, theme
from plucky_heron.desktop.widgets import Card, ElidedLabel, QuantityField, Rows, button, label, rule, scrolled
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.replay import Way
from plucky_heron.task.problem import Problem
from plucky_heron.task.wording import in_words, pickable, wishes
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import factor_to_si, pretty_unit, show

if TYPE_CHECKING:
    from plucky_heron.desktop.stations.task import TaskStation

Array = np.ndarray

FAN = 50
"""Starts that are overlaid."""
_MOST_HANDS = 3


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

    def __init__(self, caption: str, station: TaskStation) -> None:
        super().__init__(caption)
        self.station = station
        self.sheet: EntrySheet | None = None
        self._open: tuple[str | int, ...] | None = None

    def open_entry(self, title: str, key: tuple[str | int, ...], fields: list[Field]) -> None:
        """Show the sheet of one entry; asked again, close it."""
        if self._open == key and self.sheet is not None:
            self.close_entry()
            return
        for card in self.station.edit_cards():
            card.close_entry()
        values: Any = self.station.bench.document("tasks")
        try:
            for part in key:
                values = values[part]
        except (KeyError, IndexError):
            return
        problem = self.station.bench.problem
        assert problem is not None
        sheet = EntrySheet(title, fields, values if isinstance(values, dict) else {"": values}, problem)
        sheet.edited.connect(lambda k, v: self.entry_edited(key, k, v))
        sheet.removed.connect(lambda: self.remove(key, title))
        sheet.closed.connect(self.close_entry)
        self.sheet, self._open = sheet, key
        self.body.addWidget(sheet)
        sheet.show_series(self.station.series)
        sheet.show_index(self.station.bench.playback.index)

    def close_entry(self) -> None:
        """Put the sheet away."""
        if self.sheet is not None:
            self.sheet.hide()
            self.sheet.deleteLater()
        self.sheet, self._open = None, None

    def entry_edited(self, key: tuple[str | int, ...], field: str, value: object) -> None:
        """A value of the open entry was changed."""
        wrong = self.station.change((*key, field), value, f"{key[-1]}: {field}")
        if self.sheet is not None:
            self.sheet.say(wrong)

    def remove(self, key: tuple[str | int, ...], title: str) -> None:
        """Take an entry out of the file."""
        wrong = self.station.change(key, None, f"remove {title}")
        if wrong and self.sheet is not None:
            self.sheet.say(wrong)
        elif not wrong:
            self.close_entry()

    def append(self, key: tuple[str | int, ...], value: object, text: str) -> None:
        """Put a new entry into the file."""
        self.station.change(key, value, text)


OBSERVATION = [
    Field("formula", "formula", "list"), Field("range", "range", "pair"), Field("name", "name"),
    Field("unit", "unit", hint="SI or deg, such as m/s"), Field("noise", "noise", default="0", hint="standard deviation, such as 5 mm"),
    Field("delay", "dead time", default="0 s"), Field("stack", "last samples", "whole", default=1),
    Field("scaling", "scaling", "choice", ("standardise", "range", "none"), "standardise"),
    Field("form", "form", "choice", ("value", "sine and cosine"), "value"), Field("clip", "clipped", "switch", default=False, hint="readings stop at the range"),
    Field("positive", "positive is", default=""),
]  # fmt: skip


class SensesCard(EditCard):
    """What the policy is given, each with a live gauge."""

    def __init__(self, station: TaskStation) -> None:
        super().__init__("What it senses", station)
        self.rows = Rows((5, 5, 0), spacing=6)
        self.body.addWidget(scrolled(self.rows), 1)
        foot = QHBoxLayout()
        self.adding, self.menu = menu_button("Add a signal")
        self.menu.aboutToShow.connect(self._fill)
        foot.addWidget(self.adding)
        self.frames = label("", "soft", wrap=True)
        foot.addWidget(self.frames, 1)
        self.body.addLayout(foot)
        self.gauges: list[tuple[list[int], list[Gauge] | Bars]] = []

    def _fill(self) -> None:
        self.menu.clear()
        problem = self.station.bench.problem
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
        problem = self.station.bench.problem
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
        self.note.setText(f"{len(problem.entries)} numbers, {task.timing.control_rate:g} times a second")
        self.rows.clear()
        self.gauges = []
        met = self.station.met()
        for source, o in enumerate(task.observations):
            own = [(k, e.samples_ago) for k, e in enumerate(problem.entries) if e.source == source]
            columns = [k for k, ago in own if ago == own[0][1]]
            entry = problem.entries[columns[0]]
            unit = {"rad": "deg", "rad/s": "deg/s"}.get(entry.si, entry.si)
            factor = factor_to_si(unit) if unit else 1.0
            if len(columns) > _MOST_HANDS:
                gauge: QWidget = Bars(entry.low, entry.high, len(columns))
                if met is not None:
                    gauge.show_met(np.array([met[:, columns].min(axis=0), met[:, columns].max(axis=0)]), None)
                self.gauges.append((columns, gauge))
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
            span = f"{entry.low / factor:.4g} … {entry.high / factor:.4g} {pretty_unit(unit)}".replace("-", "−")
            if entry.low == -entry.high:
                span = f"±{entry.high / factor:.4g} {pretty_unit(unit)}"
            if o.form != "value":
                span = "sine, cosine"
            more = [f"±{o.noise / factor:.2g}" if o.noise else "", f"{1000 * o.delay:g} ms late" if o.delay else ""]
            more += [f"last {o.stack}" if o.stack > 1 else "", "stops" if o.clip else ""]
            more += ["" if o.scaling == "standardise" else "range only" if o.scaling == "range" else "unscaled"]
            text = ", ".join(part for part in [span.strip(), *more] if part)
            count = f"  {len(columns)}" if len(columns) > 1 and o.form == "value" else ""
            tip = o.formula + (f"\n+ {o.positive}" if o.positive else "")
            open_it = name_button(
                o.name + count, lambda n=o.name, s=source: self.open_entry(n, ("observations", s), OBSERVATION), tip
            )
            self.rows.add(open_it, gauge, label(text, "soft"))
        self.rows.finish()
        self._frames(problem)

    def _frames(self, problem: Problem) -> None:
        """Whether the policy could learn the map by heart."""
        behind = {name for e in problem.observations for name in e.signals}
        bodies = problem.machine.bodies
        world = sorted(n for n in behind if n.partition(".")[0] in bodies and n.partition(".")[2] in ("x", "y", "yaw"))
        if not any(
            f"{b}.y" in problem.units and len(problem.machine.joints[problem.machine.joint_above(b)].letters) >= 3
            for b in bodies
        ):
            self.frames.setText("")
        elif world:
            self.frames.setText(f"in the world's axes: {', '.join(world[:4])}")
        else:
            self.frames.setText("no place in the world is sensed: no learning the map by heart")

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


ACTION = [
    Field("name", "name"), Field("drive", "drive"), Field("limits", "limits", "pair"), Field("positive", "positive is"),
    Field("kind", "gives", "choice", ("value", "increment"), "value"), Field("within", "within", "pair", hint="of an increment"),
    Field("rate_limit", "rate limit", default="", hint="such as 2 rad/s**2"), Field("smoothing", "smoothing", default="0 s"),
]  # fmt: skip
SETPOINT = [
    Field("how", "drawn", "choice", ("uniform", "normal", "choice", "fixed"), "uniform"),
    Field("values", "values", "line", hint="such as −4 m, 4 m"), Field("nominal", "nominal"), Field("proving", "in proofs", hint="low, high"),
]  # fmt: skip


class CommandsCard(EditCard):
    """What the policy commands, and how episodes start."""

    def __init__(self, station: TaskStation) -> None:
        super().__init__("What it commands", station)
        self.words = label("", "soft", wrap=True)
        self.words.setMaximumHeight(54)
        self.words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.body.addWidget(self.words)
        self.rows = Rows((4, 5), spacing=4)
        self.body.addWidget(scrolled(self.rows), 3)
        head = QHBoxLayout()
        head.addWidget(label("STARTS AND VARIATION", "caption"))
        head.addStretch(1)
        head.addWidget(label(f"{FAN} starts overlaid", "soft"))
        self.body.addLayout(head)
        self.fan = Fan()
        self.body.addWidget(self.fan, 3)
        self.draws = Rows((4, 5), spacing=2)
        self.body.addWidget(scrolled(self.draws), 3)
        self.gauges: list[Gauge] = []

    def refresh(self, problem: Problem) -> None:
        """Show commands and draws."""
        words = in_words(problem)
        self.words.setToolTip(words)
        self.words.setText(words if len(words) < 150 else words[:146].rpartition(",")[0] + ", …")
        self.rows.clear()
        self.gauges = []
        for k, command in enumerate(problem.commands):
            gauge = Gauge(command.low, command.high, "plum")
            gauge.setAccessibleName(f"{command.name} now")
            self.gauges.append(gauge)
            lag = problem.machine.drives[problem.model.drives[command.drive]].lag if command.drive >= 0 else 0.0
            more = [f"+ {command.positive}" if command.positive else "", f"lag {1000 * lag:.0f} ms" if lag else ""]
            more += [
                "mixed" if command.drive < 0 and not command.choice else "",
                "adds up" if command.increment else "",
            ]
            more += [f"at most {show(command.rate_limit)} {pretty_unit(command.unit)}/s" if command.rate_limit else ""]
            more += [f"smoothed {1000 * command.smoothing:.0f} ms" if command.smoothing else ""]
            key = ("actions", command.action)
            fields = ACTION if not command.choice else [Field("name", "name")]
            self.rows.add(
                name_button(command.name, lambda n=command.name, q=key, f=fields: self.open_entry(n, q, f)), gauge
            )
            text = ", ".join(part for part in more if part)
            if text and len(problem.commands) < 6:
                self.rows.add_wide(ElidedLabel(text, "soft"))
            self.gauges[k].setToolTip(text)
        self.rows.finish()
        self.draws.clear()
        for joint, placing in problem.task.placing.items():
            way = f"along the course {placing.along[0]:g} … {placing.along[1]:g} m" if placing.along else ""
            way = way or (f"on a circle of {placing.circle[0]:g} … {placing.circle[1]:g} m" if placing.circle else "")
            self.draws.add(label(joint, "strong"), ElidedLabel(way or "clear of solids", "soft"))
        for draw in problem.draws:
            where = {"start": "starts", "setpoint": "setpoints"}.get(draw.kind, "variation")
            text = draw.distribution.text().replace("-", "−")
            text += f", again every {draw.every:g} s" if draw.every else ""
            self.draws.add(
                name_button(draw.target, lambda w=where, t=draw.target: self.open_draw(w, t)), ElidedLabel(text, "soft")
            )
        self.draws.finish()
        self.fan.show_problem(problem)

    def open_draw(self, where: str, name: str) -> None:
        """The sheet of one draw."""
        key = (where, name, "draw") if where == "setpoints" else (where, name)
        self.open_entry(name, key, SETPOINT)
        if self.sheet is None:
            return
        how, values, nominal, proving = self._written(key)
        self.sheet.editors["how"].setCurrentText(how)
        for field, text in (("values", values), ("nominal", nominal), ("proving", proving)):
            editor = self.sheet.editors[field]
            assert isinstance(editor, QLineEdit)
            editor.setText(text)
            editor.setProperty("shown", text)

    def _written(self, key: tuple[str | int, ...]) -> tuple[str, str, str, str]:
        value: Any = self.station.bench.document("tasks")
        for part in key:
            value = value[part]
        if not isinstance(value, dict):
            return "fixed", str(value), "", ""
        how = next((k for k in ("uniform", "normal", "choice", "fixed") if k in value), "uniform")
        proving = value.get("proving", "")
        if isinstance(proving, dict):
            proving = ", ".join(str(v) for v in next(iter(proving.values())))
        given = value.get(how, "")
        return (
            how,
            ", ".join(map(str, given)) if isinstance(given, list) else str(given),
            str(value.get("nominal", "")),
            str(proving),
        )

    def entry_edited(self, key: tuple[str | int, ...], field: str, value: object) -> None:
        """Draws are written as one small table."""
        if key[0] not in ("starts", "variation", "setpoints") or field not in ("how", "values", "nominal", "proving"):
            super().entry_edited(key, field, value)
            return
        parts = dict(zip(("how", "values", "nominal", "proving"), self._written(key), strict=True)) | {
            field: str(value or "")
        }
        numbers = [_plain(text) for text in parts["values"].replace("−", "-").split(",") if text.strip()]
        how = parts["how"]
        table: dict[str, object] = {how: numbers[0] if how == "fixed" and numbers else numbers}
        if parts["nominal"]:
            table["nominal"] = _plain(parts["nominal"])
        if parts["proving"]:
            ends = [_plain(text) for text in parts["proving"].replace("−", "-").split(",")]
            table["proving"] = {"uniform": ends} if len(ends) == 2 else ends[0]
        wrong = self.station.change(key, table, f"{key[1]}: {field}")
        if self.sheet is not None:
            self.sheet.say(wrong)

    def show_index(self, row: Array | None) -> None:
        """Hands at one sample's commands."""
        for k, gauge in enumerate(self.gauges):
            gauge.show_met(None, float(row[k]) if row is not None and k < len(row) else None)


def _plain(text: str) -> object:
    """A number where it is one, else the text with its unit."""
    text = text.strip()
    try:
        return int(text) if text.lstrip("-").isdigit() else float(text)
    except ValueError:
        return text


class Fan(QWidget):
    """Fifty starts over each other, painted once."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumHeight(70)
        self.setAccessibleName("starts overlaid")
        self._problem: Problem | None = None
        self._picture: QPixmap | None = None
        self.positions: Array = np.zeros((0, 0))

    def show_problem(self, problem: Problem) -> None:
        """Draw other starts."""
        if self._problem is not None and self._problem.fingerprint() == problem.fingerprint():
            return
        self._problem, self._picture = problem, None
        batch = Batch(problem, FAN, EVALUATION_SEED, "rehearsal", threads=1)
        batch.start(np.arange(FAN))
        self.positions = batch.plant.position.copy()
        self.scene_number = int(batch.plant.scene[0])
        self._places = batch.plant.scene == self.scene_number
        self.update()

    def resizeEvent(self, event: object) -> None:
        """Painted anew at another size."""
        self._picture = None

    def paintEvent(self, event: QPaintEvent) -> None:
        """The picture."""
        if self._problem is None or self.width() < 20:
            return
        if self._picture is None:
            self._picture = self._paint(self._problem)
        QPainter(self).drawPixmap(0, 0, self._picture)

    def _paint(self, problem: Problem) -> QPixmap:
        ratio = self.devicePixelRatioF()
        picture = QPixmap(int(self.width() * ratio), int(self.height() * ratio))
        picture.setDevicePixelRatio(ratio)
        picture.fill(theme().color("paper"))
        drawing = Drawing(None)
        drawing.resize(self.width(), self.height() + 24)
        drawing.set_problem(problem)
        assert drawing.scene is not None
        painter = QPainter(picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = drawing.frame()
        drawing.scene.paint_site(painter, frame, self.scene_number)
        painter.setOpacity(0.5)
        for position in self.positions[self._places]:
            drawing.scene.paint_machine(painter, frame, position, ghost=True)
        painter.end()
        return picture


class SampleCard(Card):
    """One sample in order, and the way of one command through it."""

    def __init__(self, station: TaskStation) -> None:
        super().__init__("One sample")
        self.station = station
        self.line = SampleLine()
        self.body.addWidget(self.line, 1)
        self.follow = button("Follow one command", self.station.follow)
        self.body.addWidget(self.follow)

    def refresh(self, problem: Problem) -> None:
        """What happens in a sample."""
        task = problem.task
        timing = task.timing
        late = max(
            [o.delay for o in task.observations] + [s.dead_time for s in problem.machine.sensors.values()], default=0.0
        )
        steps = [
            ("0", "sense", f"up to {1000 * late:g} ms old" if late else "as it is now"),
            ("", "policy", "to be learned"),
        ]
        shaped = [n for n, on in (
            ("increments", any(c.increment for c in problem.commands)), ("rates", any(c.rate_limit for c in problem.commands)),
            ("smoothing", any(c.smoothing for c in problem.commands)), ("mixing", bool(problem.mixing)), ("choice", bool(problem.options)),
        ) if on]  # fmt: skip
        steps.append(("", "limits" + (", " + ", ".join(shaped) if shaped else ""), f"{len(problem.commands)} numbers"))
        lags = [problem.machine.drives[problem.model.drives[c.drive]].lag for c in problem.commands if c.drive >= 0]
        lag = max(lags, default=0.0)
        steps.append(("", "drives follow", f"lag up to {1000 * lag:g} ms" if lag else "at once"))
        steps.append(("", f"{timing.substeps} substeps", f"of {1000 * timing.physics_step:.3g} ms, same command"))
        steps.append((f"{1000 * timing.sample_time:.3g} ms", "next sample", self.station.spanned(problem)))
        self.line.show_steps(steps)

    def show_way(self, way: Way | None, name: str) -> None:
        """Numbers of one command instead of words, or back."""
        self.caption.setText(f"ONE COMMAND: {name}".upper() if way is not None else "ONE SAMPLE")
        self.follow.setText("Back to one sample" if way is not None else "Follow one command")
        self.line.show_way(way)


class SampleLine(QWidget):
    """A line downwards with what happens on it."""

    def __init__(self) -> None:
        super().__init__()
        self.steps: list[tuple[str, str, str]] = []
        self.way: Way | None = None
        self.setMinimumWidth(130)
        self.setAccessibleName("one sample")

    def show_steps(self, steps: list[tuple[str, str, str]]) -> None:
        """Time, title and note of each step."""
        self.steps = steps
        self.update()

    def show_way(self, way: Way | None) -> None:
        """The numbers of one command."""
        self.way = way
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Line, knots, texts; for a command its course over the substeps."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        steps = self.steps
        if self.way is not None:
            steps = [("", _worth(value, unit), name) for name, value, unit in self.way.stages]
        if not steps:
            return
        chart = 96 if self.way is not None else 0
        x, first, last = 34.0 if self.way is None else 10.0, 10.0, self.height() - 24.0 - chart
        painter.setPen(QPen(t.color("ink"), 1.6))
        painter.drawLine(QPointF(x, first), QPointF(x, last))
        for k, (time, title, note) in enumerate(steps):
            y = first + (last - first) * k / max(len(steps) - 1, 1)
            painter.setPen(QPen(t.color("ink"), 1.6))
            painter.setBrush(t.color("tide" if title == "policy" or (self.way is not None and k == 0) else "card"))
            painter.drawEllipse(QPointF(x, y), 4.5, 4.5)
            painter.setFont(font(11))
            painter.setPen(t.color("soft"))
            painter.drawText(
                QRectF(0, y - 8, x - 8, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, time
            )
            width = self.width() - x - 12
            painter.drawText(QRectF(x + 12, y + 6, width, 30), Qt.TextFlag.TextWordWrap, note)
            painter.setFont(font(13, bold=True))
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(x + 12, y - 10, width, 18), Qt.AlignmentFlag.AlignVCenter, title)
        if self.way is not None:
            self._course(painter, QRectF(2, self.height() - chart + 14, self.width() - 6, chart - 34))

    def _course(self, painter: QPainter, box: QRectF) -> None:
        assert self.way is not None
        t, way = theme(), self.way
        painter.setFont(font(11))
        painter.setPen(QPen(t.color("rule"), 1))
        painter.drawRect(box)
        for values, role, unit, place in (
            (way.followed, "tide", way.unit, 0),
            (way.effort, "plum", way.effort_unit, 1),
        ):
            if place == 1 and not values.any():
                continue
            low, high = float(values.min()), float(values.max())
            room = 0.15 * (high - low) or max(abs(high), 1e-9) * 0.1
            points = [
                QPointF(
                    box.left() + box.width() * k / max(len(values) - 1, 1),
                    box.bottom() - box.height() * (float(v) - low + room) / (high - low + 2 * room),
                )
                for k, v in enumerate(values)
            ]
            painter.setPen(QPen(t.color(role), 1.6))
            painter.drawPolyline(QPolygonF(points))
            painter.setPen(t.color("ink"))
            text = f"{'follows' if place == 0 else 'effort'} {show(low)} … {show(high)} {pretty_unit(unit)}"
            y = box.top() - 14 if place == 0 else box.bottom() + 1
            painter.drawText(QRectF(box.left(), y, box.width(), 14), Qt.AlignmentFlag.AlignLeft, text)


def _worth(value: float, unit: str) -> str:
    return f"{show(value)} {pretty_unit(unit)}".strip()


ENDING = [
    Field("formula", "when", "formula"), Field("kind", "is a", "choice", ("success", "failure"), "failure"),
    Field("hold", "held for", default="0 s"),
]  # fmt: skip
DEADLINE = [Field("deadline", "after"), Field("kind", "is a", "choice", ("success", "failure"), "failure")]


class EndsCard(EditCard):
    """How it ends, the yardstick, the clock."""

    def __init__(self, station: TaskStation) -> None:
        super().__init__("How it ends", station)
        self.rows = Rows((1, 0), spacing=2)
        self.body.addWidget(scrolled(self.rows), 1)
        self.adding, menu = menu_button("Add an ending")
        menu.addAction("success, by a formula", lambda: self.add("success"))
        menu.addAction("failure, by a formula", lambda: self.add("failure"))
        menu.addAction("deadline, a true end", self.add_deadline)
        self.body.addWidget(self.adding, 0, Qt.AlignmentFlag.AlignLeft)
        self.body.addWidget(rule())
        self.body.addWidget(label("MEASURE, APART FROM THE PAY", "caption"))
        self.measure_text = label("", "soft", wrap=True)
        self.body.addWidget(self.measure_text)
        self.measure = FormulaField("measure")
        self.measure.settled.connect(lambda text: station.change(("measure", "formula"), text, "measure", self.measure))
        self.body.addWidget(self.measure)
        self.body.addWidget(rule())
        self.body.addWidget(label("CLOCK", "caption"))
        line = QHBoxLayout()
        line.setSpacing(6)
        self.rate, self.limit = QuantityField("1/s", "control rate"), QuantityField("s", "time limit")
        self.substeps = QuantityField("", "substeps")
        for field, key, text in (
            (self.rate, "control_rate", "Hz control"), (self.substeps, "substeps", "substeps"), (self.limit, "time_limit", "limit"),
        ):  # fmt: skip
            field.setFixedWidth(58)
            field.edited.connect(lambda v, _t, k=key, x=text: station.change(("timing", k), _clock(k, v), x))
            line.addWidget(field)
            line.addWidget(label(text, "soft"))
        line.addStretch(1)
        self.body.addLayout(line)
        self.clock = label("", "soft", wrap=True)
        self.body.addWidget(self.clock)

    def add(self, kind: str) -> None:
        """An ending to start from."""
        problem = self.station.bench.problem
        assert problem is not None
        name = _free("ended", problem.task.endings)
        self.append(("endings", name), {"kind": kind, "formula": "time > 1e6"}, f"ending {name}")
        self.open_entry(name, ("endings", name), ENDING)

    def add_deadline(self) -> None:
        """A true end after a time."""
        problem = self.station.bench.problem
        assert problem is not None
        name = _free("too late", problem.task.endings)
        after = f"{0.8 * problem.task.timing.time_limit:g} s"
        self.append(("endings", name), {"kind": "failure", "deadline": after}, f"deadline {name}")
        self.open_entry(name, ("endings", name), DEADLINE)

    def refresh(self, problem: Problem) -> None:
        """Show endings, measure, clock."""
        task, timing = problem.task, problem.task.timing
        self.rows.clear()
        tally = self.station.tally()
        for name, ending in task.endings.items():
            fields = DEADLINE if ending.deadline is not None else ENDING
            line = QWidget()
            row = QHBoxLayout(line)
            row.setContentsMargins(0, 0, 0, 0)
            row.addWidget(Stripe("moss" if ending.kind == "success" else "rust"))
            row.addWidget(name_button(name, lambda n=name, f=fields: self.open_entry(n, ("endings", n), f)))
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
        self.clock.setText(f"physics {timing.control_rate * timing.substeps:g} Hz, up to {timing.steps} commands")


def _clock(key: str, value: float) -> object:
    return round(value) if key == "substeps" else f"{value:g} {'Hz' if key == 'control_rate' else 's'}"


def _free(name: str, taken: Any) -> str:
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


TERM = [
    Field("formula", "formula", "formula", default="1"), Field("weight", "weight", default="1"),
    Field("pay", "paid", "choice", ("each second", "each step"), "each second"), Field("muted", "muted", "switch", default=False),
]  # fmt: skip
EVENT_TERM = [
    Field("formula", "formula", "formula", default="1"), Field("event", "when this begins", "formula"), Field("weight", "weight", default="1"),
    Field("muted", "muted", "switch", default=False),
]  # fmt: skip
ENDING_TERM = [
    Field("formula", "formula", "formula", default="1"), Field("ending", "ending"), Field("weight", "weight", default="1"),
    Field("muted", "muted", "switch", default=False),
]  # fmt: skip


class PayCard(EditCard):
    """What it is paid for, and what each term paid."""

    def __init__(self, station: TaskStation) -> None:
        super().__init__("What it is paid for", station)
        self.rows = Rows((2, 11, 0, 0, 4, 3, 0), spacing=3)
        self.body.addWidget(scrolled(self.rows), 1)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        self.body.addWidget(self.wrong)
        foot = QHBoxLayout()
        self.adding, self.menu = menu_button("Add a term")
        self.menu.aboutToShow.connect(self._fill)
        foot.addWidget(self.adding)
        foot.addWidget(button("formula reference", station.show_reference, "link"))
        foot.addStretch(1)
        self.advice = label("", "soft")
        foot.addWidget(self.advice)
        self.body.addLayout(foot)
        self.sparks: list[Spark] = []

    def _fill(self) -> None:
        self.menu.clear()
        problem = self.station.bench.problem
        for wish in wishes(problem) if problem is not None else []:
            self.menu.addAction(f"{wish.name}: {wish.purpose}", lambda w=wish: self.add(w.name, w.term))

    def add(self, name: str, term: dict[str, Any]) -> None:
        """A term to start from."""
        problem = self.station.bench.problem
        assert problem is not None
        name = _free(name, problem.task.rewards)
        self.append(("rewards", name), term, f"term {name}")
        self._open_term(name)

    def _open_term(self, name: str) -> None:
        problem = self.station.bench.problem
        if problem is None or name not in problem.task.rewards:
            return
        pay = problem.task.rewards[name].pay
        fields = {"on event": EVENT_TERM, "at ending": ENDING_TERM}.get(pay, TERM)
        self.open_entry(name, ("rewards", name), fields)

    def refresh(self, problem: Problem) -> None:
        """Show all terms."""
        station = self.station
        self.rows.clear()
        self.sparks = []
        trials = station.rehearsed()
        paid = (
            trials.terms.mean(axis=0) if trials is not None and trials.terms.shape[1] == len(problem.rewards) else None
        )
        recording = station.bench.playback.recording
        course = (
            recording.terms if recording is not None and recording.terms.shape[1:] == (len(problem.rewards),) else None
        )
        self.note.setText(
            f"mean of {len(trials.score)} episodes, {trials.driver}" if trials is not None and paid is not None
            else "rehearse to see what each term pays"
        )  # fmt: skip
        heads = [
            "term",
            "formula",
            "weight",
            "when",
            "in this episode" if course is not None else "",
            "paid over an episode" if paid is not None else "",
            "",
        ]
        self.rows.add(*[label(h, "soft") for h in heads])
        most = float(np.abs(paid).max()) if paid is not None else 1.0
        for k, (name, reward) in enumerate(problem.task.rewards.items()):
            role = SERIES[k % 5]
            cells: list[QWidget | None] = [
                name_button(name + ("  (muted)" if reward.muted else ""), lambda n=name: self._open_term(n))
            ]
            cells += [self._formula(name, reward, problem), self._weight(name, reward)]
            when = {"at ending": f"at {reward.ending}", "on event": "on event"}.get(
                reward.pay, reward.pay.removeprefix("each ")
            )
            cells.append(label(when, "soft"))
            spark = Spark(course[:, k], role) if course is not None else None
            if spark is not None:
                self.sparks.append(spark)
            cells.append(spark)
            if paid is not None:
                value = float(paid[k])
                text = f"{value:+.1f}".replace("-", "−") if abs(value) >= 0.05 else "0"
                cells += [ShareBar(value, most, role), label(text, "strong")]
            self.rows.add(*cells)
        if paid is not None:
            total = label(f"{float(paid.sum()):+.1f}".replace("-", "−"), "strong")
            self.rows.add(label("sum = score", "strong"), None, None, None, None, None, total)
        self.rows.finish()
        self.advice.setText(station.advice())

    def _formula(self, name: str, reward: Any, problem: Problem) -> QWidget:
        if reward.pay == "at ending" and reward.formula == "1":
            return label("once", "soft")
        field = FormulaField(f"{name} formula")
        field.set_problem(problem)
        field.show_formula(reward.formula)
        field.settled.connect(
            lambda text: self.station.change(("rewards", name, "formula"), text, f"formula of {name}", field)
        )
        field.judged.connect(lambda: self.say(field.problem_text))
        return field

    def _weight(self, name: str, reward: Any) -> QWidget:
        weight = QuantityField("", f"{name} weight")
        weight.setFixedWidth(56)
        weight.show_value(reward.weight)
        weight.edited.connect(
            lambda v, _t: self.station.change(("rewards", name, "weight"), v, f"weight of {name}: {v:g}")
        )
        return weight

    def say(self, text: str) -> None:
        """What is wrong with what is typed."""
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))

    def show_index(self, share: float) -> None:
        """Hands on the courses."""
        for spark in self.sparks:
            spark.show_at(share)
