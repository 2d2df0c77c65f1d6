"""The card of findings: what is the matter, how one knows, and what to try."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QWidget

from plucky_heron.analysis.diagnosis.finding import Finding, Try
from plucky_heron.analysis.diagnosis.of_runs import MUCH, findings_apart, findings_until
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Card, Mark, Rows, button, label, scrolled
from plucky_heron.desktop.jobs import Job
from plucky_heron.errors import HeronError
from plucky_heron.runs.store import RunRow
from plucky_heron.training.recipe import with_changes

PAUSES = 5.0
"""How many times as long as a diagnosis took the next one waits while runs are at work."""
MARKS = {"trouble": "wrong", "doubt": "look", "note": "note", "good": "passed"}


def heading(finding: Finding, seeds: int) -> str:
    """What is the matter, and whose."""
    if len(finding.seeds) in (0, seeds):
        return finding.text
    return f"Seed{'s' if len(finding.seeds) > 1 else ''} {', '.join(map(str, finding.seeds))}: {finding.text[:1].lower()}{finding.text[1:]}"


class DiagnosisCard(Card):
    """Findings on the chosen batch, worked out beside the window whenever an evaluation has come.

    Parameters
    ----------
    show_chart
        Called with the figure on whose chart a finding shows.
    apply
        Called with what is to be tried.
    """

    def __init__(self, bench: Workbench, show_chart: Callable[[str], None], apply: Callable[[Try], None]) -> None:
        super().__init__("Diagnosis", "")
        self.bench, self.show_chart, self.apply = bench, show_chart, apply
        self.findings: list[Finding] = []
        self.rows = Rows((0, 1, 0), spacing=3)
        self.body.addWidget(scrolled(self.rows), 1)
        self._of: object = None
        self._batch: set[int] = set()
        self._job: Job | None = None
        self._again: list[RunRow] | None = None
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.timeout.connect(self._once_more)

    def look_at(self, runs: Sequence[RunRow]) -> None:
        """Diagnose these runs, unless that was done already."""
        wanted = tuple((r.id, r.state, self.bench.store.evaluated(r.id)) for r in runs)
        if wanted == self._of:
            return
        self._of = wanted
        if not runs:
            self._leave()
            self._show([], 0, "shown once training has begun")
            return
        busy = self._job is not None and self._job.busy
        resting = self._pause.isActive() and any(r.alive for r in runs)
        if {r.batch for r in runs} == self._batch and (busy or resting):
            self._again = list(runs)
            return
        self._begin(list(runs))

    def _leave(self) -> None:
        """What is at work or waits is not wanted any more."""
        self._again = None
        self._pause.stop()
        if self._job is not None:
            self._job.stop()
        self._job = None

    def _begin(self, runs: list[RunRow]) -> None:
        folder = self.bench.project.folder
        self._leave()
        batch = {r.batch for r in runs}
        # of another batch nothing of this one holds; of the same one it stands until more is known
        if batch != self._batch:
            self._batch = batch
            self._show([], 0, "looking at these runs …")
        # while runs are at work both cores are theirs: the task is measured for what fits it afterwards
        at_work = any(r.alive for r in runs)
        numbers = [r.id for r in runs]
        much = sum(self.bench.store.evaluated(run) for run in numbers) >= MUCH

        def work(job: Job) -> list[Finding] | None:
            look = findings_apart if much else findings_until
            return look(folder, numbers, not at_work, lambda: job.stopping)

        began = time.monotonic()

        def over(found: list[Finding] | None, otherwise: str) -> None:
            if job is not self._job or found is None:
                return
            self._show(found, len(runs), otherwise)
            # beside runs at work it takes a small share of the time, however much there is to read
            took = time.monotonic() - began
            self._pause.start(int(1e3 * PAUSES * took) if at_work else 0)

        job = Job("diagnosing", work, self)
        job.done.connect(lambda found: over(found, "nothing can be said yet"))
        job.failed.connect(lambda text: over([], text))
        self._job = job
        job.start()

    def _once_more(self) -> None:
        if self._again is not None:
            self._begin(self._again)

    def _show(self, found: list[Finding], seeds: int, otherwise: str) -> None:
        self.findings = found
        self.rows.clear()
        bad = sum(f.severity in ("trouble", "doubt") for f in found)
        self.note.setText(f"{bad} to look at" if bad else "")
        for finding in found:
            links = QWidget()
            line = QHBoxLayout(links)
            line.setContentsMargins(0, 0, 0, 0)
            show = button("show", partial(self.show_chart, finding.chart), "link", f"show {finding.name}")
            line.addWidget(show)
            self.rows.add(Mark(MARKS[finding.severity]), label(heading(finding, seeds), "strong", wrap=True), links)
            self.rows.add_wide(label(finding.evidence, "soft", wrap=True), 1)
            for number, one in enumerate(finding.tries):
                words = label(f"try: {one.text}", "soft", wrap=True)
                if not one.changes:
                    self.rows.add_wide(words, 1)
                    continue
                take = button("apply", partial(self.apply, one), "link", f"apply to {finding.name}, {number + 1}")
                take.setToolTip(", ".join(f"{k} = {v}" for k, v in one.changes.items()))
                self.rows.add(None, words, take)
        if not found:
            self.rows.add_wide(label(otherwise, "soft", wrap=True))
        self.rows.finish()


def try_out(bench: Workbench, run: RunRow | None, one: Try) -> str:
    """Put a copy of a run's recipe with these changes in the recipe's place, to be trained next; what is wrong, or nothing."""
    recipe = bench.recipe_of(run) if run is not None else bench.recipe
    if recipe is None:
        return "the recipe of this run cannot be read"
    try:
        bench.try_recipe(with_changes(recipe, one.changes, "what to try"), one.text)
    except HeronError as error:
        return str(error)
    return ""
