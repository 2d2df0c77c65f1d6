"""Findings on how the method learns: its rate, its spread, its critic, its limits."""

from __future__ import annotations

import numpy as np

from plucky_heron.analysis.diagnosis.finding import (
    LATE,
    Check,
    Finding,
    Severity,
    Try,
    best_success,
    median,
    number,
    share,
)
from plucky_heron.analysis.diagnosis.record import Record
from plucky_heron.learning.guide import GUIDES

SOLVED = 0.9
"""Share of successes from which nothing of this is the matter."""
KL_LARGE, KL_SMALL = 0.06, 2e-4
"""Change of the policy an update beyond which steps are too large (twice the upper end of the healthy band), or too small to matter."""
LOSS_GROWS = 20.0
RATE_LARGE = 0.1
"""Learning rate of a replay method above which it is too large whatever else shows: SAC on the hoist reached 92 % with 0.05 in 20 k steps, and
nothing with 0.2."""
SPREAD_LOW, SPREAD_HIGH, SPREAD_GROWS = 0.05, 0.6, 1.3
AT_LIMITS, INPUTS_AT_LIMIT, UNTRAINED_AT_LIMITS = 0.45, 0.05, 0.2
EXPLAINS_LITTLE = 0.1
OVERESTIMATED = 0.5
MODEL_WRONG = 0.15
LIMIT_FACTOR = 100.0
LARGE_REWARD = 20.0


def _family(record: Record) -> str:
    return GUIDES[record.recipe.method].family if record.recipe.method in GUIDES else "own"


def _rates(record: Record, factor: float) -> dict[str, str]:
    """Both learning rates of the method times a factor."""
    return {
        key: number(float(record.setting(key)) * factor)
        for key in ("learning_rate", "actor_learning_rate")
        if record.setting(key) is not None
    }


def learning_rate_too_large(record: Record) -> Finding | None:
    """Each update moves the policy far more than what it learned from supports; or the critic's loss runs away."""
    if best_success(record) >= SOLVED or record.setting("learning_rate") is None:
        return None
    usual = type(record.recipe.method_settings()).model_fields["learning_rate"].default
    # a method of the project's own may have none that is usual
    far = isinstance(usual, (int, float)) and float(record.setting("learning_rate")) > 15.0 * usual
    first = Try("the usual learning rate", dict.fromkeys(_rates(record, 1.0), number(usual) if far else ""))
    tries = (
        first if far else Try("a third of the learning rate", _rates(record, 1 / 3)),
        Try("a tenth of it", _rates(record, 0.1)),
    )
    text = "The learning rate is too large"
    kl = record.figure("kl")
    if len(kl) >= 4 and median(kl) > KL_LARGE:
        evidence = f"an update changes the policy by a KL of {median(kl):.3f}; healthy runs stay below 0.03"
        return Finding("learning rate too large", "trouble", text, evidence, "kl", tries, median(kl))
    fastest = max(float(record.setting(key) or 0.0) for key in ("learning_rate", "actor_learning_rate"))
    if _family(record) in ("replay", "model") and fastest > RATE_LARGE and best_success(record) < 0.5:
        evidence = f"a learning rate of {fastest:g}: critics that learn from a replay buffer follow their own errors above {RATE_LARGE:g}"
        return Finding("learning rate too large", "trouble", text, evidence, "critic_loss", tries, fastest)
    early, late = record.figure("critic_loss", 0.0, 0.35), record.figure("critic_loss", LATE)
    if (
        len(early) >= 3
        and len(late) >= 3
        and median(late) > LOSS_GROWS * max(median(early), 1e-9)
        and median(late) > 1.0
    ):
        evidence = f"the critic's loss grew from {median(early):.3g} to {median(late):.3g}"
        return Finding("learning rate too large", "trouble", text, evidence, "critic_loss", tries, median(late))
    return None


def learning_rate_too_small(record: Record) -> Finding | None:
    """Updates hardly change the policy."""
    kl = record.figure("kl", 0.1)
    if best_success(record) >= 0.5 or len(kl) < 4 or median(kl) > KL_SMALL or median(kl) < 0.0:
        return None
    evidence = f"an update changes the policy by a KL of {median(kl):.5f}; healthy runs by 0.001 to 0.03"
    tries = (Try("ten times the learning rate", _rates(record, 10.0)), Try("the standard", {"learning_rate": "0.001"}))
    return Finding(
        "learning rate too small",
        "trouble",
        "The learning rate is too small",
        evidence,
        "kl",
        tries,
        1.0 / max(median(kl), 1e-9),
    )


