"""The C around the policy: guards, states, stacks and shaping, from what a task asks for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from plucky_heron.handover.forms.controlling import RAMP, TAKE_OVER, TEST_TIME, Controlling, Input
from plucky_heron.handover.forms.numbers import number, row
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.learning.policy import Policy

Array = np.ndarray

SAFE_KINDS = ("command", "ramp", "hold")


@dataclass(frozen=True)
class Answer:
    """How a drive shows that it is wired the right way: moved by `step` from its safe command, `sensor` has to change by at least `least`.

    A step of 0 leaves it untested.
    """

    step: float = 0.0
    sensor: int = -1
    least: float = 0.0


AUTHORITY = 0.25
"""Share of each command's range in the state limited, at first."""


def defaults_of(hold: float) -> dict[str, float]:
    """The settings that the generated code begins with, by the names of its structure."""
    return {
        "authority": AUTHORITY,
        "hold": hold,
        "ramp": RAMP,
        "take_over": TAKE_OVER,
        "test_time": TEST_TIME,
        "check_range": 1.0,
    }


def to_controller(
    parts: Controlling, policy: Policy, title: str, safe: Sequence[float], hold: float, answers: Sequence[Answer], safe_kind: str = "ramp"
) -> dict[str, str]:  # fmt: skip
    """``controller.h``, ``controller.c`` and the program that checks them."""
    low, high = parts.allowed()
    values: dict[str, Any] = {
        "title": title, "sensors": parts.sensors, "depth": parts.depth, "memory": policy.memory,
        "range_low": row(low), "range_high": row(high), "low": row(policy.low), "high": row(policy.high),
        "within_low": row(np.array([s.within[0] for s in parts.shaping])), "within_high": row(np.array([s.within[1] for s in parts.shaping])),
        "safe": row(np.array(safe)), "safe_kind": SAFE_KINDS.index(safe_kind), "hold": number(hold), "ramp": number(RAMP), "authority": number(AUTHORITY), "take_over": number(TAKE_OVER),
        "test_time": number(TEST_TIME), "test_step": row(np.array([a.step for a in answers])), "test_least": row(np.array([a.least for a in answers])),
        "test_sensor": Code(", ".join(str(a.sensor) for a in answers)), "inputs": [Code(_expression(i)) for i in parts.inputs],
        "shaping": [
            {
                "increment": s.increment, "plain": not np.isfinite(s.most) and s.share == 1.0,
                "most": number(s.most) if np.isfinite(s.most) else Code("INFINITY"), "share": number(s.share),
            }
            for s in parts.shaping
        ],
    }  # fmt: skip
    environment = templates()
    names = ("controller.h", "controller.c", "check_controller.c")
    return {name: environment.get_template(f"{name}.j2").render(values) for name in names}


def _expression(i: Input) -> str:
    source = f"c->history[{i.ago}][{i.index}]" if i.kind == "sensor" else f"c->{i.kind}[{i.index}]"
    source = {"value": source, "sine": f"sinf({source})", "cosine": f"cosf({source})"}[i.shape]
    return f"clip({source}, {number(i.low)}, {number(i.high)})" if i.clip else source
