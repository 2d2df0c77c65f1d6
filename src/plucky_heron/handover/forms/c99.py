"""Plain C99, float32, without heap."""

from __future__ import annotations

from typing import Any

import numpy as np

from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.numbers import gates_of, number, row
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.learning.kernels.layers import LEAK, SPREAD_FLOOR
from plucky_heron.learning.network import Activation
from plucky_heron.learning.policy import Policy

Array = np.ndarray

BENDS: dict[Activation, str] = {
    "tanh": "tanhf(x)", "relu": "fmaxf(x, 0.0f)", "leaky relu": f"fmaxf(x, {LEAK}f * x)", "elu": "x > 0.0f ? x : expm1f(x)",
    "silu": "x / (1.0f + expf(-x))",
}  # fmt: skip
"""The activations in C."""


def to_c(policy: Policy, title: str, inputs: list[Line], outputs: list[Line], sample_time: float) -> dict[str, str]:
    """``policy.h`` and ``policy.c``."""
    layers: list[dict[str, Any]] = []
    parts = policy.network.layers(policy.parameters)
    for k, (weights, biases, *norm) in enumerate(parts):
        layers.append(
            {
                "inputs": weights.shape[0], "outputs": weights.shape[1], "biases": row(biases),
                "weights": [row(column) for column in weights.T], "source": "ab"[k % 2], "target": "ba"[k % 2],
                "hidden": k < len(parts) - 1, "norm": [row(values) for values in norm],
            }
        )  # fmt: skip
    values: dict[str, Any] = {
        "title": title, "inputs": inputs, "outputs": outputs,
        "sample_time": Code(repr(sample_time)), "offset": row(policy.offset), "scale": row(policy.scale),
        "limit": number(policy.limit), "layers": layers, "widest": max(policy.sizes), "half": row(policy.half),
        "bend": Code(BENDS[policy.activation]), "normalised": policy.normalised, "floor": number(SPREAD_FLOOR),
        "squashed": policy.squashed, "middle": row(policy.middle if policy.base is None else policy.base[:, -1]),
        "base": [] if policy.base is None else [row(line) for line in policy.base[:, :-1]], "low": row(policy.low), "high": row(policy.high),
    }  # fmt: skip
    values["memory"] = policy.memory
    values["span"] = row(policy.high - policy.low)
    if policy.memory:
        weights, biases, own_weights, own_biases = gates_of(policy)
        values |= {
            "gates": [row(column) for column in weights.T], "gate_biases": row(biases),
            "own_gates": [row(column) for column in own_weights.T], "own_biases": row(own_biases),
        }  # fmt: skip
    environment = templates()
    return {name: environment.get_template(f"{name}.j2").render(values) for name in ("policy.h", "policy.c", "check.c")}
