"""Stop rules on trial: the rules being tried, what they do over recorded runs, and what is said of it, without a widget."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from plucky_heron.analysis.stopping.advice import can_act, patience, warnings_of
from plucky_heron.analysis.stopping.replay import (
    Pause,
    Recorded,
    Replayed,
    Summary,
    longest_pause,
    replay_run,
    summarise,
)
from plucky_heron.analysis.stopping.tuning import (
    Axis,
    Judged,
    Tried,
    choose,
    doubt,
    frontier,
    judge,
    most_saved,
    most_words,
    resolution,
    sweep,
    whole_number,
)
from plucky_heron.training.recipe import Recipe
from plucky_heron.training.stopping import StopRule, read_rule, show_steps, show_value
from plucky_heron.training.stopping.evaluation import LENGTH, SCORE, SUCCESS, WORST
from plucky_heron.training.stopping.text import typed_value

NEW: dict[str, dict[str, object]] = {
    "good enough": {"at_least": "95 %", "running": 3},
    "no more gain": {"of": "score", "less_than": 1.0, "within": 8},
    "budget": {"steps": 500_000},
    "gone wrong": {"below_best": "60 %"},
    "formula": {"when": "running(success > 0.9, 4)"},
}
"""What a new rule of each kind begins with."""
SENTENCES: dict[str, tuple[str | tuple[str, int], ...]] = {
    "good enough": (("of", 74), "≥", ("at_least", 62), "in", ("running", 40), "running"),
    "no more gain": (("of", 74), "less than", ("less_than", 62), "in", ("within", 40), "after", ("after", 62)),
    "budget": (("steps", 74), "steps or", ("minutes", 56), "min or", ("episodes", 66), "episodes"),
    "gone wrong": (("of", 74), "more than", ("below_best", 62), "below its best, after", ("after", 62)),
    "formula": (("when", 300),),
}
"""Words and fields of a rule's line, with the width of each field (px)."""
QUANTITIES = (SUCCESS, SCORE, LENGTH, WORST)


def shown(rule: StopRule, key: str) -> str:
    """The value of a rule's field as one types it."""
    value = getattr(rule, key)
    if value is None:
        return ""
    if isinstance(value, str):
        return value
    if isinstance(value, tuple):
        return ", ".join(map(str, value))
    quantity = getattr(rule, "of", "")
    if key in ("at_least", "less_than", "below_best") and quantity == SUCCESS:
        return f"{100 * value:.4g} %"
    if key in ("steps", "after", "episodes") and value >= 1000 and value % 1000 == 0:
        return f"{value // 1000} k"
    return f"{value:g}" if isinstance(value, float) else str(value)


def changed(rule: StopRule, key: str, text: str) -> StopRule:
    """A rule with a field as typed; an empty field takes its default.

    Raises
    ------
    ValueError
        It does not fit; names the key.
    """
    data = rule.model_dump()
    if not text.strip():
        data.pop(key, None)
    elif "," in text and key in ("of", "less_than"):
        data[key] = [part.strip() for part in text.split(",")]
    else:
        data[key] = typed_value(key, text.strip())
    return read_rule(data)


@dataclass(frozen=True)
class Line:
    """What is said under a rule."""

    text: str
    wrong: bool


