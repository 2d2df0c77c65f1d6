"""A finished policy: raw sensor values in SI units in, commands in SI units out, everything between inside."""

from __future__ import annotations

import io
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.errors import FileError
from plucky_heron.files import is_file, read_arrays, write_whole
from plucky_heron.learning.memory import Memory
from plucky_heron.learning.network import ACTIVATIONS, Activation, Network
from plucky_heron.simulation.batch import Batch

Array = np.ndarray
MOST_POLICY = 2_000_000_000
"""Bytes a policy may come to in memory."""
MOST_UNITS = 100_000


@dataclass(frozen=True)
class Policy:
    """A deterministic policy; all arithmetic is float32, as in the exported forms.

    Attributes
    ----------
    squashed
        Whether the network's outputs pass through tanh; else they are held within -1 .. 1.
    normalised
        Whether the network normalises its hidden layers.
    offset, scale : float32 (observations,)
        A sensor value x enters the network as ``clip((x - offset) * scale, -limit, limit)``.
    parameters : float32 (count,)
        Weights and biases, see `Network`.
    low, high : float32 (actions,)
        Network output -1 .. 1 is mapped onto low .. high and clipped there.
    base : float32 (actions, observations + 1), optional
        A base controller under the network, affine in the sensor values, its constants last: the network then only corrects it.
    memory, memory_parameters
        Units of a gated memory before the network, and its weights (see `kernels.memory`); what it remembers are the network's last inputs.
    identity : str
        The run that it was learned in, "" where that is not known.
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
    identity: str = ""

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
        # held within -1 .. 1, so that a correction stays within its reach
        drawn = np.tanh(drawn) if self.squashed else np.clip(drawn, -1.0, 1.0)
        centre = self.middle if self.base is None else sensed @ self.base[:, :-1].T + self.base[:, -1]
        commands: Array = np.clip(centre + self.half * drawn, self.low, self.high)
        return commands, state

    def save(self, path: Path, identity: str = "") -> None:
        """Write as .npz without objects, with the identity of the run that it belongs to."""
        out = io.BytesIO()
        facts = json.dumps({
            "sizes": self.sizes, "activation": self.activation, "limit": self.limit, "normalised": self.normalised,
            "squashed": self.squashed, "reach": self.reach, "memory": self.memory, "identity": identity or self.identity,
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
        if not is_file(path):
            raise FileError(path, "", None, "no policy is kept here yet")
        kept = read_arrays(path, MOST_POLICY)
        try:
            facts = json.loads(kept["facts"].tobytes().decode())
            extra = {name: kept[name] for name in ("base", "memory_parameters") if name in kept}
            made = cls(
                tuple(int(size) for size in facts["sizes"]), facts["activation"], limit=float(facts["limit"]),
                **{name: kept[name] for name in ("parameters", "offset", "scale", "low", "high")},
                normalised=bool(facts.get("normalised", False)), squashed=bool(facts.get("squashed", False)),
                reach=float(facts.get("reach", 1.0)), memory=int(facts.get("memory", 0)), **extra,
                identity=str(facts.get("identity", "")),
            )  # fmt: skip
            made.check()
        except (KeyError, TypeError, ValueError, RecursionError, AttributeError, OverflowError) as error:
            raise FileError(path, "", None, f"is no policy, or damaged: {type(error).__name__}: {error}") from error
        return made

    def check(self) -> None:
        """Whether the arrays fit together and every number is one.

        Raises
        ------
        ValueError
            With what does not fit.
        """
        given, actions = self.given, self.sizes[-1]
        if len(self.sizes) < 2 or min(self.sizes) < 1 or max(self.sizes) > MOST_UNITS or self.memory < 0 or given < 1:
            raise ValueError(f"layers of {self.sizes} units, {self.memory} remembered")
        if self.activation not in ACTIVATIONS:
            raise ValueError(f"activation {self.activation!r} is unknown")
        shapes: dict[str, tuple[int, ...]] = {
            "parameters": (self.network.count,), "offset": (given,), "scale": (given,), "low": (actions,), "high": (actions,),
        }  # fmt: skip
        if self.base is not None:
            shapes["base"] = (actions, given + 1)
        if self.memory:
            shapes["memory_parameters"] = (Memory(given, self.memory).count,)
        for name, shape in shapes.items():
            array = getattr(self, name)
            if array is None or array.shape != shape:
                raise ValueError(f"{name} has the shape {None if array is None else array.shape}, wanted {shape}")
            if array.dtype.kind != "f" or not np.isfinite(array).all():
                raise ValueError(f"{name} holds something that is no finite number")
        if not (np.isfinite(self.limit) and self.limit > 0.0 and np.isfinite(self.reach)):
            raise ValueError("limit or reach is no finite number above zero")
        if not (self.low < self.high).all():
            raise ValueError("low is not below high")


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
