"""Search over weights by whole episodes, without gradients: the baselines that a learning method should beat.

Every copy carries weights of its own and is judged by the plain sum of what its episodes paid.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from plucky_heron.learning.health import SCORE_BEST, SCORE_MEAN, SPREAD, HealthFigure
from plucky_heron.learning.inputs import Inputs
from plucky_heron.learning.method import Experience, Space
from plucky_heron.learning.network import Activation, Network
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.settings import MethodSettings, setting
from plucky_heron.randomness import freeze, stream, thaw
from plucky_heron.task.commanding import from_shares

Array = np.ndarray
FREE = -1
"""A copy that no candidate drives."""
MOST_KEPT = 20_000
"""Weights that are kept for the landscape; the oldest make room."""


class SearchSettings(MethodSettings):
    """Settings of every search."""

    health: ClassVar[tuple[HealthFigure, ...]] = (SCORE_BEST, SCORE_MEAN, SPREAD)

    candidates: int = setting(
        32, "candidates", "Weights that are tried in one round.", "Too few: luck decides. Too many: few rounds in a budget.",
        ge=4, le=10_000,
    )  # fmt: skip
    episodes: int = setting(
        4, "episodes each", "Episodes by whose mean weights are judged.",
        "1 with varied starts: what was easy wins, and the score falls again when it is tried afresh.", ge=1, le=1000,
    )  # fmt: skip
    common_starts: bool = setting(
        True, "common starts", "All candidates of a round are judged on the same starts; each round has new ones.",
        "Off: what differs between candidates is in part the luck of their starts.",
    )  # fmt: skip


class LinearSettings(SearchSettings):
    """Settings of searches over linear policies."""

    weight_spread: float = setting(
        1.0, "spread of weights", "Spread of the weights that are tried first, for inputs of the stated ranges.",
        "Too large: everything saturates. Too small: nothing moves.", gt=0, le=100,
    )  # fmt: skip
    choice: Literal["best", "widest margin"] = setting(
        "best", "choice", "The weights that are kept: those that scored best, or of the good ones those farthest from any bad ones.",
        "best: weights that stand next to a cliff, and fall when the machine differs a little.",
    )  # fmt: skip
    good_share: float = setting(
        0.1, "good share", "Which weights count as good: this share of those tried last, the best ones.",
        "Too small: no choice left. Too large: poor weights are chosen for their margin.", gt=0, lt=1,
    )  # fmt: skip


class CrossEntropySettings(LinearSettings):
    """Settings of the cross-entropy search."""

    elite: float = setting(
        0.2,
        "elite",
        "Share of the candidates from which the next ones are drawn.",
        "Too small: settles early on luck.",
        gt=0,
        lt=1,
    )
    extra_spread: float = setting(
        0.3, "extra spread", "Added to the drawn spread at first, falling to none halfway through the budget.",
        "0: the search narrows before it has found anything.", ge=0, le=10,
    )  # fmt: skip


class EvolutionSettings(SearchSettings):
    """Settings of evolution strategies."""

    hidden: tuple[int, ...] = setting(
        (16,), "hidden layers", "Width of each hidden layer.", "Large: many weights, slow search.", max_length=4
    )
    activation: Activation = setting("tanh", "activation", "The nonlinear function after each hidden layer.", "Seldom.")
    perturbation: float = setting(
        0.1, "perturbation", "Spread of what is added to weights, in both directions.",
        "Too small: scores differ by luck alone. Too large: says nothing of the weights in the middle.", gt=0, le=10,
    )  # fmt: skip
    learning_rate: float = setting(
        0.03,
        "learning rate",
        "How far one round moves the weights.",
        "Too large: the score jumps. Too small: nothing changes.",
        gt=0,
        le=1,
    )
    weight_decay: float = setting(
        0.0, "weight decay", "Share of the weights that each round takes off.",
        "0: weights grow until every command stands at a limit. Too large: nothing is kept.", ge=0, lt=1,
    )  # fmt: skip


@dataclass(frozen=True)
class Landscape:
    """What was tried: weights (N, count) and their scores (N,), oldest first."""

    weights: Array
    scores: Array


class Search(ABC):
    """A search at work; see `method.Method` for the contract."""

    def __init__(
        self,
        settings: SearchSettings,
        space: Space,
        copies: int,
        seed: int,
        sizes: tuple[int, ...],
        activation: Activation,
    ) -> None:
        self.shared, self.space, self.copies = settings, space, copies
        self.network = Network(sizes, activation)
        self.inputs = Inputs(space, standardise=False, limit=5.0)
        self.drawing = stream(seed, "candidates")
        count = self.network.count
        self.weights: Array = np.zeros((settings.candidates, count))
        self.totals: Array = np.zeros(settings.candidates)
        self.tried: Array = np.zeros(settings.candidates, dtype=np.int64)
        """Finished episodes of each candidate."""
        self.given: Array = np.zeros(settings.candidates, dtype=np.int64)
        """Begun episodes of each candidate."""
        self.lost: Array = np.zeros(settings.candidates, dtype=np.int64)
        """Episodes of each candidate in which the simulation failed."""
        self.assigned: Array = np.full(copies, FREE)
        self.running: Array = np.zeros(copies)
        self.worst = np.inf
        """The least score of an episode of this round."""
        self.kept: Array = np.zeros(count)
        self.past = Landscape(np.zeros((0, count)), np.zeros(0))
        self.round = 0

    @abstractmethod
    def candidates(self) -> Array:
        """Weights (candidates, count) of the next round."""

    @abstractmethod
    def judge(self, scores: Array, progress: float) -> None:
        """Learn from the scores (candidates,) of the round."""

    def begin(self) -> None:
        """Draw the first round."""
        self.weights = self.candidates()

    # --- acting --------------------------------------------------------------------------------------------------

    def choose(self, observations: Array) -> Array:
        """Each copy follows the weights of its candidate through an episode."""
        current = self.inputs.of(observations)[:, None, : self.space.seen].astype(np.float64)
        at, sizes = 0, self.network.sizes
        mine = self.weights[np.maximum(self.assigned, 0)]
        for number in range(len(sizes) - 1):
            a, b = sizes[number], sizes[number + 1]
            current = current @ mine[:, at : at + a * b].reshape(-1, a, b) + mine[:, None, at + a * b : at + a * b + b]
            at += a * b + b
            if number < len(sizes) - 2:
                current = _bend(self.network.activation, current)
        return from_shares(self.space.low, self.space.high, np.clip(current[:, 0], -1.0, 1.0))

    def begin_episodes(self, idle: Array) -> tuple[Array, Array]:
        """Idle copies (mask, copies) take the next episodes of the round; once all are given, the others stand still."""
        free = np.flatnonzero(idle & (self.assigned == FREE))
        each, candidates = self.shared.episodes, self.shared.candidates
        left = each * candidates - int(self.given.sum())
        copies = free[:left]
        numbers = np.zeros(len(copies), dtype=np.int64)
        for k, copy in enumerate(copies):
            mine = int(np.argmin(self.given))
            start = self.round * each + int(self.given[mine])
            numbers[k] = start if self.shared.common_starts else start * candidates + mine
            self.assigned[copy], self.running[copy] = mine, 0.0
            self.given[mine] += 1
        return copies, numbers

    def take(self, experience: Experience) -> None:
        """Sum up; an episode that is over counts for its candidate."""
        self.running += experience.reward
        lost = experience.lost if experience.lost is not None else np.zeros(self.copies, dtype=np.bool_)
        for copy in np.flatnonzero((experience.ended | experience.cut) & (self.assigned >= 0)):
            mine = self.assigned[copy]
            self.totals[mine] += 0.0 if lost[copy] else self.running[copy]
            self.lost[mine] += lost[copy]
            self.tried[mine] += 1
            self.worst = min(self.worst, self.running[copy])
            self.assigned[copy] = FREE

    def ready(self) -> bool:
        """Whether every candidate had its episodes: all of those that were asked, and no others."""
        return bool((self.tried == self.shared.episodes).all())

    # --- learning ------------------------------------------------------------------------------------------------

    def improve(self, progress: float) -> dict[str, float]:
        """Judge the round and draw the next. An episode that the simulation lost scores as the worst of the round: it is never worth seeking."""
        worst = self.worst if np.isfinite(self.worst) else 0.0
        scores = (self.totals + np.where(self.lost > 0, self.lost * worst, 0.0)) / self.tried
        weights = np.concatenate([self.past.weights, self.weights])[-MOST_KEPT:]
        self.past = Landscape(weights, np.concatenate([self.past.scores, scores])[-MOST_KEPT:])
        self.judge(scores, progress)
        spread = float(self.weights.std(axis=0).mean())
        self.round += 1
        self.weights = self.candidates()
        for values in (self.totals, self.tried, self.given, self.lost):
            values[:] = 0
        self.worst = np.inf
        return {
            "score_best": float(scores.max()), "score_mean": float(scores.mean()), "score_spread": float(scores.std()), "spread": spread,
        }  # fmt: skip

    def landscape(self) -> Landscape:
        """Everything that was tried, for display."""
        return self.past

    def inside(self) -> dict[str, Array]:
        """The landscape and the kept weights, float32."""
        if not len(self.past.scores):
            return {}
        arrays = {"weights": self.past.weights, "scores": self.past.scores, "kept": self.kept}
        return {name: values.astype(np.float32) for name, values in arrays.items()}

    def policy(self) -> Policy:
        """The kept weights."""
        offset, scale = self.inputs.affine()
        seen = self.space.seen
        return Policy(
            self.network.sizes, self.network.activation, self.kept.astype(np.float32), offset[:seen].astype(np.float32),
            scale[:seen].astype(np.float32), self.inputs.limit, self.space.low.astype(np.float32), self.space.high.astype(np.float32),
        )  # fmt: skip

    # --- checkpoints ---------------------------------------------------------------------------------------------

    def keep(self) -> dict[str, Array]:
        """All state."""
        names = ("weights", "totals", "tried", "given", "lost", "assigned", "running", "kept")
        return {name: getattr(self, name).copy() for name in names} | {
            "worst": np.array(self.worst),
            "past.weights": self.past.weights.copy(), "past.scores": self.past.scores.copy(), "drawing": freeze(self.drawing),
            "round": np.array(self.round),
        }  # fmt: skip

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        for name in ("weights", "totals", "tried", "given", "lost", "assigned", "running", "kept"):
            setattr(self, name, kept[name].copy())
        self.worst = float(kept["worst"])
        self.past = Landscape(kept["past.weights"].copy(), kept["past.scores"].copy())
        self.round = int(kept["round"])
        thaw(self.drawing, kept["drawing"])


def _bend(activation: Activation, x: Array) -> Array:
    if activation == "tanh":
        return np.asarray(np.tanh(x))
    if activation == "relu":
        return np.asarray(np.maximum(x, 0.0))
    if activation == "leaky relu":
        return np.asarray(np.maximum(x, 0.01 * x))
    if activation == "elu":
        return np.where(x > 0.0, x, np.expm1(np.minimum(x, 0.0)))
    return np.asarray(x / (1.0 + np.exp(-x)))


class RandomSearch(Search):
    """Linear policies with weights drawn at random, the best of all kept.

    The best so far are tried again in every round beside fresh ones, so that luck with a start does not last.
    """

    def __init__(self, settings: LinearSettings, space: Space, copies: int, seed: int, threads: int = 1) -> None:
        super().__init__(settings, space, copies, seed, (space.seen, len(space.low)), "tanh")
        self.settings = settings
        self.mean: Array = np.zeros(self.network.count)
        self.spread: Array = np.full(self.network.count, settings.weight_spread)
        count = settings.candidates // 4
        self.leaders: Array = np.zeros((count, self.network.count))
        self.leader_scores: Array = np.zeros((count, 2))
        """Sum of the rounds' scores, and number of rounds."""
        self.begin()

    def candidates(self) -> Array:
        """Those that lead, then fresh ones around the mean."""
        drawn: Array = self.mean + self.spread * self.drawing.standard_normal(self.weights.shape)
        led = self.leader_scores[:, 1] > 0
        drawn[: len(led)][led] = self.leaders[led]
        return drawn

    def judge(self, scores: Array, progress: float) -> None:
        """Keep what leads by the mean of its rounds, or what has the widest margin."""
        rounds = np.ones((len(scores), 2))
        rounds[:, 0] = scores
        known = self.leader_scores[:, 1] > 0
        rounds[: len(known)][known] += self.leader_scores[known]
        mean = rounds[:, 0] / rounds[:, 1]
        best = np.argsort(mean)[::-1][: len(known)]
        self.leaders, self.leader_scores = self.weights[best].copy(), rounds[best]
        tested = self.leader_scores[:, 1] >= self.leader_scores[:, 1].max() / 2
        self.kept = self.leaders[np.flatnonzero(tested)[0]].copy()
        if self.settings.choice == "widest margin":
            self.kept = widest_margin(self.past, self.settings.good_share)

    def keep(self) -> dict[str, Array]:
        """All state."""
        names = ("mean", "spread", "leaders", "leader_scores")
        return super().keep() | {name: getattr(self, name).copy() for name in names}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        super().restore(kept)
        for name in ("mean", "spread", "leaders", "leader_scores"):
            setattr(self, name, kept[name].copy())


