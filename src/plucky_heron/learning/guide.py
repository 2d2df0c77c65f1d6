"""What an engineer wants to know before choosing a method: what it suits, what it costs, what usually goes wrong; and presets."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from annotated_types import Ge, Gt, Le, Lt

from plucky_heron.files import Settings
from plucky_heron.learning.method import METHODS

LENGTHS = ("quick look", "standard", "long")
"""The presets of every method."""


@dataclass(frozen=True)
class Guide:
    """Advice on a method.

    Attributes
    ----------
    name
        As engineers say it.
    family
        "fresh steps", "replay", "model" or "search": where it learns from.
    suits, costs, fails
        One line each: what it is good at, what it needs, how it usually goes wrong and how that shows.
    standard
        Settings of the method's standard, where they are not those of its schema; recipes that fit the task begin with them.
    presets
        Length to the keys of a recipe.
    """

    name: str
    family: str
    suits: str
    costs: str
    fails: str
    standard: dict[str, Any] = field(default_factory=dict)
    presets: dict[str, dict[str, Any]] = field(default_factory=dict)


def _stops(steps: int) -> list[dict[str, Any]]:
    """Stop rules of a preset: enough, used up, or lost again what it could."""
    return [
        {"kind": "good enough", "of": "success", "at_least": "98 %", "running": 3},
        {"kind": "budget", "steps": steps},
        {"kind": "gone wrong", "of": "success", "below_best": "60 %", "after": steps // 2},
    ]


def _lengths(copies: int, steps: tuple[int, int, int], every: int) -> dict[str, dict[str, Any]]:
    """Presets that differ in their budget."""
    return {
        name: {"copies": copies, "steps": count, "fit": True, "evaluation": {"every": min(every, count // 5)}, "stop": _stops(count)}
        for name, count in zip(LENGTHS, steps, strict=True)
    }  # fmt: skip


REPLAY: dict[str, Any] = {
    "activation": "silu", "minibatch": 128, "updates_per_step": 2.0, "target_mix": 0.01, "learning_rate_share_end": 0.1,
    "critic_layer_normalisation": True, "policy_average": 0.001, "values_from_start": True, "value_bounds": True,
}  # fmt: skip
"""What brought methods with a replay buffer farthest on the hoist and does not hang on it."""

SOFT: dict[str, Any] = REPLAY | {
    "entropy_per_command": -0.7,
    "entropy_per_command_end": -2.0,
    "entropy_in_values": False,
}
"""For those with a spread of their own: wide at first, precise in the end, and no state is sought for its entropy."""

DETERMINISTIC: dict[str, Any] = REPLAY | {"target_smoothing": 0.1, "saturation_weight": 0.001}
"""For those without a spread of their own; a larger saturation weight pulls commands to the middle, where a load or a current asks for others."""

PROXIMAL: dict[str, Any] = {"passes": 10, "learning_rate": 5e-4, "learning_rate_share_end": 0.2}
"""Many passes of small steps; the rows of an update follow from the discount."""

ACTOR_CRITIC: dict[str, Any] = {
    "steps_per_update": 1_024, "gradient_limit": 0.1, "advantage_decay": 0.95, "learning_rate": 3e-3, "learning_rate_share_end": 0.33, "critic_learning_rate": 1e-3,
    "critic_passes": 4, "beyond_weight": 0.1,
}  # fmt: skip
"""Sixteen steps of 64 copies, gradients that are nearly all shortened to one length, and a critic that goes over them more often than the
policy may."""

MODEL: dict[str, Any] = SOFT | {
    "updates_per_step": 24.0, "model_every": 128, "model_updates": 40, "gaussian": False, "model_rollouts": 400, "open_loop_limit": 0.2, "rounds_kept": 4, "real_share": 0.1, "policy_average": 0.00007,
}  # fmt: skip
"""The same for methods with a model: many updates, and model rollouts long enough to see what a command leads to, as far as the model can tell."""

GUIDES = {
    "ppo": Guide(
        "PPO", "fresh steps",
        "First choice where simulated steps are cheap: robust, seldom needs tuning, uses many copies well.",
        "Hundreds of thousands to millions of steps, at tens of thousands a second.",
        "Spread collapses before the goal was met (spread near 0, score flat), or updates are too large (ratios limited far above a quarter).",
        PROXIMAL, _lengths(64, (150_000, 1_000_000, 4_000_000), 24_576),
    ),
    "a2c": Guide(
        "Actor-critic (A2C)", "fresh steps",
        "The plain ancestor of PPO: each step is learned from once. A yardstick, and simple to reason about.",
        "Several times the steps of PPO.",
        "One bad update ruins the policy, as nothing limits it: score drops and stays down. Smaller learning rate, larger updates.",
        ACTOR_CRITIC, _lengths(64, (300_000, 1_000_000, 4_000_000), 49_152),
    ),
    "ddpg": Guide(
        "DDPG", "replay",
        "Smooth tasks with few commands, where a deterministic policy is wanted from the start.",
        "Tens to hundreds of thousands of steps, at some hundreds a second.",
        "Commands stick at their limits (share saturated), or the critic believes its own errors (predicted far above realised).",
        DETERMINISTIC | {"policy_delay": 2}, _lengths(8, (20_000, 100_000, 400_000), 10_000),
    ),
    "td3": Guide(
        "TD3", "replay",
        "As DDPG, with two critics against overestimation; precise, calm policies.",
        "As DDPG, a little slower a step.",
        "Explores only by what is added to commands: finds nothing where the reward is far away. Larger spread, longer memory.",
        DETERMINISTIC, _lengths(8, (20_000, 100_000, 400_000), 10_000),
    ),
    "sac": Guide(
        "SAC", "replay",
        "First choice where steps are dear or slow to simulate: learns most from each, explores by itself.",
        "Tens to hundreds of thousands of steps, at some hundreds a second.",
        "Entropy keeps commands noisy where precision is wanted (spread stays wide): lower the entropy wanted.",
        SOFT, _lengths(8, (20_000, 100_000, 400_000), 10_000),
    ),
    "model-based": Guide(
        "Model-based", "model",
        "Where every real step counts: predicts short model rollouts and learns from them too.",
        "Thousands to tens of thousands of steps, but many updates for each; slow contacts and jumps are hard to predict.",
        "Model rollouts longer than the model is good for: model error above a tenth, score falls as the horizon grows.",
        MODEL, _lengths(8, (5_000, 15_000, 60_000), 2_500),
    ),
    "random search": Guide(
        "Random search", "search",
        "A sanity check: if random linear weights come close, the task is easy and a regulator may do.",
        "Whole episodes; cheap to compute.",
        "Luck: the best of many tries on easy starts. More episodes each.",
        {}, _lengths(64, (200_000, 1_000_000, 5_000_000), 50_000),
    ),
    "cross-entropy": Guide(
        "Cross-entropy search", "search",
        "A linear policy without gradients: works with any reward, also one that comes only at the end.",
        "Whole episodes; cheap to compute.",
        "Narrows down on luck before it has found anything (spread of weights near 0, score flat).",
        {}, _lengths(64, (200_000, 1_000_000, 5_000_000), 50_000),
    ),
    "evolution": Guide(
        "Evolution strategies", "search",
        "A small network without gradients: a reward at the end, jumps and switches do not trouble it.",
        "Many whole episodes; cheap to compute.",
        "The step is lost in the noise of the starts: score mean does not rise. More candidates or episodes each.",
        {}, _lengths(64, (500_000, 2_000_000, 10_000_000), 100_000),
    ),
}  # fmt: skip


def guide_of(method: str) -> Guide:
    """The advice on a method; of a project's own there is none but its name."""
    own = "The project's own method; its file says what it suits."
    return GUIDES.get(method) or Guide(method, "own", own, "Measure it.", "Nothing is known of it here.")


