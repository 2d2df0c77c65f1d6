"""What the Compare station says, without a widget."""

from __future__ import annotations

from plucky_heron.analysis.comparing.comparison import batches
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState
from plucky_heron.runs.store import RunRow
from plucky_heron.training.stopping import show_value

NO_BATCH = "No batch yet: train one, change the recipe, train another"
OTHER_REWARDS = "the task was changed between these runs: only its measure compares them"


def stake(bench: Workbench) -> StakeState:
    """How many batches there are."""
    count = len(batches(bench.rows))
    if not count:
        return StakeState(0.0, "no batch: train")
    return StakeState(0.5 if count == 1 else 1.0, f"{count} batch{'es' if count > 1 else ''}")


def comparison_words(groups: dict[str, list[float]]) -> list[str]:
    """What the retests of finished seeds allow to be said, pair by pair: shares of pairs of seeds, no more."""
    named = [(letter, values) for letter, values in groups.items() if values]
    if len(named) < 2:
        letter_values = named[0] if named else None
        return (
            [f"{letter_values[0]}: {len(letter_values[1])} seeds; one batch alone compares with nothing"]
            if letter_values
            else []
        )
    lines = []
    for k, (first, ours) in enumerate(named):
        for second, theirs in named[k + 1 :]:
            wins = sum((a > b) + 0.5 * (a == b) for a in ours for b in theirs)
            total = len(ours) * len(theirs)
            clear = min(len(ours), len(theirs)) >= 5 and not 0.1 < wins / total < 0.9
            verdict = (
                "established" if clear else "not established with so few seeds" if total < 25 else "not established"
            )
            lines.append(f"{first} is at least as good as {second} in {wins:g} of {total} pairs of seeds: {verdict}.")
    return lines


def batch_name(rows: list[RunRow]) -> str:
    """Recipe and seeds of a batch."""
    return f"{rows[0].recipe}, {len(rows)} seed{'s' if len(rows) > 1 else ''}"


def batch_note(rows: list[RunRow]) -> str:
    """State of a batch, or the time it took."""
    seconds = sum(r.seconds for r in rows)
    state = next((r.state for r in rows if r.state != "done"), "")
    return f"batch {rows[0].batch} · " + (state or f"{seconds / 60:.1f} min of work")


def share_text(value: float | None) -> str:
    """A share in per cent; nothing where there is none."""
    return "–" if value is None else show_value("success", value)


def no_difference(batches: int) -> str:
    """What is said where no settings differ."""
    if batches > 1:
        return "nothing: same task, recipe and settings"
    return "one batch; its settings:" if batches else "no batch"
