"""A task bound to its machine and site: every formula checked, every name resolved, ready to be simulated."""

from __future__ import annotations

import difflib
import functools
import hashlib
import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.dynamics.model import Model, build_model
from plucky_heron.dynamics.scene import Surroundings, build_scene
from plucky_heron.errors import FileError, FormulaError, HeronError
from plucky_heron.files import inside, load
from plucky_heron.formula import Expression, parse_formula
from plucky_heron.machine.drawings import read_site
from plucky_heron.machine.schema import Machine, read_machine
from plucky_heron.machine.site import Site
from plucky_heron.task.distributions import Distribution
from plucky_heron.task.schema import Task

WIND_MEAN, WIND_GUST = "wind.mean", "wind.gust"
SITE_PARAMETERS = {
    WIND_MEAN: "m/s", WIND_GUST: "m/s", "current.speed": "m/s", "current.direction": "rad", "water.level": "m",
    "scene": "",
}  # fmt: skip
"""What of the site may be drawn anew in every episode; `scene` is the number of its course or level."""
NOT_FINITE = "not finite"
"""Built-in ending: the simulation blew up; always a failure."""


@dataclass(frozen=True)
class Draw:
    """One drawn value of an episode: where it goes and how it is drawn."""

    target: str
    kind: str
    """start, parameter, site or setpoint."""
    unit: str
    distribution: Distribution


@dataclass(frozen=True)
class Problem:
    """Machine, site and task together, checked; see `bind`."""

    machine: Machine
    site: Site
    task: Task
    source: str
    model: Model
    surroundings: Surroundings
    units: dict[str, str]
    """Every signal that formulas may use, with its SI unit."""
    definitions: dict[str, Expression] = field(repr=False)
    observations: tuple[Expression, ...] = field(repr=False)
    rewards: tuple[Expression, ...] = field(repr=False)
    endings: tuple[Expression, ...] = field(repr=False)
    measure: Expression = field(repr=False)
    target: tuple[Expression, Expression] | None = field(repr=False)
    hold: dict[str, Expression] = field(repr=False)
    rules: dict[str, tuple[Expression, ...]] = field(repr=False)
    drive_index: np.ndarray = field(repr=False)
    low: np.ndarray = field(repr=False)
    high: np.ndarray = field(repr=False)
    draws: tuple[Draw, ...] = field(repr=False)

    @property
    def name(self) -> str:
        """The task's name."""
        return self.task.name

    @property
    def ending_names(self) -> tuple[str, ...]:
        """Endings of the task, then the built-in one."""
        return (*self.task.endings, NOT_FINITE)

    @property
    def sample_time(self) -> float:
        """Seconds a command is held."""
        return self.task.timing.sample_time

    def fingerprint(self) -> str:
        """Hash of everything that decides how an episode goes and what it pays."""
        return self._fingerprint

    @functools.cached_property
    def _fingerprint(self) -> str:
        text = json.dumps([_plain(part) for part in (self.machine, self.site, self.task)], sort_keys=True)
        return hashlib.sha256(text.encode()).hexdigest()[:16]

    def action_units(self) -> list[str]:
        """SI unit of each action."""
        return [self.machine.drive_unit(action.drive) for action in self.task.actions]


def _plain(part: Machine | Site | Task) -> dict[str, Any]:
    return part.model_dump(mode="json", exclude={"notes", "name"})


def read_problem(folder: Path, task_name: str) -> Problem:
    """Read ``tasks/<task_name>.toml`` of a project and what it names."""
    path = inside(folder, f"tasks/{task_name}.toml")
    if not path.is_file():
        known = sorted(p.stem for p in (folder / "tasks").glob("*.toml"))
        near = difflib.get_close_matches(task_name, known, n=3, cutoff=0.3) or known
        raise FileError(path, "", None, f"no such task; this project has {', '.join(near) or 'none'}")
    task = load(Task, path)
    site = read_site(_named(folder, "sites", task.site, path, "site"))
    machine = read_machine(_named(folder, "machines", task.machine, path, "machine"))
    return bind(machine, site, task if task.name else task.model_copy(update={"name": task_name}), str(path))


def _named(folder: Path, kind: str, name: str, source: Path, key: str) -> Path:
    for ending in (".toml", ".urdf"):
        path = inside(folder, f"{kind}/{name}{ending}")
        if path.is_file():
            return path
    known = sorted(p.stem for p in (folder / kind).glob("*") if p.suffix in (".toml", ".urdf"))
    raise FileError(source, key, name, f"no such file in {kind}/; there are {', '.join(known) or 'none'}")


