"""What a stop rule is: a schema, a decision, words, and what the chart draws of it. A rule is one class in a file of its own here."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

from plucky_heron.files import Settings
from plucky_heron.training.stopping.evaluation import Evaluation

MOST_STEPS = 10**12
"""Control steps of a run at most: what a store can count, and more than a machine can do."""

Quantity = Literal["success", "score"]


@dataclass(frozen=True)
class Level:
    """A line across the chart of `quantity`, at `value`; dragging it sets the rule's `key`."""

    quantity: Quantity
    value: float
    text: str
    key: str


class StopRule(Settings, ABC):
    """Base of the rules; a rule stores its settings and nothing else, so that it can be replayed over recorded runs.

    What a rule must keep:

    1. `kind` is its name in recipes; it is unlike that of any other rule.
    2. `decide` looks at the evaluations so far, the newest last and at least one, and at nothing else. It gives the reason in
       words, or "" to go on; asked again with the same evaluations it says the same.
    3. `words` says in one line what it waits for, `level` which line the chart draws of it (None: none).
    4. `role` is the colour of its mark, one of the roles of the theme.
    """

    kind: str
    role: ClassVar[str] = "heron"

    kinds: ClassVar[dict[str, type[StopRule]]] = {}
    """All rules by their kind."""

    @classmethod
    def __pydantic_init_subclass__(cls, **_: Any) -> None:
        """A rule is known as soon as its class is defined."""
        StopRule.kinds[str(cls.model_fields["kind"].default)] = cls

    @abstractmethod
    def decide(self, course: Sequence[Evaluation]) -> str:
        """Why a run whose evaluations so far are `course` ends now, "" if it goes on."""

    @abstractmethod
    def words(self) -> str:
        """The rule in a few words."""

    def level(self) -> Level | None:
        """The line that the chart draws of it."""
        return None
