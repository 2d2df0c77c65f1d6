"""The most that the sower can sow in still air, by direct transcription: what the policies of the task `sow` are measured by.

Every sample of the task is a piece of its own: its state and commands are unknowns, and the simulated sample (the same engine, the same
physics step) ties each state to the next. From a flight of the task's rule on, the ties are linearised by differences, the linear
programme over all samples is solved (SciPy's HiGHS), and so on within a region that shrinks where the line did not hold
(sequential linear programming, Griffith and Stewart 1961). The area is linear in the states, so nothing of it is approximated.

Run: ./heron --help >/dev/null && .venv/bin/python benchmarks/sower_optimum.py [--height 2.75] [--rounds 40]
"""

from __future__ import annotations

import argparse
import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from scipy import sparse
from scipy.optimize import linprog

from plucky_heron.dynamics.plant import Plant
from plucky_heron.project import Project, demo_source
from plucky_heron.task.problem import Problem

Array = np.ndarray
X, Z, PITCH, SPEED, CLIMB, RATE, SEED = 0, 1, 2, 3, 4, 5, 9
STATES, COMMANDS = 10, 3
AREA_OF_A_KILOGRAM = 1.2 / 0.06
"""Square metres that a kilogram sows where it does not lie too thick, as the task's formula says."""
REACH = np.array([5.0, 0.5, 0.15, 1.0, 1.0, 1.0, 30.0, 30.0, 0.2, 0.5])
"""How far one round may move a state: m, rad, m/s, rad/s, N, kg/s, kg."""
REACH_OF_COMMANDS = np.array([40.0, 8.0, 0.2])
SCALE = np.array([1.0, 1.0, 0.3, 1.0, 1.0, 1.0, 30.0, 30.0, 0.1, 1.0])
SMALL = np.array([1e-4] * 6 + [1e-2, 1e-2, 1e-4, 1e-3])


class Samples:
    """The engine as a map from state and commands to the next state, many at once."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem

    def after(self, states: Array, commands: Array) -> Array:
        """One sample on, (N, states)."""
        problem = self.problem
        plant = Plant(problem.model, len(states), problem.task.timing.physics_step, surroundings=problem.surroundings)
        plant.position[:], plant.velocity[:] = states[:, :3], states[:, 3:6]
        plant.lagged[:], plant.fill[:, 0] = states[:, 6:9], states[:, 9]
        lift, tilt, spreader = commands.T
        plant.step(np.stack([0.5 * lift - tilt, 0.5 * lift + tilt, spreader], axis=1), problem.task.timing.substeps)
        return np.concatenate([plant.position, plant.velocity, plant.lagged, plant.fill], axis=1)

    def lines(self, states: Array, commands: Array) -> tuple[Array, Array]:
        """Derivatives by central differences: (N, states, states) and (N, states, commands)."""
        found = []
        for rows, steps in ((states, SMALL), (commands, np.array([1e-2, 1e-2, 1e-4]))):
            columns = []
            for k, step in enumerate(steps):
                moved = [rows.copy(), rows.copy()]
                moved[0][:, k] += step
                moved[1][:, k] -= step
                ends = [self.after(m, commands) if rows is states else self.after(states, m) for m in moved]
                columns.append((ends[0] - ends[1]) / (2.0 * step))
            found.append(np.stack(columns, axis=2))
        return found[0], found[1]


def flight_of_the_rule(problem: Problem, height: float, samples: int) -> tuple[Array, Array]:
    """States (samples + 1) and commands of the task's rule in still air, cut or held to `samples`."""
    engine = Samples(problem)
    state = np.concatenate([problem.model.start, np.zeros(6), problem.model.fill])
    state[Z] = height
    states, commands = [state], []
    for k in range(samples):
        left = 24.0 - 0.02 * k
        going = state[SEED] > 0.3 and left > 8.0
        wish = 6.0 if going else 0.0
        high = 2.5 if going or abs(state[SPEED]) > 0.8 or left > 2.5 else 0.65
        climb = np.clip(1.2 * (high - state[Z]), -0.7, 1.5)
        lift = np.clip((7.0 + state[SEED]) * (9.81 + 3.0 * (climb - state[CLIMB])), 20.0, 200.0)
        pitch = np.clip(0.14 * (wish - state[SPEED]), -0.4, 0.4)
        tilt = np.clip(6.0 * (pitch - state[PITCH]) - 2.4 * state[RATE], -25.0, 25.0)
        spread = 0.38 if going and state[SPEED] > 3.0 else 0.0
        commands.append(np.array([lift, tilt, spread]))
        state = engine.after(state[None, :], commands[-1][None, :])[0]
        states.append(state)
    return np.array(states), np.array(commands)


