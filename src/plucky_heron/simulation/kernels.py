"""Compiled pieces of the simulation around the physics. Keep this file quiet, as with dynamics."""

from __future__ import annotations

from numba import njit


@njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy")
def first_order_noise(decay, strength, white, out):
    """White noise (T,) through a first-order filter that starts at rest: out[k] = decay out[k-1] + strength white[k]."""
    state = 0.0
    for k in range(white.shape[0]):
        state = decay * state + strength * white[k]
        out[k] = state
