"""What the Shakedown station says, without a widget."""

from __future__ import annotations

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState


def stake(bench: Workbench) -> StakeState:
    """How many checks pass."""
    shaken = bench.shakedown
    if not bench.has_task:
        return StakeState(0.0, "no task")
    if shaken is None:
        return StakeState(0.0, "not checked: rehearse")
    if shaken.wrong:
        return StakeState(0.6, f"{len(shaken.wrong)} wrong", trouble=True)
    passed = sum(c.passed for c in shaken.checks)
    return StakeState(1.0, f"{passed} of {len(shaken.checks)} pass", older=bench.shakedown_older())
