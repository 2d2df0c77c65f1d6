"""Sensors as an episode meets them: true readings, then noise, bias, quantisation, own rate and dead time."""

from __future__ import annotations

import zlib

import numpy as np

from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.sensing import Sensing
from plucky_heron.simulation import kernels
from plucky_heron.task.problem import Problem

Array = np.ndarray


class Instruments:
    """The readings of all copies.

    Attributes
    ----------
    values : (B, channels)
        What formulas see; updated in place.
    """

    def __init__(self, problem: Problem, copies: int, seed: int, stream: str) -> None:
        self._sensing = Sensing(problem.model, problem.surroundings, problem.site)
        self.channels = self._sensing.channels
        timing = problem.task.timing
        sensors = [problem.machine.sensors[name] for _, _, name in self.channels]
        self._every = np.array(
            [1 if s.rate is None else max(1, timing.samples(1.0 / s.rate)) for s in sensors], dtype=np.int64
        )
        self._noise, self._bias, self._step = (
            np.array([getattr(s, key) for s in sensors], dtype=float) for key in ("noise", "bias", "step")
        )
        self._delay = np.array([timing.samples(s.dead_time) for s in sensors], dtype=np.int64)
        self._key = np.random.SeedSequence([seed, zlib.crc32(stream.encode())]).generate_state(1, np.uint64)[0]
        count = len(self.channels)
        self._all = np.arange(copies)
        self.values: Array = np.zeros((copies, count))
        self._clean: Array = np.zeros((copies, count))
        self._held: Array = np.zeros((copies, count))
        self._history: Array = np.zeros((int(self._delay.max(initial=0)) + 1, copies, count))

    def read(self, plant: Plant, episode: Array, age: Array, fresh: Array | None = None) -> None:
        """Bring `values` up to the present state; copies in `fresh` (indices) have just begun."""
        if not self.channels:
            return
        self._sensing.readings(plant, self._clean, fresh)
        which = self._all if fresh is None else fresh
        keys = episode.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15) ^ self._key
        kernels.instrument_errors(
            which, self._clean, keys, age, self._every, self._noise, self._bias, self._step, self._held,
        )  # fmt: skip
        if len(self._history) == 1:
            self.values[:] = self._held
            return
        if fresh is None:
            self._history = np.roll(self._history, 1, axis=0)
            self._history[0] = self._held
        else:
            self._history[:, fresh] = self._held[fresh]
        self.values[:] = self._history[self._delay, :, np.arange(len(self._delay))].T

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        return {"held": self._held.copy(), "history": self._history.copy(), "values": self.values.copy()}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self._held[...], self._history, self.values[...] = kept["held"], kept["history"].copy(), kept["values"]
