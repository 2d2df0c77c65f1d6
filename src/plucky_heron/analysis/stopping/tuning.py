"""Numbers of stop rules swept over recorded runs: what is saved against what is lost, and how sure so few runs can be."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from pydantic import ValidationError
from scipy.special import stdtrit

from plucky_heron.analysis.stopping.replay import Recorded
from plucky_heron.errors import StateError, did_you_mean, quoted
from plucky_heron.training.stopping import StopRule, read_rule, show_steps, show_value

Array = np.ndarray
ALLOWED_LOSS = 0.01
"""Mean success that a choice may lose, unless another is asked for."""
SURE = 0.95
USUAL_POINTS = 12
MOST_POINTS, MOST_TRIED = 200, 4000
RESAMPLES = 2000


@dataclass(frozen=True)
class Axis:
    """A number of a rule, and the values that it is tried at."""

    rule: int
    key: str
    values: tuple[float, ...]

    def name(self, rules: Sequence[StopRule]) -> str:
        """What it is called: rule and key."""
        return f"{rules[self.rule].kind}.{self.key}"

    def show(self, rules: Sequence[StopRule], value: float) -> str:
        """A value in words."""
        rule = rules[self.rule]
        if self.key in ("at_least", "less_than", "below_best"):
            return show_value(str(getattr(rule, "of", "score")), value)
        if self.key in ("steps", "after"):
            return show_steps(value)
        return f"{value:g} {self.key}"


@dataclass(frozen=True)
class Tried:
    """Rules with some numbers, over all runs."""

    values: tuple[float, ...]
    """One an axis."""
    saved: Array
    """Share of the steps of each run, (runs,)."""
    lost: Array
    """Success lost against the best on record of each run, (runs,)."""
    score: Array
    """Score lost, (runs,)."""

    @property
    def median_saved(self) -> float:
        """Median share saved."""
        return float(np.median(self.saved))

    @property
    def mean_lost(self) -> float:
        """Mean success lost."""
        return float(np.mean(self.lost))


def parse_try(text: str, rules: Sequence[StopRule]) -> Axis:
    """An axis from ``NAME=LOW:HIGH[:N]`` or ``NAME=A,B,C``; NAME is ``running`` or, where several rules have one, ``good enough.running``.

    Raises
    ------
    StateError
        No such number, or no such range.
    """
    name, equals, span = text.partition("=")
    kind, _, key = name.strip().rpartition(".")
    found = [
        (number, rule) for number, rule in enumerate(rules) if (not kind or rule.kind == kind) and key in rule.tunable
    ]
    known = [f"{rule.kind}.{tunable}" for rule in rules for tunable in rule.tunable]
    if not equals or not found:
        raise StateError(f"--try {quoted(text)}: wanted NAME=LOW:HIGH[:N]; {did_you_mean(name.strip(), known)}")
    if len(found) > 1:
        several = " and ".join(f"{rule.kind}.{key}" for _, rule in found)
        raise StateError(f"--try {quoted(text)}: {several} are meant; say which")
    number, rule = found[0]
    values = _span(text, span, whole_number(rule, key))
    for value in values:
        with_value(rule, key, value, f"--try {quoted(text)}")
    return Axis(number, key, values)


def whole_number(rule: StopRule, key: str) -> bool:
    """Whether a number of a rule is a count."""
    return "int" in str(type(rule).model_fields[key].annotation)


def number_of(part: str, source: str) -> float:
    """A number as it is typed, "95 %" or "450 000".

    Raises
    ------
    StateError
        It is none, or not finite; `source` says where it stands.
    """
    plain = part.strip()
    share = plain.endswith("%")
    try:
        value = float(plain.removesuffix("%").replace(" ", "").replace("_", "")) / (100 if share else 1)
    except ValueError:
        raise StateError(f"{source}: {quoted(part)} is no number; write such as 12 or 95%") from None
    if not math.isfinite(value):
        raise StateError(f"{source}: {quoted(part)} is not finite")
    return value


def _span(text: str, span: str, counts: bool) -> tuple[float, ...]:
    source = f"--try {quoted(text)}"
    if ":" not in span:
        values = [number_of(part, source) for part in span.split(",")]
    else:
        parts = span.split(":")
        if len(parts) > 3:
            raise StateError(f"{source}: wanted LOW:HIGH or LOW:HIGH:N")
        low, high = number_of(parts[0], source), number_of(parts[1], source)
        usual = min(int(high - low) + 1, 24) if counts and high - low < 1e6 else USUAL_POINTS
        points = number_of(parts[2], source) if len(parts) == 3 else float(max(usual, 1))
        if high < low or points != int(points) or not 1 <= points <= MOST_POINTS:
            raise StateError(f"{source}: wanted LOW below HIGH, and 1 to {MOST_POINTS} points")
        values = [float(f"{v:.12g}") for v in np.linspace(low, high, int(points))]
    if counts:
        values = [float(round(v)) for v in values]
    return tuple(dict.fromkeys(values))


def with_value(rule: StopRule, key: str, value: float, source: str) -> StopRule:
    """A rule with another number.

    Raises
    ------
    StateError
        It does not fit.
    """
    number: float | int = int(value) if whole_number(rule, key) else value
    try:
        return read_rule({**rule.model_dump(), key: number})
    except (ValueError, ValidationError) as error:
        raise StateError(f"{source}: {error}") from error


def sweep(
    runs: Sequence[Recorded],
    rules: Sequence[StopRule],
    axes: Sequence[Axis],
    tell: Callable[[float], bool] | None = None,
) -> list[Tried]:
    """Try every combination of the axes' values over all runs; `tell` gets the share done, and False from it ends the sweep early.

    Raises
    ------
    StateError
        More combinations than `MOST_TRIED`.
    """
    count = math.prod(len(axis.values) for axis in axes)
    if count > MOST_TRIED:
        raise StateError(f"{count} combinations are too many; {MOST_TRIED} at most")
    varied = {axis.rule for axis in axes}
    fixed = []  # where the rules that stay would end each run
    for one in runs:
        ends = one.course.not_finite()
        for number, rule in enumerate(rules):
            if number not in varied:
                ends = ends | rule.met(one.course)
        fixed.append(ends)
    found = []
    for done, values in enumerate(itertools.product(*(axis.values for axis in axes))):
        if tell is not None and done % 50 == 0 and not tell(done / count):
            break
        changed = {number: rules[number] for number in varied}
        for axis, value in zip(axes, values, strict=True):
            changed[axis.rule] = with_value(changed[axis.rule], axis.key, value, axis.key)
        found.append(_over(runs, fixed, list(changed.values()), values))
    return found


def _over(
    runs: Sequence[Recorded], fixed: Sequence[Array], rules: Sequence[StopRule], values: tuple[float, ...]
) -> Tried:
    saved, lost, score = [], [], []
    for one, ends in zip(runs, fixed, strict=True):
        for rule in rules:
            ends = ends | rule.met(one.course)
        last = int(np.argmax(ends)) if ends.any() else len(one.course) - 1
        here, best = int(one.kept[last]), int(one.kept[-1])
        saved.append(1.0 - int(one.course.step[last]) / one.steps)
        lost.append(one.course.of("success")[best] - one.course.of("success")[here])
        score.append(one.course.of("score")[best] - one.course.of("score")[here])
    return Tried(values, np.array(saved), np.array(lost), np.array(score))


def frontier(tried: Sequence[Tried]) -> list[int]:
    """Those that no other beats in both, what is saved (median) and what is lost (mean); by what is saved, rising."""
    order = sorted(range(len(tried)), key=lambda k: (-tried[k].median_saved, tried[k].mean_lost))
    best, found = math.inf, []
    for k in order:
        if tried[k].mean_lost < best - 1e-12:
            best = tried[k].mean_lost
            found.append(k)
    return found[::-1]


def sure_lost(lost: Array) -> float:
    """What other runs lose at most on average: the upper end of Student's one-sided 95 % interval (Biometrika 6, 1908).

    Of several numbers that are tried the one with the smallest mean on few runs owes some of it to chance, and loses more on others.
    So does the one with the smallest upper end, though less: the 95 % hold for a rule that was not picked among many.
    One run has no interval: what it lost.
    """
    n = len(lost)
    half = float(stdtrit(n - 1, SURE)) * float(np.std(lost, ddof=1)) / math.sqrt(n) if n > 1 else 0.0
    return float(np.mean(lost)) + half


def choose(tried: Sequence[Tried], of: Array | None = None, allowed: float = ALLOWED_LOSS) -> int:
    """The one that saves most, on average over the runs `of` (indices; all by default), and loses no more than is allowed (`sure_lost`).

    Where none loses so little, the one that loses least.
    """
    picked = slice(None) if of is None else of

    def worth(k: int) -> tuple[bool, float, float]:
        lost, saved = sure_lost(tried[k].lost[picked]), float(np.mean(tried[k].saved[picked]))
        within = lost <= allowed + 1e-12
        return within, saved if within else -lost, -lost if within else saved

    return max(range(len(tried)), key=worth)


def most_saved(runs: Sequence[Recorded], allowed: float = ALLOWED_LOSS) -> float:
    """Mean share of the steps that no rule can save more of on these runs, losing no more than `allowed` on average.

    Each run is ended where that pays most, with its whole course known, which no rule knows. It is the Lagrangian bound
    (Everett, Operations Research 11, 1963): any multiplier gives one, the best is found by halving an interval.
    """
    options = []
    for one in runs:
        kept = one.course.of("success")[one.kept]
        options.append((one.course.step / one.steps, kept[-1] - kept))
    low, high, bound = 0.0, 1e6, -math.inf
    for _ in range(80):
        price = 0.5 * (low + high)
        at = [int(np.argmin(used + price * lost)) for used, lost in options]
        used = float(np.mean([u[k] for (u, _), k in zip(options, at, strict=True)]))
        over = float(np.mean([lost[k] for (_, lost), k in zip(options, at, strict=True)])) - allowed
        bound = max(bound, used + price * over)
        low, high = (price, high) if over > 0 else (low, price)
    return 1.0 - max(bound, 0.0)


def most_words(most: float, allowed: float = ALLOWED_LOSS) -> str:
    """What `most_saved` says, in words."""
    points = f"{100 * allowed:g} point{'' if math.isclose(allowed, 0.01) else 's'}"
    return f"no rule at all can save more than {100 * most:.0f} % on average here and lose at most {points}"


@dataclass(frozen=True)
class Judged:
    """A choice judged on runs that took no part in it."""

    left_out: str
    """What each choice left out: a batch, or a run where there is only one batch."""
    folds: int
    runs: int
    saved: float
    """Mean share of steps saved."""
    lost: float
    """Mean success lost."""
    worst: float
    """Largest success lost."""
    interval: tuple[float, float]
    """95 % interval of the mean success lost, by resampling runs (Efron 1979)."""


def judge(
    runs: Sequence[Recorded], tried: Sequence[Tried], allowed: float = ALLOWED_LOSS, seed: int = 1
) -> Judged | None:
    """Choose on all batches but one, judge on that one, for each in turn; by runs where there is one batch. None with a single run."""
    groups = [one.batch for one in runs]
    left_out = "batch"
    if len(set(groups)) < 2:
        groups, left_out = [one.run for one in runs], "run"
    if len(set(groups)) < 2:
        return None
    saved, lost = np.zeros(len(runs)), np.zeros(len(runs))
    for group in dict.fromkeys(groups):
        out = np.array([g == group for g in groups])
        chosen = tried[choose(tried, np.flatnonzero(~out), allowed)]
        saved[out], lost[out] = chosen.saved[out], chosen.lost[out]
    return Judged(
        left_out, len(set(groups)), len(runs), float(saved.mean()), float(lost.mean()), float(lost.max()), interval_of(lost, seed)
    )  # fmt: skip


def interval_of(values: Array, seed: int = 1) -> tuple[float, float]:
    """95 % interval of a mean by resampling with replacement (Efron, Annals of Statistics 7, 1979), from a fixed seed."""
    draws = np.random.default_rng(seed).integers(0, len(values), (RESAMPLES, len(values)))
    low, high = np.percentile(values[draws].mean(axis=1), (2.5, 97.5))
    return float(low), float(high)


def resolution(tried: Sequence[Tried]) -> float:
    """Half-width of the 95 % interval of the mean success lost, the median over what loses anything: smaller differences are not established.

    Rules that wait so long that no run loses anything say nothing of how far runs differ; 0 where all do.
    """
    halves = [(b - a) / 2 for a, b in (interval_of(t.lost) for t in tried) if b > a]
    return float(np.median(halves)) if halves else 0.0


def doubt(established: float, runs: int) -> str:
    """What so few runs do not tell, from `resolution`."""
    if not established:
        return f"nothing that was tried loses anything on these {runs} runs, which tells little of others"
    return f"differences under {100 * established:.1f} points are not established by {runs} runs"
