"""From sensor values in SI units to the inputs of networks: stated ranges, then running mean and spread, then a limit."""

from __future__ import annotations

import numpy as np

from plucky_heron.learning.method import Space
from plucky_heron.learning.network import Network
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.running import RunningSpread

Array = np.ndarray
Affine = tuple[Array, Array]
LEAST_SPREAD = 0.01
"""Of an observation, as a share of half its stated range: what hardly moved in training must not saturate on the first small shift."""

FARTHEST = 100.0
"""Half ranges from the middle beyond which an observation says nothing of what is usual: one such would blind the rest."""


class Inputs:
    """The map of one method at work; what it has seen is frozen into the policies that it hands out.

    Parameters
    ----------
    space
        Ranges, and which observations may be standardised.
    standardise
        Whether mean and spread of what was seen are taken out.
    limit
        Inputs are held within -limit .. limit.
    """

    def __init__(self, space: Space, standardise: bool, limit: float) -> None:
        self.space, self.standardise, self.limit = space, standardise, limit
        low, high = space.observation_low, space.observation_high
        self.middle, self.half = 0.5 * (low + high), 0.5 * (high - low)
        free = np.ones(len(low), dtype=np.bool_) if space.standardised is None else space.standardised
        self.free = free & standardise
        self.seen = RunningSpread(len(low))
        self.held: Affine | None = None
        """The map that is kept to while what is seen moves on; None follows at once."""

    def update(self, observations: Array) -> None:
        """Take in rows (batch, observations)."""
        if self.standardise:
            self.seen.update(np.clip((observations - self.middle) / self.half, -FARTHEST, FARTHEST))

    def affine(self) -> Affine:
        """Offset and scale (inputs,): an SI value x becomes (x - offset) * scale."""
        return self.held or self.newest()

    def newest(self) -> Affine:
        """`affine` of all that was seen."""
        mean = np.where(self.free, self.seen.mean, 0.0)
        spread = np.where(self.free, np.maximum(self.seen.spread, LEAST_SPREAD), 1.0)
        return self.middle + self.half * mean, 1.0 / (self.half * spread)

    def of(self, observations: Array) -> Array:
        """Network inputs, float32 (batch, observations)."""
        offset, scale = self.affine()
        return np.asarray(np.clip((observations - offset) * scale, -self.limit, self.limit), dtype=np.float32)

    def at_limit(self, inputs: Array) -> float:
        """Share of inputs (batch, observations) that stand at the limit: what lies beyond it looks all the same to a network."""
        return float((np.abs(inputs) >= self.limit).mean())

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        held = np.zeros((0, len(self.middle))) if self.held is None else np.array(self.held)
        return {"seen": self.seen.keep(), "held": held}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.seen.restore(kept["seen"])
        self.held = (kept["held"][0].copy(), kept["held"][1].copy()) if len(kept["held"]) else None


def carry_over(network: Network, parameters: Array, old: Affine, new: Affine, adam: Adam | None = None) -> None:
    """Change a network's first layer, in place, so that on inputs of the new map it says what it said on those of the old one.

    x = (s - o) k and x' = (s - o') k' give W' = W k / k' and b' = b + sum of W k (o' - o) over the inputs that are mapped, the first ones;
    the optimiser's means follow as gradients do. Inputs at their limit are the only ones on which it may say something else.
    """
    weights, biases = network.layers(parameters)[0][:2]
    wide = min(len(weights), len(old[0]))
    ratio = (old[1] / new[1])[:wide, None]
    shift = (old[1] * (new[0] - old[0]))[:wide, None]
    biases += (weights[:wide] * shift).sum(axis=0).astype(biases.dtype)
    weights[:wide] *= ratio.astype(weights.dtype)
    if adam is None:
        return
    back = (new[1] * (new[0] - old[0]))[:wide, None]
    mean, mean_biases = network.layers(adam.mean)[0][:2]
    mean[:wide] = (mean[:wide] / ratio - mean_biases * back).astype(mean.dtype)
    square, square_biases = network.layers(adam.square)[0][:2]
    square[:wide] = (square[:wide] / ratio**2 + square_biases * back**2).astype(square.dtype)
