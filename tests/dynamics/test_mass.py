"""Mass properties from shapes: closed forms, parallel axes, and what has no volume."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plucky_heron.dynamics.mass import solid
from plucky_heron.errors import StateError
from plucky_heron.machine.parts import Shape
from plucky_heron.task.project_files import solid_inertia

SIZE = st.floats(0.02, 3.0)


@given(SIZE, SIZE, SIZE, st.floats(0.1, 100.0))
def test_a_box_is_a_box(a: float, b: float, c: float, mass: float) -> None:
    found, centre, inertia = solid([Shape(kind="box", size=(a, b, c))], mass=mass)
    wanted = np.array([b * b + c * c, a * a + c * c, a * a + b * b]) * mass / 12.0
    assert found == pytest.approx(mass) and centre == pytest.approx(np.zeros(3), abs=1e-9)
    assert inertia[:3] == pytest.approx(wanted, rel=1e-9) and np.abs(inertia[3:]).max() < 1e-9 * wanted.max()
    assert solid_inertia("box", [a, b, c], mass) == pytest.approx(tuple(wanted))


@pytest.mark.parametrize(("kind", "size"), [("sphere", [0.3]), ("cylinder", [0.2, 0.7]), ("capsule", [0.1, 0.5])])
def test_round_shapes_come_near_their_closed_forms(kind: str, size: list[float]) -> None:
    shape = Shape.model_validate({"kind": kind, "size": size})
    _, _, inertia = solid([shape], mass=2.0)
    assert inertia[:3] == pytest.approx(solid_inertia(kind, size, 2.0), rel=0.02)
    density = solid([shape], density=1000.0)[0]
    r = size[0]
    volume = {"sphere": 4 / 3 * np.pi * r**3, "cylinder": np.pi * r**2 * size[-1], "capsule": np.pi * r**2 * (size[-1] + 4 / 3 * r)}[kind]  # fmt: skip
    assert density == pytest.approx(1000.0 * volume, rel=0.01)


def test_two_boxes_follow_the_parallel_axis_theorem() -> None:
    one = Shape(kind="box", size=(0.2, 0.2, 0.2), at=(0.5, 0.0, 0.0))
    other = Shape(kind="box", size=(0.2, 0.2, 0.2), at=(-0.5, 0.0, 0.3))
    mass, centre, inertia = solid([one, other], mass=4.0)
    own = 2.0 * 2.0 * (0.08) / 12.0
    assert mass == 4.0 and centre == pytest.approx([0.0, 0.0, 0.15])
    assert inertia[0] == pytest.approx(own + 4.0 * 0.15**2)
    assert inertia[1] == pytest.approx(own + 4.0 * (0.15**2 + 0.5**2))
    assert inertia[4] == pytest.approx(-2.0 * (0.5 * -0.15 + -0.5 * 0.15)), "xz, with its sign"


def test_a_turned_box_has_a_turned_inertia() -> None:
    straight = solid([Shape(kind="box", size=(1.0, 0.2, 0.1))], mass=3.0)[2]
    turned = solid([Shape(kind="box", size=(1.0, 0.2, 0.1), turn=(0.0, 0.0, np.pi / 2))], mass=3.0)[2]
    assert turned[[1, 0, 2]] == pytest.approx(straight[:3])


def test_without_a_volume_or_with_two_answers_it_is_refused() -> None:
    with pytest.raises(StateError, match="no shape with a volume"):
        solid([], mass=1.0)
    with pytest.raises(StateError, match="either a mass or a density"):
        solid([Shape(kind="sphere", size=(0.1,))], mass=1.0, density=2.0)
