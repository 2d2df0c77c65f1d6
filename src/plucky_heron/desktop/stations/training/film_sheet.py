"""Which kept policies of a run are filmed, and how."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QCheckBox, QDialog, QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Choice, button, label
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.picture.film import KINDS
from plucky_heron.runs.filming import film_apart, films_folder, films_of
from plucky_heron.runs.store import RunRow


class FilmSheet(QDialog):
    """The sheet; films go into the folder of the run, one after the other, behind all other work."""

    def __init__(
        self, bench: Workbench, row: RunRow, kept: list[tuple[str, str]], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.bench, self.row = bench, row
        self.setWindowTitle(f"Films of run {row.id}")
        self.setMinimumWidth(420)
        body = QVBoxLayout(self)
        body.setContentsMargins(16, 14, 16, 14)
        body.setSpacing(8)
        self.folder = films_folder(bench.project.folder, row.id)
        body.addWidget(label("Policies to film, each on the first evaluation start", "strong"))
        self.boxes: list[tuple[str, QCheckBox]] = []
        for words, which in kept:
            box = QCheckBox(words)
            box.setChecked(which == "best")
            box.toggled.connect(lambda _: self._look())
            self.boxes.append((which, box))
            body.addWidget(box)
        self.starts, self.kind, self.speed = Choice("starts"), Choice("kind of video"), Choice("speed")
        for count in (1, 4, 8):
            self.starts.addItem("one start" if count == 1 else f"{count} starts, others as ghosts", count)
        for ending in KINDS:
            self.kind.addItem({".webm": "WebM (VP9)", ".mp4": "MP4 (H.264)"}[ending], ending)
        for speed in (1.0, 0.5, 2.0, 4.0):
            self.speed.addItem("real time" if speed == 1.0 else f"×{speed:g}", speed)
        line = QHBoxLayout()
        for choice in (self.starts, self.kind, self.speed):
            line.addWidget(choice, 1)
        body.addLayout(line)
        made = films_of(bench.project.folder, row.id)
        names = ", ".join(path.name for path in made[:6]) + (f" and {len(made) - 6} more" if len(made) > 6 else "")
        body.addWidget(
            label(f"Written into {self.folder}" + (f"; made already: {names}" if made else ""), "soft", wrap=True)
        )
        foot = QHBoxLayout()
        self.show_made = button("Show the folder", self.open_folder)
        self.show_made.setEnabled(bool(made))
        foot.addWidget(self.show_made)
        foot.addStretch(1)
        foot.addWidget(button("Leave it", self.reject))
        self.make = button("Film", self.film, "primary")
        foot.addWidget(self.make)
        body.addLayout(foot)
        self._look()

    def _look(self) -> None:
        count = len(self._chosen())
        self.make.setEnabled(count > 0)
        self.make.setText(f"Film {count}" if count > 1 else "Film")

    def _chosen(self) -> list[str]:
        return [which for which, box in self.boxes if box.isChecked()]

    def open_folder(self) -> None:
        """Show the films that are made, in the desktop's own file manager."""
        if not QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.folder))):
            self.bench.noted.emit(f"this desktop opens no folders; the films are in {self.folder}")

    def film(self) -> None:
        """Start it as a job with progress and Stop."""
        bench, row, chosen = self.bench, self.row, self._chosen()
        starts, ending, speed = self.starts.currentData(), self.kind.currentData(), self.speed.currentData()
        paths = [self.folder / f"{which}{ending}" for which in chosen]

        def work(job: Job) -> list[Path]:
            made = []
            self.folder.mkdir(exist_ok=True)
            for k, (which, path) in enumerate(zip(chosen, paths, strict=True)):
                tell = lambda share, k=k: job.tell((k + share) / len(chosen))  # noqa: E731
                if not film_apart(bench.project.folder, row.id, which, path, tell, starts, speed):
                    break
                made.append(path)
            return made

        def then(made: list[Path]) -> None:
            bench.noted.emit(f"written: {', '.join(map(str, made))}" if made else "no film was written")

        if bench.start_job(f"filming {len(chosen)} polic{'ies' if len(chosen) > 1 else 'y'}", work, then) is not None:
            self.accept()
