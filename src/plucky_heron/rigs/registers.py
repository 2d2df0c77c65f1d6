"""The registers of the soft controller: what stands where, and numbers as signed whole ones of 16 bits or as two registers each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

Array = np.ndarray

MOST = 32767
MARGIN = 1.5
"""Of a sensor's range, that fits into its register: readings may go a little beyond."""
SEQUENCE, FLAGS, INPUTS = 0, 1, 2
"""Holding registers, written by the plant: number of the sample, flags and mark of the episode, then the inputs."""
ANSWERED, STATE, TOLD, COUNTS, OUTPUTS = 0, 1, 2, 3, 11
"""Input registers, read by the plant: the sample that is answered, flags, how often something was told, eight counters, then the commands."""
ASKED, HEARTBEAT, SIGNALS = 2, 3, 4
"""Of the whole controller, holding registers after the flags: what is asked for and, in the high byte, whether the reference is reached; then
the signals, two registers each, the high one first: a number of single precision, or a raw one of 32 bits."""
NOW, WHY, ABOUT, FOUND, DRIVES = 11, 12, 13, 14, 15
"""Of the whole controller, input registers after the counters: its state, the reason, the sensor or drive that it is about, whether reference
and signs were found; then the values of drives and the commands, two registers each."""
MOST_AT_ONCE = 100
"""Registers in a request."""


def to_pairs(words: Sequence[int]) -> list[int]:
    """Words of 32 bits as two registers each, the high one first."""
    return [half for word in words for half in (word >> 16 & 0xFFFF, word & 0xFFFF)]


def from_pairs(registers: Sequence[int]) -> Array:
    """Words (n,) of 32 bits, unsigned, of two registers each."""
    halves = np.array(registers, dtype=np.uint32).reshape(-1, 2)
    return np.asarray(halves[:, 0] << 16 | halves[:, 1])


class Scale:
    """Numbers of a range as registers and back."""

    def __init__(self, low: Sequence[float], high: Sequence[float], margin: float) -> None:
        a, b = np.array(low, dtype=float), np.array(high, dtype=float)
        self.middle, self.unit = 0.5 * (a + b), 0.5 * margin * (b - a) / MOST

    def to_registers(self, values: Array) -> list[int]:
        """Unsigned, as a register holds them; what is no number becomes the one value that stands for nothing (-32768)."""
        scaled = np.rint((np.asarray(values, dtype=float) - self.middle) / self.unit)
        whole = np.where(
            np.isfinite(scaled), np.clip(np.nan_to_num(scaled, posinf=MOST, neginf=-MOST), -MOST, MOST), -MOST - 1
        )
        return [int(x) & 0xFFFF for x in whole]

    def from_registers(self, registers: Sequence[int]) -> Array:
        """Numbers in SI; not a number where a register says so."""
        signed = np.array(registers, dtype=np.uint16).astype(np.int16).astype(float)
        return np.asarray(np.where(signed < -MOST, np.nan, self.middle + signed * self.unit))