def widest_margin(past: Landscape, good_share: float) -> Array:
    """Of the best `good_share` of weights, those (weights,) farthest from any of the others, in units of the weights' spread."""
    count = max(1, int(good_share * len(past.scores)))
    order = np.argsort(past.scores)[::-1]
    good, bad = order[:count], order[count:]
    if not len(bad):
        return np.array(past.weights[order[0]])
    scaled = past.weights / (past.weights.std(axis=0) + 1e-9)
    margins = [np.square(scaled[bad] - scaled[k]).sum(axis=1).min() for k in good]
    return np.array(past.weights[good[int(np.argmax(margins))]])


class CrossEntropySearch(RandomSearch):
    """Cross-entropy search (Rubinstein 1999; with extra spread, Szita and Lorincz 2006) over linear policies."""

    settings: CrossEntropySettings

    def candidates(self) -> Array:
        """All fresh."""
        drawn: Array = self.mean + self.spread * self.drawing.standard_normal(self.weights.shape)
        return drawn

    def judge(self, scores: Array, progress: float) -> None:
        """The next candidates are drawn as the elite of these lies."""
        settings = self.settings
        count = max(2, int(settings.elite * len(scores)))
        elite = self.weights[np.argsort(scores)[::-1][:count]]
        extra = settings.extra_spread * max(0.0, 1.0 - 2.0 * progress)
        self.mean, self.spread = elite.mean(axis=0), np.sqrt(elite.var(axis=0) + extra**2)
        # one good score may be luck; the middle of the elite is what its episodes agree on
        self.kept = self.mean.copy() if settings.choice == "best" else widest_margin(self.past, settings.good_share)


