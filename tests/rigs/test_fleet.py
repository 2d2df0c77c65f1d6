"""A fleet: waves that go on while all is well, stop and are taken back where one device is not, and go on after anything was restarted."""

from __future__ import annotations

import json
import shutil
import socket
import ssl
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from plucky_heron.handover.pack import write_pack
from plucky_heron.handover.reading import read_pack
from plucky_heron.handover.signing import make_key
from plucky_heron.project import Project
from plucky_heron.rigs.fleet.broker import connected
from plucky_heron.rigs.fleet.coordinator import DeviceState, Fleet, mixed, waves_of
from plucky_heron.rigs.fleet.device import Device
from plucky_heron.runs.store import RunRow

pytestmark = pytest.mark.skipif(
    shutil.which("mosquitto", path="/usr/sbin:/usr/bin:/usr/local/sbin") is None
    or shutil.which("mosquitto_passwd") is None,
    reason="mosquitto not installed",
)


@pytest.fixture(scope="module")
def packs(trained: tuple[Project, RunRow], tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path, str]:
    """Two packs of the short run, the second another one by its safe behaviour and signed; and the key that signed it."""
    project, row = trained
    room = tmp_path_factory.mktemp("packs")
    public = make_key(room / "key.pem")
    write_pack(project.folder, row, room / "one")
    write_pack(project.folder, row, room / "two", safe_kind="hold", key=room / "key.pem")
    return room / "one", room / "two", public


def hosts(count: int, **behaves: Any) -> list[DeviceState]:
    """Devices on the host rig; ``d3={"behaves": "silent"}`` says how one of them does not."""
    return [DeviceState(f"d{k + 1}", "host", **behaves.get(f"d{k + 1}", {})) for k in range(count)]


def until(holds: Callable[[], bool], seconds: float = 10.0) -> bool:
    """Whether something comes to hold."""
    end = time.monotonic() + seconds
    while not holds():
        if time.monotonic() > end:
            return False
        time.sleep(0.05)
    return True


def test_waves_begin_with_one_and_leave_nobody_out() -> None:
    for count in range(1, 20):
        names = [str(k) for k in range(count)]
        waves = waves_of(names)
        assert (
            [name for wave in waves for name in wave] == names
            and len(waves[0]) == 1
            and [len(w) for w in waves] == sorted(len(w) for w in waves)
        )


def test_a_fleet_of_six_with_one_bad_device_stops_its_wave_and_rolls_back(
    packs: tuple[Path, Path, str], tmp_path: Path
) -> None:
    one, two, _ = packs
    first, second = read_pack(one).digest, read_pack(two).digest
    with Fleet(tmp_path / "fleet", hosts(6), silence=150.0) as fleet:
        assert not fleet.roll_out(one, 1).stopped
        assert {d.version for d in fleet.devices.values()} == {first} and {d.state for d in fleet.devices.values()} == {
            "well"
        }
    # its sensors have gone bad since
    worn = hosts(6, d3={"faults": "bias=400%,noise=100%"})
    with Fleet(tmp_path / "fleet", worn, silence=150.0) as fleet:
        assert {d.version for d in fleet.devices.values()} == {first}  # known after a restart
        result = fleet.roll_out(two, 1)
        assert result.stopped and result.rolled_back and "d3" in result.reason and "inside the program" in result.reason
        assert {name: d.version for name, d in fleet.devices.items()} == {f"d{k}": first for k in range(1, 7)}
        assert [d.state for d in fleet.devices.values()] == [
            "rolled back",
            "rolled back",
            "failed",
            "waiting",
            "waiting",
            "waiting",
        ]
    log = (tmp_path / "fleet" / "fleet.log").read_text()
    for words in (
        f"rollout of {first[:12]}",
        "wave 3 is well: d4, d5, d6",
        f"rollout of {second[:12]}",
        "stopped at wave 2: d3",
        "taken back from d1, d2, d3",
    ):
        assert words in log
    assert (tmp_path / "fleet" / "devices" / "d3" / "current").read_text() == first


@pytest.mark.parametrize(
    ("behaves", "said"), [("silent", "said nothing for"), ("bad hash", "reports the hash 000000000000")]
)
def test_a_device_that_is_silent_or_reports_another_hash_stops_the_rollout(
    behaves: str, said: str, packs: tuple[Path, Path, str], tmp_path: Path
) -> None:
    with Fleet(
        tmp_path / "fleet", hosts(2, d1={"behaves": behaves}), silence=5.0 if behaves == "silent" else 120.0
    ) as fleet:
        result = fleet.roll_out(packs[0], 1)
    assert result.rolled_back and said in result.reason and fleet.devices["d2"].state == "waiting"


