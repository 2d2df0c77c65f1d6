"""The whole test suite: two tests at a time, then those that need both cores for themselves."""

from __future__ import annotations

import os
import subprocess
import sys

import pytest


def main() -> int:
    """Run pytest; arguments are passed on."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    given = sys.argv[1:]
    if given == ["--smoke"]:
        return int(pytest.main(["--version"]))
    if not given:
        shared = pytest.main(["-n", "2", "--dist", "worksteal", "--durations", "40", "-m", "not alone"])
        # a second pytest in this process would meet half-closed Qt and plugins: it gets its own
        alone = subprocess.run([sys.executable, "-m", "pytest", "-m", "alone"], check=False).returncode
        return int(shared) or alone
    return int(
        pytest.main(["-n", "2", "--dist", "worksteal", *given] if not any(a.startswith("-n") for a in given) else given)
    )


if __name__ == "__main__":
    sys.exit(main())
