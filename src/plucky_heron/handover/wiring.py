"""How instruments and drives are wired up: raw counts and pulse widths beside what they mean, from a file that stands with the engineer.

``heron handover RUN --out DIR --wiring FILE``; what the file says goes into ``pack.json`` and into the generated ``signals.c``.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

from pydantic import Field

from plucky_heron.errors import FileError, StateError, did_you_mean
from plucky_heron.files import Settings, load
from plucky_heron.units import parse

LARGEST = 2**31 - 1
Raw = Annotated[int, Field(strict=True, ge=-LARGEST, le=LARGEST)]
Meaning = str | Annotated[float, Field(strict=True)]


class Wire(Settings):
    """One instrument or drive: two raw numbers and what they mean. Between and beyond them it is a straight line; the sign is that of the two."""

    at: Annotated[tuple[tuple[Raw, Meaning], ...], Field(min_length=2, max_length=2)]
    """``[[raw, "quantity"], [raw, "quantity"]]``, such as ``[[0, "-0.5 m"], [40960, "9.5 m"]]``."""
    turns_over: Annotated[int, Field(ge=2, le=2**32)] | None = None
    """Counts after which an encoder that may go round begins anew; the way is then counted from the value at the start."""
    what: str = ""
    """What the raw numbers are, such as "encoder counts" or "pulse width in microseconds"."""


class Wiring(Settings):
    """The file."""

    format: int = 2
    signals: dict[str, Wire] = {}
    """By names of signals as ``signals.h`` has them: ``JOINT.position``, ``JOINT.velocity``, channels of sensors, set-points."""
    drives: dict[str, Wire] = {}
    """By names of drives."""


@dataclass(frozen=True)
class Mapped:
    """One line of the wiring, in SI: value = (raw - zero) * scale + offset.

    Attributes
    ----------
    index
        Of the signal or drive.
    low, high
        Raw numbers that a drive may be given, the smaller first.
    turns_over
        0 where it does not.
    """

    name: str
    index: int
    zero: int
    scale: float
    offset: float
    low: int = 0
    high: int = 0
    turns_over: int = 0
    what: str = ""


def read_wiring(path: Path) -> Wiring:
    """The file, checked as far as it can be alone.

    Raises
    ------
    FileError
        What is wrong, by its key.
    """
    return load(Wiring, path)


def mapped_signals(wiring: Wiring, names: list[str], units: Mapping[str, str], source: str) -> list[Mapped]:
    """The signals that are read raw, in the order of `names`.

    Raises
    ------
    StateError
        A name that is none, a quantity of another unit, or two raw numbers that are the same.
    """
    _all_known(wiring.signals, names, "signals", source)
    return [
        _mapped(name, names.index(name), wiring.signals[name], units.get(name, ""), f"signals.{name}", source)
        for name in names
        if name in wiring.signals
    ]


def mapped_drives(wiring: Wiring, ranges: Mapping[str, tuple[float, float, str]], source: str) -> list[Mapped]:
    """The drives that are given raw numbers; `ranges` has the command range and the unit of each, in order."""
    names = list(ranges)
    _all_known(wiring.drives, names, "drives", source)
    found = []
    for k, (name, (low, high, unit)) in enumerate(ranges.items()):
        if name not in wiring.drives:
            continue
        one = _mapped(name, k, wiring.drives[name], unit, f"drives.{name}", source)
        if one.turns_over:
            raise StateError(f"{source}: drives.{name}.turns_over: only what is read can turn over")
        ends = sorted(round(one.zero + (value - one.offset) / one.scale) for value in (low, high))
        if max(map(abs, ends)) > LARGEST:
            raise StateError(f"{source}: drives.{name}.at: its range comes to {ends[0]} .. {ends[1]}, beyond 32 bits")
        found.append(Mapped(name, k, one.zero, one.scale, one.offset, ends[0], ends[1], 0, one.what))
    return found


def _all_known(given: Mapping[str, Wire], names: list[str], part: str, source: str) -> None:
    for name in given:
        if name not in names:
            raise StateError(f"{source}: {part}.{name}: no such {part[:-1]}; {did_you_mean(name, names)}")


def _mapped(name: str, index: int, wire: Wire, unit: str, key: str, source: str) -> Mapped:
    (first, one), (second, other) = wire.at
    try:
        values = [parse(one, unit), parse(other, unit)]
    except ValueError as error:
        raise FileError(source, f"{key}.at", [one, other], str(error)) from error
    if first == second or values[0] == values[1]:
        raise FileError(source, f"{key}.at", [list(point) for point in wire.at], "wanted two different raw numbers that mean different things")  # fmt: skip
    scale = (values[1] - values[0]) / (second - first)
    return Mapped(name, index, first, scale, values[0], turns_over=wire.turns_over or 0, what=wire.what)
