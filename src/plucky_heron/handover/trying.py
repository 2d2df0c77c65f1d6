"""What is found out about a machine by moving it in simulation, before it is handed over: how each drive shows its sign, and what the safe commands do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from plucky_heron.handover.forms.controller import Answer
from plucky_heron.handover.forms.controlling import TEST_SHARE, TEST_TIME, Controlling
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import show

Array = np.ndarray

LEAST_ANSWER = 0.002
"""Of a sensor's range: below this it does not count as an answer."""
SHARE_ASKED = 0.3
"""Of the answer in simulation, that the machine has to show."""
LETS_GO = (np.radians(15.0), 0.15)
"""Turn (rad) and way (m) within a second from which the safe commands are said to let go."""


def _begun(problem: Problem) -> Batch:
    batch = Batch(
        replace(problem, draws=()) if _stands_alone(problem) else problem, 1, EVALUATION_SEED, "handover", threads=1
    )
    batch.start(np.array([0]))
    return batch


def _stands_alone(problem: Problem) -> bool:
    """Whether nothing in the task needs what is drawn."""
    return not problem.draws


def _moved(problem: Problem, parts: Controlling, commands: Array, seconds: float) -> tuple[Array, Array]:
    """How far sensors (sensors,) and joints (coordinates,) have moved after `seconds` of held commands."""
    batch = _begun(problem)
    columns = list(parts.columns)
    first, joints = batch._program.results[columns, 0].copy(), batch.plant.position[0].copy()
    for _ in range(max(1, round(seconds / problem.sample_time))):
        batch.step(commands[None, :])
    return batch._program.results[columns, 0] - first, batch.plant.position[0] - joints


def sign_answers(problem: Problem, parts: Controlling, safe: Sequence[float]) -> list[Answer]:
    """For each command the sensor that shows its sign best, and by how much it has to answer a small step for `TEST_TIME`."""
    span = np.array([s.high - s.low for s in parts.sensors])
    rest, found = np.array(safe), []
    still = _moved(problem, parts, rest, TEST_TIME)[0] / span
    for k, shaping in enumerate(parts.shaping):
        step = TEST_SHARE * (shaping.within[1] - shaping.within[0])
        if shaping.increment or problem.commands[k].choice:
            found.append(Answer())
            continue
        if rest[k] + step > shaping.within[1]:
            step = -step
        asked = rest.copy()
        asked[k] += step
        moved = _moved(problem, parts, asked, TEST_TIME)[0] / span
        best = int(np.argmax(np.where(np.abs(still) < 0.3 * np.abs(moved), np.abs(moved), 0.0)))
        if (
            not np.isfinite(moved).all()
            or abs(moved[best]) < LEAST_ANSWER
            or abs(still[best]) >= 0.3 * abs(moved[best])
        ):
            found.append(Answer())
            continue
        found.append(Answer(float(step), best, float(SHARE_ASKED * moved[best] * span[best])))
    return found


def safe_warning(problem: Problem, parts: Controlling, safe: Sequence[float]) -> str:
    """What gives way when the safe commands take over, in words; "" where the machine stays about where it is."""
    moved = _moved(problem, parts, np.array(safe), 1.0)[1]
    said = []
    for name, way in zip(problem.model.joints, moved, strict=False):
        unit = problem.machine.coordinate_unit(name)
        if abs(way) > LETS_GO[unit == "m"]:
            told = f"{np.degrees(way):.0f} deg" if unit == "rad" else show(float(way), unit)
            said.append(f"{name} moves by {told}")
    if not said:
        return ""
    return f"the safe commands let go: within a second {', '.join(said[:4])}; choose --safe hold, or give a brake"
