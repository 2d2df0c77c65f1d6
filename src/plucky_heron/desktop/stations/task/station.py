"""Task: observations, actions, reward, and how episodes start and end."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.file_sheet import FileSheet
from plucky_heron.desktop.forms.widgets import Card, Choice, Rows, bare_card, button, label, scrolled
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.stations.task.cards import EditCard, EndsCard, SensesCard
from plucky_heron.desktop.stations.task.commands import CommandsCard
from plucky_heron.desktop.stations.task.model import TaskModel
from plucky_heron.desktop.stations.task.reward import RewardCard
from plucky_heron.desktop.stations.task.sample import SampleCard
from plucky_heron.desktop.stations.task.wish_page import WishPage
from plucky_heron.formula import FUNCTIONS
from plucky_heron.simulation.replay import Series, follow_command, signals_of

Array = np.ndarray


class TaskStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.model = TaskModel(bench)
        self._series_job: Job | None = None
        self._following = -1
        self.pages = QStackedWidget()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(self.pages)
        task = QWidget()
        self.pages.addWidget(task)
        self.wish = WishPage(bench)
        self.wish.left.connect(lambda: self.pages.setCurrentIndex(0))
        self.pages.addWidget(self.wish)
        grid = QGridLayout(task)
        grid.setContentsMargins(16, 10, 16, 14)
        grid.setSpacing(10)
        model = self.model
        self.senses, self.sample = SensesCard(model), SampleCard(model, self.follow)
        self.commands, self.ends, self.rewards_card = (
            CommandsCard(model),
            EndsCard(model),
            RewardCard(model, self.show_reference),
        )
        self.cards: tuple[EditCard, ...] = (self.senses, self.commands, self.ends, self.rewards_card)
        model.refused.connect(self.rewards_card.say)
        self.drawing = Drawing(bench.playback)
        picture = bare_card(self.drawing, "drawing")
        picture.body.setSpacing(0)
        line = QHBoxLayout()
        line.setContentsMargins(8, 0, 8, 6)
        self.scene = Choice("course or level shown")
        self.scene.activated.connect(self._scene_chosen)
        self.view = button("view", self._turn, "link", "another view")
        line.addWidget(self.scene)
        line.addWidget(button("All of it …", self.edit_all, "link", "all that stands in the task"))
        line.addWidget(button("New task …", self.new_task, "link", "new task from a wish"))
        line.addStretch(1)
        line.addWidget(self.view)
        picture.body.addLayout(line)
        grid.addWidget(self.senses, 0, 0)
        grid.addWidget(self.sample, 0, 1)
        grid.addWidget(self.commands, 0, 2)
        grid.addWidget(self.ends, 0, 3)
        grid.addWidget(self.rewards_card, 1, 0, 1, 3)
        grid.addWidget(picture, 1, 3)
        for card in (self.senses, self.sample, self.commands, self.ends, self.rewards_card, picture):
            card.steady = True
            card.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)
        for column, stretch in enumerate((40, 15, 30, 31)):
            grid.setColumnStretch(column, stretch)
        grid.setRowStretch(0, 56)
        grid.setRowStretch(1, 44)
        self.reference: QWidget | None = None
        bench.problem_changed.connect(self.later)
        bench.results_changed.connect(self.later)
        bench.playback.moved.connect(self._hands)
        bench.playback.loaded.connect(self._loaded)
        self.refresh()

    # --- showing -----------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the task as it is now."""
        problem = self.bench.problem
        if problem is None:
            return
        if not self.bench.has_task:
            self.pages.setCurrentWidget(self.wish)
        elif self.wish.isVisible() and self.wish._of is not problem and not self.wish._same(problem):
            self.pages.setCurrentIndex(0)  # another machine was chosen meanwhile
        if self.pages.currentWidget() is self.wish:
            self.wish.refresh()
            if not self.bench.has_task:
                return
        for card in (self.senses, self.commands, self.ends, self.rewards_card, self.sample):
            card.refresh(problem)
        self.drawing.set_problem(problem)
        names = problem.surroundings.names
        if [self.scene.itemText(k) for k in range(self.scene.count())] != list(names):
            self.scene.clear()
            self.scene.addItems(list(names))
        self.scene.setVisible(len(names) > 1)
        recording = self.bench.playback.recording
        can = recording is not None and recording.steps > 0 and self.bench.playback.problem is problem
        self.sample.follow.setEnabled(can)
        self.sample.follow.setToolTip(
            "" if can else "no episode of this task is playing: rehearse it, or drive it yourself"
        )
        playing = recording is not None and self.bench.playback.problem is problem
        self.scene.setEnabled(not playing)
        self.scene.setCurrentIndex(recording.scene if playing and recording is not None else self.drawing.scene_number)
        self._name_view()
        QTimer.singleShot(300, self, self._ask_series)  # what is on the screen comes first
        self._hands()

    def edit_all(self) -> FileSheet:
        """Every key of the task file."""
        self.sheet = FileSheet(self.bench, "tasks", (), self.window())
        self.sheet.open()
        return self.sheet

    def new_task(self) -> None:
        """One more task for the machine, from a wish."""
        self.pages.setCurrentWidget(self.wish)
        self.wish.refresh()
        self.wish.list.setFocus()

    def _scene_chosen(self, number: int) -> None:
        self.drawing.scene_number = number
        self.drawing.set_pose(None)
        self.drawing.update()

    def _turn(self) -> None:
        order = ("side", "top", "end", "free")
        self.drawing.view = order[(order.index(self.drawing.view) + 1) % 4]
        self._name_view()
        self.drawing.update()

    def _name_view(self) -> None:
        order = ("side", "top", "end", "free")
        self.view.setText(f"from {['above', 'the end', 'anywhere', 'the side'][order.index(self.drawing.view)]}")

    def _loaded(self) -> None:
        self.model.series = None
        self._following = -1
        self.sample.show_way(None, "")
        self.later()

    def _hands(self, *_: object) -> None:
        playback, problem = self.bench.playback, self.bench.problem
        recording = playback.recording
        if not self.isVisible() or problem is None:
            return
        fits = recording is not None and recording.observations.shape[1] == len(problem.entries)
        self.senses.show_index(recording.observations[playback.index] if fits and recording is not None else None)
        row = max(playback.index - 1, 0)
        given = (
            recording is not None
            and recording.commands.shape == (recording.steps, len(problem.commands))
            and recording.steps
        )
        self.commands.show_index(
            recording.commands[min(row, recording.steps - 1)] if given and recording is not None else None
        )
        if recording is not None and recording.steps:
            self.rewards_card.show_index(playback.index / recording.steps)
        for card in self.cards:
            if card.sheet is not None:
                card.sheet.show_index(playback.index)

    def _ask_series(self) -> None:
        """All signals of the playing episode, worked out in another thread, so that formulas show what they are worth."""
        problem, recording = self.bench.problem, self.bench.playback.recording
        played = self.bench.playback.problem
        if problem is None or recording is None or played is None or not recording.steps:
            return
        if self.model.series is not None and self.model.series.problem is problem:
            return
        if self._series_job is not None and self._series_job.busy:
            return
        if played.fingerprint() != problem.fingerprint() and played.commands != problem.commands:
            return

        def done(series: object) -> None:
            if isinstance(series, Series) and series.problem is self.bench.problem:
                self.model.series = series
                for card in self.cards:
                    if card.sheet is not None:
                        card.sheet.show_series(series)

        job = Job("signals", lambda _: signals_of(problem, recording, lambda: time.sleep(0.001)), self)
        job.done.connect(done)
        self._series_job = job.start()

    # --- one command -------------------------------------------------------------------------------------------------

    def follow(self) -> None:
        """Follow the next command through the present sample; after the last one go back to words."""
        problem, playback = self.bench.problem, self.bench.playback
        recording = playback.recording
        if problem is None or recording is None or not recording.steps or playback.problem is not problem:
            return
        if self._following >= 0:
            self._following = -1
            self.sample.show_way(None, "")
            return
        self._following = 0
        self._follow_now()

    def _follow_now(self) -> None:
        problem, playback = self.bench.problem, self.bench.playback
        recording, number = playback.recording, self._following
        if problem is None or recording is None or number < 0:
            return
        playback.pause()
        index = playback.index

        def done(way: object) -> None:
            if self._following == number:
                self.sample.show_way(way, problem.commands[number].name)  # type: ignore[arg-type]

        job = Job("one command", lambda _: follow_command(problem, recording, index, number), self)
        job.done.connect(done)
        self._way_job = job.start()

    def show_reference(self) -> None:
        """The functions of the formula language, in a window of their own."""
        sheet = QWidget(self, Qt.WindowType.Tool)
        sheet.setWindowTitle("Formula reference")
        sheet.setAccessibleName("formula reference")
        sheet.resize(560, 520)
        layout = QVBoxLayout(sheet)
        card = Card("Formula reference", "docs/formulas.md has the grammar")
        rows = Rows((2, 7), spacing=2)
        rows.add(
            label("+ − * / % **", "strong"),
            label("arithmetic; a bare number takes the unit it stands beside", "soft", wrap=True),
        )
        rows.add(label("< <= > >= == !=", "strong"), label("comparisons, 1 or 0; also a < b < c", "soft", wrap=True))
        rows.add(label("and or not, a if b else c", "strong"), label("logic", "soft"))
        rows.add(label("[a, b], list[2], list[1:4]", "strong"), label("lists, item by item", "soft"))
        for name, (_, _, meaning) in FUNCTIONS.items():
            rows.add(label(name, "strong"), label(meaning, "soft", wrap=True))
        rows.finish()
        card.body.addWidget(scrolled(rows))
        layout.addWidget(card)
        self.reference = sheet
        sheet.show()
        QTimer.singleShot(0, sheet.setFocus)
