"""The Structured Text around the policy: the same guards and states as in C, as a function block behind that of the policy."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from plucky_heron.handover.forms.controller import AUTHORITY, SAFE_KINDS, Answer
from plucky_heron.handover.forms.controlling import RAMP, TAKE_OVER, TEST_TIME, Controlling, Input
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.st import identifiers, real, reals
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.learning.policy import Policy

Array = np.ndarray

CONTROLLER_BLOCK = "HeronController"


@dataclass(frozen=True)
class Setting:
    """An input with the value that the text was made with."""

    name: str
    kind: str
    number: float
    what: str = ""

    @property
    def value(self) -> Code:
        """As a literal."""
        told = {"BOOL": str(bool(self.number)).upper(), "INT": str(int(self.number))}
        return Code(told.get(self.kind) or real(self.number))


def settings_of(hold: float, safe_kind: str) -> list[Setting]:
    """What may be set from outside, in order."""
    return [
        Setting("check_range", "BOOL", 1, "refuse what lies too far beyond the range of a signal"),
        Setting("check_rate", "BOOL", 0, "refuse what changes faster than most_rate"),
        Setting("check_heartbeat", "BOOL", 0),
        Setting("needs_homing", "BOOL", 0),
        Setting("needs_test", "BOOL", 0),
        Setting("safe_kind", "INT", SAFE_KINDS.index(safe_kind), "0 the safe commands at once, 1 over the time of the ramp, 2 hold"),
        Setting("authority", "REAL", AUTHORITY, "share of the range of each command about the safe one, in the state limited"),
        Setting("hold_time", "REAL", hold, "s"),
        Setting("ramp", "REAL", RAMP, "s"),
        Setting("take_over", "REAL", TAKE_OVER, "s"),
        Setting("test_time", "REAL", TEST_TIME, "s"),
    ]  # fmt: skip


_ENTER = """    IF go >= 0 AND (go <> state OR go_reason <> reason) THEN
        i := events MOD 16;
        event_sample[i] := samples;
        event_from[i] := state;
        event_to[i] := go;
        event_reason[i] := go_reason;
        events := events + 1;
        IF go = 5 AND state <> 5 THEN
            faults := faults + 1;
        END_IF;
        IF state <> 3 AND state <> 4 THEN
            (* the policy begins anew, from where drives stand *)
            fresh := TRUE;
            begins := TRUE;
            FOR k := 0 TO {last} DO
                given[k] := 0.0;
                previous[k] := 0.0;
                held[k] := LIMIT(within_low[k], out[k], within_high[k]);
                wanted[k] := held[k];
            END_FOR;
        END_IF;
        from_there := out;
        state := go;
        reason := go_reason;
        reason_index := go_index;
        since := 0;
        testing := 0;
    END_IF;"""
"""Passing into another state; the language has no procedures, so it stands where it is needed."""


def to_controller_st(
    parts: Controlling, policy: Policy, inputs: Sequence[Line], outputs: Sequence[Line], safe: Sequence[float], hold: float,
    answers: Sequence[Answer], safe_kind: str, sample_time: float,
) -> str:  # fmt: skip
    """What is put behind the text of the policy (`st.to_st`) of the same inputs and outputs."""
    low, high = parts.allowed()
    names = [Code(n) for n in identifiers(s.name for s in parts.sensors)]
    shaping = [
        {
            "increment": s.increment, "plain": not np.isfinite(s.most) and s.share == 1.0,
            "most": Code(real(s.most)) if np.isfinite(s.most) else None, "share": Code(real(s.share)),
        }
        for s in parts.shaping
    ]  # fmt: skip
    values: dict[str, Any] = {
        "sensors": list(zip(parts.sensors, names, strict=True)), "n": len(names), "m": len(outputs), "depth": parts.depth,
        "sample_time": Code(real(sample_time)), "range_low": reals(low), "range_high": reals(high), "low": reals(policy.low),
        "high": reals(policy.high), "within_low": reals(np.array([s.within[0] for s in parts.shaping])),
        "within_high": reals(np.array([s.within[1] for s in parts.shaping])), "safe": reals(np.array(safe)),
        "settings": settings_of(hold, safe_kind),
        "test_step": reals(np.array([a.step for a in answers])), "test_least": reals(np.array([a.least for a in answers])),
        "test_sensor": Code(", ".join(str(a.sensor) for a in answers)), "shaping": shaping, "servos": [k for k, s in enumerate(parts.shaping) if s.servo],
        "inputs": [(Code(_value(i)), Code(n)) for i, n in zip(parts.inputs, identifiers(s.name for s in inputs), strict=True)],
        "outputs": [Code(n) for n in identifiers(s.name for s in outputs)], "enter": Code(_ENTER.replace("{last}", str(len(outputs) - 1))),
    }  # fmt: skip
    return templates().get_template("controller.st.j2").render(values)


def _value(i: Input) -> str:
    source = f"history[{i.ago}, {i.index}]" if i.kind == "sensor" else f"{i.kind}[{i.index}]"
    source = {"value": source, "sine": f"SIN({source})", "cosine": f"COS({source})"}[i.shape]
    return f"LIMIT({real(i.low)}, {source}, {real(i.high)})" if i.clip else source
