"""What a new entry of a file says at first: the least that it must, from what the project has."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from pydantic import BaseModel

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.schema import specs_of
from plucky_heron.desktop.forms.schema_form import Path
from plucky_heron.machine.schema import GROUND
from plucky_heron.task.problem import Problem

SIZES = {"box": ["0.2 m", "0.2 m", "0.2 m"], "sphere": ["0.1 m"], "capsule": ["0.05 m", "0.3 m"], "cylinder": ["0.1 m", "0.2 m"], "bucket": ["0.3 m", "0.2 m", "0.3 m"]}  # fmt: skip


class NewEntry:
    """Proposals for an entry of a file of one kind, beside the one that is chosen (`at`)."""

    def __init__(self, bench: Workbench, kind: str, at: Path) -> None:
        self.bench, self.kind, self.at = bench, kind, at

    def options(self, key: str) -> Sequence[str] | None:
        """Names that a key may take; None where it takes any text."""
        problem = self.bench.problem
        if problem is None:
            return None
        machine, task, project = problem.machine, problem.task, self.bench.project
        bodies, joints = list(machine.bodies), [n for n, j in machine.joints.items() if j.kind in ("hinge", "slider")]
        known: dict[str, Sequence[str]] = {
            "body": bodies, "wheel": bodies, "tank": list(machine.tanks), "follows": joints,
            "child": bodies, "parent": [GROUND, *bodies], "a": [GROUND, *bodies], "b": [GROUND, *bodies],
        }  # fmt: skip
        if self.kind == "machines":
            known["joint"] = joints if self.at[:1] != ("sensors",) else list(machine.joints)
            known["mark"] = list(problem.site.marks)
        if self.kind == "tasks":
            known |= {"drive": list(machine.drives), "ending": list(task.endings), "machine": project.machines(), "site": project.sites()}  # fmt: skip
        return known.get(key)

    def template(self, model: type[BaseModel], kind: str) -> dict[str, Any]:
        """The least that an entry must say, from what there is."""
        entry: dict[str, Any] = {"kind": kind} if kind else {}
        special = {"Shape": self._shape, "Drive": self._drive, "Sensor": self._sensor}.get(model.__name__)
        if special is not None:
            return entry | special(kind)
        if model.__name__ == "Distribution":
            return {"uniform": [0, 0]}
        for spec in specs_of(model):
            if not spec.required or spec.key in entry:
                continue
            names = self.options(spec.key)
            if names:
                entry[spec.key] = names[-1] if spec.key == "joint" else names[0]
            elif spec.kind == "group" and spec.inner is not None:
                entry[spec.key] = self.template(spec.inner, "")
            elif spec.kind == "numbers":
                entry[spec.key] = [1] * spec.count
            elif spec.kind == "choice":
                entry[spec.key] = spec.options[0]
            elif spec.kind == "pairs":
                entry[spec.key] = {self._first(n for n in (c.name for c in self._problem.commands)): "0"}
            else:
                entry[spec.key] = {"formula": "0", "name": self._free(model.__name__.lower()), "file": ""}.get(
                    spec.key, 1
                )
        return entry | self._more(model.__name__, kind)

    def _more(self, schema: str, kind: str) -> dict[str, Any]:
        """What an entry wants besides its required keys."""
        bodies, drives = list(self._problem.machine.bodies), self._problem.model.drives
        if schema in ("Rod", "Pin"):
            return {"a": bodies[0], "b": bodies[1] if len(bodies) > 1 else GROUND}
        found: dict[str, dict[str, Any]] = {
            "Course": {"points": [[0, 0], [10, 0]]}, "Wall": {"points": [[0, 0], [2, 0]]},
            "Observation": {"range": [0, 10], "formula": "time", "unit": "s"}, "Ending": {"formula": "time > 1000"},
            "Action": {"drive": drives[0]} if drives else {"limits": [-1, 1]},
        }  # fmt: skip
        return found.get(schema, {}) | ({"limits": [-1, 1]} if schema == "Action" and kind == "increment" else {})

    @property
    def _problem(self) -> Problem:
        assert self.bench.problem is not None, "a sheet is of something that can be read"
        return self.bench.problem

    @staticmethod
    def _first(names: Iterable[str]) -> str:
        return next(iter(names), "")

    def _shape(self, kind: str) -> dict[str, Any]:
        corners = [[x, y, z] for x in (0, 0.2) for y in (0, 0.2) for z in (0, 0.2)]
        return {"points": corners} if kind == "hull" else {"size": SIZES.get(kind, ["0.1 m"])}

    def _sensor(self, kind: str) -> dict[str, Any]:
        machine = self._problem.machine
        if kind == "joint":
            return {"joint": self._first(n for n, j in machine.joints.items() if j.letters)}
        return {"body": self._first(machine.bodies)} | (
            {"mark": self._first(self._problem.site.marks)} if kind == "bearing" else {}
        )

    def name(self, section: str, kind: str) -> str:
        """A name for a new entry; where names mean something, one that does."""
        task, model = self._problem.task, self._problem.model
        meant: dict[str, Iterable[str]] = {
            "starts": (f"{j}.position" for j in model.joints if f"{j}.position" not in task.starts),
            "variation": (p for p in model.parameters if p not in task.variation),
            "placing": (n for n in self._problem.machine.joints if f"{n}.x" in model.joints and n not in task.placing),
        }
        if self.kind == "tasks" and section in meant:
            return self._first(meant[section]) or section
        stem = {"bodies": "body"}.get(section, section.removesuffix("s"))
        return (kind or stem).replace(" ", "_")

    def _free(self, word: str) -> str:
        document = self.bench.document(self.kind)
        taken = {e.get("name") for key in ("observations", "actions") for e in document.get(key, [])}
        return next(n for n in (word, *(f"{word}_{k}" for k in range(2, 999))) if n not in taken)

    def _drive(self, kind: str) -> dict[str, Any]:
        problem = self._problem
        bodies = list(problem.machine.bodies)
        joints = list(self.options("joint") or [])
        slider = bool(joints) and problem.machine.joints[joints[-1]].kind == "slider"
        force = "N" if slider else "N*m"
        if kind == "thrust":
            return {"body": bodies[0] if bodies else "", "limit": "10 N"}
        if kind == "drain":
            return {"tank": next(iter(self.options("tank") or [""])), "limit": "1 kg/s"}
        entry: dict[str, Any] = {"joint": joints[-1] if joints else "", "limit": f"10 {force}"}
        if kind == "speed":
            entry |= {"top_speed": f"1 {'m/s' if slider else 'rad/s'}", "gain": 10}
        return entry | ({"gain": 50, "rate_gain": 5} if kind == "position" else {})
