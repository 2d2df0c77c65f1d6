"""What can be said of stop rules before a run: when they can act at all, and whether their evaluations can tell what they ask."""

from __future__ import annotations

import math
from collections.abc import Sequence

from plucky_heron.analysis.stopping.replay import Pause
from plucky_heron.training.recipe import Recipe
from plucky_heron.training.stopping import StopRule, show_steps, show_value
from plucky_heron.training.stopping.formula import Formula
from plucky_heron.training.stopping.good_enough import GoodEnough
from plucky_heron.training.stopping.no_more_gain import NoMoreGain


def budget_of(recipe: Recipe) -> int:
    """Control steps after which a run of the recipe ends whatever else happens."""
    steps = [rule.earliest(recipe.evaluation.every) for rule in recipe.stop if rule.kind == "budget"]
    return min([recipe.steps, *(s for s in steps if s is not None)])


def can_act(rule: StopRule, recipe: Recipe, steps_per_second: float | None = None) -> str:
    """From when on a rule can act, in words; "" where that is not known."""
    earliest = rule.earliest(recipe.evaluation.every)
    if earliest is None or rule.kind == "budget":
        return ""
    when = f"can act from {show_steps(earliest)} steps" if earliest else "can act at once"
    if steps_per_second and earliest:
        seconds = earliest / steps_per_second
        when += f", {seconds:.0f} s" if seconds < 120 else f", {seconds / 60:.0f} min"
    return when


def warnings_of(rule: StopRule, recipe: Recipe, pause: Pause | None = None) -> list[str]:
    """What is wrong with a rule in its recipe, in words; nothing where all is well."""
    found = []
    episodes, budget = recipe.evaluation.episodes, budget_of(recipe)
    earliest = rule.earliest(recipe.evaluation.every)
    if rule.kind != "budget" and earliest is not None and earliest > budget:
        found.append(f"cannot act before the budget of {show_steps(budget)} steps ends the run")
    if isinstance(rule, NoMoreGain) and "success" in rule.watched:
        less = rule.less_than if isinstance(rule.less_than, float) else rule.less_than[rule.watched.index("success")]
        if less < 1.0 / episodes - 1e-12:
            found.append(_asks_too_finely(less, episodes))
    if isinstance(rule, GoodEnough) and rule.of == "success" and 0.0 < rule.at_least <= 1.0:
        needed = math.ceil(rule.at_least * episodes - 1e-9)
        if needed == episodes and rule.at_least < 1.0:
            found.append(
                f"{show_value('success', rule.at_least)} of {episodes} episodes is all of them: evaluate more episodes"
            )
    if isinstance(rule, GoodEnough) and rule.of == "success" and rule.at_least > 1.0:
        found.append("no share of success is above 100 %")
    if isinstance(rule, Formula) and (beyond := rule.beyond_shares()):
        found.append(f"no share of success is above 100 %: {beyond[0]:g} is {show_value('success', beyond[0])}")
    if isinstance(rule, NoMoreGain) and pause is not None and rule.within < pause.evaluations:
        found.append(
            f"run {pause.run} paused for {pause.evaluations} evaluations ({show_steps(pause.steps)} steps) before a real gain; "
            f"{rule.within} would have ended it"
        )
    return found


def _asks_too_finely(less: float, episodes: int) -> str:
    enough = math.ceil(1.0 / less) if less > 0 else 0
    told = math.ceil(100.0 / episodes)
    instead = f"ask for {told}" + (f", or evaluate {enough}" if 0 < enough <= 4096 else "")
    return f"{episodes} episodes tell {told} point{'s' if told > 1 else ''} apart at best: {instead}"


def patience(pause: Pause | None) -> str:
    """Advice on how long to wait, from recorded runs."""
    if pause is None:
        return "no run on record paused before a gain"
    return f"longest pause before a real gain: {pause.evaluations} evaluations ({show_steps(pause.steps)} steps, run {pause.run})"


def warnings_of_recipe(recipe: Recipe, rules: Sequence[StopRule] | None = None) -> list[str]:
    """What is wrong with the rules of a recipe, each with its kind."""
    return [
        f"{rule.kind}: {text}"
        for rule in (recipe.stop if rules is None else rules)
        for text in warnings_of(rule, recipe)
    ]
