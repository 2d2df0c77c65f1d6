"""A finished policy: raw sensor values in SI units in, commands in SI units out, everything between inside."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.errors import FileError
from plucky_heron.files import write_whole
from plucky_heron.learning.network import Activation, Network
from plucky_heron.simulation.batch import Batch

Array = np.ndarray


@dataclass(frozen=True)
class Policy:
    """A deterministic policy; all arithmetic is float32, as in the exported forms.

    Attributes
    ----------
    squashed
        Whether the network's outputs pass through tanh; else they are clipped.
    normalised
        Whether the network normalises its hidden layers.
    offset, scale : float32 (observations,)
        A sensor value x enters the network as ``clip((x - offset) * scale, -limit, limit)``.
    parameters : float32 (count,)
        Weights and biases, see `Network`.
    low, high : float32 (actions,)
        Network output -1 .. 1 is mapped onto low .. high and clipped there.
    base : float32 (actions, observations + 1), optional
        A law under the network, affine in the sensor values, its constants last: the network then only corrects it.
    reach : float
        With a base, the share of half the range that the network's output -1 .. 1 is mapped onto.
    """

    sizes: tuple[int, ...]
    activation: Activation
    parameters: Array
    offset: Array
    scale: Array
    limit: float
    low: Array
    high: Array
    normalised: bool = False
    squashed: bool = False
    base: Array | None = None
    reach: float = 1.0

    @property
    def half(self) -> Array:
        """What a network output of 1 adds to a command, float32 (actions,)."""
        return np.asarray((self.high - self.low) * np.float32(0.5) * np.float32(self.reach))

    @property
    def middle(self) -> Array:
        """Commands where the network puts out zero and there is no base, float32 (actions,)."""
        return np.asarray((self.high + self.low) * np.float32(0.5))

    @property
    def network(self) -> Network:
        """The network that reads `parameters`."""
        return Network(self.sizes, self.activation, normalised=self.normalised)

    def commands(self, observations: Array, network: Network | None = None) -> Array:
        """Commands (batch, actions) in SI units for raw observations (batch, observations).

        Observations beyond those that the policy is given are those of critics, and left out.
        """
        sensed = observations[:, : self.sizes[0]].astype(np.float32)
        inputs = (sensed - self.offset) * self.scale
        np.clip(inputs, -self.limit, self.limit, out=inputs)
        drawn = (network or self.network).forward(self.parameters, inputs)
        if self.squashed:
            drawn = np.tanh(drawn)
        centre = self.middle if self.base is None else sensed @ self.base[:, :-1].T + self.base[:, -1]
        commands: Array = np.clip(centre + self.half * drawn, self.low, self.high)
        return commands

    def save(self, path: Path) -> None:
        """Write as .npz without objects."""
        out = io.BytesIO()
        facts = json.dumps({
            "sizes": self.sizes, "activation": self.activation, "limit": self.limit, "normalised": self.normalised,
            "squashed": self.squashed, "reach": self.reach,
        })  # fmt: skip
        base: dict[str, Any] = {} if self.base is None else {"base": self.base}
        np.savez(
            out, parameters=self.parameters, offset=self.offset, scale=self.scale, low=self.low, high=self.high, **base,
            facts=np.frombuffer(facts.encode(), dtype=np.uint8),
        )  # fmt: skip
        write_whole(path, out.getvalue())

    @classmethod
    def load(cls, path: Path) -> Policy:
        """Read what `save` wrote.

        Raises
        ------
        FileError
            Missing or damaged.
        """
        try:
            with np.load(path, allow_pickle=False) as kept:
                facts = json.loads(kept["facts"].tobytes().decode())
                arrays = {k: kept[k] for k in ("parameters", "offset", "scale", "low", "high")}
                base = kept["base"] if "base" in kept.files else None
        except FileNotFoundError as error:
            raise FileError(path, "", None, "no policy is kept here yet") from error
        except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile) as error:
            raise FileError(path, "", None, f"is not a policy file, or damaged: {error}") from error
        return cls(
            tuple(facts["sizes"]), facts["activation"], limit=float(facts["limit"]), **arrays,
            normalised=bool(facts.get("normalised", False)), squashed=bool(facts.get("squashed", False)),
            base=base, reach=float(facts.get("reach", 1.0)),
        )  # fmt: skip


class PolicyDriver:
    """A policy as a driver of episodes."""

    def __init__(self, policy: Policy, name: str = "policy") -> None:
        self.policy, self.name = policy, name
        self._network = policy.network

    def begin(self, batch: Batch) -> None:
        """Nothing to prepare."""

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The policy's commands."""
        return self.policy.commands(observations, self._network).astype(np.float64)