class EvolutionStrategy(Search):
    """Evolution strategies (Salimans et al. 2017): mirrored perturbations, ranks instead of scores, Adam."""

    def __init__(self, settings: EvolutionSettings, space: Space, copies: int, seed: int, threads: int = 1) -> None:
        sizes = (space.seen, *settings.hidden, len(space.low))
        super().__init__(settings, space, copies, seed, sizes, settings.activation)
        self.settings = settings
        self.network.initialise(self.kept, stream(seed, "initial weights"), True, 0.01)
        self.adam = Adam(self.network.count, np.float64)
        self.noise: Array = np.zeros((settings.candidates // 2, self.network.count))
        self.begin()

    def candidates(self) -> Array:
        """The middle, plus and minus each perturbation; an odd one is the middle itself."""
        self.noise = self.drawing.standard_normal(self.noise.shape)
        step = self.settings.perturbation * self.noise
        middle = [self.kept[None]] * (self.shared.candidates % 2)
        return np.concatenate([self.kept + step, self.kept - step, *middle])

    def judge(self, scores: Array, progress: float) -> None:
        """Follow the ranks' slope."""
        half = len(self.noise)
        ranks = np.empty(2 * half)
        ranks[np.argsort(scores[: 2 * half])] = np.linspace(-0.5, 0.5, 2 * half)
        slope = ((ranks[:half] - ranks[half:])[:, None] * self.noise).mean(axis=0) / self.settings.perturbation
        self.adam.step(self.kept, -slope, self.settings.learning_rate)
        self.kept *= 1.0 - self.settings.weight_decay

    def keep(self) -> dict[str, Array]:
        """All state."""
        return super().keep() | {f"adam.{k}": v for k, v in self.adam.keep().items()} | {"noise": self.noise.copy()}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        super().restore(kept)
        self.adam.restore({k[5:]: v for k, v in kept.items() if k.startswith("adam.")})
        self.noise = kept["noise"].copy()
