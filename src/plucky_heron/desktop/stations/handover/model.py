"""What the Handover station says, without a widget."""

from __future__ import annotations

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState


def stake(bench: Workbench) -> StakeState:
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
