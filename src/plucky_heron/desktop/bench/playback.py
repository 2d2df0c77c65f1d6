"""The one playing episode: its recording, its time, and who listens."""

from __future__ import annotations

import time

from PySide6.QtCore import QObject, QTimer, Signal

from plucky_heron.runs.looking import Looked
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem

SPEEDS = (0.25, 0.5, 1.0, 2.0, 4.0)


class Playback(QObject):
    """What the drawing, the strip recorder and the score ledger show.

    Signals
    -------
    loaded()
        Another episode, or none.
    grown()
        The same episode, with more samples: whoever keeps what belongs to the whole of it looks again.
    moved(int)
        Another sample of it.
    """

    loaded = Signal()
    grown = Signal()
    moved = Signal(int)
    played = Signal(bool)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.problem: Problem | None = None
        self.recording: Recording | None = None
        self.ghosts: tuple[Recording, ...] = ()
        """Shown faintly beside it, at the same time."""
        self.looked: Looked | None = None
        """What the critics of the run say of it, where a policy of a run is played."""
        self.title = ""
        self.index = 0
        self._growing = False
        self.speed = 1.0
        self._began = (0.0, 0)
        self._timer = QTimer(self)
        self._timer.setInterval(25)
        self._timer.timeout.connect(self._tick)

    def load(
        self,
        problem: Problem,
        recording: Recording | None,
        title: str,
        ghosts: tuple[Recording, ...] = (),
        play: bool = False,
        looked: Looked | None = None,
    ) -> None:
        """Show another episode, from its start."""
        self.pause()
        self.looked = looked
        self.problem, self.recording, self.ghosts, self.title = problem, recording, ghosts, title
        self.index, self._growing = 0, False
        self.loaded.emit()
        self.moved.emit(0)
        if play and recording is not None:
            self.play()

    def show(self, problem: Problem, recording: Recording, title: str) -> None:
        """A growing episode: show its newest sample."""
        before = self.recording
        on = self._growing and problem is self.problem and title == self.title
        on = on and before is not None and recording.steps >= before.steps
        self.problem, self.recording, self.title, self.ghosts = problem, recording, title, ()
        self.index, self._growing, self.looked = recording.steps, True, None
        if on:
            self.grown.emit()
        else:
            self.loaded.emit()
        self.moved.emit(self.index)

    @property
    def playing(self) -> bool:
        """Whether time runs."""
        return self._timer.isActive()

    @property
    def time(self) -> float:
        """Seconds since the start."""
        return self.index * self.recording.sample_time if self.recording is not None else 0.0

    def play(self) -> None:
        """Run on, from the start if at the end."""
        if self.recording is None or self.playing:
            return
        if self.index >= self.recording.steps:
            self.seek(0)
        self._began = (time.monotonic(), self.index)
        self._timer.start()
        self.played.emit(True)

    def rewind(self) -> None:
        """Back to the start, standing still."""
        self.pause()
        self.seek(0)

    def pause(self) -> None:
        """Stand still."""
        if self.playing:
            self._timer.stop()
            self.played.emit(False)

    def toggle(self) -> None:
        """Play or pause."""
        if self.playing:
            self.pause()
        else:
            self.play()

    def seek(self, index: int) -> None:
        """Go to a sample."""
        if self.recording is None:
            return
        self.index = max(0, min(index, self.recording.steps))
        self._began = (time.monotonic(), self.index)
        self.moved.emit(self.index)

    def step(self, samples: int) -> None:
        """Pause and go some samples on or back."""
        self.pause()
        self.seek(self.index + samples)

    def set_speed(self, speed: float) -> None:
        """Times real time."""
        self.speed = speed
        self._began = (time.monotonic(), self.index)

    def _tick(self) -> None:
        recording = self.recording
        if recording is None:
            self.pause()
            return
        began, first = self._began
        index = first + int((time.monotonic() - began) * self.speed / recording.sample_time)
        if index != self.index:
            self.index = min(index, recording.steps)
            self.moved.emit(self.index)
        if self.index >= recording.steps:
            self.pause()
