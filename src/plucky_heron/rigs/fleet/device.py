"""One device of a fleet, in a process of its own: it installs what it is sent, if it is whole, tries it on its rig, and can go back.

``python -m plucky_heron.rigs.fleet.device FOLDER``, with ``device.json`` in the folder. What it has installed survives its restart.
"""

from __future__ import annotations

import base64
import io
import json
import os
import shutil
import sys
import threading
import time
import zipfile
from pathlib import Path
from typing import Any

from plucky_heron.errors import HeronError, one_line
from plucky_heron.files import inside, write_whole
from plucky_heron.handover.reading import read_pack
from plucky_heron.handover.signing import check_signer
from plucky_heron.rigs.faults import read_faults
from plucky_heron.rigs.fleet.broker import connected
from plucky_heron.rigs.rollout import roll_out

MOST_PACK = 200_000_000
"""Bytes of a pack once it is unpacked."""
MOST_EPISODES = 1000
"""Starts of a trial, whatever is asked for."""


class Device:
    """What is installed, and what is done when asked."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.facts: dict[str, Any] = json.loads((folder / "device.json").read_text())

    def version(self, which: str = "current") -> str:
        """The hash of what is installed, or was before; "" for nothing."""
        path = self.folder / which
        return path.read_text().strip() if path.is_file() else ""

    def does(self, asked: dict[str, Any]) -> dict[str, Any]:
        """Do what was asked; what came of it."""
        try:
            if asked.get("do") == "install":
                self.install(str(asked["hash"]), base64.b64decode(asked["pack"]))
                return {"state": "installed"}
            if asked.get("do") == "trial":
                return self.trial(min(max(int(asked["episodes"]), 1), MOST_EPISODES), asked.get("whole") is True)
            if asked.get("do") == "rollback":
                write_whole(self.folder / "current", self.version("before"))
                return {"state": "rolled back"}
            return {"state": "failed", "error": "no such order"}
        except (HeronError, OSError, LookupError, ValueError, TypeError, ArithmeticError, zipfile.BadZipFile) as error:
            return {"state": "failed", "error": one_line(str(error), 200)}
        except (RecursionError, MemoryError) as error:
            return {"state": "failed", "error": f"too much was asked: {type(error).__name__}"}

    def install(self, wanted: str, data: bytes) -> None:
        """Unpack beside what is there, check all of it, and only then make it current."""
        fresh = self.folder / "versions" / "fresh"
        shutil.rmtree(fresh, ignore_errors=True)
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            if sum(info.file_size for info in archive.infolist()) > MOST_PACK:
                raise ValueError("the pack is too large")
            for info in archive.infolist():
                write_whole(inside(fresh, info.filename), archive.read(info))
        pack = read_pack(fresh)
        if pack.digest != wanted:
            raise ValueError(f"the pack has the hash {pack.digest[:12]}, wanted {wanted[:12]}")
        if self.facts.get("signed_by"):
            check_signer(fresh, pack.signer, self.facts["signed_by"])
        pack.trust()  # it came by a way that asks for a password, and whole
        place = self.folder / "versions" / wanted[:32]
        shutil.rmtree(place, ignore_errors=True)
        fresh.rename(place)
        if self.version() != wanted:
            write_whole(self.folder / "before", self.version())
        write_whole(self.folder / "current", wanted)

    def trial(self, episodes: int, whole: bool = False) -> dict[str, Any]:
        """Some starts on its rig, by the policy alone or by the whole controller."""
        place = self.folder / "versions" / self.version()[:32]
        faults = read_faults(str(self.facts.get("faults", "")))
        kind = str(self.facts["kind"])
        found = roll_out(place, kind, episodes=episodes, lock_step=True, faults=faults, whole=whole).summary()
        return {"state": "tried"} | {
            key: found[key]
            for key in ("score", "score_inside", "reward_inside", "success", "success_inside", "samples", "missed")
        }


def serve(folder: Path) -> None:
    """Take orders until whoever started it is gone."""
    device = Device(folder)
    facts = device.facts
    name, starter = str(facts["name"]), int(facts["starter"])
    client = connected(name, facts["password"], int(facts["port"]), Path(facts["authority"]), lasting=True)
    orders: list[dict[str, Any]] = []
    ready = threading.Event()

    def tell(told: dict[str, Any]) -> None:
        client.publish(f"heron/{name}/says", json.dumps(told | {"version": device.version()}), qos=1)

    def on_connect(*_: Any) -> None:
        client.subscribe(f"heron/{name}/do", qos=1)
        tell({"state": "there"})

    def on_message(_: Any, __: Any, message: Any) -> None:
        try:
            asked = json.loads(message.payload)
        except (ValueError, RecursionError):
            return
        if isinstance(asked, dict):
            orders.append(asked)
            ready.set()

    client.on_connect, client.on_message = on_connect, on_message
    client.connect_async("127.0.0.1", int(facts["port"]))
    client.loop_start()
    while os.getppid() == starter:
        if not ready.wait(0.5):
            continue
        ready.clear()
        while orders:
            asked = orders.pop(0)
            if facts.get("behaves") == "silent":
                continue
            told = device.does(asked)
            if facts.get("behaves") == "bad hash" and told["state"] == "installed":
                tell({"id": asked.get("id"), **told, "hash": "0" * 64})
                continue
            tell({"id": asked.get("id"), **told, "hash": device.version()})
    client.loop_stop()
    time.sleep(0.1)


if __name__ == "__main__":
    serve(Path(sys.argv[1]))
