"""The squashed Gaussian: a normal draw through tanh, so that commands stay within their limits (Haarnoja et al. 2018, appendix C)."""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.learning.kernels import squashed as kernels

Array = np.ndarray
LEAST_LOG_SPREAD, MOST_LOG_SPREAD = -5.0, 1.0


def spread_bias(log_spread: float) -> float:
    """The network output that means `log_spread`; see `squashed_draw`."""
    middle, half = 0.5 * (LEAST_LOG_SPREAD + MOST_LOG_SPREAD), 0.5 * (MOST_LOG_SPREAD - LEAST_LOG_SPREAD)
    return math.atanh((log_spread - middle) / half)


def squashed_draw(outputs: Array, noise: Array) -> tuple[Array, Array, Array]:
    """Draw commands.

    Parameters
    ----------
    outputs : (N, 2 m)
        Means before squashing, then what makes the log-spreads: tanh of it, stretched from -1 .. 1 over their limits.
    noise : (N, m)
        Normal draws.

    Returns
    -------
    commands : (N, m)
        Within -1 .. 1.
    log_density : (N,)
        Of `commands`, by the change of variables.
    log_spread : (N, m)
    """
    commands, log_spread = np.empty_like(noise), np.empty_like(noise)
    log_density = np.empty(len(noise), dtype=noise.dtype)
    kernels.squashed_draw(outputs, noise, LEAST_LOG_SPREAD, MOST_LOG_SPREAD, commands, log_density, log_spread)
    return commands, log_density, log_spread
