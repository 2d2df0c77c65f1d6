"""What the Machine station says, without a widget."""

from __future__ import annotations

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState


def stake(bench: Workbench) -> StakeState:
    """Bodies and drives."""
    problem = bench.problem
    if problem is None:
        return StakeState(0.0, "no machine", trouble=True)
    bodies, drives = len(problem.machine.bodies), len(problem.machine.drives)
    return StakeState(
        1.0, f"{bodies} {'body' if bodies == 1 else 'bodies'}, {drives} drive{'s' if drives != 1 else ''}"
    )
