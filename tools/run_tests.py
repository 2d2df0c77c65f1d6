"""The whole test suite: quick tests on both cores, then the long ones, two at a time."""

from __future__ import annotations

import os
import sys

import pytest


def main() -> int:
    """Run pytest; arguments are passed on."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    given = sys.argv[1:]
    return int(
        pytest.main(
            ["-n", "2", "--dist", "worksteal", *given]
            if not any(a.startswith("-n") for a in given)
            else given
        )
    )


if __name__ == "__main__":
    sys.exit(main())
