"""What the Compare station says, without a widget."""

from __future__ import annotations

import numpy as np

from plucky_heron.analysis.comparing.comparison import batches
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.stake import StakeState
from plucky_heron.runs.store import RunRow
from plucky_heron.training.stopping import show_value
from plucky_heron.units import counted

NO_BATCH = "No batch yet: train one, change the recipe, train another"
OTHER_REWARDS = "the task was changed between these runs: only its measure compares them"


def stake(bench: Workbench) -> StakeState:
    """How many batches there are."""
    count = len(batches(bench.rows))
    if not count:
        return StakeState(0.0, "no batch: train")
    return StakeState(0.5 if count == 1 else 1.0, counted(count, "batch", "batches"))


def comparison_words(groups: dict[str, list[float]], quantity: str = "success") -> list[str]:
    """What the retests of finished seeds allow to be said: which batch is best, by how much, and how sure that is."""
    named = sorted(
        ((letter, values) for letter, values in groups.items() if values),
        key=lambda g: float(np.median(g[1])),
        reverse=True,
    )
    if len(named) < 2:
        return [
            f"{letter}: {counted(len(values), 'seed')}; one batch alone compares with nothing"
            for letter, values in named
        ]
    (first, ours), (second, theirs) = named[:2]
    best, next_best = float(np.median(ours)), float(np.median(theirs))
    worst_first, worst_second = show_value(quantity, min(ours)), show_value(quantity, min(theirs))
    lines = [f"Best by its median seed: {first}, {show_value(quantity, best)} (worst {worst_first})."]
    gap = f"{100 * (best - next_best):.1f} points" if quantity == "success" else f"{best - next_best:.3g}"
    ahead = f"{gap} ahead of {second}" if best > next_best else f"level with {second}"
    lines.append(f"{ahead[:1].upper()}{ahead[1:]}, {show_value(quantity, next_best)} (worst {worst_second}).")
    wins = sum((a > b) + 0.5 * (a == b) for a in ours for b in theirs)
    total = len(ours) * len(theirs)
    clear = min(len(ours), len(theirs)) >= 5 and wins / total >= 0.9
    verdict = "established" if clear else "not established with so few seeds" if total < 25 else "not established"
    lines.append(f"{first} is at least as good as {second} in {wins:g} of {total} pairs of seeds: {verdict}.")
    return lines


def batch_name(rows: list[RunRow]) -> str:
    """Recipe and seeds of a batch, and what is special about it."""
    name = f"{rows[0].recipe}, {len(rows)} seed{'s' if len(rows) > 1 else ''}"
    name = f"{name}: {rows[0].note}" if rows[0].note else name
    name = f"{name} ({rows[0].keywords})" if rows[0].keywords else name
    return f"★ {name}" if rows[0].marked else name


def put_away_text(batches: list[int]) -> str:
    """What brings batches back that were put away; nothing without any."""
    if not batches:
        return ""
    return f"Bring back {len(batches)} put away" if len(batches) > 1 else f"Bring back batch {batches[0]}"


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
