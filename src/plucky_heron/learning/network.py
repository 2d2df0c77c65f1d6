"""Fully connected networks over one flat parameter vector, with hand-derived gradients and reused buffers."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field

import numpy as np

Array = np.ndarray

ACTIVATIONS = ("tanh", "relu")


@dataclass
class Workspace:
    """Buffers of one batch size: what each layer put out, and the gradients on the way back."""

    outputs: list[Array] = field(default_factory=list)
    gradients: list[Array] = field(default_factory=list)
    scratch: list[Array] = field(default_factory=list)


class Network:
    """Layers of `sizes` units; hidden ones with an activation, the last one linear.

    Parameters
    ----------
    sizes
        Inputs, hidden widths, outputs.
    activation
        ``"tanh"`` or ``"relu"``.
    dtype
        float32 for work, float64 to check gradients.

    Notes
    -----
    Parameters live outside, as a vector of `count` numbers: weights (inputs, outputs) row by row, then biases, layer
    by layer. Batch sizes have their own buffers, kept for the life of the network.
    """

    def __init__(self, sizes: tuple[int, ...], activation: str = "tanh", dtype: type[np.floating] = np.float32) -> None:
        self.sizes, self.activation, self.dtype = sizes, activation, dtype
        self.count = sum(a * b + b for a, b in itertools.pairwise(sizes))
        self._spaces: dict[int, Workspace] = {}
        self._bound: tuple[Array, list[tuple[Array, Array]]] | None = None

    def layers(self, parameters: Array) -> list[tuple[Array, Array]]:
        """Views of weights (inputs, outputs) and biases (outputs,) of each layer."""
        views, at = [], 0
        for a, b in zip(self.sizes, self.sizes[1:], strict=False):
            views.append((parameters[at : at + a * b].reshape(a, b), parameters[at + a * b : at + a * b + b]))
            at += a * b + b
        return views

    def initialise(
        self, parameters: Array, generator: np.random.Generator, orthogonal: bool, last_scale: float
    ) -> None:
        """Start weights: orthogonal with gain (Saxe, McClelland, Ganguli 2014) or evenly scaled by fan-in; zero biases."""
        hidden_gain = 5.0 / 3.0 if self.activation == "tanh" else np.sqrt(2.0)
        layers = self.layers(parameters)
        for number, (weights, biases) in enumerate(layers):
            last = number == len(layers) - 1
            gain = last_scale if last else hidden_gain
            if orthogonal:
                normal = generator.standard_normal((max(weights.shape), min(weights.shape)))
                q, r = np.linalg.qr(normal)
                q = q * np.sign(np.diag(r))
                weights[...] = gain * (q if weights.shape[0] >= weights.shape[1] else q.T)
            else:
                bound = gain * np.sqrt(3.0 / weights.shape[0])
                weights[...] = generator.uniform(-bound, bound, weights.shape)
            biases[...] = 0.0

    def forward(self, parameters: Array, inputs: Array) -> Array:
        """Outputs (batch, outputs) of inputs (batch, inputs); the array is reused by the next call of this size."""
        space = self._space(len(inputs))
        layers = self.layers(parameters)
        current = inputs
        for number, (weights, biases) in enumerate(layers):
            out = space.outputs[number]
            if weights.shape[1] == 1:
                np.dot(current, weights[:, 0], out=out[:, 0])
            else:
                np.matmul(current, weights, out=out)
            out += biases
            if number < len(layers) - 1:
                if self.activation == "tanh":
                    np.tanh(out, out=out)
                else:
                    np.maximum(out, 0.0, out=out)
            current = out
        return current

    def backward(self, parameters: Array, inputs: Array, output_gradient: Array, gradient: Array) -> None:
        """Write the gradient of a loss into `gradient` (count,), from its gradient by the last `forward`'s outputs."""
        space = self._space(len(inputs))
        layers, slots = self.layers(parameters), self.layers(gradient)
        current = output_gradient
        for number in range(len(layers) - 1, -1, -1):
            weights, (slot_weights, slot_biases) = layers[number][0], slots[number]
            below = inputs if number == 0 else space.outputs[number - 1]
            if weights.shape[1] == 1:
                np.dot(below.T, current[:, 0], out=slot_weights[:, 0])
            else:
                np.matmul(below.T, current, out=slot_weights)
            np.sum(current, axis=0, out=slot_biases)
            if number == 0:
                return
            back, scratch = space.gradients[number - 1], space.scratch[number - 1]
            if weights.shape[1] == 1:
                np.multiply(current, weights[:, 0], out=back)
            else:
                np.matmul(current, weights.T, out=back)
            if self.activation == "tanh":
                np.multiply(below, below, out=scratch)
                np.subtract(1.0, scratch, out=scratch)
                back *= scratch
            else:
                back *= below > 0.0
            current = back

    def _space(self, batch: int) -> Workspace:
        if batch not in self._spaces:

            def make(width: int) -> Array:
                return np.zeros((batch, width), dtype=self.dtype)

            hidden = self.sizes[1:-1]
            self._spaces[batch] = Workspace(
                [make(w) for w in self.sizes[1:]], [make(w) for w in hidden], [make(w) for w in hidden]
            )
        return self._spaces[batch]
