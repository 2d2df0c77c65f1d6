"""Compiled updates of methods that learn from a replay buffer, in pieces that two threads may share. Keep this file quiet.

A network comes as its parameters and a `plan`: (sizes, activation, normalised, work, places), see `layers`. An optimiser comes
as `adam`: (mean, square, steps done, learning rate, gradient limit or 0).
"""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.kernels import kernel
from plucky_heron.learning.kernels.basic import adam_step, mix
from plucky_heron.learning.kernels.layers import backward, forward
from plucky_heron.learning.kernels.squashed import soft_actor_gradient, squashed_draw


@kernel(entry=True, makes_arrays=True)
def inputs_of(observations, offset, scale, limit, commands, joined, seen):
    """Inputs of a critic (N, observations + actions), and of the policy (N, seen): standardised, limited, side by side."""
    wide = observations.shape[1]
    for i in range(observations.shape[0]):
        for j in range(wide):
            joined[i, j] = min(max((observations[i, j] - offset[j]) * scale[j], -limit), limit)
        for j in range(commands.shape[1]):
            joined[i, wide + j] = commands[i, j]
        for j in range(seen.shape[1]):
            seen[i, j] = joined[i, j]


@kernel(entry=True, makes_arrays=True)
def put_commands(commands, joined, other):
    """`other` becomes `joined` with these commands in its last columns."""
    wide = joined.shape[1] - commands.shape[1]
    for i in range(joined.shape[0]):
        for j in range(wide):
            other[i, j] = joined[i, j]
        for j in range(commands.shape[1]):
            other[i, wide + j] = commands[i, j]


@kernel(entry=True, makes_arrays=True)
def outputs_of(parameters, plan, inputs):
    """Forward pass of a planned network."""
    return forward(parameters, plan[0], plan[1], plan[2], inputs, plan[3], plan[4])


@kernel(entry=True, makes_arrays=True)
def values_of(parameters, plan, inputs, values):
    """Values (N,) of a critic."""
    out = outputs_of(parameters, plan, inputs)
    for i in range(inputs.shape[0]):
        values[i] = out[i, 0]


@kernel(entry=True, makes_arrays=True)
def soft_draw(parameters, plan, seen, noise, least, most, joined, commands, log_density, log_spread):
    """Commands drawn by a squashed Gaussian policy, put into `joined`; returns the network's outputs, a view into its work."""
    outputs = outputs_of(parameters, plan, seen)
    squashed_draw(outputs, noise, least, most, commands, log_density, log_spread)
    put_commands(commands, joined, joined)
    return outputs


@kernel(entry=True, makes_arrays=True)
def step(parameters, gradient, adam):
    """One step of the optimiser; returns the gradient's norm."""
    norm = math.sqrt(np.dot(gradient, gradient))
    scale = 1.0
    if adam[4] > 0.0 and norm > adam[4]:
        scale = adam[4] / (norm + 1e-12)
    adam_step(parameters, gradient, adam[0], adam[1], adam[2] + 1, adam[3], 0.9, 0.999, 1e-7, scale)
    return norm


@kernel(entry=True, makes_arrays=True)
def fit_critic(parameters, plan, gradient, adam, joined, reward, factor, worth, weight, huber, errors, back, figures):
    """One step of a critic towards ``reward + factor * worth``; `figures` takes loss, mean value, gradient norm.

    Errors beyond a positive `huber` count in a straight line (Huber 1964).
    """
    count = joined.shape[0]
    out = outputs_of(parameters, plan, joined)
    loss = 0.0
    total = 0.0
    for i in range(count):
        error = out[i, 0] - (reward[i] + factor[i] * worth[i])
        errors[i] = error
        slope = error
        if huber > 0.0 and abs(error) > huber:
            slope = math.copysign(huber, error)
        back[i, 0] = slope * weight[i] / count
        loss += (slope * error - 0.5 * slope * slope) * weight[i]
        total += out[i, 0]
    backward(parameters, plan[0], plan[1], plan[2], joined, plan[3], plan[4], back, gradient, True, joined, False)
    figures[0] = loss / count
    figures[1] = total / count
    figures[2] = step(parameters, gradient, adam)


