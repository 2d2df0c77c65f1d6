"""One run from its first step to its last: collect, improve, evaluate, keep, stop. Knows no process and no clock but its own."""

from __future__ import annotations

import io
import json
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.control.base_controller import BaseController, base_controller
from plucky_heron.errors import FileError
from plucky_heron.files import read_arrays, write_whole
from plucky_heron.learning.method import Experience, Method, Space, make_method
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.residual import Residual
from plucky_heron.learning.starting import Source, start_from
from plucky_heron.simulation.batch import TIME_UP, Batch, Outcome
from plucky_heron.task.observed_reward import ObservedReward
from plucky_heron.task.problem import Problem
from plucky_heron.task.setpoint_shift import setpoint_shift
from plucky_heron.training.evaluation import evaluate, summarise, untrained
from plucky_heron.training.inside import write_inside
from plucky_heron.training.keeping import due_films, milestones_of, set_aside, take_back
from plucky_heron.training.recipe import Recipe
from plucky_heron.training.shaping import Shaping, potential_of
from plucky_heron.training.stopping import BY_HAND, Evaluation, Verdict, decide

Array = np.ndarray
CHECKPOINT_FORMAT = 1


@dataclass(frozen=True)
class Best:
    """The kept policy: when it was found, and what it was worth on the evaluation starts."""

    step: int
    score: float
    success: float

    def beaten_by(self, other: Evaluation) -> bool:
        """More success counts first, then the score."""
        return (other.success, other.score) > (self.success, self.score)


