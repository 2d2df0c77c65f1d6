"""How much more dead time a driver stands: the delay margin, found by trials."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from plucky_heron.errors import StateError
from plucky_heron.simulation.drivers import Driver
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

MARGIN_STREAM = "margins"
FALL = 0.05
"""Success by which trials must fall for a margin to end."""
LEAST_SUCCESS = 0.2
"""Below this, nothing is left to fall."""
LONGEST = 50
"""Samples beyond which no margin is looked for."""


@dataclass(frozen=True)
class DelayMargin:
    """What was found.

    Attributes
    ----------
    seconds
        Extra dead time at which success has fallen by `FALL`, to the quarter of a sample; None where there was too little success.
    more
        Whether it stood all that was tried.
    success
        Without extra dead time.
    """

    seconds: float | None
    more: bool
    success: float
    trials: int

    def words(self) -> str:
        """In a line."""
        if self.seconds is None:
            return f"no margin: {100 * self.success:.0f} % success without extra dead time"
        return f"{'more than ' if self.more else ''}{1000 * self.seconds:.4g} ms"

    def facts(self) -> dict[str, Any]:
        """For the JSON answer."""
        return {"seconds": self.seconds, "more": self.more, "success": self.success, "trials": self.trials}


def with_dead_time(problem: Problem, extra: float) -> Problem:
    """The same problem with `extra` seconds more between sensors and drives."""
    return replace(problem, model=replace(problem.model, dead_time=problem.model.dead_time + extra))


def delay_margin(
    problem: Problem, driver: Driver, trials: int = 200, progress: Callable[[float], bool] | None = None
) -> DelayMargin:
    """Extra dead time until the success of `driver` falls by `FALL`: doubled from a quarter of a sample on, then halved between.

    The same trials for each dead time, so that what falls is due to it.

    Raises
    ------
    StateError
        Abandoned: `progress` said False.
    """
    step = 0.25 * problem.sample_time
    asked = 0

    def success(steps: int) -> float:
        nonlocal asked
        asked += 1
        if progress is not None and not progress(min(0.95, asked / 14.0)):
            raise StateError("the margins were stopped; nothing is concluded from a part of them")
        late = with_dead_time(problem, steps * step)
        found = run_trials(late, driver, seed=EVALUATION_SEED, stream=MARGIN_STREAM, count=trials)
        return float(found.success.mean())

    base = success(0)
    if base < LEAST_SUCCESS:
        return DelayMargin(None, False, base, trials)
    stands, falls = 0, 1
    while success(falls) > base - FALL:
        if falls >= 4 * LONGEST:
            return DelayMargin(falls * step, True, base, trials)
        stands, falls = falls, 2 * falls
    while falls - stands > 1:
        middle = (stands + falls) // 2
        if success(middle) > base - FALL:
            stands = middle
        else:
            falls = middle
    return DelayMargin(falls * step, False, base, trials)


def delay_margins(
    problem: Problem, drivers: list[Driver], trials: int = 200, progress: Callable[[str, float], bool] | None = None
) -> dict[str, DelayMargin]:
    """The margins of drivers that depend on what is sensed; a regulator that reads the dead time of drives is left out."""
    found: dict[str, DelayMargin] = {}
    asked = [d for d in drivers if d.name not in ("nobody", "random")]
    if problem.model.dead_time.max(initial=0.0) > 0.0:  # its state holds what is on its way in them
        asked = [d for d in asked if d.name != "regulator"]
    for number, driver in enumerate(asked):

        def tell(share: float, number: int = number, name: str = driver.name) -> bool:
            return progress is None or progress(name, (number + share) / len(asked))

        found[driver.name] = delay_margin(problem, driver, trials, tell)
    return found
