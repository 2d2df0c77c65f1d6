"""A task while it is being written: every entry with its reason, and what has to be added to machine and site for it."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import tomlkit

from plucky_heron.errors import FileError, UnitError
from plucky_heron.machine import editing
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.units import parse, show
from plucky_heron.upgrading import FORMAT

STRIDE = 0.5
"""Angle (rad) to each side of where it stands in which a servo of a leg is commanded."""
LONGEST_FORMULA = 950
"""Characters: a little less than a formula may have."""


@dataclass(frozen=True)
class Question:
    """Something of a wish that may be answered otherwise.

    Attributes
    ----------
    value : float
        What is proposed, SI.
    why : str
        Where the proposal comes from.
    """

    key: str
    label: str
    value: float
    unit: str
    why: str
    least: float = 0.0
    most: float = np.inf

    @property
    def text(self) -> str:
        """The proposal with its unit."""
        return f"{self.value:g} {self.unit}".strip()


@dataclass(frozen=True)
class Line:
    """One entry that is written, under which card of the task, and why."""

    card: str
    text: str
    why: str


@dataclass
class Draft:
    """What a wish writes.

    Attributes
    ----------
    task : dict
        As it stands in the task file.
    sensors, courses : dict
        What the machine and the site get besides.
    """

    look: Look
    name: str
    task: dict[str, Any] = field(default_factory=dict)
    lines: list[Line] = field(default_factory=list)
    sensors: dict[str, dict[str, Any]] = field(default_factory=dict)
    courses: dict[str, dict[str, Any]] = field(default_factory=dict)

    def observe(self, name: str, formula: str, unit: str, reach: float | tuple[float, float], why: str, **more: Any) -> None:  # fmt: skip
        """An observation within a range, or plus and minus `reach`."""
        low, high = reach if isinstance(reach, tuple) else (-reach, reach)
        entry = {"name": name, "formula": formula, **({"unit": unit} if unit else {}), "range": [said(low, unit), said(high, unit)]}  # fmt: skip
        self.task.setdefault("observations", []).append(entry | more)
        self.lines.append(Line("Observations", name, why))

    def observe_angle(self, name: str, formula: str, why: str) -> None:
        """An angle that goes round: its sine and cosine."""
        entry = {"name": name, "formula": formula, "unit": "rad", "form": "sine and cosine"}
        self.task.setdefault("observations", []).append(entry)
        self.lines.append(Line("Observations", f"{name}, sine and cosine", why))

    def signal(self, name: str, formula: str, unit: str) -> None:
        """A named quantity."""
        self.task.setdefault("signals", {})[name] = {"formula": formula} | ({"unit": unit} if unit else {})

    def setpoint(self, name: str, unit: str, low: float, high: float, every: float = 0.0) -> None:
        """Something drawn anew for every episode."""
        entry: dict[str, Any] = {"unit": unit, "draw": {"uniform": [said(low, unit), said(high, unit)]}}
        if every:
            entry["every"] = said(every, "s")
        self.task.setdefault("setpoints", {})[name] = entry

    def reward(self, name: str, formula: str, weight: float, why: str) -> None:
        """A term that is given each second."""
        self.task.setdefault("rewards", {})[name] = {"formula": formula, "weight": float(f"{weight:.3g}")}
        self.lines.append(Line("Reward", f"{name.replace('_', ' ')}, weight {weight:.3g}: {formula}", why))

    def ending(self, name: str, formula: str, weight: float, why: str, hold: float = 0.0) -> None:
        """A failure, and what it costs."""
        entry: dict[str, Any] = {"kind": "failure", "formula": formula}
        if hold:
            entry["hold"] = said(hold, "s")
        self.task.setdefault("endings", {})[name] = entry
        if weight:
            key = name.replace(" ", "_")
            self.task.setdefault("rewards", {})[key] = {"when": "at ending", "ending": name, "weight": float(f"{weight:.3g}")}  # fmt: skip
        self.lines.append(Line("Endings", f"{name}: failure", why))

    def measure(self, name: str, formula: str, hold: float, why: str) -> None:
        """The yardstick."""
        self.task["measure"] = {"name": name, "formula": formula} | ({"hold": said(hold, "s")} if hold else {})
        self.lines.append(Line("Measure", f"{formula}" + (f" for {show(hold, 's')}" if hold else ""), why))

    def start(self, target: str, unit: str, low: float, high: float, why: str = "") -> None:
        """What episodes start with."""
        low, high = float(f"{low:.4g}"), float(f"{high:.4g}")
        self.task.setdefault("starts", {})[target] = {"uniform": [said(low, unit), said(high, unit)]}
        if why:
            self.lines.append(Line("Starts and variation", target.rpartition(".")[0].replace(".", " "), why))

    def timing(self, rate: float, limit: float, substeps: int, why: str) -> None:
        """The clock."""
        self.task["timing"] = {"control_rate": said(rate, "Hz"), "substeps": substeps, "time_limit": said(limit, "s")}
        self.lines.append(
            Line("Timing", f"{rate:g} Hz, {substeps} substeps", why or f"an episode lasts {limit:g} s at most")
        )

    def sensor(self, name: str, entry: dict[str, Any]) -> str:
        """A sensor that the machine gets; its name, another one where that is taken."""
        machine = self.look.machine
        same = [n for n, s in machine.sensors.items() if entry_of(s) == entry_of(entry)]
        if same:
            return same[0]
        taken = {*machine.sensors, *machine.bodies, *machine.joints, *machine.tanks}
        name = next(n for n in (name, *(f"{name}_{k}" for k in range(2, 99))) if n not in taken)
        self.sensors[name] = entry
        self.lines.append(Line("Machine", f"sensor {name}", f"{entry['kind']} on {entry.get('body', entry.get('joint'))}"))  # fmt: skip
        return name

    # --- what most wishes need

    def actions(self, led: bool = False, about: float = 0.0, only: Collection[str] | None = None) -> None:
        """One action a drive that can be commanded; of arms position servos are `led`: the policy says how fast their command moves.

        A place within 2 % of a joint's way is 2 % of a command's range, too: hard to hit for a policy that says where to go at
        once, easy for one that closes in on it. And drives of arms are often many times as strong as what they carry wants:
        a motion is then a few hundredths of a command's range, which drowns in exploration. Commands are limited to what is needed.
        Servos of hinges are commanded within `about` (rad) to each side of where they start, if that is said, and of legs with wheels: so the middle of all
        commands is the pose at the start. Where `only` names joints, drives of others are not commanded; nor are those of arms that
        travel along, which hold.
        """
        machine = self.look.machine
        self.task["actions"] = []
        idle = set(self.look.arms)
        if only is not None:
            idle |= set(self.look.driven) - set(only)
        for name, drive in machine.drives.items():
            if drive.kind in ("brake", "drain") or drive.joint in idle:
                continue
            unit, words = machine.drive_unit(name), name.replace("_", " ")
            if led and drive.kind == "position":
                fast = self.look.pace(str(drive.joint))
                self.task["actions"].append({"name": name, "drive": name, "kind": "increment", "limits": [said(-fast, f"{unit}/s"), said(fast, f"{unit}/s")]})  # fmt: skip
                self.lines.append(Line("Actions", words, f"position, led, {show(fast, f'{unit}/s', 2)} at most"))
                sag = float(drive.limit) / float(drive.gain or np.inf)
                self.observe(f"{words} ahead", f"command.{name} - {drive.joint}.position", unit, nice(max(1.2 * sag, 0.5 * fast)), "where its servo is told to go")  # fmt: skip
                continue
            low, high = machine.command_range(name)
            near = STRIDE if drive.joint in self.look.perched else about
            if near and drive.kind == "position" and unit == "rad":
                start = float(self.look.model.start[self.look.index(str(drive.joint))])
                low, high = max(low, start - near), min(high, start + near)
                self.task["actions"].append({"name": name, "drive": name, "limits": said_within(low, high, unit)})
                self.lines.append(Line("Actions", words, f"position, {shown(low, unit)} … {shown(high, unit)}, about where it starts"))  # fmt: skip
                continue
            enough = self._enough(name) if led and drive.kind == "effort" else high
            if enough < high:
                self.task["actions"].append({"name": name, "drive": name, "limits": [said(-enough, unit), said(enough, unit)]})  # fmt: skip
                self.lines.append(Line("Actions", words, f"{drive.kind}, ±{show(enough, unit)} of ±{show(high, unit)}: what it carries and a quick motion ask for"))  # fmt: skip
                continue
            self.task["actions"].append({"name": name, "drive": name})
            self.lines.append(Line("Actions", words, f"{drive.kind}, {show(low)} … {show(high, unit)}"))

    def _enough(self, drive: str) -> float:
        """Effort of a drive that its joint needs; all of it where that is hardly less."""
        whole = self.look.machine.command_limit(drive)
        share = self.look.enough(str(self.look.machine.drives[drive].joint))
        return nice(share * whole) if share < 1.0 else whole

    def lead(self, joints: list[str], rate: float) -> None:
        """A rule to compare with, where every drive is a servo that is led: each towards what it has missed."""
        joint_of = {str(a["name"]): str(self.look.machine.drives[a["drive"]].joint) for a in self.task["actions"]}
        if all(a.get("kind") == "increment" for a in self.task["actions"]) and sorted(joint_of.values()) == sorted(
            joints
        ):
            gain = min(0.2 * rate, 2.0)
            commands = {a["name"]: f"clip({gain:.4g} * miss.{joint_of[a['name']]}, {-self._half(a):.4g}, {self._half(a):.4g})" for a in self.task["actions"]}  # fmt: skip
            self.task["rules"] = {"lead": {"commands": commands}}

    def _half(self, action: Mapping[str, Any]) -> float:
        """Half of the range of an action, SI."""
        machine, name = self.look.machine, action["drive"]
        if "limits" in action:
            unit = machine.drive_unit(name) + ("/s" if action.get("kind") == "increment" else "")
            return span((parse(action["limits"][0], unit), parse(action["limits"][1], unit)))
        return span(machine.command_range(name))

    def costs(self, share: float) -> None:
        """Small terms against effort and chatter, `share` of the reward a second at full command."""
        machine = self.look.machine
        actions = self.task["actions"]
        if not actions:
            return
        efforts = [a for a in actions if machine.drives[a["name"]].kind in ("effort", "thrust")]
        squares = [f"(action.{a['name']} / {self._half(a) if 'limits' in a else machine.command_limit(a['name']):.6g})**2" for a in efforts]  # fmt: skip
        self.small("effort", squares, share / max(len(efforts), 1), "drives stay cool")
        squares = [f"((action.{a['name']} - previous.action.{a['name']}) / {self._half(a):.4g})**2" for a in actions]
        self.small("chatter", squares, 2.0 * share / len(actions), "commands stay smooth")

    def clear_of_stops(self, joints: list[str]) -> None:
        """A term against resting on stops: with several joints many a policy lies down there, where little can be lost."""
        parts = []
        for joint in joints:
            if (limits := self.look.machine.joints[joint].limits) is not None:
                middle, tenth = 0.5 * (limits[0] + limits[1]), 0.05 * (limits[1] - limits[0])
                off = f"{joint}.position" if abs(middle) < 1e-6 else f"{joint}.position - {middle:.4g}" if middle > 0.0 else f"{joint}.position + {-middle:.4g}"  # fmt: skip
                parts.append(f"clip(abs({off}) / {tenth:.4g} - 9, 0, 1)")
        self.small("stops", parts, 0.5, "no way ends in the last twentieth before a stop")

    def small(self, name: str, costs: list[str], weight: float, why: str) -> None:
        """A term that costs the sum of some things; several terms where one formula cannot hold so many."""
        groups: list[list[str]] = []
        for cost in costs:
            if not groups or len(" + ".join([*groups[-1], cost])) > LONGEST_FORMULA:
                groups.append([])
            groups[-1].append(cost)
        for k, group in enumerate(groups):
            self.reward(f"{name}_{k + 1}" if len(groups) > 1 else name, f"-({' + '.join(group)})", weight, why)

    def joints(self, joints: list[str], why: str = "state is complete", by_speed: Collection[str] = ()) -> None:
        """Positions and speeds of joints: angles without stops by sine and cosine, of wheels and those `by_speed` the speed alone."""
        look, travel = self.look, self.look.travel
        for joint in joints:
            part = look.machine.joints[joint]
            words = joint.replace("_", " ")
            if joint not in {*look.wheels, *by_speed}:
                if part.limits is None and part.unit == "rad":
                    self.observe_angle(f"{words} angle", f"{joint}.position", "where it stands, whole turns left out")
                else:
                    free = max(travel.joints[joint], 0.1)  # a weak motor may not move it at all
                    reach = part.limits or (-free, free)
                    more = 0.08 * (reach[1] - reach[0])  # stops give way a little
                    reach = reach[0] - more, reach[1] + more
                    self.observe(f"{words} position", f"{joint}.position", part.unit, reach, "where it stands, between its stops")  # fmt: skip
            fast = max(
                travel.joints[joint], look.sprung_speed(joint), look.top_speed(joint) if joint in by_speed else 0.1
            )
            self.observe(f"{words} speed", f"{joint}.velocity", f"{part.unit}/s", nice(fast), why)

    def lags(self) -> None:
        """The last commands, where drives follow them late."""
        late = [n for n in self.look.machine.drives if self.look.machine.drives[n].lag or self.look.machine.drives[n].dead_time]  # fmt: skip
        for action in self.task["actions"]:
            if action["name"] in late:
                unit = self.look.machine.drive_unit(action["name"])
                reach = self.look.machine.command_range(action["name"])
                if action.get("kind") == "increment":
                    unit, reach = f"{unit}/s", (-self._half(action), self._half(action))
                self.observe(f"last {action['name'].replace('_', ' ')} command", f"previous.action.{action['name']}", unit, reach, "its drive follows late")  # fmt: skip

    def document(self, machine: str, site: str, wish: str) -> tomlkit.TOMLDocument:
        """The task file."""
        document = tomlkit.document()
        document.add(tomlkit.comment(f"Written from the wish to {wish}. Everything in it may be changed."))
        document["format"] = FORMAT
        document["name"] = self.name
        document["machine"], document["site"] = machine, site
        for key in ("timing", "setpoints", "signals", "observations", "actions", "rewards", "measure", "endings", "starts",
                    "placing", "variation", "target", "regulator", "rules"):  # fmt: skip
            value = self.task.get(key)
            if not value:
                continue
            if isinstance(value, list):
                rows = tomlkit.aot()
                for entry in value:
                    rows.append(_table(entry))
                document[key] = rows
            elif key in ("timing", "measure", "target", "starts", "variation", "placing", "regulator", "rules"):
                document[key] = _table(value)
            else:
                group = tomlkit.table(is_super_table=True)
                for name, entry in value.items():
                    group[name] = _table(entry)
                document[key] = group
        return document


def _table(entry: Mapping[str, Any]) -> tomlkit.items.Table:
    table = tomlkit.table()
    for key, value in entry.items():
        table[key] = editing.inline(value)
    return table


def entry_of(sensor: Any) -> dict[str, Any]:
    """What says which sensor it is."""
    given = sensor if isinstance(sensor, dict) else sensor.model_dump(exclude_defaults=True)
    return {k: tuple(parse(x, "m") for x in v) if k == "at" else v for k, v in given.items()}


def said(value: float, unit: str) -> str:
    """A quantity as a file says it."""
    if unit == "rad" and abs(value) > 1e-9:
        return f"{np.degrees(value):.5g} deg"
    return f"{value + 0.0:.6g} {unit}".strip()


def said_within(low: float, high: float, unit: str) -> list[str]:
    """A range of angles or ways as a file says it, rounded to its inside."""
    factor, written = (180.0 / np.pi, "deg") if unit == "rad" else (1.0, unit)
    found = []
    for value, inwards in ((low * factor, np.ceil), (high * factor, np.floor)):
        digit = 10.0 ** (np.floor(np.log10(abs(value))) - 4.0) if abs(value) > 1e-7 else 1.0
        # what is a round number but for the last bits of the conversion stays what it is
        number = value if abs(value / digit - round(value / digit)) < 1e-7 else digit * inwards(value / digit)
        found.append(f"{number + 0.0:.5g} {written}")
    return found


def shown(value: float, unit: str) -> str:
    """A quantity as people read it."""
    return show(float(np.degrees(value)), "deg") if unit == "rad" else show(value, unit)


def span(reach: tuple[float, float]) -> float:
    """Half of a range."""
    return 0.5 * (reach[1] - reach[0])


def answered(questions: tuple[Question, ...], answers: Mapping[str, str | float]) -> dict[str, float]:
    """A number in SI for every question: as answered, else as proposed.

    Raises
    ------
    FileError
        An answer to no question, in another unit, or outside what is possible.
    """
    known = {q.key: q for q in questions}
    found = {q.key: q.value for q in questions}
    for key, text in answers.items():
        if key not in known:
            raise FileError("wish", key, text, f"is asked by none; known are {', '.join(known)}")
        question = known[key]
        try:
            value = parse(text, question.unit.replace("Hz", "1/s"))
        except UnitError as error:
            raise FileError("wish", key, text, str(error)) from error
        if not question.least <= value <= question.most:
            raise FileError("wish", key, text, f"wanted {question.least:g} to {question.most:g} {question.unit}")
        found[key] = value
    return found
