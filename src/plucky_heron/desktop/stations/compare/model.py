"""What the Compare station says, without a widget."""

from __future__ import annotations

from plucky_heron.analysis.comparing.comparison import batches
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState


def stake(bench: Workbench) -> StakeState:
    """How many batches there are."""
    count = len(batches(bench.rows))
    if not count:
        return StakeState(0.0, "no batch: train")
    return StakeState(0.5 if count == 1 else 1.0, f"{count} batch{'es' if count > 1 else ''}")
