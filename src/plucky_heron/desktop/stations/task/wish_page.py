"""A task from a wish: what the machine should do, where, how well, and what will be written, before it is."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QSizePolicy, QWidget

from plucky_heron.desktop.bench import parts
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import (
    Card,
    ElidedLabel,
    QuantityField,
    Rows,
    bare_card,
    button,
    draw_mark,
    label,
    scrolled,
)
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.theme import font, theme
from plucky_heron.errors import HeronError
from plucky_heron.task.problem import Problem
from plucky_heron.task.wishes.catalogue import WISHES, draft_of, wish_named
from plucky_heron.task.wishes.draft import Draft
from plucky_heron.task.wishes.look import Look, look_at
from plucky_heron.task.wishes.region import Region, region_of
from plucky_heron.task.wishes.writing import Offer
from plucky_heron.units import parse

Array = np.ndarray
ROW = 50


class WishList(QWidget):
    """The wishes, one a row: a sketch, its name, what it means or why it does not fit.

    Signals
    -------
    chosen(str)
        Name of a wish that fits.
    """

    chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.offers: list[Offer] = []
        self.name = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("what it should do")

    def show_offers(self, offers: list[Offer], name: str) -> None:
        """Show what is offered, and which one is chosen."""
        self.offers, self.name = offers, name
        self.setMinimumHeight(ROW * len(offers))
        said = "; ".join(f"{o.name}: {o.unfit or 'fits'}" for o in offers)
        self.setAccessibleDescription(said)
        self.update()

    def sizeHint(self) -> QSize:
        """All rows."""
        return QSize(330, ROW * max(1, len(self.offers)))

    def choose(self, name: str) -> None:
        """Choose a wish, if it fits."""
        if any(o.name == name and not o.unfit for o in self.offers) and name != self.name:
            self.name = name
            self.update()
            self.chosen.emit(name)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The rows."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        for k, offer in enumerate(self.offers):
            top = k * ROW
            if offer.name == self.name:
                painter.setPen(QPen(t.color("tide"), 2) if self.hasFocus() else QPen(t.color("reed"), 1.4))
                painter.setBrush(t.color("reed", 0.14))
                painter.drawRoundedRect(2, top + 2, self.width() - 4, ROW - 4, 4, 4)
            colour = "soft" if offer.unfit else "ink"
            sketch(painter, QPointF(28, top + ROW / 2), offer.name, t.color("rule" if offer.unfit else "ink"))
            painter.setPen(t.color(colour))
            painter.setFont(font(13, bold=not offer.unfit))
            painter.drawText(QPointF(58, top + 21), offer.name[:1].upper() + offer.name[1:])
            painter.setFont(font(12))
            painter.setPen(t.color("soft"))
            text = painter.fontMetrics().elidedText(
                offer.unfit or offer.says, Qt.TextElideMode.ElideRight, self.width() - 96
            )
            painter.drawText(QPointF(58, top + 38), text)
            if not offer.unfit:
                draw_mark(painter, QPointF(self.width() - 20, top + ROW / 2), "passed")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose a row."""
        row = int(event.position().y() // ROW)
        if 0 <= row < len(self.offers):
            self.choose(self.offers[row].name)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Nothing is dragged here."""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down go to the next wish that fits."""
        fitting = [o.name for o in self.offers if not o.unfit]
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()), 0)
        if step and fitting:
            at = fitting.index(self.name) if self.name in fitting else -1
            self.choose(fitting[max(0, min(len(fitting) - 1, at + step))])
        else:
            super().keyPressEvent(event)


