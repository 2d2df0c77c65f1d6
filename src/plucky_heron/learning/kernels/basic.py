"""Compiled pieces of learning that would otherwise make many temporaries. Keep this file quiet, as with dynamics."""

from __future__ import annotations

import numpy as np

from plucky_heron.kernels import kernel


@kernel(entry=True, makes_arrays=True)
def adam_step(parameters, gradient, mean, square, count, rate, keep_mean, keep_square, small, scale):
    """One step of Adam (Kingma and Ba 2015, algorithm 1) in place, on the gradient times `scale`."""
    real = parameters.dtype.type
    step = real(rate / (1.0 - keep_mean**count))
    correct = real(1.0 / (1.0 - keep_square**count))
    old_mean, new_mean = real(keep_mean), real(1.0 - keep_mean)
    old_square, new_square = real(keep_square), real(1.0 - keep_square)
    factor, least = real(scale), real(small)
    for i in range(parameters.shape[0]):
        g = gradient[i] * factor
        m = old_mean * mean[i] + new_mean * g
        s = old_square * square[i] + new_square * g * g
        mean[i] = m
        square[i] = s
        parameters[i] -= step * m / (np.sqrt(s * correct) + least)


@kernel(entry=True, makes_arrays=True)
def advantages(rewards, values, next_values, goes_on, discount, decay, out):
    """Generalised advantage estimation (Schulman et al. 2016, eq. 16), all arrays (T, B).

    `next_values` is the value of the state that followed: of the state at which time cut an episode too, and zero
    after a true ending. `goes_on` is 0 wherever the next row belongs to another episode.
    """
    steps, copies = rewards.shape
    for b in range(copies):
        carried = 0.0
        for t in range(steps - 1, -1, -1):
            surprise = rewards[t, b] + discount * next_values[t, b] - values[t, b]
            carried = surprise + discount * decay * goes_on[t, b] * carried
            out[t, b] = carried


@kernel(entry=True, makes_arrays=True)
def mix(target, parameters, share):
    """Move `target` towards `parameters` by `share` of the way, in place."""
    part = target.dtype.type(share)
    for i in range(target.shape[0]):
        target[i] += part * (parameters[i] - target[i])
