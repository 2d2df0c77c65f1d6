"""The whole test suite: two tests at a time, then those that need both cores for themselves.

Many tests wait for processes, controllers and windows, and what else a computer does may keep those waiting for too long. So what
failed beside others is run once more with both cores for itself. What fails there, too, has failed; the rest is named at the end.
"""

from __future__ import annotations

import os
import subprocess
import sys
from collections import Counter, defaultdict
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[1]
FEW = 5
"""With more failures than these, it is not the computer's fault."""
SLOW = 25
"""Files whose time is told."""


class Seen:
    """Names of the tests that failed, in their order, and the seconds that each file of tests took."""

    def __init__(self) -> None:
        self.failed: dict[str, None] = {}
        self.seconds: defaultdict[str, float] = defaultdict(float)
        self.tests: Counter[str] = Counter()

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        """Called by pytest for each part of each test, also of those that other processes ran."""
        if report.failed:
            self.failed[report.nodeid] = None
        file = report.nodeid.split("::", 1)[0]
        self.seconds[file] += report.duration
        self.tests[file] += report.when == "call"

    def slowest(self) -> str:
        """The files that took longest."""
        whole = sum(self.seconds.values())
        slowest = sorted(self.seconds, key=lambda file: -self.seconds[file])[:SLOW]
        rows = [f"{self.seconds[file]:7.0f} s  {self.tests[file]:4d} tests  {file}" for file in slowest]
        return "\n".join([f"\nfiles that took longest, of {whole:.0f} s in all:", *rows])


def by_itself(*arguments: str) -> int:
    """Exit status of tests that run one by one; a second pytest in this process would meet half-closed Qt and plugins."""
    return subprocess.run([sys.executable, "-m", "pytest", *arguments], check=False, cwd=ROOT).returncode


def whole_suite() -> int:
    """Exit status of everything."""
    seen = Seen()
    together = ["-n", "2", "--dist", "worksteal", "--durations", "40", "-m", "not alone"]
    shared = int(pytest.main(together, plugins=[seen]))
    print(seen.slowest(), flush=True)
    failed = list(seen.failed) if shared == pytest.ExitCode.TESTS_FAILED else []
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
