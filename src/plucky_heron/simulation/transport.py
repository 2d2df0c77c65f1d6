"""Commands on their way to the drives: each comes later by its share of jitter, and some are lost.

Dead time that is always there is part of the drives, see `problem.bind`; what differs from sample to sample is here.
"""

from __future__ import annotations

import zlib

import numpy as np

from plucky_heron.dynamics.plant import Plant
from plucky_heron.task.problem import Problem

Array = np.ndarray
_GOLDEN = np.uint64(0x9E3779B97F4A7C15)


def uniform(keys: Array, count: Array, part: int) -> Array:
    """Uniform numbers (B,) in [0, 1) from a hash of an episode's key (B,), a sample's number (B,) and what they are for.

    The finaliser of splitmix64 (S. Vigna, 2015), as `kernels.instrument_errors` has it: nothing has to be stored.
    """
    x = keys ^ _mixed(count.astype(np.uint64) * np.uint64(8) + np.uint64(part))
    return np.asarray((_mixed(x) >> np.uint64(11)).astype(np.float64) / 9007199254740992.0)


def _mixed(x: Array) -> Array:
    with np.errstate(over="ignore"):
        x = x + _GOLDEN
        x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        return np.asarray(x ^ (x >> np.uint64(31)))


class Transport:
    """What drives hold while commands are on their way, in all copies.

    A sample's command arrives between 0 and `jitter` later than the task's dead time, the same for all drives; one that
    arrives after a newer one is dropped, as a controller does that looks at the number of a message.
    """

    def __init__(self, problem: Problem, copies: int, seed: int, stream: str) -> None:
        timing = problem.task.timing
        self.lost, self.substeps = timing.lost, timing.substeps
        self.spread = timing.jitter / timing.physics_step
        self.idle = timing.jitter == 0.0 and timing.lost == 0.0
        """Whether every command arrives at once."""
        depth = 1 if self.idle else int(np.ceil(self.spread / timing.substeps)) + 2
        drives = len(problem.model.drives)
        self._key = np.random.SeedSequence([seed, zlib.crc32(f"{stream} transport".encode())]).generate_state(
            1, np.uint64
        )[0]
        self.held: Array = np.zeros((copies, drives))
        """What the drives hold, (B, drives)."""
        self.waiting: Array = np.zeros((depth, copies, drives))
        self.left: Array = np.full((depth, copies), -1, dtype=np.int64)
        """Physics steps until each waiting command arrives, the newest first; -1 where none waits."""

    def begin(self, copies: Array, plant: Plant) -> None:
        """Nothing is on its way in `copies` (k,); drives hold what they have."""
        self.held[copies] = plant.lagged[copies]
        self.left[:, copies] = -1

    def step(self, plant: Plant, drives: Array, episode: Array, age: Array) -> None:
        """One sample of the plant under commands `drives` (B, drives) that leave now."""
        if self.idle:
            plant.step(drives, self.substeps)
            return
        with np.errstate(over="ignore"):
            keys = episode.astype(np.uint64) * _GOLDEN ^ self._key
        late = np.rint(uniform(keys, age, 0) * self.spread).astype(np.int64)
        late[uniform(keys, age, 1) < self.lost] = -1
        self.waiting, self.left = np.roll(self.waiting, 1, axis=0), np.roll(self.left, 1, axis=0)
        self.waiting[0], self.left[0] = drives, late
        if self.spread == 0.0:
            self._arrive()
            plant.step(self.held, self.substeps)
            return
        for _ in range(self.substeps):
            self._arrive()
            plant.step(self.held, 1)

    def _arrive(self) -> None:
        """Take what arrives in this physics step, the newest of it; older ones that are still on their way are of no use then."""
        taken = np.zeros(len(self.held), dtype=np.bool_)
        for values, left in zip(self.waiting, self.left, strict=True):
            now = (left == 0) & ~taken
            self.held[now] = values[now]
            left[taken] = -1
            taken |= now
            left[left >= 0] -= 1

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        return {"held": self.held.copy(), "waiting": self.waiting.copy(), "left": self.left.copy()}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.held[...], self.waiting, self.left = kept["held"], kept["waiting"].copy(), kept["left"].copy()
