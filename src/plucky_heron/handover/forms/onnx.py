"""The open model format."""

from __future__ import annotations

from typing import Any

import numpy as np

from plucky_heron.handover.forms.numbers import gates_of
from plucky_heron.learning.kernels.layers import LEAK, SPREAD_FLOOR
from plucky_heron.learning.network import Activation
from plucky_heron.learning.policy import Policy

Array = np.ndarray
ONNX_OPSET = 17


def to_onnx(policy: Policy) -> bytes:
    """The policy as an ONNX model: input ``sensors`` (batch, n), output ``commands`` (batch, m), float32.

    A policy that remembers has a second input ``memory`` (batch, units), zeros where an episode begins, and a second output
    ``memory_after``, which is the next call's ``memory``.
    """
    from onnx import TensorProto, checker, helper, numpy_helper

    constants: dict[str, Array] = {
        "offset": policy.offset, "scale": policy.scale, "lower_input": np.array(-policy.limit),
        "upper_input": np.array(policy.limit), "low": policy.low, "high": policy.high,
        "half": policy.half,
    }  # fmt: skip
    nodes = [
        helper.make_node("Sub", ["sensors", "offset"], ["shifted"]),
        helper.make_node("Mul", ["shifted", "scale"], ["scaled"]),
        helper.make_node("Clip", ["scaled", "lower_input", "upper_input"], ["limited" if policy.memory else "x0"]),
    ]
    if policy.memory:
        nodes += _memory_nodes(policy, constants)
    layers = policy.network.layers(policy.parameters)
    for k, (weights, biases, *norm) in enumerate(layers):
        constants[f"weights_{k}"], constants[f"biases_{k}"] = weights, biases
        last = k == len(layers) - 1
        summed = "raw" if last else f"sum{k}"
        nodes.append(helper.make_node("Gemm", [f"x{k}", f"weights_{k}", f"biases_{k}"], [summed]))
        if norm:
            constants[f"gains_{k}"], constants[f"offsets_{k}"] = norm
            names = [summed, f"gains_{k}", f"offsets_{k}"]
            nodes.append(helper.make_node("LayerNormalization", names, [f"even{k}"], axis=-1, epsilon=SPREAD_FLOOR))
            summed = f"even{k}"
        if not last:
            nodes += _bend(policy.activation, summed, f"x{k + 1}")
    if policy.squashed:
        nodes.append(helper.make_node("Tanh", ["raw"], ["drawn"]))
    else:
        constants["least_drawn"], constants["most_drawn"] = (np.array(x, dtype=np.float32) for x in (-1.0, 1.0))
        nodes.append(helper.make_node("Clip", ["raw", "least_drawn", "most_drawn"], ["drawn"]))
    if policy.base is None:
        constants["middle"] = policy.middle
    else:
        constants["base_gain"], constants["base_offset"] = policy.base[:, :-1].T, policy.base[:, -1]
        nodes.append(helper.make_node("Gemm", ["sensors", "base_gain", "base_offset"], ["middle"]))
    nodes += [
        helper.make_node("Mul", ["drawn", "half"], ["spanned"]),
        helper.make_node("Add", ["spanned", "middle"], ["centred"]),
        helper.make_node("Max", ["centred", "low"], ["above"]),
        helper.make_node("Min", ["above", "high"], ["commands"]),
    ]
    widths = {
        "sensors": policy.given,
        "commands": policy.sizes[-1],
        "memory": policy.memory,
        "memory_after": policy.memory,
    }
    inputs, outputs = (
        (("sensors", "memory"), ("commands", "memory_after")) if policy.memory else (("sensors",), ("commands",))
    )
    graph = helper.make_graph(
        nodes, "policy",
        *([helper.make_tensor_value_info(n, TensorProto.FLOAT, ["batch", widths[n]]) for n in names] for names in (inputs, outputs)),
        [numpy_helper.from_array(np.ascontiguousarray(v, dtype=np.float32), k) for k, v in constants.items()],
    )  # fmt: skip
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", ONNX_OPSET)], producer_name="plucky-heron")
    model.ir_version = 8
    checker.check_model(model)
    serialised: bytes = model.SerializeToString()
    return serialised


def _memory_nodes(policy: Policy, constants: dict[str, Array]) -> list[Any]:
    """The gated unit's nodes, from ``limited`` and ``memory`` to ``memory_after`` and the network's input ``x0``."""
    from onnx import helper

    weights, biases, own_weights, own_biases = gates_of(policy)
    constants |= {"gate_weights": weights, "gate_biases": biases, "own_weights": own_weights, "own_biases": own_biases}
    made = helper.make_node
    return [
        made("Gemm", ["limited", "gate_weights", "gate_biases"], ["came"]),
        made("Gemm", ["memory", "own_weights", "own_biases"], ["had"]),
        made("Split", ["came"], ["came_reset", "came_keep", "came_new"], axis=1),
        made("Split", ["had"], ["had_reset", "had_keep", "had_new"], axis=1),
        made("Add", ["came_reset", "had_reset"], ["sum_reset"]),
        made("Sigmoid", ["sum_reset"], ["reset"]),
        made("Add", ["came_keep", "had_keep"], ["sum_keep"]),
        made("Sigmoid", ["sum_keep"], ["keep"]),
        made("Mul", ["reset", "had_new"], ["recalled"]),
        made("Add", ["came_new", "recalled"], ["sum_new"]),
        made("Tanh", ["sum_new"], ["candidate"]),
        made("Sub", ["memory", "candidate"], ["apart"]),
        made("Mul", ["keep", "apart"], ["kept"]),
        made("Add", ["candidate", "kept"], ["memory_after"]),
        made("Concat", ["limited", "memory_after"], ["x0"], axis=1),
    ]


def _bend(activation: Activation, given: str, out: str) -> list[Any]:
    """The nodes of an activation."""
    from onnx import helper

    if activation == "silu":
        share = f"{out}_share"
        return [helper.make_node("Sigmoid", [given], [share]), helper.make_node("Mul", [given, share], [out])]
    if activation == "leaky relu":
        return [helper.make_node("LeakyRelu", [given], [out], alpha=LEAK)]
    return [helper.make_node({"tanh": "Tanh", "relu": "Relu", "elu": "Elu"}[activation], [given], [out])]
