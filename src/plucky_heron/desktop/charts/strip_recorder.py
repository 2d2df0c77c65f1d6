"""The strip recorder: a paper chart of the episode's signals, scrubbed together with the drawing."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.playback import SPEEDS, Playback
from plucky_heron.desktop.forms.widgets import ElidedLabel, button, label
from plucky_heron.desktop.theme import SERIES, font, theme
from plucky_heron.runs.looking import Looked
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.observing import Entry
from plucky_heron.task.problem import Problem
from plucky_heron.units import factor_to_si, pretty_unit

Array = np.ndarray
_LEFT, _RANGE, _BOTTOM = 118, 44, 20


@dataclass(frozen=True)
class Trace:
    """One row of the chart."""

    name: str
    unit: str
    values: Array
    low: float
    high: float
    role: str
    band: tuple[Array, Array] | None = None
    """Around the values, drawn as a wash: how far a command would be spread, or how far critics disagree."""
    beside: Array | None = None
    """A second line, dashed: what came, beside what was expected."""


def traces_of(problem: Problem, recording: Recording, names: list[str]) -> list[Trace]:
    """Rows for observations, commands and reward terms; angles are shown in degrees."""
    found = []
    for name in names:
        k = next((k for k, e in enumerate(problem.entries) if e.name == name), -1)
        a = next((a for a, c in enumerate(problem.commands) if c.name == name), -1)
        if k >= 0:
            o = problem.entries[k]
            unit = {"rad": "deg", "rad/s": "deg/s"}.get(o.si, o.si)
            factor = factor_to_si(unit) if unit else 1.0
            values = recording.observations[:, k] / factor
            found.append((name, unit, values, *nice_range(values, o.low / factor, o.high / factor)))
        elif a >= 0:
            values = (
                np.concatenate([recording.commands[:1, a] * 0, recording.commands[:, a]])
                if recording.steps
                else np.zeros(1)
            )
            found.append((name, problem.commands[a].unit, values, float(problem.low[a]), float(problem.high[a])))
        else:
            paid = np.concatenate([[0.0], recording.terms.sum(axis=1)])
            bound = max(0.05, float(np.percentile(np.abs(paid), 98)) if len(paid) else 0.05)
            found.append((name, "", paid, -bound, bound))
    return [Trace(n, u, v, lo, hi, SERIES[k % len(SERIES)]) for k, (n, u, v, lo, hi) in enumerate(found)]


VALUE = "critic's value"


def with_looked(problem: Problem, traces: list[Trace], looked: Looked) -> list[Trace]:
    """The traces with what critics and policy say: a row of their own above the last for the value, a band about each command."""
    worth, found = looked.worth, []
    for trace in traces:
        a = next((a for a, c in enumerate(problem.commands) if c.name == trace.name), -1)
        if a >= 0 and worth.low is not None and worth.high is not None:
            ends = [np.concatenate([e[:1, a] * 0, e[:-1, a]]) for e in (worth.low, worth.high)]
            trace = replace(trace, band=(ends[0], ends[1]))
        found.append(trace)
    mean = worth.values.mean(axis=1)
    band = (worth.values.min(axis=1), worth.values.max(axis=1)) if worth.values.shape[1] > 1 else None
    both = np.concatenate([mean, looked.came])
    low, high = min(float(both.min()), 0.0), max(float(both.max()), 0.0)
    room = 0.05 * (high - low) or 1.0
    value = Trace(VALUE, "", mean, low - room * (low < 0.0), high + room * (high > 0.0), "plum", band, looked.came)
    return [*found[:-1], value, found[-1]]


def sensor_traces(problem: Problem, recording: Recording, rows: int) -> list[Trace]:
    """Rows of what the sensors said: of each sensor what moves most, of a fan of beams the nearest."""
    if recording.sensed is None or not recording.sensed.shape[1]:
        return []
    first = 0
    found: list[tuple[float, str, str, Array]] = []
    for name, sensor in problem.machine.sensors.items():
        channels = sensor.channels(name, problem.machine.joints)
        values = recording.sensed[:, first : first + len(channels)]
        first += len(channels)
        if sensor.kind == "beams":
            found.append((1.0, f"{name} nearest", "m", values.min(axis=1)))
            continue
        spread = np.ptp(values, axis=0) if len(values) else np.zeros(len(channels))
        for place, k in enumerate(np.argsort(-spread, kind="stable")[: 1 if len(channels) < 6 else 3]):
            found.append((1.0 / (place + 1), channels[k][0], channels[k][1], values[:, k]))
    # every sensor's first row before any second one, in the order of the machine
    chosen = sorted(sorted(range(len(found)), key=lambda k: -found[k][0])[:rows])
    traces = []
    for row, k in enumerate(chosen):
        _, name, si, values = found[k]
        unit = {"rad": "deg", "rad/s": "deg/s"}.get(si, si)
        values = values / (factor_to_si(unit) if unit else 1.0)
        low, high = float(values.min(initial=0.0)), float(values.max(initial=0.0))
        room = 0.05 * (high - low) or 1.0
        traces.append(Trace(name, unit, values, low - room * (low < 0.0), high + room, SERIES[row % len(SERIES)]))
    return traces


def nice_range(values: Array, low: float, high: float) -> tuple[float, float]:
    """What to show of a signal: its stated range, or the round part of it around zero that it keeps to."""
    most = float(np.abs(values).max(initial=0.0))
    if not low < 0 < high or not 0.0 < most < np.inf:
        return low, high
    power = 10.0 ** np.floor(np.log10(most))
    bound = next((s * power for s in (1, 1.5, 2, 3, 5, 7) if s * power >= most), 10 * power)
    return max(low, -bound), min(high, bound)


def usual_names(problem: Problem) -> list[str]:
    """What an engineer looks at first: three sensed signals, the commands, the reward.

    Wishes from outside come first, single numbers before the items of a list, places and angles before speeds.
    """
    first: dict[int, int] = {}
    for entry in problem.entries:  # of a stack, the newest
        first.setdefault(entry.source, entry.samples_ago)
    newest = [e for e in problem.entries if not e.formula.startswith("action.") and e.samples_ago == first[e.source]]
    counts = {e.source: sum(o.source == e.source for o in newest) for e in newest}
    slow = ("position", "speed", "rate", "length")
    wishes = problem.task.setpoints

    def later(e: Entry) -> tuple[bool, bool, bool, bool]:
        wished = e.formula in wishes
        return e.critic_only, not wished, counts[e.source] > 3, not wished and any(word in e.name for word in slow)

    order = sorted(newest, key=later)
    sensed = [e.name for e in order[:3]]
    return [*sensed, *[c.name for c in problem.commands], "reward a step"]


class StripChart(QWidget):
    """The paper itself."""

    def __init__(self, playback: Playback, parent: QWidget | None = None, sensors: bool = False) -> None:
        super().__init__(parent)
        self.playback, self.sensors = playback, sensors
        self.names: list[str] = []
        self.traces: list[Trace] = []
        self._picture: QPixmap | None = None
        self._picture_key: object = None
        self.setMinimumHeight(120)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("strip recorder")
        playback.loaded.connect(self._loaded)
        playback.grown.connect(self._loaded)
        playback.moved.connect(lambda _: self.update())
        self._loaded()

    def _loaded(self) -> None:
        problem, recording = self.playback.problem, self.playback.recording
        self.traces, self._picture = [], None
        if problem is not None and recording is not None:
            self.names = usual_names(problem)
            rows = max(2, min(len(self.names), (max(self.height(), 150) - _BOTTOM) // 33))
            looked = self.playback.looked
            rows -= looked is not None and rows <= len(self.names) and rows > 2
            names = self.names if rows >= len(self.names) else [*self.names[: rows - 1], self.names[-1]]
            said = sensor_traces(problem, recording, rows) if self.sensors else []
            self.traces = said or traces_of(problem, recording, names)
            if looked is not None and not said:
                self.traces = with_looked(problem, self.traces, looked)
        self.update()

    def resizeEvent(self, event: object) -> None:
        """Another height shows another number of rows."""
        self._loaded()

    def _span(self) -> float:
        recording, problem = self.playback.recording, self.playback.problem
        if recording is None or problem is None:
            return 1.0
        return max(problem.task.timing.time_limit, recording.steps * recording.sample_time)

    def _x(self, seconds: float) -> float:
        return _LEFT + _RANGE + seconds / self._span() * (self.width() - _LEFT - _RANGE - 14)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Rows, ruled paper, traces, endings, the hand."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        recording = self.playback.recording
        if recording is None or not self.traces:
            painter.setPen(t.color("soft"))
            painter.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                "Nothing is playing: let go, rehearse, replay a trial, or drive it yourself",
            )
            return
        bottom = self.height() - _BOTTOM
        height = bottom / len(self.traces)
        # all that stands still is painted once: while it plays, only the numbers and the hand move
        key = (self.width(), self.height(), self.devicePixelRatioF(), t)
        if self._picture is None or key != self._picture_key:
            ratio = self.devicePixelRatioF()
            self._picture_key, self._picture = key, QPixmap(self.size() * ratio)
            self._picture.setDevicePixelRatio(ratio)
            self._picture.fill(Qt.GlobalColor.transparent)
            paper = QPainter(self._picture)
            paper.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paper(paper, bottom)
            for row, trace in enumerate(self.traces):
                self._row(paper, trace, row * height, height, recording)
            self._ending(paper, recording, bottom)
            paper.end()
        painter.drawPixmap(0, 0, self._picture)
        for row, trace in enumerate(self.traces):
            self._now(painter, trace, row * height, height)
        x = self._x(self.playback.time)
        painter.setPen(QPen(t.color("ink"), 1.6))
        painter.drawLine(QPointF(x, 0), QPointF(x, bottom))
        painter.setBrush(t.color("ink"))
        painter.drawPolygon(QPolygonF([QPointF(x - 5, 0), QPointF(x + 5, 0), QPointF(x, 7)]))

    def _paper(self, painter: QPainter, bottom: float) -> None:
        t = theme()
        span = self._span()
        step = next(s for s in (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 60, 1e9) if span / s <= 8)
        painter.setFont(font(11))
        for k in range(int(span / (step / 4)) + 1):
            x = self._x(k * step / 4)
            painter.setPen(QPen(t.color("rule" if k % 4 == 0 else "faint"), 1))
            painter.drawLine(QPointF(x, 0), QPointF(x, bottom))
            if k % 4 == 0:
                painter.setPen(t.color("soft"))
                painter.drawText(
                    QRectF(x - 30, bottom + 3, 60, 15), Qt.AlignmentFlag.AlignCenter, f"{k * step / 4:g} s"
                )

    def _row(self, painter: QPainter, trace: Trace, top: float, height: float, recording: Recording) -> None:
        t = theme()
        painter.setPen(QPen(t.color("rule"), 1))
        painter.drawLine(QPointF(4, top + height), QPointF(self.width() - 8, top + height))
        inner, low, high = height - 10, trace.low, trace.high

        def y(value: float) -> float:
            return top + 5 + inner * (1.0 - (min(max(value, low), high) - low) / (high - low))

        if low < 0 < high:
            painter.setPen(QPen(t.color("heron", 0.8), 1))
            painter.drawLine(QPointF(self._x(0), y(0)), QPointF(self.width() - 14, y(0)))
        values = trace.values
        every = max(1, len(values) // 900)

        def line(values: Array) -> list[QPointF]:
            return [
                QPointF(self._x(k * recording.sample_time), y(float(values[k]))) for k in range(0, len(values), every)
            ]

        if trace.band is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color(trace.role, 0.18))
            painter.drawPolygon(QPolygonF([*line(trace.band[0]), *reversed(line(trace.band[1]))]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if trace.beside is not None:
            painter.setPen(QPen(t.color("ink", 0.7), 1.2, Qt.PenStyle.DashLine))
            painter.drawPolyline(QPolygonF(line(trace.beside)))
        painter.setPen(QPen(t.color(trace.role), 1.5))
        painter.drawPolyline(QPolygonF(line(values)))
        painter.setFont(font(12))
        painter.setPen(t.color("ink"))
        two = height >= 31
        painter.drawText(
            QRectF(12, top + (height / 2 - 16 if two else 0), _LEFT - 14, 16 if two else height),
            Qt.AlignmentFlag.AlignVCenter,
            trace.name,
        )
        if height >= 30:
            painter.setFont(font(10))
            painter.setPen(t.color("soft"))
            place = QRectF(_LEFT, top + 2, _RANGE - 5, 12)
            painter.drawText(place, Qt.AlignmentFlag.AlignRight, f"{high:+.3g}".replace("-", "−"))
            painter.drawText(
                place.translated(0, height - 16), Qt.AlignmentFlag.AlignRight, f"{low:+.3g}".replace("-", "−")
            )

    def _now(self, painter: QPainter, trace: Trace, top: float, height: float) -> None:
        """The value at the hand."""
        t, values, high = theme(), trace.values, trace.high
        now = float(values[min(self.playback.index, len(values) - 1)])
        two = height >= 31
        painter.setFont(font(12, bold=True))
        painter.setPen(t.color("ink"))
        digits = 0 if abs(high) >= 100 else 1 if abs(high) >= 10 else 2
        text = f"{now:+.{digits}f} {pretty_unit(trace.unit)}".replace("-", "−")
        if trace.beside is not None:
            text += f"came {float(trace.beside[min(self.playback.index, len(values) - 1)]):+.{digits}f}".replace(
                "-", "−"
            )
        if two:
            painter.drawText(QRectF(12, top + height / 2, _LEFT - 14, 16), Qt.AlignmentFlag.AlignVCenter, text)
        else:
            painter.drawText(
                QRectF(12, top, _LEFT - 14, height), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, text
            )

    def _ending(self, painter: QPainter, recording: Recording, bottom: float) -> None:
        if not recording.ending:
            return
        t = theme()
        x = self._x(recording.steps * recording.sample_time)
        problem = self.playback.problem
        ending = problem.task.endings.get(recording.ending) if problem is not None else None
        measure = problem.task.measure.name if problem is not None else "success"
        timed = recording.ending == "time is up"
        if timed and recording.stream == "let go":
            return
        reached = recording.success if timed else ending is not None and ending.kind == "success"
        failed = not timed and not reached
        text = recording.ending if not timed else measure if reached else f"not: {measure}"
        painter.setPen(QPen(t.color("rust" if failed else "moss" if reached else "heron"), 1.6, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, 0), QPointF(x, bottom))
        painter.setFont(font(12, bold=True))
        width = painter.fontMetrics().horizontalAdvance(text)
        at = x + 5 if x + 10 + width < self.width() else x - width - 6
        painter.fillRect(QRectF(at - 2, 1, width + 4, 15), t.color("card", 0.85))
        painter.setPen(t.color("ink"))
        painter.drawText(QPointF(at, 13), text)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Scrub."""
        self._scrub(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Scrub."""
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._scrub(event.position().x())

    def _scrub(self, x: float) -> None:
        recording = self.playback.recording
        if recording is None:
            return
        seconds = (x - self._x(0)) / (self._x(1.0) - self._x(0.0))
        self.playback.pause()
        self.playback.seek(round(seconds / recording.sample_time))


class StripRecorder(QWidget):
    """Transport above, paper below; with `sensors` it shows what the sensors said, where that was kept."""

    def __init__(self, playback: Playback, parent: QWidget | None = None, sensors: bool = False) -> None:
        super().__init__(parent)
        self.playback = playback
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        head = QHBoxLayout()
        head.setContentsMargins(10, 4, 10, 0)
        head.setSpacing(4)
        self.start = button("|◂", playback.rewind, "tool", "back to the start")
        self.back = button("◂", lambda: playback.step(-1), "tool", "one sample back")
        self.play = button("▶", playback.toggle, "tool", "play")
        self.forward = button("▸", lambda: playback.step(1), "tool", "one sample on")
        self.rate = button("×1", self._next_speed, "tool", "speed")
        for widget in (self.start, self.back, self.play, self.forward, self.rate):
            head.addWidget(widget)
        self.title = ElidedLabel("", "")
        head.addSpacing(8)
        head.addWidget(self.title, 1)
        layout.addLayout(head)
        self.chart = StripChart(playback, sensors=sensors)
        layout.addWidget(self.chart, 1)
        playback.loaded.connect(self._loaded)
        playback.played.connect(lambda on: self.play.setText("❚❚" if on else "▶"))
        self._loaded()

    def _loaded(self) -> None:
        self.title.setText(self.playback.title or "no episode")

    def _next_speed(self) -> None:
        playback = self.playback
        playback.set_speed(SPEEDS[(SPEEDS.index(playback.speed) + 1) % len(SPEEDS)])
        self.rate.setText(f"×{playback.speed:g}")


class Ledger(QWidget):
    """The score ledger: what each reward term gave up to now, a bar a term; the sum is the score."""

    def __init__(self, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.playback = playback
        self.setMinimumHeight(90)
        self.setAccessibleName("score ledger")
        playback.loaded.connect(self.update)
        playback.moved.connect(lambda _: self.update())

    def sums(self) -> dict[str, float]:
        """Reward so far by term."""
        problem, recording = self.playback.problem, self.playback.recording
        if problem is None or recording is None:
            return {}
        paid = recording.terms[: self.playback.index].sum(axis=0)
        return dict(zip(problem.task.rewards, map(float, paid), strict=True))

    def now(self) -> list[float]:
        """Reward in the step before the present sample, by term."""
        recording = self.playback.recording
        if recording is None or not recording.steps or self.playback.index == 0:
            return []
        return [float(value) for value in recording.terms[min(self.playback.index, recording.steps) - 1]]

    def paintEvent(self, event: QPaintEvent) -> None:
        """One row a term: bar, this step, so far; and the sums."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        sums = self.sums()
        recording = self.playback.recording
        if not sums or recording is None:
            painter.setPen(t.color("soft"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "No episode yet: rehearse or drive")
            return
        whole = np.abs(recording.terms.sum(axis=0)).max()
        scale = (self.width() - 300) / 2 / max(whole, 1e-9)
        row = min(24.0, (self.height() - 42) / len(sums))
        zero = 110 + (self.width() - 300) / 2 + 10
        step = self.now()
        painter.setFont(font(11))
        painter.setPen(t.color("soft"))
        right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(self.width() - 150, 0, 76, 14), right, "this step")
        painter.drawText(QRectF(self.width() - 70, 0, 70, 14), right, "so far")
        painter.translate(0, 15)
        for k, (name, value) in enumerate(sums.items()):
            self._term(painter, k * row, row, name, value, zero, value * scale, step[k] if step else None)
        y = len(sums) * row
        painter.setPen(QPen(t.color("rule"), 1))
        painter.drawLine(QPointF(0, y + 2), QPointF(self.width(), y + 2))
        painter.setPen(t.color("ink"))
        painter.setFont(font(13, bold=True))
        painter.drawText(QRectF(0, y + 4, 300, 20), Qt.AlignmentFlag.AlignVCenter, "sum = score so far")
        total = f"{sum(sums.values()):+.1f}".replace("-", "−")
        painter.drawText(QRectF(self.width() - 70, y + 4, 70, 20), right, total)
        if step:
            painter.setFont(font(13))
            painter.drawText(QRectF(self.width() - 150, y + 4, 76, 20), right, f"{sum(step):+.3f}".replace("-", "−"))

    def _term(
        self,
        painter: QPainter,
        y: float,
        row: float,
        name: str,
        value: float,
        zero: float,
        length: float,
        step: float | None,
    ) -> None:
        t = theme()
        right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        size = 13 if row >= 15.0 else 11  # and nothing is cut where rows stand close
        painter.setFont(font(size))
        painter.setPen(t.color("ink"))
        words = painter.fontMetrics().elidedText(name.replace("_", " "), Qt.TextElideMode.ElideRight, 106)
        painter.drawText(QRectF(0, y - 3, 106, row + 6), Qt.AlignmentFlag.AlignVCenter, words)
        bar = QRectF(zero, y + row / 2 - 5, length, 10).normalized()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("moss" if value >= 0 else "plum"))
        painter.drawRect(bar)
        if value < 0 and bar.width() > 2:  # what was taken is hatched too, not only coloured
            painter.setBrush(t.color("card", 0.55))
            for x in np.arange(bar.left(), bar.right(), 6.0):
                painter.drawRect(QRectF(x, bar.top(), 2, bar.height()))
        painter.setPen(QPen(t.color("ink"), 1))
        painter.drawLine(QPointF(zero, y + 3), QPointF(zero, y + row - 3))
        painter.setFont(font(size, bold=True))
        text = f"{value:+.1f}".replace("-", "−") if abs(value) >= 0.05 else "0"
        painter.drawText(QRectF(self.width() - 70, y - 3, 70, row + 6), right, text)
        if step is not None:
            painter.setFont(font(size))
            painter.setPen(t.color("soft"))
            text = f"{step:+.3f}".replace("-", "−") if abs(step) >= 5e-4 else "0"
            painter.drawText(QRectF(self.width() - 150, y - 3, 76, row + 6), right, text)


__all__ = ["Ledger", "StripRecorder", "label", "traces_of", "usual_names"]
