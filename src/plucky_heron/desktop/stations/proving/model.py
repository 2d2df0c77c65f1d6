"""What the Proving station says, without a widget."""

from __future__ import annotations

from typing import Any

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState
from plucky_heron.runs.results import PROOF
from plucky_heron.runs.store import RunRow
from plucky_heron.simulation.trials import Trials
from plucky_heron.training.stopping import show_steps


def stake(bench: Workbench) -> StakeState:
    """What the proof says."""
    row = bench.row()
    if row is None:
        return StakeState(0.0, "no run")
    proof = bench.store.last_result(row.id, PROOF)
    if proof is None:
        return StakeState(0.0, "not proved")
    share = proof["drivers"]["policy"]["success"]
    return StakeState(1.0, f"{100 * share:.1f} % of {proof['trials']}", older=bench.older(row))


def what_is_proved(row: RunRow | None) -> str:
    """The run whose kept policy goes into the trials."""
    if row is None:
        return "train a run first"
    return f"run {row.id}, seed {row.seed}, kept at {show_steps(row.best_step or 0)} steps"


def outcome(trials: Trials, number: int) -> tuple[str, str]:
    """Whether a trial succeeded, and how it ended."""
    kind = int(trials.ending[number])
    ending = trials.ending_names[kind] if kind >= 0 else "time is up"
    return "success" if trials.success[number] else "no success", ending


def verdict(drivers: dict[str, dict[str, Any]], trials: int) -> str:
    """What the paired differences allow to be said, in one or two sentences."""
    others = {n: d for n, d in drivers.items() if n != "policy"}
    best = max(others, key=lambda n: others[n]["success"])
    difference, half = others[best]["against_policy"]
    if difference + half < 0:
        text = f"Better than the best of the others ({best}): established."
    elif difference - half > 0:
        text = f"The {best} succeeds more often: established."
    else:
        text = f"Against the {best}, success does not differ beyond chance; scores {drivers['policy']['score']['mean']:.1f} and {others[best]['score']['mean']:.1f}."
    low = drivers["policy"]["success_interval"][0]
    return (
        f"{text} At 95 % confidence the policy succeeds in at least {100 * low:.1f} % of such trials ({trials} tried)."
    )
