"""What the Proving station says, without a widget."""

from __future__ import annotations

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState
from plucky_heron.runs.results import PROOF


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
