"""Compare: batches as median, band and worst; what differs; what may be said."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPixmap, QStandardItemModel
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.analysis.comparing.comparison import batches, differences, recipe_facts
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.charts.curves import CurveChart
from plucky_heron.desktop.forms.batch_sheet import BatchSheet
from plucky_heron.desktop.forms.tables import Column, Table
from plucky_heron.desktop.forms.widgets import Card, Choice, ElidedLabel, Rows, button, label, scrolled
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.stations.compare.model import (
    NO_BATCH,
    OTHER_REWARDS,
    batch_name,
    batch_note,
    comparison_words,
    no_difference,
    put_away_text,
    share_text,
)
from plucky_heron.desktop.theme import LETTERS, SERIES, font, theme
from plucky_heron.errors import HeronError
from plucky_heron.runs.store import RunRow
from plucky_heron.training.stopping import show_steps, show_value


@dataclass(frozen=True)
class BatchRow:
    """A batch in the list: its letter while it is compared."""

    batch: int
    name: str
    note: str
    letter: str


def ring(letter: str) -> QPixmap:
    """A ring in the colour of a letter's curves, with the letter in it."""
    t, ratio = theme(), 2.0
    made = QPixmap(int(22 * ratio), int(22 * ratio))
    made.setDevicePixelRatio(ratio)
    made.fill(Qt.GlobalColor.transparent)
    painter = QPainter(made)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(t.color(SERIES[LETTERS.index(letter) % len(SERIES)] if letter else "rule"), 2))
    painter.setBrush(t.color("card"))
    painter.drawEllipse(QRectF(1.5, 1.5, 19, 19))
    painter.setFont(font(12, bold=True))
    painter.setPen(t.color("ink"))
    painter.drawText(QRectF(1.5, 1.5, 19, 19), Qt.AlignmentFlag.AlignCenter, letter)
    painter.end()
    return made


BATCHES = (
    Column(
        "", lambda row: row.name, stretch=True, strong=lambda row: bool(row.letter), sign=lambda row: ring(row.letter)
    ),
    Column("", lambda row: row.note, soft=True, right=True),
)


@dataclass(frozen=True)
class RunEntry:
    """A run of a compared batch."""

    letter: str
    row: RunRow
    chosen: bool


RUNS = (
    Column("run", lambda e: f"{e.letter} {e.row.id}", strong=lambda e: e.chosen),
    Column("seed", lambda e: str(e.row.seed), right=True, strong=lambda e: e.chosen),
    Column("steps", lambda e: show_steps(e.row.steps), right=True, strong=lambda e: e.chosen),
    Column("best", lambda e: share_text(e.row.best_success), right=True, strong=lambda e: e.chosen),
    Column(
        "fresh starts",
        lambda e: share_text(e.row.retest["success"] if e.row.retest else None),
        right=True,
        strong=lambda e: e.chosen,
    ),
    Column("stopped by", lambda e: e.row.stop_text or e.row.state, stretch=True, soft=True),
    Column("", lambda e: "chosen" if e.chosen else "choose", strong=lambda e: e.chosen),
)


