"""Driving by keyboard: real time, recorded and scored like every other driver."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import QObject, Qt, QTimer, Signal

from plucky_heron.formula import Program
from plucky_heron.simulation.batch import TIME_UP, Batch
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


class Person(QObject):
    """One episode driven by hand.

    Signals
    -------
    advanced(Recording)
        The episode so far.
    ended(Recording)
    """

    advanced = Signal(object)
    ended = Signal(object)

    def __init__(self, problem: Problem, episode: int, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.problem, self.episode = problem, episode
        self.batch = Batch(problem, 1, EVALUATION_SEED, "rehearsal", threads=1)
        self.batch.start(np.array([episode]))
        self.pressed: set[int] = set()
        self.paused = False
        self._target = None
        if problem.target is not None:
            self._target = Program(problem.target, self.batch.signals, 1, problem.definitions)
        self._rows: list[tuple[np.ndarray, ...]] = []
        self._commands: list[np.ndarray] = []
        self._terms: list[np.ndarray] = []
        self._ending, self._success = "", False
        self._look()
        self._timer = QTimer(self)
        self._timer.setTimerType(Qt.TimerType.PreciseTimer)
        self._timer.setInterval(20)
        self._timer.timeout.connect(self._tick)
        self._next = time.monotonic()

    def start(self) -> None:
        """Begin."""
        self._next = time.monotonic()
        self._timer.start()

    def stop(self) -> None:
        """Break off."""
        self._timer.stop()

    @property
    def driving(self) -> bool:
        """Whether it runs."""
        return self._timer.isActive()

    def key(self, key: int, down: bool) -> bool:
        """A key went down or up; True if it is one of ours."""
        mine = any(key in pair for pair in KEYS[: len(self.problem.task.actions)])
        if mine and down:
            self.pressed.add(key)
        elif mine:
            self.pressed.discard(key)
        return mine

    def commands(self) -> np.ndarray:
        """The command that the pressed keys give."""
        given = np.clip(np.zeros(len(self.problem.low)), self.problem.low, self.problem.high)
        for k, (low, high) in enumerate(KEYS[: len(given)]):
            if low in self.pressed:
                given[k] = self.problem.low[k] * 0.6
            elif high in self.pressed:
                given[k] = self.problem.high[k] * 0.6
        return given

    def step(self) -> bool:
        """One sample; False when the episode is over."""
        outcome = self.batch.step(self.commands()[None, :])
        self._commands.append(self.batch.commands[0].copy())
        self._terms.append(outcome.terms[0].copy())
        self._look()
        ending = int(outcome.ending[0])
        if ending >= 0 or ending == TIME_UP:
            self._ending = "time is up" if ending == TIME_UP else self.problem.ending_names[ending]
            self._success = bool(outcome.success[0])
            return False
        return True

    def _tick(self) -> None:
        if self.paused:
            self._next = time.monotonic()
            return
        going, behind = True, 0
        while going and time.monotonic() >= self._next and behind < 5:
            going = self.step()
            self._next += self.problem.sample_time
            behind += 1
        if not going:
            self._timer.stop()
            self.ended.emit(self.recording())
        elif behind:
            self.advanced.emit(self.recording())

    def _look(self) -> None:
        batch = self.batch
        place = self._target.run()[:, 0].copy() if self._target is not None else np.full(2, np.nan)
        plant = batch.plant
        self._rows.append(
            (plant.position[0].copy(), plant.velocity[0].copy(), batch.observe()[0], place, plant.winds[0, :1].copy())
        )

    def recording(self) -> Recording:
        """The episode so far."""
        position, velocity, observations, target, wind = (np.array(column) for column in zip(*self._rows, strict=True))
        width = len(self.problem.task.actions), len(self.problem.rewards)
        return Recording(
            "you", "rehearsal", EVALUATION_SEED, self.episode, self.problem.sample_time, position, velocity, observations,
            np.array(self._commands).reshape(-1, width[0]), np.array(self._terms).reshape(-1, width[1]), target, wind[:, 0],
            self._ending, self._success,
        )  # fmt: skip
