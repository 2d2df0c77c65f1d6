"""Machine: the drawing, the joint ladder, the chosen part's numbers, and what follows from them."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.analysis.regulator import linearise
from plucky_heron.desktop.drawing import Drawing
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.stations.base import StakeState, Station
from plucky_heron.desktop.strip import StripRecorder
from plucky_heron.desktop.theme import font, theme
from plucky_heron.desktop.widgets import Card, QuantityField, Rows, button, label
from plucky_heron.desktop.workbench import Workbench
from plucky_heron.dynamics.energy import poses
from plucky_heron.dynamics.model import mass_matrix
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.simulation.drivers import Constant
from plucky_heron.simulation.trials import Recording, run_trials
from plucky_heron.task.problem import Problem, parameter_unit
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import show


class JointLadder(QWidget):
    """The tree of the machine as a kinematic diagram: bodies in frames, hinges round, sliders square."""

    chosen = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.machine: Machine | None = None
        self.selected = ("", "")
        self.setMinimumHeight(190)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("joint ladder")
        self._places: list[tuple[QRectF, str, str]] = []

    def show_machine(self, machine: Machine, selected: tuple[str, str]) -> None:
        """Show a machine with a part chosen: ("bodies" or "joints" or "drives", name)."""
        self.machine, self.selected = machine, selected
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """From the ground outwards, one row a body."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._places = []
        if self.machine is None:
            return
        t, machine = theme(), self.machine
        order = machine.ordered_joints()
        depth = {GROUND: 0}
        for name in order:
            depth[machine.joints[name].child] = depth[machine.joints[name].parent] + 1
        levels: dict[int, list[str]] = {}
        for name in order:
            levels.setdefault(depth[machine.joints[name].child], []).append(name)
        step = min(58.0, (self.height() - 26) / max(1, len(levels)))
        centre = {GROUND: (self.width() * 0.34, 12.0)}
        painter.setPen(QPen(t.color("ink"), 1.4))
        x, y = centre[GROUND]
        painter.drawLine(QPointF(x - 34, y), QPointF(x + 34, y))
        for k in range(6):
            painter.drawLine(QPointF(x - 32 + 12 * k, y), QPointF(x - 38 + 12 * k, y - 7))
        painter.setFont(font(12))
        for level, names in levels.items():
            for k, name in enumerate(names):
                joint = machine.joints[name]
                px, py = centre[joint.parent]
                cx = px if len(names) == 1 else self.width() * (k + 0.5) / len(names)
                cy = 12 + level * step
                centre[joint.child] = (cx, cy)
                painter.setPen(QPen(t.color("ink"), 1.3))
                painter.drawLine(
                    QPointF(px, py + (0 if joint.parent == GROUND else 10)), QPointF(cx, cy - 10)
                )
                self._body(painter, QRectF(cx - 46, cy - 10, 92, 21), joint.child)
                self._joint(painter, QPointF((px + cx) / 2, (py + cy) / 2), name)

    def _body(self, painter: QPainter, box: QRectF, body: str) -> None:
        t = theme()
        chosen = self.selected == ("bodies", body)
        painter.setPen(QPen(t.color("reed" if chosen else "ink"), 2.2 if chosen else 1.3))
        painter.setBrush(t.color("faint"))
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(t.color("ink"))
        painter.setFont(font(12, bold=chosen))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, body)
        self._places.append((box, "bodies", body))

    def _joint(self, painter: QPainter, at: QPointF, name: str) -> None:
        t, machine = theme(), self.machine
        assert machine is not None
        joint = machine.joints[name]
        driven = next((d for d, drive in machine.drives.items() if drive.joint == name), "")
        chosen = self.selected in (("joints", name), ("drives", driven))
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.setBrush(t.color("reed" if chosen else "tide" if driven else "card"))
        box = QRectF(at.x() - 6, at.y() - 6, 12, 12)
        if joint.kind == "hinge":
            painter.drawEllipse(box)
        elif joint.kind == "slider":
            painter.drawRect(box)
        else:
            painter.drawPolyline(
                QPolygonF([box.topLeft(), box.bottomRight(), box.topRight(), box.bottomLeft()])
            )
        painter.setFont(font(12, bold=chosen))
        painter.setPen(t.color("ink"))
        kind = {"hinge": "turns", "slider": "slides", "fixed": "fixed"}[joint.kind]
        text = f"{name} {kind}" + (f" · driven by {driven}" if driven else " · free")
        place = QRectF(at.x() + 14, at.y() - 9, self.width() - at.x() - 18, 18)
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, text)
        width = painter.fontMetrics().horizontalAdvance(f"{name} {kind} · ")
        if driven:
            self._places.append((QRectF(place.left() + width, place.top(), 200, 18), "drives", driven))
        self._places.append((box.united(QRectF(place.left(), place.top(), width, 18)), "joints", name))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose what was clicked."""
        for box, kind, name in self._places:
            if box.contains(event.position()):
                self.chosen.emit(kind, name)
                return

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down go through the parts."""
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self._places:
            parts = [(k, n) for _, k, n in self._places]
            now = parts.index(self.selected) if self.selected in parts else 0
            self.chosen.emit(*parts[(now + (1 if event.key() == Qt.Key.Key_Down else -1)) % len(parts)])
        else:
            super().keyPressEvent(event)


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
        card = Card()
        card.setAccessibleName("drawing")
        card.layout().setContentsMargins(2, 2, 2, 2)
        self.drawing = Drawing(None)
        self.drawing.body_clicked.connect(lambda body: self.choose("bodies", body))
        card.body.addWidget(self.drawing, 1)
        left.addWidget(card, 55)
        strip = Card()
        strip.setAccessibleName("strip recorder")
        strip.layout().setContentsMargins(2, 2, 2, 2)
        self.strip = StripRecorder(bench.playback)
        strip.body.addWidget(self.strip)
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
        row.addWidget(label("L let go · H hold · Ctrl+Z undo", "soft"))
        right.addLayout(row)
        layout.addLayout(right, 40)
        bench.problem_changed.connect(self.later)
        bench.playback.loaded.connect(self._follow_playback)
        self.refresh()

    def stake(self) -> StakeState:
        """Bodies and drives."""
        problem = self.bench.problem
        if problem is None:
            return StakeState(0.0, "no machine", trouble=True)
        return StakeState(1.0, f"{len(problem.machine.bodies)} bodies, {len(problem.machine.drives)} drives")

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
        self.drawing.selected = (
            name if kind == "bodies" else machine.joints[name].child if kind == "joints" else ""
        )
        self.drawing.update()
        self.ladder.show_machine(machine, self.selected)
        self._show_fields(problem)
        self._show_facts(problem)

    def _show_fields(self, problem: Problem) -> None:
        kind, name = self.selected
        caption = {
            "bodies": "body",
            "joints": problem.machine.joints[name].kind if kind == "joints" else "",
            "drives": "drive",
        }[kind]
        self.part.caption.setText(name.upper())
        self.part.note.setText(caption)
        self.fields.clear()
        for title, key, value, unit, note in part_numbers(problem, kind, name):
            field = QuantityField(unit, f"{name} {title}")
            field.show_value(value)
            field.edited.connect(lambda v, text, k=key, tt=title, f=field: self._edit(k, v, text, tt, f))
            self.fields.add(label(title, "soft"), field, label(note, "soft"))
        self.fields.finish()

    def _edit(
        self, key: tuple[str | int, ...], value: float, text: str, title: str, field: QuantityField
    ) -> None:
        unit = field.unit
        written = text if any(c.isalpha() for c in text) else f"{text} {unit}".strip()
        wrong = self.bench.edit(
            "machines", key, written if unit else value, f"{self.selected[1]} {title}: {text}"
        )
        self.problem_text.setText(wrong)
        self.problem_text.setVisible(bool(wrong))

    def _show_facts(self, problem: Problem) -> None:
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
            driver = Constant(problem, name="let go")
            done = run_trials(
                problem, driver, seed=EVALUATION_SEED, stream="let go", count=1, record=[0], progress=job.tell
            )
            return done.recordings[0]

        def then(recording: Recording) -> None:
            self.drawing.playback = self.bench.playback
            self.bench.playback.load(
                problem, recording, "let go: drives at rest, in the task's wind", play=True
            )

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
        """L and H."""
        if event.key() == Qt.Key.Key_L:
            self.let_go()
        elif event.key() == Qt.Key.Key_H:
            self.hold_pose()
        else:
            super().keyPressEvent(event)


