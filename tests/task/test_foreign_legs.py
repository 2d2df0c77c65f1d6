"""Legs of others: knees without stops, wheels instead of feet, arms and a waist above."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.files import validate
from plucky_heron.machine.site import Site
from plucky_heron.task.wishes.catalogue import WISHES
from plucky_heron.task.wishes.look import look_at
from tests.task.test_foreign_imports import LYING, WHEEL, body, box, brought, joint, limits, wish


def legs(count: int, stops: bool = True, wheels: bool = False) -> list[str]:
    """A trunk on legs of a thigh and a shank of 0.3 m each."""
    parts = [body("trunk", 8.0, box(0.4, 0.3, 0.15))]
    for k in range(count):
        x, y = (0.0 if count == 2 else 0.18 * (-1) ** (k // 2)), 0.16 * (-1) ** k
        limit = limits(-2.4, 2.4, 60.0, 10.0) if stops else 'effort="60" velocity="10"'
        parts += [body(f"thigh{k}", 0.8), joint(f"hip{k}", "trunk", f"thigh{k}", f"{x} {y} -0.05", "0 1 0", limit)]
        parts += [body(f"shank{k}", 0.6, "" if wheels else box(0.03, 0.03, 0.3), "0 0 -0.15")]
        parts.append(joint(f"knee{k}", f"thigh{k}", f"shank{k}", "0 0 -0.3", "0 1 0", limit))
        if wheels:
            parts += [body(f"roll{k}", 0.5, WHEEL, turn=LYING), joint(f"spin{k}", f"shank{k}", f"roll{k}", f"0 {0.04 * (-1) ** k} -0.3", "0 1 0", 'effort="8" velocity="40"')]  # fmt: skip
    return parts


def arms(parent: str) -> list[str]:
    """A waist, and two arms of two joints that hang from a chest."""
    parts = [
        body("chest", 5.0, box(0.2, 0.3, 0.3), "0 0 0.15"),
        joint("waist", parent, "chest", "0 0 0.1", "0 0 1", limits(-1.0, 1.0, 50.0)),
    ]
    for side, y in (("left", 0.2), ("right", -0.2)):
        parts += [
            body(f"{side}_upper", 0.8),
            joint(f"{side}_shoulder", "chest", f"{side}_upper", f"0 {y} 0.3", "0 1 0", limits(-2.0, 2.0)),
        ]
        parts += [body(f"{side}_fore", 0.5, box(0.04, 0.04, 0.2), "0 0 -0.1"), joint(f"{side}_elbow", f"{side}_upper", f"{side}_fore", "0 0 -0.2", "0 1 0", limits(-2.0, 0.0))]  # fmt: skip
    return parts


@pytest.mark.parametrize("stops", [True, False])
def test_legs_take_positions_with_stops_and_without(tmp_path: Path, stops: bool) -> None:
    _, machine = brought(tmp_path, legs(4, stops))
    assert {d.kind for d in machine.drives.values()} == {"position"} and len(machine.drives) == 8
    draft = wish(machine, "walk forward")
    for action in draft.task["actions"]:
        low, high = (float(v.split()[0]) for v in action["limits"])
        start = float(np.degrees(np.ravel(machine.joints[str(machine.drives[action["name"]].joint)].start)[0]))
        assert 0.5 * (low + high) == pytest.approx(start, abs=0.01) and high - low == pytest.approx(
            np.degrees(1.0), abs=0.01
        )


def test_arms_above_legs_are_held_and_the_legs_walk(tmp_path: Path) -> None:
    report, machine = brought(tmp_path, [*legs(2), *arms("trunk")])
    above = {"waist", "left_shoulder", "left_elbow", "right_shoulder", "right_elbow"}
    assert {d.kind for d in machine.drives.values()} == {"position"}
    assert {a.part for a in report.assumed if "while it travels" in a.words} == above
    draft = wish(machine, "walk forward")
    assert {a["name"] for a in draft.task["actions"]} == {"hip0", "knee0", "hip1", "knee1"}
    sensed = " ".join(str(o["formula"]) for o in draft.task["observations"])
    assert "hip0.velocity" in sensed and not any(f"{j}.velocity" in sensed for j in above)


def test_two_feet_stand_below_the_middle_of_all_mass(tmp_path: Path) -> None:
    """Arms that lie ahead of the trunk would tip it over if each foot stood below its hip."""
    load = [body("load", 4.0, box(0.1, 0.1, 0.1)), joint("carries", "trunk", "load", "0.3 0 0.1")]
    for more, ahead in (([], 0.0), (load, 0.06)):
        _, machine = brought(tmp_path, [*legs(2), *more])
        look = look_at(machine, Site())
        start = look.model.start[None]
        feet = [look.points(start, f"shank{k}", np.array([0.0, 0.0, -0.3]))[0] for k in range(2)]
        middle = look.middles(start)[0]
        assert np.mean(feet, axis=0)[0] == pytest.approx(middle[0], abs=0.02)
        assert middle[0] > ahead or not more


def test_wheels_under_legs_are_pushed_and_the_legs_are_commanded_about_their_stand(tmp_path: Path) -> None:
    _, machine = brought(tmp_path, legs(2, wheels=True))
    kinds = {str(d.joint): d.kind for d in machine.drives.values()}
    assert {j: k for j, k in kinds.items() if j.startswith("spin")} == {"spin0": "effort", "spin1": "effort"}
    assert {k for j, k in kinds.items() if not j.startswith("spin")} == {"position"}
    starts = {n: float(np.ravel(j.start)[0]) for n, j in machine.joints.items() if j.kind == "hinge"}
    assert starts["spin0"] == 0.0 and abs(starts["knee0"]) > 0.5  # a wheel has no stand; a knee is bent
    look = look_at(machine, validate(Site, {"terrain": {"kind": "flat"}}, "site"))
    assert set(look.perched) == {"hip0", "knee0", "hip1", "knee1"}
    assert "walk forward" not in {w.name for w in WISHES if not w.unfit(look)}
    for action in wish(machine, "follow a set-point").task["actions"]:
        if not action["name"].startswith("spin"):
            low, high = (float(v.split()[0]) for v in action["limits"])
            assert high - low == pytest.approx(np.degrees(1.0), abs=0.01)
