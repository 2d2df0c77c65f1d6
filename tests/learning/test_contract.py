"""Every method keeps the contract; and a method that breaks a law is told which."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from plucky_heron.learning.contract import ContractError, hold_to_contract
from plucky_heron.learning.method import METHODS, Experience, Space, make_method, settings_class
from plucky_heron.learning.residual import Residual
from plucky_heron.randomness import stream

SPACE = Space(np.array([-2.0, -5.0, 0.0]), np.array([2.0, 5.0, 10.0]), np.array([-3.0, 0.0]), np.array([3.0, 8.0]))
COPIES = 16
SMALL = {
    "hidden": (8, 8), "steps_per_update": 128, "minibatch": 32, "passes": 2, "random_start_steps": 64, "standardisation_steps": 64, "replay_capacity": 512,
    "updates_per_step": 0.1, "steps_per_round": 32, "candidates": 8, "episodes": 2, "model_updates": 4, "steps_per_model": 64, "model_hidden": (8,),
}  # fmt: skip


def settings_of(method: str, **changes: Any) -> Any:
    """Small settings, as far as the method has them."""
    schema = settings_class(method)
    given = {k: v for k, v in (SMALL | changes).items() if k in schema.model_fields}
    return schema.model_validate(given)


@pytest.mark.parametrize("method", METHODS)
def test_every_method_keeps_the_contract(method: str) -> None:
    settings = settings_of(method)
    hold_to_contract(
        lambda seed: make_method(method, settings, SPACE, COPIES, seed), SPACE, COPIES,
        health=settings.health_figures(), learns_what_follows=method == "model-based",
    )  # fmt: skip


@pytest.mark.parametrize(
    "changes", [{"update_after": "episodes"}, {"memory": 4}, {"squashed": True, "exploration_memory": 0.8}]
)
def test_variants_of_fresh_steps_keep_it_too(changes: dict[str, Any]) -> None:
    settings = settings_of("ppo", **changes)
    hold_to_contract(lambda seed: make_method("ppo", settings, SPACE, COPIES, seed), SPACE, COPIES, rounds=3)


@pytest.mark.parametrize("method", ["ppo", "sac"])
def test_a_correction_of_a_base_controller_keeps_it_too(method: str) -> None:
    settings = settings_of(method)
    base = np.array([[0.1, 0.0, 0.0, 0.2], [0.0, -0.1, 0.2, 3.0]])

    def make(seed: int) -> Residual:
        return Residual(lambda space: make_method(method, settings, space, COPIES, seed), SPACE, base, 0.3)

    hold_to_contract(make, SPACE, COPIES)


class Straight:
    """A method that does nothing wrong, to be broken one law at a time."""

    def __init__(self, seed: int, fault: str = "") -> None:
        self.fault, self.random, self.steps, self.kept = fault, stream(seed, "straight"), 0, []  # type: ignore[var-annotated]
        self.inner = make_method("random search", settings_of("random search"), SPACE, COPIES, seed)
        self.command = np.zeros((COPIES, 2))
        self.weight = 0.0

    def choose(self, observations: np.ndarray) -> np.ndarray:
        if self.fault == "shape":
            return np.zeros((COPIES, 3))
        if self.fault == "nan":
            return np.full((COPIES, 2), np.nan)
        if self.fault == "one array":
            self.command[:] = self.inner.choose(observations)
            return self.command
        if self.fault == "writes":
            observations += 1.0
        return self.inner.choose(observations)

    def begin_episodes(self, idle: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        copies, numbers = self.inner.begin_episodes(idle)
        return (np.repeat(copies, 2), np.repeat(numbers, 2)) if self.fault == "twice" else (copies, numbers)

    def take(self, experience: Experience) -> None:
        self.inner.take(experience)
        if self.fault == "lost" and experience.lost is not None:
            self.weight += float(experience.after[experience.lost].sum())
        if self.fault == "writes later":
            experience.after[0] = 7.0
        if self.fault == "grows":
            self.kept += [experience.after.copy() for _ in range(20)]
        if self.fault == "ending":
            self.weight += float(experience.after.sum())

    def ready(self) -> bool:
        return self.inner.ready()

    def improve(self, progress: float) -> dict[str, float]:
        found = self.inner.improve(progress)
        if self.fault == "clock":
            import time

            self.weight = time.perf_counter()
        return found | ({"figure": float("nan")} if self.fault == "figure" else {})

    def policy(self) -> Any:
        policy = self.inner.policy()
        if self.fault == "limits":
            from dataclasses import replace

            return replace(policy, high=policy.high + 50.0, low=policy.low + 40.0)
        if self.fault in ("ending", "lost"):
            policy.parameters[0] = self.weight
        return policy

    def keep(self) -> dict[str, np.ndarray]:
        more = {"more": np.array(self.kept)} if self.kept else {}
        more |= {"objects": np.array([object()])} if self.fault == "objects" else {}
        return self.inner.keep() | more | ({} if self.fault == "forgets" else {"weight": np.array(self.weight)})

    def restore(self, kept: dict[str, np.ndarray]) -> None:
        mine = ("weight", "more", "objects")
        if self.fault != "restores nothing":
            self.inner.restore({k: v for k, v in kept.items() if k not in mine})
            self.weight = float(kept.get("weight", 0.0))
            self.kept = list(kept.get("more", []))


def test_a_method_that_keeps_all_laws_passes() -> None:
    hold_to_contract(Straight, SPACE, COPIES)


@pytest.mark.parametrize(
    ("fault", "law"),
    [("shape", 2), ("nan", 2), ("one array", 2), ("writes", 3), ("writes later", 3), ("clock", 6), ("objects", 7), ("restores nothing", 7), ("limits", 8),
     ("figure", 10), ("grows", 9), ("ending", 4), ("lost", 11), ("twice", 12)],
)  # fmt: skip
def test_a_broken_law_is_named(fault: str, law: int) -> None:
    with pytest.raises(ContractError, match=f"law {law}:"):
        hold_to_contract(lambda seed: Straight(seed, fault), SPACE, COPIES, rounds=2)
