"""Edits of files: each patches its own change in and out, and never writes a whole old text over what somebody else has saved."""

from __future__ import annotations

import difflib
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from PySide6.QtGui import QUndoCommand

from plucky_heron.errors import FileError, HeronError
from plucky_heron.files import inside, parse_toml, read_text, write_whole
from plucky_heron.merging import merged
from plucky_heron.task.problem import Problem
from plucky_heron.training.recipe import Recipe


@dataclass(frozen=True)
class Checked:
    """What a changed file was read as, and the formulas in it that were wrong before."""

    made: Problem | Recipe
    faults: list[FileError] = field(default_factory=list)


class Bench(Protocol):
    """What an edit asks of the workbench."""

    def check(self, kind: str, data: dict[str, Any], path: Path) -> Checked:
        """What a file that says this is read as."""

    def reload(self, checked: Checked | None = None) -> None:
        """Show everything as it is now."""

    def say(self, text: str) -> None:
        """Tell the person something."""

    def rewrite(self, kind: str, change: Callable[[Any], object], text: str) -> str:
        """Change a file."""


class FileEdit(QUndoCommand):
    """One change of one file, by its text before and after."""

    def __init__(
        self, bench: Bench, kind: str, path: Path, before: str, after: str, text: str, checked: Checked | None = None
    ) -> None:
        super().__init__(text)
        self.bench, self.kind, self.path, self.before, self.after = bench, kind, path, before, after
        self._checked = checked

    def redo(self) -> None:
        """Put the change in."""
        self._patch(self.before, self.after, "done again")

    def undo(self) -> None:
        """Take the change out."""
        self._patch(self.after, self.before, "undone")

    def _patch(self, before: str, after: str, word: str) -> None:
        """Write what comes out where the file still says `before`; else only the change itself, or nothing.

        What was written is kept as the other end of the change, so that going back and forth never loses the others' lines.
        """
        trouble, checked = "", self._checked
        self._checked = None
        try:
            now = read_text(self.path)
            made = after if now == before else merged(before, after, now)
            if made is None:
                trouble = f"{self.path.name}: {self.text()}: cannot be {word}, the same lines were changed outside"
            else:
                if now != before or checked is None:
                    checked = self.bench.check(self.kind, parse_toml(made, self.path), self.path)
                write_whole(self.path, made)
                if before is self.before:
                    self.before, self.after = now, made
                else:
                    self.before, self.after = made, now
        except HeronError as error:
            trouble = f"{self.text()}: cannot be {word}: {error}"
        self.bench.reload(None if trouble else checked)
        if trouble:
            self.setObsolete(True)
            self.bench.say(trouble)


class FilesEdit(QUndoCommand):
    """A change of several files at once: made, renamed, removed; and what is chosen before and after it."""

    def __init__(
        self, bench: FilesBench, folder: Path, after: dict[str, str | None], text: str, chosen: tuple[Choice, Choice]
    ) -> None:
        super().__init__(text)
        self.bench, self.folder, self.after, self.chosen = bench, folder, after, chosen
        self.before = {path: _text_of(folder, path) for path in after}

    def redo(self) -> None:
        """Put the change in."""
        self._write(self.before, self.after, self.chosen[1], "done again")

    def undo(self) -> None:
        """Take the change out."""
        self._write(self.after, self.before, self.chosen[0], "undone")

    def _write(self, now: dict[str, str | None], then: dict[str, str | None], chosen: Choice, word: str) -> None:
        """Write what is to be, where every file still says what it said; else nothing."""
        try:
            other = next((path for path, text in now.items() if _text_of(self.folder, path) != text), None)
            if other is not None:
                raise FileError(self.folder / other, "", None, "was changed outside meanwhile")
            for path, text in then.items():
                place = inside(self.folder, path)
                if text is not None:
                    place.parent.mkdir(parents=True, exist_ok=True)
                    write_whole(place, text)
            for path, text in then.items():
                if text is None:
                    inside(self.folder, path).unlink(missing_ok=True)
        except (HeronError, OSError) as error:
            self.setObsolete(True)
            self.bench.say(f"{self.text()}: cannot be {word}: {error}")
            return
        self.bench.choose(*chosen)


Choice = tuple[str, str]
"""Machine and task that are looked at; a machine without a task has "" there."""


class FilesBench(Protocol):
    """What a change of several files asks of the workbench."""

    def choose(self, machine: str, task: str) -> None:
        """Look at a machine and one of its tasks."""

    def say(self, text: str) -> None:
        """Tell the person something."""


def _text_of(folder: Path, path: str) -> str | None:
    place = inside(folder, path)
    return read_text(place) if place.is_file() else None


@dataclass(frozen=True)
class Clash:
    """An edit of a file that somebody else had changed since it was shown: `known` was shown, `theirs` stands in the file now."""

    bench: Bench
    kind: str
    path: Path
    known: str
    mine: str
    theirs: str
    change: Callable[[Any], object]
    text: str

    def both(self) -> str:
        """What each of the two changed, line by line."""
        found = []
        for title, after in (("mine", self.mine), ("theirs", self.theirs)):
            lines = difflib.unified_diff(
                self.known.splitlines(), after.splitlines(), "as shown", title, n=1, lineterm=""
            )
            found.append("\n".join(lines))
        return "\n\n".join(found)

    def keep_mine(self) -> str:
        """Make my change in the file as it is now; returns what is wrong, or nothing."""
        self.bench.reload()
        return self.bench.rewrite(self.kind, self.change, self.text)

    def keep_theirs(self) -> None:
        """Take the file as it is; my change is dropped."""
        self.bench.reload()
