"""Rolling a pack out over a fleet: one device first, then waves, each tried against a bound; taken back from all where one fails."""

from __future__ import annotations

import base64
import io
import json
import os
import queue
import subprocess
import threading
import time
import zipfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from plucky_heron.errors import StateError
from plucky_heron.files import write_whole
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.rigs.fleet.broker import COORDINATOR, Broker, connected
from plucky_heron.runs.executors import interpreter, worker_environment

SILENCE = 60.0
"""Seconds after which a device that says nothing counts as lost."""
BELOW = 0.1
"""Of success, that a device may lie below what the pack reaches inside the program."""
NOTHING = 0.01
"""Share of the magnitude of all rewards of an episode by which its score may lie below in any case."""
_BEGINNING = (1980, 1, 1, 0, 0, 0)


@dataclass
class DeviceState:
    """A device as the coordinator knows it."""

    name: str
    kind: str
    behaves: str = ""
    faults: str = ""
    version: str = ""
    state: str = "waiting"
    success: float | None = None
    score: float | None = None
    reason: str = ""


@dataclass
class FleetResult:
    """What came of a rollout over a fleet."""

    devices: list[DeviceState]
    stopped: bool = False
    rolled_back: bool = False
    reason: str = ""
    log: list[str] = field(default_factory=list)


def waves_of(names: Sequence[str]) -> list[list[str]]:
    """One first, then a third of the rest, then all that are left."""
    first, rest = list(names[:1]), list(names[1:])
    some = (len(rest) + 2) // 3
    return [wave for wave in (first, rest[:some], rest[some:]) if wave]


