"""What every wish is: a name, whether it fits a machine, what it asks, and the task it writes."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod

from plucky_heron.task.wishes.draft import Draft, Line, Question
from plucky_heron.task.wishes.look import QUICKEST, Look, nice

RATES = (1.0, 2.0, 5.0, 10.0, 20.0, 25.0, 50.0, 100.0, 200.0, 500.0, 1000.0)
SLOWEST, USUAL = 5.0, 200.0
"""Control rates (Hz) below which only what takes its time is commanded, and beyond which only what swings on its own spring: a strong drive alone does not ask for more."""
SLOW = 10.0
"""Seconds of a quick motion from which a machine takes its time: a ship."""
SAMPLES = 11.0
"""Samples that a whole motion of the quickest joint should last: fewer are coarse, many more teach a critic little from one to the next."""


class Wish(ABC):
    """One thing that a machine may be wished to do."""

    name: str
    says: str
    """In a few words, what is meant."""

    @abstractmethod
    def unfit(self, look: Look) -> str:
        """Why it does not fit the machine; "" if it fits."""

    @abstractmethod
    def questions(self, look: Look) -> tuple[Question, ...]:
        """What may be answered otherwise, with what is proposed and why."""

    @abstractmethod
    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """The task, with the answers (SI) to all questions."""


def clock(seconds: float, limit: float, why: str, samples: float = SAMPLES) -> tuple[Question, ...]:
    """Questions for the control rate and the time limit, from the time of one motion."""
    least, most = SLOWEST if seconds < SLOW else 0.0, USUAL if seconds >= QUICKEST else math.inf
    rates = [r for r in RATES if least <= r <= most]
    rate = min(rates, key=lambda r: abs(math.log(r * seconds / samples)))
    return (
        Question("limit", "in at most", limit, "s", why, 0.1, 3600.0),
        Question("rate", "control rate", rate, "Hz", f"a quick motion lasts {seconds:.2g} s", 1.0, 2000.0),
    )


def substeps(look: Look, rate: float) -> int:
    """Physics steps a control sample."""
    return max(1, min(200, math.ceil(1.0 / (rate * look.step) - 1e-6)))


def loaded(look: Look, body: str) -> str:
    """The body itself, or the nearest one inwards that has mass; of what the ground holds, what the last driven joint moves."""
    if f"{body}.mass" not in look.model.parameters and look.driven:
        body = look.machine.joints[look.driven[-1]].child
    while look.machine.bodies[body].mass <= 0.0:
        parent = look.machine.joints[look.machine.joint_above(body)].parent
        if parent not in look.machine.bodies:
            break
        body = parent
    return body


def load_question(look: Look, body: str) -> Question:
    """By how much the mass of a body varies."""
    body = loaded(look, body)
    return Question("variation", f"mass of {body.replace('_', ' ')} varies by", 0.1, "", "so that a wrong mass does no harm", 0.0, 0.9)  # fmt: skip


def vary_mass(draft: Draft, body: str, share: float) -> None:
    """Draw the mass of a body anew in every episode."""
    body = loaded(draft.look, body)
    mass = draft.look.machine.bodies[body].mass
    if share > 0.0 and mass > 0.0 and f"{body}.mass" in draft.look.model.parameters:
        low, high = (f"{mass * f:.4g} kg" for f in (1.0 - share, 1.0 + share))
        draft.task.setdefault("variation", {})[f"{body}.mass"] = {"uniform": [low, high]}
        draft.lines.append(Line("Starts and variation", f"mass of {body.replace('_', ' ')}", f"±{100 * share:.3g} %"))


def limit_for(seconds: float, times: float, least: float) -> float:
    """A time limit that leaves room."""
    return max(least, nice(times * seconds))
