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
from abc import ABC, abstractmethod
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.rigs import registers
from plucky_heron.rigs.datagrams import AT_ONCE, COUNTERS, HOLDING, LIMITED, LOCK_STEP, RESTART, SAFE, STATES, STOP
from plucky_heron.rigs.registers import Scale

Array = np.ndarray
LIMITED_SHARE = 0.25
FAULT = STATES.index("fault")


class Text:
    """The Structured Text at work: rows of numbers to its process and back."""

    def __init__(self, program: Path, outputs: int) -> None:
        self.process = subprocess.Popen([str(program)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0)
        self.outputs = outputs

    def call(self, row: Sequence[float]) -> Array:
        """All outputs of a call; the first number of a row is not zero where the block begins as after power came on."""
        assert self.process.stdin is not None and self.process.stdout is not None
        self.process.stdin.write(struct.pack(f"<{len(row)}d", *row))
        size, data = 8 * self.outputs, b""
        while len(data) < size:
            more = self.process.stdout.read(size - len(data))
            if not more:
                raise RuntimeError("the text has ended")
            data += more
        return np.array(struct.unpack(f"<{self.outputs}d", data))


class Scans(ABC):
    """One scan after the other over what the plant wrote.

    Attributes
    ----------
    state
        Flags of what was told last.
    told
        How often something was told.
    """

    def __init__(self, sample: float) -> None:
        self.sample = sample
        self.counters = dict.fromkeys(COUNTERS, 0)
        self.sequence = self.mark = self.told = self.state = 0
        self.begun = self.lock_step = self.stopped = False
        self.last_valid = self.next_own = 0.0

    @abstractmethod
    def compute(self, image: list[int], begins: bool, flags: int) -> int:
        """One call with what was written; the flags of the answer."""

    @abstractmethod
    def idle(self, now: float) -> int:
        """A sample's time went by without anything new."""

    @abstractmethod
    def stop(self) -> int:
        """The plant asked for what is safe."""

    @abstractmethod
    def values(self) -> list[int]:
        """Registers behind the counters."""

    def scan(self, image: list[int], now: float) -> bool:
        """One scan over what the plant wrote; whether there is something new to tell."""
        flags, mark = image[registers.FLAGS] & 0xFF, image[registers.FLAGS] >> 8
        sequence = image[registers.SEQUENCE]
        if flags & STOP:
            if self.stopped and sequence == self.sequence and (flags & LOCK_STEP or now < self.next_own):
                return False
            # it may take a while until drives are safe: on with every sample, or with time
            self.stopped, self.sequence, self.next_own = True, sequence, now + self.sample
            self.state = self.stop()
            return self._tell()
        self.stopped = False
        new = mark != self.mark if mark else bool(flags & RESTART) and not self.begun
        if (mark and new) or sequence != self.sequence or (not self.begun and mark):
            return self._take(image, sequence, mark, flags, new, now)
        if self.begun and not self.lock_step and now >= self.next_own:
            self.next_own = max(self.next_own + self.sample, now)
            self.state = self.idle(now)
            return self._tell()
        return False

    def _take(self, image: list[int], sequence: int, mark: int, flags: int, new: bool, now: float) -> bool:
        begins = new or not self.begun
        step = (sequence - self.sequence) & 0xFFFF
        if not begins and step >= 0x8000:
            self.counters["late"] += 1
            return False
        if not begins:
            self.counters["lost"] += step - 1
        self.sequence, self.mark, self.begun, self.lock_step = sequence, mark, True, bool(flags & LOCK_STEP)
        self.counters["received"] += 1
        self.state = self.compute(image, begins, flags)
        if not self.state:
            self.last_valid = now
        self.next_own = now + 1.5 * self.sample
        return self._tell()

    def _tell(self) -> bool:
        self.told = (self.told + 1) & 0xFFFF
        return True

    def image(self) -> list[int]:
        """What the plant reads."""
        counts = [self.counters[name] & 0xFFFF for name in COUNTERS]
        return [self.sequence, self.state, self.told, *counts, *self.values()]


class Controller(Scans):
    """The policy alone; what it holds and when it is safe is decided here."""

    def __init__(self, facts: dict[str, Any], text: Text) -> None:
        super().__init__(float(facts["sample_time"]))
        self.text = text
        self.given = Scale(facts["input_low"], facts["input_high"], registers.MARGIN)
        self.made = Scale(facts["output_low"], facts["output_high"], 1.0)
        self.safe, self.span = np.array(facts["safe"]), np.array(facts["output_high"]) - np.array(facts["output_low"])
        self.hold, self.command = float(facts["hold"]), self.safe.copy()
        self.registers = registers.INPUTS + len(facts["input_low"])

    def compute(self, image: list[int], begins: bool, flags: int) -> int:
        """The commands for what was written; what is no number is refused."""
        values = self.given.from_registers(image[registers.INPUTS :])
        found = self.text.call([0.0, *values, float(begins)])
        if found[-1] != 0.0:
            self.counters["refused"] += 1
            return HOLDING
        command = found[:-1]
        if flags & LIMITED:
            command = np.clip(command, self.safe - LIMITED_SHARE * self.span, self.safe + LIMITED_SHARE * self.span)
        self.command = command
        return 0

    def idle(self, now: float) -> int:
        """The last command, and the safe one after a while."""
        late = now - self.last_valid > self.hold
        self.counters["safe" if late else "held"] += 1
        if late:
            self.command = self.safe.copy()
        return HOLDING | (SAFE if late else 0)

    def stop(self) -> int:
        """The safe command."""
        self.command = self.safe.copy()
        return HOLDING | SAFE

    def values(self) -> list[int]:
        """The commands."""
        return self.made.to_registers(self.command)


class WholeController(Scans):
    """The whole controller: guards and states are those of the text."""

    def __init__(self, facts: dict[str, Any], text: Text) -> None:
        super().__init__(float(facts["sample_time"]))
        self.text, self.names, self.outputs = text, list(facts["whole"]["inputs"]), list(facts["whole"]["outputs"])
        self.settings: dict[str, float] = dict(facts["whole"]["settings"])
        self.read, self.put = set(facts["whole"]["read"]), set(facts["whole"]["put"])
        self.signals = int(facts["whole"]["signals"])
        self.registers = registers.SIGNALS + 2 * self.signals
        self.now: dict[str, float] = dict.fromkeys(self.outputs, 0.0)
        self.last = [0.0] * self.signals
        self.asked, self.take_over = 0, self.settings["TAKE_OVER"]
        self._call(valid=False, asked=0)

    def _call(self, valid: bool, asked: int, restart: bool = False, heartbeat: int = 0, home: bool = False) -> None:
        told: dict[str, float] = {
            "VALID": valid,
            "ASKED": asked,
            "HEARTBEAT": heartbeat,
            "AT_HOME": home,
            "RESTART": restart,
        }
        told |= {"TAKE_OVER": self.take_over}
        signals = iter(self.last)
        row = [0.0]
        for name in self.names:
            if name.startswith("INSTRUMENTS."):
                row.append(next(signals, 0.0))
            else:
                row.append(float(told.get(name, self.settings.get(name, 0.0))))
        self.now = dict(zip(self.outputs, self.text.call(row), strict=True))
        for count, name in (("refused", "REFUSED"), ("held", "HELD_SAMPLES"), ("safe", "SAFE_SAMPLES")):
            self.counters[count] = int(self.now[name])

    def compute(self, image: list[int], begins: bool, flags: int) -> int:
        """One call; refused samples and a fault say so in the flags."""
        words = registers.from_pairs(image[registers.SIGNALS : self.registers]).astype("<u4")
        floats, whole = words.view("<f4"), words.view("<i4")
        self.last = [float(whole[k] if k in self.read else floats[k]) for k in range(self.signals)]
        if begins:
            self.take_over = 0.0 if flags & AT_ONCE else self.settings["TAKE_OVER"]
        refused, self.asked = self.counters["refused"], image[registers.ASKED] & 0xFF
        home = image[registers.ASKED] >> 8 != 0
        self._call(True, self.asked, begins, image[registers.HEARTBEAT], home)
        if self.now["STATE"] == FAULT:
            return HOLDING | SAFE
        return HOLDING if self.counters["refused"] != refused else 0

    def idle(self, now: float) -> int:
        """The text holds, and then goes to its fault."""
        self._call(valid=False, asked=self.asked)
        return HOLDING | (SAFE if self.now["STATE"] == FAULT else 0)

    def stop(self) -> int:
        """Off."""
        self._call(valid=False, asked=0)
        return HOLDING | SAFE

    def values(self) -> list[int]:
        """State and reason, then the values of drives and the commands."""
        now = self.now
        bits = int(now["HOMED"] != 0.0) | int(now["TESTED"] != 0.0) << 1
        words = []
        drives = [v for k, v in now.items() if k.startswith("DRIVES.")]
        for k, value in enumerate([*drives, *(v for name, v in now.items() if name.startswith("COMMANDS."))]):
            made = struct.pack("<i", int(value)) if k in self.put else struct.pack("<f", value)
            words.append(int.from_bytes(made, "little"))
        return [int(now["STATE"]), int(now["REASON"]), int(now["REASON_INDEX"]), bits, *registers.to_pairs(words)]


async def serve(folder: Path) -> None:
    """The server and the scan cycle, until whoever started it is gone."""
    from pymodbus.server import ModbusTcpServer
    from pymodbus.simulator import DataType, SimData, SimDevice

    facts = json.loads((folder / "device.json").read_text())
    whole = facts.get("whole")
    text = Text(folder / "text", len(whole["outputs"]) if whole else len(facts["output_low"]) + 1)
    controller = WholeController(facts, text) if whole else Controller(facts, text)
    count = controller.registers
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