def spread_collapsed(record: Record) -> Finding | None:
    """Exploration has gone before the task is learned."""
    late = record.figure("spread", LATE)
    if best_success(record) >= SOLVED or len(late) < 3 or median(late) >= SPREAD_LOW or _family(record) == "search":
        return None
    tries = []
    if record.setting("log_spread_start") is not None:
        start = record.fitted.get("log_spread_start", -0.7)
        tries.append(Try("begin with a wider spread", {"log_spread_start": number(float(start))}))
    if record.setting("entropy_weight") is not None:
        tries.append(Try("pay a little for spread", {"entropy_weight": "0.003"}))
    if record.setting("entropy_per_command") is not None:
        tries.append(Try("ask for more spread", {"entropy_per_command": "-0.7"}))
    evidence = f"spread {median(late):.3f} of the command range at {share(best_success(record))} success; healthy runs keep 0.05 to 0.55 until they succeed"
    return Finding(
        "spread collapsed",
        "trouble",
        "Exploration has collapsed",
        evidence,
        "spread",
        tuple(tries),
        1.0 / max(median(late), 1e-6),
    )


def spread_exploding(record: Record) -> Finding | None:
    """The policy is paid to be random, or runs away from its data."""
    early, late = record.figure("spread", 0.0, 0.2), record.figure("spread", LATE)
    if len(early) < 2 or len(late) < 3 or median(late) < SPREAD_HIGH or median(late) < SPREAD_GROWS * median(early):
        return None
    tries = [Try("a third of the learning rate", _rates(record, 1 / 3))]
    if record.setting("entropy_weight"):
        tries.insert(
            0,
            Try("a tenth of the weight of entropy", {"entropy_weight": number(0.1 * record.setting("entropy_weight"))}),
        )
    if record.setting("entropy_per_command") is not None:
        tries.insert(0, Try("ask for less entropy", {"entropy_per_command": "-1.5"}))
    evidence = f"spread grew from {median(early):.2f} to {median(late):.2f} of the command range"
    return Finding(
        "spread exploding",
        "trouble",
        "The spread grows instead of falling",
        evidence,
        "spread",
        tuple(tries),
        median(late),
    )


def commands_at_limits(record: Record) -> Finding | None:
    """Most commands stand at their limits: what is learned between them does not matter."""
    late = record.figure("at_limit", LATE)
    if best_success(record) >= SOLVED or len(late) < 3 or median(late) < AT_LIMITS:
        return None
    tries = []
    if record.setting("log_spread_start") is not None:
        start = record.fitted.get("log_spread_start", -1.5)
        tries.append(Try("begin with a smaller spread", {"log_spread_start": number(float(start))}))
    if record.setting("beyond_weight") is not None:
        tries.append(Try("a price on means beyond the limits", {"beyond_weight": "0.1"}))
    if record.setting("saturation_weight") is not None:
        tries.append(Try("a price on saturation", {"saturation_weight": "0.1"}))
    evidence = f"{share(median(late))} of the commands at their limits while exploring; healthy runs stay below 40 %"
    return Finding(
        "commands at limits",
        "trouble",
        "Commands are pinned at their limits",
        evidence,
        "at_limit",
        tuple(tries),
        median(late),
    )


def critic_explains_nothing(record: Record) -> Finding | None:
    """The critic predicts no better than a constant."""
    late = record.figure("critic_explains", 0.5)
    if best_success(record) >= SOLVED or len(late) < 4 or median(late) >= EXPLAINS_LITTLE:
        return None
    tries = [Try("more passes of the critic", {"critic_passes": "10"})]
    if record.setting("critic_learning_rate") is not None:
        tries.insert(0, Try("the critic's own learning rate off: that of the policy", {"critic_learning_rate": "off"}))
    if record.setting("observation_standardisation") is False:
        tries.append(Try("standardise observations", {"observation_standardisation": "true"}))
    evidence = (
        f"it explains {median(late):.2f} of the returns in the second half; from 0.05 on it helps, good runs reach 0.9"
    )
    return Finding(
        "critic explains nothing",
        "trouble",
        "The critic explains nothing",
        evidence,
        "critic_explains",
        tuple(tries),
        1.0 - median(late),
    )


def value_overestimated(record: Record) -> Finding | None:
    """Critics promise more than comes: the policy follows their errors."""
    if _family(record) not in ("replay", "model"):
        return None
    said, came = record.figure("value_predicted", 0.5), record.figure("value_realised", 0.5)
    if len(said) < 3 or len(came) < 3 or best_success(record) >= SOLVED:
        return None
    gap, scale = median(said) - median(came), max(abs(median(came)), float(np.std(came)), 1.0)
    if gap < OVERESTIMATED * scale:
        return None
    tries = [
        Try("targets that follow slowly", {"target_mix": "0.005"}),
        Try("returns over several steps", {"return_steps": str(record.fitted.get("return_steps", 5))}),
    ]
    if record.recipe.method == "ddpg":
        tries.append(Try("TD3 takes the smaller of two critics: choose it as the method"))
    evidence = f"values predicted {median(said):.3g}, realised {median(came):.3g}"
    return Finding(
        "value overestimated",
        "trouble",
        "The critic promises more than comes",
        evidence,
        "value_predicted",
        tuple(tries),
        gap / scale,
    )


