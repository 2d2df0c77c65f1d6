"""A policy's numbers as generated code writes them."""

from __future__ import annotations

from typing import Any

import numpy as np

from plucky_heron.handover.forms.templates import Code
from plucky_heron.learning.memory import Memory
from plucky_heron.learning.policy import Policy

Array = np.ndarray


def row(values: Array) -> Code:
    """A row of float32 numbers in C."""
    return Code(", ".join(number(v) for v in values))


def number(value: Any) -> Code:
    """A float32 in C that reads back to the same bits."""
    text = np.format_float_scientific(np.float32(value), unique=True, trim="0", exp_digits=2)
    return Code(f"{text}f")


def gates_of(policy: Policy) -> tuple[Array, Array, Array, Array]:
    """Weights of the inputs (n, 3 m), their biases, weights of the memory (m, 3 m), their biases."""
    assert policy.memory_parameters is not None
    return Memory(policy.given, policy.memory).parts(policy.memory_parameters)
