"""Real-time priority for plant and controller while a rollout keeps time, where the system permits it."""

from __future__ import annotations

import contextlib
import gc
import os
from collections.abc import Iterator

LEVEL = 1
"""The lowest real-time priority: before all ordinary work, behind what the system itself keeps time with."""


def raised(process: int) -> bool:
    """Give a process, or with 0 this thread, the lowest real-time priority (POSIX ``SCHED_FIFO``); False where that is not permitted.

    What it starts has ordinary priority again.
    """
    try:
        os.sched_setscheduler(process, os.SCHED_FIFO | os.SCHED_RESET_ON_FORK, os.sched_param(LEVEL))
    except OSError:
        return False
    return True


def let_go() -> None:
    """This thread has ordinary priority again."""
    with contextlib.suppress(OSError):
        os.sched_setscheduler(0, os.SCHED_OTHER, os.sched_param(0))


@contextlib.contextmanager
def keeping_time(controller: int | None) -> Iterator[bool]:
    """This thread and the controller's process before all ordinary work; garbage is not looked for meanwhile.

    Yields whether the priority was permitted to both. The controller keeps it: it waits between samples, and goes with its rig.

    Parameters
    ----------
    controller
        Number of its process; None where it is none of ours, or one that never waits.
    """
    permitted = raised(0) and (controller is None or raised(controller))
    collecting = gc.isenabled()
    gc.disable()
    try:
        yield permitted
    finally:
        if collecting:
            gc.enable()
        let_go()
