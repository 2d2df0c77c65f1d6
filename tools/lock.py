"""Writes the locks from what pyproject.toml states: exact versions of all that running needs, and of what tests and linters add.

``python tools/lock.py [--upgrade]``: without it, versions that are locked already stay. ``--smoke`` only checks that the locks hold
everything that is stated.
"""

from __future__ import annotations

import argparse
import json
import re
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
LOCKS = {"requirements.lock": (), "requirements-test.lock": ("test", "dev", "gamepad")}
HEADS = {
    "requirements.lock": "# what running needs, exact versions; written by tools/lock.py; PySide6 6.12.0 is broken on CPython 3.11 (see tests/test_platform.py)",
    "requirements-test.lock": "# what ./heron test adds, exact versions; written by tools/lock.py",
}


def plain(name: str) -> str:
    """A distribution's name as indexes compare it."""
    return re.sub(r"[-_.]+", "-", name).lower()


def stated(extras: tuple[str, ...]) -> list[str]:
    """Requirements as pyproject.toml states them."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    return [*project["dependencies"], *(r for extra in extras for r in project["optional-dependencies"][extra])]


def locked(name: str) -> dict[str, str]:
    """Versions by distribution."""
    lines = (ROOT / name).read_text().splitlines() if (ROOT / name).exists() else []
    return {plain(x.partition("==")[0]): x for x in lines if x and not x.startswith("#")}


def resolve(requirements: list[str], keep: list[str]) -> dict[str, str]:
    """Every distribution that is needed, with its version, by pip's own resolver."""
    with tempfile.TemporaryDirectory() as place:
        constraints, report = Path(place) / "keep.txt", Path(place) / "report.json"
        constraints.write_text("\n".join(keep) + "\n")
        command = [
            sys.executable,
            "-P",
            "-m",
            "pip",
            "install",
            "--quiet",
            "--dry-run",
            "--ignore-installed",
            "--report",
            str(report),
        ]
        subprocess.run([*command, "-c", str(constraints), *requirements], check=True)
        found = [entry["metadata"] for entry in json.loads(report.read_text())["install"]]
    return {plain(m["name"]): f"{m['name']}=={m['version']}" for m in found}


def main() -> int:
    """Write both locks, or check them."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--upgrade", action="store_true")
    parser.add_argument("--smoke", action="store_true")
    given = parser.parse_args()
    known = {name: line for lock in LOCKS for name, line in locked(lock).items()}
    if given.smoke:
        lacking = [
            r for extras in LOCKS.values() for r in stated(extras) if plain(re.split(r"[<>=!~ ]", r)[0]) not in known
        ]
        print(f"{len(known)} versions locked; lacking: {', '.join(lacking) or 'none'}")
        return 1 if lacking else 0
    before: dict[str, str] = {}
    for name, extras in LOCKS.items():
        found = resolve(stated(extras), [] if given.upgrade else [*known.values()])
        lines = sorted((line for key, line in found.items() if key not in before), key=str.lower)
        (ROOT / name).write_text("\n".join([HEADS[name], *lines]) + "\n")
        before |= found
        print(f"{name}: {len(lines)} versions")
    return 0


if __name__ == "__main__":
    sys.exit(main())