def sketch(painter: QPainter, at: QPointF, name: str, colour: object) -> None:
    """A small pen drawing of a wish, about 40 pixels wide."""
    painter.setPen(QPen(colour, 1.6))  # type: ignore[call-overload]
    painter.setBrush(Qt.BrushStyle.NoBrush)
    x, y = at.x(), at.y()

    def line(*points: tuple[float, float]) -> None:
        painter.drawPolyline(QPolygonF([QPointF(x + a, y + b) for a, b in points]))

    def dot(a: float, b: float, radius: float = 2.5) -> None:
        painter.drawEllipse(QPointF(x + a, y + b), radius, radius)

    if name in ("reach a place", "hold a pose"):
        line((-14, 14), (-8, -6), (8, -9))
        dot(-14, 14)
        dot(-8, -6)
        if name == "reach a place":
            line((11, -12), (16, -4), (6, -4), (11, -12))
        else:
            line((-2, -15), (18, -15))
    elif name == "follow a set-point":
        points = [(a, 6.0 - 9.0 * np.sin(a / 6.0)) for a in range(-16, 17, 2)]
        line(*[(float(a), float(b)) for a, b in points])
        line((-16, -12), (0, -12), (0, -4), (16, -4))
    elif name == "swing up":
        painter.drawArc(int(x - 14), int(y - 14), 28, 28, -60 * 16, 200 * 16)
        line((0, 0), (0, 14))
        dot(0, 14)
    elif name == "balance":
        line((-12, 12), (12, 12))
        line((0, 12), (3, -13))
        dot(3, -13)
    elif name == "go along a course":
        for shift in (-5.0, 5.0):
            line(*[(float(a), shift + 5.0 * float(np.sin(a / 6.0))) for a in range(-16, 17, 2)])
    elif name == "walk forward":
        line((-8, -10), (8, -10))
        line((-4, -10), (-9, 1), (-5, 13))
        line((4, -10), (10, 0), (8, 13))
    elif name == "hover and fly to points":
        line((-14, 0), (14, 0))
        line((-14, 0), (-14, -8))
        line((14, 0), (14, -8))
        line((-18, -8), (-10, -8))
        line((10, -8), (18, -8))
    else:
        line((-14, 4), (-6, 4), (-2, 0), (-6, -4), (-14, -4), (-14, 4))
        line((16, -10), (4, -10), (4, 10), (16, 10))


