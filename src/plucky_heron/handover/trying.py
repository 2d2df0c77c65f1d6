"""What is found out about a machine by moving it in simulation, before it is handed over: how each drive shows its sign, and what the safe commands do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from plucky_heron.handover.forms.controller import Answer
from plucky_heron.handover.forms.controlling import TEST_SHARE, TEST_TIME, Controlling
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.distributions import Distribution
from plucky_heron.task.problem import Problem
from plucky_heron.task.schema import MOST_SAMPLES
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import show

Array = np.ndarray

DRAWS = 4
"""Loads and weathers that are tried."""
LEAST_ANSWER = 0.002
"""Of a sensor's range: below this it does not count as an answer."""
SHARE_ASKED = 0.3
"""Of the answer in simulation, that the machine has to show."""
LETS_GO = (np.radians(15.0), 0.15)
"""Turn (rad) and way (m) within a second from which the safe commands are said to let go."""


def standing(problem: Problem, seconds: float = 0.0) -> Problem:
    """The same, but machines begin at rest in the middle of what their starts are drawn from, as one that is commissioned.

    `seconds`, if not 0, are the time limit instead of the task's.
    """
    draws = []
    for draw in problem.draws:
        if draw.kind == "start":
            still = not draw.target.endswith(".position")
            draw = replace(draw, distribution=Distribution(fixed=0.0 if still else draw.distribution.middle(draw.unit)))
        draws.append(draw)
    task, timing = problem.task, problem.task.timing
    if seconds > 0.0:
        limit = min(seconds, MOST_SAMPLES / timing.control_rate)
        task = task.model_copy(update={"timing": timing.model_copy(update={"time_limit": limit})})
    return replace(problem, draws=tuple(draws), task=task)


def _moved(problem: Problem, parts: Controlling, commands: Array, seconds: float) -> tuple[Array, Array]:
    """How far sensors (draws, sensors) and joints (draws, coordinates) have moved after `seconds` of held commands.

    The machine stands at first; what is drawn besides (loads, weather) differs.
    """
    batch = Batch(standing(problem), DRAWS, EVALUATION_SEED, "handover", threads=1)
    batch.start(np.arange(DRAWS))
    first, joints = _sensed(batch, parts), batch.plant.position.copy()
    for _ in range(max(1, round(seconds / problem.sample_time))):
        batch.step(np.tile(commands, (DRAWS, 1)))
    return _sensed(batch, parts) - first, batch.plant.position - joints


def _sensed(batch: Batch, parts: Controlling) -> Array:
    return np.asarray(batch.results[list(parts.columns)].T)


def sign_answers(problem: Problem, parts: Controlling, safe: Sequence[float]) -> list[Answer]:
    """For each command the sensor that shows its sign best, and by how much it has to answer a small step for `TEST_TIME`.

    It has to do so whatever load and weather are drawn: a drive whose answer drowns in them is not tested.
    """
    span = np.array([s.high - s.low for s in parts.sensors])
    rest, found = np.array(safe), []
    still = np.abs(_moved(problem, parts, rest, TEST_TIME)[0] / span)
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
        clear = (still < 0.3 * np.abs(moved)).all(axis=0) & (np.sign(moved) == np.sign(moved[0])).all(axis=0)
        size = np.where(clear, np.abs(moved).min(axis=0), 0.0)
        best = int(np.argmax(size))
        if not np.isfinite(moved).all() or size[best] < LEAST_ANSWER:
            found.append(Answer())
            continue
        least = SHARE_ASKED * np.sign(moved[0, best]) * size[best] * span[best]
        found.append(Answer(float(step), best, float(least)))
    return found


def safe_warning(problem: Problem, parts: Controlling, safe: Sequence[float]) -> str:
    """What gives way when the safe commands take over, in words; "" where the machine stays about where it is."""
    moved = _moved(problem, parts, np.array(safe), 1.0)[1]
    moved = moved[np.argmax(np.abs(moved), axis=0), np.arange(moved.shape[1])]
    said = []
    for name, way in zip(problem.model.joints, moved, strict=False):
        unit = problem.machine.coordinate_unit(name)
        if abs(way) > LETS_GO[unit == "m"]:
            told = f"{np.degrees(way):.0f} deg" if unit == "rad" else show(float(way), unit)
            said.append(f"{name} moves by {told}")
    if not said:
        return ""
    return f"the safe commands let go: within a second {', '.join(said[:4])}; choose --safe hold, or give a brake"
