"""A linear-quadratic regulator made from the task: the classical opponent, tuned by a rule that is stated here.

The machine with its drives is linearised numerically over one control sample about the held pose; the gain solves
the discrete Riccati equation (SciPy). Weights follow Bryson's rule (one over the square of an acceptable error) times
factors from the fixed design `DESIGN`; the design with the best mean score on tuning starts of its own is taken.
"""

from __future__ import annotations

import itertools
import json
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.plant import Plant
from plucky_heron.errors import StateError, UnitError
from plucky_heron.files import write_whole
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.units import parse

Array = np.ndarray

DESIGN = tuple(itertools.product((0.05, 0.15, 0.5, 1.5), (0.3, 1.0, 3.0), (0.5, 2.0)))
"""24 candidates: acceptable share of the command range, factor on speed errors, factor on undriven joints."""
TUNING_STARTS = 32
TUNING_SEED = 2_000_003


@dataclass(frozen=True)
class Linear:
    """One control sample about an equilibrium: z' = A z + B u, with z = joints, speeds, drive lags, servo integrals."""

    transition: Array
    """A (states, states)."""
    input: Array
    """B (states, commands)."""
    servos: Array


def linearise(problem: Problem, pose: Array | None = None) -> Linear:
    """A and B by central differences of the simulated sample, nominal machine in still air; about `pose` or the start."""
    model, timing = problem.model, problem.task.timing
    if model.attitudes():
        raise StateError("a machine that turns freely in space has no linear regulator here yet")
    n, m = len(model.joints), len(model.drives)
    if not problem.plain:
        raise StateError("a linear regulator needs every drive to get just what is commanded")
    servos = np.flatnonzero((model.drive_table.kind == layout.SPEED) & (_integral_gains(model.row, n, m) > 0.0))
    inputs = np.array([c.drive for c in problem.commands])
    width = 2 * n + m + len(servos)
    small = np.concatenate(
        [np.full(2 * n, 1e-4), 1e-4 * np.maximum(1.0, _limits(model.row, n, m)), np.full(len(servos), 1e-4)]
    )
    pushes = 1e-4 * np.maximum(1.0, np.abs(problem.high))
    copies = 2 * (width + len(inputs))
    plant = Plant(model, copies, timing.physics_step, threads=1, surroundings=problem.surroundings)
    if pose is not None:
        plant.position[:] = pose
    for draw in problem.draws:  # variation at its middle is the nominal machine
        if draw.kind == "parameter":
            model.vary(plant.rows, np.arange(copies), draw.target, np.full(copies, draw.distribution.middle(draw.unit)))
        elif draw.kind == "start" and draw.target.endswith(".position"):
            joint = draw.target.rpartition(".")[0]
            if joint in problem.hold and pose is None:
                plant.position[:, model.joints.index(joint)] = draw.distribution.middle(draw.unit)
    plant.settle_drives(np.arange(copies))
    centre = _state(plant, servos)[0].copy()
    commands = np.zeros((copies, m))
    for k in range(width):
        for sign, copy in ((1.0, 2 * k), (-1.0, 2 * k + 1)):
            state = centre.copy()
            state[k] += sign * small[k]
            _set_state(plant, copy, state, servos)
    for k, drive in enumerate(inputs):
        commands[2 * (width + k), drive], commands[2 * (width + k) + 1, drive] = pushes[k], -pushes[k]
    plant.step(commands, timing.substeps)
    after = _state(plant, servos)
    columns = (after[0::2] - after[1::2]) / (2.0 * np.concatenate([small, pushes]))[:, None]
    return Linear(columns[:width].T, columns[width:].T, servos)


def gain(problem: Problem, linear: Linear, design: tuple[float, float, float]) -> Array:
    """Feedback gain (actions, states) for one candidate of the design.

    Raises
    ------
    StateError
        The Riccati equation has no stabilising solution: the machine cannot be held this way.
    """
    from scipy.linalg import solve_discrete_are  # heavy, and the window should open at once

    share, on_speed, on_free = design
    model = problem.model
    n = len(model.joints)
    scales = _joint_scales(problem)
    table = model.drive_table
    driven = np.isin(np.arange(n), table.joint[table.kind <= layout.POSITION])
    weights = np.where(driven, 1.0, on_free) / scales**2
    states = np.full(linear.transition.shape[0], 1e-9)
    states[:n], states[n : 2 * n] = weights, weights * on_speed
    effort = 1.0 / (share * np.maximum(np.abs(problem.low), np.abs(problem.high))) ** 2
    try:
        a, b = linear.transition, linear.input
        cost = solve_discrete_are(a, b, np.diag(states), np.diag(effort))
        return np.asarray(np.linalg.solve(np.diag(effort) + b.T @ cost @ b, b.T @ cost @ a))
    except (np.linalg.LinAlgError, ValueError) as error:
        raise StateError(f"no linear regulator holds this task: {error}") from error