def replay_too_small(record: Record) -> Finding | None:
    """What was learned early is forgotten."""
    capacity = record.setting("replay_capacity")
    if (
        capacity is None
        or best_success(record) >= 0.95
        or record.steps < 2 * capacity
        or capacity > 0.25 * record.recipe.steps
    ):
        return None
    evidence = f"the buffer holds the last {capacity:,} of {record.steps:,} steps".replace(",", " ")
    tries = (Try("room for the whole run", {"replay_capacity": str(record.recipe.steps)}),)
    return Finding(
        "replay too small",
        "doubt",
        "The replay buffer forgets most of the run",
        evidence,
        "replay",
        tries,
        record.steps / capacity,
    )


def warm_up_too_short(record: Record) -> Finding | None:
    """The critic's first rows come from a policy that knows nothing and hardly moves."""
    warm, fits = record.setting("random_start_steps"), record.fitted.get("random_start_steps")
    if (
        warm is None
        or fits is None
        or best_success(record) >= SOLVED
        or warm >= 0.25 * min(fits, 0.1 * record.recipe.steps)
    ):
        return None
    evidence = f"{warm} random steps before learning, {fits} fit the task: an episode a copy"
    return Finding(
        "warm-up too short",
        "doubt",
        "Learning begins before anything was seen",
        evidence,
        "training_score",
        (Try("a longer random start", {"random_start_steps": str(fits)}),),
        fits / max(warm, 1),
    )


def gradient_limit_always(record: Record) -> Finding | None:
    """The limit decides the gradient alone."""
    limit, found = record.setting("gradient_limit"), record.figure("gradient")
    if limit is None or len(found) < 4 or best_success(record) >= SOLVED or median(found) < LIMIT_FACTOR * limit:
        return None
    evidence = f"gradients of {median(found):.3g} against a limit of {limit:g}, in {share(float((found > limit).mean()))} of the updates"
    return Finding(
        "gradient limit always active",
        "note",
        "The gradient limit cuts every update down",
        evidence,
        "gradient",
        (Try("the usual limit", {"gradient_limit": "0.5"}),),
        median(found) / limit,
    )


