"""Episodes that run in real time: driven by a person's keys, or let go and pushed with the mouse."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import QObject, Qt, QTimer, Signal

from plucky_heron.desktop.bench.gamepad import Gamepad
from plucky_heron.simulation.batch import TIME_UP, Batch
from plucky_heron.simulation.drivers import Limp
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

KEYS = (
    (Qt.Key.Key_Left, Qt.Key.Key_Right),
    (Qt.Key.Key_Up, Qt.Key.Key_Down),
    (Qt.Key.Key_A, Qt.Key.Key_D),
    (Qt.Key.Key_S, Qt.Key.Key_W),
)
"""For each command, the keys to its low and its high limit."""


class LiveEpisode(QObject):
    """One episode in real time, recorded as it goes.

    Signals
    -------
    advanced(Recording)
        The episode so far.
    ended(Recording)
    """

    advanced = Signal(object)
    ended = Signal(object)
    name = "nobody"

    def __init__(self, problem: Problem, episode: int, stream: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.problem, self.episode, self.stream = problem, episode, stream
        self.batch = Batch(problem, 1, EVALUATION_SEED, stream, threads=1)
        self.batch.start(np.array([episode]))
        self.paused = False
        self.pace = 1.0
        """Times real time."""
        self.mass = sum(body.mass for body in problem.machine.bodies.values())
        self._target = None
        if problem.target is not None:
            self._target = self.batch.program(problem.target)
        self._rows: list[tuple[np.ndarray, ...]] = []
        self._contacts: list[np.ndarray] = []
        self._sensed: list[np.ndarray] = []
        self._passed: list[int] = []
        self._commands: list[np.ndarray] = []
        self._terms: list[np.ndarray] = []
        self._ending, self._success = "", False
        self._timer = QTimer(self)
        self._timer.setTimerType(Qt.TimerType.PreciseTimer)
        self._timer.setInterval(20)
        self._timer.timeout.connect(self._tick)
        self._next = time.monotonic()

    def start(self) -> None:
        """Begin."""
        self._look()
        self._next = time.monotonic()
        self._timer.start()

    def stop(self) -> None:
        """Break off."""
        self._timer.stop()

    @property
    def running(self) -> bool:
        """Whether it runs."""
        return self._timer.isActive()

    def commands(self) -> np.ndarray:
        """The commands (actions,) of this moment."""
        return np.clip(np.zeros(len(self.problem.low)), self.problem.low, self.problem.high)

    def step(self) -> bool:
        """One sample; False when the episode is over."""
        outcome = self.batch.step(self.commands()[None, :])
        self._commands.append(self.batch.commands[0].copy())
        self._terms.append(outcome.terms[0].copy())
        self._look()
        return not self.is_over(int(outcome.ending[0]), bool(outcome.success[0]))

    def pull(self, body: str, point: np.ndarray, place: np.ndarray, sag: float) -> float:
        """A hand pulls a point of a body (in its axes) towards a place; returns the force of its spring, N.

        It carries the machine's weight when it pulls from `sag` metres away, and is damped as well as the step allows.
        """
        plant = self.batch.plant
        stiffness = self.mass * 9.81 / sag
        b = plant.model.bodies.index(body)
        own = max(self.problem.machine.bodies[body].mass, 1e-3)
        damping = min(self.mass * np.sqrt(9.81 / sag), 0.3 * own / plant.step_size)
        plant.pull(0, body, point, place, stiffness, damping)
        located = plant.located[0, b]
        return float(stiffness * np.linalg.norm(place - located[:3] - located[6:15].reshape(3, 3) @ point))

    def let_go(self) -> None:
        """The hand is gone."""
        self.batch.plant.let_go(0)

    def is_over(self, ending: int, success: bool) -> bool:
        """Whether what the sample ended with ends the episode."""
        if ending < 0 and ending != TIME_UP:
            return False
        self._ending = "time is up" if ending == TIME_UP else self.problem.ending_names[ending]
        self._success = success
        return True

    def one_step(self) -> None:
        """Pause and go one sample on."""
        self.paused = True
        if not self.running:
            return
        going = self.step()
        self.advanced.emit(self.recording())
        if not going:
            self._timer.stop()
            self.ended.emit(self.recording())

    def steer(self, setpoint: str, value: float) -> None:
        """Hold a set-point from outside."""
        self.batch.starts.steered[setpoint] = value

    def _tick(self) -> None:
        if self.paused:
            self._next = time.monotonic()
            return
        going, behind = True, 0
        while going and time.monotonic() >= self._next and behind < 5:
            going = self.step()
            self._next += self.problem.sample_time / self.pace
            behind += 1
        if not going:
            self._timer.stop()
            self.ended.emit(self.recording())
        elif behind:
            if behind == 5:  # too slow for real time: rather slow motion than a window that catches up for ever
                self._next = time.monotonic()
            self.advanced.emit(self.recording())

    def _look(self) -> None:
        batch = self.batch
        place = self._target.run()[:, 0].copy() if self._target is not None else np.full(3, np.nan)
        plant = batch.plant
        self._rows.append(
            (plant.position[0].copy(), plant.velocity[0].copy(), batch.observe()[0], place, plant.winds[0, :1].copy())
        )
        self._contacts.append(plant.contact_forces(0))
        self._passed.append(int(self.batch.gates.passed[0]) if self.batch.gates is not None else 0)
        self._sensed.append(batch.instruments.values[0].copy())

    def recording(self) -> Recording:
        """The episode so far."""
        position, velocity, observations, target, wind = (np.array(column) for column in zip(*self._rows, strict=True))
        width = len(self.problem.commands), len(self.problem.rewards)
        return Recording(
            self.name, self.stream, EVALUATION_SEED, self.episode, self.problem.sample_time, position, velocity,
            observations, np.array(self._commands).reshape(-1, width[0]), np.array(self._terms).reshape(-1, width[1]),
            target, wind[:, 0], self._ending, self._success, scene=int(self.batch.plant.scene[0]),
            contacts=tuple(self._contacts), sensed=np.array(self._sensed), value=float(self.batch.value[0]),
            passed=np.array(self._passed) if self.batch.gates is not None else None,
        )  # fmt: skip


class Person(LiveEpisode):
    """An episode driven by keys, sliders and a gamepad, scored like every other driver."""

    name = "you"

    def __init__(
        self, problem: Problem, episode: int, parent: QObject | None = None, gamepad: Gamepad | None = None
    ) -> None:
        super().__init__(problem, episode, "rehearsal", parent)
        self.gamepad = gamepad
        self.pressed: set[int] = set()
        self.held: np.ndarray = super().commands()
        """What the sliders say, SI; keys stand above them while they are pressed."""

    def key(self, key: int, down: bool) -> bool:
        """A key went down or up; True if it is one of ours."""
        mine = any(key in pair for pair in KEYS[: len(self.problem.commands)])
        if mine and down:
            self.pressed.add(key)
        elif mine:
            self.pressed.discard(key)
        return mine

    def commands(self) -> np.ndarray:
        """The command that sliders give, above them the gamepad's sticks, above those the pressed keys."""
        given = self.held.copy()
        for k, value in enumerate((self.gamepad.axes() if self.gamepad is not None else [])[: len(given)]):
            if value:
                end = self.problem.high[k] if value > 0.0 else self.problem.low[k]
                given[k] = given[k] + (end - given[k]) * abs(value)
        for k, (low, high) in enumerate(KEYS[: len(given)]):
            if low in self.pressed:
                given[k] = self.problem.low[k] * (0.6 if self.problem.low[k] < 0.0 else 1.0)
            elif high in self.pressed:
                given[k] = self.problem.high[k] * 0.6
        return given


class Loose(LiveEpisode):
    """The machine let go from a pose, drives off; a hand may pull it. It goes on through all endings until time is up."""

    name = "drives off"

    def __init__(self, problem: Problem, position: np.ndarray, parent: QObject | None = None) -> None:
        super().__init__(problem, 0, "let go", parent)
        Limp(problem).begin(self.batch)
        self.batch.place(0, position)

    def is_over(self, ending: int, success: bool) -> bool:
        """Only time ends it, and numbers that are none any more."""
        lost = ending == len(self.problem.task.endings)
        self.batch.running[:] = True
        if self.batch.age[0] < self.batch.limit and not lost:
            return False
        self._ending = self.problem.ending_names[ending] if lost else "time is up"
        return True
