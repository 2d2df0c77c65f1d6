"""The scene: a machine and what happens to it in pen and wash, projected and painted with QPainter alone.

It paints into any painter, so the same code serves the window and a picture without one.
"""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from plucky_heron.desktop.picture.projection import VIEWS, Frame, along, draw_arrow, faces_of, outline_points
from plucky_heron.desktop.picture.site_scene import edges, site_scene
from plucky_heron.desktop.picture.task_scene import TaskScene
from plucky_heron.desktop.theme import font, theme
from plucky_heron.dynamics.energy import poses
from plucky_heron.machine.schema import GROUND, Pin, Rod, Shape, Spring, Wing
from plucky_heron.machine.urdf import rotation
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem
from plucky_heron.units import pretty_unit

Array = np.ndarray


ALIKE = 0.9
"""Cosine of the angle between two directions that count as one."""
SLENDER = 4.0
"""How many times as wide as it is deep a lifting surface is drawn."""


def natural_view(problem: Problem) -> str:
    """The view that shows most of a machine: the plane it moves in, or from above and aside."""
    machine = problem.machine
    frames = poses(machine, problem.model.pose(problem.model.start))
    axes: dict[str, list[Array]] = {}
    for joint in machine.joints.values():
        axes.setdefault(joint.kind, []).append(frames[joint.child][:3, :3] @ np.array(joint.axis, dtype=float))
    if "free" in axes or "ball" in axes:
        return "free"
    turning = axes.get("planar") or axes.get("hinge", [])  # wheels of what goes about in a plane do not tell
    sliding = axes.get("slider", []) if "planar" not in axes else []
    for view in ("side", "end", "top"):
        eye = VIEWS[view][2]
        if all(abs(axis @ eye) > ALIKE for axis in turning) and all(abs(axis @ eye) < ALIKE for axis in sliding):
            return view
    return "free"


