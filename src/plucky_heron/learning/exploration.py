"""What is added to commands so that something is learned: deviations with and without memory, and random starts.

All in shares of the command range, -1 .. 1; a copy that begins a new episode begins without a past.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from plucky_heron.randomness import freeze, stream, thaw

Array = np.ndarray
Kind = Literal["independent", "drifting", "held"]


class Deviations:
    """Unit deviations (copies, actions), drawn one sample after the other.

    Parameters
    ----------
    kind
        ``independent``: normal, afresh each sample. ``drifting``: an Ornstein-Uhlenbeck process (Uhlenbeck and Ornstein
        1930) in its stationary state, with correlation `memory` from sample to sample. ``held``: normal, kept for `hold` samples.
    """

    def __init__(
        self, kind: Kind, copies: int, actions: int, generator: np.random.Generator, memory: float = 0.85, hold: int = 10
    ) -> None:  # fmt: skip
        self.kind, self.memory, self.hold, self.generator = kind, memory, hold, generator
        self.state: Array = np.zeros((copies, actions))
        self.age: Array = np.zeros(copies, dtype=np.int64)

    def draw(self) -> Array:
        """The next deviations (B, commands), of mean 0 and spread 1."""
        fresh = self.generator.standard_normal(self.state.shape)
        if self.kind == "independent":
            return fresh
        if self.kind == "drifting":
            begun = (self.age > 0)[:, None]
            drift = self.memory * self.state + math.sqrt(1.0 - self.memory**2) * fresh
            self.state = np.where(begun, drift, fresh)
        else:
            self.state = np.where((self.age % self.hold == 0)[:, None], fresh, self.state)
        self.age += 1
        return self.state

    def begin(self, copies: Array) -> None:
        """These copies (mask or numbers) begin a new episode."""
        self.age[copies] = 0

    def alike(self, copies: int, generator: np.random.Generator) -> Deviations:
        """Deviations of the same kind for other copies, without a past."""
        return Deviations(self.kind, copies, self.state.shape[1], generator, self.memory, self.hold)

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        return {"state": self.state.copy(), "age": self.age.copy(), "generator": freeze(self.generator)}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.state, self.age = kept["state"].copy(), kept["age"].copy()
        thaw(self.generator, kept["generator"])


class RandomStart:
    """Evenly drawn commands, each held for `hold` samples: heavy machines do not feel what changes every sample."""

    def __init__(self, copies: int, actions: int, seed: int, hold: int) -> None:
        self.hold, self.generator = hold, stream(seed, "random start")
        self.state: Array = np.zeros((copies, actions))
        self.age = 0

    def draw(self) -> Array:
        """The next commands (copies, actions); copies change theirs in turn, not all at once."""
        copies = len(self.state)
        due = np.arange(copies) % self.hold == self.age % self.hold
        if self.age == 0:
            due[:] = True
        fresh = self.generator.uniform(-1.0, 1.0, self.state.shape)
        self.state = np.where(due[:, None], fresh, self.state)
        self.age += 1
        return self.state

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        return {"state": self.state.copy(), "age": np.array(self.age), "generator": freeze(self.generator)}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.state, self.age = kept["state"].copy(), int(kept["age"])
        thaw(self.generator, kept["generator"])
