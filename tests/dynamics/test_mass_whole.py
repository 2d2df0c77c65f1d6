"""Inertias as a whole: principal values and axes there and back, and the box of equal inertia against closed forms."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from plucky_heron.dynamics.mass import equal_box, inertia_of, principal

sides = st.tuples(*[st.floats(0.01, 5.0)] * 3)
turns = st.tuples(st.floats(-3.1, 3.1), st.floats(-1.5, 1.5), st.floats(-3.1, 3.1))


def box(mass: float, a: float, b: float, c: float) -> np.ndarray:
    """Principal values of a solid box (closed form)."""
    return mass / 12.0 * np.array([b * b + c * c, a * a + c * c, a * a + b * b])


def tensor(inertia: np.ndarray) -> np.ndarray:
    """As a matrix."""
    xx, yy, zz, xy, xz, yz = inertia
    return np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]])


@given(st.floats(0.01, 500.0), sides, turns)
def test_whatever_way_a_box_lies_its_inertia_comes_back(
    mass: float, abc: tuple[float, float, float], turn: tuple[float, float, float]
) -> None:
    values = box(mass, *abc)
    whole = inertia_of(values.tolist(), turn)
    axes = Rotation.from_euler("xyz", turn).as_matrix()
    assert np.allclose(tensor(whole), axes @ np.diag(values) @ axes.T, rtol=1e-9, atol=1e-9 * values.max())
    found, turned = principal(whole.tolist())
    assert np.allclose(np.sort(found), np.sort(values), rtol=1e-6, atol=1e-8 * values.max())
    assert np.allclose(inertia_of(found.tolist(), turned.tolist()), whole, rtol=1e-6, atol=1e-8 * values.max())
    # squared sides come back to what is left of the sums of the values
    assert np.allclose(np.sort(equal_box(mass, found)) ** 2, np.sort(abc) ** 2, rtol=1e-5, atol=1e-6 * max(abc) ** 2)
    # of all orders and signs, the one that turns least: every axis of three is nearest to its own
    assert (np.diag(Rotation.from_euler("xyz", turned).as_matrix()) >= -1e-9).sum() >= 2


def test_without_products_nothing_is_turned_and_the_order_stays() -> None:
    for values in ([3.0, 1.0, 2.5], [1.0, 1.0, 1.0], [2.0, 2.0, 1e-7]):
        found, turned = principal([*values, 0.0, 0.0, 0.0])
        assert found.tolist() == values and not turned.any()
    assert inertia_of([3.0, 1.0, 2.5], [0.0, 0.0, 0.0]).tolist() == [3.0, 1.0, 2.5, 0.0, 0.0, 0.0]
    assert np.allclose(equal_box(12.0, box(12.0, 0.4, 0.2, 0.1)), [0.4, 0.2, 0.1])
    assert equal_box(1.0, [1.0, 1.0, 3.0])[2] == 0.0  # no solid has it
    assert sorted(principal([2.0, 2.0, 2.0, 0.5, 0.0, 0.0])[0]) == pytest.approx([1.5, 2.0, 2.5])