class Where(Drawing):
    """The machine, and over it where marks will be drawn and what is reached."""

    def __init__(self) -> None:
        super().__init__(None)
        self.region: Region | None = None
        self.square: tuple[Array, Array] | None = None

    def paintEvent(self, event: QPaintEvent) -> None:
        """The drawing, then the region."""
        super().paintEvent(event)
        if self.scene is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, frame = theme(), self.frame()
        if self.region is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("heron", 0.28))
            for place in self.region.tips[:: max(1, len(self.region.tips) // 400)]:
                painter.drawEllipse(frame.place(place), 1.6, 1.6)
        painter.setPen(QPen(t.color("moss"), 1.4, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for edge in self._edges():
            painter.drawPolyline(QPolygonF([frame.place(p) for p in edge]))

    def fit(self) -> None:
        """Zoom out until all of the region is in sight."""
        self.zoom = 1.0
        edges = self._edges()
        if edges and self.scene is not None:
            left, right, low, high = self.scene.extent(self.view)
            wide = float(np.ptp(np.concatenate(edges), axis=0).max())
            self.zoom = float(np.clip(min(right - left, high - low) / max(1.3 * wide, 1e-9), 0.05, 1.0))
        self.update()

    def _edges(self) -> list[Array]:
        """Lines (k, 3) round where marks will be."""
        if self.square is not None:
            (x0, y0, z0), (x1, y1, z1) = self.square
            flat = [(x0, y0, z0), (x1, y0, z0), (x1, y1, z0), (x0, y1, z0), (x0, y0, z0)]
            upright = [
                (x0, 0.5 * (y0 + y1), z0),
                (x1, 0.5 * (y0 + y1), z0),
                (x1, 0.5 * (y0 + y1), z1),
                (x0, 0.5 * (y0 + y1), z1),
                (x0, 0.5 * (y0 + y1), z0),
            ]
            return [np.array(flat if z1 - z0 < 1e-6 else upright)]
        region = self.region
        if region is None:
            return []
        found = []
        corners = [(region.low, region.high)[k] for k in (0, 1)]
        steps = np.linspace(0.0, 1.0, 25)[:, None]
        for axis in range(3):
            for a in (0, 1):
                for b in (0, 1):
                    one = np.array(corners[0], dtype=float)
                    others = [k for k in range(3) if k != axis]
                    one[others[0]], one[others[1]] = corners[a][others[0]], corners[b][others[1]]
                    other = one.copy()
                    other[axis] = corners[1][axis]
                    found.append(self._world(one + steps * (other - one)))
        return found

    def _world(self, places: Array) -> Array:
        region = self.region
        assert region is not None
        if not region.turned:
            return places
        flat = np.stack(
            [places[:, 1] * np.cos(places[:, 0]), places[:, 1] * np.sin(places[:, 0]), places[:, 2]], axis=1
        )
        return np.asarray(region.origin + flat @ region.axes)


class WishPage(QWidget):
    """The page: in the place of the task's cards while there is no task, or over them for one more."""

    left = Signal()

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.look: Look | None = None
        self.draft: Draft | None = None
        self.answers: dict[str, str] = {}
        self.fields: dict[str, QuantityField] = {}
        self._of: Problem | None = None
        self._job: Job | None = None
        grid = QGridLayout(self)
        grid.setContentsMargins(16, 10, 16, 14)
        grid.setSpacing(10)
        self.list = WishList()
        self.list.chosen.connect(self._chosen)
        what = Card("What should it do?", "for this machine")
        what.body.addWidget(scrolled(self.list), 1)
        grid.addWidget(what, 0, 0, 2, 1)
        self.where = Where()
        grid.addWidget(bare_card(self.where, "where"), 0, 1)
        how = Card("How well, how fast", "each can be changed now or later")
        self.rows = Rows((3, 3, 7), spacing=4)
        how.body.addWidget(scrolled(self.rows), 1)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        how.body.addWidget(self.wrong)
        grid.addWidget(how, 1, 1)
        self.written = Card("What will be written", "why")
        self.lines = Rows((5, 5), spacing=3)
        self.written.body.addWidget(scrolled(self.lines), 1)
        grid.addWidget(self.written, 0, 2, 2, 1)
        foot = QHBoxLayout()
        self.write = button("Write the task", self.write_it, "primary")
        foot.addWidget(self.write)
        self.leave = button("Leave it", self.left.emit)
        foot.addWidget(self.leave)
        foot.addStretch(1)
        self.command = ElidedLabel("", "soft")
        self.command.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        foot.addWidget(self.command, 4)
        grid.addLayout(foot, 2, 0, 1, 3)
        for column, stretch in enumerate((30, 40, 34)):
            grid.setColumnStretch(column, stretch)
        grid.setRowStretch(0, 52)
        grid.setRowStretch(1, 48)
        for card in (what, how, self.written):
            card.steady = True
            card.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)

    # --- looking at the machine, in a thread ---------------------------------------------------------------------------

    def refresh(self) -> None:
        """Look at the machine as it is now, if it is another one than before."""
        problem = self.bench.problem
        self.leave.setVisible(self.bench.has_task)
        if problem is None or (self._of is not None and self._same(problem)):
            return
        self._of, self.look, self.draft = problem, None, None
        self.where.set_problem(problem)
        self.where.region, self.where.square = None, None
        self.list.show_offers([], "")
        self.rows.clear()
        self.lines.clear()
        self.lines.add_wide(label("looking at the machine …", "soft"))
        self.lines.finish()
        self.write.setEnabled(False)

        def work(_: Job) -> tuple[Look, list[Offer]]:
            look = look_at(problem.machine, problem.site)
            found = []
            for wish in WISHES:
                why = wish.unfit(look)
                found.append(Offer(wish.name, wish.says, why, () if why else wish.questions(look)))
            return look, found

        job = Job("looking at the machine", work, self)
        job.done.connect(lambda made: self._looked(problem, made[0], made[1]))
        job.failed.connect(self._say)
        self._job = job.start()

    def _same(self, problem: Problem) -> bool:
        assert self._of is not None
        return problem.machine == self._of.machine and problem.site == self._of.site

    def _looked(self, problem: Problem, look: Look, offers: list[Offer]) -> None:
        if problem is not self._of:
            return
        self.look = look
        first = next((o.name for o in offers if not o.unfit), "")
        # what fits comes first; the order is kept otherwise
        self.list.show_offers(sorted(offers, key=lambda o: bool(o.unfit)), "")
        self._say("")
        if first:
            self.list.choose(first)
        else:
            self.lines.clear()
            self.lines.add_wide(label("nothing fits: give it a drive first (Ctrl+1)", "soft", wrap=True))
            self.lines.finish()

    # --- what is chosen ------------------------------------------------------------------------------------------------

    def _chosen(self, name: str) -> None:
        self.answers = {}
        offer = next(o for o in self.list.offers if o.name == name)
        self.rows.clear()
        self.fields = {}
        for question in offer.questions:
            field = QuantityField(question.unit.replace("Hz", "1/s"), question.label)
            if question.unit == "Hz":
                field.setText(question.text)
                field._shown = question.text
            else:
                field.show_value(question.value)
            field.edited.connect(lambda _, text, key=question.key: self._answer(key, text))
            self.fields[question.key] = field
            self.rows.add(label(question.label, "soft"), field, ElidedLabel(question.why, "soft"))
        self.rows.finish()
        self._write_draft()

    def _answer(self, key: str, text: str) -> None:
        self.answers[key] = text
        self._write_draft()

    def _write_draft(self) -> None:
        """What would be written, as answered."""
        self.draft = None
        name = self.list.name
        if self.look is None or not name:
            return
        try:
            self.draft = draft_of(wish_named(name), self.look, self.answers)
            self._say("")
        except HeronError as error:
            self._say(str(error))
        self.write.setEnabled(self.draft is not None)
        if self.draft is None:
            return
        self.lines.clear()
        cards: dict[str, list[tuple[str, str]]] = {}
        for line in self.draft.lines:
            cards.setdefault(line.card, []).append((line.text, line.why))
        for card in sorted(cards, key=lambda c: _ORDER.index(c) if c in _ORDER else 9):
            self.lines.add_wide(label(f"{card}, {len(cards[card])}".upper(), "caption"))
            for text, why in cards[card]:
                self.lines.add(ElidedLabel(text), ElidedLabel(why, "soft"))
        self.lines.finish()
        answers = "".join(f" --answer {k}='{v}'" for k, v in self.answers.items())
        machine = self.bench.problem.task.machine if self.bench.problem is not None else ""
        self.command.setText(f'on the command line: heron wish {machine} "{name}"{answers}')
        self._show_where()

    def _show_where(self) -> None:
        look, draft = self.look, self.draft
        if look is None or draft is None:
            return
        self.where.region = region_of(look) if self.list.name == "reach a place" and not look.travels else None
        marks = {
            n: s["draw"]["uniform"]
            for n, s in draft.task.get("setpoints", {}).items()
            if n in ("mark.x", "mark.y", "mark.z")
        }
        self.where.square = None
        if "mark.x" in marks or look.along:
            spans = [[parse(v, "m") for v in marks.get(f"mark.{a}", ["0 m", "0 m"])] for a in "xyz"]
            self.where.square = np.array(spans)[:, 0], np.array(spans)[:, 1]
        self.where.fit()

    def write_it(self) -> None:
        """Write the task, and go on to it."""
        name = self.list.name
        if not name or self.draft is None:
            return
        made = parts.wish(self.bench, name, self.answers)
        if isinstance(made, str):
            self._say(made)
            return
        self.left.emit()

    def _say(self, text: str) -> None:
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))


_ORDER = (
    "Observations",
    "Actions",
    "Reward",
    "Measure",
    "Endings",
    "Starts and variation",
    "Timing",
    "Machine",
    "Site",
)
