"""Formulas for the usual wishes, and observations for the usual signals: starting points that stay editable."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from plucky_heron.task.problem import Problem
from plucky_heron.task.signals import SITE_PARAMETERS, parameter_unit
from plucky_heron.units import pretty_unit


@dataclass(frozen=True)
class Wish:
    """A reward term to start from: what it is called, what it is for, and how it stands in a task file."""

    name: str
    purpose: str
    term: dict[str, Any]


def wishes(problem: Problem) -> list[Wish]:
    """Terms that fit the task: its goal, its commands, its endings."""
    distance, speed = _goal(problem)
    found = [
        Wish(
            "closeness", f"1 at the goal, falling with {distance}", {"formula": f"near({distance}, 1)", "weight": 1.0}
        ),
        Wish("progress", "metres gained towards the goal", {"formula": f"-rate({distance})", "weight": 1.0}),
        Wish("alive", "every second that it goes on", {"formula": "1", "weight": 0.1}),
        Wish(
            "stillness",
            "being slow at the goal",
            {"formula": f"near({distance}, 1) * near({speed}, 0.3)", "weight": 1.0},
        ),
    ]
    efforts, changes = [], []
    for command in problem.commands:
        if not command.choice:
            most = max(abs(command.low), abs(command.high))
            efforts.append(f"(action.{command.name} / {most:.6g})**2")
            changes.append(f"((action.{command.name} - previous.action.{command.name}) / {most:.6g})**2")
    if efforts:
        found.append(Wish("effort", "large commands cost", {"formula": f"-({' + '.join(efforts)})", "weight": 0.1}))
        found.append(
            Wish("smoothness", "changing commands cost", {"formula": f"-({' + '.join(changes)})", "weight": 0.5})
        )
    body = problem.task.target.body if problem.task.target else next(iter(problem.machine.bodies))
    if f"{body}.yaw" in problem.units:
        found.append(Wish("alignment", f"{body} heading along x", {"formula": f"cos({body}.yaw)", "weight": 0.3}))
    if problem.task.gates is not None:
        found.append(
            Wish(
                "gate",
                "once for every gate passed",
                {"formula": "1", "when": "on event", "event": "gate.passing", "weight": 2.0},
            )
        )
    for name, ending in problem.task.endings.items():
        weight = 10.0 if ending.kind == "success" else -20.0
        found.append(
            Wish(name.replace(" ", "_"), f"once, when {name}", {"when": "at ending", "ending": name, "weight": weight})
        )
    return found


def _goal(problem: Problem) -> tuple[str, str]:
    """Formulas for the distance to the goal and the speed there."""
    target = problem.task.target
    if target is not None:
        places = [getattr(target, a) for a in "xyz"]
        axes = [a for a, p in zip("xyz", places, strict=True) if p.strip() != "0" or a == "x"]
        gaps = ", ".join(f"{target.body}.{a} - ({getattr(target, a)})" for a in axes)
        return f"norm({gaps})", f"norm({target.body}.velocity)"
    if problem.task.gates is not None:
        return "gate.distance", f"norm({problem.task.gates.body}.velocity)"
    body = next(iter(problem.machine.bodies))
    return f"norm({body})", f"norm({body}.velocity)"


def pickable(problem: Problem) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """Group, title, and the observation as it stands in a task file, of everything that may be sensed."""
    machine = problem.machine
    for name, sensor in machine.sensors.items():
        channels = sensor.channels(name, machine.joints)
        if sensor.kind == "beams":
            entry = _entry(name, name, "m", (0.0, sensor.range)) | {"clip": True}
            yield "sensors", f"{name}, {len(channels)} beams", entry
            continue
        for channel, unit in channels:
            yield "sensors", channel, _entry(channel.replace(".", " "), channel, unit)
    for name in problem.model.joints:
        for quantity in ("position", "velocity", "effort"):
            signal = f"{name}.{quantity}"
            if signal in problem.units:
                limits = machine.joints[name].limits if name in machine.joints and quantity == "position" else None
                yield (
                    "joints",
                    signal,
                    _entry(f"{name} {quantity}".replace("_", " "), signal, problem.units[signal], limits),
                )
    for body in machine.bodies:
        yield "bodies, in the world's axes", f"{body}, place", _entry(f"{body} place", body, "m")
        yield "bodies, in the world's axes", f"{body}.velocity", _entry(f"{body} velocity", f"{body}.velocity.x", "m/s")
        for angle in ("roll", "pitch", "yaw"):
            entry = {"name": f"{body} {angle}", "formula": f"{body}.{angle}", "unit": "rad", "form": "sine and cosine"}
            yield "bodies, in the world's axes", f"{body}.{angle}", entry
        own = "bodies, in their own axes"
        yield own, f"{body}.own.velocity", _entry(f"{body} own velocity", f"{body}.own.velocity", "m/s")
        yield own, f"{body}.own.rate", _entry(f"{body} own rate", f"{body}.own.rate", "rad/s")
    for name, setpoint in problem.task.setpoints.items():
        yield "wanted, from outside", name, _entry(name.replace(".", " "), name, setpoint.unit)
    if problem.task.gates is not None:
        for name in ("gate.distance", "gate.bearing", "gate.after.distance", "gate.after.bearing"):
            yield "course", name, _entry(name.replace(".", " "), name, problem.units[name])
    for name, named in problem.task.signals.items():
        yield "named quantities", name, _entry(name, name, named.unit)
    for action in problem.task.actions:
        name = f"action.{action.name}"
        bounds = [(c.low, c.high) for c in problem.commands if c.name == action.name]
        yield (
            "last commands",
            name,
            _entry(f"last {action.name}", name, problem.units[name], bounds[0] if bounds else None),
        )
    if "time.left" in problem.units:
        yield "clock", "time.left", _entry("time left", "time.left", "s", (0.0, problem.task.timing.time_limit))


def drawable(problem: Problem) -> Iterator[tuple[str, str, tuple[str, str], dict[str, Any]]]:
    """Group, title, key and draw of every start, parameter and weather that is not drawn yet."""
    taken = {draw.target for draw in problem.draws}
    machine, model = problem.machine, problem.model
    for k, name in enumerate(model.joints):
        for quantity in ("position", "velocity"):
            target = f"{name}.{quantity}"
            if target not in taken and target in problem.units:
                unit = problem.units[target]
                start = float(model.start[k]) if quantity == "position" else 0.0
                room = 0.1 if unit.startswith("rad") else 0.2
                yield "starts", target, ("starts", target), _uniform(start - room, start + room, unit)
    for name, (_, _, nominal) in model.parameters.items():
        if name not in taken:
            unit = parameter_unit(machine, name)
            low, high = sorted((0.8 * nominal, 1.2 * nominal)) if nominal else (0.0, 1.0)
            yield "machine", name, ("variation", name), _uniform(low, high, unit)
    for name, unit in SITE_PARAMETERS.items():
        if name not in taken and name != "scene":
            yield "site", name, ("variation", name), _uniform(0.0, 1.0, unit)
    if "scene" not in taken and len(problem.surroundings.names) > 1:
        yield "site", "scene", ("variation", "scene"), {"choice": list(range(len(problem.surroundings.names)))}


def _uniform(low: float, high: float, unit: str) -> dict[str, Any]:
    return {"uniform": [f"{value:.4g} {unit}".strip() for value in (low, high)]}


_USUAL = {
    "m": 10.0,
    "m/s": 3.0,
    "rad": 3.141592653589793,
    "rad/s": 6.0,
    "N": 500.0,
    "N*m": 200.0,
    "m/s**2": 20.0,
    "kg": 10.0,
}


def _entry(name: str, formula: str, unit: str, span: tuple[float, float] | None = None) -> dict[str, Any]:
    most = _USUAL.get(unit, 1.0)
    low, high = span if span is not None and span[0] < span[1] else (-most, most)
    text = [f"{value:.6g} {unit}".strip() for value in (low, high)]
    return {"name": name, "formula": formula, "unit": unit, "range": text}


def in_words(problem: Problem) -> str:
    """The space of commands in plain words: ``"2 continuous: push ±500 N, reel ±0.8 m/s"``."""
    values, sets = [], []
    for number, action in enumerate(problem.task.actions):
        if action.choices:
            sets.append(f"{action.name}: {', '.join(action.choices)}")
            continue
        command = next(c for c in problem.commands if c.action == number)
        turns = abs(command.high) > 7.0  # wheels are told in radians
        unit = command.unit if turns else {"rad": "deg", "rad/s": "deg/s"}.get(command.unit, command.unit)
        factor = 57.29577951308232 if unit != command.unit else 1.0
        low, high = command.low * factor, command.high * factor
        span = f"±{high:.4g}" if abs(low + high) < 1e-9 * abs(high) else f"{low:.4g}..{high:.4g}".replace("-", "−")
        grows = " a second" if command.increment else ""
        values.append(f"{action.name} {span} {pretty_unit(unit)}{grows}".rstrip())
    parts = [f"{len(values)} continuous: {', '.join(values)}"] if values else []
    parts += [
        f"one of {len(a.choices)} choices, {text}"
        for a, text in zip((a for a in problem.task.actions if a.choices), sets, strict=True)
    ]
    return "; ".join(parts)
