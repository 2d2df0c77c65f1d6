"""Settings that all methods share which learn from a replay buffer."""

from __future__ import annotations

from typing import ClassVar, Literal

from plucky_heron.learning.health import OFF_POLICY, HealthFigure
from plucky_heron.learning.network import Activation
from plucky_heron.learning.settings import CriticSettings, setting


class OffPolicySettings(CriticSettings):
    """Settings of every method that learns from a replay buffer."""

    health: ClassVar[tuple[HealthFigure, ...]] = OFF_POLICY

    activation: Activation = setting(
        "relu", "activation", "The nonlinear function after each hidden layer.",
        "tanh: gradients vanish when inputs are large. relu: units die and the spread of outputs shrinks.",
    )  # fmt: skip
    learning_rate: float = setting(
        1e-3, "learning rate of the critic", "How far one update moves the critic.",
        "Too large: critic loss and predicted values jump. Too small: the critic lags behind what the policy does.", gt=0, le=1,
    )  # fmt: skip
    actor_learning_rate: float = setting(
        1e-3, "learning rate of the policy", "How far one update moves the policy.",
        "Too large: the score falls back again and again. Too small: the policy hardly changes.", gt=0, le=1,
    )  # fmt: skip
    learning_rate_share_end: float = setting(
        1.0, "learning rates at the end", "Share of both learning rates that is left when the budget is used up; they fall evenly.",
        "1: the score wanders at the end. Near 0 with too small a budget: stops learning before it has learned.", gt=0, le=1,
    )  # fmt: skip
    minibatch: int = setting(
        256, "minibatch", "Rows of the buffer that one update learns from.",
        "Too small: noisy; too large: each update costs more than it brings.", ge=2, le=65_536,
    )  # fmt: skip
    replay_capacity: int = setting(
        1_000_000, "replay capacity", "Steps that are remembered; the oldest make room.",
        "Too small: forgets what failures look like, and fails again.", ge=64, le=20_000_000,
    )  # fmt: skip
    priority: float = setting(
        0.0, "priority", "Exponent by which surprising rows are drawn more often; 0 draws evenly.",
        "Too large: learns from outliers and noise.", ge=0, le=1,
    )  # fmt: skip
    mirrored_share: float = setting(
        0.5, "seen in the mirror", "Share of drawn rows in which left and right are exchanged, where the task says what that means.",
        "Above 0 with a machine whose sides differ: the value of what was never met is wrong. 0: each side is learned by itself.", ge=0, le=1,
    )  # fmt: skip
    return_steps: int = setting(
        1, "steps of the return", "Rewards that are summed as they came before the critic's value is trusted.",
        "1 with a high sample rate: reward travels back slowly. Too many: values of old, worse behaviour.", time="samples", ge=1, le=100,
    )  # fmt: skip
    updates_per_step: float = setting(
        1.0, "updates a step", "Gradient steps for each control step of one copy.",
        "Too few: learns little from what it met. Too many: the critic believes its own errors (predicted above realised).",
        gt=0, le=64,
    )  # fmt: skip
    update_after: Literal["steps", "episode"] = setting(
        "steps", "update after", "Whether updates follow every few steps or each end of an episode.",
        "After episodes, long episodes leave the policy unchanged for long.",
    )  # fmt: skip
    steps_per_round: int = setting(
        64, "steps a round", "Control steps, over all copies, between rounds of updates.",
        "Too many: the policy acts on what it knew long ago.", ge=1, le=100_000,
    )  # fmt: skip
    random_start_steps: int = setting(
        4_000, "random start", "Control steps of random commands before anything is learned.",
        "Too few: the critic sees one corner and the policy is stuck there.", ge=0, le=1_000_000,
    )  # fmt: skip
    random_hold: int = setting(
        20, "random hold", "Samples for which each random command is held.",
        "Too short for a heavy machine: the random start hardly moves it.", time="samples", ge=1, le=10_000,
    )  # fmt: skip
    target_mix: float = setting(
        0.005, "target mix", "Share by which target networks follow at each update.",
        "Too large: values chase themselves and run away. Too small: learning is slow.", gt=0, le=1,
    )  # fmt: skip
    policy_average: float = setting(
        0.0, "policy average", "Share by which the policy that is kept follows the one that learns, at each update; 0 keeps that one itself.",
        "0: the score jumps from evaluation to evaluation. Too small: what is kept lags behind what was learned.", ge=0, lt=1,
    )  # fmt: skip
    critic_only_steps: int = setting(
        0, "policy rests", "Control steps at first in which critics learn and the policy stays as it began.",
        "0 where the policy begins as a base controller that already works: critics that know nothing pull it away before they know better.", ge=0, le=10_000_000,
    )  # fmt: skip
    standardisation_steps: int | None = setting(
        None, "standardisation steps", "Mean and spread of observations follow what is met for so long, at least the random start; off: to the end. They "
        "follow at ever longer intervals, and networks are changed so that they say what they said before.",
        "Too few: the scale is that of one corner, and inputs stand at their limit.", ge=0, le=10_000_000,
    )  # fmt: skip
    reward_standardisation: bool = setting(
        True, "standardise rewards", "Divides rewards by the running spread of the discounted return.",
        "Off with large rewards: critic loss in the thousands, and a policy pushed to the limits.",
    )  # fmt: skip
    reward_limit: float | None = setting(
        None, "reward limit", "Rewards of a single step are held within this, as the task gives them; evaluations are not touched.",
        "None with a large penalty at a crash: the critic learns little but the crash. Too small: a crash costs too little.", gt=0,
    )  # fmt: skip
    penalty_limit: float | None = setting(
        None, "penalty limit", "Rewards of a single step are not below minus this, as the task gives them; what is won is never held.",
        "None with a large penalty at a crash: the critic learns little but the crash. Too small: failing costs less than going on.", gt=0,
    )  # fmt: skip
    values_from_start: bool = setting(
        False, "values begin at what was met", "Critics begin with the mean return of the random start, not with 0.",
        "Off where rewards are below zero: what was never tried looks best, and the policy runs after it.",
    )  # fmt: skip
    value_bounds: bool = setting(
        False, "values within bounds", "What a later state is worth is held within what the best and the worst reward met, for ever, would bring.",
        "Off: values above what any policy could earn are believed.",
    )  # fmt: skip
    value_scale: float = setting(
        10.0, "value scale", "Spread that standardised returns are given.",
        "Too large: gradients are held by their limit. Too small: entropy drowns the reward.", gt=0, le=1000,
    )  # fmt: skip
    gradient_limit: float | None = setting(
        None, "gradient limit", "Longer gradients are shortened to this norm.",
        "None with rare large rewards: single updates undo many.", gt=0,
    )  # fmt: skip
