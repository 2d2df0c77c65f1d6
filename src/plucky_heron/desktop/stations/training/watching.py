"""Which policy of a run is played, and what beside it: the newest while it trains, a milestone, several starts at once."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QHBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Choice, button
from plucky_heron.desktop.stations.training.film_sheet import FilmSheet
from plucky_heron.runs.filming import films_of
from plucky_heron.runs.looking import Looked, kept_episodes, worth_along
from plucky_heron.runs.store import RunRow, run_folder
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem
from plucky_heron.training.keeping import milestones_of
from plucky_heron.training.stopping import show_steps

GHOSTS = 7
"""Starts that are shown faintly beside the first."""
ALONE, STARTS, BEST = "alone", "starts", "best"


class Watching(QWidget):
    """Two choices and a button that plays."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self._offered: object = None
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        self.play = button("Watch", self.watch, "", "watch the kept policy")
        self.which, self.beside = Choice("policy to play"), Choice("beside it")
        for words, key in (("alone", ALONE), (f"{GHOSTS} more starts", STARTS), ("the best one", BEST)):
            self.beside.addItem(words, key)
        self.beside.setToolTip("ghosts: other starts of this policy, or the best policy on the same start")
        line.addWidget(self.play)
        line.addWidget(self.which, 1)
        line.addWidget(self.beside, 1)
        self.film = button("Film …", self.make_films, "link", "films of kept policies")
        self.film.setToolTip("write episodes of kept policies as short videos; in brackets, how many are made")
        line.addWidget(self.film)

    def offer(self, row: RunRow | None) -> None:
        """Offer what is kept of a run; the choice stays where it is still there."""
        steps = milestones_of(run_folder(self.bench.project.folder, row.id)).steps() if row is not None else []
        made = len(films_of(self.bench.project.folder, row.id)) if row is not None else 0
        self.film.setText(f"Film … ({made})" if made else "Film …")
        state = (row.id, row.alive, row.best_step, tuple(steps)) if row is not None else None
        self.play.setEnabled(row is not None and (row.best_step is not None or row.alive))
        self.film.setEnabled(self.play.isEnabled())
        if state == self._offered:
            return
        before = self.which.currentData()
        self._offered = state
        with QSignalBlocker(self.which):
            self.which.clear()
            if row is not None:
                best = f"best, at {show_steps(row.best_step)}" if row.best_step is not None else "best"
                self.which.addItem(best, "best")
                self.which.addItem("newest" if row.alive else "last", "last")
                for step in steps:
                    self.which.addItem(f"at {show_steps(step)}", str(step))
            self.which.setCurrentIndex(max(0, self.which.findData(before)))

    def make_films(self) -> None:
        """Ask which kept policies are to be filmed."""
        row = self.bench.row()
        if row is not None:
            kept = [(self.which.itemText(k), str(self.which.itemData(k))) for k in range(self.which.count())]
            self.sheet = FilmSheet(self.bench, row, kept, self)
            self.sheet.open()

    def watch_at(self, step: float) -> None:
        """Play the kept policy that is nearest to a step."""
        row = self.bench.row()
        if row is None:
            return
        kept = {int(self.which.itemData(k)): k for k in range(2, self.which.count())}
        if row.best_step is not None:
            kept[row.best_step] = 0
        if not row.alive:
            kept[row.steps] = 1
        if not kept:
            return
        nearest = min(kept, key=lambda at: abs(at - step))
        self.which.setCurrentIndex(kept[nearest])
        self.bench.noted.emit(f"plays the policy kept at {show_steps(nearest)} steps, the nearest to the click")
        self.watch()

    def watch(self) -> None:
        """Play the chosen policy on the first evaluation start, with its ghosts."""
        row, folder = self.bench.row(), self.bench.project.folder
        which, beside = self.which.currentData(), self.beside.currentData()
        if row is None or which is None:
            return
        name = self.which.currentText()

        def work(_: object) -> object:
            count = GHOSTS + 1 if beside == STARTS else 1
            problem, (shown, *ghosts) = kept_episodes(folder, row, which, count, name)
            if beside == BEST and which != "best":
                ghosts = kept_episodes(folder, row, "best", 1)[1]
            return problem, shown, tuple(ghosts), worth_along(folder, row, shown)

        def then(found: tuple[Problem, Recording, tuple[Recording, ...], Looked | None]) -> None:
            problem, recording, ghosts, looked = found
            title = f"policy of run {row.id}, {name} · evaluation start 0"
            self.bench.playback.load(problem, recording, title, ghosts, play=True, looked=looked)

        self.bench.start_job("playing the kept policy", work, then)
