"""The forms a policy is handed over in: the open model format and plain C, generated from the same numbers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from plucky_heron.learning.policy import Policy

if TYPE_CHECKING:
    import jinja2

Array = np.ndarray
ONNX_OPSET = 17


@dataclass(frozen=True)
class Line:
    """One signal of the contract."""

    name: str
    unit: str
    low: float
    high: float
    positive: str = ""


def templates() -> jinja2.Environment:
    """The templates of generated text; a missing value is an error, not a blank."""
    import jinja2

    loader = jinja2.PackageLoader("plucky_heron.handover")
    # what is generated is C and Markdown, for which HTML escapes would be wrong
    return jinja2.Environment(
        loader=loader, undefined=jinja2.StrictUndefined, keep_trailing_newline=True, autoescape=False
    )


def to_onnx(policy: Policy) -> bytes:
    """The policy as an ONNX model: input ``sensors`` (batch, n), output ``commands`` (batch, m), float32."""
    from onnx import TensorProto, checker, helper, numpy_helper

    constants: dict[str, Array] = {
        "offset": policy.offset, "scale": policy.scale, "lower_input": np.array(-policy.limit),
        "upper_input": np.array(policy.limit), "low": policy.low, "high": policy.high,
        "half": (policy.high - policy.low) * np.float32(0.5), "middle": (policy.high + policy.low) * np.float32(0.5),
    }  # fmt: skip
    nodes = [
        helper.make_node("Sub", ["sensors", "offset"], ["shifted"]),
        helper.make_node("Mul", ["shifted", "scale"], ["scaled"]),
        helper.make_node("Clip", ["scaled", "lower_input", "upper_input"], ["x0"]),
    ]
    layers = policy.network.layers(policy.parameters)
    for k, (weights, biases) in enumerate(layers):
        constants[f"weights_{k}"], constants[f"biases_{k}"] = weights, biases
        last = k == len(layers) - 1
        nodes.append(
            helper.make_node("Gemm", [f"x{k}", f"weights_{k}", f"biases_{k}"], ["drawn" if last else f"sum{k}"])
        )
        if not last:
            nodes.append(
                helper.make_node({"tanh": "Tanh", "relu": "Relu"}[policy.activation], [f"sum{k}"], [f"x{k + 1}"])
            )
    nodes += [
        helper.make_node("Mul", ["drawn", "half"], ["spanned"]),
        helper.make_node("Add", ["spanned", "middle"], ["centred"]),
        helper.make_node("Max", ["centred", "low"], ["above"]),
        helper.make_node("Min", ["above", "high"], ["commands"]),
    ]
    graph = helper.make_graph(
        nodes, "policy",
        [helper.make_tensor_value_info("sensors", TensorProto.FLOAT, ["batch", policy.sizes[0]])],
        [helper.make_tensor_value_info("commands", TensorProto.FLOAT, ["batch", policy.sizes[-1]])],
        [numpy_helper.from_array(np.ascontiguousarray(v, dtype=np.float32), k) for k, v in constants.items()],
    )  # fmt: skip
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", ONNX_OPSET)], producer_name="plucky-heron")
    model.ir_version = 8
    checker.check_model(model)
    serialised: bytes = model.SerializeToString()
    return serialised


def to_c(policy: Policy, title: str, inputs: list[Line], outputs: list[Line], sample_time: float) -> dict[str, str]:
    """``policy.h`` and ``policy.c``."""
    layers: list[dict[str, Any]] = []
    parts = policy.network.layers(policy.parameters)
    for k, (weights, biases) in enumerate(parts):
        hidden = {"tanh": "tanhf(sum + {b})", "relu": "fmaxf(sum + {b}, 0.0f)"}[policy.activation]
        shape = "sum + {b}" if k == len(parts) - 1 else hidden
        layers.append(
            {
                "inputs": weights.shape[0], "outputs": weights.shape[1], "biases": _row(biases),
                "weights": [_row(column) for column in weights.T], "source": "ab"[k % 2], "target": "ba"[k % 2],
                "function": shape.format(b=f"biases_{k}[i]"),
            }
        )  # fmt: skip
    half, middle = (policy.high - policy.low) * np.float32(0.5), (policy.high + policy.low) * np.float32(0.5)
    values = {
        "title": _comment(title), "inputs": [_safe(s) for s in inputs], "outputs": [_safe(s) for s in outputs],
        "sample_time": repr(sample_time), "offset": _row(policy.offset), "scale": _row(policy.scale),
        "limit": _number(policy.limit), "layers": layers, "widest": max(policy.sizes), "half": _row(half),
        "middle": _row(middle), "low": _row(policy.low), "high": _row(policy.high),
    }  # fmt: skip
    environment = templates()
    return {name: environment.get_template(f"{name}.j2").render(values) for name in ("policy.h", "policy.c", "check.c")}


def _row(values: Array) -> str:
    return ", ".join(_number(v) for v in values)


def _number(value: Any) -> str:
    """A float32 in C that reads back to the same bits."""
    text = np.format_float_scientific(np.float32(value), unique=True, trim="0", exp_digits=2)
    return f"{text}f"


def _safe(line: Line) -> Line:
    return Line(_comment(line.name), _comment(line.unit), line.low, line.high, _comment(line.positive))


def _comment(text: str) -> str:
    """Text that cannot end a C comment."""
    plain = "".join(c if c.isprintable() else " " for c in text)
    return plain.replace("*/", "* /").replace("/*", "/ *").replace("\\", "/")
