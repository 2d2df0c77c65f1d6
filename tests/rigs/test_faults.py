"""Faults between plant and controller: what is asked for happens, as often as asked, and the loop stands."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.errors import FileError
from plucky_heron.rigs.datagrams import COUNTERS, Command, episode_mark, pack_sensors
from plucky_heron.rigs.faults import ALL, MOST, Faults, FaultySensors, read_faults, read_map
from plucky_heron.rigs.host import HostRig
from plucky_heron.rigs.link import Link
from plucky_heron.rigs.rollout import Sample, fault_map, roll_out


class Echo:
    """A rig that answers each whole datagram with itself, those that are older than one before left out, and counts."""

    name = "echo"
    answers_repeated = True

    def __init__(self) -> None:
        self.came: list[bytes] = []
        self.answers: list[bytes] = []
        self.restarts = self.newest = 0
        self.waiting_process: int | None = None

    def send(self, datagram: bytes) -> None:
        self.came.append(datagram)
        number = int.from_bytes(datagram[4:8], "little")
        if number >= self.newest and datagram == pack_sensors(number, 0, np.zeros(2)):
            self.newest = number
            self.answers.append(datagram)

    def receive_bytes(self, until: float) -> bytes | None:
        if self.answers:
            return self.answers.pop(0)
        time.sleep(max(0.0, until - time.perf_counter()))
        return None

    def read(self, data: bytes) -> Command | None:
        number = int.from_bytes(data[4:8], "little")
        return Command(number, 0, 0, np.zeros(1), dict.fromkeys(COUNTERS, 0))

    def alive(self) -> bool:
        return True

    def restart(self) -> None:
        self.restarts += 1

    def close(self) -> None:
        pass


def passed(faults: Faults, samples: int = 2000, sample_time: float = 0.02) -> tuple[Echo, list[list[int]], Link]:
    """Numbers of the commands that arrive in each sample, in lock-step."""
    rig = Echo()
    link = Link(rig, faults, True, 3)
    found = []
    for k in range(samples):
        link.send(pack_sensors(k, 0, np.zeros(2)), k * sample_time, sample_time, k * sample_time)
        got = []
        while (command := link.receive(0.0, k * sample_time, sample_time)) is not None:
            got.append(command.sequence)
        found.append(got)
    return rig, found, link


def test_without_faults_each_sample_gets_its_command() -> None:
    _, found, link = passed(Faults(), 50)
    assert found == [[k] for k in range(50)] and not link.happened


def test_dead_time_is_that_of_the_way_there_and_back() -> None:
    _, found, _ = passed(Faults(dead_time=0.04), 50)
    assert found[:2] == [[], []] and found[2:] == [[k] for k in range(48)]


def test_jitter_lies_between_nothing_and_what_was_asked() -> None:
    _, found, _ = passed(Faults(dead_time=0.02, jitter=0.08), 4000)
    late = np.array([k - number for k, got in enumerate(found) for number in got]) * 0.02
    # what arrives between two samples is seen at the next, either way
    assert late.min() >= 0.02 - 1e-9 and late.max() <= 0.02 + 0.08 + 2 * 0.02 + 1e-9 and late.max() > 0.08


@pytest.mark.parametrize("share", [0.05, 0.5])
def test_as_many_are_lost_and_doubled_as_asked(share: float) -> None:
    rig, found, link = passed(Faults(loss=share), 4000)
    assert abs(len(rig.came) / 4000 - (1 - share)) < 0.03 and abs(sum(map(len, found)) / 4000 - (1 - share) ** 2) < 0.03
    assert link.happened["lost"] == 4000 - len(rig.came) + len(rig.came) - sum(map(len, found))
    rig, found, link = passed(Faults(duplicate=share), 4000)
    assert abs(len(rig.came) / 4000 - (1 + share)) < 0.03 and link.happened["duplicated"] >= len(rig.came) - 4000


def test_what_is_reordered_comes_after_the_next_one() -> None:
    rig, _, link = passed(Faults(reorder=0.2), 2000)
    numbers = [int.from_bytes(data[4:8], "little") for data in rig.came]
    assert sorted(numbers) == list(range(len(numbers))) and 0.1 < np.mean(np.diff(numbers) < 0) < 0.3
    assert link.happened["reordered"] > 300


def test_bits_are_turned_as_often_as_asked_and_such_datagrams_are_not_waited_for() -> None:
    began = time.perf_counter()
    rig, _, link = passed(Faults(bit_errors=1e-3), 2000)
    assert time.perf_counter() - began < 5.0
    good = {pack_sensors(k, 0, np.zeros(2)) for k in range(2000)}
    wrong = sum(data not in good for data in rig.came)
    bits = 8 * len(pack_sensors(0, 0, np.zeros(2)))
    assert abs(wrong / 2000 - (1 - (1 - 1e-3) ** bits)) < 0.04 and link.happened["damaged"] >= wrong


def test_the_controller_restarts_about_as_often_as_asked() -> None:
    rig, _, _ = passed(Faults(restart=1.0), 5000)
    assert 70 < rig.restarts < 130


def test_sensors_are_biased_noisy_and_stuck_as_asked() -> None:
    span = np.array([1.0, 10.0, 0.1])
    rows = np.array([FaultySensors(Faults(bias=0.05), span, 0.02, e).read(np.zeros(3)) / span for e in range(500)])
    assert np.abs(rows).max() <= 0.05 and np.abs(rows).max() > 0.045 and abs(rows.mean()) < 0.005
    noisy = FaultySensors(Faults(noise=0.02), span, 0.02, 1)
    rows = np.array([noisy.read(np.zeros(3)) / span for _ in range(5000)])
    assert np.allclose(rows.std(axis=0), 0.02, rtol=0.06)
    stuck = FaultySensors(Faults(stuck=0.5), span, 0.02, 1)
    rows = np.array([stuck.read(np.full(3, float(k))) for k in range(5000)])
    same = np.diff(rows, axis=0) == 0.0
    assert 30 < stuck.times_stuck < 100 and 0.1 < same.mean() < 0.3
    row = np.array([1.0, 2.0, 3.0])
    assert FaultySensors(Faults(), span, 0.02, 1).read(row) is row


def test_the_same_start_meets_the_same_faults(packed: Path) -> None:
    faults = read_faults("loss=10%,duplicate=5%,reorder=5%,noise=1%,stuck=20%")
    one, two = (roll_out(packed, episodes=2, lock_step=True, faults=faults) for _ in range(2))
    assert one.scores == two.scores and one.link == two.link and one.link["lost"] > 50
    assert one.summary()["faults"] == faults.asked() and one.scores != one.scores_inside


@pytest.mark.parametrize("lock_step", [True, False])
def test_with_some_of_everything_the_loop_stands(packed: Path, lock_step: bool) -> None:
    seen: list[Sample] = []

    def watch(sample: Sample) -> bool:
        seen.append(sample)
        return len(seen) < 200 or lock_step

    result = roll_out(packed, episodes=1, lock_step=lock_step, faults=read_faults(ALL), watch=watch)
    assert result.stopped != lock_step and result.samples >= 200 and np.isfinite([s.command for s in seen]).all()
    assert result.link["lost"] > 0 and set(result.summary()["guards"]) == set(COUNTERS)


def test_dead_time_costs_what_it_costs_inside_the_program(packed: Path) -> None:
    """Against the same policy inside the program on a task that says the dead time: the loop closes at the same moment."""
    score, success = fault_map(packed, "host", read_map("dead_time=0:80ms:2"), Faults(), 2)
    assert score.shape == success.shape == (2, 1) and score[0, 0] != score[1, 0]


def test_a_new_episode_is_known_even_where_its_first_datagram_is_lost(packed: Path) -> None:
    from plucky_heron.handover.reading import read_pack

    pack = read_pack(packed)
    pack.trust()
    row = np.zeros(10)
    with HostRig(pack) as rig:
        for sequence in (0, 500):
            rig.send(pack_sensors(sequence, 1, row, 2 | episode_mark(0)))
            assert rig.receive(time.perf_counter() + 5.0) is not None
        rig.send(pack_sensors(1, 2, row, 2 | episode_mark(1)))
        command = rig.receive(time.perf_counter() + 5.0)
        assert command is not None and command.sequence == 1 and command.counters["late"] == 0
        rig.send(pack_sensors(0, 3, row, 1 | 2 | episode_mark(1)))  # its first one comes after all
        rig.send(pack_sensors(2, 4, row, 2 | episode_mark(1)))
        command = rig.receive(time.perf_counter() + 5.0)
        assert command is not None and command.sequence == 2 and command.counters["late"] == 1
        rig.restart()
        rig.send(pack_sensors(3, 5, row, 2 | episode_mark(1)))
        command = rig.receive(time.perf_counter() + 5.0)
        assert command is not None and command.sequence == 3 and command.counters["received"] == 1


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("los=5%", "did you mean loss"), ("loss", "wanted a value"), ("loss=150%", "between 0 and 1"), ("dead_time=3", "between"), ("dead_time=6 s", "between 0 and 5 s"),
        ("loss=-1%", "between"), ("jitter=5 kg", "jitter"), ("restart=never", "restart"),
    ],
)  # fmt: skip
def test_wrong_faults_are_named(text: str, said: str) -> None:
    if text == "dead_time=3":
        assert read_faults(text).dead_time == 3.0
        return
    with pytest.raises(FileError, match=said):
        read_faults(text)


def test_all_faults_can_be_asked_for_and_maps_read() -> None:
    assert set(read_faults(ALL).asked()) == set(MOST) and not read_faults("").any
    axes = read_map("loss=0:30%:4, dead_time=0:60ms:3")
    assert axes["loss"].tolist() == pytest.approx([0.0, 0.1, 0.2, 0.3]) and axes["dead_time"].tolist() == pytest.approx(
        [0, 0.03, 0.06]
    )
    for wrong in (
        "loss=0:1",
        "loss=0:1:1",
        "",
        "loss=0:1:3,noise=0:1:3,bias=0:1:3",
        "x=0:1:3",
        "loss=0:1:²",
        "loss=0:1:-3",
    ):
        with pytest.raises(FileError, match="wanted"):
            read_map(wrong)
