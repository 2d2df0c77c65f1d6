"""Lifting surfaces are drawn where they act, with the area that they have."""

from __future__ import annotations

import numpy as np
import pytest

from plucky_heron.desktop.picture.scene import SLENDER, wing_corners
from plucky_heron.machine.schema import Wing


@pytest.mark.parametrize(
    ("chord", "normal"), [((1, 0, 0), (0, 0, 1)), ((1, 0, 0.05), (-0.05, 0, 1)), ((1, 0, 0), (0, 1, 0)), ((0, 2, 0), (1, 1, 0))]
)  # fmt: skip
def test_a_wing_is_a_rectangle_of_its_area_across_its_chord(
    chord: tuple[float, ...], normal: tuple[float, ...]
) -> None:
    wing = Wing.model_validate(
        {"kind": "wing", "body": "hull", "at": (0.3, -0.2, 0.1), "chord": chord, "normal": normal, "area": 0.36}
    )
    corners = wing_corners(wing)
    assert np.allclose(corners.mean(axis=0), (0.3, -0.2, 0.1))
    span, deep = corners[0] - corners[1], corners[1] - corners[2]
    assert np.linalg.norm(np.cross(span, deep)) == pytest.approx(0.36)
    assert np.linalg.norm(span) == pytest.approx(SLENDER * np.linalg.norm(deep))
    assert span @ np.array(chord) == pytest.approx(0.0, abs=1e-12) and span @ np.array(normal) == pytest.approx(
        0.0, abs=1e-12
    )
