"""The host rig: the pack's C with a small runtime, as a process of its own on this computer."""

from __future__ import annotations

import contextlib
import os
import select
import shutil
import socket
import subprocess
from pathlib import Path

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.handover.firmware_files import firmware_text
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.reading import Pack
from plucky_heron.rigs.base import WHOLE, WHOLE_SOURCES, OwnProcess, next_datagram, whole_counts
from plucky_heron.rigs.datagrams import END, pack_sensors, pack_signals
from plucky_heron.rigs.tools import needed

Array = np.ndarray
FLAGS = ("-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic", "-O2")


class HostRig(OwnProcess):
    """A controller process; use it as a context manager.

    Parameters
    ----------
    pack
        A pack as `read_pack` gives it, trusted: its C is compiled from the bytes that were hashed.
    flags
        For the compiler; a campaign adds its sanitizers.
    whole
        From signals of instruments to values of drives, with guards and states, instead of the policy alone.

    Raises
    ------
    StateError
        It does not build or does not start.
    """

    name = "host"
    answers_repeated = True
    compiler: tuple[str, ...] = ()
    """By which it is built, where it is not this computer's."""
    under: tuple[str, ...] = ()
    """What runs it, where this computer does not by itself."""

    def __init__(self, pack: Pack, flags: tuple[str, ...] = FLAGS, whole: bool = False) -> None:
        self.whole = whole
        self.inputs, self.outputs = (
            whole_counts(pack) if whole else (len(pack.facts["inputs"]), len(pack.facts["outputs"]))
        )
        super().__init__("rig")
        try:
            self._build(pack, flags)
            self._start()
        except BaseException:
            self.close()
            raise

    @property
    def waiting_process(self) -> int | None:
        """Number of its process."""
        return self._process.pid if self._process is not None else None

    def _build(self, pack: Pack, flags: tuple[str, ...]) -> None:
        place, facts = Path(self._place.name), pack.facts
        names = ["policy.h", "policy.c", *(WHOLE_SOURCES if self.whole else ())]
        for name in names:
            (place / name).write_bytes(pack.files[name])
        for name in ("runtime.c", "runtime.h"):
            (place / name).write_text(firmware_text(name))
        shutil.copy2(Path(__file__).with_name("host_runtime.c"), place / "host.c")
        sources = [name for name in names if name.endswith(".c")]
        flags = (*flags, *((WHOLE,) if self.whole else ()))
        program = compile_c(place, [*sources, "runtime.c", "host.c"], "runtime", flags, self.compiler)
        sample, hold = round(facts["sample_time"] * 1e6), round(facts["safety"]["hold"] * 1e6)
        safe = (repr(float(x)) for x in facts["safety"]["command"])
        self._command = [*self.under, str(program), str(os.getpid()), str(sample), str(hold), *safe]

    def _start(self) -> None:
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._process = subprocess.Popen(self._command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, text=True)
        assert self._process.stdout is not None
        ready, _, _ = select.select([self._process.stdout], [], [], 10.0)
        line = self._process.stdout.readline() if ready else ""
        if not (line.strip().isdigit() and 0 < int(line) < 65536):
            raise StateError("the rig's runtime did not start")
        self.address = ("127.0.0.1", int(line))
        self.socket.connect(self.address)

    def send(self, datagram: bytes) -> None:
        """Send as it is; a rig that has gone shows by its silence."""
        with contextlib.suppress(ConnectionError):
            self.socket.send(datagram)

    def receive_bytes(self, until: float) -> bytes | None:
        """The next datagram that came, before `until` (`time.perf_counter`), or None."""
        return next_datagram(self.socket, until)

    def _let_go(self) -> None:
        """Leave the socket."""
        if hasattr(self, "socket"):
            self.socket.close()

    def close(self) -> None:
        """Ask the process to end, end it by its own handle if it does not, and clean up."""
        if self._process is not None and self.alive() and hasattr(self, "address"):
            nothing = np.zeros(self.inputs)
            self.send(pack_signals(0, 0, nothing, END, 0, False) if self.whole else pack_sensors(0, 0, nothing, END))
            with contextlib.suppress(subprocess.TimeoutExpired):
                self._process.wait(timeout=1.0)
        super().close()


ARM = {
    "arm64": ("aarch64-linux-gnu-gcc", "qemu-aarch64", "gcc-aarch64-linux-gnu libc6-dev-arm64-cross qemu-user"),
    "arm32": ("arm-linux-gnueabihf-gcc", "qemu-arm", "gcc-arm-linux-gnueabihf libc6-dev-armhf-cross qemu-user"),
}
"""Compiler, emulator, and the Debian packages that they are in."""


class ArmRig(HostRig):
    """The same for ARM Linux, under an emulator of its instructions."""

    def __init__(self, pack: Pack, name: str, whole: bool = False) -> None:
        compiler, emulator, packages = ARM[name]
        self.name = name
        self.compiler = (needed(compiler, packages),)
        self.under = (needed(emulator, packages),)
        super().__init__(pack, (*FLAGS, "-static"), whole)
