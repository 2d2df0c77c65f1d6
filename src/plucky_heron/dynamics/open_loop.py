"""Open-loop simulation of one machine to a table: what `heron simulate` does."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import energies
from plucky_heron.dynamics.plant import Plant
from plucky_heron.errors import StateError
from plucky_heron.machine.schema import Machine

Array = np.ndarray


@dataclass(frozen=True)
class Track:
    """A simulated motion: column names and rows of numbers in SI units."""

    columns: tuple[str, ...]
    rows: Array

    def column(self, name: str) -> Array:
        """One column by its name."""
        return np.asarray(self.rows[:, self.columns.index(name)])

    def to_csv(self) -> str:
        """Comma-separated text with all digits of every number."""
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(self.columns)
        writer.writerows([repr(float(x)) for x in row] for row in self.rows)
        return out.getvalue()


def simulate(
    machine: Machine,
    seconds: float,
    *,
    start: Mapping[str, float] | None = None,
    rate: float = 1000.0,
    integrator: str = "semi-implicit",
    every: int = 1,
) -> Track:
    """Let a machine go from a pose with its drives at zero command; speed drives hold what hangs on them.

    Parameters
    ----------
    seconds
        Duration.
    start
        Joint positions (rad, m); joints left out start where the machine file says.
    rate
        Physics steps a second.
    every
        One row every so many steps.

    Raises
    ------
    StateError
        Unknown joint, or a motion that does not stay finite.
    """
    if seconds <= 0.0 or rate <= 0.0 or every < 1:
        raise StateError("seconds and rate must be above zero, every at least 1")
    model = build_model(machine)
    steps = round(seconds * rate)
    plant = Plant(model, 1, 1.0 / rate, integrator, threads=1)
    for name in start or {}:
        if name not in model.joints:
            raise StateError(f"--start {name}: no such moving joint; known are {', '.join(model.joints)}")
    model.set_start(plant.position, {name: np.array([value]) for name, value in (start or {}).items()})
    plant.settle_drives(np.arange(1))
    columns = ["time"]
    for joint in model.joints:
        columns += [f"{joint}.position", f"{joint}.velocity"]
    commands = np.zeros((1, len(model.drives)))
    rows = []
    for done in range(0, steps + 1, every):
        position, velocity = model.pose(plant.position[0]), model.speeds(plant.velocity[0])
        # of an attitude the vector part of its quaternion stands under the three rates
        pairs = [value for joint in model.joints for value in (position[joint], velocity[joint])]
        rows.append([done / rate, *pairs, *energies(machine, position, velocity)])
        if not np.isfinite(rows[-1]).all():
            raise StateError(f"{machine.name}: the motion is not finite at {done / rate:g} s; try a higher --rate")
        if done < steps:
            plant.step(commands, min(every, steps - done))
    return Track((*columns, "energy.kinetic", "energy.potential"), np.array(rows))
