"""Machine: the drawing, the joint ladder, the chosen part's numbers, and what follows from them."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout

from plucky_heron.analysis.machine_facts import derived_facts, part_numbers
from plucky_heron.desktop.drawing import Drawing
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.ladder import JointLadder
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.strip import StripRecorder
from plucky_heron.desktop.widgets import Card, QuantityField, Rows, bare_card, button, label
from plucky_heron.desktop.workbench import Workbench
from plucky_heron.simulation.drivers import Limp
from plucky_heron.simulation.trials import Recording, run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED


class MachineStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.selected = ("bodies", "")
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 14)
        layout.setSpacing(12)
        left = QVBoxLayout()
        left.setSpacing(10)
        self.drawing = Drawing(None)
        self.drawing.body_clicked.connect(lambda body: self.choose("bodies", body))
        card = bare_card(self.drawing, "drawing")
        left.addWidget(card, 55)
        self.strip = StripRecorder(bench.playback)
        strip = bare_card(self.strip, "strip recorder")
        left.addWidget(strip, 42)
        layout.addLayout(left, 60)
        right = QVBoxLayout()
        right.setSpacing(10)
        ladder = Card("Joint ladder", "click a part, here or in the drawing")
        self.ladder = JointLadder()
        self.ladder.chosen.connect(self.choose)
        ladder.body.addWidget(self.ladder)
        right.addWidget(ladder, 4)
        self.part = Card("Part")
        self.fields = Rows((2, 3, 4))
        self.problem_text = label("", "wrong", wrap=True)
        self.problem_text.hide()
        self.part.body.addWidget(self.fields, 1)
        self.part.body.addWidget(self.problem_text)
        right.addWidget(self.part, 4)
        follows = Card("What follows from it", "about the held pose")
        self.facts = Rows((2, 5), spacing=3)
        follows.body.addWidget(self.facts)
        right.addWidget(follows, 4)
        row = QHBoxLayout()
        self.go = button("Let go", self.let_go, "primary")
        self.hold = button("Hold", self.hold_pose)
        row.addWidget(self.go)
        row.addWidget(self.hold)
        row.addStretch(1)
        self.view = button("Next view", self.drawing.next_view)
        row.addWidget(self.view)
        row.addWidget(label("L let go · H hold · V view · Ctrl+Z undo", "soft"))
        right.addLayout(row)
        layout.addLayout(right, 40)
        bench.problem_changed.connect(self.later)
        bench.playback.loaded.connect(self._follow_playback)
        self.refresh()

    def choose(self, kind: str, name: str) -> None:
        """Choose a part."""
        self.selected = (kind, name)
        self.refresh()

    def refresh(self) -> None:
        """Show the problem as it is now."""
        problem = self.bench.problem
        if problem is None:
            return
        machine = problem.machine
        kind, name = self.selected
        if name not in getattr(machine, kind):
            self.selected = kind, name = "bodies", list(machine.bodies)[-1]
        self.drawing.set_problem(problem)
        self.drawing.selected = name if kind == "bodies" else machine.joints[name].child if kind == "joints" else ""
        self.drawing.update()
        self.ladder.show_machine(machine, self.selected)
        self._show_fields(problem)
        # the linearisation loads the kernels: the picture need not wait for that
        QTimer.singleShot(0, self, self._show_facts)

    def _show_fields(self, problem: Problem) -> None:
        kind, name = self.selected
        caption = {
            "bodies": "body",
            "joints": problem.machine.joints[name].kind if kind == "joints" else "",
            "drives": "drive",
        }[kind]
        self.part.caption.setText(name.replace("_", " ").upper())
        self.part.note.setText(caption)
        self.fields.clear()
        for number in part_numbers(problem, kind, name):
            field = QuantityField(number.unit, f"{name} {number.title}")
            field.show_value(number.value)
            field.edited.connect(lambda v, text, n=number, f=field: self._edit(n.key, v, text, n.title, f))
            self.fields.add(label(number.title, "soft"), field, label(number.note, "soft"))
        self.fields.finish()

    def _edit(self, key: tuple[str | int, ...], value: float, text: str, title: str, field: QuantityField) -> None:
        unit = field.unit
        written = text if any(c.isalpha() for c in text) else f"{text} {unit}".strip()
        wrong = self.bench.edit("machines", key, written if unit else value, f"{self.selected[1]} {title}: {text}")
        self.problem_text.setText(wrong)
        self.problem_text.setVisible(bool(wrong))

    def _show_facts(self) -> None:
        problem = self.bench.problem
        if problem is None or not self.isVisible():
            self._stale = True
            return
        self.facts.clear()
        for title, text in derived_facts(problem):
            self.facts.add(label(title, "soft"), label(text))
        self.facts.finish()

    def let_go(self) -> None:
        """Drop the machine from its start pose with its drives at rest, and play it."""
        problem = self.bench.problem
        if problem is None:
            return

        def work(job: Job) -> Recording:
            driver = Limp(problem)
            done = run_trials(
                problem, driver, seed=EVALUATION_SEED, stream="let go", count=1, record=[0], progress=job.tell
            )
            return done.recordings[0]

        def then(recording: Recording) -> None:
            self.drawing.playback = self.bench.playback
            self.bench.playback.load(problem, recording, "let go: drives off, in the task's wind", play=True)

        self.bench.start_job("letting go", work, then)

    def hold_pose(self) -> None:
        """Back to the pose."""
        self.bench.playback.pause()
        self.bench.playback.seek(0)

    def _follow_playback(self) -> None:
        playback = self.bench.playback
        if playback.recording is not None and self.drawing.playback is None:
            self.drawing.playback = playback
            playback.moved.connect(lambda _: self.drawing.update())
        self.drawing.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """L, H and V."""
        if event.key() == Qt.Key.Key_L:
            self.let_go()
        elif event.key() == Qt.Key.Key_H:
            self.hold_pose()
        elif event.key() == Qt.Key.Key_V:
            self.drawing.next_view()
        else:
            super().keyPressEvent(event)
