"""What a stop rule is: a schema, a decision, words, and what the chart draws of it. A rule is one class in a file of its own here."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar

import numpy as np
from pydantic import AfterValidator

from plucky_heron.errors import did_you_mean
from plucky_heron.files import Settings
from plucky_heron.training.stopping.evaluation import HEALTH_FIGURES, OWN_FIGURES, Course, Evaluation

Array = np.ndarray
MOST_STEPS = 10**12
"""Control steps of a run at most: what a store can count, and more than a machine can do."""


def known_quantity(name: str) -> str:
    """The name of a figure of an evaluation.

    Raises
    ------
    ValueError
        No such figure.
    """
    if name not in OWN_FIGURES and name not in HEALTH_FIGURES:
        raise ValueError(
            f"no figure of an evaluation is {name!r}; {did_you_mean(name, [*OWN_FIGURES, *HEALTH_FIGURES])}"
        )
    return name


Quantity = Annotated[str, AfterValidator(known_quantity)]
"""A figure of an evaluation: success, score, length, worst, or a health figure of the method."""


@dataclass(frozen=True)
class Level:
    """A line across the chart of `quantity`, at `value`; dragging it sets the rule's `key`."""

    quantity: str
    value: float
    text: str
    key: str


class StopRule(Settings, ABC):
    """Base of the rules; a rule stores its settings and nothing else, so that it can be replayed over recorded runs.

    What a rule must keep:

    1. `kind` is its name in recipes; it is unlike that of any other rule.
    2. `met` says of every evaluation of a course whether the rule ends the run there; of the k-th it looks at the evaluations
       up to the k-th and at nothing else. `reason` says why, of the last.
    3. `words` says in one line what it waits for, `state` how near it is, `earliest` from which step on it can act at all,
       `level` which line the chart draws of it (None: none).
    4. `role` is the colour of its mark, one of the roles of the theme.
    5. `tunable` names its numbers that may be swept over recorded runs.
    """

    kind: str
    role: ClassVar[str] = "heron"
    tunable: ClassVar[tuple[str, ...]] = ()

    kinds: ClassVar[dict[str, type[StopRule]]] = {}
    """All rules by their kind."""

    @classmethod
    def __pydantic_init_subclass__(cls, **_: Any) -> None:
        """A rule is known as soon as its class is defined."""
        StopRule.kinds[str(cls.model_fields["kind"].default)] = cls

    @abstractmethod
    def met(self, course: Course) -> Array:
        """Whether the run ends at each evaluation, array (n,) of bool."""

    @abstractmethod
    def reason(self, course: Course) -> str:
        """Why the run ends at the last evaluation of `course`, where it does."""

    @abstractmethod
    def words(self) -> str:
        """The rule in a few words."""

    @abstractmethod
    def earliest(self, every: int) -> int | None:
        """The first step at which it can act, with evaluations every so many steps and one at the start; None where that is not known."""

    def state(self, course: Course) -> str:
        """How near it is to acting, in words, with at least one evaluation; "" where there is nothing to say."""
        del course
        return ""

    def decide(self, course: Sequence[Evaluation] | Course) -> str:
        """Why a run whose evaluations so far are `course` ends now, "" if it goes on."""
        seen = course if isinstance(course, Course) else Course(course)
        return self.reason(seen) if len(seen) and self.met(seen)[-1] else ""

    def level(self) -> Level | None:
        """The line that the chart draws of it."""
        return None
