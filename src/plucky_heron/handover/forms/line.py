"""One signal of the contract, as every form states it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Line:
    """One signal of the contract."""

    name: str
    unit: str
    low: float
    high: float
    positive: str = ""
