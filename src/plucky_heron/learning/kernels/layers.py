"""Compiled forward and backward passes of fully connected networks. Keep this file quiet, as with dynamics.

A network is data: `sizes` (inputs, hidden widths, outputs), the number of its activation, whether hidden layers are normalised, and
one flat vector of parameters. `places` says where each hidden layer keeps its arrays in the flat `work`: what it puts out, what
entered its activation, the normalised rows, and one over their spread. All arrays are of one float type.

Layer after layer, parameters are: weights (inputs, outputs) row by row, biases, and for normalised hidden layers their
gains and offsets.
"""

from __future__ import annotations

import math

import numba
import numpy as np
from numba.extending import overload, register_jitable

from plucky_heron.kernels import kernel

TANH, RELU, LEAKY, ELU, SILU = range(5)
LEAK = 0.01
"""Slope of the leaky rectifier below zero."""
SPREAD_FLOOR = 1e-5
"""Added to the variance of a normalised row."""


@register_jitable(inline="always")
def exponential_single(x):
    """e to the x in float32, two units in the last place: a power of two times a Taylor polynomial on half an octave."""
    x = min(max(x, np.float32(-87.0)), np.float32(88.0))
    octaves = np.floor(x * np.float32(1.44269504) + np.float32(0.5))
    # the logarithm of two in two parts, so that nothing is lost in the difference
    r = x - octaves * np.float32(0.693359375) + octaves * np.float32(2.12194440e-4)
    p = np.float32(1.0 / 5040.0)
    p = p * r + np.float32(1.0 / 720.0)
    p = p * r + np.float32(1.0 / 120.0)
    p = p * r + np.float32(1.0 / 24.0)
    p = p * r + np.float32(1.0 / 6.0)
    p = p * r + np.float32(0.5)
    p = p * r + np.float32(1.0)
    p = p * r + np.float32(1.0)
    power = np.int32((np.int32(octaves) + np.int32(127)) * np.int32(8388608))
    return p * power.view(np.float32)


def exponential(x):
    """e to the x: fast in float32, exact in float64."""
    return math.exp(x)


@overload(exponential, inline="always")
def _exponential(x):
    if x == numba.float32:
        return lambda x: exponential_single(x)
    return lambda x: math.exp(x)


@kernel(entry=True, makes_arrays=True)
def activate(kind, out, argument):
    """The activation of `out` in place; what entered it goes to `argument` where the way back needs it (SiLU)."""
    one = out.dtype.type(1.0)
    two = out.dtype.type(2.0)
    zero = out.dtype.type(0.0)
    leak = out.dtype.type(LEAK)
    for i in range(out.shape[0]):
        if kind == TANH:
            for j in range(out.shape[1]):
                v = out[i, j]
                out[i, j] = one - two / (exponential(v + v) + one)
        elif kind == RELU:
            for j in range(out.shape[1]):
                out[i, j] = max(out[i, j], zero)
        elif kind == LEAKY:
            for j in range(out.shape[1]):
                v = out[i, j]
                out[i, j] = max(v, v * leak)
        elif kind == ELU:
            for j in range(out.shape[1]):
                v = out[i, j]
                out[i, j] = max(v, zero) + exponential(min(v, zero)) - one
        else:
            for j in range(out.shape[1]):
                v = out[i, j]
                argument[i, j] = v
                out[i, j] = v / (one + exponential(-v))


@kernel(entry=True, makes_arrays=True)
def activate_back(kind, out, argument, back):
    """Multiply `back` by the slope of the activation."""
    one = out.dtype.type(1.0)
    zero = out.dtype.type(0.0)
    leak = out.dtype.type(LEAK)
    for i in range(out.shape[0]):
        if kind == TANH:
            for j in range(out.shape[1]):
                back[i, j] *= one - out[i, j] * out[i, j]
        elif kind == RELU:
            for j in range(out.shape[1]):
                back[i, j] = back[i, j] if out[i, j] > zero else zero
        elif kind == LEAKY:
            for j in range(out.shape[1]):
                back[i, j] *= one if out[i, j] > zero else leak
        elif kind == ELU:
            for j in range(out.shape[1]):
                back[i, j] *= min(out[i, j], zero) + one
        else:
            for j in range(out.shape[1]):
                v = argument[i, j]
                s = one / (one + exponential(-v))
                back[i, j] *= s * (one + v * (one - s))


@kernel(entry=True, makes_arrays=True, rounding=("contract", "reassoc"))
def normalise_rows(out, gains, offsets, hat, inverse):
    """Layer normalisation (Ba, Kiros, Hinton 2016, eq. 4) of `out` in place; keeps the normalised rows and one over their spread."""
    width = out.dtype.type(out.shape[1])
    floor = out.dtype.type(SPREAD_FLOOR)
    one = out.dtype.type(1.0)
    for i in range(out.shape[0]):
        total = out.dtype.type(0.0)
        for j in range(out.shape[1]):
            total += out[i, j]
        mean = total / width
        squares = out.dtype.type(0.0)
        for j in range(out.shape[1]):
            v = out[i, j] - mean
            squares += v * v
        scale = one / np.sqrt(squares / width + floor)
        inverse[i] = scale
        for j in range(out.shape[1]):
            v = (out[i, j] - mean) * scale
            hat[i, j] = v
            out[i, j] = v * gains[j] + offsets[j]


