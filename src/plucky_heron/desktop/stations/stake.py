"""What a station's stake shows in the causeway."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class StakeState:
    """How far a station is (0 to 1), one live fact, whether there is trouble, whether something before it was changed since."""

    level: float
    fact: str
    trouble: bool = False
    older: bool = False
