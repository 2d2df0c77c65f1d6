"""What is said when a batch is over."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from plucky_heron.runs.store import DEAD, FAILED, RunRow
from plucky_heron.training.stopping import show_value


def ended_text(rows: Sequence[RunRow]) -> str:
    """What came of the runs of a batch, in a line; empty for none, as after a batch was deleted."""
    if not rows:
        return ""
    first = rows[0]
    name = f"batch {first.batch} ({first.task}, {first.recipe})"
    wrong = [row for row in rows if row.state in (DEAD, FAILED)]
    reached = [row.best_success for row in rows if row.best_success is not None]
    count = f"{len(rows)} seed{'s' if len(rows) > 1 else ''}"
    said = [f"{name} is over: {count}"]
    if reached:
        median = show_value("success", float(np.median(reached)))
        worst = f", worst {show_value('success', min(reached))}" if len(reached) > 1 else ""
        said.append(f"best evaluations {median}{' in the median' if len(reached) > 1 else ''}{worst}")
    if wrong:
        said.append(
            f"{len(wrong)} {'were' if len(wrong) > 1 else 'was'} lost: run {wrong[0].id} {wrong[0].stop_text or wrong[0].state}"
        )
    return ", ".join(said)
