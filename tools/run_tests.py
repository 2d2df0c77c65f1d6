"""The whole test suite: two tests at a time, then those that need both cores for themselves.

Many tests wait for processes, controllers and windows, and what else a computer does may keep those waiting for too long. So what
failed beside others is run once more with both cores for itself. What fails there, too, has failed; the rest is named at the end.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[1]
FEW = 5
"""With more failures than these, it is not the computer's fault."""


class Failures:
    """Names of the tests that failed, in their order."""

    def __init__(self) -> None:
        self.names: dict[str, None] = {}

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        """Called by pytest for each part of each test, also of those that other processes ran."""
        if report.failed:
            self.names[report.nodeid] = None


def by_itself(*arguments: str) -> int:
    """Exit status of tests that run one by one; a second pytest in this process would meet half-closed Qt and plugins."""
    return subprocess.run([sys.executable, "-m", "pytest", *arguments], check=False, cwd=ROOT).returncode


def whole_suite() -> int:
    """Exit status of everything."""
    seen = Failures()
    together = ["-n", "2", "--dist", "worksteal", "--durations", "40", "-m", "not alone"]
    shared = int(pytest.main(together, plugins=[seen]))
    failed = list(seen.names) if shared == pytest.ExitCode.TESTS_FAILED else []
    if 0 < len(failed) <= FEW:
        print(f"\n{len(failed)} failed beside others; once more, by itself:", flush=True)
        shared = by_itself(*failed)
    alone = by_itself("-m", "alone")
    if failed and shared == 0:
        print("\nfailed beside others, passed by itself: " + ", ".join(failed))
    return shared or alone


def main() -> int:
    """Run pytest; arguments are passed on."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    given = sys.argv[1:]
    if given == ["--smoke"]:
        return int(pytest.main(["--version"]))
    if not given:
        return whole_suite()
    return int(
        pytest.main(["-n", "2", "--dist", "worksteal", *given] if not any(a.startswith("-n") for a in given) else given)
    )


if __name__ == "__main__":
    sys.exit(main())
