"""The board rig: the pack's firmware on an emulated Cortex-M4F without an operating system, over its serial line."""

from __future__ import annotations

import contextlib
import os
import select
import socket
import struct
import subprocess
import time
from pathlib import Path
from typing import Any

from plucky_heron.errors import StateError
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.reading import Pack
from plucky_heron.rigs.base import WHOLE, WHOLE_SOURCES, OwnProcess, whole_counts
from plucky_heron.rigs.framing import Frames, stuffed
from plucky_heron.rigs.tools import ends_with_us, needed

PACKAGES = "qemu-system-arm gcc-arm-none-eabi libnewlib-arm-none-eabi"
MACHINE = "mps2-an386"
ASSUMED_CLOCK = 80e6
"""Hz of the board that times are said for: counted are instructions, one a clock is assumed."""
FLAGS = (
    "-std=c99", "-O2", "-Wall", "-Wextra", "-Wconversion", "-Werror", "-mcpu=cortex-m4", "-mthumb", "-ffreestanding", "-fno-strict-aliasing",
    "-nostartfiles", "--specs=nosys.specs", "-T", "link.ld", "-Wl,--no-warn-rwx-segments",
)  # fmt: skip
FLOAT = ("-mfloat-abi=hard", "-mfpu=fpv4-sp-d16")
FIXED = ("-mfloat-abi=soft",)
BY_FIXED = "policy_by_fixed.c"
EMULATED_CLOCK = 25e6
"""Hz of the emulated processor; its emulator counts a nanosecond an instruction, so forty instructions pass a clock."""
PATIENCE = 20.0
SEND_TIMEOUT = 1.0


class BoardRig(OwnProcess):
    """An emulated board.

    Parameters
    ----------
    fixed
        By the fixed-point form, on a processor whose floating-point unit is not used.
    whole
        From signals of instruments to values of drives, with guards and states, instead of the policy alone.

    Raises
    ------
    StateError
        A tool is missing, it does not build, or does not start.
    """

    answers_repeated = True

    def __init__(self, pack: Pack, fixed: bool = False, whole: bool = False) -> None:
        self.whole = whole
        self.name = "board-fixed" if fixed else "board"
        self.outputs = whole_counts(pack)[1] if whole else len(pack.facts["outputs"])
        compiler, emulator = needed("arm-none-eabi-gcc", PACKAGES), needed("qemu-system-arm", PACKAGES)
        super().__init__("board")
        self._socket: socket.socket | None = None
        self._frames = Frames()
        self._ready: list[bytes] = []
        try:
            program = self._build(pack, compiler, fixed)
            # a nanosecond an instruction: what is counted is the same at each run, whatever else this computer does
            self._command = [
                *ends_with_us(), emulator, "-M", MACHINE, "-kernel", str(program), "-display", "none", "-monitor", "none", "-icount", "shift=0",
                "-chardev", "socket,id=line,path=line,server=on,wait=off", "-serial", "chardev:line",
            ]  # fmt: skip
            self._start()
        except BaseException:
            self.close()
            raise

    def _build(self, pack: Pack, compiler: str, fixed: bool) -> Path:
        place = Path(self._place.name)
        policies = ["policy_fixed.c", BY_FIXED] if fixed else ["policy.c"]
        if policies[0] not in pack.files:
            raise StateError("the pack has no fixed-point form; write it again with --forms fixed")
        if fixed and f"firmware/{BY_FIXED}" not in pack.files:
            raise StateError(f"the pack was written before its firmware had {BY_FIXED}; write it again")
        more = WHOLE_SOURCES if self.whole else ()
        for name, data in pack.files.items():
            if name.startswith("firmware/") or name in (*policies, "policy.h", "policy_fixed.h", *more):
                (place / Path(name).name).write_bytes(data)
        sources = ["start.c", "main.c", "runtime.c", *policies, *(name for name in more if name.endswith(".c"))]
        flags = (*FLAGS, *(FIXED if fixed else FLOAT), *((WHOLE,) if self.whole else ()))
        return compile_c(place, sources, "firmware.elf", flags, (compiler,))

    def _start(self) -> None:
        place = Path(self._place.name)
        with contextlib.suppress(FileNotFoundError):
            (place / "line").unlink()
        self._process = subprocess.Popen(
            self._command, cwd=place, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
        )
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        until = time.perf_counter() + PATIENCE
        here = os.path.relpath(place / "line")
        while True:
            try:
                self._socket.connect(str(place / "line") if len(str(place / "line")) < 100 else here)
                break
            except OSError as error:
                if not self.alive() or time.perf_counter() > until:
                    said = (
                        self._process.stderr.read(300).decode(errors="replace").strip()
                        if self._process.stderr and not self.alive()
                        else str(error)
                    )
                    raise StateError(f"the emulated board did not start: {said}") from error
                time.sleep(0.02)
        # a board that does not read, because nobody reads what it says, must not hold whoever writes for ever
        self._socket.settimeout(SEND_TIMEOUT)
        self._frames, self._ready = Frames(), []
        if not self._ask(b"PHR?", b"PHR1", until):
            raise StateError("the emulated board says nothing")

    def _ask(self, question: bytes, wanted: bytes, until: float) -> bytes:
        """What it answers that begins so; asked again each second, as the line drops what comes before it is on."""
        while time.perf_counter() < until and self.alive():
            self.send(question)
            while (data := self.receive_bytes(min(until, time.perf_counter() + 1.0))) is not None:
                if data[:4] == wanted:
                    return data
        return b""

    def send(self, datagram: bytes) -> None:
        """Send in a frame."""
        if self._socket is not None:
            with contextlib.suppress(OSError):
                self._socket.sendall(stuffed(datagram))

    def receive_bytes(self, until: float) -> bytes | None:
        """The next whole frame, before `until` (`time.perf_counter`), or None."""
        assert self._socket is not None
        while not self._ready:
            left = until - time.perf_counter()
            ready, _, _ = select.select([self._socket], [], [], max(0.0, left))
            if not ready:
                return None
            try:
                data = self._socket.recv(4096)
            except OSError:
                return None
            if not data:
                return None
            self._ready += self._frames.take(data)
        return self._ready.pop(0)

    def footprint(self) -> dict[str, Any]:
        """How much of the board is used: bytes of flash, RAM and stack, instructions of the longest call; and its time at an assumed clock."""
        told = self._ask(b"PHR?", b"PHR1", time.perf_counter() + 5.0)
        if len(told) != 24:
            return {}
        flash, ram, stack, clocks, rate = struct.unpack_from("<5I", told, 4)
        instructions = round(clocks / rate * 1e9)
        return {
            "flash": flash, "ram": ram, "stack": stack, "instructions": instructions, "assumed_clock": ASSUMED_CLOCK,
            "assumed_seconds": instructions / ASSUMED_CLOCK,
        }  # fmt: skip

    def _let_go(self) -> None:
        """Leave the line."""
        if self._socket is not None:
            self._socket.close()
            self._socket = None