def part_numbers(
    problem: Problem, kind: str, name: str
) -> list[tuple[str, tuple[str | int, ...], float, str, str]]:
    """Editable numbers of a part: title, key in the file, SI value, unit, what it means."""
    machine = problem.machine
    if kind == "bodies":
        body = machine.bodies[name]
        total = sum(b.mass for b in machine.bodies.values())
        rows = [
            ("mass", (kind, name, "mass"), body.mass, "kg", f"{100 * body.mass / total:.0f} % of the machine")
        ]
        if body.inertia[1] > 0:
            rows.append(
                (
                    "inertia yy",
                    (kind, name, "inertia", 1),
                    body.inertia[1],
                    "kg*m**2",
                    "about its centre, in side view",
                )
            )
        if any(body.centre):
            rows.append(
                ("centre, height", (kind, name, "centre", 2), body.centre[2], "m", "of mass, from its origin")
            )
        if body.drag_area:
            at_10 = 0.5 * problem.site.air_density * body.drag_area * 100
            rows.append(
                ("drag area", (kind, name, "drag_area"), body.drag_area, "m**2", f"{at_10:.0f} N at 10 m/s")
            )
        return rows
    if kind == "joints":
        joint = machine.joints[name]
        x = joint.unit
        rows = []
        if joint.limits is not None:
            rows.append(("lowest", (kind, name, "limits", 0), joint.limits[0], x, "a stop, stiff and damped"))
            rows.append(
                (
                    "highest",
                    (kind, name, "limits", 1),
                    joint.limits[1],
                    x,
                    f"travel {show(joint.limits[1] - joint.limits[0], x)}",
                )
            )
        rows.append(
            ("start", (kind, name, "start"), joint.start, x, f"+ {joint.positive}" if joint.positive else "")
        )
        index = problem.model.joints.index(name) if name in problem.model.joints else -1
        if index >= 0:
            mass = mass_matrix(problem.model, problem.model.start)[index, index]
            note = f"speed falls to a third in {show(mass / joint.damping, 's')}" if joint.damping else "none"
            rows.append(
                (
                    "damping",
                    (kind, name, "damping"),
                    joint.damping,
                    parameter_unit(machine, f"{name}.damping"),
                    note,
                )
            )
            if joint.stiffness:
                rows.append(
                    (
                        "stiffness",
                        (kind, name, "stiffness"),
                        joint.stiffness,
                        parameter_unit(machine, f"{name}.stiffness"),
                        "",
                    )
                )
        return rows
    drive = machine.drives[name]
    index = problem.model.joints.index(drive.joint)
    mass = mass_matrix(problem.model, problem.model.start)[index, index]
    limit_unit = parameter_unit(machine, f"{name}.limit")
    rows = [
        (
            "limit",
            (kind, name, "limit"),
            float(drive.limit),
            limit_unit,
            f"{show(float(drive.limit) / mass)} per s² on what it moves",
        )
    ]
    if drive.kind == "speed":
        speed_unit = machine.drive_unit(name)
        rows.append(
            (
                "top speed",
                (kind, name, "top_speed"),
                float(drive.top_speed or 0),
                speed_unit,
                f"+ {drive.positive}",
            )
        )
        rows.append(
            (
                "gain",
                (kind, name, "gain"),
                float(drive.gain),
                parameter_unit(machine, f"{name}.gain"),
                "speed servo",
            )
        )
    rows.append(
        ("lag", (kind, name, "lag"), drive.lag, "s", f"{drive.lag / problem.sample_time:.1f} samples")
    )
    rows.append(
        (
            "dead time",
            (kind, name, "dead_time"),
            drive.dead_time,
            "s",
            f"{drive.dead_time / problem.sample_time:.1f} samples",
        )
    )
    return rows


