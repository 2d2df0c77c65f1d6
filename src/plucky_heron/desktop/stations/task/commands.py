"""The card of commands, starts and variation, with fifty starts over each other."""

from __future__ import annotations

import time
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QPainter, QPaintEvent, QPixmap
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QMenu, QWidget

from plucky_heron.desktop.charts.gauges import Gauge
from plucky_heron.desktop.forms.entry_sheet import Field
from plucky_heron.desktop.forms.widgets import ElidedLabel, Rows, label, scrolled
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.stations.task.cards import EditCard, free_name, menu_button, name_button
from plucky_heron.desktop.stations.task.model import TaskModel
from plucky_heron.desktop.theme import theme
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import Problem
from plucky_heron.task.wording import drawable, in_words
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import pretty_unit, short_time, show, whole_number

Array = np.ndarray

FAN = 50
"""Starts that are overlaid."""
_TURN = 0.012
"""Seconds of painting in one turn of the event loop."""

ACTION = [
    Field("name", "name"), Field("drive", "drive"), Field("limits", "limits", "pair"), Field("positive", "positive is"),
    Field("kind", "gives", "choice", ("value", "increment"), "value"), Field("within", "within", "pair", hint="of an increment"),
    Field("rate_limit", "rate limit", default="", hint="such as 2 rad/s**2"), Field("smoothing", "smoothing", default="0 s"),
    Field("mirrored", "in the mirror", default="", hint="same; or negated, or the other side's name"),
]  # fmt: skip

SETPOINT = [
    Field("how", "drawn", "choice", ("uniform", "normal", "choice", "fixed"), "uniform"),
    Field("values", "values", "line", hint="such as −4 m, 4 m"), Field("nominal", "nominal"), Field("proving", "in proofs", hint="low, high"),
]  # fmt: skip


class CommandsCard(EditCard):
    """What the policy commands, and how episodes start."""

    def __init__(self, model: TaskModel) -> None:
        super().__init__("Actions", model)
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
        foot = QHBoxLayout()
        self.commanding, self.command_menu = menu_button("Add a command")
        self.command_menu.aboutToShow.connect(self._fill_commands)
        self.drawing_more, self.draw_menu = menu_button("Vary something")
        self.draw_menu.aboutToShow.connect(self._fill_draws)
        self.fan = Fan()
        self.body.addWidget(self.fan, 3)
        self.draws = Rows((4, 5), spacing=2)
        self.body.addWidget(scrolled(self.draws), 3)
        foot.addWidget(self.commanding)
        foot.addWidget(self.drawing_more)
        foot.addStretch(1)
        self.body.addLayout(foot)
        self.foot = (self.commanding, self.drawing_more)
        self.gauges: list[Gauge] = []

    def _fill_commands(self) -> None:
        self.command_menu.clear()
        problem = self.model.bench.problem
        if problem is None:
            return
        used = {action.drive for action in problem.task.actions} | set(problem.task.mixing)
        for drive in problem.machine.drives:
            if drive not in used:
                self.command_menu.addAction(drive, lambda d=drive: self.add_command(d))
        if self.command_menu.isEmpty():
            self.command_menu.addAction("every drive is commanded").setEnabled(False)

    def add_command(self, drive: str) -> None:
        """Command one drive more."""
        problem = self.model.bench.problem
        assert problem is not None
        at = len(problem.task.actions)
        self.append(("actions", at), {"name": drive, "drive": drive}, f"command {drive}")
        self.open_entry(drive, ("actions", at), ACTION)

    def _fill_draws(self) -> None:
        self.draw_menu.clear()
        problem = self.model.bench.problem
        if problem is None:
            return
        groups: dict[str, QMenu] = {}
        for group, title, key, draw in drawable(problem):
            if group not in groups:
                groups[group] = self.draw_menu.addMenu(group)
            groups[group].addAction(title, lambda k=key, d=draw: self.add_draw(k, d))
        self.draw_menu.addSeparator()
        self.draw_menu.addAction("a set-point, from outside", self.add_setpoint)

    def add_draw(self, key: tuple[str, str], draw: dict[str, Any]) -> None:
        """Draw one thing more."""
        self.append(key, draw, f"vary {key[1]}")
        self.open_draw(*key)

    def add_setpoint(self) -> None:
        """A wish from outside to start from."""
        problem = self.model.bench.problem
        assert problem is not None
        name = free_name("wanted", problem.task.setpoints)
        self.append(("setpoints", name), {"unit": "m/s", "draw": {"uniform": ["0 m/s", "1 m/s"]}}, f"set-point {name}")
        self.open_draw("setpoints", name)

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
            more = [f"+ {command.positive}" if command.positive else "", f"lag {short_time(lag)}" if lag else ""]
            more += [
                "mixed" if command.drive < 0 and not command.choice else "",
                "adds up" if command.increment else "",
            ]
            more += [f"at most {show(command.rate_limit)} {pretty_unit(command.unit)}/s" if command.rate_limit else ""]
            more += [f"smoothed {short_time(command.smoothing)}" if command.smoothing else ""]
            key = ("actions", command.action)
            fields = ACTION if not command.choice else [Field("name", "name")]
            self.rows.add(name_button(command.name, partial(self.open_entry, command.name, key, fields)), gauge)
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
                name_button(draw.target, partial(self.open_draw, where, draw.target)), ElidedLabel(text, "soft")
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
        chooser = self.sheet.editors["how"]
        assert isinstance(chooser, QComboBox)
        chooser.setCurrentText(how)
        for field, text in (("values", values), ("nominal", nominal), ("proving", proving)):
            editor = self.sheet.editors[field]
            assert isinstance(editor, QLineEdit)
            editor.setText(text)
            editor.setProperty("shown", text)

    def _written(self, key: tuple[str | int, ...]) -> tuple[str, str, str, str]:
        value: Any = self.model.bench.document("tasks")
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
        wrong = self.model.change(key, table, f"{key[1]}: {field}")
        if self.sheet is not None:
            self.sheet.say(wrong)

    def show_index(self, row: Array | None) -> None:
        """Hands at one sample's commands."""
        for k, gauge in enumerate(self.gauges):
            gauge.show_met(None, float(row[k]) if row is not None and k < len(row) else None)


