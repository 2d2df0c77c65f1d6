"""Model-based learning: an ensemble foresees short model rollouts from real states, and SAC, TD3 or DDPG learns from both
(after Janner et al. 2019, algorithm 2; model rollouts of a model from real states: Sutton 1990).
"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from plucky_heron.learning.ddpg import DeterministicPolicyGradient, TwinDelayed, TwinDelayedSettings
from plucky_heron.learning.ensemble import Ensemble, Inspection, Unknown
from plucky_heron.learning.health import (
    ENTROPY_WEIGHT,
    MODEL_DISAGREEMENT,
    MODEL_ERROR,
    OFF_POLICY,
    SATURATED,
    SPREAD,
    HealthFigure,
)
from plucky_heron.learning.method import Experience, Space, held
from plucky_heron.learning.network import Activation
from plucky_heron.learning.off_policy import OffPolicy
from plucky_heron.learning.replay import Replay, Rows
from plucky_heron.learning.sac import SoftActorCritic, SoftSettings
from plucky_heron.learning.settings import setting
from plucky_heron.randomness import freeze, stream, thaw
from plucky_heron.task.commanding import from_shares

Array = np.ndarray


FIRST_TURN = 10
"""How many times longer the model learns in its first turn: model rollouts of an untaught model would stay in the buffer for long."""


SHOWN = 100
"""Steps over which predictions are shown beside the truth."""


class ModelBasedSettings(SoftSettings, TwinDelayedSettings):
    """Settings of the method: those of the learner that it feeds, and those of the model."""

    learner: Literal["sac", "td3", "ddpg"] = setting(
        "sac", "learner", "What learns from real and predicted steps.", "See the methods themselves."
    )
    ensemble_size: int = setting(
        5,
        "ensemble",
        "Networks that predict; each learns from rows of its own.",
        "1: nothing tells where the model is guessing.",
        ge=1,
        le=20,
    )
    elites: int = setting(
        3, "elites", "How many of the ensemble's networks run ahead: those that err least on rows that none learned from.",
        "As many as the ensemble: the worst has its say. 1: model rollouts believe one network's errors.", ge=1, le=20,
    )  # fmt: skip
    model_bootstrap: bool = setting(
        False, "rows of its own", "Each network never sees a third of the rows, another one each: they disagree more where little is known.",
        "On with few rows: every network knows less.",
    )  # fmt: skip
    disagreement_limit: float | None = setting(
        None, "disagreement limit", "A model rollout ends where the networks disagree by more than this share of the changes' spread.",
        "None with long horizons: goes on where the model only guesses. Too small: no rollout goes anywhere.", gt=0,
    )  # fmt: skip
    open_loop_limit: float | None = setting(
        None, "open-loop limit", "Model rollouts are no longer than the model foresees without looking: until it errs by this share of the observations' "
        "spread, or as at first if that is longer.",
        "None with contacts and jumps: learns from what never happens. Too small: rollouts that show nothing of what a command leads to.", gt=0,
    )  # fmt: skip
    model_hidden: tuple[int, ...] = setting(
        (96, 96), "model's layers", "Width of each hidden layer of the model.", "Too small: model error stays high with plenty of data.",
        min_length=1, max_length=8,
    )  # fmt: skip
    model_activation: Activation = setting(
        "silu", "model's activation", "What bends the model's sums.", "relu: a model with kinks."
    )
    gaussian: bool = setting(
        True, "Gaussian model", "Whether the model also says how sure it is, and model rollouts are drawn from that.",
        "Off with noisy sensors: model rollouts look more certain than the world.",
    )  # fmt: skip
    reward_and_endings: Literal["from the task", "learned"] = setting(
        "from the task", "reward and endings", "Takes the reward of the task, and where it ends, from its own formulas as far as observations tell; "
        "the rest is learned.",
        "learned with rare endings: model rollouts run on through them. from the task with very noisy sensors: noise is rewarded.",
    )  # fmt: skip
    model_every: int = setting(
        256,
        "model learns every",
        "Real steps between rounds of learning the model.",
        "Too many: model rollouts of an old model.",
        ge=1,
        le=1_000_000,
    )
    model_updates: int = setting(
        60,
        "model updates",
        "Gradient steps of each member in a round.",
        "Too few: model error stays high. Too many: time.",
        ge=1,
        le=100_000,
    )
    model_learning_rate: float = setting(
        1e-3, "model's learning rate", "How far one step moves the model.", "Too large: model error jumps.", gt=0, le=1
    )
    model_rollouts: int = setting(
        256,
        "model rollouts",
        "Real states from which the model runs ahead in a round.",
        "Too few: the same predictions again.",
        ge=1,
        le=100_000,
    )
    other_setpoints: float = setting(
        0.5, "other set-points", "Share of model rollouts that begin as if another set-point that was met had been wanted, where observations tell of "
        "set-points in a straight line.",
        "0 with few episodes: takes more steps to what lies between the set-points it met. Large where set-points hang together with where the machine "
        "stands: model rollouts from what never comes up.", ge=0, le=1,
    )  # fmt: skip
    horizon: int = setting(
        1,
        "horizon at first",
        "Steps of a model rollout in the beginning.",
        "Too long: errors add up (see open-loop predictions).",
        time="samples",
        ge=1,
        le=200,
    )
    horizon_end: int = setting(
        5,
        "horizon at the end",
        "Steps of a model rollout when the budget is used up.",
        "See horizon at first.",
        time="samples",
        ge=1,
        le=200,
    )
    real_share: float = setting(
        0.3,
        "real share",
        "Share of each minibatch that was really met.",
        "Too small: believes its own predictions. 1: no model.",
        gt=0,
        le=1,
    )
    rounds_kept: int = setting(
        8,
        "rounds kept",
        "Rounds of model rollouts that are learned from.",
        "Too many: model rollouts of an old policy and model.",
        ge=1,
        le=10_000,
    )
    priority: float = setting(0.0, "priority", "Rows are drawn evenly here.", "", ge=0, le=0)

    def health_figures(self) -> tuple[HealthFigure, ...]:
        """See `NetworkSettings.health_figures`."""
        learner = (SPREAD, ENTROPY_WEIGHT) if self.learner == "sac" else (SATURATED,)
        return (MODEL_ERROR, MODEL_DISAGREEMENT, *learner, *OFF_POLICY)


class _Imagining(OffPolicy):
    """What a learner gains by a model; stands before the learner's class."""

    model_settings: ModelBasedSettings

    def prepare_model(self, settings: ModelBasedSettings, seed: int) -> None:
        """The ensemble and the buffer of what it foresees."""
        self.model_settings = settings
        s = settings
        self.ensemble = Ensemble(
            self.observations,
            self.actions,
            s.ensemble_size,
            s.model_hidden,
            s.model_activation,
            s.gaussian,
            stream(seed, "model weights"),
        )
        self.modelling = stream(seed, "model")
        longest = max(s.horizon, s.horizon_end)
        self.foreseen = Replay(
            s.model_rollouts * max(2, longest * s.rounds_kept), s.model_rollouts, self.observations, self.actions,
            mirror=self.space.mirror, mirrored_share=s.mirrored_share,
        )  # fmt: skip
        self.horizons: Array = np.zeros(s.rounds_kept, dtype=np.int64)
        """Of the rounds of model rollouts that are learned from, the newest last."""
        self.judge = self.space.judge if s.reward_and_endings == "from the task" else None
        rows_kept = self.replay.capacity
        self.unknown = Unknown(np.zeros(rows_kept, dtype=np.float32), np.zeros(rows_kept, dtype=np.uint8))
        self.shift = self.space.shift if s.other_setpoints > 0.0 else None
        wanted = len(self.shift.names) if self.shift is not None else 0
        self.setpoints: Array = np.zeros((rows_kept if wanted else 0, wanted), dtype=np.float32)
        self.since_model = 0
        self.model_figures: Array = np.zeros(4)
        self.shaped = False
        """Whether there is shaping in the reward: that part is learned, whatever else is known."""
        self.real = max(1, round(s.real_share * s.minibatch))
        rows, o = s.minibatch, self.observations

        def make(*shape: int) -> Array:
            return np.zeros((rows, *shape), dtype=np.float32)

        self.mixed = Rows(
            make(o),
            make(o),
            make(self.actions),
            make(),
            make(),
            np.zeros(rows, dtype=np.int64),
            np.ones(rows, dtype=np.float32),
        )

    def take(self, experience: Experience) -> None:
        """Remember the step and what of it is not known, and count towards the model's next turn."""
        before, commands = self.met(experience)
        self.shaped |= experience.shaping is not None
        super().take(experience)
        here = slice(self.replay.last, self.replay.last + self.copies)
        paid, ended = self._known(before, commands, experience.after)
        self.unknown.reward[here] = self.replay.reward[here] - paid
        self.unknown.ended[here] = experience.ended & ~ended
        if self.shift is not None:
            assert experience.setpoints is not None
            self.setpoints[here] = experience.setpoints
        if experience.lost is not None and experience.lost.any():
            self._lose(experience.lost)
        self.since_model += self.copies

    def _lose(self, lost: Array) -> None:
        """What stands beside the rows that are lost is that of the rows before them, as in the buffer."""
        rows = self.replay.last + np.flatnonzero(lost)
        before = (rows - self.copies) % self.replay.capacity if self.replay.size > self.copies else rows
        for column in (self.unknown.reward, self.unknown.ended):
            column[rows] = column[before]
        if self.shift is not None:
            self.setpoints[rows] = self.setpoints[before]

    def improve(self, progress: float) -> dict[str, float]:
        """The model's turn where it is due, then the learner's."""
        s = self.model_settings
        if self.since_model >= s.model_every and self.replay.size >= s.minibatch:
            self.since_model = 0
            missed, apart = self.ensemble.error(self.replay)
            first = self.model_figures[3] == 0.0
            turns = s.model_updates * (FIRST_TURN if first else 1)
            loss = self.ensemble.learn(
                self.replay, turns, s.minibatch, s.model_learning_rate, self.modelling, self.unknown, s.model_bootstrap
            )
            horizon = round(s.horizon + (s.horizon_end - s.horizon) * min(max(progress, 0.0), 1.0))
            if s.open_loop_limit is not None:
                far = self.ensemble.open_loop(self.replay, horizon) > s.open_loop_limit
                # noise and set-points drawn anew cannot be foreseen at all: such a figure must not leave single steps
                horizon = min(horizon, max(s.horizon, int(np.argmax(far)))) if far.any() else horizon
            self.model_figures[:] = missed, apart, loss, horizon
            self.run_ahead(horizon)
        names = ("model_error", "model_disagreement", "model_loss", "horizon")
        return super().improve(progress) | {k: float(v) for k, v in zip(names, self.model_figures, strict=True)}

    def run_ahead(self, horizon: int) -> None:
        """Model rollouts of `horizon` steps from real states under the present policy; a model rollout that ends begins anew."""
        count = self.model_settings.model_rollouts
        nobody = np.zeros(count)
        state, deviations = self._real_states(count), self.deviations.alike(count, self.modelling)
        for step in range(horizon):
            inputs = self.inputs.of(state)
            commands = self.explore(np.ascontiguousarray(inputs[:, : self.space.seen]), deviations.draw())
            noise = self.modelling.standard_normal((count, self.observations + 1))
            noise[:, -1] = 0.0  # the reward is foreseen by its mean
            then = self.ensemble.foresee_each(state, commands, self.modelling, self.model_settings.elites, noise)
            paid, ended = self._known(state, commands, then.observations)
            if self.judge is None or not self.judge.every_reward or self.shaped:
                paid = paid + then.reward
            if self.judge is None or not self.judge.every_ending:
                # by the likelier case: drawn by chance, a few wrong endings in a thousand would already spoil the values
                ended = ended | (then.ending > 0.5)
            cut = np.full(count, step == horizon - 1)
            if (limit := self.model_settings.disagreement_limit) is not None:
                cut |= self.ensemble.disagreement(state, commands) > limit
            cut &= ~ended
            self.foreseen.add(state, commands, nobody, Experience(paid, then.observations, ended, cut))
            over = ended | cut
            deviations.begin(over)
            state = np.where(over[:, None], self._real_states(count), then.observations)
        self.horizons = np.append(self.horizons[1:], horizon)
        self.foreseen.newest = count * int(self.horizons.sum())

    def _known(self, before: Array, commands: Array, after: Array) -> tuple[Array, Array]:
        """The known part of the reward, within the reward limit, and known endings; nothing where nothing is known."""
        if self.judge is None:
            return np.zeros(len(before)), np.zeros(len(before), dtype=np.bool_)
        paid, ended = self.judge.judge(before, from_shares(self.space.low, self.space.high, commands), after)
        return held(paid, self.shared.reward_limit, self.shared.penalty_limit), ended

    def _real_states(self, count: int) -> Array:
        """States that were met, a share of them with the set-points of another one: a few dozen episodes meet a few dozen of these."""
        rows = self.modelling.integers(0, self.replay.size, count)
        states = self.replay.observations[rows].astype(np.float64)
        if self.shift is None:
            return states
        others = self.modelling.integers(0, self.replay.size, count)
        exchanged = self.modelling.random(count) < self.model_settings.other_setpoints
        change = self.setpoints[others].astype(np.float64) - self.setpoints[rows]
        return np.where(exchanged[:, None], self.shift.observations(states, change), states)

    def learn_once(self) -> None:
        """A minibatch of which a set share was really met."""
        s = self.model_settings
        if self.foreseen.size == 0:
            super().learn_once()
            return
        parts = [
            self.replay.draw(self.real, self.drawing, s.return_steps, s.discount),
            self.foreseen.draw(s.minibatch - self.real, self.drawing, s.return_steps, s.discount),
        ]
        for name in ("observations", "after", "commands", "reward", "factor"):
            np.concatenate([getattr(part, name) for part in parts], out=getattr(self.mixed, name))
        self.learn_from(self.mixed)

    def inspect(self, copy: int, length: int) -> Inspection:
        """Predictions beside the truth over the newest steps of a copy."""
        return self.ensemble.inspect(self.replay, copy, length)

    def inside(self) -> dict[str, Array]:
        """Predictions beside the truth, over the newest steps of the copy whose episode goes back farthest."""
        if self.model_figures[3] == 0.0:
            return {}
        longest = max(range(self.copies), key=lambda copy: len(self.ensemble.stretch(self.replay, copy, SHOWN)))
        found = self.inspect(longest, SHOWN)
        arrays = {"truth": found.truth, "one_step": found.one_step, "open_loop": found.open_loop}
        return {name: values.astype(np.float32) for name, values in arrays.items()}

    def keep(self) -> dict[str, Array]:
        """All state, model and model rollouts included."""
        parts = {"ensemble": self.ensemble.keep(), "foreseen": self.foreseen.keep()}
        return super().keep() | {f"{part}.{k}": v for part, values in parts.items() for k, v in values.items()} | {
            "modelling": freeze(self.modelling), "since_model": np.array(self.since_model), "model_figures": self.model_figures.copy(),
            "unknown.reward": self.unknown.reward[: self.replay.size].copy(), "unknown.ended": self.unknown.ended[: self.replay.size].copy(),
            "setpoints": self.setpoints[: self.replay.size].copy(), "horizons": self.horizons.copy(), "shaped": np.array(self.shaped),
        }  # fmt: skip

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        super().restore(kept)
        self.ensemble.restore({k[9:]: v for k, v in kept.items() if k.startswith("ensemble.")})
        self.foreseen.restore({k[9:]: v for k, v in kept.items() if k.startswith("foreseen.")})
        thaw(self.modelling, kept["modelling"])
        self.since_model, self.shaped = int(kept["since_model"]), bool(kept["shaped"])
        self.horizons = kept["horizons"].copy()
        self.foreseen.newest = self.model_settings.model_rollouts * int(self.horizons.sum())
        self.model_figures[...] = kept["model_figures"]
        self.unknown.reward[: self.replay.size] = kept["unknown.reward"]
        self.unknown.ended[: self.replay.size] = kept["unknown.ended"]
        if self.shift is not None:
            self.setpoints[: self.replay.size] = kept["setpoints"]


class _Soft(_Imagining, SoftActorCritic):
    """SAC with a model."""


class _Twin(_Imagining, TwinDelayed):
    """TD3 with a model."""


class _Plain(_Imagining, DeterministicPolicyGradient):
    """DDPG with a model."""


def model_based(settings: ModelBasedSettings, space: Space, copies: int, seed: int, threads: int = 1) -> Any:
    """The method at work, with the learner that its settings name."""
    made = {"sac": _Soft, "td3": _Twin, "ddpg": _Plain}[settings.learner](settings, space, copies, seed, threads)
    made.prepare_model(settings, seed)
    return made
