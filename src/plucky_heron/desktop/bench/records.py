"""What runs have recorded so far, read from the store once: only what is new is read again."""

from __future__ import annotations

from typing import Any

from plucky_heron.runs.store import RunStore
from plucky_heron.training.stopping import Evaluation

Rows = list[tuple[int, dict[str, Any]]]
"""Step, and what was recorded there."""


class Records:
    """Evaluations, their details and the health figures of runs."""

    def __init__(self, store: RunStore) -> None:
        self.store = store
        self._courses: dict[tuple[int, bool], list[Evaluation]] = {}
        self._details: dict[int, Rows] = {}
        self._health: dict[int, Rows] = {}

    def course(self, run: int, whole: bool = False) -> list[Evaluation]:
        """The evaluations of a run so far, with all figures if `whole`."""
        known = self._courses.get((run, whole), [])
        count, last = self.store.extent(run)
        read = self.store.whole_course if whole else self.store.course
        if count != len(known) or (known and known[-1].step != last):
            fresh = read(run, known[-1].step if known else -1)
            known = (
                [*known, *fresh] if len(known) + len(fresh) == count else read(run)
            )  # a resumed run makes some again
            self._courses[run, whole] = known
        return known

    def unread(self, run: int) -> int:
        """How many evaluations of a run `course` would have to read."""
        return self.store.extent(run)[0] - len(self._courses.get((run, False), ()))

    def details(self, run: int) -> Rows:
        """Step and details (endings, reward by term) of each evaluation."""
        known = self._details.get(run, [])
        count, last = self.store.extent(run)
        if count != len(known) or (known and known[-1][0] != last):
            fresh = self.store.details(run, known[-1][0] if known else -1)
            known = [*known, *fresh] if len(known) + len(fresh) == count else self.store.details(run)
            self._details[run] = known
        return known

    def health(self, run: int) -> Rows:
        """Step and health figures of each update."""
        known = self._health.get(run, [])
        known = [*known, *self.store.health(run, known[-1][0] if known else -1)]
        self._health[run] = known
        return known

    def forget(self, run: int) -> None:
        """Read all of a run again: it goes on from an earlier step."""
        for whole in (False, True):
            self._courses.pop((run, whole), None)
        self._details.pop(run, None)
        self._health.pop(run, None)