@kernel(entry=True, makes_arrays=True, rounding=("contract", "reassoc"))
def normalise_rows_back(back, gains, hat, inverse, slot_gains, slot_offsets):
    """Gradients of gains and offsets; `back` becomes the gradient by what was normalised."""
    width = back.dtype.type(back.shape[1])
    slot_gains[:] = 0.0
    slot_offsets[:] = 0.0
    for i in range(back.shape[0]):
        total = back.dtype.type(0.0)
        along = back.dtype.type(0.0)
        for j in range(back.shape[1]):
            g = back[i, j]
            slot_offsets[j] += g
            slot_gains[j] += g * hat[i, j]
            g *= gains[j]
            back[i, j] = g
            total += g
            along += g * hat[i, j]
        total /= width
        along /= width
        for j in range(back.shape[1]):
            back[i, j] = (back[i, j] - total - hat[i, j] * along) * inverse[i]


@kernel(entry=True, makes_arrays=True)
def forward(parameters, sizes, activation, normalised, inputs, work, places):
    """Outputs (rows, outputs) as a view into `work`, of `inputs` (rows, inputs)."""
    layers = len(sizes) - 1
    count = inputs.shape[0]
    at = 0
    current = inputs
    for number in range(layers):
        a, b = sizes[number], sizes[number + 1]
        weights = parameters[at : at + a * b].reshape((a, b))
        at += a * b
        biases = parameters[at : at + b]
        at += b
        first = places[number, 0]
        out = work[first : first + count * b].reshape((count, b))
        if b == 1:  # a product with a single column is slow as a product of matrices
            np.dot(current, parameters[at - 1 - a : at - 1], work[first : first + count])
        else:
            np.dot(current, weights, out)
        for i in range(count):
            for j in range(b):
                out[i, j] += biases[j]
        if number < layers - 1:
            if normalised:
                gains, offsets = parameters[at : at + b], parameters[at + b : at + 2 * b]
                at += 2 * b
                hat = work[places[number, 2] : places[number, 2] + count * b].reshape((count, b))
                normalise_rows(out, gains, offsets, hat, work[places[number, 3] : places[number, 3] + count])
            argument = out
            if activation == SILU:
                argument = work[places[number, 1] : places[number, 1] + count * b].reshape((count, b))
            activate(activation, out, argument)
        current = out
    return current


@kernel(entry=True, makes_arrays=True)
def backward(
    parameters, sizes, activation, normalised, inputs, work, places, output_gradient, gradient, learn, input_gradient, pass_on
):  # fmt: skip
    """The way back of the last `forward`: writes `gradient` if `learn`, and `input_gradient` (rows, inputs) if `pass_on`.

    `output_gradient` is (rows, outputs). Layers' gradients take turns in the two last places of `work`.
    """
    layers = len(sizes) - 1
    count = inputs.shape[0]
    at = len(parameters)
    current = output_gradient
    for number in range(layers - 1, -1, -1):
        a, b = sizes[number], sizes[number + 1]
        if normalised and number < layers - 1:
            at -= 2 * b
            hat = work[places[number, 2] : places[number, 2] + count * b].reshape((count, b))
            slots = gradient if learn else work[places[layers + 2, 0] : places[layers + 2, 0] + len(parameters)]
            normalise_rows_back(
                current, parameters[at : at + b], hat, work[places[number, 3] : places[number, 3] + count],
                slots[at : at + b], slots[at + b : at + 2 * b],
            )  # fmt: skip
        at -= b + a * b
        weights = parameters[at : at + a * b].reshape((a, b))
        below = inputs
        if number > 0:
            first = places[number - 1, 0]
            below = work[first : first + count * a].reshape((count, a))
        if learn:
            if b == 1:
                np.dot(below.T, current.reshape(count), gradient[at : at + a])
            else:
                np.dot(below.T, current, gradient[at : at + a * b].reshape((a, b)))
            biases = gradient[at + a * b : at + a * b + b]
            biases[:] = 0.0
            for i in range(count):
                for j in range(b):
                    biases[j] += current[i, j]
        if number == 0:
            if pass_on:
                np.dot(current, weights.T, input_gradient)
            return
        first = places[layers + number % 2, 0]
        back = work[first : first + count * a].reshape((count, a))
        if b == 1:
            for i in range(count):
                for j in range(a):
                    back[i, j] = current[i, 0] * weights[j, 0]
        else:
            np.dot(current, weights.T, back)
        argument = below
        if activation == SILU:
            argument = work[places[number - 1, 1] : places[number - 1, 1] + count * a].reshape((count, a))
        activate_back(activation, below, argument, back)
        current = back