@kernel(entry=True, makes_arrays=True)
def slope_of(parameters, plan, joined, values, back, gradient, slope):
    """Values (N,), and their derivatives by the critic's inputs into `slope` (N, observations + actions)."""
    values_of(parameters, plan, joined, values)
    back[:, 0] = 1.0
    backward(parameters, plan[0], plan[1], plan[2], joined, plan[3], plan[4], back, gradient, False, slope, True)


@kernel(entry=True, makes_arrays=True)
def fit_and_climb(
    parameters, plan, gradient, adam, joined, reward, factor, worth, weight, huber, errors, back, figures, target, share, climb, chosen,
    values, slope,
):  # fmt: skip
    """`fit_critic`; then, with `climb`, values and slopes at the commands `chosen` by the policy, and the target follows."""
    fit_critic(parameters, plan, gradient, adam, joined, reward, factor, worth, weight, huber, errors, back, figures)
    if climb:
        slope_of(parameters, plan, chosen, values, back, gradient, slope)
        mix(target, parameters, share)


@kernel(entry=True, makes_arrays=True)
def soft_value(first, second, log_density, weight, worth):
    """The least of two values less the weighted log-density (Haarnoja et al. 2018, eq. 5)."""
    for i in range(first.shape[0]):
        worth[i] = min(first[i], second[i]) - weight * log_density[i]


@kernel(entry=True, makes_arrays=True)
def soft_climb(
    parameters, plan, gradient, adam, seen, outputs, noise, commands, log_density, log_spread, values, slopes, weight, least, most, back,
    figures,
):  # fmt: skip
    """One step of the soft policy up the lesser of two critics.

    `values` (2, N) and `slopes` (2, N, observations + actions) are those of the critics; `figures` takes loss, mean log-density,
    mean, least and largest spread, gradient norm.
    """
    count, m = noise.shape
    wide = slopes.shape[2] - m
    up = np.empty_like(noise)
    figures[:] = 0.0
    figures[3] = np.inf
    for i in range(count):
        lesser = 0 if values[0, i] < values[1, i] else 1
        figures[0] += weight * log_density[i] - values[lesser, i]
        figures[1] += log_density[i]
        for j in range(m):
            up[i, j] = slopes[lesser, i, wide + j]
            spread = math.exp(log_spread[i, j])
            figures[2] += spread / m
            figures[3] = min(figures[3], spread)
            figures[4] = max(figures[4], spread)
    for k in range(3):
        figures[k] /= count
    soft_actor_gradient(outputs, noise, commands, log_spread, up, weight, least, most, back)
    backward(parameters, plan[0], plan[1], plan[2], seen, plan[3], plan[4], back, gradient, True, seen, False)
    figures[5] = step(parameters, gradient, adam)


@kernel(entry=True, makes_arrays=True)
def squash_policy(parameters, plan, seen, noise, limit, joined):
    """Commands of a deterministic policy with noise held within `limit`, put into `joined`; returns the sums before squashing."""
    sums = outputs_of(parameters, plan, seen)
    one = sums.dtype.type(1.0)
    m = sums.shape[1]
    wide = joined.shape[1] - m
    for i in range(seen.shape[0]):
        for j in range(m):
            joined[i, wide + j] = math.tanh(sums[i, j])
            if limit > 0.0:
                joined[i, wide + j] += min(max(noise[i, j], -limit), limit)
                joined[i, wide + j] = min(max(joined[i, wide + j], -one), one)
    return sums


@kernel(entry=True, makes_arrays=True)
def plain_climb(
    parameters, plan, gradient, adam, seen, sums, joined, values, slope, weight, back, target, share, figures
):
    """One step of a deterministic policy up the critic, with a cost on sums before squashing; its target follows.

    `figures` takes loss, share of saturated commands, gradient norm.
    """
    count, m = sums.shape
    wide = joined.shape[1] - m
    loss = 0.0
    saturated = 0.0
    for i in range(count):
        loss -= values[i]
        for j in range(m):
            a = joined[i, wide + j]
            s = sums[i, j]
            loss += 0.5 * weight * s * s
            saturated += abs(a) > 0.99
            back[i, j] = (weight * s - slope[i, wide + j] * (1.0 - a * a)) / count
    backward(parameters, plan[0], plan[1], plan[2], seen, plan[3], plan[4], back, gradient, True, seen, False)
    figures[0] = loss / count
    figures[1] = saturated / (count * m)
    figures[2] = step(parameters, gradient, adam)
    mix(target, parameters, share)
