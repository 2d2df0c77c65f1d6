"""The card of findings: what is the matter, how one knows, and what to try."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtWidgets import QHBoxLayout, QWidget

from plucky_heron.analysis.diagnosis.diagnosis import diagnose
from plucky_heron.analysis.diagnosis.finding import Finding, Try
from plucky_heron.analysis.diagnosis.record import record_of
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Card, Mark, Rows, button, label, scrolled
from plucky_heron.desktop.jobs import Job
from plucky_heron.errors import HeronError
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.training.recipe import with_changes

MARKS = {"trouble": "wrong", "doubt": "look", "note": "note", "good": "passed"}


def heading(finding: Finding, seeds: int) -> str:
    """What is the matter, and whose."""
    if len(finding.seeds) in (0, seeds):
        return finding.text
    return f"Seed{'s' if len(finding.seeds) > 1 else ''} {', '.join(map(str, finding.seeds))}: {finding.text[:1].lower()}{finding.text[1:]}"


class DiagnosisCard(Card):
    """Findings on the chosen batch, worked out in a thread whenever an evaluation has come.

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

    def look_at(self, runs: Sequence[RunRow]) -> None:
        """Diagnose these runs, unless that was done already."""
        wanted = tuple((r.id, r.state, self.bench.store.evaluated(r.id)) for r in runs)
        if wanted == self._of:
            return
        self._of = wanted
        if not runs:
            self._show([], 0, "shown once training has begun")
            return
        if self._job is not None and self._job.busy:
            self._again = list(runs)
            return
        self._begin(list(runs))

    def _begin(self, runs: list[RunRow]) -> None:
        folder = self.bench.project.folder
        batch = {r.batch for r in runs}
        if (
            batch != self._batch
        ):  # of another batch nothing of this one holds; of the same one it stands until more is known
            self._batch = batch
            self._show([], 0, "looking at these runs …")
        # while runs are at work both cores are theirs: the task is measured for what fits it afterwards
        measure = not any(r.alive for r in runs)

        def work(_: Job) -> list[Finding]:
            store = RunStore(folder)
            try:
                return diagnose([record_of(folder, store, r, measure) for r in runs])
            finally:
                store.close()

        job = Job("diagnosing", work, self)
        job.done.connect(lambda found: self._done(job, found, runs))
        job.failed.connect(lambda text: self._show([], 0, text))
        self._job = job
        job.start()

    def _done(self, job: Job, found: list[Finding], runs: list[RunRow]) -> None:
        if job is not self._job:
            return
        self._show(found, len(runs), "nothing can be said yet")
        if self._again is not None:
            again, self._again = self._again, None
            self._begin(again)

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
