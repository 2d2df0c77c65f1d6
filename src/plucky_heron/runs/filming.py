"""Films of kept policies, made by a process of its own behind all other work: it needs the window's painters, which nothing here knows."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from plucky_heron.errors import HeronError, StateError
from plucky_heron.files import is_file
from plucky_heron.runs.executors import interpreter, worker_environment
from plucky_heron.runs.freeze import frozen_recipe
from plucky_heron.runs.store import DONE, RunRow, run_folder
from plucky_heron.training.keeping import due_films, milestones_of

FILM = ".webm"
"""The kind of video of films that recipes ask for."""


def films_folder(project: Path, run: int) -> Path:
    """Where the films of a run stand, each named after its policy: best, last, or the step."""
    return run_folder(project, run) / "films"


def films_of(project: Path, run: int) -> list[Path]:
    """The films of a run that are made, by their names."""
    folder = films_folder(project, run)
    kept = sorted(folder.iterdir()) if folder.is_dir() else []
    return [p for p in kept if p.suffix in (FILM, ".mp4") and not p.name.startswith(".") and is_file(p)]


class Filming:
    """The films that the recipe of a batch's runs asks for, made one after the other, as soon as their policies are kept."""

    def __init__(self, project: Path) -> None:
        self.project = project
        self.process: subprocess.Popen[str] | None = None
        self.of = Path()
        self.every: dict[int, int | None] = {}
        self.given_up: set[Path] = set()

    def go_on(self, rows: Iterable[RunRow]) -> bool:
        """Start what waits, if none is being made; whether anything is left to do."""
        if self.process is not None:
            code = self.process.poll()
            if code is None:
                return True
            self.process = None
            if code != 0:  # the line that it wrote into the batch's log says why; once is enough
                self.given_up.add(self.of)
        for row in rows:
            for which, policy in self._wanted(row):
                path = films_folder(self.project, row.id) / f"{which}{FILM}"
                made = is_file(path) and path.stat().st_mtime >= policy.stat().st_mtime
                if path not in self.given_up and not made:
                    path.parent.mkdir(exist_ok=True)
                    self.of = path
                    self.process = _start(self.project, row.id, which, path, stdout=subprocess.DEVNULL, stderr=None)
                    return True
        return False

    def _wanted(self, row: RunRow) -> list[tuple[str, Path]]:
        """The policies to film as far as they are kept: which, and its file."""
        if row.id not in self.every:
            self.every[row.id] = self._film_every(row)
        every, folder = self.every[row.id], run_folder(self.project, row.id)
        if every is None:
            return []
        milestones = milestones_of(folder)
        found = [(str(step), milestones.path(step)) for step in due_films(milestones.steps(), every)]
        best = folder / "best.npz"
        return found + ([("best", best)] if row.state == DONE and is_file(best) else [])

    def _film_every(self, row: RunRow) -> int | None:
        try:
            return frozen_recipe(self.project, row).evaluation.film_every
        except HeronError as error:  # training the run says it, too
            print(f"filming run {row.id}: {error}", file=sys.stderr, flush=True)
            return None


def _start(
    project: Path, run: int, which: str, path: Path, starts: int = 1, speed: float = 1.0, **streams: Any
) -> subprocess.Popen[str]:
    command = [*interpreter(), "-m", "plucky_heron.desktop.filming", str(project), str(run), which]
    return subprocess.Popen(
        [*command, str(path.absolute()), str(starts), str(speed)], stdin=subprocess.DEVNULL, text=True,
        env=worker_environment() | {"QT_QPA_PLATFORM": "offscreen"}, **streams,
    )  # fmt: skip


def film_apart(
    project: Path, run: int, which: str, path: Path, tell: Callable[[float], bool], starts: int = 1, speed: float = 1.0
) -> int:
    """Film a kept policy on its first evaluation start, with further starts as ghosts; returns the pictures, 0 where `tell` asked to stop.

    Raises
    ------
    StateError
        What was wrong, in a line.
    """
    process = _start(project, run, which, path, starts, speed, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert process.stdout is not None and process.stderr is not None
    pictures = 0
    try:
        for line in process.stdout:
            if line.startswith("written"):
                pictures = int(line.split()[1])
            elif not tell(float(line)):
                return 0
        said = process.stderr.read().strip().splitlines()
        if process.wait() != 0:
            raise StateError(said[-1].removeprefix("filming: ") if said else "the process that films ended early")
        return pictures
    finally:
        process.kill()
        process.wait()
        process.stdout.close()
        process.stderr.close()
