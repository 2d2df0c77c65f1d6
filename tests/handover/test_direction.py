"""Positive directions that nobody stated are told from the machine's geometry, and hold in the simulation."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.dynamics.energy import poses
from plucky_heron.handover.contract import contract
from plucky_heron.handover.forms.direction import direction_of_joint, direction_of_signal
from plucky_heron.machine.schema import Machine
from plucky_heron.project import Project
from tests.handover.test_signals import crane

AXES = [
    ((0, 0, 1), (0, 0, 0), "z"), ((0, -2, 0), (0, 0, 0), "-y"), ((0, 0, 1), ("90 deg", 0, 0), "-y"), ((0.6, 0, 0.8), (0, 0, 0), "(0.6, 0, 0.8)"),
]  # fmt: skip


def linked(kind: str, axis: tuple[float, ...], turn: tuple[object, ...]) -> Machine:
    """One body on one joint."""
    return Machine.model_validate(
        {"format": 2, "name": "one", "bodies": {"arm": {"mass": "1 kg"}},
         "joints": {"elbow": {"kind": kind, "child": "arm", "axis": axis, "turn": turn}}}
    )  # fmt: skip


@pytest.mark.parametrize(("axis", "turn", "words"), AXES)
def test_the_axis_that_is_told_is_the_one_that_the_body_moves_by(
    axis: tuple[float, ...], turn: tuple[object, ...], words: str
) -> None:
    for kind, way in (("hinge", "right-handed about"), ("slider", "along")):
        machine = linked(kind, axis, turn)
        assert direction_of_joint(machine, "elbow") == f"{way} {words} of the site"
        before, after = (poses(machine, {"elbow": at})["arm"] for at in (0.0, 1e-3))
        told = np.array(axis_of(words))
        if kind == "slider":
            np.testing.assert_allclose((after - before)[:3, 3], 1e-3 * told, atol=1e-9)
        else:
            spin = after[:3, :3] @ before[:3, :3].T
            found = np.array([spin[2, 1] - spin[1, 2], spin[0, 2] - spin[2, 0], spin[1, 0] - spin[0, 1]]) / 2e-3
            np.testing.assert_allclose(found, told, atol=1e-6)


def axis_of(words: str) -> list[float]:
    """The direction that words say."""
    if words[-1] == ")":
        return [float(part) for part in words.strip("()").split(", ")]
    return [(-1.0 if words[0] == "-" else 1.0) * (words[-1] == letter) for letter in "xyz"]


def test_what_was_stated_in_words_stays_and_what_is_no_joint_is_not_told() -> None:
    machine = linked("hinge", (0, 0, 1), (0, 0, 0))
    assert direction_of_signal(machine, "elbow.velocity") == "right-handed about z of the site"
    assert direction_of_signal(machine, "-elbow.velocity") == direction_of_signal(machine, "arm.velocity.x") == ""
    stated = machine.joints["elbow"].model_copy(update={"positive": "upwards"})
    assert direction_of_joint(machine.model_copy(update={"joints": {"elbow": stated}}), "elbow") == "upwards"
    assert direction_of_joint(linked("ball", (0, 0, 1), (0, 0, 0)), "elbow") == ""
    for kind, words in (("planar", "forward, up; nose down"), ("slider", "")):
        stated = (
            linked(kind, (0, 1, 0), (0, 0, 0)).joints["elbow"].model_copy(update={"positive": "forward, up; nose down"})
        )
        assert direction_of_signal(machine.model_copy(update={"joints": {"elbow": stated}}), "elbow.x") == words


def test_a_contract_says_them(tmp_path: Path) -> None:
    problem = crane(tmp_path, [("turned", "turn.angle", "rad", 4.0), ("twice", "turn.angle * 2", "rad", 8.0)])
    inputs, outputs = contract(problem)
    assert [i.positive for i in inputs] == ["to the left", ""]
    told = {o.name: o.positive for o in outputs}
    assert told["twist"] == "right-handed about z of bracket"  # goes to its drive; the others are mixed or choices
    assert not any(words for name, words in told.items() if name != "twist")
    own = Project(Path(__file__).parents[2] / "benchmarks" / "unseen").problem("hover")  # nothing stated there
    assert [o.positive for o in contract(own)[1]] == ["pushes bar along its z"] * 2
