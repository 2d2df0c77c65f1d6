"""What the step adds to a swing's damping is said, and which steps add little."""

from __future__ import annotations

import math
import re
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.analysis.machines.facts import derived_facts
from plucky_heron.control.poles import poles_of
from plucky_heron.control.regulator import linearise
from plucky_heron.project import Project
from tests.control.test_regulator_laws import project

DEMO = Path(__file__).parents[2] / "demo" / "quillmere"
MASS = """
[bodies.load]
mass = 2.0
[joints.slide]
kind = "slider"
child = "load"
axis = [1, 0, 0]
stiffness = {stiffness}
damping = {damping}
[drives.d]
kind = "effort"
joint = "slide"
limit = 10.0
"""
TASK = """
[[actions]]
name = "u"
drive = "d"
[[observations]]
name = "x"
formula = "slide.position"
unit = "m"
range = ["-1 m", "1 m"]
[rewards.near]
formula = "-abs(slide.position)"
"""


def swing(folder: Path, frequency: float) -> str:
    """What is said of a mass on a spring of this frequency (Hz), of 1 % of damping, at 2 ms."""
    pulse = 2.0 * math.pi * frequency
    machine = MASS.format(stiffness=2.0 * pulse**2, damping=2.0 * 0.01 * pulse * 2.0)
    # one step a sample: no swing is hidden between two of them
    problem = project(folder, machine, TASK, 'control_rate = "500 Hz"\nsubsteps = 1\ntime_limit = "5 s"\n')
    return next(text for title, text in derived_facts(problem) if title == "swing")


def test_a_slow_swing_shows_its_own_damping(tmp_path: Path) -> None:
    text = swing(tmp_path, 15.0)
    assert "damping 0.010" in text and "without" not in text


def test_a_fast_one_shows_both_and_the_remedy(tmp_path: Path) -> None:
    text = swing(tmp_path, 60.0)
    found = re.search(r"damping ([\d.]+), ([\d.]+) without what steps of 2 ms add; (\d+) substeps", text)
    assert found is not None, text
    assert float(found[1]) > 0.05 and float(found[2]) == pytest.approx(0.01, abs=0.002)
    assert int(found[3]) in (2, 4)


@pytest.mark.parametrize("task", ["walk", "lane"])
def test_a_contact_that_opens_in_the_differences_is_no_swing(task: str) -> None:
    """It shows as a factor below zero a sample: a swing at half the control rate that no part of the machine makes."""
    problem = Project(DEMO).problem(task)
    factors = np.linalg.eigvals(linearise(problem).transition)
    assert ((factors.real < -1e-6) & (np.abs(factors.imag) < 1e-9)).any()
    poles = poles_of(problem, problem.model.start)
    assert len(poles) and np.abs(poles.imag * problem.sample_time).max() < 0.999 * math.pi