def preset(method: str, length: str = "standard") -> dict[str, Any]:
    """Keys of a recipe for a method: the method, and its preset, which leaves all settings to the standard and to what fits."""
    return {"method": method, **GUIDES[method].presets[length]}


@dataclass(frozen=True)
class SettingFacts:
    """What a form needs of one setting."""

    key: str
    name: str
    does: str
    wrong: str
    default: Any
    limits: str
    options: tuple[str, ...]
    annotation: Any
    time: bool = False
    """Whether it may be stated as a time, such as 0.4 s."""


AS_TIMES = {
    "samples": "a time, such as 0.4 s", "memory": "how long it lasts, such as 0.4 s", "horizon": "how far ahead it looks, such as 5 s",
}  # fmt: skip
"""How a setting that says a time may be stated too; see `settings.Duration`."""


def settings_facts(schema: type[Settings], standard: Mapping[str, Any] | None = None) -> list[SettingFacts]:
    """All settings of a method in the order of their schema; what `standard` states is their default."""
    stated = schema.model_validate(dict(standard or {}))
    facts = []
    for key, info in schema.model_fields.items():
        marks = {Ge: "at least {ge}", Gt: "above {gt}", Le: "at most {le}", Lt: "below {lt}"}
        limits = [text.format(**{text[text.index("{") + 1 : -1]: _number(getattr(m, text[text.index("{") + 1 : -1]))})
                  for m in info.metadata for kind, text in marks.items() if isinstance(m, kind)]  # fmt: skip
        extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        time = "time" in extra
        said = " and ".join(limits) + (f", or {AS_TIMES[str(extra['time'])]}" if time else "")
        options = getattr(info.annotation, "__args__", ()) if "Literal" in str(info.annotation) else ()
        facts.append(
            SettingFacts(
                key, info.title or key.replace("_", " "), info.description or "", str(extra.get("wrong", "")), getattr(stated, key),
                said, tuple(o for o in options if isinstance(o, str)), info.annotation, time,
            )
        )  # fmt: skip
    return facts


def _number(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


assert set(GUIDES) == set(METHODS)
