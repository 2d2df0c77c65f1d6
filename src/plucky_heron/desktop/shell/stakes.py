"""What the seven stakes show: how far each station is, one live fact, trouble. Looks at the workbench only."""

from __future__ import annotations

from dataclasses import dataclass

from plucky_heron.analysis.comparing.comparison import batches
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.runs.store import DEAD, FAILED


@dataclass(frozen=True)
class StakeState:
    """What one stake shows."""

    level: float
    fact: str
    trouble: bool = False
    older: bool = False


def machine(bench: Workbench) -> StakeState:
    """Bodies and drives."""
    problem = bench.problem
    if problem is None:
        return StakeState(0.0, "no machine", trouble=True)
    return StakeState(1.0, f"{len(problem.machine.bodies)} bodies, {len(problem.machine.drives)} drives")


def task(bench: Workbench) -> StakeState:
    """Numbers sensed and given."""
    problem = bench.problem
    if problem is None or bench.trouble:
        return StakeState(0.5, "cannot be read", trouble=problem is None)
    return StakeState(1.0, f"{len(problem.sensed)} sensed, {len(problem.task.actions)} given")


def shakedown(bench: Workbench) -> StakeState:
    """How many checks pass."""
    shaken = bench.shakedown
    if shaken is None:
        return StakeState(0.0, "not checked: rehearse")
    if shaken.wrong:
        return StakeState(0.6, f"{len(shaken.wrong)} wrong", trouble=True)
    passed = sum(c.passed for c in shaken.checks)
    return StakeState(1.0, f"{passed} of {len(shaken.checks)} pass", older=bench.shakedown_older())


def training(bench: Workbench) -> StakeState:
    """What is or was trained."""
    rows = bench.rows
    if not rows:
        return StakeState(0.0, "no run: train")
    batch = bench.batch_rows()
    if any(r.alive for r in batch):
        done = sum(r.steps if r.alive else r.budget for r in batch) / max(1, sum(r.budget for r in batch))
        return StakeState(max(0.08, done), f"{len(batch)} seeds, {100 * done:.0f} %")
    wrong = [r for r in rows if r.state in (DEAD, FAILED)]
    if wrong:
        return StakeState(0.6, f"run {wrong[0].id} {wrong[0].state}", trouble=True)
    row, count = bench.row(), len({r.batch for r in rows})
    fact = f"{count} batch{'es' if count > 1 else ''}, {len(rows)} runs"
    return StakeState(1.0, fact, older=row is not None and bench.older(row))


def compare(bench: Workbench) -> StakeState:
    """How many batches there are."""
    count = len(batches(bench.rows))
    if not count:
        return StakeState(0.0, "no batch: train")
    return StakeState(0.5 if count == 1 else 1.0, f"{count} batch{'es' if count > 1 else ''}")


def proving(bench: Workbench) -> StakeState:
    """What the proof says."""
    row = bench.row()
    if row is None:
        return StakeState(0.0, "no run")
    proof = bench.store.last_result(row.id, "proof")
    if proof is None:
        return StakeState(0.0, "not proved")
    share = proof["drivers"]["policy"]["success"]
    return StakeState(1.0, f"{100 * share:.1f} % of {proof['trials']}", older=bench.older(row))


def handover(bench: Workbench) -> StakeState:
    """Pack and rollout."""
    row = bench.row()
    if row is None:
        return StakeState(0.0, "no run")
    if bench.store.last_result(row.id, "pack") is None:
        return StakeState(0.0, "no pack")
    rolled = bench.store.last_result(row.id, "rollout")
    if rolled is None:
        return StakeState(0.6, "pack written")
    return StakeState(1.0, f"rolled out, {rolled['missed']} missed", older=bench.older(row))


STAKES = (machine, task, shakedown, training, compare, proving, handover)
