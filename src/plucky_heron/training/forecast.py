"""What a recipe will cost on this machine: steps a second of a short trial, minutes, and memory."""

from __future__ import annotations

import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.learning.off_policy_settings import OffPolicySettings
from plucky_heron.task.problem import Problem
from plucky_heron.training.loop import Run, space_of
from plucky_heron.training.recipe import Recipe

TRIAL_SECONDS = 2.0
CALLS = 200


@dataclass(frozen=True)
class Forecast:
    """What was measured, and what follows for the whole recipe on one seed."""

    steps_per_second: float
    minutes: float
    megabytes: float
    parameters: int
    layers: tuple[int, ...]
    call_microseconds: float
    base_explained: tuple[float, ...] = ()
    """Of a residual recipe: share of each command of the original that the base controller explains."""


def replay_megabytes(problem: Problem, recipe: Recipe) -> float:
    """Memory of the full replay buffer; 0 without one."""
    settings = recipe.method_settings(sample_time=problem.sample_time)
    if not isinstance(settings, OffPolicySettings):
        return 0.0
    space = space_of(problem)
    entries = min(settings.replay_capacity, recipe.steps)
    # float32: observations before and after, commands, reward, prediction; and one byte for what ended
    return entries * (4 * (2 * len(space.observation_low) + len(space.low) + 2) + 1) / 1e6


def forecast(
    problem: Problem, recipe: Recipe, threads: int = 1, seconds: float = TRIAL_SECONDS, project: Path | None = None
) -> Forecast:
    """Train for `seconds` in a folder that is thrown away, evaluations left out.

    The random start of off-policy methods learns nothing: it is cut short, so that what is measured is learning.
    """
    schema, settings = recipe.schema_of_settings(), dict(recipe.settings)
    if "random_start_steps" in schema.model_fields:
        settings |= {"random_start_steps": max(256, 2 * recipe.copies), "replay_capacity": 50_000}
    with tempfile.TemporaryDirectory() as place:
        run = Run(problem, recipe.model_copy(update={"settings": settings}), 1, Path(place), threads, project)
        run.update()
        began, before = time.perf_counter(), run.steps
        # a replay method returns now and then with updates done and no step made
        while (gone := time.perf_counter() - began) < seconds or run.steps == before:
            run.update()
        speed = (run.steps - before) / gone
        policy = run.method.policy()
        explained = tuple(float(share) for share in run.base.explained) if run.base is not None else ()
    network = policy.network
    observation = np.zeros((1, policy.given))
    policy.commands(observation, network)
    began = time.perf_counter()
    for _ in range(CALLS):
        policy.commands(observation, network)
    call = (time.perf_counter() - began) / CALLS * 1e6
    return Forecast(
        speed,
        recipe.steps / speed / 60,
        replay_megabytes(problem, recipe),
        policy.count,
        (policy.given, *policy.sizes[1:]),
        call,
        explained,
    )
