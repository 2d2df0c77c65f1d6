"""The code between what a machine's instruments say and the controller: formulas of observations, forward kinematics, mixing and choices.

The controller takes the values of formulas and gives the values of commands. What stands here works out the first from
positions, speeds and whatever else formulas name, and the drives' values from the second.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from plucky_heron.handover.forms.controlling import Controlling, drive_of
from plucky_heron.handover.forms.direction import direction_of_signal
from plucky_heron.handover.forms.formula_code import FormulaCode
from plucky_heron.handover.forms.languages import HELPERS, MODULO, C, Language
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.numbers import number, row
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.handover.wiring import Mapped, Wiring, mapped_drives, mapped_signals
from plucky_heron.machine.schema import GROUND
from plucky_heron.machine.urdf import rotation
from plucky_heron.task.problem import Problem
from plucky_heron.task.signals import base_signals

Array = np.ndarray

_ECHO = re.compile(r"(action|previous\.action|command)\.(\w+)")
_ECHOES = re.compile(r"(actions|previous\.actions)\[(\d+)\]")
_PLACE = re.compile(r"\bb\d+\.")
_JOINT = re.compile(r"(.+)\.(position|angle|velocity|rate)")
_BODY = re.compile(r"(\w+)\.(own\.velocity|own\.rate|velocity|rate)\.([xyz])|(\w+)\.(x|y|z|roll|pitch|yaw)")


@dataclass(frozen=True)
class Signal:
    """One number that has to be given: a position or speed of a joint, a channel of a sensor, a set-point, or what else a formula names."""

    name: str
    unit: str
    positive: str = ""


@dataclass(frozen=True)
class Link:
    """A joint on the way to a body: `turn` (9,), `origin` (3,) and `axis` (3,) place it in its parent (-1: the ground), `at` and `speed` are expressions."""

    parent: int
    turn: Array
    origin: Array
    axis: Array
    slides: bool
    at: str
    speed: str


@dataclass
class SignalCode:
    """What is generated.

    Attributes
    ----------
    signals
        What has to be given, in order.
    bodies
        Bodies whose place is worked out from the joints, from the ground outwards.
    drives
        Names of all drives, in order.
    """

    problem: Problem
    parts: Controlling
    wired: tuple[list[Mapped], list[Mapped]] = ([], [])
    """Signals that are read, and drives that are given, as raw numbers."""
    signals: list[Signal] = field(default_factory=list)
    bodies: list[str] = field(default_factory=list)
    drives: list[str] = field(default_factory=list)
    standing: list[tuple[int, int]] = field(default_factory=list)
    """Commands that begin where a servo stands, each with the signal that says where."""
    language: Language = C

    def __post_init__(self) -> None:
        problem = self.problem
        self._units = dict(base_signals(problem.machine, problem.task))
        self._plain = {c.name: k for k, c in enumerate(problem.commands) if not c.choice}
        self._shaped = {k: bool(c.increment or c.rate_limit or c.smoothing) for k, c in enumerate(problem.commands)}
        self._sets = list(problem.options)
        self._set_names = {problem.task.actions[n].name: k for k, n in enumerate(self._sets)}
        self._places: dict[str, int] = {}
        self._distributing = False
        self.drives = list(problem.model.drives)
        columns = {line: k for k, line in enumerate(self.parts.columns)}
        observed = self._formulas(0)
        edges = np.cumsum([0, *(e.width for e in problem.observations)])
        self.sensors: list[str] = [""] * len(columns)
        for first, expression in zip(edges, problem.observations, strict=False):
            for k in range(expression.width):
                if int(first) + k in columns:
                    self.sensors[columns[int(first) + k]] = observed.of(expression.part(k))[0]
        self.observing = observed.needed(self.sensors)
        self._distributing = True
        self._distribute(observed.slots)
        self.standing = [
            (k, int(self._given(f"{drive_of(problem, c.drive).joint}.position")[2:-1]))
            for k, (c, shaping) in enumerate(zip(problem.commands, self.parts.shaping, strict=True))
            if shaping.servo
        ]

    def _distribute(self, slots: int) -> None:
        """Mixing and choices: for each drive the expression of its value."""
        problem, code, zero = self.problem, self._formulas(slots), self.language.number(0.0)
        found: dict[int, str] = {
            c.drive: f"{self.language.ordered}[{k}]" for k, c in enumerate(problem.commands) if c.drive >= 0
        }
        found |= {drive: code.of(formula)[0] for drive, formula in problem.mixing.items()}
        self.direct = [found.get(d, zero) for d in range(len(self.drives))]
        self.mixed = sorted(problem.mixing)
        self.mixing, slots = code.needed(self.direct), code.slots
        self.sets: list[dict[str, Any]] = []
        for number_, options in problem.options.items():
            columns = [k for k, c in enumerate(problem.commands) if c.action == number_]
            may = self._formulas(slots)
            allowed = [
                may.of(o.available)[0] if o.available is not None else self.language.number(1.0) for o in options
            ]
            does = self._formulas(may.slots)
            given = [[(d, does.of(f)[0]) for d, f in zip(o.drives, o.formulas, strict=True)] for o in options]
            slots = does.slots
            self.sets.append({
                "columns": columns, "may": [Code(x) for x in may.needed(allowed)], "allowed": [Code(x) for x in allowed],
                "does": [Code(x) for x in does.needed([x for rows in given for _, x in rows])], "given": [[(d, Code(x)) for d, x in rows] for rows in given],
                "samples": [max(1, o.samples) for o in options],
            })  # fmt: skip
        self.slots = slots

    def _formulas(self, slots: int) -> FormulaCode:
        problem = self.problem
        return FormulaCode(self._leaf, problem.definitions, problem.sample_time, slots, self.language)

    # --- leaves ------------------------------------------------------------------------------------------------------

    def _leaf(self, name: str) -> str:
        """The expression of a signal."""
        if name == "time":
            return "now"
        if (echo := _ECHO.fullmatch(name)) is not None and echo.group(2) in self._plain:
            return self._echo(echo.group(1), self._plain[echo.group(2)])
        if (echo := _ECHOES.fullmatch(name)) is not None:
            return self._echo(echo.group(1).removesuffix("s"), int(echo.group(2)))
        if (chosen := self._choice(name)) is not None:
            return chosen
        if (joint := _JOINT.fullmatch(name)) is not None and joint.group(1) in self.problem.model.joints:
            kind = "position" if joint.group(2) in ("position", "angle") else "velocity"
            return self._given(f"{joint.group(1)}.{kind}")
        if (body := _BODY.fullmatch(name)) is not None:
            which, what, axis = (body.group(1), body.group(2), body.group(3)) if body.group(1) else (body.group(4), "", body.group(5))  # fmt: skip
            if which in self.problem.machine.bodies and self._reach(which):
                return self._of_body(f"b{self.bodies.index(which)}", what, axis)
        return self._given(name)

    def _echo(self, kind: str, k: int) -> str:
        """What was commanded; in distributing, the newest command is what the controller puts out, guards and all."""
        if self._distributing and (kind == "command" or (kind == "action" and not self._shaped[k])):
            return f"{self.language.ordered}[{k}]"
        return {"action": "given", "previous.action": "previous", "command": "held"}[kind] + f"[{k}]"

    def _choice(self, name: str) -> str | None:
        for kind in ("previous.action.", "action.", "command."):
            rest = name.removeprefix(kind)
            if rest == name:
                continue
            owner, _, option = rest.partition(".")
            if owner not in self._set_names:
                continue
            k = self._set_names[owner]
            if not option:
                return self.language.whole(
                    f"{self.language.state}{'before' if kind.startswith('previous') else 'number'}[{k}]"
                )
            options = [o.name for o in self.problem.options[self._sets[k]]]
            if kind == "action." and option in options:
                return self.language.truth(
                    f"{self.language.state}work[{k}] {self.language.sign_of('==')} {options.index(option) + 1}"
                )
        return None

    def _given(self, name: str) -> str:
        if name not in self._places:
            self._places[name] = len(self.signals)
            self.signals.append(
                Signal(name, self._units.get(name, ""), direction_of_signal(self.problem.machine, name))
            )
        return f"x[{self._places[name]}]"

    def _reach(self, body: str) -> bool:
        """Whether only hinges, sliders and fixed joints lie between a body and the ground; then the way is known from here on."""
        machine, way, at = self.problem.machine, [], body
        while at != GROUND:
            joint = machine.joints[machine.joint_above(at)]
            if joint.kind not in ("hinge", "slider", "fixed"):
                return False
            way.append(at)
            at = joint.parent
        for part in reversed(way):
            if part not in self.bodies:
                self.bodies.append(part)
                name = machine.joint_above(part)
                if machine.joints[name].kind != "fixed":
                    self._given(f"{name}.position")
                    self._given(f"{name}.velocity")
        return True

    def _of_body(self, body: str, what: str, axis: str) -> str:
        text = self.language
        if axis in ("roll", "pitch", "yaw"):
            return {
                "roll": text.call("atan2", f"{body}.r[7]", f"{body}.r[8]"),
                "pitch": text.call("asin", text.clip(f"-{body}.r[6]", text.number(-1.0), text.number(1.0))),
                "yaw": text.call("atan2", f"{body}.r[3]", f"{body}.r[0]"),
            }[axis]
        a, part = "xyz".index(axis), {"": "p", "velocity": "v", "rate": "w"}.get(what.removeprefix("own."), "p")
        if what.startswith("own."):
            return "(" + " + ".join(f"{body}.r[{3 * b + a}] * {body}.{part}[{b}]" for b in range(3)) + ")"
        return f"{body}.{part}[{a}]"

    # --- text --------------------------------------------------------------------------------------------------------

    def lines(self) -> tuple[list[Line], list[Line]]:
        """What has to be given, and the drives with their ranges, as lines of a contract."""
        machine = self.problem.machine
        limits = {d: machine.command_range(d) for d in self.drives}
        given = [Line(s.name, s.unit, -np.inf, np.inf, s.positive) for s in self.signals]
        return given, [Line(d, machine.drive_unit(d), float(low), float(high)) for d, (low, high) in limits.items()]

    def links(self) -> list[Link]:
        """The joints to all bodies that formulas name, from the ground outwards."""
        machine, found = self.problem.machine, []
        for body in self.bodies:
            name = machine.joint_above(body)
            joint = machine.joints[name]
            parent = -1 if joint.parent == GROUND else self.bodies.index(joint.parent)
            zero = self.language.number(0.0)
            at, speed = (
                zero if joint.kind == "fixed" else self._given(f"{name}.{w}") for w in ("position", "velocity")
            )
            turn = rotation(*joint.turn).ravel()
            found.append(Link(parent, turn, np.array(joint.origin), np.array(joint.axis), joint.kind == "slider", at, speed))  # fmt: skip
        return found

    def chain(self) -> list[Code]:
        """Statements in C that work out the places of all bodies that formulas name."""
        lines = []
        for k, link in enumerate(self.links()):
            parent = "ground" if link.parent < 0 else f"b{link.parent}"
            lines += [
                Code(f"static const float t{k}[9] = {{ {row(link.turn)} }};"),
                Code(f"static const float o{k}[3] = {{ {row(link.origin)} }};"),
                Code(f"static const float a{k}[3] = {{ {row(link.axis)} }};"),
                Code(f"carry(&{parent}, t{k}, o{k}, a{k}, {int(link.slides)}, {link.at}, {link.speed}, &b{k});"),
            ]
        return lines

    def times_read(self, signal: int) -> int:
        """How often the generated code reads a signal."""
        lines = [*self.observed(), *self.distributed(), *(f"{link.at} {link.speed}" for link in self.links())]
        return sum(line.count(f"x[{signal}]") for line in lines)

    def wire(self, wiring: Wiring, source: str) -> None:
        """Read and give raw numbers where the wiring says so.

        Raises
        ------
        StateError, FileError
            What of it fits no signal or drive, or is no straight line.
        """
        machine = self.problem.machine
        units = {s.name: s.unit for s in self.signals}
        ends = {d: machine.command_range(d) for d in self.drives}
        ranges = {d: (float(low), float(high), machine.drive_unit(d)) for d, (low, high) in ends.items()}
        self.wired = mapped_signals(wiring, list(units), units, source), mapped_drives(wiring, ranges, source)

    def files(self, title: str) -> dict[str, str]:
        """``signals.h``, ``signals.c`` and the program that checks them."""
        text = "\n".join([*self.observed(), *self.distributed()])
        limits = np.array([self.problem.machine.command_range(d) for d in self.drives]).reshape(-1, 2)
        chain = self.chain()
        values: dict[str, Any] = {
            "title": title, "signals": self.signals, "drives": self.drives, "sensors": self.parts.sensors, "formulas": self.parts.formulas,
            "chain": chain, "bodies": len(self.bodies), "observing": [Code(x) for x in self.observing], "values": [Code(x) for x in self.sensors],
            "mixing": [Code(x) for x in self.mixing], "direct": [Code(x) for x in self.direct], "sets": self.sets, "slots": self.slots,
            "low": row(limits[:, 0]), "high": row(limits[:, 1]), "helpers": Code(HELPERS) if "wrapped(" in text else Code(MODULO) if "modulo(" in text else "", "sample_time": number(self.problem.sample_time),
            "mixed": self.mixed, "bodies_in": self.places(),
            "standing": [(k, i, number(self.parts.shaping[k].within[0]), number(self.parts.shaping[k].within[1])) for k, i in self.standing],
        }  # fmt: skip
        values |= {"read": self.wired[0], "put": self.wired[1], "number": number}
        environment = templates()
        names = ("signals.h", "signals.c", "check_signals.c")
        return {name: environment.get_template(f"{name}.j2").render(values) for name in names}

    def places(self) -> list[bool]:
        """Whether the way to the controller names a body's place, and whether the way from it does."""
        return [bool(_PLACE.search(" ".join(lines))) for lines in (self.observed(), self.distributed())]

    def observed(self) -> list[str]:
        """All code of the way to the controller."""
        return [*self.observing, *self.sensors]

    def distributed(self) -> list[str]:
        """All code of the way to the drives."""
        found = [*self.mixing, *self.direct]
        for s in self.sets:
            found += [*s["may"], *s["allowed"], *s["does"], *(value for rows in s["given"] for _, value in rows)]
        return found
