"""A log of a machine: what its joints did and what its drives were commanded, sample by sample."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from plucky_heron.dynamics.energy import quaternion
from plucky_heron.dynamics.model import Model
from plucky_heron.errors import FileError, did_you_mean, quoted
from plucky_heron.files import read_text
from plucky_heron.machine.schema import GROUND
from plucky_heron.task.problem import Problem

Array = np.ndarray

MOST_BYTES = 200_000_000
MOST_ROWS = 2_000_000
LEAST_ROWS = 20
ANGLES = ("roll", "pitch", "yaw")
Meanings = dict[str, tuple[str, int]]
UNEVEN = 0.02
"""Share of the sample time by which stamps may stand apart from an even clock."""


@dataclass(frozen=True)
class Log:
    """Numbers in SI; NaN where something was not logged.

    Attributes
    ----------
    sample_time : float
    position : (T, entries)
        Of the model's positions: its coordinates, attitudes as quaternions.
    velocity : (T, coordinates)
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

    The attitude of a ball or free joint stands as ``NAME.roll``, ``NAME.pitch`` and ``NAME.yaw``, or as a quaternion ``NAME.qx``, ``NAME.qy``,
    ``NAME.qz``, ``NAME.qw``; its rates, where they are logged, in the joint's own axes (``NAME.rx.velocity``). Of a body that is free from the
    ground the names of formulas serve, too: ``BODY.x``, ``BODY.roll``, ``BODY.velocity.x``, ``BODY.own.velocity.x``, ``BODY.rate.x``, ``BODY.own.rate.x``.

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
    for meant, column in places.items():
        if meant[0] == "angle":  # between two samples it goes the short way, also over half a turn
            rows[:, column] = np.unwrap(rows[:, column])
    for a in range(len(model.attitudes())):
        parts = [places[part] for k in range(4) if (part := ("quaternion", 4 * a + k)) in places]
        if len(parts) == 4:  # both signs are the same attitude; between two samples they must not cancel
            turned = (rows[1:, parts] * rows[:-1, parts]).sum(axis=1) < 0.0
            rows[1:, parts] *= np.where(np.cumsum(turned) % 2, -1.0, 1.0)[:, None]
    notes: list[str] = []
    sample_time, rows = _even(path, time, rows, notes)
    joints, balls = len(model.joints), len(model.attitudes())
    found = {}
    for kind, count in (
        ("position", joints), ("velocity", joints), ("drive", len(model.drives)), ("angle", 3 * balls), ("quaternion", 4 * balls),
        ("own velocity", joints),
    ):  # fmt: skip
        columns = [places.get((kind, k)) for k in range(count)]
        found[kind] = np.column_stack(
            [rows[:, c] if c is not None else np.full(len(rows), np.nan) for c in columns] or [np.zeros((len(rows), 0))]
        )
    turning = {k for _, entries in model.attitudes() for k in entries[:3]}
    for k, joint in enumerate(model.joints):
        if k not in turning and np.isnan(found["position"][:, k]).all():
            raise FileError(path, f"{joint}.position", None, _lacking(f"{joint}.position", names, known))
    _turn(path, model, found, names, known)
    still = [name for k, name in enumerate(model.drives) if np.isnan(found["drive"][:, k]).all()]
    if still:
        notes.append(f"no column for {', '.join(still)}: taken as never commanded")
        found["drive"] = np.nan_to_num(found["drive"])
    if unused:
        notes.append(f"not used: {', '.join(unused[:12])}{' …' if len(unused) > 12 else ''}")
    return Log(sample_time, found["position"], found["velocity"], found["drive"], tuple(notes))


def _turn(path: Path, model: Model, found: dict[str, Array], names: list[str], known: Meanings) -> None:
    """Attitudes as quaternions into the positions, and speeds in a body's own axes into those of the site."""
    position = np.column_stack([found["position"], np.full((len(found["position"]), len(model.attitudes())), np.nan)])
    for a, (joint, entries) in enumerate(model.attitudes()):
        angles, parts = found["angle"][:, 3 * a : 3 * a + 3], found["quaternion"][:, 4 * a : 4 * a + 4]
        if not np.isnan(parts).any():
            size = np.linalg.norm(parts, axis=1)
            if not (np.abs(size - 1.0) < 0.05).all():
                line = int(np.argmax(np.abs(size - 1.0) >= 0.05)) + 2
                raise FileError(path, f"line {line}", None, f"{joint}.qx to {joint}.qw are of length {size[line - 2]:.3g}; wanted a quaternion of length 1")  # fmt: skip
            position[:, entries] = parts / size[:, None]
        else:
            lacking = next((ANGLES[k] for k in range(3) if np.isnan(angles[:, k]).all()), "")
            if lacking:
                name = f"{joint}.{lacking}"
                raise FileError(
                    path, name, None, f"{_lacking(name, names, known)}, or the quaternion {joint}.qx, qy, qz, qw"
                )
            position[:, entries] = quaternion(*angles.T).T
        turns = int(entries[0])
        places = [turns, turns - 3] if model.machine.joints[joint].kind == "free" else [turns]
        for start in places:
            own, here = (found[kind][:, start : start + 3] for kind in ("own velocity", "velocity"))
            if not np.isnan(own).any():
                turned = Rotation.from_quat(position[:, entries]).apply(own)
                found["velocity"][:, start : start + 3] = np.where(np.isnan(here), turned, here)
    found["position"] = position


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


def _meanings(model: Model, problem: Problem | None) -> Meanings:
    """What names of columns stand for: kind and number."""
    found: Meanings = {}
    for k, joint in enumerate(model.joints):
        for word in ("position", "angle"):
            found[f"{joint}.{word}"] = ("position", k)
        for word in ("velocity", "rate"):
            found[f"{joint}.{word}"] = ("velocity", k)
    for a, (joint, entries) in enumerate(model.attitudes()):
        for k, word in enumerate(ANGLES):
            found[f"{joint}.{word}"] = ("angle", 3 * a + k)
        for k, axis in enumerate("xyzw"):
            found[f"{joint}.q{axis}"] = ("quaternion", 4 * a + k)
        found |= _of_body(model, joint, a, int(entries[0]))
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


def _of_body(model: Model, name: str, attitude: int, first: int) -> Meanings:
    """Names of a body that is free from the ground, where its joint's axes are those of the site."""
    joint = model.machine.joints[name]
    if joint.kind != "free" or joint.parent != GROUND or any(joint.turn) or any(joint.origin):
        return {}
    body, found = joint.child, Meanings()
    for k, axis in enumerate("xyz"):
        found[f"{body}.{axis}"] = ("position", first - 3 + k)
        found[f"{body}.velocity.{axis}"] = ("velocity", first - 3 + k)
        found[f"{body}.rate.{axis}"] = ("velocity", first + k)
        found[f"{body}.own.velocity.{axis}"] = ("own velocity", first - 3 + k)
        found[f"{body}.own.rate.{axis}"] = ("own velocity", first + k)
        found[f"{body}.{ANGLES[k]}"] = ("angle", 3 * attitude + k)
    return found


def _lacking(wanted: str, names: list[str], known: Meanings) -> str:
    others = [name for name, meant in known.items() if meant == known[wanted] and name != wanted]
    return f"no such column, and every window begins where the machine stood; also known as {', '.join(others)}; the log has {', '.join(names[:20])}"
