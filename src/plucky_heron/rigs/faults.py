"""Faults between plant and controller, as they are asked for, and what they do to datagrams and to what sensors say."""

from __future__ import annotations

import zlib
from collections.abc import Mapping
from dataclasses import dataclass, fields, replace

import numpy as np

from plucky_heron.errors import FileError, UnitError, did_you_mean
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import parse, whole_number

Array = np.ndarray


@dataclass(frozen=True)
class Faults:
    """What goes wrong; all zero for nothing.

    Attributes
    ----------
    dead_time, jitter : float
        Seconds that each datagram is on its way more than it is anyway, on the way there and back together; and up to how many more.
    loss, duplicate, reorder : float
        Share of datagrams that never arrive, arrive twice, or arrive after the next one; either way each for itself.
    bit_errors : float
        Chance of each bit to be turned over.
    drift : float
        By how much of itself the plant's clock is slower than the controller's.
    restart : float
        Mean seconds between restarts of the controller; 0: never.
    stuck : float
        Chance a second that a sensor, drawn anew each time, holds its value for a second.
    bias, noise : float
        Of every sensor, as a share of its range: an offset drawn for the episode (evenly, either sign), and a standard deviation.
    """

    dead_time: float = 0.0
    jitter: float = 0.0
    loss: float = 0.0
    duplicate: float = 0.0
    reorder: float = 0.0
    bit_errors: float = 0.0
    drift: float = 0.0
    restart: float = 0.0
    stuck: float = 0.0
    bias: float = 0.0
    noise: float = 0.0

    @property
    def any(self) -> bool:
        """Whether anything goes wrong."""
        return any(self.asked().values())

    def asked(self) -> dict[str, float]:
        """Those that are not zero."""
        return {f.name: getattr(self, f.name) for f in fields(self) if getattr(self, f.name)}


MOST: dict[str, tuple[str, float]] = {
    "dead_time": ("s", 5.0), "jitter": ("s", 5.0), "loss": ("", 1.0), "duplicate": ("", 1.0), "reorder": ("", 1.0), "bit_errors": ("", 0.1),
    "drift": ("", 0.5), "restart": ("s", 1e6), "stuck": ("", 1.0), "bias": ("", 10.0), "noise": ("", 10.0),
}  # fmt: skip
"""Unit and largest value of each."""
ALL = "loss=5%,duplicate=2%,reorder=2%,dead_time=5ms,jitter=5ms,bit_errors=1e-5,drift=0.1%,restart=20s,stuck=5%,bias=1%,noise=1%"
"""Some of everything, for a soak."""


def read_faults(text: str) -> Faults:
    """Faults as typed: ``loss=5%,dead_time=20ms``.

    Raises
    ------
    FileError
        An unknown fault, or a value that cannot be.
    """
    found: dict[str, float] = {}
    for item in filter(str.strip, text.split(",")):
        name, equals, value = (part.strip() for part in item.partition("="))
        if name not in MOST:
            raise FileError("--faults", name, None, f"no such fault; {did_you_mean(name, list(MOST))}")
        found[name] = fault_value(name, value if equals else "")
    return Faults(**found)


def fault_value(name: str, text: str) -> float:
    """One value of a fault, in SI.

    Raises
    ------
    FileError
        It cannot be read, or cannot be.
    """
    unit, most = MOST[name]
    example = {"dead_time": "20 ms", "jitter": "5 ms", "restart": "10 s"}.get(name, "5 %")
    try:
        value = parse(text, unit)
    except UnitError as error:
        raise FileError(
            "--faults", name, text, f"{error}" if text else f"wanted a value, such as {name}={example}"
        ) from error
    if not 0.0 <= value <= most:
        raise FileError("--faults", name, text, f"wanted between 0 and {most:g}{' ' + unit if unit else ''}")
    return value


def read_map(text: str) -> dict[str, Array]:
    """One or two faults with their values, typed as ``loss=0:30%:4,dead_time=0:60ms:4`` (from, to, how many).

    Raises
    ------
    FileError
        More than two, or values that cannot be.
    """
    found: dict[str, Array] = {}
    for item in filter(str.strip, text.split(",")):
        name, _, span = (part.strip() for part in item.partition("="))
        parts = span.split(":")
        count = whole_number(parts[2]) if len(parts) == 3 else None
        if name not in MOST or count is None or not 2 <= count <= 50:
            raise FileError("--map", name, span, "wanted FAULT=LOW:HIGH:HOW_MANY, such as loss=0:30%:4")
        found[name] = np.linspace(fault_value(name, parts[0]), fault_value(name, parts[1]), count)
    if not 1 <= len(found) <= 2:
        raise FileError("--map", "", text, "wanted one fault or two, such as loss=0:30%:4,dead_time=0:60ms:4")
    return found


def with_values(faults: Faults, values: Mapping[str, float]) -> Faults:
    """The same with some faults of another size."""
    return replace(faults, **values)


def chance(episode: int, what: str) -> np.random.Generator:
    """The stream of random numbers of an episode's faults: the same starts meet the same faults."""
    return np.random.default_rng([EVALUATION_SEED, zlib.crc32(f"faults {what}".encode()), episode])


class FaultySensors:
    """Stuck, biased and noisy readings of one episode.

    Parameters
    ----------
    span : (sensors,)
        Width of each one's range.
    """

    def __init__(self, faults: Faults, span: Array, sample_time: float, episode: int) -> None:
        self.faults, self.span = faults, span
        self._chance = chance(episode, "sensors")
        self._bias = faults.bias * span * self._chance.uniform(-1.0, 1.0, len(span))
        self._every = max(1, round(1.0 / sample_time))
        self._each = 1.0 - (1.0 - faults.stuck) ** sample_time
        self._stuck: dict[int, tuple[float, int]] = {}
        self.times_stuck = 0

    def read(self, row: Array) -> Array:
        """What the sensors (sensors,) say instead."""
        faults = self.faults
        if not (faults.bias or faults.noise or faults.stuck):
            return row
        row = row + self._bias + faults.noise * self.span * self._chance.standard_normal(len(row))
        if faults.stuck and self._chance.random() < self._each:
            which = int(self._chance.integers(len(row)))
            self._stuck.setdefault(which, (float(row[which]), self._every))
            self.times_stuck += 1
        for which, (value, left) in list(self._stuck.items()):
            row[which] = value
            if left > 1:
                self._stuck[which] = value, left - 1
            else:
                del self._stuck[which]
        return np.asarray(row)
