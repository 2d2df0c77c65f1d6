"""A linear plant with quadratic cost, many copies at once, and its optimum by the Riccati equation: a yardstick for methods."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.linalg import solve_discrete_are

from plucky_heron.learning.method import Experience, Space, make_method, settings_class

Array = np.ndarray
A = np.array([[1.0, 0.1], [0.0, 0.95]])
B = np.array([[0.0], [0.25]])
Q, R = np.diag([1.0, 0.1]), np.array([[0.1]])
DISCOUNT, LENGTH = 0.95, 60
SPACE = Space(np.full(2, -2.0), np.full(2, 2.0), np.full(1, -2.0), np.full(1, 2.0))


def optimum() -> Array:
    """Gains (1, 2) of the discounted problem: the plain one of the plant scaled by the root of the discount."""
    root = np.sqrt(DISCOUNT)
    p = solve_discrete_are(root * A, root * B, Q, R)
    return np.linalg.solve(R + DISCOUNT * B.T @ p @ B, DISCOUNT * B.T @ p @ A)


def cost(commands: Any) -> float:
    """Mean discounted cost of a policy over 200 fixed starts; `commands` maps states (N, 2) to commands (N, 1)."""
    state = np.random.default_rng(77).uniform(-1, 1, (200, 2))
    total = np.zeros(200)
    for step in range(200):
        command = np.clip(np.asarray(commands(state), dtype=np.float64), -2.0, 2.0)
        total += DISCOUNT**step * (np.einsum("ni,ij,nj->n", state, Q, state) + R[0, 0] * command[:, 0] ** 2)
        state = state @ A.T + command @ B.T
    return float(total.mean())


def learn(method: str, seed: int, steps: int, copies: int = 16, **settings: Any) -> float:
    """Train on the plant; returns the policy's cost as a multiple of the optimum's, best of the last evaluations.

    Episodes are cut by time after 60 samples, which a method that took cuts for endings would pay for.
    """
    schema = settings_class(method)
    own = {k: v for k, v in {"discount": DISCOUNT, "hidden": (32, 32)}.items() if k in schema.model_fields}
    checked = schema.model_validate(own | settings)
    learner = make_method(method, checked, SPACE, copies, seed)
    generator = np.random.default_rng(seed)
    state = generator.uniform(-1, 1, (copies, 2))
    age = np.linspace(0, LENGTH - 1, copies).astype(int)
    gains = optimum()
    best = cost(lambda x: -x @ gains.T)
    found, done, marks = np.inf, 0, iter(np.linspace(0.5, 1.0, 11) * steps)
    mark = next(marks)
    begin = getattr(learner, "begin_episodes", None)
    going = np.full(copies, begin is None)
    age[:] = age if begin is None else 0
    while done < steps:
        while not learner.ready():
            if begin is not None:
                begun, numbers = begin(~going)
                going[begun], age[begun] = True, 0
                for copy, number in zip(begun, numbers, strict=True):
                    state[copy] = np.random.default_rng([seed, int(number)]).uniform(-1, 1, 2)
            command = np.clip(learner.choose(state), -2.0, 2.0)
            pay = -np.einsum("ni,ij,nj->n", state, Q, state) - R[0, 0] * command[:, 0] ** 2
            after = state @ A.T + command @ B.T
            age += going
            cut = (age >= LENGTH) & going
            learner.take(Experience(np.where(going, pay, 0.0), after, np.zeros(copies, bool), cut, state, command))
            fresh = generator.uniform(-1, 1, (copies, 2))
            state, age = np.where(cut[:, None], fresh, after), np.where(cut, 0, age)
            done += int(going.sum())
            going &= ~cut | (begin is None)
        learner.improve(done / steps)
        if done >= mark:
            found = min(found, cost(learner.policy().commands))
            mark = next(marks, np.inf)
    return found / best