class Run:
    """A run in memory. `folder` takes its checkpoint and policies.

    Parameters
    ----------
    problem, recipe, seed
        What is learned, how, and from which seed.
    folder
        Where ``checkpoint.npz``, ``best.npz`` and ``last.npz`` stand.
    threads
        How many threads may step the physics; the course of the run does not depend on it.
    project
        Whose cache of tuned regulators may be used.
    identity
        What its checkpoint and policies are marked with, and refused without.
    start
        What its method begins with, from another run.

    Raises
    ------
    StateError
        The recipe corrects a base controller that cannot be told from what the policy senses; see `base_controller`.
    """

    def __init__(
        self,
        problem: Problem,
        recipe: Recipe,
        seed: int,
        folder: Path,
        threads: int = 1,
        project: Path | None = None,
        identity: str = "",
        start: Source | None = None,
    ) -> None:
        self.problem, self.recipe, self.seed, self.folder, self.threads = (problem, recipe, seed, folder, threads)
        self.identity = identity
        self.verdict: Verdict | None = None
        """Why it ended; kept, so that a run which was killed afterwards does not go on beyond its end."""
        self.base = (
            base_controller(problem, recipe.residual.on, threads, project) if recipe.residual is not None else None
        )
        self.method = method_of(problem, recipe, seed, threads, self.base)
        self.started_with: list[str] = []
        """What was taken over from another run, in words."""
        if start is not None:
            self.started_with = start_from(self.method, start, *names_of(problem), problem.fingerprint())
        shift = setpoint_shift(problem)
        self.told_setpoints = shift.names if shift is not None else ()
        self.batch = Batch(problem, recipe.copies, seed, "training", threads)
        if recipe.training_time_limit is not None:
            self.batch.limit = min(self.batch.limit, max(1, problem.task.timing.samples(recipe.training_time_limit)))
        self.steps = self.episodes = self.updates = 0
        self.seconds = 0.0
        self.next_episode = recipe.copies
        self.course: list[Evaluation] = []
        self.best: Best | None = None
        self.recent: list[tuple[float, bool]] = []
        self.milestones = milestones_of(folder)
        self.extra = False
        """Whether the last evaluation stands beside the multiples, since the run ended there."""
        self.before: Best | None = None
        """The kept policy before that evaluation."""
        self.dropped: int | None = None
        """Step of such an evaluation that was dropped, since the run goes on."""
        self._since: dict[str, list[float]] = {}
        self._returns = np.zeros(recipe.copies)
        self.shaping = None
        if recipe.shaping is not None:
            discount = float(getattr(recipe.method_settings(sample_time=problem.sample_time), "discount", 1.0))
            self.shaping = Shaping(self.batch, potential_of(problem, recipe.shaping.potential), discount)
        self.begin: Callable[[Array], tuple[Array, Array]] | None = getattr(self.method, "begin_episodes", None)
        """How the method begins episodes of its own choice, if it does."""
        # first episodes start at different ages, so that copies do not all end in the same step
        ages = np.linspace(0, self.batch.limit - 1, recipe.copies).astype(np.int64)
        self.batch.start(np.arange(recipe.copies), ages if self.begin is None else None)
        if self.begin is not None:
            self.batch.running[:] = False
            self._begin_chosen()
        else:
            self._begin_shaping(np.arange(recipe.copies))

    def work(
        self,
        on_update: Callable[[Run, dict[str, float]], None],
        on_evaluation: Callable[[Run, Evaluation, dict[str, Any]], None],
        stop_asked: Callable[[], bool],
    ) -> Verdict:
        """Train until a stop rule, the recipe's last step, or a request ends it."""
        if self.verdict is not None:
            return self.verdict
        began = time.perf_counter() - self.seconds
        if not self.course:
            self._evaluate(on_evaluation)
        while True:
            health = self.update()
            for key, value in health.items():
                self._since.setdefault(key, []).append(value)
            self.seconds = time.perf_counter() - began
            on_update(self, health)
            asked = stop_asked()
            over = self.steps >= self.recipe.steps
            every = self.recipe.evaluation.every
            due = self.steps // every > self.course[-1].step // every  # at fixed multiples, wherever a run was cut
            if due or over or asked:
                self._evaluate(on_evaluation, extra=not due)
                self.seconds = time.perf_counter() - began
                verdict = decide(self.recipe.stop, self.course)
                if verdict is None and over:
                    verdict = Verdict("budget", f"{self.steps} steps done, the recipe's last")
                if verdict is None and asked:
                    verdict = Verdict(BY_HAND, f"stopped by hand at {self.steps} steps")
                self.verdict = verdict
                self.checkpoint()
                if verdict is not None:
                    return verdict

    def update(self) -> dict[str, float]:
        """Collect until the method is ready, and let it improve; returns the health figures."""
        method, batch = self.method, self.batch
        seen = batch.observe()
        unsolved = stepped = lost = 0
        while not method.ready():
            setpoints = batch.drawn(self.told_setpoints) if self.told_setpoints else None
            command = method.choose(seen)
            moved = int(batch.running.sum())
            outcome = batch.step(command)
            unsolved += int(batch.plant.unsolved.sum())
            stepped += moved * self.problem.task.timing.substeps
            lost += int(outcome.lost.sum())
            after = batch.observe()
            experience = self._experience(seen, command, outcome, after, setpoints)
            method.take(experience)
            self._returns += outcome.reward
            over = np.flatnonzero(experience.cut | experience.ended)
            for copy in over[~outcome.lost[over]]:
                self.recent.append((float(self._returns[copy]), bool(outcome.success[copy])))
            self._returns[over] = 0.0
            self.episodes += len(over)
            self.steps += moved
            seen = batch.observe() if self._begin_episodes(over) else after
        health = method.improve(min(1.0, self.steps / self.recipe.schedule))
        self._begin_chosen()
        self.updates += 1
        self.recent = self.recent[-100:]
        health["lost"] = float(lost)
        if stepped and batch.plant.bounded:
            health["unsolved"] = unsolved / stepped
        if self.recent:
            health["training_score"] = float(np.mean([score for score, _ in self.recent]))
            health["training_success"] = float(np.mean([success for _, success in self.recent]))
        return health

    def _experience(
        self, seen: Array, command: Array, outcome: Outcome, after: Array, setpoints: Array | None
    ) -> Experience:
        """What the method is told of a step; see `method.Experience`."""
        lost = outcome.lost
        ended, cut = (outcome.ending >= 0) & ~lost, (outcome.ending == TIME_UP) | lost
        reward, shaping = outcome.reward, None
        if self.shaping is not None:
            shaping = np.where(lost, 0.0, self.shaping.pay(ended))
            reward = reward + shaping
        if lost.any():
            after = np.where(lost[:, None], seen, after)
        return Experience(reward, after, ended, cut, seen, command, setpoints, shaping, lost)

    def _begin_episodes(self, over: Array) -> bool:
        """New episodes for the copies (indices) whose episodes are over, or where the method says; whether any was begun."""
        if self.begin is not None:
            return self._begin_chosen()
        self._start(over, np.arange(self.next_episode, self.next_episode + len(over)))
        self.next_episode += len(over)
        return len(over) > 0

    def _begin_chosen(self) -> bool:
        if self.begin is None:
            return False
        copies, numbers = self.begin(~self.batch.running)
        self._start(copies, numbers)
        return len(copies) > 0

    def _start(self, copies: Array, numbers: Array) -> None:
        self.batch.restart(copies, numbers)
        self._begin_shaping(copies)

    def _begin_shaping(self, copies: Array) -> None:
        if self.shaping is not None:
            self.shaping.begin(copies)

    def _evaluate(self, on_evaluation: Callable[[Run, Evaluation, dict[str, Any]], None], extra: bool = False) -> None:
        """Evaluate; an `extra` evaluation stands beside the multiples, at an end that a longer run does not have."""
        policy = self.method.policy()
        trials = evaluate(self.problem, policy, self.recipe.evaluation.episodes, self.threads)
        health = {key: float(np.mean(values)) for key, values in self._since.items()}
        if not extra:
            self._since = {}
        row, details = summarise(trials, self.steps, self.seconds, self.episodes, self.problem.sample_time, health)
        self.course.append(row)
        self.extra, self.before = extra, self.best
        if row.finite and (self.best is None or self.best.beaten_by(row)):
            if extra:
                set_aside(self.folder)
            self.best = Best(row.step, row.score, row.success)
            policy.save(self.folder / "best.npz", self.identity)
        if row.finite and not extra and self._worth_keeping():
            self.milestones.save(row.step, policy, self.identity)
        if len(self.course) == 1:
            details["untrained"] = untrained(self.problem, policy)
        write_inside(self.folder, self.method)
        on_evaluation(self, row, details)

    def _worth_keeping(self) -> bool:
        """Whether the policy of the last evaluation is a milestone, or to be filmed."""
        every, steps = self.recipe.evaluation.film_every, [e.step for e in self.course]
        if every is not None and steps[-1] in due_films(steps, every):
            return True
        return self.milestones.due([(e.step, e.success) for e in self.course])

    # --- checkpoints ---------------------------------------------------------------------------------------------

    def checkpoint(self) -> None:
        """Write everything that is needed to go on as if nothing had happened."""
        best = self.best or Best(-1, 0.0, 0.0)
        names = sorted({name for e in self.course for name in e.figures})
        kept: dict[str, Array] = {
            "format": np.array(CHECKPOINT_FORMAT),
            "counts": np.array([self.steps, self.episodes, self.updates, self.next_episode]),
            "seconds": np.array(self.seconds),
            "best": np.array([best.step, best.score, best.success]),
            "course": np.array([[e.step, e.seconds, e.episodes, e.score, e.success, e.finite] for e in self.course]),
            "figures": np.array(names),
            "figures_of_course": np.array([[e.of(name) for name in names] for e in self.course]).reshape(
                len(self.course), len(names)
            ),
            "recent": np.array(self.recent, dtype=float).reshape(-1, 2),
            "returns": self._returns,
            "of": np.array([self.identity, self.problem.fingerprint(), str(self.seed)]),
        }
        if self.verdict is not None and self.verdict.rule != BY_HAND:
            kept["verdict"] = np.array([self.verdict.rule, self.verdict.text, self._ends()])
        if self.extra:
            before = self.before or Best(-1, 0.0, 0.0)
            kept["before_extra"] = np.array([before.step, before.score, before.success])
        kept |= {f"since.{key}": np.array(values) for key, values in self._since.items()}
        kept |= {f"method.{k}": v for k, v in self.method.keep().items()}
        kept |= {f"batch.{k}": v for k, v in self.batch.keep().items()}
        kept |= {"shaping": self.shaping.keep()} if self.shaping is not None else {}
        out = io.BytesIO()
        np.savez(out, **kept)  # type: ignore[arg-type]
        write_whole(self.folder / "checkpoint.npz", out.getvalue())
        self.method.policy().save(self.folder / "last.npz", self.identity)

    def resume(self) -> bool:
        """Go back to the last checkpoint; False if there is none.

        Raises
        ------
        FileError
            The checkpoint is damaged or of another format.
        """
        path = self.folder / "checkpoint.npz"
        if not path.exists():
            return False
        kept = read_arrays(path)
        if "format" not in kept or kept["format"].shape or kept["format"] != CHECKPOINT_FORMAT:
            raise FileError(path, "format", None, f"this program resumes format {CHECKPOINT_FORMAT}")
        if "of" in kept:
            wanted = (self.identity, self.problem.fingerprint(), str(self.seed))
            for what, found, own in zip(
                ("identity", "fingerprint", "seed"), kept["of"].ravel().tolist(), wanted, strict=False
            ):
                if found and own and found != own:
                    raise FileError(
                        path, what, found, "is a checkpoint of another run; move it away to train from the start"
                    )
        try:
            self._go_back(kept)
        except (ValueError, IndexError, TypeError, OverflowError, AttributeError) as error:
            raise FileError(
                path, "", None, f"damaged, or of another recipe: {error}; train anew, best.npz stays"
            ) from error
        except KeyError as error:
            raise FileError(
                path,
                str(error.args[0]),
                None,
                "missing: another version of the program wrote it; train anew, best.npz stays",
            ) from error
        return True

    def _go_back(self, kept: dict[str, Array]) -> None:
        self.steps, self.episodes, self.updates, self.next_episode = (int(x) for x in kept["counts"])
        self.seconds = float(kept["seconds"])
        step, score, success = kept["best"]
        self.best = Best(int(step), float(score), float(success)) if step >= 0 else None
        names = [str(name) for name in kept.get("figures", np.array([], dtype=str))]
        figures = kept.get("figures_of_course", np.zeros((len(kept["course"]), 0)))
        self.course = [
            Evaluation(
                int(r[0]), r[1], int(r[2]), float(r[3]), float(r[4]), bool(r[5]),
                {name: float(v) for name, v in zip(names, f, strict=True) if np.isfinite(v)},
            )
            for r, f in zip(kept["course"], figures, strict=True)
        ]  # fmt: skip
        self.recent = [(float(a), bool(b)) for a, b in kept["recent"]]
        self._returns = kept["returns"]
        self.method.restore({k[7:]: v for k, v in kept.items() if k.startswith("method.")})
        self.batch.restore({k[6:]: v for k, v in kept.items() if k.startswith("batch.")})
        if self.shaping is not None:
            self.shaping.restore(kept["shaping"])
        self._since = {key[6:]: values.tolist() for key, values in kept.items() if key.startswith("since.")}
        if "verdict" in kept:
            rule, text, *ends = (str(part) for part in kept["verdict"])
            if not ends or ends[0] == self._ends():  # else it has been given more to do since
                self.verdict = Verdict(rule, text)
        if self.verdict is None and "before_extra" in kept:
            self._drop_extra(kept["before_extra"])

    def _ends(self) -> str:
        """What may end it, to see whether that was changed."""
        return json.dumps([self.recipe.steps, [rule.model_dump() for rule in self.recipe.stop]])

    def _drop_extra(self, before: Array) -> None:
        """Go on as if it had not ended: the evaluation that a longer run does not have is dropped, its policy becomes a milestone."""
        row = self.course.pop()
        self.dropped = row.step
        if self.best is not None and self.best.step == row.step and int(before[0]) != row.step:
            self.milestones.save(row.step, Policy.load(self.folder / "best.npz"), self.identity)
            take_back(self.folder)
            self.best = Best(int(before[0]), float(before[1]), float(before[2])) if before[0] >= 0 else None


