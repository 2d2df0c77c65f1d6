"""The unit of the controller does, sample for sample, what the C does; FMPy checks it, unpacks it and drives it."""

from __future__ import annotations

import ctypes
from pathlib import Path

import fmpy
import numpy as np
import pytest
from fmpy.fmi3 import FMU3Slave
from fmpy.validation import validate_fmu

from plucky_heron.handover.contract import contract
from plucky_heron.handover.forms.c99 import to_c
from plucky_heron.handover.forms.controller import defaults_of, to_controller
from plucky_heron.handover.forms.controlling import controlling
from plucky_heron.handover.forms.fmu import SETTINGS, SWITCHES, to_controller_fmu, to_whole_fmu
from plucky_heron.handover.trying import sign_answers
from plucky_heron.handover.whole_check import HEAD, SOURCES, rows_of, run_whole_c
from plucky_heron.task.problem import Problem
from tests.handover.test_controller import Controller, random_policy, shaped
from tests.handover.test_controller_st import script
from tests.handover.test_signals import OBSERVED, crane
from tests.handover.test_whole_st import texts

__all__ = ["shaped"]  # the fixture


class Unit:
    """The unit as FMPy drives it."""

    def __init__(self, path: Path, folder: Path) -> None:
        self.description = fmpy.read_model_description(str(path))
        self.folder = fmpy.extract(str(path), str(folder))
        self.numbers = {v.name: v.valueReference for v in self.description.modelVariables}
        self.signals = [v.valueReference for v in self.description.modelVariables if v.causality == "input" and v.type == "Float32"]  # fmt: skip
        self.commands = [v.valueReference for v in self.description.modelVariables if v.causality == "output" and v.type == "Float32"]  # fmt: skip
        self.time = float(self.description.defaultExperiment.stepSize)
        self.unit = FMU3Slave(guid=self.description.guid, unzipDirectory=self.folder, modelIdentifier=self.description.coSimulation.modelIdentifier, instanceName="one")  # fmt: skip
        self.unit.instantiate()
        self.begin()

    def begin(self) -> None:
        """A new start."""
        self.unit.reset()
        self.unit.enterInitializationMode(startTime=0.0)
        self.unit.exitInitializationMode()
        self.now = 0.0

    def step(self, sensors: np.ndarray, asked: int, valid: bool, home: bool) -> tuple[int, int, list[float]]:
        """State, reason and commands after a sample; a fault is a warning of the unit."""
        self.unit.setFloat32(self.signals, [float(x) for x in sensors])
        self.unit.setInt32([self.numbers["heron_asked"]], [asked])
        self.unit.setBoolean([self.numbers["heron_valid"], self.numbers["heron_at_home"]], [valid, home])
        flags = [ctypes.c_bool() for _ in range(3)]
        reached = ctypes.c_double()
        status = self.unit.dll.fmi3DoStep(self.unit.component, ctypes.c_double(self.now), ctypes.c_double(self.time), ctypes.c_bool(True), *map(ctypes.byref, flags), ctypes.byref(reached))  # fmt: skip
        self.now += self.time
        state, reason = self.unit.getInt32([self.numbers["heron_state"], self.numbers["heron_reason"]])
        assert status == (1 if state == 5 else 0)
        return state, reason, list(self.unit.getFloat32(self.commands))


def test_the_unit_of_the_controller_does_what_the_c_does(shaped: Problem, tmp_path: Path) -> None:
    parts, policy = controlling(shaped), random_policy(shaped)
    answers = sign_answers(shaped, parts, [0.0, 0.0])
    inputs, outputs = contract(shaped)
    sources = to_c(policy, "t", inputs, outputs, shaped.sample_time)
    around = to_controller(parts, policy, "t", [10.0, 0.1], 0.1, answers)
    sources = {name: text for name, text in {**sources, **around}.items() if name in ("policy.h", "policy.c", "controller.h", "controller.c")}  # fmt: skip
    data = to_controller_fmu(sources, "t", list(parts.sensors), outputs, shaped.sample_time, defaults_of(0.1))
    assert data == to_controller_fmu(sources, "t", list(parts.sensors), outputs, shaped.sample_time, defaults_of(0.1))
    path = tmp_path / "controller.fmu"
    path.write_bytes(data)
    assert validate_fmu(str(path)) == []
    unit = Unit(path, tmp_path / "unpacked")
    started = dict(zip(SETTINGS, unit.unit.getFloat32([unit.numbers[f"heron_{s}"] for s in SETTINGS]), strict=True))
    assert started == pytest.approx({k: v for k, v in defaults_of(0.1).items() if k in SETTINGS})
    assert unit.unit.getBoolean([unit.numbers[f"heron_{s}"] for s in SWITCHES]) == [True, False, False, False, False]
    (tmp_path / "c").mkdir()
    controller = Controller(tmp_path / "c", policy, parts, shaped.sample_time, [10.0, 0.1], answers)
    rows = [row for row in script(shaped, 1, 900)]
    for row in rows:
        row[5] = -1.0  # taking over is a setting of the unit, not of a row
        row[0] = 0.0
    rows[0][0] = 1.0
    states, reasons, drives, _ = controller.run(rows)
    found = [unit.step(row[6:], int(row[2]), row[1] == 0.0, bool(row[4])) for row in rows]
    assert [f[0] for f in found] == states.tolist() and [f[1] for f in found] == reasons.tolist()
    np.testing.assert_array_equal(np.array([f[2] for f in found], dtype=np.float32), drives)
    assert {0, 3, 4, 5} <= set(states.tolist())
    for number in ("heron_needs_homing", "heron_check_range"):
        unit.unit.setBoolean([unit.numbers[number]], [True])
    unit.unit.setFloat32([unit.numbers["heron_authority"]], [0.5])
    assert unit.unit.getFloat32([unit.numbers["heron_authority"]]) == [0.5]
    unit.unit.terminate()
    unit.unit.freeInstance()


def test_the_unit_of_the_whole_controller_does_what_the_c_does(tmp_path: Path) -> None:
    """Of a foreign machine with joints, mixing and choices."""
    problem = crane(tmp_path, list(OBSERVED))
    code, files, _ = texts(problem)
    sources = {name: str(files[name]) for name in SOURCES}
    given, drives = code.lines()
    data = to_whole_fmu(sources, "t", given, drives, problem.sample_time, defaults_of(0.1))
    path = tmp_path / "whole.fmu"
    path.write_bytes(data)
    assert validate_fmu(str(path)) == []
    unit = Unit(path, tmp_path / "unpacked")
    described = [v for v in unit.description.modelVariables if v.causality == "output" and v.type == "Float32"]
    assert next((v.name, v.min, v.max, v.unit) for v in described) == ("turn", "-120.0", "120.0", "N*m")
    assert len(unit.signals) == len(code.signals) and len(unit.commands) == 4
    rows = rows_of(problem, code)
    rows[1:, 0], rows[::60, 2] = 0.0, 5.0  # begins once; after a fault it is reset
    (tmp_path / "c").mkdir()
    wanted = run_whole_c(sources, tmp_path / "c", rows, 4)
    found = [unit.step(row[HEAD:], int(row[2]), row[1] == 0.0, bool(row[4])) for row in rows]
    assert [[f[0], f[1]] for f in found] == wanted[:, :2].tolist()
    np.testing.assert_array_equal(np.array([f[2] for f in found]), wanted[:, 2:])
    assert {0, 3, 4, 5} <= {f[0] for f in found}
    unit.unit.terminate()
    unit.unit.freeInstance()
