"""Fully connected networks over one flat parameter vector, with hand-derived gradients and reused buffers."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Literal

import numpy as np

from plucky_heron.learning.kernels import layers

Array = np.ndarray

Activation = Literal["tanh", "relu", "leaky relu", "elu", "silu"]
ACTIVATIONS: tuple[Activation, ...] = ("tanh", "relu", "leaky relu", "elu", "silu")
"""In the order of their numbers in `kernels.layers`."""
Plan = tuple[Array, int, bool, Array, Array]
MOST_SIZES = 64
"""Batch sizes whose buffers are kept."""
_NOTHING: dict[type, Array] = {t: np.zeros((0, 0), dtype=t) for t in (np.float32, np.float64)}


@dataclass(frozen=True)
class Workspace:
    """Arrays of one batch size, one after the other in `flat`; `places` says where, see `kernels.layers`."""

    flat: Array
    """All numbers of a forward pass in one axis."""
    places: Array
    """Where each layer begins in `flat` (layers + 1,)."""


class Network:
    """Layers of `sizes` units; hidden ones with an activation, the last one linear.

    Parameters
    ----------
    sizes
        Inputs, hidden widths, outputs.
    activation
        One of `ACTIVATIONS`.
    dtype
        float32 for work, float64 to check gradients.
    normalised
        Whether rows are normalised before each hidden activation (Ba, Kiros, Hinton 2016).

    Notes
    -----
    Parameters live outside, as a vector of `count` numbers: weights (inputs, outputs) row by row, biases, and for normalised
    layers gains and offsets, layer by layer. Batch sizes have their own buffers, which are kept. What
    `forward` returns and `backward` needs is overwritten by the next `forward` of the same batch size.
    """

    def __init__(
        self,
        sizes: tuple[int, ...],
        activation: Activation = "tanh",
        dtype: type[np.floating] = np.float32,
        normalised: bool = False,
    ) -> None:
        self.sizes, self.activation, self.dtype, self.normalised = sizes, activation, dtype, normalised
        self.kind = ACTIVATIONS.index(activation)
        self.shape = np.array(sizes, dtype=np.int64)
        self.count = sum(
            a * b + b + (2 * b if normalised and number < len(sizes) - 2 else 0)
            for number, (a, b) in enumerate(itertools.pairwise(sizes))
        )
        self._spaces: dict[int, Workspace] = {}
        self._nothing: Array = np.zeros(0, dtype=dtype)

    def layers(self, parameters: Array) -> list[tuple[Array, ...]]:
        """Views of weights (inputs, outputs) and biases (outputs,) of each layer; gains and offsets where normalised."""
        views, at = [], 0
        for number, (a, b) in enumerate(itertools.pairwise(self.sizes)):
            parts = [parameters[at : at + a * b].reshape(a, b), parameters[at + a * b : at + a * b + b]]
            at += a * b + b
            if self.normalised and number < len(self.sizes) - 2:
                parts += [parameters[at : at + b], parameters[at + b : at + 2 * b]]
                at += 2 * b
            views.append(tuple(parts))
        return views

    def initialise(
        self, parameters: Array, generator: np.random.Generator, orthogonal: bool, last_scale: float
    ) -> None:
        """Start weights: orthogonal with gain (Saxe, McClelland, Ganguli 2014) or evenly scaled by fan-in; zero biases."""
        hidden_gain = 5.0 / 3.0 if self.activation == "tanh" else np.sqrt(2.0)
        views = self.layers(parameters)
        for number, view in enumerate(views):
            weights, biases = view[:2]
            gain = last_scale if number == len(views) - 1 else hidden_gain
            if orthogonal:
                normal = generator.standard_normal((max(weights.shape), min(weights.shape)))
                q, r = np.linalg.qr(normal)
                q = q * np.sign(np.diag(r))
                weights[...] = gain * (q if weights.shape[0] >= weights.shape[1] else q.T)
            else:
                bound = gain * np.sqrt(3.0 / weights.shape[0])
                weights[...] = generator.uniform(-bound, bound, weights.shape)
            biases[...] = 0.0
            if len(view) > 2:
                view[2][...], view[3][...] = 1.0, 0.0

    def forward(self, parameters: Array, inputs: Array) -> Array:
        """Outputs (batch, outputs) of inputs (batch, inputs); the array is reused by the next call of this size."""
        space = self.space(len(inputs))
        out: Array = layers.forward(
            parameters, self.shape, self.kind, self.normalised, np.ascontiguousarray(inputs, dtype=self.dtype), space.flat, space.places
        )  # fmt: skip
        return out

    def backward(
        self, parameters: Array, inputs: Array, output_gradient: Array, gradient: Array | None,
        input_gradient: Array | None = None,
    ) -> None:  # fmt: skip
        """Gradients of a loss from its gradient (batch, outputs) by the last `forward`'s outputs.

        By the parameters into `gradient` (count,), by the inputs into `input_gradient` (batch, inputs); None leaves out.
        """
        space = self.space(len(inputs))
        layers.backward(
            parameters, self.shape, self.kind, self.normalised, np.ascontiguousarray(inputs, dtype=self.dtype),
            space.flat, space.places, np.ascontiguousarray(output_gradient, dtype=self.dtype),
            self._nothing if gradient is None else gradient, gradient is not None,
            _NOTHING[self.dtype] if input_gradient is None else input_gradient, input_gradient is not None,
        )  # fmt: skip

    def space(self, batch: int) -> Workspace:
        """The buffers of a batch size."""
        if batch not in self._spaces:
            if len(self._spaces) >= MOST_SIZES:  # whole episodes come in ever new sizes
                del self._spaces[next(iter(self._spaces))]
            self._spaces[batch] = self._make_space(batch)
        return self._spaces[batch]

    def plan(self, batch: int) -> Plan:
        """What compiled code needs of this network besides its parameters, with buffers of its own for `batch` rows."""
        space = self._make_space(batch)
        return self.shape, self.kind, self.normalised, space.flat, space.places

    def _make_space(self, batch: int) -> Workspace:
        count = len(self.sizes) - 1
        places = np.zeros((count + 3, 4), dtype=np.int64)
        at = 0
        for number, width in enumerate(self.sizes[1:]):
            hidden = number < count - 1
            wanted = (
                True,
                hidden and self.activation == "silu",
                hidden and self.normalised,
                hidden and self.normalised,
            )
            for part, yes in enumerate(wanted):
                places[number, part] = at
                at += (batch if part == 3 else batch * width) * yes
        for turn in range(2):
            places[count + turn, 0] = at
            at += batch * max(self.sizes[1:])
        places[count + 2, 0] = at  # gradients of gains and offsets that nobody asked for
        at += self.count * self.normalised
        return Workspace(np.zeros(at, dtype=self.dtype), places)

    def narrowed(self, parameters: Array, other: Network) -> Array:
        """Parameters (other.count,) of `other`, which has only the first of this network's outputs."""
        mine: Array = np.zeros(other.count, dtype=np.float32)
        for parts, whole in zip(other.layers(mine), self.layers(parameters), strict=True):
            for a, b in zip(parts, whole, strict=True):
                a[...] = b[..., : a.shape[-1]]
        return mine

    @property
    def products(self) -> int:
        """Multiplications of one call on one row."""
        return sum(a * b for a, b in itertools.pairwise(self.sizes))
