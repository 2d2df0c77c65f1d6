"""Compiled passes of a gated unit over sequences. Keep this file quiet, as with dynamics.

Parameters, one after the other: weights of the inputs (n, 3 m) row by row, their biases (3 m,), weights of the memory (m, 3 m), their
biases (3 m,); the three parts are the gates that reset and that keep, and the candidate.
"""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.kernels import kernel


@kernel(entry=True, makes_arrays=True)
def remember(parameters, inputs, first, start, states, before, gates, recalled):
    """States (T, B, m) of a gated unit (Cho et al. 2014, eq. 5 to 8; the reset gate after the product) over inputs (T, B, n).

    Where `first` (T, B) is not zero the memory begins anew, blank; else it begins with `start` (B, m). `before` (T, B, m) takes the
    state each step began with, `gates` (T, B, 3 m) the three activations, `recalled` (T, B, m) what the candidate's reset gate met.
    """
    steps, copies, n = inputs.shape
    m = start.shape[1]
    at = n * 3 * m
    weights = parameters[:at].reshape((n, 3 * m))
    biases = parameters[at : at + 3 * m]
    at += 3 * m
    own_weights = parameters[at : at + 3 * m * m].reshape((m, 3 * m))
    own_biases = parameters[at + 3 * m * m : at + 3 * m * m + 3 * m]
    one = inputs.dtype.type(1.0)
    a = np.empty((copies, 3 * m), dtype=inputs.dtype)
    c = np.empty((copies, 3 * m), dtype=inputs.dtype)
    for t in range(steps):
        for b in range(copies):
            for j in range(m):
                came = start[b, j] if t == 0 else states[t - 1, b, j]
                before[t, b, j] = came if first[t, b] == 0 else came * 0
        np.dot(inputs[t], weights, a)
        np.dot(before[t], own_weights, c)
        for b in range(copies):
            for j in range(m):
                reset = one / (one + math.exp(-(a[b, j] + biases[j] + c[b, j] + own_biases[j])))
                k = m + j
                keep = one / (one + math.exp(-(a[b, k] + biases[k] + c[b, k] + own_biases[k])))
                k = 2 * m + j
                own = c[b, k] + own_biases[k]
                candidate = math.tanh(a[b, k] + biases[k] + reset * own)
                gates[t, b, j], gates[t, b, m + j], gates[t, b, k] = reset, keep, candidate
                recalled[t, b, j] = own
                states[t, b, j] = (one - keep) * candidate + keep * before[t, b, j]


@kernel(entry=True, makes_arrays=True)
def remember_back(parameters, inputs, first, before, gates, recalled, by_states, gradient):
    """The way back of `remember` through all its steps: from the gradient by the states (T, B, m) that by the parameters.

    What lies before the first step is taken as given.
    """
    steps, copies, n = inputs.shape
    m = before.shape[2]
    at = n * 3 * m
    slot = gradient[:at].reshape((n, 3 * m))
    biases = gradient[at : at + 3 * m]
    at += 3 * m
    own_weights = parameters[at : at + 3 * m * m].reshape((m, 3 * m))
    own_slot = gradient[at : at + 3 * m * m].reshape((m, 3 * m))
    own_biases = gradient[at + 3 * m * m : at + 3 * m * m + 3 * m]
    gradient[:] = 0.0
    one = inputs.dtype.type(1.0)
    carried = np.zeros((copies, m), dtype=inputs.dtype)
    by_a = np.empty((copies, 3 * m), dtype=inputs.dtype)
    by_c = np.empty((copies, 3 * m), dtype=inputs.dtype)
    part = np.empty((n, 3 * m), dtype=inputs.dtype)
    own_part = np.empty((m, 3 * m), dtype=inputs.dtype)
    back = np.empty((copies, m), dtype=inputs.dtype)
    for t in range(steps - 1, -1, -1):
        for b in range(copies):
            for j in range(m):
                reset, keep, candidate = gates[t, b, j], gates[t, b, m + j], gates[t, b, 2 * m + j]
                by = by_states[t, b, j] + carried[b, j]
                drawn = by * (one - keep) * (one - candidate * candidate)
                kept = by * (before[t, b, j] - candidate) * keep * (one - keep)
                met = drawn * recalled[t, b, j] * reset * (one - reset)
                by_a[b, j], by_a[b, m + j], by_a[b, 2 * m + j] = met, kept, drawn
                by_c[b, j], by_c[b, m + j], by_c[b, 2 * m + j] = met, kept, drawn * reset
                carried[b, j] = by * keep
        np.dot(inputs[t].T, by_a, part)
        np.dot(before[t].T, by_c, own_part)
        slot += part
        own_slot += own_part
        np.dot(by_c, own_weights.T, back)
        for b in range(copies):
            for k in range(3 * m):
                biases[k] += by_a[b, k]
                own_biases[k] += by_c[b, k]
            for j in range(m):
                carried[b, j] = carried[b, j] + back[b, j] if first[t, b] == 0 else carried[b, j] * 0
