"""Machine: the drawing as editor, the joint ladder, the chosen part's numbers, and what follows from them."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QVBoxLayout

from plucky_heron.analysis.machines.facts import derived_facts
from plucky_heron.analysis.machines.part_numbers import PartNumber, change_of, part_numbers
from plucky_heron.analysis.machines.problems import Trouble, machine_troubles
from plucky_heron.desktop.bench.documents import put
from plucky_heron.desktop.bench.live import Loose
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.charts.strip_recorder import StripRecorder
from plucky_heron.desktop.forms.widgets import (
    Card,
    ElidedLabel,
    QuantityField,
    Rows,
    bare_card,
    button,
    label,
    scrolled,
)
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.picture.handles import Change
from plucky_heron.desktop.picture.machine_drawing import MachineDrawing
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.stations.machine.ladder import JointLadder
from plucky_heron.desktop.stations.machine.part_actions import PartActions, body_of
from plucky_heron.dynamics.posing import starts_of
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem
from plucky_heron.units import show

_CAPTIONS = {
    "bodies": "body", "drives": "drive", "forces": "force", "tanks": "tank", "couplings": "coupling", "sensors": "sensor",
}  # fmt: skip

_SAG = 60.0
"""Pixels from which the mouse pulls with the machine's whole weight."""


class MachineStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.selected = ("bodies", "")
        self.loose: Loose | None = None
        self._held: np.ndarray | None = None
        """The pose from which the machine was let go."""
        self._of: object = None
        """The problem that is shown, and the one whose troubles are known."""
        self._judged: object = None
        self._working: Job | None = None
        self._again = False
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 14)
        layout.setSpacing(12)
        left = QVBoxLayout()
        left.setSpacing(10)
        self.drawing = MachineDrawing()
        self.drawing.body_clicked.connect(lambda body: self.choose("bodies", body))
        self.drawing.posed.connect(self._posed)
        self.drawing.reshaped.connect(self._reshape)
        self.drawing.pulled.connect(self._pull)
        self.drawing.released.connect(self._release)
        left.addWidget(bare_card(self.drawing, "drawing"), 55)
        self.strip = StripRecorder(bench.playback, sensors=True)
        left.addWidget(bare_card(self.strip, "strip recorder"), 42)
        layout.addLayout(left, 60)
        right = QVBoxLayout()
        right.setSpacing(10)
        right.addWidget(self._ladder_card(), 8)
        right.addWidget(self._part_card(), 9)
        follows = Card("What follows from it")
        self.follows = follows.note
        self.facts = Rows((2, 5), spacing=2)
        follows.body.addWidget(scrolled(self.facts))
        right.addWidget(follows, 8)
        right.addLayout(self._buttons())
        layout.addLayout(right, 40)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._show_facts)
        self._shortcuts()
        bench.problem_changed.connect(self.later)
        bench.playback.loaded.connect(self._follow_playback)
        bench.playback.moved.connect(self._moved)
        self.refresh()

    # --- how it is laid out ------------------------------------------------------------------------------------------

    def _ladder_card(self) -> Card:
        card = Card("Joint ladder", "click a part, here or in the drawing")
        self.ladder = JointLadder()
        self.ladder.chosen.connect(self.choose)
        card.body.addWidget(self.ladder, 1)
        row = QHBoxLayout()
        row.setSpacing(6)
        self.add = QPushButton("Add")
        self.add.setAccessibleName("add a part")
        self.more = QPushButton("More")
        self.more.setAccessibleName("more for parts and machines")
        self.parts = PartActions(self.bench, QMenu(self.add), QMenu(self.more), lambda: self.selected)
        self.parts.chosen.connect(self.choose)
        self.parts.said.connect(self._say)
        self.add.setMenu(self.parts.menu)
        self.more.setMenu(self.parts.more)
        row.addWidget(self.add)
        for text, action, tip in (
            ("Duplicate", self.parts.duplicate, "the body with all that hangs on it, beside itself (Ctrl+D)"),
            ("Mirror", self.parts.mirror, "the body with all that hangs on it, left for right (Ctrl+M)"),
            ("Remove", self.parts.remove, "the part, all that hangs on it and all that refers to it (Delete)"),
        ):
            made = button(text, action)
            made.setToolTip(tip)
            row.addWidget(made)
        row.addWidget(self.more)
        row.addStretch(1)
        card.body.addLayout(row)
        return card

    def _part_card(self) -> Card:
        self.part = Card("Part")
        self.fields = Rows((2, 3, 4), spacing=3)
        self.meaning = ElidedLabel("", "soft")
        self.problem_text = label("", "wrong", wrap=True)
        self.problem_text.hide()
        self.part.body.addWidget(scrolled(self.fields), 1)
        self.meaning.hide()
        self.part.body.addWidget(self.meaning)
        self.part.body.addWidget(self.problem_text)
        return self.part

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        self.go = button("Let go", self.let_go, "primary")
        self.go.setToolTip("drop the machine from this pose with its drives off; drag on a body to push it (L)")
        self.hold = button("Hold", self.hold_pose)
        self.hold.setToolTip("back to the pose (H)")
        self.keep = button("Keep as start", self.keep_pose)
        self.back = button("To the start", self.drop_pose)
        self.view = button("Next view", self.drawing.next_view)
        self.view.setToolTip("side, end, top, free (V)")
        for made in (self.go, self.hold, self.keep, self.back):
            row.addWidget(made)
        row.addStretch(1)
        row.addWidget(self.view)
        return row

    def _shortcuts(self) -> None:
        for keys, action in (
            ("Ctrl+E", self.parts.edit_all), ("Ctrl+D", self.parts.duplicate), ("Ctrl+M", self.parts.mirror), ("Ctrl+C", self.parts.copy), ("Ctrl+V", self.parts.paste),
            ("Delete", self.parts.remove),
        ):  # fmt: skip
            made = QShortcut(QKeySequence(keys), self, action)
            made.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)

    # --- what is shown -----------------------------------------------------------------------------------------------

    def choose(self, kind: str, name: str) -> None:
        """Choose a part."""
        self.selected = (kind, name)
        self._say("")
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
        if self._of is not problem:
            self._stop()
            if self.drawing.pose is not None and len(self.drawing.pose) != len(problem.model.start):
                self.drawing.pose = None
            self.drawing.troubles = []
            self._of = problem
        self.drawing.set_problem(problem)
        self.drawing.selected = body_of(machine, kind, name)
        self.drawing.update()
        self.ladder.show_machine(machine, self.selected, self.drawing.troubles)
        self._show_fields(problem)
        self._show_pose_buttons()
        # the linearisation loads the kernels: the picture need not wait for that
        self._later.start(0)

    def _show_fields(self, problem: Problem) -> None:
        kind, name = self.selected
        machine = problem.machine
        self.part.caption.setText(name.replace("_", " ").upper())
        said = machine.joints[name].kind if kind == "joints" else _CAPTIONS[kind]
        own = getattr(getattr(machine, kind)[name], "kind", "") if kind not in ("joints", "bodies") else ""
        self.part.note.setText(f"{own} {said}".strip() if own != said else said)
        self.fields.clear()
        self.meaning.hide()
        for number in part_numbers(problem, kind, name):
            field = QuantityField(number.unit, f"{name} {number.title}")
            field.show_value(number.value)
            field.edited.connect(lambda v, text, n=number, f=field: self._edit(n, v, text, f))
            field.setProperty("says", _said(number))
            field.installEventFilter(self)
            self.fields.add(label(number.title, "soft"), field, ElidedLabel(number.note, "soft"))
        self.fields.finish()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """What a number means and may be, while it has the focus."""
        if event.type() == QEvent.Type.FocusIn:
            self.meaning.setText(str(watched.property("says") or ""))
            self.meaning.show()
        return super().eventFilter(watched, event)

    def _show_facts(self) -> None:
        problem = self.bench.problem
        if problem is None or not self.isVisible():
            self._stale = True
            return
        if self._working is not None:
            self._again = True
            return
        pose = None if self.drawing.pose is None else self.drawing.pose.copy()
        fresh = self._judged is not problem
        self._again = False

        def work(_: Job) -> tuple[Problem, list[Trouble] | None, list[tuple[str, str]]]:
            return problem, machine_troubles(problem) if fresh else None, derived_facts(problem, pose)

        # in a thread of its own: the first linearisation loads the kernels, and a big machine takes its time
        self._working = Job("what follows", work, self)
        self._working.done.connect(self._facts_known)
        self._working.failed.connect(self._facts_unknown)
        self._working.start()

    def _facts_unknown(self, text: str) -> None:
        self._working = None
        self.facts.clear()
        self.facts.add_wide(label(text, "wrong", wrap=True))
        self.facts.finish()

    def _facts_known(self, found: tuple[Problem, list[Trouble] | None, list[tuple[str, str]]]) -> None:
        self._working = None
        problem, troubles, facts = found
        if problem is self.bench.problem:
            if troubles is not None:
                self._judged = problem
                self.drawing.troubles = troubles
                self.drawing.update()
                self.ladder.show_machine(problem.machine, self.selected, troubles)
            self.facts.clear()
            for trouble in self.drawing.troubles:
                text = label(f"{trouble.text}: {trouble.remedy}", wrap=True)
                self.facts.add(label(trouble.name.replace("_", " "), "wrong"), text)
            for title, fact in facts:
                self.facts.add(label(title.replace("_", " "), "soft"), ElidedLabel(fact))
            self.facts.finish()
        else:
            self._again = True
        if self._again:
            self._later.start(0)

    # --- numbers and handles -------------------------------------------------------------------------------------------

    def _say(self, wrong: str) -> None:
        self.problem_text.setText(wrong)
        self.problem_text.setVisible(bool(wrong))

    def _edit(self, number: PartNumber, value: float, text: str, field: QuantityField) -> None:
        unit = field.unit
        written: object = text if any(c.isalpha() for c in text) else f"{text} {unit}".strip()
        if not unit:
            written = int(value) if number.title == "beams" else value
        key, whole = change_of(number, written)
        wrong = self.bench.edit("machines", key, whole, f"{self.selected[1]} {number.title}: {text}")
        if wrong and number.title.startswith("inertia"):
            wrong += "; Ctrl+E changes an inertia as a whole"
        self._say(wrong)

    def _reshape(self, found: list[Change], text: str) -> None:
        def change(document: Any) -> None:
            for key, value in found:
                put(document, key, value)

        self._say(self.bench.rewrite("machines", change, text))

    # --- pose, letting go, pushing ---------------------------------------------------------------------------------------

    def _posed(self) -> None:
        self._show_pose_buttons()
        self._later.start(60)

    def _show_pose_buttons(self) -> None:
        problem, pose = self.bench.problem, self.drawing.pose
        other = pose is not None and problem is not None and bool(np.abs(pose - problem.model.start).max() > 1e-9)
        self.keep.setVisible(other)
        self.back.setVisible(other)
        self.follows.setText("in the pose that is held" if other else "in the start pose")

    def drop_pose(self) -> None:
        """The start pose again."""
        problem = self.bench.problem
        if problem is not None:
            self._stop()
            self.drawing.set_pose(problem.model.start.copy())
            self._posed()

    def keep_pose(self) -> None:
        """Write the held pose into the machine file as its start."""
        problem, pose = self.bench.problem, self.drawing.pose
        if problem is None or pose is None:
            return
        before, after = starts_of(problem.model, problem.model.start), starts_of(problem.model, pose)

        def change(document: Any) -> None:
            for joint, numbers in after.items():
                if np.abs(np.subtract(numbers, before[joint])).max() < 1e-9:
                    continue
                units = [
                    problem.machine.coordinate_unit(c)
                    for c, (j, _) in problem.machine.coordinates().items()
                    if j == joint
                ]
                written = [
                    f"{np.degrees(v):.6g} deg" if unit == "rad" else f"{v:.6g} m"
                    for v, unit in zip(numbers, units, strict=True)
                ]
                document["joints"][joint]["start"] = written if len(written) > 1 else written[0]

        self._say(self.bench.rewrite("machines", change, "start pose"))
        if not self.problem_text.text():
            self.drawing.set_pose(None)
            self.hold_pose()

    def let_go(self) -> None:
        """Drop the machine from the pose with its drives off, in real time."""
        problem = self.bench.problem
        if problem is None:
            return
        self._stop()
        pose = self.drawing.pose if self.drawing.pose is not None else problem.model.start
        self._held = pose.copy()
        self.loose = Loose(problem, pose, self)
        self.loose.advanced.connect(self._fell)
        self.loose.ended.connect(self._landed)
        self.drawing.playback = self.bench.playback
        self.drawing.pose, self.drawing.pushing = None, True
        self._show_pose_buttons()
        self.loose.start()
        self._fell(self.loose.recording())
        self.drawing.setFocus()

    def _fell(self, recording: Recording) -> None:
        if self.loose is None:
            return
        self.bench.playback.show(self.loose.problem, recording, "let go: drives off; drag on a body to push it")
        self.drawing.pull_on()

    def _landed(self, recording: Recording) -> None:
        self._fell(recording)
        self.loose = None
        self.drawing.pushing = False

    def _stop(self) -> None:
        if self.loose is not None:
            self.loose.stop()
            self.loose = None
        self.drawing.pushing = False

    def _pull(self, body: str, point: np.ndarray, place: np.ndarray) -> None:
        if self.loose is not None:
            force = self.loose.pull(body, point, place, _SAG / self.drawing.frame().scale)
            self.drawing.caption = f"pushing {body.replace('_', ' ')} with {show(force, 'N')}"

    def _release(self) -> None:
        self.drawing.caption = ""
        if self.loose is not None:
            self.loose.let_go()

    def hold_pose(self) -> None:
        """Back to the pose from which the machine was let go."""
        problem = self.bench.problem
        was_loose = self.loose is not None or self.drawing.pose is None
        self._stop()
        self.bench.playback.pause()
        if problem is None:
            return
        if was_loose:
            held, start = self._held, problem.model.start
            self.drawing.set_pose((held if held is not None and len(held) == len(start) else start).copy())
        self._held = None
        self._posed()

    def _follow_playback(self) -> None:
        playback = self.bench.playback
        if playback.recording is not None and self.drawing.playback is None:
            self.drawing.playback = playback
            playback.moved.connect(lambda _: self.drawing.update())
        if playback.recording is not None and playback.problem is self.bench.problem and self.loose is None:
            self.drawing.pose = None
            self._show_pose_buttons()
        self.drawing.update()

    def takes_keys(self) -> bool:
        """While the machine runs loose, Space stops it where it is."""
        return self.loose is not None

    def _moved(self, index: int) -> None:
        """Whoever looks back into a loose run, or plays something else, has seen enough of it."""
        recording = self.bench.playback.recording
        if self.loose is not None and (
            recording is None or recording.stream != self.loose.stream or index != recording.steps
        ):
            self._stop()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """L, H and V; plus and minus move the chosen joint; Space and arrows end a loose run and look back into it."""
        steps: dict[int, int] = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Home: -(10**9),
            Qt.Key.Key_Space: 0,
        }
        back = steps.get(event.key())
        if self.loose is not None and back is not None:
            self._stop()
            self.bench.playback.step(back)
        elif event.key() == Qt.Key.Key_L:
            self.let_go()
        elif event.key() == Qt.Key.Key_H:
            self.hold_pose()
        elif event.key() == Qt.Key.Key_V:
            self.drawing.next_view()
        elif event.text() in ("+", "-", "=", "_", "*"):
            self.drawing.keyPressEvent(event)
        else:
            super().keyPressEvent(event)


def _said(number: PartNumber) -> str:
    """What a number means and which values it may take."""
    parts = [number.title, number.allowed, number.meaning or number.note]
    return ": ".join(p for p in (parts[0], " · ".join(p for p in parts[1:] if p)) if p)
