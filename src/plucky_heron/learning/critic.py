"""Action-value critics: what a command is worth in a state, with slowly following targets, alone or as a pair."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from plucky_heron.dynamics.second_thread import SecondThread
from plucky_heron.learning.kernels import basic as kernels
from plucky_heron.learning.network import Network
from plucky_heron.learning.optimiser import Adam

Array = np.ndarray


class Critic:
    """One network from (observations, commands) to a value, its target and its optimiser."""

    def __init__(self, network: Network) -> None:
        self.network, self.dtype = network, network.dtype
        self.parameters: Array = np.zeros(network.count, dtype=self.dtype)
        self.target = self.parameters.copy()
        self.gradient = self.parameters.copy()
        self.adam = Adam(network.count, network.dtype)
        self.norm = 0.0

    def initialise(self, generator: np.random.Generator, orthogonal: bool) -> None:
        """Start weights; the target begins as a copy."""
        self.network.initialise(self.parameters, generator, orthogonal, 1.0)
        self.target[...] = self.parameters

    def values(self, inputs: Array, target: bool = False) -> Array:
        """Values (N,) of inputs (N, observations + actions); overwritten by the next call of this size."""
        return self.network.forward(self.target if target else self.parameters, inputs)[:, 0]

    def loss(self, inputs: Array, wanted: Array, weight: Array) -> tuple[float, Array]:
        """Half the weighted mean square of the errors, and the errors (N,); the gradient stands in `gradient`."""
        error = self.values(inputs) - wanted
        back = (error * weight / self.dtype(len(error)))[:, None]
        self.network.backward(self.parameters, inputs, back, self.gradient)
        return 0.5 * float(np.dot(error * weight, error)) / len(error), error

    def fit(
        self, inputs: Array, wanted: Array, weight: Array, rate: float, norm_limit: float | None
    ) -> tuple[float, Array]:
        """One step towards `wanted`; returns the loss before it, and the errors."""
        found = self.loss(inputs, wanted, weight)
        self.norm = self.adam.step(self.parameters, self.gradient, rate, norm_limit)
        return found

    def slope(self, inputs: Array, by_inputs: Array) -> Array:
        """Values (N,), and their derivatives by the inputs into `by_inputs` (N, observations + actions)."""
        values = self.values(inputs)
        self.network.backward(self.parameters, inputs, np.ones((len(inputs), 1), dtype=self.dtype), None, by_inputs)
        return values

    def follow(self, mix: float) -> None:
        """Move the target towards the parameters by the share `mix` (Lillicrap et al. 2016, algorithm 1)."""
        kernels.mix(self.target, self.parameters, mix)

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
