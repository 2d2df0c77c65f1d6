"""The site in pen and wash: grid, water and its stream, ground, fixed shapes, courses, marks, portal."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen, QPolygonF

from plucky_heron.desktop.picture.projection import VIEWS, Frame, draw_arrow, faces_of, local_points, round_length
from plucky_heron.desktop.theme import font, theme
from plucky_heron.dynamics.scene import height_grid
from plucky_heron.task.problem import Problem

Array = np.ndarray


_KEPT: list[SiteScene] = []


def site_scene(problem: Problem) -> SiteScene:
    """The painter of a problem's site, made once for all drawings that show it: outlines of many stakes take a while."""
    for kept in _KEPT:
        if kept.problem.surroundings is problem.surroundings:
            return kept
    _KEPT.insert(0, SiteScene(problem))
    del _KEPT[3:]
    return _KEPT[0]


class SiteScene:
    """Paints the surroundings of one problem."""

    def __init__(self, problem: Problem) -> None:
        self.problem, self.site = problem, problem.site
        self._solids = [
            [(local_points(shape) @ turn.T + at, shape, at) for _, shape, turn, at in scene]
            for scene in problem.surroundings.solids
        ]
        self._heights: dict[int, tuple[float, float, float, float, Array]] = {}

    def paint(self, painter: QPainter, frame: Frame, scene: int) -> None:
        """Everything that stands still, from far to near."""
        scene = min(scene, len(self._solids) - 1)
        self._grid(painter, frame)
        site = self.site
        if site.water_level is not None:
            if frame.view == "top":
                self._stream(painter, frame)
            elif frame.view != "free":
                left, right, _, _ = frame.bounds()
                self._water(painter, frame, left, right, site.water_level)
        if frame.view == "side":
            if site.ground:
                self._ground(painter, frame, [(x, z) for x, z in site.ground])
            if site.portal is not None:
                self._portal(painter, frame, *site.portal)
        if site.terrain is not None:
            if frame.view in ("side", "end"):
                self._section(painter, frame, scene)
            elif frame.view == "free":
                self._relief(painter, frame, scene)
        self._course(painter, frame, scene)
        self._fixed(painter, frame, scene)
        self._marks(painter, frame)

    def paint_names(self, painter: QPainter, frame: Frame, scene: int) -> None:
        """The name of the course, and the arrow of the current: they stay where they are on the screen."""
        scene = min(scene, len(self._solids) - 1)
        t, line, current = theme(), self.problem.surroundings.tracks[scene], self.site.current
        if frame.view == "top" and self.site.water_level is not None:
            c, s = math.cos(current.direction), math.sin(current.direction)
            if current.speed:
                start = QPointF(18, 46)
                end = start + QPointF(44 * c, -44 * s)
                if c < 0:
                    start, end = start + QPointF(44, 0), end + QPointF(44, 0)
                draw_arrow(painter, start, end, t.color("heron"))
                painter.setFont(font(12))
                painter.setPen(t.color("ink"))
                painter.drawText(QPointF(72, 50), f"current {current.speed:.2f} m/s")
        if line is None or frame.view not in ("top", "free"):
            return
        name = self.problem.surroundings.names[scene].replace("_", " ")
        painter.setFont(font(12, italic=True))
        painter.setPen(t.color("soft"))
        painter.drawText(
            QRectF(0, 8, frame.width, 18),  # between view and time: below, gates pass and are counted
            Qt.AlignmentFlag.AlignCenter,
            f"{name}, {line.along[-1]:.0f} m",
        )

    def _grid(self, painter: QPainter, frame: Frame) -> None:
        if frame.view == "free":
            return
        left, right, low, high = frame.bounds()
        painter.setPen(QPen(theme().color("faint"), 1))
        step = round_length(24.0 / frame.scale)
        for x in np.arange(np.ceil(left / step) * step, right, step):
            painter.drawLine(frame.at(x, low), frame.at(x, high))
        for y in np.arange(np.ceil(low / step) * step, high, step):
            painter.drawLine(frame.at(left, y), frame.at(right, y))

    def _water(self, painter: QPainter, frame: Frame, left: float, right: float, level: float) -> None:
        painter.setPen(QPen(theme().color("water"), 1.2))
        for depth, size in ((0.0, 0.05), (0.35, 0.035), (0.7, 0.02)):
            xs = np.linspace(left, right, 90)
            ys = level - depth + size * np.sin(xs * 2.1 + depth * 7)
            painter.drawPolyline(QPolygonF([frame.at(x, y) for x, y in zip(xs, ys, strict=True)]))

    def _stream(self, painter: QPainter, frame: Frame) -> None:
        """Calm lines along the current, longer where it runs faster, with its speed."""
        current, t = self.site.current, theme()
        c, s = math.cos(current.direction), math.sin(current.direction)
        left, right, low, high = frame.bounds()
        profile = np.array(current.profile or ((0.0, 1.0),))
        painter.setPen(QPen(t.color("water"), 1.2))
        generator = np.random.default_rng(2)
        far = max(1.0, round_length(25.0 / frame.scale))  # metres that a metre of the pattern stands for
        for y in np.arange(np.ceil(low / far) * far, high, far):
            for x in np.arange((np.ceil(left / far) - 1) * far, right, 3.0 * far):
                px, py = x + far * generator.uniform(0, 2.0), y + far * generator.uniform(-0.2, 0.2)
                factor = float(np.interp(-s * px + c * py, profile[:, 0], profile[:, 1]))
                length = 0.25 + 1.6 * abs(current.speed) * factor
                xs = far * np.linspace(0.0, length, 12)
                wave = far * 0.035 * np.sin((xs * 7.0 + px) / far)
                points = [frame.at(px + c * d - s * w, py + s * d + c * w) for d, w in zip(xs, wave, strict=True)]
                painter.drawPolyline(QPolygonF(points))

    def _hatched(self, painter: QPainter, frame: Frame, shape: QPolygonF, line: QPolygonF) -> None:
        """Ground as on an engineering drawing: a sandy wash, slanting strokes below its line."""
        t = theme()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("sand"))
        painter.drawPolygon(shape)
        painter.save()
        path = QPainterPath()
        path.addPolygon(shape)
        painter.setClipPath(path)
        painter.setPen(QPen(t.color("rule"), 1.2))
        for k in range(line.count() - 1):
            a, b = line.at(k), line.at(k + 1)
            count = max(1, int(abs(b.x() - a.x()) / 11.0 + 0.999))
            for e in range(count):
                at = a + (b - a) * (e / count)
                if int(at.x() // 11.0) != int((at - QPointF(abs(b.x() - a.x()) / count, 0)).x() // 11.0):
                    painter.drawLine(at + QPointF(0, 2), at + QPointF(-10, 12))
        painter.restore()
        painter.setPen(QPen(t.color("ink"), 1.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(line)

    def _ground(self, painter: QPainter, frame: Frame, outline: list[tuple[float, float]]) -> None:
        shape = QPolygonF([frame.at(x, z) for x, z in outline])
        self._hatched(painter, frame, shape, shape)

    def heights(self, scene: int) -> tuple[float, float, float, float, Array]:
        """Height grid of a scene's terrain, flat ones included."""
        if scene not in self._heights:
            terrain = self.site.terrain
            assert terrain is not None
            if terrain.kind in ("flat", "slope"):
                lean = math.tan(terrain.slope) if terrain.kind == "slope" else 0.0
                x = np.arange(-20.0, 20.5, 0.5)
                self._heights[scene] = (-20.0, 0.0, 0.5, 1.0, (terrain.level + lean * x)[None, :])
            else:
                levels = terrain.levels if terrain.kind == "rough" else 1
                share = 1.0 if levels == 1 else (scene % levels) / (levels - 1)
                self._heights[scene] = height_grid(terrain, share)
        return self._heights[scene]

    def _section(self, painter: QPainter, frame: Frame, scene: int) -> None:
        x0, y0, dx, dy, table = self.heights(scene)
        left, right, low, _ = frame.bounds()
        if frame.view == "side":
            row = table[min(len(table) - 1, max(0, round(-y0 / dy)))]
            xs = x0 + dx * np.arange(len(row))
        elif len(table) > 1:
            row = table[:, min(table.shape[1] - 1, max(0, round(-x0 / dx)))]
            xs = y0 + dy * np.arange(len(row))
        else:
            xs, row = (
                np.array([left, right]),
                np.full(2, float(np.interp(0.0, x0 + dx * np.arange(table.shape[1]), table[0]))),
            )
        seen = np.arange(left, right + 0.02, max(0.01, 3.0 / frame.scale))
        line = QPolygonF([frame.at(float(x), float(z)) for x, z in zip(seen, np.interp(seen, xs, row), strict=True)])
        bottom = QPolygonF(
            [*(line.at(k) for k in range(line.count())), frame.at(right + 1, low - 1), frame.at(left - 1, low - 1)]
        )
        self._hatched(painter, frame, bottom, line)

    def _relief(self, painter: QPainter, frame: Frame, scene: int) -> None:
        """The ground near the machine as a net of lines over a wash."""
        t = theme()
        x0, y0, dx, dy, table = self.heights(scene)
        middle = VIEWS["free"][:2].T @ np.array(frame.centre)
        eye = VIEWS["free"][2]
        middle = middle - eye * (middle[2] / eye[2])  # where the line of sight meets the ground
        reach = 0.62 * frame.width / frame.scale
        fine = 2.0 * reach / 26.0
        step = 0.25 if 0.2 < fine <= 0.25 else round_length(fine)
        xs = np.arange(np.floor((middle[0] - reach) / step), np.ceil((middle[0] + reach) / step) + 1) * step
        ys = np.arange(np.floor((middle[1] - reach) / step), np.ceil((middle[1] + reach) / step) + 1) * step
        across = table if len(table) > 1 else np.repeat(table, 2, axis=0)
        gy = y0 + dy * np.arange(len(table)) if len(table) > 1 else np.array([-1e3, 1e3])
        gx = x0 + dx * np.arange(table.shape[1])
        i = np.clip(np.searchsorted(gx, xs) - 1, 0, len(gx) - 2)
        j = np.clip(np.searchsorted(gy, ys) - 1, 0, len(gy) - 2)
        u = np.clip((xs - gx[i]) / (gx[i + 1] - gx[i]), 0, 1)[None, :]
        v = np.clip((ys - gy[j]) / (gy[j + 1] - gy[j]), 0, 1)[:, None]
        z = (across[np.ix_(j, i)] * (1 - u) + across[np.ix_(j, i + 1)] * u) * (1 - v) + (
            across[np.ix_(j + 1, i)] * (1 - u) + across[np.ix_(j + 1, i + 1)] * u
        ) * v
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("sand"))
        border = [(0, k) for k in range(len(xs))] + [(k, len(xs) - 1) for k in range(len(ys))]
        border += [(len(ys) - 1, k) for k in reversed(range(len(xs)))] + [(k, 0) for k in reversed(range(len(ys)))]
        painter.drawPolygon(frame.polygon(np.array([[xs[k], ys[e], z[e, k]] for e, k in border])))
        painter.setPen(QPen(t.color("rule"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for e in range(len(ys)):
            painter.drawPolyline(frame.polygon(np.stack([xs, np.full(len(xs), ys[e]), z[e]], axis=1)))
        for k in range(len(xs)):
            painter.drawPolyline(frame.polygon(np.stack([np.full(len(ys), xs[k]), ys, z[:, k]], axis=1)))

    def _fixed(self, painter: QPainter, frame: Frame, scene: int) -> None:
        t = theme()
        towards = VIEWS[frame.view][2]
        for points, shape, middle in sorted(self._solids[scene], key=lambda piece: float(piece[2] @ towards)):
            at, reach = (
                frame.place(middle),
                float(np.hypot(*(points - middle).T[:2]).max() + np.ptp(points[:, 2])) * frame.scale,
            )
            if not -reach <= at.x() <= frame.width + reach or not -reach <= at.y() <= frame.height + reach:
                continue
            outline = frame.hull(points)
            if not outline.boundingRect().intersects(QRectF(0, 0, frame.width, frame.height)):
                continue
            painter.setPen(QPen(t.color("ink"), 1.2))
            painter.setBrush(t.color("card"))
            painter.drawPolygon(outline)
            painter.setBrush(
                t.color(
                    "sand" if shape.wash in ("plain", "tide") else shape.wash,
                    0.9 if shape.wash in ("plain", "tide") else 0.3,
                )
            )
            painter.drawPolygon(outline)
            edges(painter, frame, faces_of(shape, points))

    def _course(self, painter: QPainter, frame: Frame, scene: int) -> None:
        line = self.problem.surroundings.tracks[scene]
        if line is None or frame.view not in ("top", "free"):
            return
        t = theme()
        step = np.gradient(line.points, axis=0)
        normal = np.stack([-step[:, 1], step[:, 0]], axis=1) / np.hypot(*step.T)[:, None]
        for offset, style in ((0.0, Qt.PenStyle.DashDotLine), (0.5, Qt.PenStyle.DotLine), (-0.5, Qt.PenStyle.DotLine)):
            points = line.points + offset * line.width * normal
            painter.setPen(QPen(t.color("heron"), 1.2, style))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(frame.polygon(np.column_stack([points, np.zeros(len(points))])))

    def _marks(self, painter: QPainter, frame: Frame) -> None:
        t = theme()
        for name, point in self.site.marks.items():
            at = frame.place(np.array(point))
            painter.setPen(QPen(t.color("reed"), 1.8))
            painter.setBrush(t.color("reed", 0.15))
            painter.drawPolygon(QPolygonF([at, at + QPointF(8, 14), at + QPointF(-8, 14)]))
            painter.setPen(t.color("ink"))
            painter.setFont(font(12, bold=True))
            painter.drawText(at + QPointF(12, 14), name)

    def _portal(self, painter: QPainter, frame: Frame, left: float, right: float, height: float) -> None:
        t = theme()
        foot = {left: 0.6, right: -0.9}
        painter.setPen(QPen(t.color("ink"), 1.8))
        for x, lean in ((left, -0.25), (right, 0.25)):
            painter.drawLine(frame.at(x, height), frame.at(x + lean, foot[x]))
            painter.drawLine(
                frame.at(x - np.sign(lean) * 0.35, height - 0.1), frame.at(x + lean - np.sign(lean) * 0.2, foot[x])
            )
        beam = QRectF(frame.at(left - 0.1, height + 0.02), frame.at(right + 0.1, height - 0.16))
        painter.setBrush(t.color("card"))
        painter.drawRect(beam)
        painter.setPen(QPen(t.color("rule"), 1))
        for x in np.arange(beam.left() + 8, beam.right() - 4, 16.0):
            painter.drawLine(QPointF(x, beam.bottom() - 1), QPointF(x + 6, beam.top() + 1))


def edges(painter: QPainter, frame: Frame, faces: list[Array]) -> None:
    """Edges of the faces that look towards the eye, with the painter's pen and no wash."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    towards = VIEWS[frame.view][2]
    middle = np.mean([face.mean(axis=0) for face in faces], axis=0) if faces else np.zeros(3)
    for face in faces:
        normal = np.cross(face[1] - face[0], face[2] - face[1])
        outward = normal if normal @ (face.mean(axis=0) - middle) > 0 else -normal
        if outward @ towards > 1e-9:
            painter.drawPolygon(frame.polygon(face))
