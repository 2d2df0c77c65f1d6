"""What a run worked on: system, processor, versions, commit."""

from __future__ import annotations

import datetime
import os
import platform
import subprocess
from importlib import metadata
from pathlib import Path
from typing import Any


def facts() -> dict[str, Any]:
    """What a run works on: system, processor, threads, versions, commit."""
    packages = {name: metadata.version(name) for name in ("numpy", "scipy", "numba")}
    return {
        "system": platform.platform(),
        "processor": _processor(),
        "cores": os.cpu_count(),
        "python": platform.python_version(),
        "packages": packages,
        "commit": _commit(),
        "started": datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"),
    }


def _processor() -> str:
    try:
        for line in Path("/proc/cpuinfo").read_text().splitlines():
            if line.startswith("model name"):
                return line.partition(":")[2].strip()
    except OSError:
        pass
    return platform.machine()


def _commit() -> str:
    root = Path(__file__).resolve().parents[3]
    try:
        done = subprocess.run(
            ["git", "-C", str(root), "rev-parse", "--short", "HEAD"],
            capture_output=True,
            text=True,
            timeout=5,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout.strip() if done.returncode == 0 else ""