def derived_facts(problem: Problem) -> list[tuple[str, str]]:
    """What an engineer wants to know of the machine as it is: mass, freedom, modes, what drives can hold."""
    machine, model = problem.machine, problem.model
    frames = poses(machine, dict(zip(model.joints, map(float, model.start), strict=True)))
    masses = np.array([b.mass for b in machine.bodies.values()])
    centres = np.array(
        [frames[n][:3, :3] @ np.array(b.centre) + frames[n][:3, 3] for n, b in machine.bodies.items()]
    )
    centre = masses @ centres / masses.sum()
    facts = [
        ("mass", f"{show(masses.sum(), 'kg')}, centre {centre[2]:.2f} m up"),
        (
            "freedom",
            f"{len(model.joints)} coordinates, {len(model.drives)} driven, {len(model.joints) - len(set(model.drive_joint))} free",
        ),
    ]
    linear = linearise(problem)
    poles = np.linalg.eigvals(linear.transition)
    poles = np.log(poles[np.abs(poles) > 1e-9].astype(complex)) / problem.sample_time
    swings = sorted((p for p in poles if p.imag > 1e-3), key=lambda p: abs(p))
    for pole in swings[:2]:
        damping = -pole.real / abs(pole)
        facts.append(
            (
                "swing",
                f"{abs(pole) / 2 / np.pi:.3f} Hz, period {2 * np.pi / abs(pole):.2f} s, damping {damping:.3f}",
            )
        )
    fastest = max(np.abs(poles))
    substeps = 1.0 / fastest / problem.task.timing.physics_step
    facts.append(
        (
            "fastest motion",
            f"time constant {1000 / fastest:.0f} ms, {substeps:.0f} substeps of {1000 * problem.task.timing.physics_step:g} ms",
        )
    )
    for name, drive in machine.drives.items():
        joint = machine.joints[drive.joint]
        axis = frames[joint.child][:3, :3] @ np.array(joint.axis)
        if joint.kind == "slider" and abs(axis[2]) > 0.5:
            hung = sum(b.mass for n, b in machine.bodies.items() if _hangs_on(machine, n, drive.joint))
            need = hung * problem.site.gravity
            facts.append(
                (
                    f"{name} holds",
                    f"{show(need, 'N')} of its {show(float(drive.limit), 'N')}: {float(drive.limit) / need:.1f} times",
                )
            )
    return facts


def _hangs_on(machine: Machine, body: str, joint: str) -> bool:
    above = {j.child: n for n, j in machine.joints.items()}
    while body != GROUND:
        if above[body] == joint:
            return True
        body = machine.joints[above[body]].parent
    return False
