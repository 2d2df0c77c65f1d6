"""The soft controller as a rig: datagrams become writes of its input registers, and what it tells becomes datagrams again."""

from __future__ import annotations

import contextlib
import json
import os
import select
import struct
import subprocess
import time
import zlib
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.controller_st import settings_of
from plucky_heron.handover.forms.st import BLOCK
from plucky_heron.handover.forms.whole_st import WHOLE_BLOCK
from plucky_heron.handover.reading import Pack
from plucky_heron.handover.structured_text.syntax import TextError
from plucky_heron.handover.structured_text.translate import Translated, program, translate
from plucky_heron.rigs import registers
from plucky_heron.rigs.base import OwnProcess, whole_counts
from plucky_heron.rigs.datagrams import COUNTERS
from plucky_heron.rigs.registers import Scale
from plucky_heron.runs.executors import interpreter, worker_environment

SCAN = 0.002
"""Longest scan cycle (s)."""
_HEAD, _ASKED = struct.Struct("<4sIQHH"), struct.Struct("<BBH")


class PlcRig(OwnProcess):
    """A soft controller.

    Parameters
    ----------
    pack
        A trusted pack with the Structured Text, which is translated to C and built here.
    whole
        From signals of instruments to values of drives, with guards and states, instead of the policy alone.

    Raises
    ------
    StateError
        The pack has no Structured Text, or it does not start.
    """

    name = "plc"
    answers_repeated = False

    def __init__(self, pack: Pack, whole: bool = False) -> None:
        if "policy.st" not in pack.files:
            raise StateError("the pack has no Structured Text; write it again with --forms st")
        facts, self.whole = pack.facts, whole
        if whole and WHOLE_BLOCK.encode() not in pack.files["policy.st"]:
            raise StateError(
                "the pack was written before there was a whole controller in its Structured Text; write it again"
            )
        self.inputs, self.outputs = whole_counts(pack) if whole else (len(facts["inputs"]), len(facts["outputs"]))
        self._given = Scale([s["low"] for s in facts["inputs"]], [s["high"] for s in facts["inputs"]], registers.MARGIN)
        self._made = Scale([s["low"] for s in facts["outputs"]], [s["high"] for s in facts["outputs"]], 1.0)
        super().__init__("plc")
        self._client: Any = None
        self._told = -1
        self._stamps: dict[int, tuple[int, int]] = {}
        """Of samples by the low half of their number: the whole number, and the time stamp."""
        try:
            place = Path(self._place.name)
            try:
                translated = translate(pack.files["policy.st"].decode(), WHOLE_BLOCK if whole else BLOCK)
                (place / "text.c").write_text(program(translated))
            except TextError as error:
                raise StateError(f"policy.st: {error}") from error
            compile_c(place, ["text.c"], "text", ("-std=c99", "-O2"))
            sample = facts["sample_time"]
            told = {
                "input_low": [s["low"] for s in facts["inputs"]], "input_high": [s["high"] for s in facts["inputs"]], "starter": os.getpid(),
                "output_low": [s["low"] for s in facts["outputs"]], "output_high": [s["high"] for s in facts["outputs"]],
                "safe": facts["safety"]["command"], "hold": facts["safety"]["hold"], "sample_time": sample, "scan": min(SCAN, sample / 4),
            }  # fmt: skip
            if whole:
                told["whole"] = self._whole_facts(facts, translated)
            (place / "device.json").write_text(json.dumps(told))
            self._start()
        except BaseException:
            self.close()
            raise

    def _whole_facts(self, facts: dict[str, Any], translated: Translated) -> dict[str, Any]:
        """What the device has to know of the whole controller."""
        signals = facts["controller"]["signals"]
        given, drives = [s["name"] for s in signals["given"]], list(signals["drives"])
        settings = settings_of(facts["safety"]["hold"], facts["safety"]["kind"])
        names = [[path.removeprefix("v_") for path, _ in lines] for lines in (translated.inputs, translated.outputs)]
        if sum(name.startswith("INSTRUMENTS.") for name in names[0]) != max(len(given), 1):
            raise StateError("policy.st: its instruments are not those of pack.json; write the pack again")
        return {
            "inputs": names[0], "outputs": names[1], "settings": {s.name.upper(): s.number for s in settings}, "signals": len(given),
            "read": [given.index(m["name"]) for m in signals["read"] if m["name"] in given],
            "put": [drives.index(m["name"]) for m in signals["put"] if m["name"] in drives],
        }  # fmt: skip

    def _start(self) -> None:
        from pymodbus.client import ModbusTcpClient

        command = [*interpreter(), "-m", "plucky_heron.rigs.plc_device", self._place.name]
        with (Path(self._place.name) / "log").open("ab") as log:
            self._process = subprocess.Popen(
                command,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=log,
                text=True,
                env=worker_environment(),
            )
        assert self._process.stdout is not None
        ready, _, _ = select.select([self._process.stdout], [], [], 30.0)
        line = self._process.stdout.readline().strip() if ready else ""
        if not line.isdigit():
            raise StateError("the soft controller did not start")
        self._client = ModbusTcpClient("127.0.0.1", port=int(line), timeout=1.0, retries=1)
        until = time.perf_counter() + 5.0
        while not self._client.connect():
            if time.perf_counter() > until:
                raise StateError("the soft controller cannot be reached")
            time.sleep(0.02)
        self._told = -1

    def send(self, datagram: bytes) -> None:
        """Write a whole datagram into its registers, the sample's number last; a damaged one ends here, as at a coupler."""
        head = _HEAD.size + (_ASKED.size if self.whole else 0)
        if len(datagram) != head + 4 * self.inputs + 4 or struct.unpack("<I", datagram[-4:])[0] != zlib.crc32(
            datagram[:-4]
        ):
            return
        _, sequence, stamp, _, flags = _HEAD.unpack_from(datagram)
        self._stamps[sequence & 0xFFFF] = (sequence, stamp)
        if len(self._stamps) > 4096:
            self._stamps.pop(next(iter(self._stamps)))
        image = [sequence & 0xFFFF, flags & 0xFFFF]
        if self.whole:
            ask, home, heartbeat = _ASKED.unpack_from(datagram, _HEAD.size)
            words = np.frombuffer(datagram, dtype="<u4", count=self.inputs, offset=head)
            image += [ask | home << 8, heartbeat, *registers.to_pairs([int(w) for w in words])]
        else:
            values = np.frombuffer(datagram, dtype="<f4", count=self.inputs, offset=head).astype(float)
            image += self._given.to_registers(values)
        with contextlib.suppress(Exception):  # a controller that has gone shows by its silence
            for at in range(0, len(image), registers.MOST_AT_ONCE)[::-1]:
                self._client.write_registers(at, image[at : at + registers.MOST_AT_ONCE])

    def _image(self) -> list[int] | None:
        count = registers.DRIVES + 2 * self.outputs if self.whole else registers.OUTPUTS + self.outputs
        found: list[int] = []
        try:
            for at in range(0, count, registers.MOST_AT_ONCE):
                answer = self._client.read_input_registers(at, count=min(registers.MOST_AT_ONCE, count - at))
                if answer.isError():
                    return None
                found += answer.registers
        except Exception:
            return None
        return found

    def receive_bytes(self, until: float) -> bytes | None:
        """What it tells next as a datagram, before `until` (`time.perf_counter`), or None."""
        while True:
            image = self._image()
            if (
                image is not None
                and image[registers.TOLD] != self._told
                and (image[registers.TOLD] or image[registers.STATE])
            ):
                self._told = image[registers.TOLD]
                sequence, stamp = self._stamps.get(image[registers.ANSWERED], (0, 0))
                head = _HEAD.pack(
                    b"PHD1" if self.whole else b"PHC1", sequence, stamp, self.outputs, image[registers.STATE]
                )
                if self.whole:
                    values = struct.pack("<4B", *(x & 0xFF for x in image[registers.NOW : registers.DRIVES]))
                    values += registers.from_pairs(image[registers.DRIVES :]).astype("<u4").tobytes()
                else:
                    values = self._made.from_registers(image[registers.OUTPUTS :]).astype("<f4").tobytes()
                counts = struct.pack(f"<{len(COUNTERS)}I", *image[registers.COUNTS : registers.COUNTS + len(COUNTERS)])
                body = head + values + counts
                return body + struct.pack("<I", zlib.crc32(body))
            if time.perf_counter() >= until or not self.alive():
                return None
            time.sleep(0.0003)

    def _let_go(self) -> None:
        """Leave the registers."""
        if self._client is not None:
            self._client.close()
            self._client = None
