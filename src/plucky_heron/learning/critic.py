"""Action-value critics: what a command is worth in a state, with slowly following targets; and work on two threads."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from plucky_heron.dynamics.second_thread import SecondThread
from plucky_heron.learning.kernels import off_policy as kernels
from plucky_heron.learning.network import Network
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.replay import Rows

Array = np.ndarray


class Critic:
    """One network from (observations, commands) to a value, its target and its optimiser, for minibatches of one size.

    After `fit`, `figures` holds loss, mean value and gradient norm, and `errors` what was missed; after climbing, `values` and
    `slope` are those of the policy's commands.
    """

    def __init__(self, network: Network, minibatch: int) -> None:
        self.network, self.dtype = network, network.dtype
        self.parameters: Array = np.zeros(network.count, dtype=self.dtype)
        self.target = self.parameters.copy()
        self.gradient = self.parameters.copy()
        self.adam = Adam(network.count, network.dtype)
        self.plan = network.plan(minibatch)
        self.said: Array = np.zeros(minibatch, dtype=self.dtype)
        self.values, self.errors = self.said.copy(), self.said.copy()
        self.slope: Array = np.zeros((minibatch, network.sizes[0]), dtype=self.dtype)
        self.back: Array = np.zeros((minibatch, 1), dtype=self.dtype)
        self.figures: Array = np.zeros(3)

    def initialise(self, generator: np.random.Generator, orthogonal: bool) -> None:
        """Start weights; the target begins as a copy."""
        self.network.initialise(self.parameters, generator, orthogonal, 1.0)
        self.target[...] = self.parameters

    def of(self, inputs: Array) -> Array:
        """Values (N,) of any number of inputs (N, observations + actions); overwritten by the next call of this size."""
        return self.network.forward(self.parameters, inputs)[:, 0]

    def say(self, inputs: Array) -> None:
        """The target's values of a minibatch of inputs (N, inputs), into `said`."""
        kernels.values_of(self.target, self.plan, inputs, self.said)

    def fit(
        self,
        state: Array,
        rows: Rows,
        worth: Array,
        rate: float,
        norm_limit: float | None,
        mix: float,
        chosen: Array | None,
        huber: float | None = None,
    ) -> None:
        """One step towards ``reward + factor * worth``; then, at the commands `chosen`, values and slopes, and the target follows."""
        climb = chosen is not None
        kernels.fit_and_climb(
            self.parameters, self.plan, self.gradient, self.adam.plan(rate, norm_limit), state, rows.reward, rows.factor, worth, rows.weight,
            huber or 0.0, self.errors, self.back, self.figures, self.target, mix, climb, chosen if climb else state, self.values, self.slope,
        )  # fmt: skip
        self.adam.counted()

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        kept = {f"adam.{k}": v for k, v in self.adam.keep().items()}
        return kept | {"parameters": self.parameters.copy(), "target": self.target.copy()}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.adam.restore({k[5:]: v for k, v in kept.items() if k.startswith("adam.")})
        self.parameters[...], self.target[...] = kept["parameters"], kept["target"]


class Side:
    """Runs pieces of work that do not touch each other: on two threads where there are two, else one after the other.

    The outcome is the same to the bit; only the time differs.
    """

    def __init__(self, threads: int) -> None:
        self._thread = SecondThread("learning") if threads > 1 else None

    def by_side(self, pieces: list[Callable[[], None]]) -> None:
        """Run all pieces; the first of them on the other thread."""
        if self._thread is None or len(pieces) < 2:
            for piece in pieces:
                piece()
            return
        self._thread.give(pieces[0])
        try:
            for piece in pieces[1:]:
                piece()
        finally:
            self._thread.wait()
