"""The rotor of a drive turns with the body that carries it, and takes its torque there."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.plant import accelerations
from plucky_heron.machine.schema import Machine
from tests.dynamics.test_turning_laws import RATES, losses, spun, tumblers, weightless


def geared(kind: str, armature: float, gear: float) -> dict[str, Any]:
    """A tumbler of the turning laws whose hinges have rotors."""
    data = tumblers()[kind]
    for joint in data["joints"].values():
        if joint["kind"] == "hinge":
            joint |= {"armature": armature, "gear": gear}
    return data


@pytest.mark.parametrize("kind", ["chain", "limbs", "wheel"])
@pytest.mark.parametrize("gear", [1.0, 6.0, 100.0])
def test_a_machine_with_rotors_keeps_energy_and_momentum(kind: str, gear: float) -> None:
    energy, momentum, angle = losses(spun(weightless(geared(kind, 0.01, gear)), RATES[0]), 5.0)
    assert energy < 0.005 and momentum < 0.005 and angle < 1.0, (energy, momentum, angle)


def test_without_gear_a_rotor_is_inertia_of_the_child_about_its_axis() -> None:
    """Both turn at the same rate: energy, and so every acceleration, is the same as with the inertia in the body."""
    rotor = geared("wheel", 0.0008, 1.0)
    body = tumblers()["wheel"]
    body["bodies"]["w"]["inertia"] = [0.0015, 0.0015, 0.0028]
    rotor["bodies"]["w"]["inertia"] = [0.0015, 0.0015, 0.0020]
    generator = np.random.default_rng(3)
    for _ in range(10):
        models = [build_model(Machine.model_validate({"name": "m", **data})) for data in (rotor, body)]
        position = models[0].start + np.concatenate([generator.normal(size=len(models[0].start) - 1), [0.0]])
        position[[3, 4, 5, -1]] /= np.linalg.norm(position[[3, 4, 5, -1]])
        speed = 5.0 * generator.normal(size=len(models[0].joints))
        one, two = (accelerations(model, position, speed) for model in models)
        np.testing.assert_allclose(one, two, rtol=1e-9, atol=1e-9)


def test_a_motor_that_speeds_up_pushes_back_on_its_base() -> None:
    """Base on a hinge, rotor alone on it (1 / N of its share geared): A (q + w / N) keeps what it has about the axis."""
    rotor, base, gear = 0.02, 0.5, 8.0
    model = build_model(Machine.model_validate({
        "name": "m",
        "bodies": {"base": {"mass": 1.0, "inertia": [base] * 3}, "tip": {"mass": 1e-6, "inertia": [1e-9] * 3}},
        "joints": {
            "table": {"kind": "hinge", "child": "base", "axis": [0, 0, 1]},
            "motor": {"kind": "hinge", "parent": "base", "child": "tip", "axis": [0, 0, 1], "armature": rotor, "gear": gear},
        },
        "drives": {"d": {"kind": "effort", "joint": "motor", "limit": 10.0}},
    }))  # fmt: skip
    table, motor = accelerations(model, model.start, np.zeros(2), command=np.array([3.0]))
    # Lagrange: A (q + w / N)' = 3, and base w' + A / N (q + w / N)' = 0
    assert table == pytest.approx(-3.0 / gear / base, rel=1e-6)
    assert motor + table / gear == pytest.approx(3.0 / rotor, rel=1e-4)


def test_a_free_joint_damps_metres_and_radians_apart() -> None:
    plant = weightless({
        "bodies": {"b": {"mass": 2.0, "inertia": [0.1, 0.1, 0.1]}},
        "joints": {"base": {"kind": "free", "child": "b", "damping": 0.3, "slide_damping": 5.0}},
    })  # fmt: skip
    plant.velocity[0] = [1.0, -2.0, 0.5, 0.0, 0.0, 4.0]
    plant.step(np.zeros((1, 0)), 200)
    np.testing.assert_allclose(plant.velocity[0, :3], np.exp(-5.0 / 2.0 * 0.4) * np.array([1.0, -2.0, 0.5]), rtol=1e-4)
    assert plant.velocity[0, 5] == pytest.approx(4.0 * np.exp(-0.3 / 0.1 * 0.4), rel=1e-4)


@pytest.mark.parametrize(("kind", "words"), [("hinge", "slides along no axes"), ("ball", "slides along no axes")])
def test_slide_damping_of_what_does_not_slide_is_refused(kind: str, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        Machine.model_validate({
            "name": "m",
            "bodies": {"b": {"mass": 2.0, "inertia": [0.1, 0.1, 0.1]}},
            "joints": {"j": {"kind": kind, "child": "b", "slide_damping": 5.0}},
        })  # fmt: skip