class Scene:
    """Paints one problem: site, machine, target, overlays."""

    def __init__(self, problem: Problem) -> None:
        self._posed: tuple[bytes, dict[str, Array]] = (b"", {})
        self._extents: dict[str, tuple[float, float, float, float]] = {}
        self.problem = problem
        self.site = site_scene(problem)
        machine = problem.machine
        self._points = {
            body: [(shape, points := outline_points(shape), faces_of(shape, points)) for shape in part.shapes]
            for body, part in machine.bodies.items()
        }
        self.meaning = TaskScene(problem)
        self._roams = next((j.child for j in machine.joints.values() if j.kind in ("planar", "free")), "")
        self._start = poses(machine, problem.model.pose(problem.model.start))
        self.outlines: dict[str, list[QPolygonF]] = {}

    def extent(self, view: str) -> tuple[float, float, float, float]:
        """What should be in sight: left, right, bottom, top, in metres of the view's plane; looked for once a view."""
        if view not in self._extents:
            self._extents[view] = self._look_for_extent(view)
        return self._extents[view]

    def _look_for_extent(self, view: str) -> tuple[float, float, float, float]:
        machine, model = self.problem.machine, self.problem.model
        points = []
        for body, shapes in self._points.items():
            frame = self._start[body]
            points += [p @ frame[:3, :3].T + frame[:3, 3] for _, p, _ in shapes]
            points.append(frame[None, :3, 3])
        if self._roams:
            cloud = np.concatenate(points)
            size = float(np.ptp(cloud, axis=0).max())
            middle = self._start[self._roams][:3, 3] @ VIEWS[view][:2].T
            track = self.problem.surroundings.tracks[0] is not None or self.problem.site.walls
            half = size * (2.6 if track else 0.95)
            flat = cloud @ VIEWS[view][:2].T - middle
            (left, down), (right, up) = flat.min(axis=0) - 0.1 * size, flat.max(axis=0) + 0.1 * size
            if view in ("side", "end"):  # the ground stays in sight
                down, up = float(flat[:, 1].min()) - 0.3 * half, float(flat[:, 1].max()) + 0.25 * half
            else:  # what travels may have its origin at its foot, or at its nose
                down, up = min(down, -0.75 * half), max(up, 0.65 * half)
            left, right = min(left, -half), max(right, half)
            return middle[0] + left, middle[0] + right, middle[1] + down, middle[1] + up
        start = model.pose(model.start)
        driven = {drive.joint for drive in machine.drives.values()}
        for name in model.joints:
            joint = machine.joints[name.partition(".")[0]]
            # a driven joint without stops may go all the way round; what only hangs there hardly will
            around = (-np.pi, -np.pi / 2, np.pi / 2, np.pi) if name in driven else ()
            for value in joint.limits or around:
                reached = poses(machine, {**start, name: float(np.clip(value, -20, 20))})
                points += [frame[None, :3, 3] for frame in reached.values()]
        site = self.problem.site
        if site.portal is not None:
            points.append(np.array([[site.portal[0], 0, 0], [site.portal[1], 0, site.portal[2] + 1.0], [0, 0, 0]]))
        points += [np.array([at]) for _, _, _, at in self.problem.surroundings.solids[0]]
        flat = np.concatenate(points) @ VIEWS[view][:2].T
        low, high = flat.min(axis=0), flat.max(axis=0)
        if site.terrain is not None or site.ground:
            low[1] = min(low[1], 0.0)
        margin = 0.12 * float(np.ptp(flat, axis=0).max())
        return low[0] - margin, high[0] + margin, low[1] - 1.1 * margin, high[1] + 0.8 * margin

    def carried_to(self, view: str, position: Array) -> tuple[float, float]:
        """How far the machine has gone from its start, in the view's plane: what a drawing that follows is moved by."""
        if not self._roams:
            return 0.0, 0.0
        now = self.frames_at(position)[self._roams][:3, 3]
        moved = VIEWS[view][:2] @ (now - self._start[self._roams][:3, 3])
        # from aside the ground should rest: small ups and downs are not followed
        up = float(moved[1])
        return float(moved[0]), up if view in ("top", "free") else float(np.sign(up)) * max(0.0, abs(up) - 0.25)

    def frames_at(self, position: Array) -> dict[str, Array]:
        """Where every body stands, (4, 4); asked for again of the same position, from memory."""
        key = np.asarray(position).tobytes()
        if key != self._posed[0]:
            self._posed = (key, poses(self.problem.machine, self.problem.model.pose(position)))
        return self._posed[1]

    def paint_site(self, painter: QPainter, frame: Frame, scene: int = 0) -> None:
        """Grid, water, ground, walls, courses."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.site.paint(painter, frame, scene)

    def paint_names(self, painter: QPainter, frame: Frame, scene: int = 0) -> None:
        """What of the site has its place on the screen: the name of the course, the current's arrow."""
        self.site.paint_names(painter, frame, scene)

    def paint_meaning(
        self, painter: QPainter, frame: Frame, recording: Recording | None, index: int, scene: int
    ) -> None:
        """Zones and gates of the task."""
        self.meaning.paint(painter, frame, recording, index, scene)

    def paint_machine(
        self, painter: QPainter, frame: Frame, position: Array, *, ghost: bool = False, selected: str = ""
    ) -> None:
        """All bodies, far ones first; a ghost is only a faint outline. Outlines are kept for finding what was clicked."""
        t, machine = theme(), self.problem.machine
        frames = self.frames_at(position)
        pen = t.color("heron", 0.7) if ghost else t.color("ink")
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for joint in machine.joints.values():
            if joint.kind == "slider" and joint.parent != GROUND and not machine.bodies[joint.parent].shapes:
                self._cable(painter, frame, frames[joint.parent][:3, 3], frames[joint.child][:3, 3], pen)
        towards = VIEWS[frame.view][2]
        pieces = [
            (
                float((frames[body][:3, :3] @ points.mean(axis=0) + frames[body][:3, 3]) @ towards),
                body,
                k,
                shape,
                points,
                rings,
            )
            for body, shapes in self._points.items()
            for k, (shape, points, rings) in enumerate(shapes)
        ]
        found = {body: [QPolygonF()] * len(shapes) for body, shapes in self._points.items()}
        for _, body, k, shape, points, rings in sorted(pieces, key=lambda piece: piece[0]):
            placed = frames[body]
            outline = frame.hull(points @ placed[:3, :3].T + placed[:3, 3])
            found[body][k] = outline
            role = "reed" if body == selected else "heron" if shape.wash == "plain" else shape.wash
            wash = t.color(role, 0.10 if shape.wash == "plain" and body != selected else 0.3)
            painter.setBrush(Qt.BrushStyle.NoBrush if ghost else over(wash, t.color("card", 0.82)))
            painter.setPen(QPen(pen, 1.1 if ghost else 1.6))
            painter.drawPolygon(outline)
            if ghost:
                continue
            if frame.view == "free":
                painter.setPen(QPen(pen, 0.9))
                edges(painter, frame, [ring @ placed[:3, :3].T + placed[:3, 3] for ring in rings])
            elif shape.kind == "cylinder" and outline.count() > 8:
                self._spokes(painter, frame, placed, shape, pen)
            if shape.kind == "bucket" and frame.view in ("side", "end"):
                self._staves(painter, outline, pen)
        if not ghost:
            self.outlines = found
            self._wings(painter, frame, frames)
            self._between(painter, frame, frames)
            self._joints(painter, frame, frames)

    def _wings(self, painter: QPainter, frame: Frame, frames: dict[str, Array]) -> None:
        """Lifting surfaces, dashed: of their span and chord only the product is known."""
        t = theme()
        painter.setPen(QPen(t.color("plum"), 1.2, Qt.PenStyle.DashLine))
        painter.setBrush(t.color("plum", 0.07))
        for force in self.problem.machine.forces.values():
            if isinstance(force, Wing):
                placed = frames[force.body]
                corners = wing_corners(force)
                painter.drawPolygon(frame.polygon(corners @ placed[:3, :3].T + placed[:3, 3]))

    def _between(self, painter: QPainter, frame: Frame, frames: dict[str, Array]) -> None:
        """What acts between two points: springs wound, ropes and rods straight, pins as a ring about the hinge's round."""
        t = theme()
        for force in self.problem.machine.forces.values():
            if not isinstance(force, Spring | Rod | Pin):
                continue
            a, b = (
                frame.place((frames[body] @ np.array([*at, 1.0]))[:3])
                for body, at in ((force.a, force.at_a), (force.b, force.at_b))
            )
            painter.setBrush(Qt.BrushStyle.NoBrush)
            if isinstance(force, Pin):
                if (b - a).manhattanLength() > 3.0:  # it cannot close
                    painter.setPen(QPen(t.color("rust"), 1.2, Qt.PenStyle.DashLine))
                    painter.drawLine(a, b)
                for end in (a, b):
                    painter.setPen(QPen(t.color("ink"), 1.2))
                    painter.setBrush(Qt.BrushStyle.NoBrush)
                    painter.drawEllipse(end, 6.0, 6.0)
                    painter.setBrush(t.color("ink"))
                    painter.drawEllipse(end, 1.6, 1.6)
                continue
            if isinstance(force, Rod):
                painter.setPen(QPen(t.color("ink"), 3.4))
                painter.drawLine(a, b)
                painter.setPen(QPen(t.color("card"), 1.2))
                painter.drawLine(a, b)
            else:
                painter.setPen(QPen(t.color("plum"), 1.3))
                painter.drawPolyline(_wound(a, b, 0 if force.pulls_only else 9))
            painter.setPen(QPen(t.color("ink"), 1.2))
            painter.setBrush(t.color("card"))
            for end in (a, b):
                painter.drawEllipse(end, 2.6, 2.6)

    def _joints(self, painter: QPainter, frame: Frame, frames: dict[str, Array]) -> None:
        """Joints as on a kinematic diagram: hinges round, sliders square, where the machine is not too small for it."""
        t, machine = theme(), self.problem.machine
        if frame.scale < 60:
            return
        painter.setPen(QPen(t.color("ink"), 1.2))
        driven = {drive.joint for drive in machine.drives.values()}
        for name, joint in machine.joints.items():
            if joint.kind not in ("hinge", "slider", "ball"):
                continue
            at = frame.place(
                frames[joint.child][:3, 3]
                if joint.kind != "slider"
                else (frames[joint.parent] @ np.array([*joint.origin, 1.0]))[:3]
            )
            painter.setBrush(t.color("tide" if name in driven else "card"))
            if joint.kind == "slider":
                painter.drawRect(QRectF(at.x() - 3.5, at.y() - 3.5, 7, 7))
            else:
                painter.drawEllipse(at, 3.6, 3.6)

    def _spokes(self, painter: QPainter, frame: Frame, placed: Array, shape: Shape, pen: QColor) -> None:
        """Two spokes of a wheel seen along its axis, so that its turning shows."""
        axes = placed[:3, :3] @ rotation(*shape.turn)
        if abs(axes[:, 2] @ VIEWS[frame.view][2]) < 0.9:
            return
        centre = placed[:3, :3] @ np.array(shape.at) + placed[:3, 3]
        painter.setPen(QPen(pen, 1))
        for k in range(2):
            arm = 0.8 * shape.size[0] * axes[:, k]
            painter.drawLine(frame.place(centre - arm), frame.place(centre + arm))

    def _cable(self, painter: QPainter, frame: Frame, start: Array, end: Array, pen: QColor) -> None:
        a, b = frame.place(start), frame.place(end)
        size = float(np.hypot(b.x() - a.x(), b.y() - a.y()))
        if size < 0.3 * frame.scale:
            return
        across = along(QPointF(-(b - a).y(), (b - a).x()), 0.05 * frame.scale / size)
        painter.setPen(QPen(pen, 1.1))
        for side in (-1, 1):
            painter.drawLine(a + along(across, side), b + along(across, side))

    def _staves(self, painter: QPainter, outline: QPolygonF, pen: QColor) -> None:
        """Slats of a basket, between its two longest opposite edges."""
        corners = [outline.at(k) for k in range(outline.count())]
        if len(corners) != 4:
            return
        corners.sort(key=lambda p: p.y())
        top, bottom = sorted(corners[:2], key=lambda p: p.x()), sorted(corners[2:], key=lambda p: p.x())
        painter.setPen(QPen(pen, 1))
        for share in (0.25, 0.5, 0.75):
            painter.drawLine(top[0] + along(top[1] - top[0], share), bottom[0] + along(bottom[1] - bottom[0], share))

    def paint_overlays(self, painter: QPainter, frame: Frame, recording: Recording, index: int) -> None:
        """Trail, target with its offset, contact forces, beams, thrusts and pushes, wind."""
        t = theme()
        if frame.view == "side":
            self._trail(painter, frame, recording, index)
            self._target(painter, frame, recording, index)
            if np.ptp(recording.wind) > 0.0 or recording.wind[0] != 0.0:
                self._wind(painter, frame, float(recording.wind[index]))
        if index < len(recording.contacts):
            self._contacts(painter, frame, recording.contacts[index])
        frames = poses(self.problem.machine, self.problem.model.pose(recording.position[index]))
        self._beams(painter, frame, recording, index)
        if self._roams:
            self.meaning.paint_wishes(painter, frame, recording, index, frames[self._roams])
        row = min(index - 1, recording.steps - 1)
        if recording.steps == 0 or row < 0:
            return
        machine = self.problem.machine
        painter.setFont(font(12, bold=True))
        for k, command in enumerate(self.problem.commands):
            if command.drive < 0:
                continue
            drive = machine.drives[self.problem.model.drives[command.drive]]
            joint = machine.joints.get(drive.joint or "")
            value, span = float(recording.commands[row, k]), max(abs(self.problem.low[k]), abs(self.problem.high[k]))
            if abs(value) < 0.005 * span:
                continue
            if drive.kind == "thrust":
                body = frames[str(drive.body)]
                foot = body[:3, :3] @ np.array(drive.at) + body[:3, 3]
                axis = body[:3, :3] @ np.array(drive.direction)
                lift = 0.0
            elif drive.kind == "effort" and joint is not None and joint.kind == "slider":
                foot, axis, lift = frames[joint.child][:3, 3], frames[joint.child][:3, :3] @ np.array(joint.axis), 0.62
            else:
                continue
            length = 76.0 / frame.scale * value / span
            start = frame.place(foot + np.array([0, 0, lift]))
            end = frame.place(foot + np.array([0, 0, lift]) + axis * length)
            draw_arrow(painter, start, end, t.color("plum"))
            painter.setPen(t.color("ink"))
            text = f"{value:+.0f} {pretty_unit(command.unit)}".replace("-", "−")
            if abs(end.y() - start.y()) > abs(end.x() - start.x()):
                painter.drawText(end + QPointF(8, 4), text)
            else:
                box = QRectF(min(start.x(), end.x()) - 30, start.y() - 22, abs(end.x() - start.x()) + 60, 16)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _contacts(self, painter: QPainter, frame: Frame, rows: Array) -> None:
        """Contact forces at the points where they act."""
        t = theme()
        weight = 9.81 * sum(body.mass for body in self.problem.machine.bodies.values())
        painter.setFont(font(12))
        total: dict[tuple[int, int], tuple[QPointF, Array]] = {}
        for row in rows:
            at = frame.place(row[:3])
            key = (round(at.x() / 24), round(at.y() / 24))
            before = total.get(key)
            total[key] = (at, row[3:] if before is None else before[1] + row[3:])
        for at, force in total.values():
            size = float(np.linalg.norm(force))
            if size < 0.02 * weight:
                continue
            flat = VIEWS[frame.view][:2] @ force / weight * 90.0
            draw_arrow(painter, at, at + QPointF(float(flat[0]), -float(flat[1])), t.color("moss"))
            painter.setPen(t.color("ink"))
            painter.drawText(at + QPointF(float(flat[0]) + 7, -float(flat[1]) + 2), f"{size:.0f} N")

    def _beams(self, painter: QPainter, frame: Frame, recording: Recording, index: int) -> None:
        """Range beams as far as they reach at this moment."""
        sensors = [(n, s) for n, s in self.problem.machine.sensors.items() if s.kind == "beams"]
        if not sensors:
            return
        from plucky_heron.dynamics.plant import Plant
        from plucky_heron.dynamics.sensing import Sensing, beam_directions

        if not hasattr(self, "_probe"):
            plant = Plant(self.problem.model, 1, 1e-3, threads=1, surroundings=self.problem.surroundings)
            self._probe = plant, Sensing(self.problem.model, self.problem.surroundings, self.problem.site)
        plant, sensing = self._probe
        plant.position[0], plant.scene[0] = recording.position[index], recording.scene
        lengths = dict(
            zip(
                [c[0] for c in sensing.channels],
                sensing.readings(plant, np.zeros((1, len(sensing.channels))))[0],
                strict=True,
            )
        )
        frames = poses(self.problem.machine, self.problem.model.pose(recording.position[index]))
        t = theme()
        for name, sensor in sensors:
            body = frames[str(sensor.body)]
            foot = body[:3, :3] @ np.array(sensor.at) + body[:3, 3]
            turned = body[:3, :3] @ rotation(*sensor.turn)
            for k, direction in enumerate(beam_directions(sensor)):
                length = float(lengths[f"{name}[{k}]"])
                hit = length < sensor.range - 1e-6
                painter.setPen(QPen(t.color("tide", 0.75 if hit else 0.25), 1))
                end = frame.place(foot + length * turned @ direction)
                painter.drawLine(frame.place(foot), end)
                if hit:
                    painter.setBrush(t.color("tide"))
                    painter.drawEllipse(end, 2.4, 2.4)

    def _trail(self, painter: QPainter, frame: Frame, recording: Recording, index: int) -> None:
        target = self.problem.task.target
        if target is None or index < 2:
            return
        body = self.problem.machine
        points = []
        for k in range(max(0, index - 200), index + 1, 5):
            place = poses(body, self.problem.model.pose(recording.position[k]))[target.body]
            points.append(frame.at(place[0, 3], place[2, 3]))
        painter.setPen(QPen(theme().color("tide", 0.8), 1.3, Qt.PenStyle.DotLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF(points))

    def _target(self, painter: QPainter, frame: Frame, recording: Recording, index: int) -> None:
        t = theme()
        x, _, z = (float(v) for v in recording.target[index])
        target = self.problem.task.target
        place = recording.target[index]
        if target is None or not np.isfinite(place).all():
            return
        if frame.view != "side":
            self._goal(painter, frame.place(place), frame.place(self._place_of(recording, index, target.body)), place)
            return
        at = frame.at(x, z)
        painter.setPen(QPen(t.color("reed"), 1.4, Qt.PenStyle.DashLine))
        top = self.problem.site.portal[2] if self.problem.site.portal else z + 2.0
        painter.drawLine(at, frame.at(x, top - 0.3))
        painter.setPen(QPen(t.color("reed"), 1.8))
        painter.setBrush(t.color("reed", 0.15))
        painter.drawPolygon(QPolygonF([at, at + QPointF(8, 14), at + QPointF(-8, 14)]))
        painter.setPen(t.color("ink"))
        painter.setFont(font(12, bold=True))
        painter.drawText(at + QPointF(12, 14), "mark")
        frames = poses(self.problem.machine, self.problem.model.pose(recording.position[index]))
        body = frames[target.body][:3, 3]
        low = frame.at(0, min(z, float(body[2])) - 1.15).y()
        painter.setPen(QPen(t.color("ink"), 1.1))
        a, b = QPointF(frame.at(body[0], 0).x(), low), QPointF(at.x(), low)
        if abs(a.x() - b.x()) > 5:
            painter.drawLine(a, b)
            for end in (a, b):
                painter.drawLine(end + QPointF(0, -4), end + QPointF(0, 4))
            text = f"offset {body[0] - x:+.2f} m".replace("-", "−")
            painter.drawText(QRectF((a.x() + b.x()) / 2 - 60, low + 3, 120, 16), Qt.AlignmentFlag.AlignCenter, text)

    def _place_of(self, recording: Recording, index: int, body: str) -> Array:
        """Where a body stands."""
        frames = poses(self.problem.machine, self.problem.model.pose(recording.position[index]))
        return np.asarray(frames[body][:3, 3])

    def _goal(self, painter: QPainter, at: QPointF, body: QPointF, place: Array) -> None:
        """The goal in another view than from the side: a mark, and the way to it."""
        t = theme()
        painter.setPen(QPen(t.color("reed"), 1.2, Qt.PenStyle.DashLine))
        painter.drawLine(body, at)
        painter.setPen(QPen(t.color("reed"), 1.8))
        painter.setBrush(t.color("reed", 0.15))
        painter.drawEllipse(at, 7, 7)
        painter.drawLine(at + QPointF(-10, 0), at + QPointF(10, 0))
        painter.drawLine(at + QPointF(0, -10), at + QPointF(0, 10))
        painter.setPen(t.color("ink"))
        painter.setFont(font(12, bold=True))
        painter.drawText(at + QPointF(12, 14), "mark")

    def _wind(self, painter: QPainter, frame: Frame, speed: float) -> None:
        t = theme()
        at = QPointF(14, 50)
        painter.setPen(QPen(t.color("heron"), 1.3))
        for k in range(3 if abs(speed) > 0.3 else 0):
            y = at.y() + 9 * k
            length = min(90.0, 18 * abs(speed) + 12) - 8 * k
            if length > 4:
                start, end = QPointF(at.x() + 6 * k, y), QPointF(at.x() + 6 * k + length, y)
                if speed < 0:
                    start, end = end, start
                painter.drawLine(start, end)
                painter.drawLine(end, end + QPointF(-6 if speed > 0 else 6, -4))
        painter.setFont(font(12))
        painter.setPen(t.color("ink"))
        painter.drawText(at + QPointF(0, -8), f"wind {speed:+.1f} m/s".replace("-", "−"))


def wing_corners(wing: Wing) -> Array:
    """Corners (4, 3) of a lifting surface in its body's axes: a rectangle of its area, `SLENDER` times as wide as it is deep."""
    chord, normal = np.array(wing.chord) / np.linalg.norm(wing.chord), np.array(wing.normal, dtype=float)
    normal -= (normal @ chord) * chord
    span = np.cross(normal / max(float(np.linalg.norm(normal)), 1e-9), chord)
    deep = np.sqrt(wing.area / SLENDER)
    ends = [0.5 * deep * (a * chord + b * SLENDER * span) for a, b in ((1, 1), (1, -1), (-1, -1), (-1, 1))]
    return np.asarray(np.array(ends) + np.array(wing.at))


def _wound(a: QPointF, b: QPointF, turns: int) -> QPolygonF:
    """A line from a to b that goes to and fro in its middle part."""
    way = b - a
    size = float(np.hypot(way.x(), way.y()))
    line = QPolygonF([a])
    if size > 12.0 and turns:
        across = along(QPointF(-way.y(), way.x()), 5.0 / size)
        for k in range(turns + 1):
            middle = a + along(way, 0.2 + 0.6 * k / turns)
            line.append(middle if k in (0, turns) else middle + along(across, 1.0 if k % 2 else -1.0))
    line.append(b)
    return line


def over(top: QColor, below: QColor) -> QColor:
    """The one translucent colour that looks like `top` painted over `below` (T. Porter, T. Duff, 1984)."""
    alpha = top.alphaF() + below.alphaF() * (1.0 - top.alphaF())
    share = top.alphaF() / alpha if alpha > 0.0 else 0.0
    parts = ((top.redF(), below.redF()), (top.greenF(), below.greenF()), (top.blueF(), below.blueF()))
    red, green, blue = (a * share + b * (1.0 - share) for a, b in parts)
    return QColor.fromRgbF(red, green, blue, alpha)