class Trial:
    """Rules that are tried over recorded runs, with what was tried before."""

    def __init__(self, recipe: Recipe, runs: Sequence[Recorded]) -> None:
        self.recipe, self.runs = recipe, list(runs)
        self.rules: list[StopRule] = list(recipe.stop)
        self.before: list[list[StopRule]] = []
        self.axes: list[Axis] = []
        self.tried: list[Tried] = []

    # --- changing --------------------------------------------------------------------------------------------------

    def put(self, rules: Sequence[StopRule]) -> None:
        """Try other rules; `undo` goes back."""
        if list(rules) != self.rules:
            self.before.append(self.rules)
            self.rules = list(rules)

    def undo(self) -> None:
        """Go back to the rules before."""
        if self.before:
            self.rules = self.before.pop()

    def set_field(self, number: int, key: str, text: str) -> str:
        """Type into a field; returns what is wrong, or nothing."""
        try:
            rule = changed(self.rules[number], key, text)
        except ValueError as error:
            return str(error)
        self.put([*self.rules[:number], rule, *self.rules[number + 1 :]])
        return ""

    def add(self, kind: str) -> None:
        """Add a rule."""
        data = dict(NEW[kind])
        if kind == "budget":
            data["steps"] = self.recipe.steps
        self.put([*self.rules, read_rule({"kind": kind, **data})])

    def remove(self, number: int) -> None:
        """Take a rule away."""
        self.put([*self.rules[:number], *self.rules[number + 1 :]])

    # --- what they do ----------------------------------------------------------------------------------------------

    def replays(self) -> list[Replayed]:
        """What the rules make of each run."""
        return [replay_run(self.rules, one) for one in self.runs]

    def summary(self, replays: Sequence[Replayed]) -> Summary | None:
        """Over all runs."""
        return summarise(replays) if replays else None

    def steps_per_second(self) -> float | None:
        """Measured speed of the recorded runs, their median."""
        speeds = [one.steps / float(one.course.seconds[-1]) for one in self.runs if one.course.seconds[-1] > 0]
        return float(np.median(speeds)) if speeds else None

    def interval_words(self) -> str:
        """How often the runs were evaluated, and where the recipe does otherwise: a count of evaluations means another time then."""
        every = [int(np.median(np.diff(one.course.step))) for one in self.runs]
        wanted = self.recipe.evaluation.every
        if not every:
            return f"evaluated every {show_steps(wanted)} steps"
        found = f"evaluated every {show_steps(float(np.median(every)))} steps"
        same = 0.8 <= float(np.median(every)) / wanted <= 1.25
        return found if same else f"{found}, the recipe every {show_steps(wanted)}: counts mean other times"

    def pause(self, rule: StopRule) -> Pause | None:
        """The longest pause before a real gain of what a rule of no more gain watches first."""
        watched = getattr(rule, "watched", (SUCCESS,))[0]
        least = getattr(rule, "less_than", None)
        least = least[0] if isinstance(least, tuple) else least
        if watched not in (SUCCESS, SCORE):
            return None
        real = 1.5 / self.recipe.evaluation.episodes if watched == SUCCESS else float(least or 1.0)
        return longest_pause(self.runs, watched, real, int(getattr(rule, "after", 0)))

    def line(self, number: int, replays: Sequence[Replayed]) -> Line:
        """What is said under a rule: what is wrong with it, else when it can act and how near it came."""
        rule = self.rules[number]
        pause = self.pause(rule) if rule.kind == "no more gain" else None
        wrong = warnings_of(rule, self.recipe, pause)
        if wrong:
            return Line("; ".join(wrong), True)
        parts = [can_act(rule, self.recipe, self.steps_per_second())]
        if rule.kind == "no more gain" and self.runs:
            parts.append(patience(pause))
        if rule.kind in ("good enough", "gone wrong", "formula") and self.runs and not self.ended(number, replays):
            nearest = max(self.runs, key=lambda one: one.steps)
            parts.append(f"seed {nearest.seed} at its end: {rule.state(nearest.course)}")
        return Line(" · ".join(p for p in parts if p), False)

    def ended(self, number: int, replays: Sequence[Replayed]) -> int:
        """How many runs a rule ends; of two of a kind the one that acts first counts."""
        rule, same = self.rules[number], [r for r in self.rules if r.kind == self.rules[number].kind]
        if len(same) == 1:
            return sum(r.by == rule.kind for r in replays)
        count = 0
        for one, r in zip(self.runs, replays, strict=True):
            first = next((k for k, other in enumerate(self.rules) if other.met(one.course)[r.seen - 1]), None)
            count += r.by == rule.kind and first == number
        return count

    # --- tuning ----------------------------------------------------------------------------------------------------

    def numbers(self) -> list[tuple[str, int, str]]:
        """What can be tuned: its name, the rule, the key."""
        return [
            (f"{rule.kind}: {key.replace('_', ' ')}", number, key)
            for number, rule in enumerate(self.rules)
            for key in rule.tunable
            if isinstance(getattr(rule, key), (int, float)) or (key == "steps" and rule.kind == "budget")
        ]

    def usual_axis(self, number: int, key: str) -> Axis:
        """Values worth trying for a number of a rule, its present one among them."""
        rule = self.rules[number]
        longest = max((one.steps for one in self.runs), default=self.recipe.steps)
        quantity = getattr(rule, "of", SUCCESS)
        quantity = quantity[0] if isinstance(quantity, tuple) else quantity
        scores = (
            np.concatenate([one.course.of(str(quantity)) for one in self.runs]) if self.runs else np.array([0.0, 1.0])
        )
        low, high = float(np.nanmin(scores)), float(np.nanmax(scores))
        episodes = self.recipe.evaluation.episodes
        values = {
            "at_least": np.arange(np.ceil(0.6 * episodes), episodes + 1, max(1, episodes // 32)) / episodes if quantity == SUCCESS else np.linspace(low + 0.3 * (high - low), high, 20),
            "running": np.arange(1, 13), "within": np.arange(2, 15), "after": np.linspace(0, 0.8 * longest, 9),
            "less_than": np.arange(1, 9) / episodes if quantity == SUCCESS else np.linspace(0.005, 0.1, 10) * (high - low),
            "below_best": np.linspace(0.1, 0.9, 9) if quantity == SUCCESS else np.linspace(0.1, 0.9, 9) * (high - low),
            "steps": np.linspace(0.05, 1.0, 20) * longest, "episodes": np.linspace(0.05, 1.0, 20) * max((int(o.course.episodes[-1]) for o in self.runs), default=100),
            "minutes": np.linspace(0.05, 1.0, 20) * max((float(o.course.seconds[-1]) for o in self.runs), default=60.0) / 60.0,
        }[key]  # fmt: skip
        counts = whole_number(rule, key)
        found = {float(round(v)) if counts else float(f"{v:.6g}") for v in values if v > 0 or key == "after"}
        present = getattr(rule, key)
        return Axis(number, key, tuple(sorted(found | ({float(present)} if present is not None else set()))))

    def tune(self, axes: Sequence[Axis], tell: object = None) -> list[Tried]:
        """Sweep the axes over the runs."""
        return sweep(self.runs, self.rules, axes, tell)  # type: ignore[arg-type]

    def take(self, axes: Sequence[Axis], tried: Tried) -> None:
        """Set the rules to what was tried."""
        rules = list(self.rules)
        for axis, value in zip(axes, tried.values, strict=True):
            number = int(value) if whole_number(rules[axis.rule], axis.key) else value
            rules[axis.rule] = read_rule({**rules[axis.rule].model_dump(), axis.key: number})
        self.put(rules)


@dataclass(frozen=True)
class Map:
    """What a sweep found."""

    axes: tuple[Axis, ...]
    tried: list[Tried]
    edge: list[int]
    chosen: int
    judged: Judged | None
    resolution: float
    most: float
    """What no rule can save more of."""

    @classmethod
    def of(cls, trial: Trial, axes: Sequence[Axis], tried: list[Tried]) -> Map:
        """All that is said of a sweep."""
        return cls(
            tuple(axes),
            tried,
            frontier(tried),
            choose(tried),
            judge(trial.runs, tried),
            resolution(tried),
            most_saved(trial.runs),
        )

    def show(self, rules: Sequence[StopRule], k: int) -> str:
        """The numbers of one of them."""
        return ", ".join(axis.show(rules, v) for axis, v in zip(self.axes, self.tried[k].values, strict=True))

    def present(self, rules: Sequence[StopRule]) -> int | None:
        """The one that is in force now."""
        wanted = tuple(float(getattr(rules[a.rule], a.key) or 0.0) for a in self.axes)
        found = [k for k, t in enumerate(self.tried) if np.allclose(t.values, wanted)]
        return found[0] if found else None


def saving_words(summary: Summary | None, count: int) -> str:
    """What the rules do over all runs, in a sentence."""
    if summary is None:
        return "no ended run of this task is on record: train without stop rules first"
    said = (
        f"median: saves {100 * summary.median['saved_share']:.0f} % of the steps, loses {100 * summary.median['lost_success']:.1f} points; "
        f"worst {100 * summary.worst['lost_success']:.1f}"
    )
    if summary.unknown:
        said += f"; {summary.unknown} of {count} recordings end before these rules act"
    return said


def judged_words(found: Map) -> str:
    """What may be expected of a choice, in sentences."""
    few = doubt(found.resolution, len(found.tried[0].saved))
    most = most_words(found.most)
    few = f"{most[0].upper()}{most[1:]}. {few[0].upper()}{few[1:]}."
    if found.judged is None:
        return f"{few} One run alone cannot judge a choice made on it."
    j = found.judged
    low, high = j.interval
    return (
        f"{few} Chosen without each {j.left_out} in turn and judged on it: saves {100 * j.saved:.0f} %, loses {100 * j.lost:.1f} points "
        f"({100 * low:.1f} to {100 * high:.1f}), worst {100 * j.worst:.1f}."
    )


__all__ = [
    "NEW",
    "QUANTITIES",
    "SENTENCES",
    "Line",
    "Map",
    "Trial",
    "changed",
    "judged_words",
    "saving_words",
    "show_steps",
    "show_value",
    "shown",
]
