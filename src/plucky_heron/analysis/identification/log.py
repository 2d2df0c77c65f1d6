"""A log of a machine: what its joints did and what its drives were commanded, sample by sample."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.dynamics.model import Model
from plucky_heron.errors import FileError, did_you_mean, quoted
from plucky_heron.files import read_text
from plucky_heron.task.problem import Problem

Array = np.ndarray

MOST_BYTES = 200_000_000
MOST_ROWS = 2_000_000
LEAST_ROWS = 20
UNEVEN = 0.02
"""Share of the sample time by which stamps may stand apart from an even clock."""


@dataclass(frozen=True)
class Log:
    """Numbers in SI; NaN where something was not logged.

    Attributes
    ----------
    sample_time : float
    position, velocity : (T, coordinates)
        Of the model's coordinates; a column of NaN where there is none in the log.
    commands : (T, drives)
    notes
        What has to be known of it.
    """

    sample_time: float
    position: Array
    velocity: Array
    commands: Array
    notes: tuple[str, ...] = ()

    @property
    def samples(self) -> int:
        """How many."""
        return len(self.position)


def read_log(path: Path, model: Model, problem: Problem | None = None) -> Log:
    """A log as comma-separated values: ``time`` (s), joints as ``NAME.position`` and ``NAME.velocity``, drives by their names.

    With a `problem`, the names of its observations and actions serve, too, where they stand for just a joint or a drive.

    Raises
    ------
    FileError
        With the column or line that is wrong.
    """
    names, rows = _table(path)
    if "time" not in names:
        raise FileError(path, "time", None, f"no such column; {did_you_mean('time', names)}")
    known = _meanings(model, problem)
    places: dict[tuple[str, int], int] = {}
    unused = []
    for column, name in enumerate(names):
        meant = known.get(name)
        if meant is not None:
            places.setdefault(meant, column)
        elif name != "time":
            unused.append(name)
    time = rows[:, names.index("time")]
    notes: list[str] = []
    sample_time, rows = _even(path, time, rows, notes)
    found = {}
    for kind, count in (("position", len(model.joints)), ("velocity", len(model.joints)), ("drive", len(model.drives))):
        columns = [places.get((kind, k)) for k in range(count)]
        found[kind] = np.column_stack(
            [rows[:, c] if c is not None else np.full(len(rows), np.nan) for c in columns] or [np.zeros((len(rows), 0))]
        )
    for k, joint in enumerate(model.joints):
        if np.isnan(found["position"][:, k]).all():
            raise FileError(path, f"{joint}.position", None, _lacking(f"{joint}.position", names, known))
    still = [name for k, name in enumerate(model.drives) if np.isnan(found["drive"][:, k]).all()]
    if still:
        notes.append(f"no column for {', '.join(still)}: taken as never commanded")
        found["drive"] = np.nan_to_num(found["drive"])
    if unused:
        notes.append(f"not used: {', '.join(unused[:12])}{' …' if len(unused) > 12 else ''}")
    return Log(sample_time, found["position"], found["velocity"], found["drive"], tuple(notes))


def _table(path: Path) -> tuple[list[str], Array]:
    lines = csv.reader(io.StringIO(read_text(path, MOST_BYTES)))
    try:
        names = [name.strip() for name in next(lines)]
        rows = [[float(x) if x.strip() else math.nan for x in line] for line in lines if line]
    except StopIteration:
        raise FileError(path, "", None, "is empty; the first line names the columns") from None
    except (ValueError, csv.Error) as error:
        raise FileError(path, f"line {lines.line_num}", None, f"wanted numbers: {error}") from error
    if len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise FileError(path, quoted(twice), None, "stands twice among the columns")
    wrong = next((k for k, row in enumerate(rows) if len(row) != len(names)), None)
    if wrong is not None:
        raise FileError(path, f"line {wrong + 2}", None, f"has {len(rows[wrong])} values, wanted {len(names)}")
    if not LEAST_ROWS <= len(rows) <= MOST_ROWS:
        raise FileError(path, "", None, f"has {len(rows)} rows; wanted {LEAST_ROWS} to {MOST_ROWS:,}")
    table = np.array(rows)
    for column, name in enumerate(names):
        holes = ~np.isfinite(table[:, column])
        if holes.any() and not np.isnan(table[:, column]).all():
            raise FileError(path, f"line {int(np.argmax(holes)) + 2}", None, f"{name} is missing or no finite number")
    return names, table


def _even(path: Path, time: Array, rows: Array, notes: list[str]) -> tuple[float, Array]:
    """The sample time, and the rows on an even clock."""
    steps = np.diff(time)
    if not (steps > 0.0).all():
        raise FileError(path, f"line {int(np.argmin(steps > 0.0)) + 3}", None, "time does not rise")
    sample_time = float(np.median(steps))
    even = time[0] + sample_time * np.arange(round((time[-1] - time[0]) / sample_time) + 1)
    if len(even) == len(time) and np.abs(time - even).max() <= UNEVEN * sample_time:
        return sample_time, rows
    if steps.max() > 5.0 * sample_time:
        raise FileError(
            path,
            f"line {int(np.argmax(steps)) + 3}",
            None,
            f"a gap of {steps.max():.3g} s in samples of {sample_time:.3g} s; cut the log there",
        )
    notes.append(
        f"time stamps are uneven (up to {1e3 * np.abs(steps - sample_time).max():.3g} ms): drawn on an even clock of {1e3 * sample_time:.4g} ms"
    )
    return sample_time, np.column_stack([np.interp(even, time, column) for column in rows.T])


def _meanings(model: Model, problem: Problem | None) -> dict[str, tuple[str, int]]:
    """What names of columns stand for: kind and number."""
    found: dict[str, tuple[str, int]] = {}
    for k, joint in enumerate(model.joints):
        for word in ("position", "angle"):
            found[f"{joint}.{word}"] = ("position", k)
        for word in ("velocity", "rate"):
            found[f"{joint}.{word}"] = ("velocity", k)
    if problem is not None:
        for observation in problem.task.observations:
            meant = found.get(observation.formula.strip())
            if meant is not None and observation.form == "value":
                found.setdefault(observation.name, meant)
        for command in problem.commands:
            if command.plain:
                for name in (
                    command.name,
                    f"command {command.name}",
                    f"action.{command.name}",
                    f"command.{command.name}",
                ):
                    found.setdefault(name, ("drive", command.drive))
    for k, drive in enumerate(model.drives):
        for name in (drive, f"command {drive}", f"{drive}.command"):
            found.setdefault(name, ("drive", k))
    return found


def _lacking(wanted: str, names: list[str], known: dict[str, tuple[str, int]]) -> str:
    others = [name for name, meant in known.items() if meant == known[wanted] and name != wanted]
    return f"no such column, and every window begins where the machine stood; also known as {', '.join(others)}; the log has {', '.join(names[:20])}"