def programme(
    problem: Problem, states: Array, commands: Array, reach: float, landing: int
) -> tuple[Array, Array] | None:
    """The best states and commands within reach of these, as far as the lines hold; None if there are none."""
    engine, samples = Samples(problem), len(commands)
    to_state, to_command = engine.lines(states[:-1], commands)
    here = engine.after(states[:-1], commands)
    first_command, first_area = STATES * (samples + 1), STATES * (samples + 1) + COMMANDS * samples
    unknowns = first_area + landing
    k, i, j = np.meshgrid(np.arange(samples), np.arange(STATES), np.arange(STATES), indexing="ij")
    rows = [(STATES * k + i).ravel(), np.arange(STATES * samples)]
    columns = [(STATES * k + j).ravel(), np.arange(STATES, STATES * (samples + 1))]
    values = [to_state.ravel(), -np.ones(STATES * samples)]
    k, i, j = np.meshgrid(np.arange(samples), np.arange(STATES), np.arange(COMMANDS), indexing="ij")
    rows.append((STATES * k + i).ravel())
    columns.append((first_command + COMMANDS * k + j).ravel())
    values.append(to_command.ravel())
    ties = sparse.csr_matrix(
        (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), shape=(STATES * samples, unknowns)
    )
    gap = (states[1:] - here).ravel()
    # area of sample n + 1: not more than its speed allows, nor than its seed
    n = np.arange(landing)
    dt = problem.sample_time
    cells = first_area + n
    by_speed = sparse.csr_matrix(
        (np.tile([1.0, -1.2 * dt], landing), (np.repeat(n, 2), np.stack([cells, STATES * (n + 1) + SPEED], 1).ravel())),
        shape=(landing, unknowns),
    )
    by_seed = sparse.csr_matrix(
        (
            np.tile([1.0, -AREA_OF_A_KILOGRAM, AREA_OF_A_KILOGRAM], landing),
            (np.repeat(n, 3), np.stack([cells, STATES * n + SEED, STATES * (n + 1) + SEED], 1).ravel()),
        ),
        shape=(landing, unknowns),
    )
    most = np.concatenate(
        [
            1.2 * dt * states[1 : landing + 1, SPEED],
            AREA_OF_A_KILOGRAM * (states[:landing, SEED] - states[1 : landing + 1, SEED]),
        ]
    )
    low, high = limits(states, commands, reach, landing)
    found = linprog(
        np.concatenate([np.zeros(first_area), -np.ones(landing)]),
        A_ub=sparse.vstack([by_speed, by_seed]), b_ub=most, A_eq=ties, b_eq=gap,
        bounds=np.stack([np.append(low, np.zeros(landing)), np.append(high, np.full(landing, np.inf))], 1), method="highs-ipm",
    )  # fmt: skip
    if found.x is None:
        return None
    move = found.x
    return states + move[:first_command].reshape(-1, STATES), commands + move[first_command:first_area].reshape(
        -1, COMMANDS
    )


def limits(states: Array, commands: Array, reach: float, landing: int) -> tuple[Array, Array]:
    """Least and most move of each state and command: within reach, and within what the task allows."""
    least = np.full(states.shape, -np.inf)
    most = np.full(states.shape, np.inf)
    least[:, Z], most[:, Z] = 0.61, 4.0
    least[: landing + 1, Z] = 1.0
    least[:, PITCH], most[:, PITCH], least[:, SEED] = -1.1, 1.1, 0.0
    least[-1, [SPEED, CLIMB, PITCH]], most[-1, [SPEED, CLIMB, PITCH]] = [-0.99, -0.99, -0.29], [0.99, 0.99, 0.29]
    most[-1, Z] = 0.749
    # where they stand outside (the rule does not land in time), they may come in from where they are
    low = np.clip(least - states, -reach * REACH, reach * REACH)
    high = np.clip(most - states, -reach * REACH, reach * REACH)
    low[0] = high[0] = 0.0
    bounds = np.array([[0.0, 200.0], [-25.0, 25.0], [0.0, 0.4]])
    down = np.maximum(bounds[:, 0] - commands, -reach * REACH_OF_COMMANDS)
    up = np.minimum(bounds[:, 1] - commands, reach * REACH_OF_COMMANDS)
    return np.concatenate([low.ravel(), down.ravel()]), np.concatenate([high.ravel(), up.ravel()])


def area(problem: Problem, states: Array, landing: int) -> float:
    """Square metres sown, as the task's formulas count it."""
    seed = np.maximum(states[:-1, SEED] - states[1:, SEED], 0.0)
    sown = np.minimum(1.2 * problem.sample_time * np.abs(states[1:, SPEED]), AREA_OF_A_KILOGRAM * seed)
    return float(sown[:landing].sum())


def gaps(problem: Problem, states: Array, commands: Array) -> float:
    """Largest gap between a state and the one simulated from the sample before, in scaled units."""
    return float((np.abs(states[1:] - Samples(problem).after(states[:-1], commands)) / SCALE).max())


def optimum(problem: Problem, height: float, rounds: int, samples: int = 1198, descent: int = 25) -> float:
    """The most area; prints the rounds."""
    landing = samples - descent
    states, commands = flight_of_the_rule(problem, height, samples)
    reach, best = 1.0, 0.0
    for number in range(rounds):
        new = programme(problem, states, commands, reach, landing)
        if new is None:
            reach *= 1.5
            print(f"round {number}: nothing within reach; reach {reach:.3f}", flush=True)
            continue
        gap = gaps(problem, *new)
        found = area(problem, new[0], landing)
        held = gap < 0.05
        print(f"round {number}: {found:.2f} m2, largest gap {gap:.1e}, reach {reach:.3f}", flush=True)
        if not held and reach > 1e-3:
            reach *= 0.4
            if gap > 0.5:
                continue
        states, commands = new
        if gap < 1e-4:
            if found - best < 1e-3 * max(best, 1.0) and number > 3:
                return max(found, best)
            best = max(best, found)
            reach = min(1.5 * reach, 1.0)
    return best


def main() -> None:
    """The optimum, printed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--height", type=float, default=2.75)
    parser.add_argument("--rounds", type=int, default=40)
    given = parser.parse_args()
    problem = Project(demo_source()).problem("sow")
    print(f"optimum from {given.height} m: {optimum(problem, given.height, given.rounds):.2f} m2")


if __name__ == "__main__":
    main()
