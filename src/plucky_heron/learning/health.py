"""Figures by which one sees how a method is doing: their key, words, healthy band and how they are written.

Methods declare them with their settings (`health` of the settings' class), in the order in which they are shown.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class HealthFigure:
    """One figure of those that `improve` returns under `key`; `low` and `high` bound what healthy runs show, where that is known."""

    key: str
    words: str
    low: float | None = None
    high: float | None = None
    unit: str = ""
    """"%" for a share, shown as per cent; else what the figure is in."""
    digits: int = 2

    def show(self, value: float) -> str:
        """The figure as it is written."""
        if self.unit == "%":
            return f"{100 * value:.0f} %".replace("-", "−")
        return f"{value:.{self.digits}f}".replace("-", "−") + (f" {self.unit}" if self.unit else "")


# bands of PPO: the middle 90 % of the updates of runs that solved `swing_up` and `balance` of benchmarks/unseen by their standard,
# rounded outwards: KL 0.0012 to 0.0127, ratios 0.5 to 17 %, critic -0.35 to 0.99 (-0.35 at first; 0.07 in three of four updates)
KL = HealthFigure("kl", "change an update (KL)", 0.001, 0.03, digits=3)
RATIOS_LIMITED = HealthFigure("ratios_limited", "ratios limited", 0.005, 0.25, "%")
# and the middle half of the updates of A2C, SAC and TD3 that solved `steer`, `stop`, `hold` or `balance`, rounded outwards: spread 0.10 to
# 0.53, draws of A2C beyond the limits 9 to 36 %, saturated commands of TD3 9 to 21 %, inputs at their limit up to 0.6 %
SPREAD = HealthFigure("spread", "spread, share of range", 0.05, 0.55)
CRITIC_EXPLAINS = HealthFigure("critic_explains", "critic explains", 0.05, 1.0)
ENTROPY_WEIGHT = HealthFigure("entropy_weight", "entropy weight", digits=3)
CRITIC_LOSS = HealthFigure("critic_loss", "critic's loss", digits=4)
VALUE_PREDICTED = HealthFigure("value_predicted", "value predicted")
VALUE_REALISED = HealthFigure("value_realised", "value realised")
MODEL_ERROR = HealthFigure("model_error", "model error, of the changes", 0.0, 0.1)
MODEL_DISAGREEMENT = HealthFigure("model_disagreement", "members disagree", 0.0, 0.1)
SATURATED = HealthFigure("saturated", "saturated commands", 0.0, 0.3, "%")
SCORE_BEST = HealthFigure("score_best", "best candidate", digits=1)
SCORE_MEAN = HealthFigure("score_mean", "mean of candidates", digits=1)
AT_LIMIT = HealthFigure("at_limit", "draws beyond the limits", 0.0, 0.4, "%")
INPUTS_AT_LIMIT = HealthFigure("inputs_at_limit", "inputs at their limit", 0.0, 0.02, "%")
TRAINING_SCORE = HealthFigure("training_score", "score while exploring", digits=1)
UNSOLVED = HealthFigure("unsolved", "physics steps not solved to 1 mm/s", 0.0, 0.01, "%")
LOST = HealthFigure("lost", "simulations lost in an update", 0.0, 0.0, digits=0)
"""All three of any method: the loop adds them; `UNSOLVED` only where something may touch."""

ON_POLICY = (KL, RATIOS_LIMITED, SPREAD, CRITIC_EXPLAINS, VALUE_PREDICTED, VALUE_REALISED, AT_LIMIT, INPUTS_AT_LIMIT)
OFF_POLICY = (CRITIC_LOSS, VALUE_PREDICTED, VALUE_REALISED, INPUTS_AT_LIMIT)
