"""The way between plant and controller: datagrams there and commands back, with what goes wrong on it.

In real time the clock is that of this computer; in lock-step it is the plant's, which stands still while the controller computes.
"""

from __future__ import annotations

import time
import zlib
from collections import Counter
from typing import Protocol

import numpy as np

from plucky_heron.rigs.datagrams import Command
from plucky_heron.rigs.faults import Faults, chance

ANSWER = 5.0
"""Seconds to wait for an answer in lock-step; a controller that takes longer is not there."""


class Rig(Protocol):
    """A controller that datagrams go to."""

    name: str
    answers_repeated: bool
    """Whether it answers a datagram that it has had already."""

    @property
    def waiting_process(self) -> int | None:
        """Number of its process, where it is one of ours that waits between samples: it may go before all other work."""

    def send(self, datagram: bytes) -> None:
        """Send as it is; a rig that has gone shows by its silence."""

    def receive_bytes(self, until: float) -> bytes | None:
        """The next datagram that came, before `until` (`time.perf_counter`), or None."""

    def read(self, data: bytes) -> Command | None:
        """A command datagram; None where it is damaged."""

    def alive(self) -> bool:
        """Whether it is there."""

    def restart(self) -> None:
        """Begin anew, as after a loss of power."""

    def close(self) -> None:
        """End it."""


class Link:
    """One episode's way to a rig and back.

    Attributes
    ----------
    happened : Counter
        What went wrong: lost, duplicated, reordered, damaged, restarts.
    """

    def __init__(self, rig: Rig, faults: Faults, lock_step: bool, episode: int) -> None:
        self.rig, self.faults, self.lock_step = rig, faults, lock_step
        self.happened: Counter[str] = Counter()
        self._chance = chance(episode, "link")
        self._there: list[tuple[float, int, bytes]] = []
        """What is on its way: when it arrives, its number, the datagram."""
        self._back: list[tuple[float, int, bytes]] = []
        self._number = 0
        self._next_restart = self._chance.exponential(faults.restart) if faults.restart else np.inf
        self._given = 0
        """Number of the newest datagram that the controller has."""
        self._had = False

    def _leave(self, queue: list[tuple[float, int, bytes]], data: bytes, now: float, patience: float) -> None:
        """A datagram leaves at `now`; `patience` is how long the next one may take to come."""
        faults, draw = self.faults, self._chance.random
        if not faults.any:
            queue.append((now, self._number, data))
            self._number += 1
            return
        if draw() < faults.loss:
            self.happened["lost"] += 1
            return
        if faults.bit_errors:
            turned = np.flatnonzero(self._chance.random(8 * len(data)) < faults.bit_errors)
            if len(turned):
                bits = np.unpackbits(np.frombuffer(data, dtype=np.uint8))
                bits[turned] ^= 1
                data = np.packbits(bits).tobytes()
                self.happened["damaged"] += 1
        late = now + 0.5 * faults.dead_time + 0.5 * faults.jitter * draw()
        if draw() < faults.reorder:
            self.happened["reordered"] += 1
            late += patience
        twice = draw() < faults.duplicate
        if twice:
            self.happened["duplicated"] += 1
        for _ in range(1 + twice):
            queue.append((late, self._number, data))
            self._number += 1

    def send(self, data: bytes, now: float, sample_time: float, elapsed: float) -> None:
        """Sensors leave the plant at `now`, `elapsed` seconds into the episode."""
        if elapsed >= self._next_restart:
            self._next_restart += self._chance.exponential(self.faults.restart)
            self.happened["restarts"] += 1
            self._given, self._had = 0, False
            self.rig.restart()
        self._leave(self._there, data, now, 1.01 * sample_time)
        self._deliver(now, sample_time)

    def _deliver(self, now: float, sample_time: float) -> None:
        """Give the controller what has arrived by now; in lock-step its answers are waited for."""
        for arrived in sorted(x for x in self._there if x[0] <= now + 1e-9):
            self._there.remove(arrived)
            self.rig.send(arrived[2])
            if self.lock_step and self._is_answered(arrived[2]):
                answer = self.rig.receive_bytes(time.perf_counter() + ANSWER)
                if answer is None:
                    self.happened["unanswered"] += 1
                    continue
                self._leave(self._back, answer, now, 1.01 * sample_time)

    def _is_answered(self, data: bytes) -> bool:
        """Whether the controller answers a datagram: it is whole, and no newer one came before it."""
        sequence = int.from_bytes(data[4:8], "little")
        if int.from_bytes(data[-4:], "little") != zlib.crc32(data[:-4]) or sequence < self._given:
            return False
        if sequence == self._given and self._had and not self.rig.answers_repeated:
            return False
        self._had = True
        self._given = sequence
        return True

    def receive(self, until: float, now: float, sample_time: float) -> Command | None:
        """The next whole command that arrives; in real time before `until`, in lock-step what has arrived by `now`."""
        while True:
            if self.lock_step:
                arrived = sorted(x for x in self._back if x[0] <= now + 1e-9)
                if not arrived:
                    return None
                self._back.remove(arrived[0])
                data: bytes | None = arrived[0][2]
            else:
                data = self._next_in_time(until, sample_time)
                if data is None:
                    return None
            command = self.rig.read(data) if data is not None else None
            if command is not None:
                return command

    def _next_in_time(self, until: float, sample_time: float) -> bytes | None:
        if not self.faults.any:
            self._there.clear()
            return self.rig.receive_bytes(until)
        while True:
            now = time.perf_counter()
            self._deliver(now, sample_time)
            ready = sorted(x for x in self._back if x[0] <= now)
            if ready:
                self._back.remove(ready[0])
                return ready[0][2]
            if now >= until:
                return None
            due = min([until, *(x[0] for x in (*self._there, *self._back))])
            came = self.rig.receive_bytes(max(now, due))
            if came is not None:
                self._leave(self._back, came, time.perf_counter(), 1.01 * sample_time)
