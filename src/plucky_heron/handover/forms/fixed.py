"""Fixed-point C99 for controllers without a floating-point unit: 16-bit weights and activations, 32-bit sums, tables for what bends.

`FixedPolicy` is its bit-true model: the same integers, computed by NumPy.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.numbers import gates_of
from plucky_heron.handover.forms.numbers import row as float_row
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.learning.kernels.layers import LEAK, SPREAD_FLOOR
from plucky_heron.learning.policy import Policy

Array = np.ndarray

SUM = 12
"""Fraction bits of what enters an activation."""
UNIT = 14
"""Fraction bits of what lies within -1 .. 1."""
SHARE = 15
"""Fraction bits of gates and of the leak."""
TABLE_BITS = 6
"""A table has so many bits of places a unit, from 0 to `TABLE_END`."""
TABLE_END = 8
MOST = 32767
HEADROOM = 1.5
"""Of activations without a limit, above what recorded episodes met."""
OUTPUT = 30
"""Bits that the largest command, or a sensor value four times its range, may take."""


def _round(values: Any) -> Array:
    return np.asarray(np.floor(np.asarray(values, dtype=np.float64) + 0.5), dtype=np.int64)


def down(values: Array, bits: int | Array) -> Array:
    """Integers divided by 2**bits and rounded to the nearest, halves up; multiplied where `bits` is negative."""
    bits = np.asarray(bits)
    half = np.where(bits > 0, np.left_shift(1, np.maximum(bits - 1, 0)), 0)
    return np.asarray(np.where(bits > 0, (values + half) >> np.maximum(bits, 0), values << np.maximum(-bits, 0)))


def _bits_for(largest: float, within: int, most: int) -> int:
    """Most fraction bits with which `largest` stays within an integer."""
    return int(min(most, math.floor(math.log2(within / max(largest, 1e-12)))))


@dataclass(frozen=True)
class FixedLayer:
    """A layer in integers: sums have `given + weight` fraction bits."""

    weights: Array
    """int16 (outputs, inputs)."""
    biases: Array
    """int32 (outputs,)."""
    bits: int
    """Fraction bits of the weights."""
    given: int
    """Fraction bits of its inputs."""
    out: int
    """Fraction bits of what it puts out."""
    norm: tuple[Array, Array] | None = None

    @property
    def fall(self) -> int:
        """Bits from a sum to what enters the activation."""
        return self.bits + self.given - SUM


def make_layer(
    weights: Array, biases: Array, given: int, most: Array, out: int, norm: tuple[Array, Array] | None
) -> FixedLayer:
    """Weights (inputs, outputs) and biases (outputs,) in integers, with as many bits as no sum can overflow by.

    Parameters
    ----------
    most
        What each input (inputs,) may reach, in its own units.
    """
    bound = float((np.abs(weights).T @ most + np.abs(biases)).max())
    bits = min(_bits_for(float(np.abs(weights).max()), MOST, 15), _bits_for(1.01 * bound + 1e-3, 2**31 - 1, 31) - given)
    if bits < 4:
        raise StateError(f"the fixed-point form needs weights of another size: only {bits} bits would be left of them")
    return FixedLayer(
        _round(weights.T * 2.0**bits), _round(biases * 2.0 ** (bits + given)), bits, given, out,
        None if norm is None else (_round(norm[0] * 2.0**SUM), _round(norm[1] * 2.0**SUM)),
    )  # fmt: skip


@dataclass
class FixedPolicy:
    """A policy in integers; made by `fixed_policy`."""

    policy: Policy
    input_bits: Array
    """Fraction bits of each sensor value, int32."""
    output_bits: Array
    offset: Array
    factor: Array
    fall: Array
    """A sensor value q enters as ``down((q - offset) * factor, fall)``."""
    given: int
    limit: int
    layers: list[FixedLayer]
    gates: list[FixedLayer] = field(default_factory=list)
    middle: Array = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    half: Array = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    low: Array = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    high: Array = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    base: Array | None = None
    """int32 (commands, sensors), with `SUM` more fraction bits than take a sensor value to a command."""
    saturated: int = 0
    """How often a value was held at the end of its integer."""

    def quantise(self, sensors: Array) -> Array:
        """Sensor values in SI (N, sensors) as int32; what is too large is held at the end."""
        values = np.nan_to_num(sensors, nan=0.0, posinf=1e30, neginf=-1e30) * 2.0**self.input_bits
        return np.asarray(np.clip(_round(np.clip(values, -(2.0**31), 2.0**31)), -(2**31), 2**31 - 1))

    def commands(self, integers: Array) -> Array:
        """Command integers in SI (N, commands)."""
        return np.asarray(integers / 2.0**self.output_bits)

    def blank(self, copies: int) -> Array:
        """What is remembered where an episode begins."""
        return np.zeros((copies, self.policy.memory), dtype=np.int64)

    def step(self, sensors: Array, state: Array) -> tuple[Array, Array]:
        """Command integers (N, commands) from sensor integers (N, sensors), and what is remembered after them."""
        x = down((sensors - self.offset) * self.factor, self.fall)
        x = self._held(x, self.limit)
        if self.policy.memory:
            state = self._remember(x, state)
            x = np.concatenate([x, down(state, UNIT - self.given)], axis=1)
        for layer in self.layers[:-1]:
            x = self._layer(layer, x)
        last = self.layers[-1]
        total = x @ last.weights.T + last.biases
        if self.policy.squashed:
            drawn = look_up(down(total, last.fall), tanh_table())
        else:
            drawn = np.clip(down(total, last.bits + last.given - UNIT), -(2**UNIT), 2**UNIT)
        centre = self.middle
        if self.base is not None:
            centre = down(sensors @ self.base.T, SUM) + self.middle
        return np.clip(centre + down(self.half * drawn, UNIT), self.low, self.high), state

    def _held(self, values: Array, most: int) -> Array:
        self.saturated += int((np.abs(values) > most).sum())
        return np.asarray(np.clip(values, -most, most))

    def _layer(self, layer: FixedLayer, x: Array) -> Array:
        z = down(x @ layer.weights.T + layer.biases, layer.fall)
        if layer.norm is not None:
            z = normalised(z, *layer.norm)
        return self._held(bend(self.policy.activation, z, layer.out), MOST)

    def _remember(self, x: Array, state: Array) -> Array:
        units = self.policy.memory
        came, had = (
            down(rows @ g.weights.T + g.biases, g.fall) for g, rows in zip(self.gates, (x, state), strict=True)
        )
        reset, keep = (
            gate(came[:, k * units : (k + 1) * units] + had[:, k * units : (k + 1) * units]) for k in range(2)
        )
        candidate = look_up(came[:, 2 * units :] + down(reset * had[:, 2 * units :], SHARE), tanh_table())
        return np.asarray(candidate + down(keep * (state - candidate), SHARE))


def tanh_table() -> Array:
    """tanh at 0, 1/64, ... 8, with `UNIT` fraction bits."""
    return _round(np.tanh(np.arange(TABLE_END * 2**TABLE_BITS + 1) / 2**TABLE_BITS) * 2**UNIT)


def decay_table() -> Array:
    """1 - e^-x at the same places: what the exponential linear unit falls to."""
    return _round(-np.expm1(-np.arange(TABLE_END * 2**TABLE_BITS + 1) / 2**TABLE_BITS) * 2**UNIT)


def look_up(z: Array, table: Array) -> Array:
    """An odd function of z (`SUM` fraction bits) from its table, straight between its places, `UNIT` fraction bits."""
    size = np.minimum(np.abs(z), TABLE_END * 2**SUM - 1)
    place, rest = size >> (SUM - TABLE_BITS), size & (2 ** (SUM - TABLE_BITS) - 1)
    value = table[place] + (((table[place + 1] - table[place]) * rest) >> (SUM - TABLE_BITS))
    return np.asarray(np.where(z < 0, -value, value))


def gate(z: Array) -> Array:
    """1 / (1 + e^-z), `SHARE` fraction bits: half of one and the tangent of half."""
    return np.asarray(2**UNIT + look_up(z >> 1, tanh_table()))


def bend(activation: str, z: Array, out: int) -> Array:
    """An activation of z (`SUM` fraction bits) with `out` fraction bits."""
    if activation == "tanh":
        return down(look_up(z, tanh_table()), UNIT - out)
    if activation == "relu":
        return down(np.maximum(z, 0), SUM - out)
    if activation == "leaky relu":
        return down(np.where(z < 0, down(z * round(LEAK * 2**SHARE), SHARE), z), SUM - out)
    if activation == "elu":
        below = down(look_up(np.minimum(z, 0), decay_table()), UNIT - out)
        return np.asarray(np.where(z < 0, below, down(z, SUM - out)))
    return down(down(z * gate(z), SHARE), SUM - out)


def nearest(a: Array, b: Array | int) -> Array:
    """Integers divided by a positive one and rounded to the nearest, halves away from zero."""
    return np.asarray(np.sign(a) * ((np.abs(a) + np.asarray(b) // 2) // b))


def normalised(z: Array, gains: Array, offsets: Array) -> Array:
    """Rows brought to mean 0 and spread 1, times gains, plus offsets; all with `SUM` fraction bits."""
    count = z.shape[1]
    apart = z - nearest(z.sum(axis=1), count)[:, None]
    variance = nearest((apart * apart).sum(axis=1), count) + round(SPREAD_FLOOR * 2 ** (2 * SUM))
    spread = np.maximum(np.array([math.isqrt(int(v)) for v in variance], dtype=np.int64), 1)[:, None]
    even = nearest(apart << SUM, spread)
    return np.asarray(down(even * gains, SUM) + offsets)


def fixed_policy(policy: Policy, vectors: Array) -> FixedPolicy:
    """The policy in integers; `vectors` (N, sensors) in SI say how large activations without a limit get.

    Raises
    ------
    StateError
        Its numbers do not fit into so few bits.
    """
    given = _bits_for(policy.limit, MOST, UNIT)
    largest = 4.0 * np.maximum(np.abs(vectors).max(axis=0), np.abs(policy.offset) + policy.limit / policy.scale)
    input_bits = np.array([_bits_for(float(v), 2**OUTPUT, 30) for v in largest])
    output_bits = np.array(
        [_bits_for(float(max(abs(a), abs(b))), 2**OUTPUT, 30) for a, b in zip(policy.low, policy.high, strict=True)]
    )
    wanted = policy.scale.astype(np.float64) * 2.0 ** (given - input_bits)
    fall = np.array([int(np.clip(14 - math.floor(math.log2(w)), 0, 60)) for w in wanted])
    scaled = 2.0**output_bits
    base = None
    middle = _round(policy.middle * scaled)
    if policy.base is not None:
        base = _round(policy.base[:, :-1] * scaled[:, None] / 2.0**input_bits * 2.0**SUM)
        middle = _round(policy.base[:, -1] * scaled)
        if np.abs(base).max() > 2**31 - 1:
            raise StateError("the fixed-point form cannot hold the gains of the base controller in 32 bits")
    made = FixedPolicy(
        policy, input_bits, output_bits, _round(policy.offset * 2.0**input_bits), _round(wanted * 2.0**fall), fall, given,
        _round(policy.limit * 2.0**given).item(), [], [], middle, _round(policy.half * scaled), _round(policy.low * scaled), _round(policy.high * scaled), base,
    )  # fmt: skip
    most = np.full(policy.given, policy.limit)
    if policy.memory:
        weights, biases, own_weights, own_biases = gates_of(policy)
        ones = np.ones(policy.memory)
        made.gates = [
            make_layer(weights, biases, given, most, SUM, None), make_layer(own_weights, own_biases, UNIT, ones, SUM, None)
        ]  # fmt: skip
        most = np.concatenate([most, ones])
    reached = hidden_reach(policy, vectors)
    parts = policy.network.layers(policy.parameters)
    for number, (weights, biases, *norm) in enumerate(parts):
        last = number == len(parts) - 1
        peak = 1.0 if policy.activation == "tanh" or last else HEADROOM * max(reached[number], 1e-3)
        out = UNIT if last else _bits_for(peak, MOST, UNIT)
        made.layers.append(make_layer(weights, biases, given, most, out, (norm[0], norm[1]) if norm else None))
        given, most = out, np.full(weights.shape[1], MOST / 2.0**out if policy.activation != "tanh" else 1.0)
    return made


def hidden_reach(policy: Policy, vectors: Array) -> list[float]:
    """The largest activation of each hidden layer on these sensor values."""
    inputs = np.clip((vectors[:, : policy.given] - policy.offset) * policy.scale, -policy.limit, policy.limit)
    x = inputs.astype(np.float64)
    if policy.memory:  # what is remembered lies within -1 .. 1: the largest of both ends is taken below
        x = np.concatenate([x, np.ones((len(x), policy.memory))], axis=1)
    found = []
    for weights, biases, *norm in policy.network.layers(policy.parameters)[:-1]:
        z = x @ weights + biases
        if norm:
            z = (z - z.mean(axis=1, keepdims=True)) / np.sqrt(z.var(axis=1, keepdims=True) + SPREAD_FLOOR) * norm[
                0
            ] + norm[1]
        x = _bent(policy.activation, z)
        found.append(float(np.abs(x).max()))
    return found


def _bent(activation: str, z: Array) -> Array:
    if activation == "tanh":
        return np.asarray(np.tanh(z))
    if activation == "relu":
        return np.asarray(np.maximum(z, 0.0))
    if activation == "leaky relu":
        return np.asarray(np.maximum(z, LEAK * z))
    if activation == "elu":
        return np.where(z > 0.0, z, np.expm1(np.minimum(z, 0.0)))
    return np.asarray(z / (1.0 + np.exp(-z)))


def _ints(values: Any) -> Code:
    return Code(", ".join(str(int(v)) for v in np.asarray(values).ravel()))


def _told(layer: FixedLayer) -> dict[str, Any]:
    return {
        "weights": [_ints(row) for row in layer.weights], "biases": _ints(layer.biases), "inputs": layer.weights.shape[1],
        "outputs": layer.weights.shape[0], "fall": layer.fall, "up": layer.bits + layer.given - UNIT, "out": layer.out,
        "norm": [] if layer.norm is None else [_ints(values) for values in layer.norm],
    }  # fmt: skip


def to_fixed(
    made: FixedPolicy, title: str, inputs: list[Line], outputs: list[Line], sample_time: float
) -> dict[str, str]:
    """``policy_fixed.h`` and ``policy_fixed.c``, and the program that checks them."""
    policy = made.policy
    values: dict[str, Any] = {
        "title": title, "inputs": inputs, "outputs": outputs, "sample_time": Code(repr(sample_time)),
        "input_bits": _ints(made.input_bits), "output_bits": _ints(made.output_bits), "offset": _ints(made.offset), "factor": _ints(made.factor), "fall": _ints(made.fall),
        "in_bits": made.input_bits.tolist(), "out_bits": made.output_bits.tolist(), "given": made.given, "limit": made.limit,
        "layers": [_told(layer) for layer in made.layers], "gates": [_told(layer) for layer in made.gates], "memory": policy.memory,
        "widest": max(policy.sizes), "activation": policy.activation, "squashed": policy.squashed, "normalised": policy.normalised,
        "middle": _ints(made.middle), "half": _ints(made.half), "low": _ints(made.low), "high": _ints(made.high),
        "base": [] if made.base is None else [_ints(row) for row in made.base], "leak": round(LEAK * 2**SHARE), "floor": round(SPREAD_FLOOR * 2 ** (2 * SUM)),
        "SUM": SUM, "UNIT": UNIT, "SHARE": SHARE, "STEP": SUM - TABLE_BITS, "places": TABLE_END * 2**TABLE_BITS + 1, "end": TABLE_END * 2**SUM - 1, "MOST": MOST,
        "tangent": _ints(tanh_table()), "decay": _ints(decay_table()),
    }  # fmt: skip
    values["span"] = float_row(policy.high - policy.low)
    values["tables"] = [(Code(str(k)), layer) for k, layer in enumerate(values["layers"])]
    values["tables"] += [(Code(f"gates_{k}"), layer) for k, layer in enumerate(values["gates"])]
    environment = templates()
    names = ("policy_fixed.h", "policy_fixed.c", "check_fixed.c")
    return {name: environment.get_template(f"{name}.j2").render(values) for name in names}


def run_fixed(made: FixedPolicy, vectors: Array, first: Array | None = None) -> Array:
    """Commands (N, commands) of the bit-true model at `vectors` (N, sensors) in SI, row by row where it remembers."""
    rows = made.quantise(vectors[:, : made.policy.given])
    if not made.policy.memory:
        return made.commands(made.step(rows, made.blank(len(rows)))[0])
    state, found = made.blank(1), []
    for k, row in enumerate(rows):
        begins = first is None or bool(first[k])
        commands, state = made.step(row[None], made.blank(1) if begins else state)
        found.append(commands)
    return made.commands(np.concatenate(found))
