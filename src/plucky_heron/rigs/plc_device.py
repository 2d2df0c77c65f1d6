"""A soft controller in a process of its own: a scan cycle over a process image in Modbus registers, running the pack's Structured Text.

``python -m plucky_heron.rigs.plc_device FOLDER``, with ``device.json`` and the built text in the folder; prints its port, then serves.
"""

from __future__ import annotations

import asyncio
import json
import os
import socket
import struct
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.rigs import registers
from plucky_heron.rigs.datagrams import COUNTERS, HOLDING, LIMITED, LOCK_STEP, RESTART, SAFE, STOP
from plucky_heron.rigs.registers import Scale

Array = np.ndarray
LIMITED_SHARE = 0.25


class Text:
    """The Structured Text at work: rows of numbers to its process and back."""

    def __init__(self, program: Path, inputs: int, outputs: int) -> None:
        self.process = subprocess.Popen([str(program)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0)
        self.inputs, self.outputs = inputs, outputs

    def call(self, values: Array, begins: bool, fresh: bool) -> tuple[Array, bool]:
        """Commands (outputs,) for sensor values (inputs,), and whether they were refused."""
        assert self.process.stdin is not None and self.process.stdout is not None
        self.process.stdin.write(struct.pack(f"<{self.inputs + 2}d", float(fresh), *values, float(begins)))
        size, data = 8 * (self.outputs + 1), b""
        while len(data) < size:
            more = self.process.stdout.read(size - len(data))
            if not more:
                raise RuntimeError("the text has ended")
            data += more
        found = np.array(struct.unpack(f"<{self.outputs + 1}d", data))
        return found[:-1], bool(found[-1])


class Controller:
    """One scan after the other."""

    def __init__(self, facts: dict[str, Any], text: Text) -> None:
        self.text = text
        self.given = Scale(facts["input_low"], facts["input_high"], registers.MARGIN)
        self.made = Scale(facts["output_low"], facts["output_high"], 1.0)
        self.safe, self.span = np.array(facts["safe"]), np.array(facts["output_high"]) - np.array(facts["output_low"])
        self.sample, self.hold = float(facts["sample_time"]), float(facts["hold"])
        self.command, self.counters = self.safe.copy(), dict.fromkeys(COUNTERS, 0)
        self.sequence = self.mark = self.told = self.state = 0
        self.begun = self.lock_step = self.stopped = False
        self.last_valid = self.next_own = 0.0

    def scan(self, image: list[int], now: float) -> bool:
        """One scan over what the plant wrote; whether there is something new to tell."""
        flags, mark = image[registers.FLAGS] & 0xFF, image[registers.FLAGS] >> 8
        sequence = image[registers.SEQUENCE]
        if flags & STOP:
            if self.stopped:
                return False
            self.stopped, self.command, self.state = True, self.safe.copy(), HOLDING | SAFE
            return self._tell()
        self.stopped = False
        new = mark != self.mark if mark else bool(flags & RESTART) and not self.begun
        if (mark and new) or sequence != self.sequence or (not self.begun and mark):
            return self._take(image, sequence, mark, flags, new, now)
        if self.begun and not self.lock_step and now >= self.next_own:
            self.next_own = max(self.next_own + self.sample, now)
            late = now - self.last_valid > self.hold
            self.counters["safe" if late else "held"] += 1
            self.state = HOLDING | (SAFE if late else 0)
            if late:
                self.command = self.safe.copy()
            return self._tell()
        return False

    def _take(self, image: list[int], sequence: int, mark: int, flags: int, new: bool, now: float) -> bool:
        begins = new or not self.begun
        step = (sequence - self.sequence) & 0xFFFF
        if not begins and step >= 0x8000:
            self.counters["late"] += 1
            self.sequence = self.sequence
            return False
        if not begins:
            self.counters["lost"] += step - 1
        self.sequence, self.mark, self.begun, self.lock_step = sequence, mark, True, bool(flags & LOCK_STEP)
        self.counters["received"] += 1
        values = self.given.from_registers(image[registers.INPUTS :])
        command, refused = self.text.call(values, begins, False)
        if refused:
            self.counters["refused"] += 1
            self.state = HOLDING
        else:
            if flags & LIMITED:
                command = np.clip(command, self.safe - LIMITED_SHARE * self.span, self.safe + LIMITED_SHARE * self.span)
            self.command, self.state, self.last_valid = command, 0, now
        self.next_own = now + 1.5 * self.sample
        return self._tell()

    def _tell(self) -> bool:
        self.told = (self.told + 1) & 0xFFFF
        return True

    def image(self) -> list[int]:
        """What the plant reads."""
        counts = [self.counters[name] & 0xFFFF for name in COUNTERS]
        return [self.sequence, self.state, self.told, *counts, *self.made.to_registers(self.command)]


async def serve(folder: Path) -> None:
    """The server and the scan cycle, until whoever started it is gone."""
    from pymodbus.server import ModbusTcpServer
    from pymodbus.simulator import DataType, SimData, SimDevice

    facts = json.loads((folder / "device.json").read_text())
    text = Text(folder / "text", len(facts["input_low"]), len(facts["output_low"]))
    controller = Controller(facts, text)
    count = registers.INPUTS + len(facts["input_low"])
    bits = [SimData(0, values=[False], datatype=DataType.BITS)]
    blocks = (
        [*bits],
        [*bits],
        [SimData(0, values=[0] * count, datatype=DataType.REGISTERS)],
        [SimData(0, values=controller.image(), datatype=DataType.REGISTERS)],
    )
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    server = ModbusTcpServer(SimDevice(1, simdata=blocks), address=("127.0.0.1", port))
    running = asyncio.create_task(server.serve_forever())
    loop, starter = asyncio.get_running_loop(), int(facts["starter"])
    await asyncio.sleep(0.05)
    print(port, flush=True)
    while os.getppid() == starter and not running.done():
        began = loop.time()
        image = await server.async_getValues(1, 3, 0, count)
        if controller.scan(list(image), began):
            await server.async_setValues(1, 4, 0, controller.image())
        await asyncio.sleep(max(0.0005, facts["scan"] - (loop.time() - began)))
    text.process.kill()


if __name__ == "__main__":
    asyncio.run(serve(Path(sys.argv[1])))