def _plain(text: str) -> object:
    """A number where it is one, else the text with its unit."""
    text = text.strip()
    if (whole := whole_number(text)) is not None:
        return whole
    try:
        return float(text)
    except ValueError:
        return text


class Fan(QWidget):
    """Fifty starts over each other, painted a few at a time so that the window goes on meanwhile."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumHeight(70)
        self.setAccessibleName("starts overlaid")
        self._problem: Problem | None = None
        self._picture: QPixmap | None = None
        self._drawing: Drawing | None = None
        self.painted = 0
        """How many starts stand on the picture."""
        self.positions: Array = np.zeros((0, 0))
        self._timer = QTimer(self)
        self._timer.setInterval(0)
        self._timer.timeout.connect(self._more)

    def show_problem(self, problem: Problem) -> None:
        """Draw other starts."""
        if self._problem is not None and self._problem.fingerprint() == problem.fingerprint():
            return
        self._problem, self._picture = problem, None
        self.positions = np.zeros((0, 0))

        def starts(_: Job) -> tuple[Problem, Array, Array]:
            batch = Batch(problem, FAN, EVALUATION_SEED, "rehearsal", threads=1)
            batch.start(np.arange(FAN))
            return problem, batch.plant.position.copy(), batch.plant.scene.copy()

        job = Job("starts", starts, self)
        job.done.connect(self._drawn)
        self._job = job.start()

    def _drawn(self, found: tuple[Problem, Array, Array]) -> None:
        problem, positions, scene = found
        if problem is self._problem:
            self.positions, self.scene_number = positions, int(scene[0])
            self._shown = np.flatnonzero(scene == scene[0])
            self._picture = None
            self.update()

    def resizeEvent(self, event: object) -> None:
        """Painted anew at another size."""
        self._picture = None

    def paintEvent(self, event: QPaintEvent) -> None:
        """The picture, as far as it has come."""
        if self._problem is None or not len(self.positions) or self.width() < 20:
            return
        if self._picture is None:
            self._begin(self._problem)
        if self._picture is not None:
            QPainter(self).drawPixmap(0, 0, self._picture)

    def _begin(self, problem: Problem) -> None:
        """The site without a machine."""
        ratio = self.devicePixelRatioF()
        picture = QPixmap(int(self.width() * ratio), int(self.height() * ratio))
        picture.setDevicePixelRatio(ratio)
        picture.fill(theme().color("paper"))
        drawing = Drawing(None)
        drawing.setMinimumSize(0, 0)  # else what is lower would be cut off
        drawing.resize(self.width(), self.height())
        drawing.set_problem(problem)
        drawing.set_pose(self.positions[self._shown].mean(axis=0))  # in the middle of all starts
        assert drawing.scene is not None
        painter = QPainter(picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        drawing.scene.paint_site(painter, drawing.frame(), self.scene_number)
        painter.end()
        self._picture, self._drawing, self.painted = picture, drawing, 0
        self._timer.start()

    def _more(self) -> None:
        """Some starts more, for as long as nobody would notice."""
        if self._picture is None or self._drawing is None or self.painted >= len(self._shown):
            self._timer.stop()
            return
        scene = self._drawing.scene
        assert scene is not None
        painter = QPainter(self._picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setOpacity(0.5)
        end = time.perf_counter() + _TURN
        while self.painted < len(self._shown) and time.perf_counter() < end:
            scene.paint_machine(painter, self._drawing.frame(), self.positions[self._shown[self.painted]], ghost=True)
            self.painted += 1
        painter.end()
        self.update()
