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
from plucky_heron.learning.memory import Memory
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
    memory, memory_parameters
        Units of a gated memory before the network, and its weights (see `kernels.memory`); what it remembers are the network's last inputs.
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
    memory: int = 0
    memory_parameters: Array | None = None

    @property
    def given(self) -> int:
        """How many sensor values it is given."""
        return self.sizes[0] - self.memory

    @property
    def count(self) -> int:
        """Numbers that were learned."""
        return len(self.parameters) + (len(self.memory_parameters) if self.memory_parameters is not None else 0)

    def blank(self, copies: int) -> Array:
        """What is remembered where an episode begins, float32 (copies, memory)."""
        return np.zeros((copies, self.memory), dtype=np.float32)

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
        """Commands (batch, actions) in SI units for raw observations (batch, observations), nothing remembered.

        Observations beyond those that the policy is given are those of critics, and left out.
        """
        return self.step(observations, self.blank(len(observations)), network)[0]

    def step(
        self, observations: Array, state: Array, network: Network | None = None, memory: Memory | None = None
    ) -> tuple[Array, Array]:
        """Commands (batch, actions), and what is remembered after them, from what was remembered before, (batch, memory)."""
        sensed = observations[:, : self.given].astype(np.float32)
        inputs = (sensed - self.offset) * self.scale
        np.clip(inputs, -self.limit, self.limit, out=inputs)
        if self.memory_parameters is not None and self.memory:
            memory = memory or Memory(self.given, self.memory)
            state = memory.step(self.memory_parameters, inputs, state)
            inputs = np.concatenate([inputs, state], axis=1)
        drawn = (network or self.network).forward(self.parameters, inputs)
        if self.squashed:
            drawn = np.tanh(drawn)
        centre = self.middle if self.base is None else sensed @ self.base[:, :-1].T + self.base[:, -1]
        commands: Array = np.clip(centre + self.half * drawn, self.low, self.high)
        return commands, state

    def save(self, path: Path) -> None:
        """Write as .npz without objects."""
        out = io.BytesIO()
        facts = json.dumps({
            "sizes": self.sizes, "activation": self.activation, "limit": self.limit, "normalised": self.normalised,
            "squashed": self.squashed, "reach": self.reach, "memory": self.memory,
        })  # fmt: skip
        extra: dict[str, Any] = {} if self.base is None else {"base": self.base}
        if self.memory_parameters is not None and self.memory:
            extra["memory_parameters"] = self.memory_parameters
        np.savez(
            out, parameters=self.parameters, offset=self.offset, scale=self.scale, low=self.low, high=self.high, **extra,
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
                extra = {name: kept[name] for name in ("base", "memory_parameters") if name in kept.files}
        except FileNotFoundError as error:
            raise FileError(path, "", None, "no policy is kept here yet") from error
        except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile) as error:
            raise FileError(path, "", None, f"is not a policy file, or damaged: {error}") from error
        return cls(
            tuple(facts["sizes"]), facts["activation"], limit=float(facts["limit"]), **arrays,
            normalised=bool(facts.get("normalised", False)), squashed=bool(facts.get("squashed", False)),
            reach=float(facts.get("reach", 1.0)), memory=int(facts.get("memory", 0)), **extra,
        )  # fmt: skip


class PolicyDriver:
    """A policy as a driver of episodes; what it remembers is of one episode."""

    def __init__(self, policy: Policy, name: str = "policy") -> None:
        self.policy, self.name = policy, name
        self._network = policy.network
        self._memory = Memory(policy.given, policy.memory) if policy.memory else None
        self._state = policy.blank(0)

    def begin(self, batch: Batch) -> None:
        """Nothing is remembered."""
        self._state = self.policy.blank(batch.copies)

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The policy's commands."""
        self._state[batch.age == 0] = 0.0
        commands, self._state = self.policy.step(observations, self._state, self._network, self._memory)
        return commands.astype(np.float64)
