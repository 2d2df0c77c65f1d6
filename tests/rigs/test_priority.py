"""Plant and controller go before other work where the system permits it, only while they keep time, and nothing they start does."""

from __future__ import annotations

import gc
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from plucky_heron.cli import handover
from plucky_heron.rigs.loop import MOST_LATE
from plucky_heron.rigs.outcome import RolloutResult
from plucky_heron.rigs.priority import keeping_time, raised
from plucky_heron.rigs.rollout import roll_out

POLICY = "import os; print(os.sched_getscheduler(0))"


@pytest.fixture
def waiting() -> Iterator[subprocess.Popen[bytes]]:
    """A process that waits."""
    process = subprocess.Popen([sys.executable, "-c", "input()"], stdin=subprocess.PIPE)
    yield process
    process.kill()
    process.wait()


def test_both_go_first_only_while_they_keep_time(waiting: subprocess.Popen[bytes]) -> None:
    before = os.sched_getscheduler(0)
    with keeping_time(waiting.pid) as permitted:
        first = os.SCHED_FIFO | os.SCHED_RESET_ON_FORK if permitted else before
        assert os.sched_getscheduler(0) == first
        assert os.sched_getscheduler(waiting.pid) == first
        assert not gc.isenabled()
        child = subprocess.run([sys.executable, "-c", POLICY], capture_output=True, text=True, check=True)
        assert int(child.stdout) == os.SCHED_OTHER
    assert gc.isenabled()
    assert os.sched_getscheduler(0) == os.SCHED_OTHER


def test_without_the_right_to_it_all_goes_on_as_ordinary_work(monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*_: object) -> None:
        raise PermissionError(1, "Operation not permitted")

    monkeypatch.setattr(os, "sched_setscheduler", refuse)
    assert not raised(0)
    with keeping_time(None) as permitted:
        assert not permitted and not gc.isenabled()
    assert gc.isenabled()


def test_a_rollout_in_real_time_says_whether_it_had_priority(packed: Path) -> None:
    right = raised(0)
    os.sched_setscheduler(0, os.SCHED_OTHER, os.sched_param(0))
    seen: list[int] = []

    def watch(_: object) -> bool:
        seen.append(os.sched_getscheduler(0))
        return len(seen) < 20

    result = roll_out(packed, "host", episodes=1, watch=watch)
    assert result.real_time_priority is right
    assert {policy & ~os.SCHED_RESET_ON_FORK for policy in seen} == {os.SCHED_FIFO if right else os.SCHED_OTHER}
    assert os.sched_getscheduler(0) == os.SCHED_OTHER
    assert not roll_out(packed, "host", episodes=1, lock_step=True).real_time_priority


def test_a_plant_that_cannot_keep_up_gives_its_priority_back(packed: Path) -> None:
    seen: list[int] = []

    def slow(_: object) -> bool:
        time.sleep(0.03)
        seen.append(os.sched_getscheduler(0))
        return len(seen) < MOST_LATE + 10

    result = roll_out(packed, "host", episodes=2, watch=slow)
    assert result.sample_time == 0.02 and result.waited >= MOST_LATE
    assert seen[-1] == os.SCHED_OTHER and not result.real_time_priority


def test_late_samples_are_explained_where_the_priority_was_refused() -> None:
    late = RolloutResult("host", lock_step=False, waited=2).summary()
    assert any("real-time priority" in line for line in handover.lateness(late))
    late["real_time_priority"] = True
    assert not any("real-time priority" in line for line in handover.lateness(late))
    assert handover.lateness(RolloutResult("host", lock_step=False).summary()) == []
