"""What the Machine station says, without a widget."""

from __future__ import annotations

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState


def stake(bench: Workbench) -> StakeState:
    """Bodies and drives."""
    problem = bench.problem
    if problem is None:
        return StakeState(0.0, "no machine", trouble=True)
    return StakeState(1.0, f"{len(problem.machine.bodies)} bodies, {len(problem.machine.drives)} drives")
