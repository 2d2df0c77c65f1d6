"""Files differ in which of a vehicle's axes points ahead: one that goes along its own y gets the same task as one that goes along x."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.project import Project, create, demo_source
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import Problem
from plucky_heron.task.wishes.look import look_at
from tests.task.test_foreign_imports import WHEEL, body, box, joint, limits, wish
from tests.task.test_wishes_leaning import stilter

COPIES = 6


def rover(folder: Path, ahead: str, mass_at: str = "0.05 0.02 0") -> str:
    """Four wheels under a box, none of them steered; `ahead` is the axis along which it goes."""

    def at(x: float, y: float, z: float) -> str:
        return f"{x} {y} {z}" if ahead == "x" else f"{-y} {x} {z}"

    lying, axle = ("1.570796 0 0", "0 1 0") if ahead == "x" else ("0 1.570796 0", "-1 0 0")
    parts = [
        body("deck", 20.0, box(0.7, 0.4, 0.2) if ahead == "x" else box(0.4, 0.7, 0.2)),
        body("box", 2.0, box(0.1, 0.1, 0.1)),
        joint("bolts", "deck", "box", at(0.2, 0.05, 0.15)),
    ]
    for row, x in (("front", 0.27), ("rear", -0.27)):
        for side, y in (("left", 0.28), ("right", -0.28)):
            name = f"{row}_{side}"
            parts.append(body(f"{name}_wheel", 1.0, WHEEL, turn=lying))
            parts.append(joint(name, "deck", f"{name}_wheel", at(x, y, -0.06), axle, 'effort="8" velocity="14"'))
    path = folder / ahead / "rover.urdf"
    path.parent.mkdir()
    path.write_text(f'<robot name="rover">{"".join(parts)}</robot>')
    return str(path)


def walker(folder: Path, ahead: str) -> str:
    """A trunk on four legs of three joints; `ahead` is the axis along which they swing."""

    def along(x: float, y: float, z: float = 0.0) -> str:
        return f"{x} {y} {z}" if ahead == "x" else f"{-y} {x} {z}"

    long, thin, flat = (0.5, 0.22, 0.1), (0.04, 0.04, 0.2), (0.06, 0.03, 0.2)
    shapes = [box(*s) if ahead == "x" else box(s[1], s[0], s[2]) for s in (long, thin, flat)]
    parts = [body("trunk", 9.0, shapes[0])]
    for row, x in (("front", 0.2), ("rear", -0.2)):
        for side, y in (("left", 0.12), ("right", -0.12)):
            name = f"{row}_{side}"
            hips, thigh, shin = f"{name}_hips", f"{name}_thigh", f"{name}_shin"
            parts += [
                body(hips, 0.3),
                joint(f"{name}_spread", "trunk", hips, along(x, y), along(1, 0), limits(-0.5, 0.5, 20.0, 9.0)),
                body(thigh, 0.5, shapes[1], "0 0 -0.1"),
                joint(f"{name}_swing", hips, thigh, along(0, 0), along(0, 1), limits(-1.2, 1.2, 20.0, 9.0)),
                body(shin, 0.3, shapes[2], "0 0 -0.1"),
                joint(f"{name}_knee", thigh, shin, "0 0 -0.2", along(0, 1), limits(-2.2, 0.0, 20.0, 9.0)),
            ]
    path = folder / ahead / "walker.urdf"
    path.parent.mkdir()
    path.write_text(f'<robot name="walker">{"".join(parts)}</robot>')
    return str(path)


@pytest.fixture(scope="module")
def pair(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """The same rover in two frames, a project each."""
    folder = tmp_path_factory.mktemp("azimuth")
    return tuple(create(folder / f"of_{ahead}", rover(folder, ahead)).folder for ahead in "xy")  # type: ignore[return-value]


def observed(problem: Problem, samples: int) -> tuple[np.ndarray, np.ndarray]:
    """What some copies observe under the same commands, (samples, copies, numbers), and what they are rewarded with."""
    batch = Batch(problem, COPIES, 7, "test", threads=1)
    batch.start(np.arange(COPIES))
    drawn = np.random.default_rng(2).uniform(-0.6, 0.6, (samples // 5 + 1, COPIES, len(problem.commands)))
    seen, rewards = [batch.observe().copy()], []
    for k in range(samples):
        out = batch.step(drawn[k // 5] * problem.high)
        seen.append(batch.observe().copy())
        rewards.append(out.reward.copy())
    return np.array(seen), np.array(rewards)


@pytest.mark.parametrize("name", ["dock", "follow a set-point", "go along a course"])
def test_the_same_rover_in_another_frame_observes_the_same(pair: tuple[Path, Path], name: str) -> None:
    found = []
    for folder in pair:
        project = Project(folder)
        problem = project.problem(project.write_wish("rover", name, name=f"tried_{name.replace(' ', '_')}").task)
        found.append((problem, *observed(problem, 25)))
    (first, seen, rewards), (second, others, their_rewards) = found
    assert not look_at(first.machine, first.site).faces_left and look_at(second.machine, second.site).faces_left
    assert [e.name for e in first.entries] == [e.name for e in second.entries]
    assert np.ptp(seen, axis=(0, 1)).min() > 0.1  # everything changes
    # starts are written with few figures
    assert np.abs(seen - others).max() < 2e-3 and np.abs(rewards - their_rewards).max() < 2e-3


def test_what_falls_along_its_y_senses_how_fast_it_rides(tmp_path: Path) -> None:
    for axle, letter in (("y", "x"), ("x", "y")):
        folder = tmp_path / axle
        folder.mkdir()
        draft = wish(stilter(folder, axle=axle), "balance")
        formulas = {o["name"]: o["formula"] for o in draft.task["observations"]}
        assert formulas["speed ahead"] == f"post.own.velocity.{letter}"
        assert formulas["lean rate"] == f"post.own.rate.{'x' if letter == 'y' else 'y'}"


def test_what_goes_all_ways_goes_along_its_x() -> None:
    project = Project(demo_source())
    for task in ("dock", "lane", "station", "brace"):
        problem = project.problem(task)
        assert not look_at(problem.machine, problem.site).faces_left


def test_what_swings_its_legs_along_y_walks_along_y(tmp_path: Path) -> None:
    found = []
    for ahead in "xy":
        project = Project(create(tmp_path / f"of_{ahead}", walker(tmp_path, ahead)).folder)
        problem = project.problem(project.write_wish("walker", "walk forward", name="tried").task)
        found.append((problem, *observed(problem, 8)))  # then feet slip, and small differences grow
    (first, _, rewards), (second, _, their_rewards) = found
    assert "velocity.x" in first.task.rewards["progress"].formula
    assert "velocity.y" in second.task.rewards["progress"].formula
    assert np.abs(rewards - their_rewards).max() < 1e-4 < 1e-3 < np.ptp(rewards)
