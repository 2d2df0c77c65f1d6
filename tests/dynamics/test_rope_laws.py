"""A rope pulls and never pushes, however it is damped; the contact solver says when it was not done."""

from __future__ import annotations

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.machine.schema import Machine
from plucky_heron.project import demo_source
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import read_problem


@pytest.mark.parametrize("damping", [0.0, 20.0, 500.0])
@pytest.mark.parametrize("integrator", ["semi-implicit", "rk4"])
def test_a_damped_rope_never_pushes(damping: float, integrator: str) -> None:
    """A ball thrown up on its rope: slack, it falls as freely as without; taut, it is only ever held back."""
    rope = {"kind": "spring", "a": "ground", "b": "b", "at_a": [0, 0, 0], "at_b": [0, 0, 0], "stiffness": 2000.0, "rest": 1.0, "damping": damping, "pulls_only": True}  # fmt: skip
    data = {
        "name": "rope",
        "bodies": {"b": {"mass": 1.0, "inertia": [0.01, 0.01, 0.01]}},
        "joints": {"j": {"kind": "slider", "child": "b", "axis": [0, 0, 1], "start": -1.0}},
    }  # fmt: skip
    model = build_model(Machine.model_validate({**data, "forces": {"rope": rope}}), air_density=0.0)
    plant = Plant(model, 1, 0.001, integrator, threads=1)
    plant.velocity[0] = 3.0
    taut = 0
    for _ in range(2000):
        before, place = float(plant.velocity[0, 0]), float(plant.position[0, 0])
        plant.step(np.zeros((1, 0)), 1)
        pull = (float(plant.velocity[0, 0]) - before) / 0.001 + 9.81
        assert pull > -1e-6, (place, before, pull)
        if place > -0.99 and plant.position[0, 0] > -0.99:
            assert abs(pull) < 1e-6
        taut += pull > 1.0
    assert taut > 20


@pytest.mark.parametrize("task", ["follow", "walk", "climb", "hang"])
def test_contacts_are_solved_under_random_commands(task: str) -> None:
    """To 1 mm/s in 99 of 100 steps, under what training meets."""
    problem = read_problem(demo_source(), task)
    batch, generator = Batch(problem, 16, 1, "solved", 1), np.random.default_rng(1)
    batch.start(np.arange(16))
    unsolved, steps, touched = 0, 0, 0
    for _ in range(60):
        batch.step(generator.uniform(problem.low, problem.high, (16, len(problem.low))))
        unsolved += int(batch.plant.unsolved.sum())
        steps += int(batch.running.sum()) * problem.task.timing.substeps
        touched += int(batch.plant.contact_count.sum())
        batch.running[:] = True
    assert touched > 100 and unsolved < 0.01 * steps, (unsolved, steps)
