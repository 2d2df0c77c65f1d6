"""Compiled pieces of the squashed Gaussian. Keep this file quiet, as with dynamics."""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.kernels import kernel

LOG_TWO_PI = math.log(2.0 * math.pi)
LOG_TWO = math.log(2.0)


@kernel(entry=True, makes_arrays=True)
def squashed_draw(outputs, noise, least, most, commands, log_density, log_spread):
    """Commands tanh(mean + spread * noise) with their log-density; see `squashed.squashed_draw`.

    log(1 - tanh(u)^2) is taken as 2 (log 2 - u - log(1 + exp(-2 u))), which stays finite where the commands saturate.
    """
    wide = noise.shape[1]
    middle, half = 0.5 * (least + most), 0.5 * (most - least)
    for i in range(noise.shape[0]):
        density = 0.0
        for j in range(wide):
            spread = middle + half * math.tanh(outputs[i, wide + j])
            drawn = outputs[i, j] + math.exp(spread) * noise[i, j]
            commands[i, j] = math.tanh(drawn)
            log_spread[i, j] = spread
            away = abs(drawn)
            # even in u: taken at |u|, where nothing overflows
            squashed = 2.0 * (LOG_TWO - away - math.log1p(math.exp(-2.0 * away)))
            density -= 0.5 * noise[i, j] * noise[i, j] + spread + 0.5 * LOG_TWO_PI + squashed
        log_density[i] = density


@kernel(entry=True, makes_arrays=True)
def soft_actor_gradient(outputs, noise, commands, log_spread, slope, weight, least, most, gradient):
    """Gradient by `outputs` of the mean over rows of ``weight * log_density - value`` (Haarnoja et al. 2018, eq. 13).

    `slope` (N, m) is the derivative of the value by the commands. The draw is held, so that the log-density depends on the
    outputs through the spread and through the squashing alone.
    """
    rows, wide = noise.shape
    half = 0.5 * (most - least)
    for i in range(rows):
        for j in range(wide):
            a = np.float64(commands[i, j])
            by_drawn = weight * 2.0 * a - slope[i, j] * (1.0 - a * a)
            by_spread = by_drawn * noise[i, j] * math.exp(log_spread[i, j]) - weight
            stretch = math.tanh(outputs[i, wide + j])
            gradient[i, j] = by_drawn / rows
            gradient[i, wide + j] = by_spread * half * (1.0 - stretch * stretch) / rows