def bind(machine: Machine, site: Site, task: Task, source: str = "task") -> Problem:
    """Check a task against its machine and site.

    Raises
    ------
    FileError
        With the key whose formula, name or unit is wrong.
    """
    return _Binder(machine, site, task, source).bind()


class _Binder:
    def __init__(self, machine: Machine, site: Site, task: Task, source: str) -> None:
        self.machine, self.site, self.task, self.source = machine, site, task, source
        self.model = build_model(machine, site.gravity, site.air_density, site.water_density)
        self.surroundings = build_scene(site)
        self.units = dict(base_signals(machine, task))

    def bind(self) -> Problem:
        task = self.task
        definitions: dict[str, Expression] = {}
        for name, signal in task.signals.items():
            if name in self.units:
                raise FileError(
                    self.source, f"signals.{name}", None, "stands for something already; choose another name"
                )
            definitions[name] = self.formula(f"signals.{name}.formula", signal.formula, signal.unit)
            self.units[name] = signal.unit
        target = None
        if task.target is not None:
            if task.target.body not in self.machine.bodies:
                raise self.unknown("target.body", task.target.body, self.machine.bodies)
            target = (self.formula("target.x", task.target.x, "m"), self.formula("target.z", task.target.z, "m"))
        drive_index, low, high = self.actions()
        return Problem(
            machine=self.machine,
            site=self.site,
            task=task,
            source=self.source,
            model=self.model,
            surroundings=self.surroundings,
            units=self.units,
            definitions=definitions,
            observations=tuple(
                self.formula(f"observations.{o.name}.formula", o.formula, o.si) for o in task.observations
            ),
            rewards=tuple(self.formula(f"rewards.{n}.formula", r.formula) for n, r in task.rewards.items()),
            endings=tuple(self.formula(f"endings.{n}.formula", e.formula) for n, e in task.endings.items()),
            measure=self.formula("measure.formula", task.measure.formula),
            target=target,
            hold=self.hold(),
            rules=self.rules(),
            drive_index=drive_index,
            low=low,
            high=high,
            draws=tuple(self.draws()),
        )

    def formula(self, key: str, text: str, unit: str | None = None) -> Expression:
        try:
            return parse_formula(text, self.units, unit)
        except FormulaError as error:
            raise FileError(self.source, key, text, f"column {error.column}: {error.message}") from error

    def unknown(self, key: str, value: str, known: Any) -> FileError:
        near = difflib.get_close_matches(value, [*known], n=3, cutoff=0.4)
        return FileError(self.source, key, value, f"unknown; there are {', '.join(near or known)}")

    def actions(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        index, low, high = [], [], []
        for action in self.task.actions:
            if action.drive not in self.machine.drives:
                raise self.unknown(f"actions.{action.name}.drive", action.drive, self.machine.drives)
            least, most = self.machine.command_range(action.drive)
            bounds = Distribution(uniform=action.limits or (least, most))
            try:
                _, (lower, upper) = bounds.numbers(self.machine.drive_unit(action.drive))
            except HeronError as error:
                raise FileError(self.source, f"actions.{action.name}.limits", None, str(error)) from error
            if not least <= lower < upper <= most:
                raise FileError(
                    self.source,
                    f"actions.{action.name}.limits",
                    action.limits,
                    f"wanted to rise within the drive's {least:g} .. {most:g}",
                )
            index.append(self.model.drives.index(action.drive))
            low.append(lower)
            high.append(upper)
        return np.array(index), np.array(low), np.array(high)

    def hold(self) -> dict[str, Expression]:
        held = {}
        for joint, text in self.task.regulator.hold.items():
            if joint not in self.model.joints:
                raise self.unknown(f"regulator.hold.{joint}", joint, self.model.joints)
            held[joint] = self.formula(f"regulator.hold.{joint}", text, self.machine.coordinate_unit(joint))
        return held

    def rules(self) -> dict[str, tuple[Expression, ...]]:
        rules = {}
        names = [a.name for a in self.task.actions]
        for name, rule in self.task.rules.items():
            for command in rule.commands:
                if command not in names:
                    raise self.unknown(f"rules.{name}.commands.{command}", command, names)
            rules[name] = tuple(
                self.formula(f"rules.{name}.commands.{action}", rule.commands.get(action, "0")) for action in names
            )
        return rules

    def draws(self) -> Iterator[Draw]:
        for name, distribution in sorted(self.task.starts.items()):
            joint, _, quantity = name.rpartition(".")
            if joint not in self.model.joints or quantity not in ("position", "velocity"):
                known = [f"{j}.{q}" for j in self.model.joints for q in ("position", "velocity")]
                raise self.unknown(f"starts.{name}", name, known)
            unit = self.machine.coordinate_unit(joint) + ("/s" if quantity == "velocity" else "")
            yield self.checked(Draw(name, "start", unit, distribution), f"starts.{name}")
        for name, distribution in sorted(self.task.variation.items()):
            if name in SITE_PARAMETERS:
                yield self.checked(Draw(name, "site", SITE_PARAMETERS[name], distribution), f"variation.{name}")
            elif name in self.model.parameters:
                yield self.checked(
                    Draw(name, "parameter", parameter_unit(self.machine, name), distribution), f"variation.{name}"
                )
            else:
                raise self.unknown(f"variation.{name}", name, [*self.model.parameters, *SITE_PARAMETERS])
        for name, setpoint in sorted(self.task.setpoints.items()):
            yield self.checked(Draw(name, "setpoint", setpoint.unit, setpoint.draw), f"setpoints.{name}.draw")

    def checked(self, draw: Draw, key: str) -> Draw:
        try:
            draw.distribution.numbers(draw.unit)
        except HeronError as error:
            raise FileError(self.source, key, None, str(error)) from error
        return draw


def base_signals(machine: Machine, task: Task) -> Iterator[tuple[str, str]]:
    """Names and SI units of everything that a formula may use without defining it."""
    yield "time", "s"
    for name, (_, letter) in machine.coordinates().items():
        x = machine.coordinate_unit(name)
        if letter not in ("rx", "ry", "rz"):  # an attitude is no three angles; see the body's roll, pitch and yaw
            yield f"{name}.position", x
        yield f"{name}.velocity", f"{x}/s"
        yield f"{name}.effort", "N" if x == "m" else "N*m"
        if x == "rad":
            yield f"{name}.angle", x
            yield f"{name}.rate", f"{x}/s"
    for body in machine.bodies:
        for axis in "xyz":
            yield f"{body}.{axis}", "m"
            yield f"{body}.velocity.{axis}", "m/s"
            yield f"{body}.rate.{axis}", "rad/s"
        for angle in ("roll", "pitch", "yaw"):
            yield f"{body}.{angle}", "rad"
    for name, sensor in machine.sensors.items():
        yield from sensor.channels(name, machine.joints)
    for name in machine.tanks:
        yield f"{name}.mass", "kg"
    for action in task.actions:
        if action.drive in machine.drives:
            yield f"action.{action.name}", machine.drive_unit(action.drive)
            yield f"previous.action.{action.name}", machine.drive_unit(action.drive)
    for axis in "xyz":
        yield f"wind.{axis}", "m/s"
        yield f"current.{axis}", "m/s"
    for name, setpoint in task.setpoints.items():
        yield name, setpoint.unit
    for name in task.variation:
        yield name, parameter_unit(machine, name)


def parameter_unit(machine: Machine, name: str) -> str:
    """SI unit of a parameter that may be varied."""
    if name in SITE_PARAMETERS:
        return SITE_PARAMETERS[name]
    part, _, quantity = name.rpartition(".")
    gain = "*s"
    if part in machine.drives and quantity in ("limit", "gain", "integral_gain", "rate_gain", "lag"):
        drive = machine.drives[part]
        if not drive.on_joint:
            return {"limit": machine.drive_unit(part), "lag": "s"}.get(quantity, "")
        x = machine.coordinate_unit(str(drive.joint))
        gain = "*s" if drive.kind == "speed" else ""
    elif part in machine.coordinates():
        x = machine.coordinate_unit(part)
    else:
        return {"mass": "kg", "drag_area": "m**2"}.get(quantity, "")
    force = "N" if x == "m" else "N*m"
    return {
        "damping": f"{force}*s/{x}", "stiffness": f"{force}/{x}", "rest": x, "armature": "kg" if x == "m" else "kg*m**2",
        "limit": force, "gain": f"{force}{gain}/{x}", "integral_gain": f"{force}/{x}" if gain else f"{force}/{x}/s",
        "rate_gain": f"{force}*s/{x}", "lag": "s", "friction": force,
    }.get(quantity, "")  # fmt: skip
