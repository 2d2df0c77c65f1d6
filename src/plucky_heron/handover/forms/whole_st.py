"""The Structured Text between instruments and drives: the same as ``signals.c`` with the controller in it, as one function block."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.handover.forms.controller_st import settings_of
from plucky_heron.handover.forms.controlling import Controlling
from plucky_heron.handover.forms.languages import STRUCTURED_TEXT
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.signals import SignalCode
from plucky_heron.handover.forms.st import identifiers, real, reals
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.handover.wiring import Mapped
from plucky_heron.task.problem import Problem

WHOLE_BLOCK = "HeronWhole"
_WORD = 2**32
_NUMBERED = re.compile(r"n(\d+) :=")


@dataclass(frozen=True)
class Place:
    """A field of the instruments or drives; `raw` where it is a raw number."""

    name: Code
    told: str
    raw: dict[str, Any] | None = None


def to_whole_st(
    problem: Problem, parts: Controlling, outputs: Sequence[Line], hold: float, safe_kind: str, wired: tuple[list[Mapped], list[Mapped]]
) -> str:  # fmt: skip
    """What is put behind the controller's text (`controller_st.to_controller_st`).

    Raises
    ------
    StateError
        A counter turns over where whole numbers of 32 bits cannot follow it.
    """
    code = SignalCode(problem, parts, language=STRUCTURED_TEXT)
    links = code.links()
    limits = np.array([problem.machine.command_range(d) for d in code.drives]).reshape(-1, 2)
    instruments = _instruments(code, wired[0])
    statements = [*code.observing, *code.mixing, *(line for s in code.sets for line in (*s["may"], *s["does"]))]
    numbers = max((int(found[1]) + 1 for line in statements if (found := _NUMBERED.match(line))), default=0)
    half = real(math.pi)
    values: dict[str, Any] = {
        "instruments": instruments, "drives": _drives(code, wired[1]), "settings": settings_of(hold, safe_kind), "m": len(outputs),
        "half_turn": Code(half), "whole_turn": Code(real(2.0 * math.pi)), "quarter_turn": Code(real(0.5 * math.pi)), "low": reals(limits[:, 0]), "high": reals(limits[:, 1]),
        "sample_time": Code(real(problem.sample_time)), "slots": code.slots, "numbers": numbers, "places": code.places(), "mixed": code.mixed,
        "links": [{"turn": reals(link.turn), "origin": reals(link.origin), "axis": reals(link.axis)} for link in links],
        "chain": Code("\n".join(_chain(code))), "observing": _code(code.observing), "mixing": _code(code.mixing), "direct": _code(code.direct), "sets": code.sets,
        "standing": [(k, i, Code(real(parts.shaping[k].within[0])), Code(real(parts.shaping[k].within[1]))) for k, i in code.standing],
        "values": list(zip(map(Code, identifiers(s.name for s in parts.sensors)), _code(code.sensors), strict=True)),
        "outputs": [Code(n) for n in identifiers(s.name for s in outputs)],
        "read": [{"name": instruments[m.index].name, "index": m.index, "zero": m.zero, "turns_over": _turn(m), "scale": Code(real(m.scale)), "offset": Code(real(m.offset))} for m in wired[0]],
    }  # fmt: skip
    return templates().get_template("whole.st.j2").render(values)


def _code(texts: Sequence[str]) -> list[Code]:
    return [Code(text) for text in texts]


def _turn(m: Mapped) -> int:
    """Counts after which a counter begins anew; 0 where it does not, or where whole numbers do so by themselves."""
    if m.turns_over > _WORD // 2 - 1 and m.turns_over != _WORD:
        raise StateError(
            f"signals.{m.name}.turns_over: Structured Text counts up to {_WORD // 2 - 1} or all 32 bits; leave the form st out, or change it"
        )
    return m.turns_over


def _instruments(code: SignalCode, read: Sequence[Mapped]) -> list[Place]:
    raw = {m.index: m for m in read}
    found = []
    for k, name in enumerate(identifiers(s.name for s in code.signals)):
        s, m = code.signals[k], raw.get(k)
        told = f"{s.name}{', ' + s.unit if s.unit and m is None else ''}{', positive is ' + s.positive if s.positive else ''}"
        if m is not None:
            told += f", raw{': ' + m.what if m.what else ''}"
        found.append(Place(Code(name), told, {"at": k} if m is not None else None))
    return found


def _drives(code: SignalCode, put: Sequence[Mapped]) -> list[Place]:
    raw = {m.index: m for m in put}
    found = []
    for k, name in enumerate(identifiers(code.drives)):
        m = raw.get(k)
        unit = code.problem.machine.drive_unit(code.drives[k])
        if m is None:
            found.append(Place(Code(name), f"{code.drives[k]}{', ' + unit if unit else ''}"))
            continue
        told = f"{code.drives[k]}, raw{': ' + m.what if m.what else ''}, {m.low} .. {m.high}"
        values = {"low": m.low, "high": m.high, "zero": m.zero, "offset": m.offset, "each": 1.0 / m.scale}
        found.append(Place(Code(name), told, {key: Code(real(value)) for key, value in values.items()}))
    return found


def _chain(code: SignalCode) -> list[str]:
    """Statements that work out the places of all bodies that formulas name."""
    lines = [f"            ground.r[{k}] := 1.0;" for k in (0, 4, 8)]
    for k, link in enumerate(code.links()):
        parent = "ground" if link.parent < 0 else f"b{link.parent}"
        slides = str(link.slides).upper()
        lines.append(
            f"            carry(parent := {parent}, turn := turn_{k}, origin := origin_{k}, axis := axis_{k}, slides := {slides}, at := {link.at}, speed := {link.speed});"
        )
        lines.append(f"            b{k} := carry.body;")
    return lines


__all__ = ["WHOLE_BLOCK", "to_whole_st"]
