"""What the Handover station says, without a widget."""

from __future__ import annotations

from typing import Any

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


def rig_lines(found: dict[str, Any]) -> list[tuple[str, str]]:
    """What a rollout showed, as its summary has it: titles and words."""
    trip = found["round_trip_ms"]
    lines = [
        ("on", f"{found['rig']}, {found['mode']}, {found['episodes']} episode{'s' if found['episodes'] > 1 else ''}"),
        ("samples", f"{found['samples']}, {found['missed'] or 'none'} missed"),
        *([("this computer late", f"{found['waited']} times, the plant waited")] if found.get("waited") else []),
        ("round trip", f"{trip['median']:.2f} ms, worst {trip['max']:.2f}"),
        ("score", f"here {found['score']:.2f}, inside {found['score_inside']:.2f}"),
        ("commands differ", _share(found["command_difference"])),
        ("damaged, late, lost", " · ".join(str(found["counters"].get(k, 0)) for k in ("damaged", "late", "lost"))),
    ]
    if found.get("whole"):
        faults = sorted({one["reason"] for one in found["states"] if one["state"] == "fault"})
        lines[0] = ("whole controller on", lines[0][1])
        lines[-1:] = [
            ("drives differ", _share(found["drive_difference"])),
            ("refused, held", " · ".join(str(found["counters"].get(k, 0)) for k in ("refused", "held"))),
            *([("in fault", ", ".join(faults))] if faults else []),
        ]
    if board := found.get("footprint"):
        lines[-2:] = [
            (
                "flash, RAM, stack",
                f"{board['flash']:,} · {board['ram']:,} · {board['stack']:,} bytes".replace(",", " "),
            ),
            ("longest call", f"{board['instructions']:,} instructions".replace(",", " ")),
            (f"at {board['assumed_clock'] / 1e6:g} MHz, assumed", f"{1e3 * board['assumed_seconds']:.2g} ms"),
        ]
    if found.get("faults") and not found["command_difference"]:  # with wrong sensors there is nothing to compare
        lines = [line for line in lines if line[0] != "commands differ"]
    if found.get("faults"):
        lines[-1:] = [
            (
                "on the way",
                " · ".join(f"{count} {what}" for what, count in found["link"].items()) or "nothing went wrong",
            ),
            ("controller", " · ".join(f"{count} {what}" for what, count in found["counters"].items() if count)),
        ]
    return lines


def _share(difference: float) -> str:
    return f"{difference:.0e} of range at most" if difference else "not at all"