def method_of(
    problem: Problem, recipe: Recipe, seed: int, threads: int = 1, base: BaseController | None = None
) -> Method:
    """The recipe's method, ready to learn; that of a residual recipe corrects `base`."""

    def make(space: Space) -> Method:
        return make_method(
            recipe.method,
            recipe.method_settings(sample_time=problem.sample_time),
            space,
            recipe.copies,
            seed,
            threads,
            recipe.own,
        )

    space = space_of(problem)
    if recipe.shaping is not None and not recipe.shaping.symmetric:
        space = replace(space, mirror=None)  # a mirrored row would keep the potential of the other side
    if recipe.residual is None or base is None:
        return make(space)
    return Residual(make, space, base.gain, recipe.residual.reach)


def names_of(problem: Problem) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Names of what is observed, what critics alone see last, and of what is commanded."""
    return tuple(e.name for e in problem.entries), tuple(c.name for c in problem.commands)


def space_of(problem: Problem) -> Space:
    """What a method must know of a problem."""
    entries = problem.entries
    low, high = (
        np.array([sign if e.scaling == "none" else getattr(e, side) for e in entries])
        for sign, side in ((-1.0, "low"), (1.0, "high"))
    )
    standardised = np.array([e.scaling == "standardise" for e in entries])
    return Space(
        low,
        high,
        problem.low,
        problem.high,
        standardised,
        len(entries) - len(problem.sensed),
        ObservedReward(problem),
        problem.mirror,
        setpoint_shift(problem),
    )
