"""Proof: the same fresh trials for the policy and for everyone it should beat."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.analysis.proving.margins import delay_margins
from plucky_heron.analysis.result_table import ResultTable, table_of
from plucky_heron.analysis.statistics import paired_difference, wilson
from plucky_heron.control.regulator import regulator_for
from plucky_heron.errors import FileError, StateError
from plucky_heron.learning.policy import Policy, PolicyDriver
from plucky_heron.runs.freeze import frozen_problem, kept_policy
from plucky_heron.runs.results import PROOF, VARIED_PROOF
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.simulation.drivers import Constant, Driver, Random, Rule
from plucky_heron.simulation.trials import Recording, Trials, run_trials
from plucky_heron.task.distributions import Distribution
from plucky_heron.task.problem import Problem, bind
from plucky_heron.training.evaluation import EVALUATION_SEED

PROVING_STREAM = "proving"


@dataclass(frozen=True, repr=False)
class Proof:
    """Trials of every driver, the policy first."""

    problem: Problem
    trials: dict[str, Trials]
    drivers: dict[str, Driver]
    left_out: dict[str, str] = field(default_factory=dict)
    """Drivers that the task asks for and that cannot be made, and why."""

    def summary(self) -> dict[str, Any]:
        """Figures by driver: success share with Wilson interval, score quartiles, worst trials, endings."""
        ours = self.trials["policy"]
        summary = {}
        for name, trials in self.trials.items():
            count = len(trials.score)
            difference, half = paired_difference(trials.success, ours.success)
            summary[name] = {
                "success": float(trials.success.mean()),
                "success_interval": list(wilson(int(trials.success.sum()), count)),
                "score": {
                    "mean": float(trials.score.mean()),
                    "quartiles": [float(q) for q in np.percentile(trials.score, (25, 50, 75))],
                },
                "worst": trials.worst(5),
                "endings": trials.tally(),
                "effort": float(trials.effort.mean()),
                "against_policy": [difference, half],
            }
        return summary

    def table(self) -> ResultTable:
        """Success with its 95 % interval and score by driver."""
        rows = [
            (name, d["success"], *d["success_interval"], d["score"]["mean"], *d["score"]["quartiles"]) for name, d in self.summary().items()
        ]  # fmt: skip
        left = "".join(f"; left out: {name}, {why}" for name, why in self.left_out.items())
        title = f"proof on {len(self.trials['policy'].score)} fresh trials, the same for all{left}"
        return table_of(
            title, ("driver", "success %", "from %", "to %", "score", "quarter", "median", "three quarters"), rows
        )

    def __repr__(self) -> str:
        return repr(self.table())

    def _repr_html_(self) -> str:
        return self.table()._repr_html_()

    def replay(self, name: str, trial: int) -> Recording:
        """One trial again, sample by sample, bit for bit as it was proved."""
        return record_trial(self.problem, self.drivers[name], len(self.trials[name].score), trial)


def opponents(problem: Problem, project: Path | None = None, missing: dict[str, str] | None = None) -> list[Driver]:
    """Nobody, random commands, the task's rules, and the tuned regulator where the task allows one.

    A regulator that cannot be made is left out; `missing` takes why, by the driver's name.
    """
    drivers: list[Driver] = [Constant(problem), Random(problem, EVALUATION_SEED)]
    drivers += [Rule(problem, name) for name in problem.rules]
    if problem.hold:
        try:
            drivers.append(regulator_for(problem, project))
        except (StateError, np.linalg.LinAlgError) as error:
            if missing is not None:
                missing["regulator"] = str(error)
    return drivers


def prove(
    problem: Problem,
    policy: Policy,
    *,
    trials: int = 200,
    project: Path | None = None,
    progress: Callable[[str, float], bool] | None = None,
) -> Proof:
    """Run the same trials under the policy and all its opponents.

    Parameters
    ----------
    progress
        Called with the driver's name and the share done of the whole; returning False abandons the proof.

    Raises
    ------
    StateError
        Abandoned.
    """
    problem = problem.for_proving()
    missing: dict[str, str] = {}
    drivers: list[Driver] = [PolicyDriver(policy), *opponents(problem, project, missing)]
    done: dict[str, Trials] = {}
    for number, driver in enumerate(drivers):

        def tell(share: float, number: int = number, name: str = driver.name) -> bool:
            return progress is None or progress(name, (number + share) / len(drivers))

        done[driver.name] = run_trials(
            problem, driver, seed=EVALUATION_SEED, stream=PROVING_STREAM, count=trials, progress=tell
        )
        if not tell(1.0):
            raise StateError("the proof was stopped; nothing is concluded from a part of it")
    return Proof(problem, done, {d.name: d for d in drivers}, missing)


def prove_run(
    project: Path,
    row: RunRow,
    *,
    trials: int = 200,
    changes: Mapping[str, str] | None = None,
    margins: bool = False,
    progress: Callable[[str, float], bool] | None = None,
) -> tuple[Proof, dict[str, Any]]:
    """Prove the kept policy of a run on the problem it learned, and keep the result with what was varied.

    Parameters
    ----------
    changes
        Other variation, see `varied`; such a proof is kept apart from the one on the task's own variation.
    margins
        Whether delay margins are looked for, too.
    """
    problem = frozen_problem(project, row)
    proof = prove(
        varied(problem, changes) if changes else problem,
        kept_policy(project, row),
        trials=trials,
        project=project,
        progress=progress,
    )
    answer: dict[str, Any] = {
        "run": row.id,
        "trials": trials,
        "varied": dict(changes or {}),
        "drivers": proof.summary(),
        "left_out": proof.left_out,
    }
    if margins:
        found = delay_margins(proof.problem, list(proof.drivers.values()), trials)
        answer["margins"] = {"dead time": {name: margin.seconds for name, margin in found.items()}}
        answer["margin_facts"] = {"dead time": {name: margin.facts() for name, margin in found.items()}}
    store = RunStore(project)
    try:
        store.add_result(row.id, VARIED_PROOF if changes else PROOF, answer)
    finally:
        store.close()
    return proof, answer


def record_trial(problem: Problem, driver: Driver, trials: int, number: int, stream: str = PROVING_STREAM) -> Recording:
    """One trial of a set of `trials`, recorded; the whole set runs again so that the bits are the same."""
    if not 0 <= number < trials:
        raise StateError(f"trial {number}: there are {trials}, numbered from 0")
    found = run_trials(problem, driver, seed=EVALUATION_SEED, stream=stream, count=trials, record=[number])
    return found.recordings[number]


def varied(problem: Problem, changes: Mapping[str, str]) -> Problem:
    """`problem` with other variation: name -> ``"LOW:HIGH"`` or one value.

    Raises
    ------
    FileError
        Unknown name, or a value that cannot be read.
    """
    variation = dict(problem.task.variation)
    for name, text in changes.items():
        low, colon, high = text.partition(":")
        if not low or (colon and not high):
            raise FileError("--vary", name, text, "wanted LOW:HIGH, such as basket.mass=20kg:80kg")
        variation[name] = Distribution(uniform=(low, high)) if colon else Distribution(fixed=low)
    task = problem.task.model_copy(update={"variation": variation})
    return bind(problem.machine, problem.site, task, "--vary", problem.code)