class Regulator:
    """A tuned regulator: a driver of episodes that reads the machine's full state.

    Parameters
    ----------
    gain : (candidates or 1, actions, states)
        With several candidates, copies are shared out among them in order.
    servos
        Drives whose integral is part of the state.
    """

    name = "regulator"

    def __init__(self, problem: Problem, gain: Array, servos: Array, tuned_score: float = 0.0) -> None:
        self.problem, self.gain, self.servos, self.tuned_score = problem, gain, servos, tuned_score

    def begin(self, batch: Batch) -> None:
        """Bind the formulas of the held pose; remember the servo integrals that carry each copy's load."""
        problem = self.problem
        self._hold = batch.program([*problem.hold.values()])
        self._gains: Array = np.repeat(self.gain, batch.copies // len(self.gain), axis=0)
        self._load: Array = batch.plant.integral[:, self.servos].copy()

    def drive(self, batch: Batch, observations: Array) -> Array:
        """u = -K (z - held z)."""
        model = self.problem.model
        state = _state(batch.plant, self.servos)
        for row, joint in zip(self._hold.run(), self.problem.hold, strict=True):
            state[:, model.joints.index(joint)] -= row
        state[:, 2 * len(model.joints) + len(model.drives) :] -= self._load
        return np.asarray(-np.einsum("cus,cs->cu", self._gains, state))


def tune(problem: Problem, threads: int | None = None) -> Regulator:
    """The best of the fixed design on the tuning starts."""
    linear = linearise(problem)
    gains = np.array([gain(problem, linear, design) for design in DESIGN])
    candidates = Regulator(problem, gains, linear.servos)
    episodes = np.tile(np.arange(TUNING_STARTS), len(DESIGN))
    trials = run_trials(
        problem,
        candidates,
        seed=TUNING_SEED,
        stream="regulator tuning",
        count=len(episodes),
        episodes=episodes,
        threads=threads,
    )
    scores = trials.score.reshape(len(DESIGN), TUNING_STARTS).mean(axis=1)
    best = int(np.argmax(scores))
    return Regulator(problem, gains[best : best + 1], linear.servos, tuned_score=float(scores[best]))


def regulator_for(problem: Problem, project: Path | None = None) -> Regulator:
    """The tuned regulator, taken from the project's cache where the same problem was tuned before."""
    if project is None:
        return tune(problem)
    path = project / "runs" / "regulators" / f"{problem.fingerprint()}.json"
    try:
        kept = json.loads(path.read_text())
        return Regulator(
            problem, np.array(kept["gain"]), np.array(kept["servos"], dtype=np.int64), tuned_score=kept["score"]
        )
    except (OSError, ValueError, KeyError):
        made = tune(problem)
        facts = {"gain": made.gain.tolist(), "servos": made.servos.tolist(), "score": made.tuned_score}
        write_whole(path, json.dumps(facts))
        return made


def _state(plant: Plant, servos: Array) -> Array:
    return np.concatenate([plant.position, plant.velocity, plant.lagged, plant.integral[:, servos]], axis=1)


def _set_state(plant: Plant, copy: int, state: Array, servos: Array) -> None:
    n, m = plant.position.shape[1], plant.lagged.shape[1]
    plant.position[copy], plant.velocity[copy] = state[:n], state[n : 2 * n]
    plant.lagged[copy] = state[2 * n : 2 * n + m]
    plant.integral[copy, servos] = state[2 * n + m :]


def _integral_gains(row: Array, n: int, m: int) -> Array:
    return np.asarray(row[n * layout.NODE + layout.INTEGRAL_GAIN : n * layout.NODE + m * layout.DRIVE : layout.DRIVE])


def _limits(row: Array, n: int, m: int) -> Array:
    return np.asarray(row[n * layout.NODE + layout.HIGHEST_COMMAND : n * layout.NODE + m * layout.DRIVE : layout.DRIVE])


def _joint_scales(problem: Problem) -> Array:
    scales = []
    for name in problem.model.joints:
        unit = problem.machine.coordinate_unit(name)
        try:
            scales.append(parse(problem.task.regulator.joint_scales.get(name, 1.0), unit))
        except UnitError as error:
            raise StateError(f"{problem.source}: regulator.joint_scales.{name}: {error}") from error
    return np.array(scales)
