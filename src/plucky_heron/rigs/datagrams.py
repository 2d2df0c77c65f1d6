"""The datagrams between plant and controller; the layout is described in docs/rollout-protocol.md."""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass

import numpy as np

Array = np.ndarray

RESTART, LOCK_STEP, END, LIMITED, STOP, AT_ONCE = 1, 2, 4, 8, 16, 32
HOLDING, SAFE = 1, 2
COUNTERS = ("received", "damaged", "repeated", "late", "lost", "held", "safe", "refused")

ASKS = ("off", "homing", "sign test", "limited", "on", "reset")
"""What the whole controller can be asked for."""
STATES = ("off", "homing", "sign test", "limited", "on", "fault")
REASONS = (
    "", "not finite", "out of range", "too fast", "nothing new in time", "wrong sign", "no answer", "not homed", "not tested",
)  # fmt: skip
"""Why it is in its state, in the order of ``controller.h``."""

_HEAD = struct.Struct("<4sIQHH")


@dataclass(frozen=True)
class Command:
    """A command datagram: the sensors' sequence number and time stamp, flags, commands, the controller's counters."""

    sequence: int
    stamp: int
    flags: int
    values: Array
    """(commands,), SI."""
    counters: dict[str, int]
    state: str = ""
    """Of the whole controller."""
    reason: str = ""
    index: int = 0
    """The sensor or drive that the reason is about."""
    homed: bool = False
    tested: bool = False


EPISODES = 255


def episode_mark(episode: int) -> int:
    """The high byte of the flags: 1 to 255 in turn, so that a controller knows a new episode by any of its datagrams."""
    return (episode % EPISODES + 1) << 8


def pack_sensors(sequence: int, stamp: int, values: Array, flags: int = 0) -> bytes:
    """A sensor datagram with `values` (observations,), SI."""
    body = _HEAD.pack(b"PHS1", sequence & 0xFFFFFFFF, stamp, len(values), flags) + values.astype("<f4").tobytes()
    return body + struct.pack("<I", zlib.crc32(body))


def pack_signals(sequence: int, stamp: int, words: Array, flags: int, ask: int, at_home: bool) -> bytes:
    """A datagram for the whole controller; `words` (signals,) are the bits of floats in SI, or of raw numbers where they are wired so."""
    head = _HEAD.pack(b"PHI1", sequence & 0xFFFFFFFF, stamp, len(words), flags)
    body = head + struct.pack("<BBH", ask, at_home, sequence & 0xFFFF) + words.astype("<u4").tobytes()
    return body + struct.pack("<I", zlib.crc32(body))


def unpack_drives(data: bytes, count: int) -> Command | None:
    """What the whole controller answers, values of drives and then the policy's commands; None where it is damaged or of another shape."""
    wanted = _HEAD.size + 4 + 4 * count + 4 * len(COUNTERS) + 4
    if len(data) != wanted or struct.unpack("<I", data[-4:])[0] != zlib.crc32(data[:-4]):
        return None
    magic, sequence, stamp, given, flags = _HEAD.unpack_from(data)
    state, reason, index, bits = struct.unpack_from("<4B", data, _HEAD.size)
    if magic != b"PHD1" or given != count or state >= len(STATES) or reason >= len(REASONS):
        return None
    values = np.frombuffer(data, dtype="<f4", count=count, offset=_HEAD.size + 4)
    numbers = struct.unpack_from(f"<{len(COUNTERS)}I", data, _HEAD.size + 4 + 4 * count)
    counters = dict(zip(COUNTERS, numbers, strict=True))
    return Command(
        sequence, stamp, flags, values, counters, STATES[state], REASONS[reason], index, bool(bits & 1), bool(bits & 2)
    )


def unpack_command(data: bytes, count: int) -> Command | None:
    """A command datagram, or None if it is damaged or of another shape."""
    wanted = _HEAD.size + 4 * count + 4 * len(COUNTERS) + 4
    if len(data) != wanted or struct.unpack("<I", data[-4:])[0] != zlib.crc32(data[:-4]):
        return None
    magic, sequence, stamp, given, flags = _HEAD.unpack_from(data)
    if magic != b"PHC1" or given != count:
        return None
    values = np.frombuffer(data, dtype="<f4", count=count, offset=_HEAD.size)
    numbers = struct.unpack_from(f"<{len(COUNTERS)}I", data, _HEAD.size + 4 * count)
    return Command(sequence, stamp, flags, values, dict(zip(COUNTERS, numbers, strict=True)))
