"""Frames on a serial line: consistent overhead byte stuffing (Cheshire and Baker 1999), a zero after each."""

from __future__ import annotations

MOST_FRAME = 65536


def stuffed(data: bytes) -> bytes:
    """A frame without zeros, and the zero that ends it."""
    out = bytearray()
    for block in data.split(b"\0"):
        while len(block) >= 254:
            out += bytes([255]) + block[:254]
            block = block[254:]
        out += bytes([len(block) + 1]) + block
    return bytes(out) + b"\0"


def unstuffed(frame: bytes) -> bytes | None:
    """What `stuffed` was given, from a frame without its zero; None where it is none."""
    out, at = bytearray(), 0
    while at < len(frame):
        count = frame[at]
        if count == 0 or at + count > len(frame):
            return None
        out += frame[at + 1 : at + count]
        at += count
        if count < 255 and at < len(frame):
            out.append(0)
    return bytes(out)


class Frames:
    """Takes bytes as they come and gives whole frames; what is too long or damaged is dropped up to the next zero."""

    def __init__(self) -> None:
        self._waiting = bytearray()
        self.dropped = 0

    def take(self, data: bytes) -> list[bytes]:
        """The frames that are whole now."""
        self._waiting += data
        *whole, rest = bytes(self._waiting).split(b"\0")
        self._waiting = bytearray(rest)
        if len(self._waiting) > MOST_FRAME:
            self._waiting.clear()
            self.dropped += 1
        found = []
        for frame in filter(None, whole):
            data_of = unstuffed(frame)
            if data_of is None:
                self.dropped += 1
            else:
                found.append(data_of)
        return found
