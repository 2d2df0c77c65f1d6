"""A controller that is not ours: the reference protocol over UDP or a serial line, to an address that somebody named."""

from __future__ import annotations

import contextlib
import re
import select
import socket
import time
from typing import Any

from plucky_heron.errors import StateError, quoted
from plucky_heron.rigs.base import Elsewhere, next_datagram
from plucky_heron.rigs.framing import Frames, stuffed

BAUD = 921_600
_UDP = re.compile(r"udp:(?P<host>\[[0-9A-Fa-f:]+\]|[\w.-]{1,253}):(?P<port>\d{1,5})")
_SERIAL = re.compile(r"serial:(?P<port>/[\w./-]{1,200})(?:@(?P<baud>\d{3,7}))?")


def is_remote(rig: str) -> bool:
    """Whether a rig's name is an address."""
    return rig.startswith(("udp:", "serial:"))


def check_address(rig: str) -> str:
    """An address in words.

    Raises
    ------
    StateError
        It is none.
    """
    udp, line = _UDP.fullmatch(rig), _SERIAL.fullmatch(rig)
    if udp is not None and 0 < int(udp["port"]) < 65536:
        return f"UDP to {udp['host']}, port {udp['port']}"
    if line is not None:
        return f"serial line {line['port']} at {line['baud'] or BAUD} baud"
    raise StateError(
        f"--on {quoted(rig)}: wanted udp:HOST:PORT, such as udp:192.168.0.7:5005, or serial:PORT[@BAUD], such as serial:/dev/ttyUSB0"
    )


class UdpRig(Elsewhere):
    """A controller at a UDP address."""

    answers_repeated = True

    def __init__(self, rig: str, outputs: int) -> None:
        self.name, self.outputs = rig, outputs
        check_address(rig)
        found = _UDP.fullmatch(rig)
        assert found is not None
        host = found["host"].strip("[]")
        try:
            kind, _, _, _, address = socket.getaddrinfo(host, int(found["port"]), type=socket.SOCK_DGRAM)[0]
            self.socket = socket.socket(kind, socket.SOCK_DGRAM)
            self.socket.connect(address)
        except OSError as error:
            raise StateError(f"--on {rig}: cannot be reached: {error}") from error

    def send(self, datagram: bytes) -> None:
        """Send as it is."""
        with contextlib.suppress(OSError):
            self.socket.send(datagram)

    def receive_bytes(self, until: float) -> bytes | None:
        """The next datagram that came, before `until` (`time.perf_counter`), or None."""
        return next_datagram(self.socket, until)

    def alive(self) -> bool:
        """That it is there shows by its answers."""
        return True

    def close(self) -> None:
        """It goes on without us."""
        self.socket.close()


class SerialRig(Elsewhere):
    """A controller on a serial line, datagrams in frames."""

    answers_repeated = True

    def __init__(self, rig: str, outputs: int) -> None:
        import serial

        self.name, self.outputs = rig, outputs
        check_address(rig)
        found = _SERIAL.fullmatch(rig)
        assert found is not None
        try:
            self.port: Any = serial.Serial(
                found["port"], int(found["baud"] or BAUD), timeout=0, write_timeout=1.0, exclusive=True
            )
        except (OSError, ValueError, serial.SerialException) as error:
            raise StateError(f"--on {rig}: cannot be opened: {error}") from error
        self._frames, self._ready, self._gone = Frames(), [], False  # type: ignore[var-annotated]
        self._errors = (OSError, serial.SerialException)

    def send(self, datagram: bytes) -> None:
        """Send in a frame."""
        try:
            self.port.write(stuffed(datagram))
        except self._errors:
            self._gone = True

    def receive_bytes(self, until: float) -> bytes | None:
        """The next whole frame, before `until` (`time.perf_counter`), or None."""
        while not self._ready:
            left = until - time.perf_counter()
            try:
                ready, _, _ = select.select([self.port], [], [], max(0.0, left))
                data = self.port.read(4096) if ready else b""
            except self._errors:
                self._gone = True
                return None
            self._ready += self._frames.take(data)
            if not self._ready and left <= 0.0:
                return None
        return bytes(self._ready.pop(0))

    def alive(self) -> bool:
        """Whether the line can be read and written."""
        return not self._gone

    def close(self) -> None:
        """Leave the line."""
        self.port.close()


def remote_rig(rig: str, outputs: int, whole: bool = False) -> UdpRig | SerialRig:
    """The controller at an address; `whole` if it is one from signals to drives."""
    made = UdpRig(rig, outputs) if rig.startswith("udp:") else SerialRig(rig, outputs)
    made.whole = whole
    return made
