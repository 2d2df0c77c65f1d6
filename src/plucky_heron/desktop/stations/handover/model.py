"""What the Handover station says, without a widget."""

from __future__ import annotations

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState
from plucky_heron.runs.results import PACK, ROLLOUT


def stake(bench: Workbench) -> StakeState:
    """Pack and rollout."""
    row = bench.row()
    if row is None:
        return StakeState(0.0, "no run")
    if bench.store.last_result(row.id, PACK) is None:
        return StakeState(0.0, "no pack")
    rolled = bench.store.last_result(row.id, ROLLOUT)
    if rolled is None:
        return StakeState(0.6, "pack written")
    return StakeState(1.0, f"rolled out, {rolled['missed']} missed", older=bench.older(row))
