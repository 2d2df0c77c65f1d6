"""A memory before a network: a gated unit (Cho et al. 2014) whose state stands beside the inputs, over one flat parameter vector."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plucky_heron.learning.kernels import memory as kernels

Array = np.ndarray


@dataclass(frozen=True)
class Sequence:
    """Steps of several copies that follow each other in time.

    Attributes
    ----------
    first : (T, B)
        1 where an episode begins: nothing is remembered there.
    actor, critic : (B, m)
        What policy and critic remembered before the first step.
    """

    first: Array
    actor: Array
    critic: Array

    def of(self, copies: Array) -> Sequence:
        """The same of some copies (k,) only."""
        return Sequence(np.ascontiguousarray(self.first[:, copies]), self.actor[copies], self.critic[copies])


class Memory:
    """A gated unit of `units` over `inputs`; parameters live outside, a vector of `count` numbers, see `kernels.memory`.

    Between `forward` and `backward` it keeps what the way back needs.
    """

    def __init__(self, inputs: int, units: int, dtype: type[np.floating] = np.float32) -> None:
        self.inputs, self.units, self.dtype = inputs, units, dtype
        self.count = 3 * units * (inputs + units + 2)
        self._kept: dict[tuple[int, int], tuple[Array, ...]] = {}

    def parts(self, parameters: Array) -> tuple[Array, Array, Array, Array]:
        """Views: weights of the inputs (n, 3 m), their biases, weights of the memory (m, 3 m), their biases."""
        n, m = self.inputs, self.units
        ends = np.cumsum([3 * n * m, 3 * m, 3 * m * m, 3 * m])
        pieces = [parameters[a:b] for a, b in zip([0, *ends[:-1]], ends, strict=True)]
        return pieces[0].reshape(n, 3 * m), pieces[1], pieces[2].reshape(m, 3 * m), pieces[3]

    def initialise(self, parameters: Array, generator: np.random.Generator) -> None:
        """Start values into `parameters` (count,): inputs scaled by their number, rotations for the memory, biases zero."""
        n, m = self.inputs, self.units
        weights, biases, own_weights, own_biases = self.parts(parameters)
        bound = np.sqrt(3.0 / n)
        weights[...] = generator.uniform(-bound, bound, weights.shape)
        for gate in range(3):
            q, r = np.linalg.qr(generator.standard_normal((m, m)))
            own_weights[:, gate * m : (gate + 1) * m] = q * np.sign(np.diag(r))
        biases[...] = own_biases[...] = 0.0

    def forward(self, parameters: Array, inputs: Array, first: Array, start: Array) -> Array:
        """States (T, B, m) over inputs (T, B, n); overwritten by the next call of this size."""
        steps, copies = inputs.shape[:2]
        kept = self._kept.get((steps, copies))
        if kept is None:
            m = self.units
            if len(self._kept) >= 16:
                self._kept.clear()
            kept = self._kept[steps, copies] = tuple(
                np.zeros((steps, copies, width), dtype=self.dtype) for width in (m, m, 3 * m, m)
            )
        states, before, gates, recalled = kept
        kernels.remember(parameters, inputs, first, start, states, before, gates, recalled)
        return states

    def backward(self, parameters: Array, inputs: Array, first: Array, by_states: Array, gradient: Array) -> None:
        """Gradient by the parameters into `gradient`, from that by the last forward's states (T, B, m)."""
        _, before, gates, recalled = self._kept[inputs.shape[0], inputs.shape[1]]
        kernels.remember_back(parameters, inputs, first, before, gates, recalled, by_states, gradient)

    def step(self, parameters: Array, inputs: Array, state: Array) -> Array:
        """The state after one more step, (B, m), a new array."""
        rows = np.ascontiguousarray(inputs, dtype=self.dtype)[None]
        nothing = np.zeros((1, len(inputs)), dtype=np.uint8)
        return np.array(self.forward(parameters, rows, nothing, state)[0])
