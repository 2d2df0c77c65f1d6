"""Settings that fit a task by themselves: numbers from a measurement of it, each with why; what a recipe states stays."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from plucky_heron.learning.guide import GUIDES
from plucky_heron.task.problem import Problem
from plucky_heron.training.measurement import HELD, TIMES, Measurement, measured, memory_of, redrawn_after
from plucky_heron.training.recipe import Recipe
from plucky_heron.units import show

RETURNED, RETURNED_SAMPLES, RETURNED_SHARE = 0.16, 4, 0.15
"""Rewards are summed before a critic is trusted over so many seconds, or samples if that is more, and no longer than this share of the
median episode under held random commands: where a machine falls within half a second, what older policies did next tells little."""
RARE = 2.0
"""Spread of returns with endings over that without, from which endings are rare and large."""
BEYOND = 1.2
"""What the largest penalty may cost, of what is at stake in going on: the most that it costs, or how far what it brings differs."""
AS_LONG = 0.8
"""Share of its length that an episode must keep under exploration with a memory."""
LASTS = 0.12
"""Longest time constant (s) of deviations for methods of fresh steps: with 0.4 s PPO swung the bell up in two seeds of four, with 0.09 s in all
(both with rewards held within 3)."""
FEW_COMMANDS = 3
"""Commands up to which exploration begins with a spread of a half."""
FEW_EPISODES, FEW_ROWS = {"replay": 50, "model": 20}, 16
"""Episodes, by the family of the method, under which few starts are met; 500 for all others. SAC and TD3 solved tasks of
benchmarks/unseen within 40 to 150 episodes."""
ROLLOUT, ROLLOUT_SAMPLES = (0.2, 1.0), (10, 40)
"""Seconds of a model rollout at first and in the end, and how many samples that may be at most. With 0.1 and 0.3 s a controller came near
a place and never to rest there (see docs/results.md)."""


@dataclass(frozen=True)
class Fitted:
    """The value of a setting, and why."""

    value: Any
    why: str


def fitted_settings(problem: Problem, recipe: Recipe, found: Measurement) -> dict[str, Fitted]:
    """What fits a task, by the key of each setting that the recipe's method has; see docs/methods.md."""
    family = GUIDES[recipe.method].family if recipe.method in GUIDES else "own"
    rules: dict[str, Fitted] = {}
    if family in ("fresh steps", "replay", "model"):
        rules |= _horizon(problem, found)
        rules |= _exploration(problem, found, family)
    if family == "fresh steps":
        rules |= _rows(recipe, rules["discount"].value)
    if family in ("replay", "model"):
        rules |= _replay(problem, recipe, found)
    if family == "model":
        rules |= _model(problem)
    known = recipe.schema_of_settings().model_fields
    return {key: fitted for key, fitted in rules.items() if key in known}


def fit(recipe: Recipe, problem: Problem, project: Path | None = None, threads: int = 1) -> Recipe:
    """The recipe in numbers for a task: what it states as times, and what fits in all that it leaves open where it asks for that."""
    recipe = recipe.in_samples(problem.sample_time, f"recipe {recipe.name}")
    recipe.method_settings(f"recipe {recipe.name}")
    if not recipe.fit or recipe.own is not None or recipe.method not in GUIDES:
        return recipe
    fitted = fitted_settings(problem, recipe, measured(problem, project, threads))
    fits = {key: "off" if f.value is None else f.value for key, f in fitted.items()}
    settings = recipe.standard | fits | recipe.settings
    made = recipe.model_copy(update={"settings": settings})
    made.method_settings(f"recipe {recipe.name}")
    return made


def warnings(problem: Problem, recipe: Recipe) -> list[str]:
    """What of a recipe's budget and rows is likely to be too little for a task, in words."""
    limit = problem.task.timing.steps
    if recipe.training_time_limit is not None:
        limit = min(limit, max(1, problem.task.timing.samples(recipe.training_time_limit)))
    episodes, found = recipe.steps // limit, []
    drawn = {
        name: max(episodes, int(recipe.steps * problem.sample_time / s.every)) if s.every > 0.0 else episodes
        for name, s in problem.task.setpoints.items()
        if s.draw.fixed is None
    }
    enough = FEW_EPISODES.get(GUIDES[recipe.method].family if recipe.method in GUIDES else "", 500)
    # set-points that are drawn again on the way stand for starts too
    fewest = min(drawn, key=lambda name: drawn[name], default="")
    if drawn.get(fewest, episodes) < enough:
        met = f", {drawn[fewest]} values of {fewest}" if fewest else ""
        found.append(
            f"{recipe.steps:,} steps are {episodes} episodes of full length{met}: under {enough}, few starts and set-points are met"
        )
    rows = getattr(recipe.method_settings(sample_time=problem.sample_time), "steps_per_update", None)
    if recipe.method == "ppo" and rows is not None and rows // recipe.copies < FEW_ROWS:
        found.append(
            f"{rows // recipe.copies} rows a copy in an update: under {FEW_ROWS}, advantages are the critic's word alone"
        )
    return found


