"""A task bound to its machine and site: every formula checked, every name resolved, ready to be simulated."""

from __future__ import annotations

import functools
import hashlib
import json
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.dynamics.apart import known_places
from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.scene import Surroundings, build_scene
from plucky_heron.errors import FileError, FormulaError, HeronError, StateError, UnitError, did_you_mean
from plucky_heron.files import inside, load
from plucky_heron.formula import Expression, parse_formula
from plucky_heron.machine.drawings import read_site
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.commanding import Action, Command
from plucky_heron.task.distributions import Distribution
from plucky_heron.task.mirror import Mirror, mirror_of
from plucky_heron.task.observing import Entry, entries_of
from plucky_heron.task.own_code import OwnFunctions, load_code
from plucky_heron.task.schema import Task
from plucky_heron.task.signals import SITE_PARAMETERS, base_signals, parameter_unit
from plucky_heron.units import parse
from plucky_heron.upgrading import rename

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
    every: float = 0.0
    """Seconds after which a set-point is drawn again; 0: never."""


@dataclass(frozen=True)
class Option:
    """A choice of an action, bound: the drives it sets, their formulas, when it may be taken, how many samples it lasts."""

    name: str
    drives: tuple[int, ...]
    formulas: tuple[Expression, ...]
    available: Expression | None
    samples: int


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
    entries: tuple[Entry, ...] = field(repr=False)
    """The numbers that the policy is given, in order."""
    commands: tuple[Command, ...] = field(repr=False)
    """The numbers that the policy puts out, in order."""
    options: dict[int, tuple[Option, ...]] = field(repr=False)
    """Choices by the number of their action."""
    mixing: dict[int, Expression] = field(repr=False)
    """Formulas of mixed drives, by the drive's number."""
    rewards: tuple[Expression, ...] = field(repr=False)
    endings: tuple[Expression, ...] = field(repr=False)
    measure: Expression = field(repr=False)
    value: Expression | None = field(repr=False)
    """What is measured beside success."""
    target: tuple[Expression, ...] | None = field(repr=False)
    """Place x, y, z of the goal."""
    hold: dict[str, Expression] = field(repr=False)
    rules: dict[str, tuple[Expression, ...]] = field(repr=False)
    pairs: tuple[tuple[str, str], ...] = field(repr=False)
    """What formulas want the distance of."""
    low: np.ndarray = field(repr=False)
    """Lowest commands (commands,), SI."""
    high: np.ndarray = field(repr=False)
    """Highest commands (commands,), SI."""
    draws: tuple[Draw, ...] = field(repr=False)
    code: OwnFunctions | None = field(repr=False, default=None)
    """The project's own functions, trusted."""
    mirror: Mirror | None = field(repr=False, default=None)
    """How observations and commands look in the mirror, where the task says so."""

    @property
    def name(self) -> str:
        """The task's name."""
        return self.task.name

    @functools.cached_property
    def sensed(self) -> tuple[Entry, ...]:
        """What the policy is given: the first entries; those for critics alone stand behind."""
        return tuple(e for e in self.entries if not e.critic_only)

    @property
    def ending_names(self) -> tuple[str, ...]:
        """Endings of the task, then the built-in one."""
        return (*self.task.endings, NOT_FINITE)

    @property
    def sample_time(self) -> float:
        """Seconds a command is held."""
        return self.task.timing.sample_time

    def fingerprint(self) -> str:
        """Hash of everything that decides how an episode goes and what is rewarded."""
        return self._fingerprint

    @functools.cached_property
    def _fingerprint(self) -> str:
        parts: list[Any] = [_plain(part) for part in (self.machine, self.site, self.task)]
        parts += [self.code.digest] if self.code is not None else []
        terrain = self.site.terrain
        parts += [terrain.heights.digest] if terrain is not None and terrain.heights is not None else []
        text = json.dumps(parts, sort_keys=True)
        return hashlib.sha256(text.encode()).hexdigest()[:16]

    @property
    def plain(self) -> bool:
        """Whether every drive gets just what the policy puts out."""
        return all(command.plain for command in self.commands) and not self.mixing

    def for_proving(self) -> Problem:
        """The same with the ranges that proofs are made on, where they differ."""
        draws = tuple(
            replace(d, distribution=d.distribution.proving) if d.distribution.proving else d for d in self.draws
        )
        return replace(self, draws=draws)