class SeedDots(QWidget):
    """Every seed a dot, the median a bar, the quartiles a line; retests where there are any."""

    def __init__(self) -> None:
        super().__init__()
        self.groups: list[tuple[str, list[float]]] = []
        self.quantity = "success"
        self.setMinimumHeight(70)
        self.setAccessibleName("every seed")

    def paintEvent(self, event: QPaintEvent) -> None:
        """Rows of dots."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme()
        values = [v for _, group in self.groups for v in group]
        if not values:
            painter.setPen(t.color("soft"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignVCenter, "no finished seed yet")
            return
        low, high = min(values), max(values)
        if self.quantity == "success":
            low, high = min(low, 0.9), 1.0
        margin = 0.04 * (high - low or 1.0)
        left, right = 40.0, self.width() - 74.0
        height = min(34.0, (self.height() - 20) / len(self.groups))

        def x(value: float) -> float:
            return left + (value - low + margin) / (high - low + 2 * margin or 1.0) * (right - left)

        for k, (letter, group) in enumerate(self.groups):
            y = (k + 0.5) * height
            color = t.color(SERIES[LETTERS.index(letter) % len(SERIES)])
            painter.setPen(QPen(color, 2))
            painter.setBrush(t.color("card"))
            painter.drawEllipse(QPointF(12, y), 10, 10)
            painter.setPen(t.color("ink"))
            painter.setFont(font(12, bold=True))
            painter.drawText(QRectF(2, y - 10, 20, 20), Qt.AlignmentFlag.AlignCenter, letter)
            painter.setPen(QPen(t.color("rule"), 1))
            painter.drawLine(QPointF(left, y), QPointF(right, y))
            if not group:
                continue
            color.setAlphaF(0.55)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(color)
            for n, value in enumerate(group):
                painter.drawEllipse(QPointF(x(value), y + (n % 3 - 1) * 3), 4, 4)
            lower, median, upper = np.percentile(group, (25, 50, 75))
            painter.setPen(QPen(t.color("ink"), 2))
            painter.drawLine(QPointF(x(median), y - 9), QPointF(x(median), y + 9))
            painter.drawLine(QPointF(x(lower), y + 9), QPointF(x(upper), y + 9))
            painter.drawText(
                QRectF(right + 4, y - 10, 70, 20),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                show_value(self.quantity, float(median)),
            )
        painter.setFont(font(11))
        painter.setPen(t.color("soft"))
        for value in np.linspace(low, high, 5):
            text = f"{100 * value:.1f}" if self.quantity == "success" else f"{value:.0f}"
            painter.drawText(
                QRectF(x(value) - 30, height * len(self.groups) + 2, 60, 14), Qt.AlignmentFlag.AlignCenter, text
            )


CELL = 84
"""Least width (px) of a cell of what differs: more columns than fit are scrolled to."""
TITLE = 116
"""Width (px) in which the names of what differs stand."""


LONG = 200
"""Evaluations that are read in a turn of the event loop of their own: some milliseconds."""


class CompareStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.chosen: list[int] = []
        self._known: set[int] = set()
        self._drawn: object = None
        grid = QGridLayout(self)
        grid.setContentsMargins(16, 10, 16, 14)
        grid.setSpacing(10)
        self.curves = Card("Learning curves", "median strong, quartiles shaded, worst seed dashed")
        self.chart = CurveChart()
        self.quantity = Choice("quantity")
        self.quantity.addItem("the task's measure", "success")
        self.quantity.addItem("score", "score")
        self.quantity.currentIndexChanged.connect(lambda _: self.refresh())
        row = QHBoxLayout()
        row.addWidget(self.quantity)
        row.addStretch(1)
        row.addWidget(label("control steps", "soft"))
        self.curves.body.addWidget(self.chart, 1)
        self.curves.body.addLayout(row)
        self.said = Card("Conclusions", "every seed a dot, median, quartiles")
        self.dots = SeedDots()
        self.said.body.addWidget(self.dots, 1)
        self.words = label("", wrap=True)
        self.said.body.addWidget(self.words)
        self.differs = Card("What differs")
        self.difference_rows = Rows((), spacing=3)
        area = scrolled(self.difference_rows)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.differs.body.addWidget(area)
        self.list_card = Card("Batches", "click to compare")
        self.list = Table(BATCHES, "batches")
        self.list.horizontalHeader().setVisible(False)
        self.list.verticalHeader().setDefaultSectionSize(28)
        self.list.picked.connect(lambda row: self.toggle(row.batch))
        self.list_card.body.addWidget(self.list, 1)
        self.no_batch = label(NO_BATCH, "soft", wrap=True)
        self.list_card.body.addWidget(self.no_batch)
        foot = QHBoxLayout()
        self.edit = button("", self.edit_batch, "link", "note, keywords and mark of the batch")
        self.back = button("", bench.bring_back, "link", "bring back what was put away")
        foot.addWidget(self.edit)
        foot.addStretch(1)
        foot.addWidget(self.back)
        self.list_card.body.addLayout(foot)
        self.runs = Card("Runs of the chosen batches", "choose the one to prove")
        self.run_table = Table(RUNS, "runs")
        self.run_table.picked.connect(lambda entry: self.bench.choose_run(entry.row.id))
        self.runs.body.addWidget(self.run_table, 1)
        side = QVBoxLayout()
        side.setSpacing(10)
        side.addWidget(self.differs, 4)
        side.addWidget(self.said, 4)
        side.addWidget(self.list_card, 3)
        grid.addWidget(self.curves, 0, 0)
        grid.addWidget(self.runs, 1, 0)
        grid.addLayout(side, 0, 1, 2, 1)
        grid.setColumnStretch(0, 63)
        grid.setColumnStretch(1, 37)
        grid.setRowStretch(0, 60)
        grid.setRowStretch(1, 40)
        bench.runs_changed.connect(self.later)
        self.refresh()

    def toggle(self, batch: int) -> None:
        """Take a batch in or out."""
        if batch in self.chosen:
            self.chosen.remove(batch)
        else:
            self.chosen = [*self.chosen, batch][-len(LETTERS) :]
        self.refresh()

    def edit_batch(self) -> None:
        """Open the sheet of the batch that the chosen run is of."""
        if self.bench.batch is not None:
            self.sheet = BatchSheet(self.bench, self.bench.batch, self)
            self.sheet.open()

    def refresh(self) -> None:
        """Show the chosen batches."""
        bench = self.bench
        found = batches(bench.rows)
        fresh = [b for b in found if b not in self._known]
        self._known |= set(found)
        self.chosen = [b for b in [*self.chosen, *fresh] if b in found][-4:]
        letters = {batch: LETTERS[k] for k, batch in enumerate(self.chosen)}
        entries = [
            BatchRow(b, batch_name(rows), batch_note(rows), letters.get(b, "")) for b, rows in reversed(found.items())
        ]
        if entries != self.list.rows.rows:
            self.list.show_rows(entries)
        self.no_batch.setVisible(not entries)
        self.edit.setVisible(bench.batch is not None)
        self.edit.setText(f"Batch {bench.batch}: note, mark, delete …")
        self.back.setText(put_away_text(bench.put_away))
        self.back.setVisible(bool(bench.put_away))
        runs = [r for batch in letters for r in found[batch]]
        # scores of different rewards are no measure of each other
        alike = len({r.fingerprint for r in runs}) < 2
        model = self.quantity.model()
        assert isinstance(model, QStandardItemModel)
        model.item(1).setEnabled(alike)
        self.quantity.setToolTip("" if alike else OTHER_REWARDS)
        if not alike and self.quantity.currentIndex() == 1:
            self.quantity.setCurrentIndex(0)  # comes back here
            return
        quantity = self.quantity.currentData()
        drawn = (
            quantity,
            bench.run,
            letters,
            [(r.id, r.state, r.best_step, r.retest, bench.store.evaluated(r.id)) for r in runs],
        )
        if drawn == self._drawn or self._still_reads([r.id for r in runs]):
            return
        self._drawn = drawn
        self._show_curves(found, letters, quantity)
        self._show_words(found, letters, quantity)
        # in turns of their own, so that no turn of the event loop gets long
        QTimer.singleShot(0, self, lambda: self._show_differences(found, letters))
        QTimer.singleShot(0, self, lambda: self._show_runs(found, letters))

    def _still_reads(self, runs: list[int]) -> bool:
        """Whether courses are long and not all read yet: then the next one is read, and the rest in later turns of the loop."""
        unread = [run for run in runs if self.bench.records.unread(run) > LONG]
        for run in unread[:1]:
            self.bench.course(run)
        if len(unread) > 1:
            QTimer.singleShot(0, self, lambda: None if self.bench.closed else self.refresh())
        return len(unread) > 1

    def _show_curves(self, found: dict[int, list[RunRow]], letters: dict[int, str], quantity: str) -> None:
        bench = self.bench
        self.chart.quantity = quantity
        self.chart.clear()
        everything = []
        for number, batch in enumerate(letters):
            courses = [bench.course(r.id) for r in found[batch]]
            everything += [e for c in courses for e in c]
            self.chart.add_courses(courses, number, each=False)
        lines = bench.lines(quantity)
        values = [e.of(quantity) for e in everything] + [value for _, value in lines]
        low, high = (0.0, 1.02) if quantity == "success" else (min(values, default=0.0), max(values, default=1.0))
        steps = max((e.step for e in everything), default=1)
        self.chart.references(lines, steps, low, high)
        self.chart.set_range(steps * 1.05, low, high)
        name = bench.problem.task.measure.name if bench.problem is not None and quantity == "success" else "score"
        self.curves.caption.setText(f"{name}, on the evaluation starts".upper())

    def _show_words(self, found: dict[int, list[RunRow]], letters: dict[int, str], quantity: str) -> None:
        groups = {
            letter: [float(r.retest[quantity]) for r in found[batch] if r.retest] for batch, letter in letters.items()
        }
        self.dots.groups, self.dots.quantity = list(groups.items()), quantity
        self.dots.update()
        self.words.setText("\n".join(comparison_words(groups, quantity)))

    def _show_differences(self, found: dict[int, list[RunRow]], letters: dict[int, str]) -> None:
        self.difference_rows.clear()
        rows = [found[batch][0] for batch in letters]
        self.differs.note.setText("in bold: not as in the first" if len(rows) > 1 else "")
        table: dict[str, list[str]] = {}
        try:
            if len(rows) == 1:
                table = {name: [value] for name, value in recipe_facts(self.bench.project.folder, rows[0]).items()}
            else:
                table = differences(self.bench.project.folder, rows)
            if len(rows) == 1 or not table:
                self.difference_rows.add_wide(label(no_difference(len(rows)), "soft"))
        except HeronError as error:  # deleted meanwhile, or damaged
            self.difference_rows.add_wide(label(str(error), "wrong", wrap=True))
        if len(rows) > 1 and table:
            self.difference_rows.add(None, *(label(letter, "strong") for letter in letters.values()))
        for name, values in table.items():
            cells = [ElidedLabel(v, "strong" if v != values[0] else "") for v in values]
            title = ElidedLabel(name.replace("_", " "), "soft")
            title.setMinimumWidth(TITLE)
            for cell in cells:
                cell.setMinimumWidth(CELL)
            self.difference_rows.add(title, *cells)
        self.difference_rows.finish()

    def _show_runs(self, found: dict[int, list[RunRow]], letters: dict[int, str]) -> None:
        chosen = self.bench.run
        self.run_table.show_rows(
            [RunEntry(letter, r, r.id == chosen) for b, letter in letters.items() for r in found[b]]
        )