def _horizon(problem: Problem, found: Measurement) -> dict[str, Fitted]:
    # rounded as what is lacking to 1, which at high rates and long horizons is little
    discount = 1.0 - float(f"{problem.sample_time / found.horizon:.3g}")
    if found.only_at_endings:
        why = "the reward comes at the end: the whole episode"
    else:
        parts = [f"slowest motion {show(found.slowest, 's')}"] if math.isfinite(found.slowest) else []
        parts += [f"{found.solved_by} takes {show(found.solved, 's')}"] if math.isfinite(found.solved) else []
        anew = redrawn_after(problem)
        parts += [f"set-points drawn anew after {show(anew, 's')}"] if math.isfinite(anew) else []
        why = f"looks {show(found.horizon, 's')} ahead" + (f" ({', '.join(parts)})" if parts else "")
    return {"discount": Fitted(round(discount, 9), why)}


def _exploration(problem: Problem, found: Measurement, family: str) -> dict[str, Fitted]:
    tried = TIMES if family != "fresh steps" else [t for t in TIMES if t <= LASTS]
    time = max(t for t, length in zip(tried, found.lengths, strict=False) if length >= AS_LONG * found.lengths[0])
    memory = min(round(memory_of(time, problem.sample_time), 4), 0.9999)
    if time > 0.0:
        why = f"deviations that last {time:g} s; episodes stay as long as with uncorrelated ones"
    else:
        why = "deviations that last end episodes sooner than uncorrelated ones"
    rules = {"exploration_memory": Fitted(memory, why)}
    if family == "fresh steps":
        # what one deviation brings drowns in what the others do: with many commands each begins quieter
        commands = len(problem.commands)
        share = 0.5 * min(1.0, math.sqrt(FEW_COMMANDS / commands))
        spread = share * math.sqrt(1.0 - memory**2)
        many = "a half" if commands <= FEW_COMMANDS else f"{share:.2g}, {commands} commands at once"
        rules["log_spread_start"] = Fitted(
            round(math.log(spread), 3), f"a stationary spread of {many}, with what is carried"
        )
    elif memory == 0.0:
        rules["exploration"] = Fitted("independent", why)
    return rules


def _rows(recipe: Recipe, discount: float) -> dict[str, Fitted]:
    if recipe.method == "a2c":
        return {}
    decay = float(recipe.settings.get("advantage_decay", 0.95))
    least = math.ceil(1.0 / (1.0 - discount * decay))
    each = max(32, least)
    return {"steps_per_update": Fitted(each * recipe.copies, f"{each} rows a copy; advantages reach {least} back")}


def _replay(problem: Problem, recipe: Recipe, found: Measurement) -> dict[str, Fitted]:
    dt, copies = problem.sample_time, recipe.copies
    returned = min(max(RETURNED, RETURNED_SAMPLES * dt), RETURNED_SHARE * found.held_length)
    several = max(1, min(20, round(returned / dt)))
    hold = max(1, round(HELD / dt))
    episode = max(1, round(found.held_length / dt))
    warm = max(500, min(episode * copies, recipe.schedule // 10))
    wide = 64 if len(problem.entries) <= 6 else 128
    rules = {
        "return_steps": Fitted(several, f"rewards of {show(several * dt, 's')} as they came"),
        "random_hold": Fitted(hold, f"random commands last {show(hold * dt, 's')}"),
        "random_start_steps": Fitted(
            warm, f"an episode of {show(episode * dt, 's')} a copy, within a tenth of the budget"
        ),
        "hidden": Fitted([wide, wide], f"{len(problem.entries)} observations"),
    }
    at_stake = max(-found.least_return, found.most_return - found.least_return)
    if found.spread_ratio > RARE and at_stake > 0.0:
        limit = BEYOND * at_stake
        rules["penalty_limit"] = Fitted(
            float(f"{limit:.3g}"),
            f"endings spread the returns {found.spread_ratio:.1f} times as far; going on brings {found.least_return:.3g} to {found.most_return:.3g}",
        )
    return rules


def _model(problem: Problem) -> dict[str, Fitted]:
    dt = problem.sample_time
    first, last = (min(max(1, round(t / dt)), most) for t, most in zip(ROLLOUT, ROLLOUT_SAMPLES, strict=True))
    why = f"model rollouts of {show(first * dt, 's')} at first, {show(last * dt, 's')} in the end"
    return {"horizon": Fitted(first, why), "horizon_end": Fitted(last, why)}