def _plain(part: Machine | Site | Task) -> dict[str, Any]:
    """A part as it decides how episodes go, under the names of format 1: fingerprints of runs made then still hold."""
    told: dict[str, Any] = part.model_dump(
        mode="json", exclude={"notes", "name", "acknowledged", "rules"}, exclude_defaults=True
    )
    told.pop("format", None)
    if isinstance(part, Task):
        for term in told.get("rewards", {}).values():
            rename(term, "when", "pay")
    return told


def read_problem(folder: Path, task_name: str, faults: list[FileError] | None = None) -> Problem:
    """Read ``tasks/<task_name>.toml`` of a project and what it names; see `bind` for `faults`."""
    path = inside(folder, f"tasks/{task_name}.toml")
    if not path.is_file():
        known = sorted(p.stem for p in (folder / "tasks").glob("*.toml"))
        raise FileError(path, "", None, f"no such task; {did_you_mean(task_name, known)}")
    task = load(Task, path)
    site = read_site(_named(folder, "sites", task.site, path, "site"))
    machine = read_machine(_named(folder, "machines", task.machine, path, "machine"))
    code = load_code(folder, task.code, path) if task.code is not None else None
    named = task if task.name else task.model_copy(update={"name": task_name})
    return bind(machine, site, named, str(path), code, faults)


def _named(folder: Path, kind: str, name: str, source: Path, key: str) -> Path:
    for ending in (".toml", ".urdf"):
        path = inside(folder, f"{kind}/{name}{ending}")
        if path.is_file():
            return path
    known = sorted(p.stem for p in (folder / kind).glob("*") if p.suffix in (".toml", ".urdf"))
    raise FileError(source, key, name, f"no such file in {kind}/; {did_you_mean(name, known)}")


def bind(
    machine: Machine,
    site: Site,
    task: Task,
    source: str = "task",
    code: OwnFunctions | None = None,
    faults: list[FileError] | None = None,
) -> Problem:
    """Check a task against its machine and site; `code` are the functions that it names, trusted.

    Parameters
    ----------
    faults
        Where to put formulas that cannot be read; each counts as zero then, so that the rest can be shown and the wrong one be
        repaired in its place. Such a problem is looked at, never trained on. Without a list, the first one is an error.

    Raises
    ------
    FileError
        With the key whose formula, name or unit is wrong.
    """
    if (task.code is None) != (code is None):
        raise FileError(source, "code", None, "a task with code of its own is bound with its functions")
    return replace(_Binder(machine, site, task, source, faults).bind(), code=code)