def kl_limit_ends_passes(record: Record) -> Finding | None:
    """Most of what each update could learn is left."""
    passes, wanted, limit = record.figure("passes", 0.1), record.setting("passes"), record.setting("kl_limit")
    if limit is None or not wanted or wanted < 2 or len(passes) < 4 or float(np.mean(passes)) > 0.5 * wanted:
        return None
    severity: Severity = "note" if best_success(record) >= SOLVED else "doubt"
    evidence = f"{np.mean(passes):.1f} of {wanted} passes before the policy has moved by {limit:g}"
    tries = (
        Try("a third of the learning rate", _rates(record, 1 / 3)),
        Try("the usual limit", {"kl_limit": "0.03"})
        if limit < 0.03
        else Try("fewer passes", {"passes": str(max(1, wanted // 2))}),
    )
    return Finding(
        "KL limit ends every update",
        severity,
        "The KL limit ends updates early",
        evidence,
        "passes",
        tries,
        wanted / max(float(np.mean(passes)), 0.1),
    )


def inputs_at_limit(record: Record) -> Finding | None:
    """Observations beyond the range that the network tells apart."""
    late = record.figure("inputs_at_limit", 0.2)
    if len(late) < 3 or median(late) < INPUTS_AT_LIMIT:
        return None
    evidence = f"{share(median(late))} of the standardised inputs stand at {record.setting('observation_limit'):g}"
    return Finding(
        "observations beyond their range",
        "doubt" if best_success(record) < SOLVED else "note",
        "Observations leave the range that the network can tell apart",
        evidence,
        "inputs_at_limit",
        (Try("a wider limit", {"observation_limit": "5"}),),
        median(late),
    )


def untrained_at_limits(record: Record) -> Finding | None:
    """The first commands stand at limits already."""
    first: dict[str, dict[str, float]] = next((d["untrained"] for d in record.details if "untrained" in d), {})
    worst = max(first, key=lambda name: first[name]["at_limit"], default="")
    if not worst or first[worst]["at_limit"] < UNTRAINED_AT_LIMITS:
        return None
    evidence = f"{share(first[worst]['at_limit'])} of the untrained policy's {worst} at a limit"
    return Finding(
        "untrained policy at limits",
        "doubt" if best_success(record) < SOLVED else "note",
        "The untrained policy commands its limits",
        evidence,
        "at_limit",
        (Try("a small last layer", {"last_layer_scale": "0.01"}),),
        first[worst]["at_limit"],
    )


def exploration_too_fresh(record: Record) -> Finding | None:
    """Noise drawn anew in every sample cancels before the machine moves."""
    memory, fits = record.setting("exploration_memory"), record.fitted.get("exploration_memory")
    if memory is None or fits is None or best_success(record) >= 0.5 or fits < 0.5:
        return None
    dt = record.task.sample_time

    def lasts(m: float) -> float:
        return dt / max(1.0 - m, 1e-6)

    if lasts(memory) > 0.35 * lasts(fits):
        return None
    evidence = f"deviations last {lasts(memory):.2g} s, those that fit the task {lasts(fits):.2g} s"
    tries = [
        Try(
            "deviations that last",
            {"exploration_memory": number(fits)}
            | (
                {"log_spread_start": number(record.fitted["log_spread_start"])}
                if "log_spread_start" in record.fitted
                else {}
            ),
        )
    ]
    return Finding(
        "exploration too fresh",
        "doubt",
        "Exploration is too short-lived to move the machine",
        evidence,
        "spread",
        tuple(tries),
        lasts(fits) / lasts(memory),
    )


def discount_too_short(record: Record) -> Finding | None:
    """Rewards later than the horizon do not count, and the machine's motion takes longer."""
    discount, fits = record.setting("discount"), record.fitted.get("discount")
    if discount is None or fits is None or best_success(record) >= SOLVED:
        return None
    dt = record.task.sample_time
    ahead, wanted = dt / (1.0 - discount), dt / (1.0 - fits)
    if ahead > 0.2 * wanted:
        return None
    evidence = (
        f"it looks {ahead:.2g} s ahead; the machine's slowest motion and what solves the task ask for {wanted:.2g} s"
    )
    return Finding(
        "discount too short",
        "doubt",
        "The discount looks less far ahead than the task takes",
        evidence,
        "value_realised",
        (Try("a discount that fits", {"discount": f"{fits:.6g}"}),),
        wanted / ahead,
    )


def rewards_not_scaled(record: Record) -> Finding | None:
    """Values far from 1 that nothing brings to scale."""
    came = record.figure("value_realised", 0.2)
    if record.setting("reward_standardisation") is not False or len(came) < 3 or best_success(record) >= SOLVED:
        return None
    size = median(np.abs(came))
    if 0.02 < size < LARGE_REWARD:
        return None
    return Finding(
        "reward scale far off",
        "doubt",
        "Rewards are far from the scale that networks learn well",
        f"returns of the size of {size:.3g}, not standardised",
        "value_realised",
        (
            Try(
                "standardise rewards",
                {"reward_standardisation": "true", "reward_limit": "10"}
                if _family(record) == "fresh steps"
                else {"reward_standardisation": "true"},
            ),
        ),
        abs(np.log(max(size, 1e-9))),
    )


def model_error(record: Record) -> Finding | None:
    """The policy practises in a model that is wrong."""
    late, early = record.figure("model_error", LATE), record.figure("model_error", 0.0, 0.3)
    if len(late) < 3 or median(late) < MODEL_WRONG:
        return None
    horizon = record.setting("horizon_end") or record.setting("horizon")
    first = f" (at first {share(median(early))})" if len(early) else ""
    evidence = f"a step of the model is off by {share(median(late))} of the change{first}, and rollouts are {horizon} steps long: errors add up"
    tries = (
        Try("shorter rollouts", {"horizon": "1", "horizon_end": str(max(1, (horizon or 2) // 3))}),
        Try(
            "more learning of the model",
            {"model_updates": str(max(60, 3 * int(record.setting("model_updates") or 20)))},
        ),
    )
    return Finding(
        "model error",
        "trouble" if best_success(record) < SOLVED else "note",
        "The learned model is wrong, more so with every step of a rollout",
        evidence,
        "model_error",
        tries,
        median(late),
    )


CHECKS: tuple[Check, ...] = (
    learning_rate_too_large, learning_rate_too_small, spread_collapsed, spread_exploding, commands_at_limits, critic_explains_nothing,
    value_overestimated, replay_too_small, warm_up_too_short, gradient_limit_always, kl_limit_ends_passes, inputs_at_limit,
    untrained_at_limits, exploration_too_fresh, discount_too_short, rewards_not_scaled, model_error,
)  # fmt: skip
