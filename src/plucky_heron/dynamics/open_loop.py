"""Open-loop simulation of one machine to a table: what `heron simulate` does."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import energies
from plucky_heron.dynamics.plant import Plant
from plucky_heron.errors import StateError, did_you_mean, quoted
from plucky_heron.machine.schema import Machine

Array = np.ndarray
MOST_STEPS = 1e9
MOST_ROWS = 5e6
FARTHEST = 1e6


@dataclass(frozen=True)
class Track:
    """A simulated motion: column names and rows of numbers in SI units."""

    columns: tuple[str, ...]
    rows: Array
    """(samples, columns), SI."""
    notes: tuple[str, ...] = ()
    """What is to be said of it."""

    def column(self, name: str) -> Array:
        """One column (samples,) by its name."""
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
    for name, value, least, most in (
        ("seconds", seconds, 0.0, 1e7),
        ("rate", rate, 1.0, 1e6),
        ("every", every, 1, 10**9),
    ):
        if not least <= value <= most or value == 0.0:
            raise StateError(f"--{name} {value:g}: wanted above {least:g} and at most {most:g}")
    steps = round(seconds * rate)
    if steps > MOST_STEPS or steps / every > MOST_ROWS:
        raise StateError(
            f"--seconds {seconds:g}: {steps:.2g} steps, {steps / every:.2g} rows; wanted at most {MOST_STEPS:.0e} and {MOST_ROWS:.0e}; raise --every or lower --rate"
        )
    if integrator not in ("semi-implicit", "rk4"):
        raise StateError(f"--integrator {quoted(integrator)}: wanted semi-implicit or rk4")
    model = build_model(machine)
    plant = Plant(model, 1, 1.0 / rate, integrator, threads=1)
    for name in start or {}:
        if name not in model.joints:
            raise StateError(f"--start {quoted(name)}: no such moving joint; {did_you_mean(name, model.joints)}")
        if not abs((start or {})[name]) <= FARTHEST:
            raise StateError(f"--start {name}={(start or {})[name]:g}: wanted at most {FARTHEST:g} m or rad from zero")
    model.set_start(plant.position, {name: np.array([value]) for name, value in (start or {}).items()})
    plant.close_loops(np.arange(1), [model.joints.index(name) for name in start or {}])
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
    track = Track((*columns, "energy.kinetic", "energy.potential"), np.array(rows))
    return replace(track, notes=(*left_out(machine, integrator), *energy_notes(machine, track, rate)))


def left_out(machine: Machine, integrator: str) -> tuple[str, ...]:
    """What the fourth-order steps do not do that this machine has."""
    if integrator != "rk4":
        return ()
    parts = []
    if any(shape.solid for body in machine.bodies.values() for shape in body.shapes):
        parts.append("nothing touches")
    if machine.tanks:
        parts.append("tanks do not empty")
    if any(force.kind == "tyre" for force in machine.forces.values()):
        parts.append("tyres keep their deflections")
    return (f"under rk4, which is for smooth motion, {', '.join(parts)}",) if parts else ()


def energy_notes(machine: Machine, track: Track, rate: float) -> tuple[str, ...]:
    """Whether a machine that nobody drives gained energy: then the steps are too coarse for its motion."""
    potential = track.column("energy.potential")
    total = track.column("energy.kinetic") + potential
    gained = float(total.max() - total[0])
    # drives that hold something may put in what it takes to get there
    allowed = 0.05 if all(drive.kind == "effort" for drive in machine.drives.values()) else 1.0
    if gained <= allowed * max(abs(float(total[0])), float(np.ptp(potential)), 1e-6):
        return ()
    times = f"{total.max() / total[0]:.3g} times" if total[0] > 0.0 else f"by {gained:.3g} J"
    return (
        f"the total energy grew {times}: steps of {1e3 / rate:g} ms are too coarse for this motion; try a higher --rate, or --integrator rk4",
    )