def test_only_a_pack_signed_by_whom_the_fleet_was_told_is_installed(
    packs: tuple[Path, Path, str], tmp_path: Path
) -> None:
    one, two, public = packs
    with Fleet(tmp_path / "fleet", hosts(1), public, silence=150.0) as fleet:
        refused = fleet.roll_out(one, 1)
        assert refused.rolled_back and "is not signed" in refused.reason and fleet.devices["d1"].version == ""
        assert not fleet.roll_out(two, 1, whole=True).stopped and fleet.devices["d1"].state == "well"
    # the trial was one of the whole controller: a device that is asked for it says the same
    device = Device(tmp_path / "fleet" / "devices" / "d1")
    alone, whole = device.trial(1), device.trial(1, whole=True)
    assert alone["state"] == whole["state"] == "tried" and whole["samples"] == alone["samples"] > 0
    assert (
        whole["score"] == pytest.approx(whole["score_inside"], abs=1e-3) and fleet.devices["d1"].score == whole["score"]
    )


@pytest.mark.parametrize(("score", "well"), [(-1e-6, True), (-0.4, True), (-0.6, False), (-30.0, False)])
def test_a_score_near_zero_is_seen_against_all_that_was_paid(
    packs: tuple[Path, Path, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch, score: float, well: bool
) -> None:
    pack = read_pack(packs[0])
    tried = {
        "state": "tried",
        "score": score,
        "score_inside": 0.0,
        "reward_inside": 50.0,
        "success": 0.5,
        "success_inside": 0.5,
    }
    answers = {"install": {"state": "installed", "hash": pack.digest}, "trial": tried}
    fleet = Fleet(tmp_path / "fleet", hosts(1))  # not begun: no broker, no device
    monkeypatch.setattr(fleet, "ask", lambda wave, order: {name: answers[order["do"]] for name in wave})
    assert (fleet._wave(["d1"], pack, "", 1, False) == "") == well


def test_broker_and_devices_may_restart_and_a_rollout_that_was_interrupted_goes_on(
    packs: tuple[Path, Path, str], tmp_path: Path
) -> None:
    one, _, _ = packs
    with Fleet(tmp_path / "fleet", hosts(3), silence=150.0) as fleet:
        fleet.rollout = {"hash": read_pack(one).digest, "wave": 1, "over": False, "installed": ["d1"]}
        fleet._save()
        fleet.stop_device("d2")
        fleet.start_device("d2")
        fleet.broker.stop()
        fleet.broker.start()
        assert until(fleet.client.is_connected)
        time.sleep(2.5)  # devices come back within two seconds
        assert not fleet.roll_out(one, 1).stopped
        assert fleet.devices["d1"].state == "waiting" and fleet.devices["d3"].state == "well"
        assert "goes on at wave 2" in (tmp_path / "fleet" / "fleet.log").read_text()


def test_the_broker_wants_a_password_and_its_own_certificate_and_devices_stand_what_comes(
    packs: tuple[Path, Path, str], tmp_path: Path
) -> None:
    with Fleet(tmp_path / "fleet", hosts(2), silence=150.0) as fleet:
        refused = []
        stranger = connected("d1", "guess", fleet.broker.port, tmp_path / "fleet" / "broker" / "ca.pem", lasting=False)
        stranger.on_connect = lambda c, u, f, reason, p: refused.append(str(reason))
        stranger.connect("127.0.0.1", fleet.broker.port)
        stranger.loop_start()
        assert until(lambda: bool(refused)) and "uthori" in refused[0]
        stranger.loop_stop()
        plain = ssl.create_default_context()
        with socket.create_connection(("127.0.0.1", fleet.broker.port)) as line, pytest.raises(ssl.SSLError):
            plain.wrap_socket(line, server_hostname="127.0.0.1")
        for junk in (
            b"",
            b"{",
            b"[1]",
            b"null",
            b'{"do": "install"}',
            b'{"do": "install", "hash": 1, "pack": "AAAA"}',
            b'{"do": "trial", "episodes": "x"}',
            bytes(range(256)) * 50,
            b"[" * 5000,
        ):
            for _ in range(20):
                fleet.client.publish("heron/d1/do", junk, qos=1)
                fleet.client.publish("heron/d1/says", junk, qos=1)
        assert not fleet.roll_out(packs[0], 1).stopped
        # a device cannot speak for another one
        own = json.loads((tmp_path / "fleet" / "devices" / "d2" / "device.json").read_text())
        heard: list[str] = []
        fleet.client.message_callback_add("heron/d1/says", lambda c, u, m: heard.append(m.payload.decode()))
        other = connected("d2", own["password"], fleet.broker.port, Path(own["authority"]), lasting=False)
        other._client_id = b"heron-other"
        other.connect("127.0.0.1", fleet.broker.port)
        other.loop_start()
        assert until(other.is_connected)
        other.publish("heron/d1/says", "forged", qos=1).wait_for_publish(3.0)
        time.sleep(0.5)
        other.loop_stop()
        assert "forged" not in heard


def test_a_mixed_fleet_has_the_kinds_that_the_pack_has_forms_for(packs: tuple[Path, Path, str]) -> None:
    kinds = {d.kind for d in mixed(6, read_pack(packs[0]))}
    assert "host" in kinds and "plc" not in kinds and len(mixed(6, read_pack(packs[0]))) == 6
