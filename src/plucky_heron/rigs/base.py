"""What rigs share: reading commands, a socket of datagrams, and a process of their own that is started, restarted and ended by its handle."""

from __future__ import annotations

import select
import socket
import subprocess
import tempfile
import time
from abc import ABC, abstractmethod
from typing import Any, Self

from plucky_heron.errors import StateError
from plucky_heron.handover.reading import Pack
from plucky_heron.rigs.datagrams import Command, unpack_command, unpack_drives

WHOLE = "-DHERON_RUNTIME_WHOLE"
WHOLE_SOURCES = ("controller.h", "controller.c", "signals.h", "signals.c")


def whole_counts(pack: Pack) -> tuple[int, int]:
    """How many values go to the whole controller of a pack, and how many come from it.

    Raises
    ------
    StateError
        The pack has none, or its firmware cannot run it.
    """
    told = (pack.facts.get("controller") or {}).get("signals")
    runtime = pack.files.get("firmware/runtime.c", b"")
    if told is None or any(name not in pack.files for name in WHOLE_SOURCES) or WHOLE[2:].encode() not in runtime:
        raise StateError("the pack was written before there was a whole controller in it; write it again")
    return len(told["given"]), len(told["drives"]) + len(pack.facts["outputs"])


def next_datagram(channel: socket.socket, until: float) -> bytes | None:
    """The next datagram that came, before `until` (`time.perf_counter`), or None; a rig that has gone shows by its silence."""
    ready, _, _ = select.select([channel], [], [], max(0.0, until - time.perf_counter()))
    if not ready:
        return None
    try:
        return channel.recv(65536)
    except OSError:
        return None


class Answering:
    """A rig whose answers are command datagrams of so many outputs."""

    name: str
    outputs: int
    whole = False
    """Whether it is the whole controller, whose answers have its state and values of drives."""

    @property
    def waiting_process(self) -> int | None:
        """Number of its process, where it is one of ours that waits between samples; None for others."""
        return None

    def read(self, data: bytes) -> Command | None:
        """A command datagram; None where it is damaged."""
        return unpack_drives(data, self.outputs) if self.whole else unpack_command(data, self.outputs)


class Elsewhere(Answering):
    """A controller that is not ours."""

    def restart(self) -> None:
        """Not ours to restart."""
        raise StateError(f"{self.name} is not ours to restart: leave restart out of the faults")


class OwnProcess(Answering, ABC):
    """A rig that is a process of ours, with a folder that goes with it; use it as a context manager, or close it."""

    def __init__(self, kind: str) -> None:
        self._place = tempfile.TemporaryDirectory(prefix=f"heron-{kind}-")
        self._process: subprocess.Popen[Any] | None = None

    @abstractmethod
    def _start(self) -> None:
        """Start the process, also again."""

    def _let_go(self) -> None:
        """Close what leads to the process; for sub-classes."""

    @abstractmethod
    def receive_bytes(self, until: float) -> bytes | None:
        """The next datagram that came, before `until` (`time.perf_counter`), or None."""

    def receive(self, until: float) -> Command | None:
        """The next whole command datagram before `until` (`time.perf_counter`), or None."""
        while (data := self.receive_bytes(until)) is not None:
            command = self.read(data)
            if command is not None:
                return command
        return None

    def alive(self) -> bool:
        """Whether the process is there."""
        return self._process is not None and self._process.poll() is None

    def restart(self) -> None:
        """As after a loss of power."""
        self._end()
        self._start()

    def _end(self) -> None:
        """End the process, by its own handle."""
        self._let_go()
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            for pipe in (self._process.stdout, self._process.stderr):
                if pipe is not None:
                    pipe.close()
            self._process = None

    def close(self) -> None:
        """End the process and clean up."""
        self._end()
        self._place.cleanup()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
