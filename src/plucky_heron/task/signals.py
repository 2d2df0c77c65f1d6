"""What formulas may name without defining it, and what may be drawn, with units."""

from __future__ import annotations

from collections.abc import Iterator

from plucky_heron.machine.schema import Machine
from plucky_heron.task.placing import GATE_SIGNALS
from plucky_heron.task.schema import Task

WIND_MEAN, WIND_GUST = "wind.mean", "wind.gust"
SITE_PARAMETERS = {
    WIND_MEAN: "m/s", WIND_GUST: "m/s", "current.speed": "m/s", "current.direction": "rad", "water.level": "m",
    "scene": "",
}  # fmt: skip
"""What of the site may be drawn anew in every episode; `scene` is the number of its course or level."""


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
            yield f"{body}.own.velocity.{axis}", "m/s"
            yield f"{body}.own.rate.{axis}", "rad/s"
        for angle in ("roll", "pitch", "yaw"):
            yield f"{body}.{angle}", "rad"
    for name, sensor in machine.sensors.items():
        yield from sensor.channels(name, machine.joints)
    for name in machine.tanks:
        yield f"{name}.mass", "kg"
    for action in task.actions:
        unit = machine.drive_unit(action.drive) if action.drive in machine.drives else action.unit
        change = f"{unit or '1'}/s" if action.kind == "increment" else unit
        yield f"action.{action.name}", change
        yield f"previous.action.{action.name}", change
        yield f"command.{action.name}", unit
        for choice in action.choices:
            yield f"action.{action.name}.{choice}", ""
    yield from _all_actions(machine, task)
    if any(ending.deadline is not None for ending in task.endings.values()):
        yield "time.left", "s"
    if task.gates is not None:
        yield from GATE_SIGNALS.items()
    if task.code is not None:
        yield from ((f"own.{name}", unit) for name, unit in task.code.signals.items())
    for axis in "xyz":
        yield f"wind.{axis}", "m/s"
        yield f"current.{axis}", "m/s"
    for name, setpoint in task.setpoints.items():
        yield name, setpoint.unit
    for name in task.variation:
        yield name, parameter_unit(machine, name)


def _all_actions(machine: Machine, task: Task) -> Iterator[tuple[str, str]]:
    """Actions of one unit also stand in lists, `actions` and `previous.actions`."""
    units = {machine.drive_unit(a.drive) if a.drive in machine.drives else a.unit for a in task.actions}
    if len(units) == 1 and len(task.actions) > 1 and all(a.kind == "value" and not a.choices for a in task.actions):
        unit = units.pop()
        for name in ("actions", "previous.actions"):
            yield from ((f"{name}[{k}]", unit) for k in range(len(task.actions)))


def parameter_unit(machine: Machine, name: str) -> str:
    """SI unit of a parameter that may be varied."""
    if name in SITE_PARAMETERS:
        return SITE_PARAMETERS[name]
    part, _, quantity = name.rpartition(".")
    gain = "*s"
    if part in machine.bodies and quantity in ("mass", "drag_area"):  # a joint or drive may have the name of its body
        return "kg" if quantity == "mass" else "m**2"
    if part in machine.drives and quantity in ("limit", "gain", "integral_gain", "rate_gain", "lag"):
        drive = machine.drives[part]
        if not drive.on_joint:
            return {"limit": machine.drive_unit(part), "lag": "s"}.get(quantity, "")
        x = machine.coordinate_unit(str(drive.joint))
        gain = "*s" if drive.kind == "speed" else ""
    elif part in machine.coordinates():
        x = machine.coordinate_unit(part)
    else:
        return ""
    force = "N" if x == "m" else "N*m"
    return {
        "damping": f"{force}*s/{x}", "stiffness": f"{force}/{x}", "rest": x, "armature": "kg" if x == "m" else "kg*m**2",
        "limit": force, "gain": f"{force}{gain}/{x}", "integral_gain": f"{force}/{x}" if gain else f"{force}/{x}/s",
        "rate_gain": f"{force}*s/{x}", "lag": "s", "friction": force,
    }.get(quantity, "")  # fmt: skip