class Fleet:
    """Devices under a broker on this computer; use it as a context manager.

    Parameters
    ----------
    folder
        Keeps all state: certificates, passwords, what every device has installed, how far a rollout has come, and the log.
    devices
        Names with kind (a rig), and for tests how they misbehave (silent, bad hash, or faults).
    """

    def __init__(
        self, folder: Path, devices: Sequence[DeviceState], signed_by: str = "", silence: float = SILENCE
    ) -> None:
        self.folder, self.silence = folder.resolve(), silence
        self.devices = {d.name: d for d in devices}
        self.signed_by = signed_by
        self.changed: Callable[[], object] = lambda: None
        """Called whenever the state of a device has changed."""
        self._said: queue.Queue[tuple[str, dict[str, Any]]] = queue.Queue()
        self._processes: dict[str, subprocess.Popen[bytes]] = {}
        self._present: set[str] = set()
        """Devices that have said that they listen: what is sent before is heard by nobody."""
        self._number = 0
        self._load()
        self.broker = Broker(self.folder / "broker", list(self.devices))
        try:
            self.client = connected(
                COORDINATOR,
                self.broker.passwords[COORDINATOR],
                self.broker.port,
                self.folder / "broker" / "ca.pem",
                lasting=False,
            )
            listening = threading.Event()
            self.client.on_connect = lambda *_: self.client.subscribe("heron/+/says", qos=1)
            self.client.on_subscribe = lambda *_: listening.set()
            self.client.on_message = self._heard
            self.client.connect("127.0.0.1", self.broker.port)
            self.client.loop_start()
            if not listening.wait(10.0):
                raise StateError("the broker does not answer")
            for name in self.devices:
                self.start_device(name)
        except BaseException:
            self.close()
            raise

    # --- state

    def _load(self) -> None:
        path = self.folder / "fleet.json"
        if path.is_file():
            kept = json.loads(path.read_text())
            for name, state in kept.get("devices", {}).items():
                if name in self.devices:
                    self.devices[name].version = str(state.get("version", ""))
            self.rollout: dict[str, Any] = kept.get("rollout", {})
        else:
            self.rollout = {}

    def _save(self) -> None:
        devices = {name: {"kind": d.kind, "version": d.version, "state": d.state} for name, d in self.devices.items()}
        write_whole(self.folder / "fleet.json", json.dumps({"devices": devices, "rollout": self.rollout}, indent=1))

    def note(self, text: str) -> None:
        """Write a line into the log."""
        with (self.folder / "fleet.log").open("a") as log:
            log.write(f"{time.strftime('%Y-%m-%d %H:%M:%S')} {text}\n")

    # --- devices

    def start_device(self, name: str) -> None:
        """Start a device's process, where it is not at work."""
        d, place = self.devices[name], self.folder / "devices" / name
        facts = {
            "name": name, "kind": d.kind, "behaves": d.behaves, "faults": d.faults, "password": self.broker.passwords[name], "port": self.broker.port,
            "authority": str(self.folder / "broker" / "ca.pem"), "starter": os.getpid(), "signed_by": self.signed_by,
        }  # fmt: skip
        write_whole(place / "device.json", json.dumps(facts))
        (place / "device.json").chmod(0o600)
        command = [*interpreter(), "-m", "plucky_heron.rigs.fleet.device", str(place)]
        with (place / "log").open("ab") as log:
            environment = worker_environment() | {"XDG_DATA_HOME": str(place / "data")}
            self._processes[name] = subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=log, stderr=log, env=environment
            )

    def stop_device(self, name: str) -> None:
        """End a device's process, by its own handle."""
        process = self._processes.pop(name, None)
        if process is not None:
            process.kill()
            process.wait()

    def _heard(self, _: Any, __: Any, message: Any) -> None:
        try:
            told = json.loads(message.payload)
        except (ValueError, RecursionError):
            return
        parts = message.topic.split("/")
        if isinstance(told, dict) and len(parts) == 3 and parts[1] in self.devices:
            if told.get("state") == "there":
                self._present.add(parts[1])
            self._said.put((parts[1], told))

    def ask(self, names: Sequence[str], order: dict[str, Any]) -> dict[str, dict[str, Any]]:
        """Ask devices for something; what each said, those left out that stayed silent."""
        self._number += 1
        number = f"{os.getpid()}-{time.time_ns()}-{self._number}"
        text = json.dumps(order | {"id": number})
        until = time.monotonic() + self.silence
        while not self._present.issuperset(names) and time.monotonic() < until:
            time.sleep(0.05)
        for name in names:
            self.client.publish(f"heron/{name}/do", text, qos=1)
        found: dict[str, dict[str, Any]] = {}
        while len(found) < len(names) and time.monotonic() < until:
            try:
                name, told = self._said.get(timeout=0.2)
            except queue.Empty:
                continue
            if told.get("id") == number:
                found[name] = told
        return found

    # --- the rollout

    def roll_out(
        self, folder: Path, episodes: int = 3, progress: Callable[[str], object] | None = None, *, whole: bool = False
    ) -> FleetResult:
        """Roll a pack out in waves; one that was begun with the same pack and interrupted goes on where it stood.

        `progress` is told each wave before it begins; where it answers False the rollout stops there, to be gone on with later.
        Trials are of the policy alone, or of the `whole` controller with its guards and states.

        Raises
        ------
        FileError, UntrustedError
            Not a pack, a changed one, or one that nobody trusts here.
        """
        pack = read_pack(folder)
        pack.ask()
        waves = waves_of(list(self.devices))
        if self.rollout.get("hash") != pack.digest or self.rollout.get("over"):
            self.rollout = {"hash": pack.digest, "wave": 0, "over": False, "installed": []}
            self.note(
                f"rollout of {pack.digest[:12]} ({pack.facts['task']}, run {pack.facts['run']['number']}) over {len(self.devices)} devices begins"
            )
        else:
            self.note(f"rollout of {pack.digest[:12]} goes on at wave {self.rollout['wave'] + 1}")
        result = FleetResult(list(self.devices.values()))
        data = base64.b64encode(_zipped(pack)).decode()
        while self.rollout["wave"] < len(waves):
            wave = waves[self.rollout["wave"]]
            if (
                progress is not None
                and progress(f"wave {self.rollout['wave'] + 1} of {len(waves)}: {', '.join(wave)}") is False
            ):
                self.note(f"stopped before wave {self.rollout['wave'] + 1}")
                self._save()
                result.log = (self.folder / "fleet.log").read_text().splitlines()
                return result
            self.rollout["installed"] = sorted({*self.rollout["installed"], *wave})
            self._save()
            wrong = self._wave(wave, pack, data, episodes, whole)
            self.changed()
            if wrong:
                self._take_back(result, wrong)
                break
            self.note(f"wave {self.rollout['wave'] + 1} is well: {', '.join(wave)}")
            self.rollout["wave"] += 1
            self._save()
        self.rollout["over"] = True
        if not result.rolled_back:
            self.note(f"rollout of {pack.digest[:12]} is complete")
        self._save()
        result.log = (self.folder / "fleet.log").read_text().splitlines()
        return result

    def _wave(self, wave: Sequence[str], pack: Pack, data: str, episodes: int, whole: bool) -> str:
        """Install on a wave and try it; what is wrong, or nothing."""
        self._all(wave, "installing")
        installed = self.ask(wave, {"do": "install", "hash": pack.digest, "pack": data})
        for name in wave:
            told, d = installed.get(name), self.devices[name]
            if told is None:
                return self._failed(d, f"said nothing for {self.silence:g} s")
            if told.get("state") != "installed":
                return self._failed(d, str(told.get("error", "was not installed"))[:200])
            if told.get("hash") != pack.digest:
                return self._failed(d, f"reports the hash {str(told.get('hash'))[:12]}, wanted {pack.digest[:12]}")
            d.version, d.state = pack.digest, "installed"
        self._all(wave, "on trial")
        tried = self.ask(wave, {"do": "trial", "episodes": episodes, "whole": whole})
        for name in wave:
            told, d = tried.get(name), self.devices[name]
            if told is None:
                return self._failed(d, f"said nothing for {self.silence:g} s")
            if told.get("state") != "tried":
                return self._failed(d, str(told.get("error", "was not tried"))[:200])
            d.score, d.success = float(told["score"]), float(told["success"])
            bound = float(told["success_inside"]) - BELOW
            # where rewards cancel, the last bits of a score near zero say nothing
            span = max(BELOW * abs(float(told["score_inside"])), NOTHING * float(told["reward_inside"]), 1e-9)
            if d.success < bound or d.score < float(told["score_inside"]) - span:
                return self._failed(
                    d,
                    f"success {100 * d.success:.0f} % and score {d.score:.4g}, inside the program {100 * float(told['success_inside']):.0f} % and {float(told['score_inside']):.4g}",
                )
            d.state = "well"
        return ""

    def _all(self, names: Sequence[str], state: str) -> None:
        for name in names:
            self.devices[name].state = state
        self.changed()

    def _failed(self, device: DeviceState, reason: str) -> str:
        device.state, device.reason = "failed", reason
        return f"{device.name} {reason}"

    def _take_back(self, result: FleetResult, wrong: str) -> None:
        """Back to what was there before, on every device that was given the pack."""
        self.note(f"stopped at wave {self.rollout['wave'] + 1}: {wrong}")
        result.stopped, result.rolled_back, result.reason = True, True, wrong
        names = self.rollout["installed"]
        back = self.ask(names, {"do": "rollback"})
        for name in names:
            device = self.devices[name]
            if name in back:
                device.version = str(back[name].get("version", ""))
                if device.state != "failed":
                    device.state = "rolled back"
        self.changed()
        lost = [name for name in names if name not in back]
        self.note(
            f"taken back from {', '.join(n for n in names if n in back) or 'none'}"
            + (f"; no answer from {', '.join(lost)}" if lost else "")
        )

    def close(self) -> None:
        """End all processes, by their own handles."""
        for name in list(self._processes):
            self.stop_device(name)
        if hasattr(self, "client"):
            self.client.loop_stop()
            self.client.disconnect()
        self.broker.stop()

    def __enter__(self) -> Fleet:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _zipped(pack: Pack) -> bytes:
    """All files of a pack with its description and signature, as one archive."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in sorted(pack.files.items()):
            archive.writestr(zipfile.ZipInfo(name, _BEGINNING), data)
        for name in ("pack.json", "signature.json"):
            path = pack.folder / name
            if path.is_file():
                archive.writestr(zipfile.ZipInfo(name, _BEGINNING), path.read_bytes())
    return out.getvalue()


def mixed(count: int, pack: Pack) -> list[DeviceState]:
    """So many devices of the kinds that run here and the pack has forms for."""
    import shutil

    kinds = ["host"]
    if "policy.st" in pack.files:
        kinds.append("plc")
    if shutil.which("qemu-system-arm") and shutil.which("arm-none-eabi-gcc"):
        kinds.append("board")
    if count < 1 or count > 50:
        raise StateError(f"--devices {count}: wanted 1 to 50")
    return [DeviceState(f"device-{k + 1}", kinds[k % len(kinds)]) for k in range(count)]
