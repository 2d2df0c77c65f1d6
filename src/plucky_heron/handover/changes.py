"""What is different between two packs: signals, limits, timing, score."""

from __future__ import annotations

from typing import Any


def changes(before: dict[str, Any], after: dict[str, Any]) -> list[str]:
    """Lines in words, from two ``pack.json``; nothing where a firmware that worked with the first works with the second."""
    found = []
    for what, key in (("input", "inputs"), ("command", "outputs")):
        old, new = ({s["name"]: s for s in pack.get(key, [])} for pack in (before, after))
        found += [f"{what} {name} is gone" for name in old if name not in new]
        found += [f"{what} {name} is new" for name in new if name not in old]
        shared = [name for name in old if name in new]
        if shared != [name for name in new if name in old]:
            found.append(f"{what}s stand in another order")
        for name in shared:
            for part, words in (("unit", "unit"), ("positive", "positive direction")):
                if old[name].get(part) != new[name].get(part):
                    found.append(
                        f"{what} {name}: {words} {old[name].get(part) or 'none'} -> {new[name].get(part) or 'none'}"
                    )
            if (old[name]["low"], old[name]["high"]) != (new[name]["low"], new[name]["high"]):
                word = "limits" if key == "outputs" else "range"
                found.append(
                    f"{what} {name}: {word} {old[name]['low']:g} .. {old[name]['high']:g} -> {new[name]['low']:g} .. {new[name]['high']:g}"
                )
    for path, words, unit in (
        (("sample_time",), "sample time", " s"),
        (("safety", "hold"), "hold time", " s"),
        (("network", "memory"), "remembered numbers", ""),
    ):
        values = []
        for pack in (before, after):
            value: Any = pack
            for step in path:
                value = value.get(step) if isinstance(value, dict) else None
            values.append(value)
        if values[0] != values[1]:
            found.append(f"{words}: {values[0]}{unit} -> {values[1]}{unit}")
    old_run, new_run = before.get("run", {}), after.get("run", {})
    if old_run.get("identity") != new_run.get("identity"):
        found.append(f"run {old_run.get('number')} -> {new_run.get('number')}")
    for part, words, scale in (
        ("success", "success of its evaluations", 100.0),
        ("score", "score of its evaluations", 1.0),
    ):
        a, b = old_run.get(part), new_run.get(part)
        if isinstance(a, (int, float)) and isinstance(b, (int, float)) and a != b:
            found.append(f"{words}: {scale * a:.4g} -> {scale * b:.4g}{' %' if scale > 1 else ''}")
    return found