class _Binder:
    def __init__(self, machine: Machine, site: Site, task: Task, source: str, faults: list[FileError] | None) -> None:
        self.faults = faults
        self.machine, self.site, self.task, self.source = machine, site, task, source
        try:
            model = build_model(machine, site.gravity, site.air_density, site.water_density)
            # what is always late is late at the drives, whichever way it took: classical controllers know of it then
            self.model = replace(model, dead_time=model.dead_time + task.timing.dead_time)
        except (StateError, UnitError) as error:
            raise FileError(source, "machine", task.machine, str(error)) from error
        try:
            self.surroundings = build_scene(site)
        except (StateError, UnitError) as error:
            raise FileError(source, "site", task.site, str(error)) from error
        self.units = dict(base_signals(machine, task))
        self.places = known_places(self.model, self.surroundings, task.zones)
        self.apart: set[str] = set()

    def bind(self) -> Problem:
        task = self.task
        self.check_names()
        self.check_scales()
        commands = tuple(self.commands())
        definitions = self.definitions()
        target = None
        if task.target is not None:
            if task.target.body not in self.machine.bodies:
                raise self.unknown("target.body", task.target.body, self.machine.bodies)
            target = tuple(self.formula(f"target.{a}", getattr(task.target, a), "m") for a in "xyz")
        observations = tuple(
            self.formula(f"observations.{o.name}.formula", o.formula, o.si, lists=True) for o in task.observations
        )
        value = task.measure.value
        options, mixing = self.options(), self.mixing()
        entries = entries_of(task.observations, observations, task.timing.control_rate)
        entries = tuple(sorted(entries, key=lambda e: e.critic_only))  # wherever they stand in the file
        return Problem(
            machine=self.machine,
            site=self.site,
            task=task,
            source=self.source,
            model=self.model,
            surroundings=self.surroundings,
            units=self.units,
            definitions=definitions,
            observations=observations,
            entries=entries,
            commands=commands,
            options=options,
            mixing=mixing,
            rewards=tuple(self.rewards()),
            endings=tuple(
                self.formula(f"endings.{n}.formula", e.formula or "time.left <= 0", None)
                for n, e in task.endings.items()
            ),
            measure=self.formula("measure.formula", task.measure.formula),
            value=self.formula("measure.value", value, task.measure.unit) if value is not None else None,
            target=target,
            hold=self.hold(),
            rules=self.rules(commands),
            low=np.array([c.low for c in commands]),
            high=np.array([c.high for c in commands]),
            draws=tuple(self.draws()),
            pairs=tuple(tuple(name[10:-1].split(", ")) for name in sorted(self.apart)),  # type: ignore[misc]
            mirror=mirror_of(task, entries, commands, self.source),
        )

    def definitions(self) -> dict[str, Expression]:
        """The task's own signals, in any order, none of them defined by itself."""
        signals = self.task.signals
        for name, signal in signals.items():
            if name in self.units:
                raise FileError(
                    self.source, f"signals.{name}", None, "stands for something already; choose another name"
                )
            self.units[name] = signal.unit
        found = {n: self.formula(f"signals.{n}.formula", s.formula, s.unit) for n, s in signals.items()}
        clear: set[str] = set()
        for first in found:
            way = [first]
            while way:
                name = way[-1]
                onward = [n for n in found[name].signals if n in found and n not in clear]
                if not onward:
                    clear.add(way.pop())
                elif onward[0] in way:
                    raise FileError(
                        self.source,
                        f"signals.{name}.formula",
                        signals[name].formula,
                        f"{onward[0]} is defined by itself",
                    )
                else:
                    way.append(onward[0])
        return found

    def check_names(self) -> None:
        """Names that stand for no formula."""
        for joint in self.task.placing:
            if not {f"{joint}.x", f"{joint}.y"} <= set(self.model.joints):
                known = [n for n in self.machine.joints if {f"{n}.x", f"{n}.y"} <= set(self.model.joints)]
                raise self.unknown(f"placing.{joint}", joint, known or ["no joint that moves over the ground"])
            if self.task.placing[joint].along is not None and all(t is None for t in self.surroundings.tracks):
                raise FileError(self.source, f"placing.{joint}.along", None, "the site has no course")
        gates = self.task.gates
        if gates is not None:
            if gates.body not in self.machine.bodies:
                raise self.unknown("gates.body", gates.body, self.machine.bodies)
            lines = self.surroundings.tracks
            if not gates.places and any(t is None or (gates.every is None and not len(t.gates)) for t in lines):
                raise FileError(
                    self.source, "gates", None, "the site's courses have no gates; give places, or every on a course"
                )
        for name, zone in self.task.zones.items():
            if self.places[name] != "zone":
                raise FileError(self.source, f"zones.{name}", None, "is a body or solid already; choose another name")
            if zone.kind == "hull" and zone.file:
                raise FileError(self.source, f"zones.{name}.file", zone.file, "a zone has points, no file")

    def formula(self, key: str, text: str, unit: str | None = None, *, lists: bool = False) -> Expression:
        try:
            found = parse_formula(text, self.units, unit, lists=lists, places=self.places)
        except FormulaError as error:
            fault = FileError(self.source, key, text, f"column {error.column}: {error.message}")
            if self.faults is None:
                raise fault from error
            self.faults.append(fault)
            found = parse_formula("0", self.units, None)
        self.apart.update(name for name in found.signals if name.startswith("clearance("))
        return found

    def unknown(self, key: str, value: str, known: Any) -> FileError:
        return FileError(self.source, key, value, f"unknown; {did_you_mean(value, known)}")

    def rewards(self) -> Iterator[Expression]:
        for name, reward in self.task.rewards.items():
            formula = self.formula(f"rewards.{name}.formula", reward.formula)
            if reward.event is not None:
                formula = formula.on_event(self.formula(f"rewards.{name}.event", reward.event))
            yield formula

    def commands(self) -> Iterator[Command]:
        for number, action in enumerate(self.task.actions):
            for choice in action.choices:
                yield Command(
                    f"{action.name} {choice}", number, choice, -1, "", -1.0, 1.0, False, -1.0, 1.0, 0.0, 0.0, ""
                )
            if not action.choices:
                yield self.command(number, action)

    def command(self, number: int, action: Action) -> Command:
        key = f"actions.{action.name}"
        unit, drive, least, most = action.unit, -1, -np.inf, np.inf
        if action.drive is not None:
            if action.drive not in self.machine.drives:
                raise self.unknown(f"{key}.drive", action.drive, self.machine.drives)
            if action.drive in self.task.mixing:
                raise FileError(self.source, f"mixing.{action.drive}", None, f"action {action.name} goes there already")
            unit, drive = self.machine.drive_unit(action.drive), self.model.drives.index(action.drive)
            least, most = self.machine.command_range(action.drive)
        grows = action.kind == "increment"
        low, high = self.span(
            f"{key}.limits",
            action.limits,
            f"{unit or '1'}/s" if grows else unit,
            *((-np.inf, np.inf) if grows else (least, most)),
        )
        held = self.span(f"{key}.within", action.within, unit, least, most) if grows else (low, high)
        try:
            rate = parse(action.rate_limit, f"{unit or '1'}/s") if action.rate_limit is not None else 0.0
        except HeronError as error:
            raise FileError(self.source, f"{key}.rate_limit", action.rate_limit, str(error)) from error
        if rate < 0.0 or action.smoothing < 0.0:
            raise FileError(self.source, f"{key}", None, "rate_limit and smoothing must not be negative")
        return Command(
            action.name, number, "", drive, unit, low, high, grows, *held, rate, action.smoothing, action.positive
        )

    def span(
        self, key: str, given: tuple[str | float, str | float] | None, unit: str, least: float, most: float
    ) -> tuple[float, float]:
        """Bounds in SI, within what is possible."""
        try:
            lower, upper = Distribution(uniform=given).numbers(unit)[1] if given is not None else (least, most)
        except HeronError as error:
            raise FileError(self.source, key, None, str(error)) from error
        if not least <= lower < upper <= most:
            wanted = f"wanted to rise within the drive's {least:g} .. {most:g}" if most < np.inf else "wanted to rise"
            raise FileError(self.source, key, given, wanted)
        return lower, upper

    def options(self) -> dict[int, tuple[Option, ...]]:
        found = {}
        for number, action in enumerate(self.task.actions):
            bound = []
            for name, choice in action.choices.items():
                key = f"actions.{action.name}.choices.{name}"
                bound.append(
                    Option(
                        name,
                        tuple(self.drive(f"{key}.drives.{d}", d) for d in choice.drives),
                        tuple(
                            self.formula(f"{key}.drives.{d}", text, self.machine.drive_unit(d))
                            for d, text in choice.drives.items()
                        ),
                        self.formula(f"{key}.available", choice.available) if choice.available else None,
                        self.task.timing.samples(choice.lasts),
                    )
                )
            if bound:
                found[number] = tuple(bound)
        return found

    def drive(self, key: str, name: str) -> int:
        if name not in self.machine.drives:
            raise self.unknown(key, name, self.machine.drives)
        return self.model.drives.index(name)

    def mixing(self) -> dict[int, Expression]:
        return {
            self.drive(f"mixing.{name}", name): self.formula(f"mixing.{name}", text, self.machine.drive_unit(name))
            for name, text in self.task.mixing.items()
        }

    def check_scales(self) -> None:
        """Acceptable errors of the regulator: of joints that there are, in their units, above zero."""
        for joint, value in self.task.regulator.joint_scales.items():
            key = f"regulator.joint_scales.{joint}"
            if joint not in self.model.joints:
                raise self.unknown(key, joint, self.model.joints)
            try:
                scale = parse(value, self.machine.coordinate_unit(joint))
            except UnitError as error:
                raise FileError(self.source, key, value, str(error)) from error
            if not scale > 0.0:
                raise FileError(self.source, key, value, "must be above zero")

    def hold(self) -> dict[str, Expression]:
        held = {}
        for joint, text in self.task.regulator.hold.items():
            if joint not in self.model.joints:
                raise self.unknown(f"regulator.hold.{joint}", joint, self.model.joints)
            held[joint] = self.formula(f"regulator.hold.{joint}", text, self.machine.coordinate_unit(joint))
        return held

    def rules(self, commands: tuple[Command, ...]) -> dict[str, tuple[Expression, ...]]:
        rules = {}
        names = [c.name for c in commands]
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
            draw = Draw(name, "setpoint", setpoint.unit, setpoint.draw, setpoint.every)
            yield self.checked(draw, f"setpoints.{name}.draw")

    def checked(self, draw: Draw, key: str) -> Draw:
        try:
            draw.distribution.check(draw.unit)
        except HeronError as error:
            raise FileError(self.source, key, None, str(error)) from error
        return draw
