"""Driving by hand: sliders for commands and set-points, slow motion, pause, single steps; and rules written as formulas."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QSlider, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.live import Person
from plucky_heron.desktop.forms.formula_field import FormulaField
from plucky_heron.desktop.forms.widgets import Choice, Rows, button, label, scrolled
from plucky_heron.task.problem import Problem
from plucky_heron.units import pretty_unit, show

PACES = (1.0, 0.5, 0.25, 0.1)
_FINE = 1000


class ValueSlider(QWidget):
    """A slider over a range in SI, with its value beside it; a double click brings it back to where it began."""

    moved = Signal(float)

    def __init__(self, name: str, unit: str, low: float, high: float, value: float) -> None:
        super().__init__()
        self.unit, self.low, self.high = unit, low, high
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, _FINE)
        self.slider.setAccessibleName(name)
        self.shown = label("", "soft")
        self.shown.setFixedWidth(84)
        self.shown.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        line.addWidget(self.slider, 1)
        line.addWidget(self.shown)
        self.set_value(value)
        self.slider.valueChanged.connect(self._moved)

    @property
    def value(self) -> float:
        """In SI."""
        return self.low + (self.high - self.low) * self.slider.value() / _FINE

    def set_value(self, value: float) -> None:
        """Move without telling."""
        self.slider.blockSignals(True)
        self.slider.setValue(round(_FINE * (value - self.low) / max(self.high - self.low, 1e-12)))
        self.slider.blockSignals(False)
        self._show()

    def _moved(self) -> None:
        self._show()
        self.moved.emit(self.value)

    def _show(self) -> None:
        self.shown.setText(f"{show(self.value)} {pretty_unit(self.unit)}")


class DrivePanel(QWidget):
    """What is at hand while a person drives.

    Signals
    -------
    restarted()
        Back to the start is asked for.
    """

    restarted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.person: Person | None = None
        self.sliders: list[ValueSlider] = []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.rows = Rows((2, 5), spacing=4)
        layout.addWidget(scrolled(self.rows), 1)
        line = QHBoxLayout()
        self.pausing = button("Pause", self.pause)
        line.addWidget(self.pausing)
        line.addWidget(button("One step", self.step))
        line.addWidget(button("To the start", self.restarted.emit))
        self.pace = Choice("pace")
        self.pace.addItems([f"×{pace:g}" for pace in PACES])
        self.pace.activated.connect(self._paced)
        line.addWidget(self.pace)
        line.addStretch(1)
        layout.addLayout(line)

    def show_person(self, person: Person) -> None:
        """Sliders for another episode; what they stood at stays."""
        problem = person.problem
        before = [s.value for s in self.sliders] if self.person is not None and self.person.problem is problem else []
        self.person = person
        self.rows.clear()
        self.sliders = []
        for k, command in enumerate(problem.commands):
            start = before[k] if k < len(before) else float(person.held[k])
            slider = ValueSlider(command.name, command.unit, command.low, command.high, start)
            slider.moved.connect(lambda value, k=k: self._command(k, value))
            self._command(k, start)
            self.sliders.append(slider)
            self.rows.add(label(command.name, "strong"), slider)
        for draw in problem.draws:
            if draw.kind == "setpoint":
                low, high = _span(problem, draw.target)
                slider = ValueSlider(draw.target, draw.unit, low, high, float(person.batch.signals[draw.target][0]))
                slider.moved.connect(lambda value, n=draw.target: self._steer(n, value))
                self.rows.add(label(f"wanted: {draw.target}", ""), slider)
        self.rows.finish()
        self._paced()
        self.pausing.setText("Pause")

    def _command(self, number: int, value: float) -> None:
        if self.person is not None:
            self.person.held[number] = value

    def _steer(self, name: str, value: float) -> None:
        if self.person is not None:
            self.person.steer(name, value)

    def _paced(self, *_: object) -> None:
        if self.person is not None:
            self.person.pace = PACES[max(self.pace.currentIndex(), 0)]

    def pause(self) -> None:
        """Hold, or go on."""
        if self.person is not None:
            self.person.paused = not self.person.paused
            self.pausing.setText("Go on" if self.person.paused else "Pause")

    def step(self) -> None:
        """One sample."""
        if self.person is not None:
            self.person.one_step()
            self.pausing.setText("Go on")


def _span(problem: Problem, name: str) -> tuple[float, float]:
    """What a set-point may be steered over: what is drawn, with a little room."""
    draw = next(d for d in problem.draws if d.target == name)
    _, values = draw.distribution.numbers(draw.unit)
    low, high = (
        (values[0] - 3 * values[1], values[0] + 3 * values[1])
        if draw.distribution.normal
        else (min(values), max(values))
    )
    room = 0.25 * (high - low) or max(abs(high), 1.0)
    return float(low - room), float(high + room)


class RulePanel(QWidget):
    """A rule, one formula a command.

    Signals
    -------
    changed(str, str, str)
        Rule, command, formula.
    tried(str)
    added(str)
    """

    changed = Signal(str, str, str)
    tried = Signal(str)
    added = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.fields: dict[str, FormulaField] = {}
        self._shown: tuple[str, ...] = ()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        line = QHBoxLayout()
        self.rule = Choice("rule")
        self.rule.activated.connect(lambda _: self._rows())
        line.addWidget(self.rule, 1)
        line.addWidget(button("New", self._new, name="new rule"))
        self.trying = button("Try it", lambda: self.tried.emit(self.rule.currentText()), "primary")
        line.addWidget(self.trying)
        layout.addLayout(line)
        self.rows = Rows((2, 9), spacing=3)
        layout.addWidget(scrolled(self.rows), 1)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        layout.addWidget(self.wrong)
        self.problem: Problem | None = None

    def show_problem(self, problem: Problem) -> None:
        """Rules of a task."""
        self.problem = problem
        names = list(problem.task.rules)
        if [self.rule.itemText(k) for k in range(self.rule.count())] != names:
            now = self.rule.currentText()
            self.rule.clear()
            self.rule.addItems(names)
            if now in names:
                self.rule.setCurrentText(now)
        self.trying.setEnabled(bool(names))
        self._rows()

    def _rows(self) -> None:
        problem, name = self.problem, self.rule.currentText()
        if problem is None:
            return
        wanted = (name, *[c.name for c in problem.commands])
        if wanted != self._shown:
            self._shown = wanted
            self.rows.clear()
            self.fields = {}
            for command in problem.commands if name else ():
                field = FormulaField(f"{name}: {command.name}")
                field.settled.connect(lambda text, c=command.name: self.changed.emit(self.rule.currentText(), c, text))
                field.judged.connect(lambda f=field: self.say(f.problem_text))
                self.fields[command.name] = field
                self.rows.add(label(command.name, "strong"), field)
            if not name:
                self.rows.add_wide(
                    label(
                        "No rule yet. New makes one: a formula for each command, often the best start.",
                        "soft",
                        wrap=True,
                    )
                )
            self.rows.finish()
        for driven, field in self.fields.items():
            field.set_problem(problem)
            field.show_formula(problem.task.rules[name].commands.get(driven, "0"))
        self.say("")

    def _new(self) -> None:
        taken = set(self.problem.task.rules) if self.problem is not None else set()
        self.added.emit(next(n for n in (f"rule_{k}" for k in range(1, 1000)) if n not in taken))

    def say(self, text: str) -> None:
        """What is wrong."""
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))
