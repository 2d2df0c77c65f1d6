"""The whole test suite: one test more at a time than there are cores, then those that need all cores for themselves."""

from __future__ import annotations

import os
import subprocess
import sys

import pytest

# tests wait for two fifths of their time: for workers, for rigs in real time, for a window's loop
AT_ONCE = str(len(os.sched_getaffinity(0)) + 1)


def main() -> int:
    """Run pytest; arguments are passed on."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    given = sys.argv[1:]
    if given == ["--smoke"]:
        return int(pytest.main(["--version"]))
    if not given:
        shared = pytest.main(["-n", AT_ONCE, "--dist", "worksteal", "--durations", "40", "-m", "not alone"])
        # a second pytest in this process would meet half-closed Qt and plugins: it gets its own
        alone = subprocess.run([sys.executable, "-m", "pytest", "-m", "alone"], check=False).returncode
        return int(shared) or alone
    return int(
        pytest.main(
            ["-n", AT_ONCE, "--dist", "worksteal", *given] if not any(a.startswith("-n") for a in given) else given
        )
    )


if __name__ == "__main__":
    sys.exit(main())
