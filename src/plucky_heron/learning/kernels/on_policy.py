"""Compiled losses of methods that learn from fresh experience. Keep this file quiet, as with dynamics."""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.kernels import kernel
from plucky_heron.learning.kernels.layers import backward, forward

FORGOTTEN = 1e-12
"""Ratio of densities below which a row pushes no more: products of its gradient would be denormal, and ten times as slow."""
HALF_LOG_TWO_PI = 0.5 * math.log(2.0 * math.pi)


@kernel(entry=True, makes_arrays=True)
def policy_loss(
    outputs, own_spread, log_spread, least, most, drawn, old_density, advantage, limit, entropy_weight, beyond_weight, back, spread_gradient,
    figures,
):  # fmt: skip
    """Loss of a Gaussian policy over N rows and its gradient by means and log-spreads.

    `outputs` holds means (N, m), and with `own_spread` behind them what makes the log-spreads: its tanh, stretched over
    least .. most; else `log_spread` (m,) holds for all rows. `limit` is that of the ratio (Schulman et al. 2017, eq. 7); zero
    takes the plain ratio, and a negative one the log-density itself (Mnih et al. 2016). `beyond_weight` times the square of what
    means lie beyond -1 .. 1 is added to the loss: commands there are all the same, and a mean that has left does not come back. `back` (N, outputs) and
    `spread_gradient` (m,) take the gradients.

    `figures` takes the sums over rows of: loss without entropy, entropy, estimated KL (ratio - 1 - log ratio), rows beyond the limit,
    and the least and the largest spread.
    """
    rows, m = drawn.shape
    middle, half = 0.5 * (least + most), 0.5 * (most - least)
    spread_gradient[:] = 0.0
    figures[:] = 0.0
    figures[4] = np.inf
    for i in range(rows):
        density = 0.0
        entropy = 0.0
        for j in range(m):
            spread = middle + half * math.tanh(outputs[i, m + j]) if own_spread else np.float64(log_spread[j])
            size = math.exp(spread)
            unit = (drawn[i, j] - outputs[i, j]) / size
            density -= 0.5 * unit * unit + spread + HALF_LOG_TWO_PI
            entropy += spread + 0.5 + HALF_LOG_TWO_PI
            figures[4] = min(figures[4], size)
            figures[5] = max(figures[5], size)
        change = density - old_density[i]
        ratio = math.exp(min(change, 30.0))
        a = np.float64(advantage[i])
        if limit < 0.0:
            gain = density * a
            push = -a
        else:
            gain = ratio * a
            # what is that much less likely than when it was drawn would add nothing but numbers too small for quick arithmetic
            push = -gain if ratio > FORGOTTEN else 0.0
            if limit > 0.0:
                held = min(max(ratio, 1.0 - limit), 1.0 + limit) * a
                if held < gain:
                    gain = held
                    push = 0.0
                figures[3] += abs(ratio - 1.0) > limit
        figures[0] -= gain
        figures[1] += entropy
        figures[2] += ratio - 1.0 - change
        push /= rows
        for j in range(m):
            spread = middle + half * math.tanh(outputs[i, m + j]) if own_spread else np.float64(log_spread[j])
            size = math.exp(spread)
            unit = (drawn[i, j] - outputs[i, j]) / size
            back[i, j] = push * unit / size
            beyond = abs(outputs[i, j]) - 1.0
            if beyond > 0.0:
                figures[0] += beyond_weight * beyond * beyond
                back[i, j] += 2.0 * beyond_weight * math.copysign(beyond, outputs[i, j]) / rows
            by_spread = push * (unit * unit - 1.0) - entropy_weight / rows
            if own_spread:
                stretch = math.tanh(outputs[i, m + j])
                back[i, m + j] = by_spread * half * (1.0 - stretch * stretch)
            else:
                spread_gradient[j] += by_spread


@kernel(entry=True, makes_arrays=True)
def value_loss(values, returns, old_values, limit, weight, huber, back):
    """Half the mean square of the errors and its gradient times `weight` into `back`; a positive `limit` holds the change of values.

    Errors beyond a positive `huber` count in a straight line (Huber 1964).
    """
    rows = values.shape[0]
    total = 0.0
    for i in range(rows):
        error = np.float64(values[i]) - returns[i]
        slope = error
        square = error * error
        if limit > 0.0:
            moved = np.float64(values[i]) - old_values[i]
            other = old_values[i] + min(max(moved, -limit), limit) - returns[i]
            if other * other > square:
                square = other * other
                slope = other if abs(moved) < limit else 0.0
        if huber > 0.0 and square > huber * huber:
            square = huber * (2.0 * math.sqrt(square) - huber)
            slope = min(max(slope, -huber), huber)
        total += square
        back[i] = weight * slope / rows
    return 0.5 * total / rows


@kernel(entry=True, makes_arrays=True)
def policy_step(
    parameters, sizes, kind, normalised, inputs, work, places, own_spread, log_spread, least, most, drawn, old_density, advantage, limit,
    entropy_weight, beyond_weight, back, spread_gradient, figures, gradient, input_gradient, pass_on,
):  # fmt: skip
    """Forward, loss and way back of the policy's network in one call, so that another thread may run all the while.

    With `pass_on` the gradient by the inputs goes to `input_gradient` (rows, inputs).
    """
    outputs = forward(parameters, sizes, kind, normalised, inputs, work, places)
    policy_loss(
        outputs, own_spread, log_spread, least, most, drawn, old_density, advantage, limit, entropy_weight, beyond_weight, back,
        spread_gradient, figures,
    )  # fmt: skip
    backward(parameters, sizes, kind, normalised, inputs, work, places, back, gradient, True, input_gradient, pass_on)


@kernel(entry=True, makes_arrays=True)
def value_step(
    parameters, sizes, kind, normalised, inputs, work, places, returns, old_values, limit, weight, huber, back, gradient,
    input_gradient, pass_on,
):  # fmt: skip
    """Forward, loss and way back of the critic in one call; returns the loss."""
    values = forward(parameters, sizes, kind, normalised, inputs, work, places)
    loss = value_loss(values[:, 0], returns, old_values, limit, weight, huber, back[:, 0])
    backward(parameters, sizes, kind, normalised, inputs, work, places, back, gradient, True, input_gradient, pass_on)
    return loss
