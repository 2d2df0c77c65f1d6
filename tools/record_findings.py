"""Record the runs that the tests of the diagnosis replay: short trainings of the hoist, each with one thing wrong, and good ones.

Run as ``PYTHONPATH=src .venv/bin/python tools/record_findings.py [NAME]...``; by default all, which takes an hour on two cores.
Each run is written to ``tests/analysis/diagnosis/recorded/NAME.json`` as plain data.
"""

from __future__ import annotations

import argparse
import json
import sys
import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from plucky_heron.analysis.diagnosis.record import record_of
from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.runs.store import RunStore
from plucky_heron.training.recipe import Recipe

TARGET = Path(__file__).resolve().parents[1] / "tests" / "analysis" / "diagnosis" / "recorded"


@dataclass(frozen=True)
class Campaign:
    """One thing to provoke: what is changed in recipe and task."""

    method: str
    steps: int
    settings: dict[str, Any] = field(default_factory=dict)
    recipe: dict[str, Any] = field(default_factory=dict)
    task: tuple[tuple[str, str], ...] = ()
    """Texts of the task file and what stands there instead."""
    seeds: int = 2
    fit: bool = False


PPO = {"passes": 8, "exploration_memory": 0.85, "log_spread_start": -1.4}
SAC = {
    "return_steps": 10, "reward_limit": 15, "minibatch": 128, "updates_per_step": 1, "target_mix": 0.01, "activation": "silu", "random_start_steps": 2000,
    "learning_rate_share_end": 0.1, "exploration_memory": 0.93, "entropy_per_command": -0.7, "entropy_per_command_end": -2.0, "policy_average": 0.001,
}  # fmt: skip


def ppo(steps: int = 150_000, **settings: Any) -> Campaign:
    """A short run of PPO on the hoist with some settings changed."""
    return Campaign("ppo", steps, PPO | settings)


def sac(steps: int = 20_000, method: str = "sac", **settings: Any) -> Campaign:
    """A short run of a replay method on the hoist with some settings changed."""
    known = SAC if method == "sac" else {k: v for k, v in SAC.items() if not k.startswith("entropy")}
    return Campaign(method, steps, known | settings, {"copies": 8})


CAMPAIGNS: dict[str, Campaign] = {
    "healthy-ppo": ppo(450_000),
    "healthy-sac": sac(50_000, updates_per_step=2),
    "still-improving": ppo(200_000),
    "too-early": ppo(20_000),
    "rate-too-large": ppo(learning_rate=0.1),
    "rate-too-large-sac": sac(learning_rate=0.2, actor_learning_rate=0.2),
    "rate-too-small": ppo(learning_rate=3e-6),
    "spread-collapsed": ppo(log_spread_start=-3.9),
    "spread-exploding": ppo(entropy_weight=0.2),
    "commands-at-limits": ppo(log_spread_start=0.95),
    "untrained-at-limits": ppo(last_layer_scale=10.0),
    "inputs-at-limit": ppo(observation_limit=0.5),
    "discount-short": ppo(discount=0.6),
    "exploration-fresh": ppo(exploration_memory=0.0, log_spread_start=-2.5),
    "gradient-limit": ppo(gradient_limit=0.005),
    "kl-limit": ppo(kl_limit=0.0008),
    "rewards-unscaled": Campaign(
        "ppo", 150_000, PPO | {"reward_standardisation": False, "reward_limit": 1e6},
        task=(("weight = 1.0", "weight = 300.0"), ("weight = 5.0", "weight = 1500.0"), ("weight = 7.0", "weight = 2100.0"), ("weight = 3.0", "weight = 900.0")),
    ),
    "critic-blind": ppo(critic_learning_rate=1e-7),
    "noisy-evaluations": Campaign("ppo", 160_000, PPO, {"evaluation": {"every": 4096, "episodes": 6}}),
    "seeds-disagree": Campaign("ppo", 180_000, PPO, seeds=4),
    "wrong-sign": Campaign(
        "ppo", 200_000, PPO, task=(('formula = "-norm(offset, height)"', 'formula = "norm(offset, height)"'), ('formula = "-(offset *', 'formula = "(offset *')),
    ),
    "pays-for-something-else": Campaign(
        "ppo", 200_000, PPO, task=(('[rewards.distance]', '[rewards.speed]\nformula = "abs(trolley.velocity)"\nweight = 90.0\n\n[rewards.distance]'),),
    ),
    "term-dominates": Campaign("ppo", 200_000, PPO, task=(("[rewards.distance]", '[rewards.alive]\nformula = "1"\nweight = 1000.0\n\n[rewards.distance]'),)),
    "replay-small": sac(30_000, replay_capacity=1000),
    "warm-up-short": sac(20_000, random_start_steps=100),
    "overestimated": sac(25_000, "ddpg", target_mix=1.0, learning_rate=0.003, actor_learning_rate=0.003, return_steps=1, reward_limit="off"),
    "model-poor": Campaign(
        "model-based", 8_000, {"hidden": [64, 64], "model_updates": 2, "horizon": 10, "horizon_end": 20, "updates_per_step": 1}, {"copies": 8},
    ),
}  # fmt: skip


def record(name: str, campaign: Campaign, folder: Path) -> None:
    """Train a campaign in a project of its own and write what came."""
    project = _copy(folder / name)
    path = project.folder / "tasks" / "lift.toml"
    text = path.read_text()
    for old, new in campaign.task:
        if old not in text:
            raise SystemExit(f"{name}: the task has no {old!r}")
        text = text.replace(old, new)
    path.write_text(text)
    data: dict[str, Any] = {
        "name": name, "method": campaign.method, "steps": campaign.steps, "copies": 64, "evaluation": {"every": max(500, campaign.steps // 25), "episodes": 64},
        "fit": campaign.fit, "settings": campaign.settings, "stop": [{"kind": "budget", "steps": campaign.steps}],
    }  # fmt: skip
    project.shakedown("lift")
    runs = launch.train(
        project.folder, "lift", Recipe.model_validate(data | campaign.recipe), list(range(1, campaign.seeds + 1))
    )
    rows = launch.wait(project.folder, runs)
    store = RunStore(project.folder)
    try:
        records = [record_of(project.folder, store, row).as_data() for row in rows]
    finally:
        store.close()
    TARGET.mkdir(parents=True, exist_ok=True)
    (TARGET / f"{name}.json").write_text(json.dumps(records, separators=(",", ":")) + "\n")
    print(f"{name}: {', '.join(f'{row.state} {row.best_success}' for row in rows)}", flush=True)


def _copy(folder: Path) -> Project:
    import shutil

    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    return Project(folder)


def main() -> int:
    """Record the campaigns that are named, or all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("names", nargs="*", help="campaigns to record")
    parser.add_argument("--smoke", action="store_true", help="one tiny campaign, written nowhere")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as room:
        if given.smoke:
            global TARGET
            TARGET = Path(room) / "recorded"
            record(
                "smoke",
                Campaign("ppo", 2_000, {"minibatch": 512}, {"evaluation": {"every": 1_000, "episodes": 4}}),
                Path(room),
            )
            return 0 if (TARGET / "smoke.json").is_file() else 1
        for name in given.names or CAMPAIGNS:
            record(name, CAMPAIGNS[name], Path(room))
    return 0


if __name__ == "__main__":
    sys.exit(main())
