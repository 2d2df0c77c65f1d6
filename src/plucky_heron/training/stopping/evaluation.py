"""What stop rules look at, and how such figures are shown."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Evaluation:
    """One evaluation on the fixed starts, and what it had cost by then."""

    step: int
    seconds: float
    episodes: int
    score: float
    success: float
    finite: bool = True

    def of(self, quantity: str) -> float:
        """The success share or the score."""
        return self.success if quantity == "success" else self.score


def show_value(quantity: str, value: float) -> str:
    """A success share as per cent, a score as it is."""
    if quantity == "success":
        return f"{100 * value:.1f} %"
    return (f"{value:.2g}" if 0.0 < abs(value) < 0.1 else f"{value:.1f}").replace("-", "−")


def show_steps(steps: float) -> str:
    """Control steps in thousands, from a million on in millions; three figures."""
    if steps >= 1e6:
        return f"{steps / 1e6:.3g} M"
    return f"{steps / 1e3:.0f} k" if steps >= 1e4 else f"{steps / 1e3:.3g} k"


def whole(number: int) -> str:
    """A count with its thousands apart."""
    return f"{number:,}".replace(",", " ")
