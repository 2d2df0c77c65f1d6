"""Nothing is lost, and nothing of one run is taken for another's: numbers, identities, dead batches, full disks, folders that may only be read."""

from __future__ import annotations

import errno
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import psutil
import pytest

from plucky_heron import files
from plucky_heron.errors import FileError, StateError
from plucky_heron.project import Project
from plucky_heron.runs import launch, supervisor, worker
from plucky_heron.runs import store as store_module
from plucky_heron.runs.executors import worker_environment
from plucky_heron.runs.freeze import frozen_problem, frozen_recipe, kept_policy
from plucky_heron.runs.store import DEAD, DONE, FAILED, QUEUED, RunStore, run_folder
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import with_changes
from tests.hostile.corpus import foreign_project

SMALL = {
    "steps": "768",
    "copies": "16",
    "steps_per_update": "256",
    "evaluation.every": "256",
    "evaluation.episodes": "4",
}


def queued(folder: Path, seed: int = 1, **changes: str) -> int:
    """A run that waits, without a process."""
    return launch.create_batch(folder, "lift", with_changes(Project(folder).recipe("ppo"), SMALL | changes), [seed])[0]


def in_memory(folder: Path, number: int) -> Run:
    """The run, worked on in this process."""
    row = Project(folder).run(number)
    return Run(
        frozen_problem(folder, row),
        frozen_recipe(folder, row),
        row.seed,
        run_folder(folder, number),
        identity=row.identity,
    )


def test_a_number_is_never_one_whose_folder_is_there(folder: Path) -> None:
    first = queued(folder)
    in_memory(folder, first).work(lambda *_: None, lambda *_: None, lambda: False)
    kept = {p.name: p.read_bytes() for p in run_folder(folder, first).glob("*.npz")}
    shutil.move(folder / "runs" / "store.sqlite", folder / "store.damaged")  # as the program advises
    second = queued(folder, 2)
    assert second == first + 1
    assert {p.name: p.read_bytes() for p in run_folder(folder, first).glob("*.npz")} == kept
    assert not in_memory(folder, second).resume()


def test_what_belongs_to_another_run_is_refused(folder: Path) -> None:
    one, two = queued(folder, 1), queued(folder, 2)
    for number in (one, two):
        in_memory(folder, number).work(lambda *_: None, lambda *_: None, lambda: False)
    places = [run_folder(folder, n) for n in (one, two)]
    for name in ("checkpoint.npz", "best.npz", "frozen/run.json"):
        aside = (places[1] / name).read_bytes()
        shutil.copy(places[0] / name, places[1] / name)
        row = Project(folder).run(two)
        with pytest.raises(FileError, match="another run"):
            if name == "checkpoint.npz":
                in_memory(folder, two).resume()
            elif name == "best.npz":
                kept_policy(folder, row)
            else:
                frozen_problem(folder, row)
        (places[1] / name).write_bytes(aside)
    task = places[1] / "frozen" / "tasks" / "lift.toml"
    task.write_text(task.read_text().replace('"12 s"', '"11 s"'))
    with pytest.raises(FileError, match="was changed after run"):
        frozen_problem(folder, Project(folder).run(two))


def test_all_that_reading_touched_is_frozen(tmp_path: Path) -> None:
    folder = foreign_project(tmp_path / "quillmere")
    (folder / "meshes").mkdir()
    shutil.move(folder / "machines" / "part.stl", folder / "meshes" / "odd name.STL")
    hoist = folder / "machines" / "hoist.toml"
    hoist.write_text(
        hoist.read_text()
        .replace(
            "[bodies.basket]",
            '[bodies.basket]\nshapes = [{ kind = "hull", file = "../meshes/odd name.STL", scale = 0.3 }]\n#',
            1,
        )
        .replace("\n#\n", "\n", 1)
    )
    text = hoist.read_text()
    if text.count("shapes") > 1:  # the demo's basket has shapes of its own
        hoist.write_text(
            (Path(__file__).parents[2] / "demo/quillmere/machines/hoist.toml").read_text()
            + '\n[bodies.bucket]\nmass = "1 kg"\ninertia = [1, 1, 1]\nshapes = [{ kind = "hull", file = "../meshes/odd name.STL", scale = 0.3 }]\n[joints.hook]\nkind = "fixed"\nparent = "basket"\nchild = "bucket"\n'
        )
    quay = folder / "sites" / "quay.toml"
    quay.write_text(quay.read_text() + '\n[drawings.plan]\nfile = "plan.svg"\nscale = 0.05\n')
    number = queued(folder)
    frozen = run_folder(folder, number) / "frozen"
    found = {str(p.relative_to(frozen)) for p in frozen.rglob("*") if p.is_file()}
    assert {
        "meshes/odd name.STL",
        "sites/plan.svg",
        "machines/hoist.toml",
        "sites/quay.toml",
        "tasks/lift.toml",
    } <= found
    row = Project(folder).run(number)
    for name in ("meshes", "sites/plan.svg", "machines/hoist.toml"):
        place = folder / name
        shutil.rmtree(place) if place.is_dir() else place.unlink()
    assert frozen_problem(folder, row).fingerprint() == row.fingerprint


def test_a_queued_run_whose_batch_process_is_gone_can_be_resumed(folder: Path) -> None:
    number = queued(folder)
    store = RunStore(folder)
    gone = os.spawnv(os.P_NOWAIT, "/bin/sleep", ["sleep", "60"])
    store.work_on_batch(store.run(number).batch, gone)
    assert store.run(number).state == QUEUED
    os.kill(gone, signal.SIGKILL)
    os.waitpid(gone, 0)
    assert store.run(number).state == DEAD
    with pytest.raises(StateError, match=f"--resume {number}"):
        launch.wait(folder, [number])
    launch.resume(folder, number)
    assert launch.wait(folder, [number])[0].state == DONE
    store.close()


class Stand:
    """In the place of a worker's process: takes up its run or not, and ends as it is told."""

    def __init__(self, folder: Path, number: int, ends: list[tuple[str, int]]) -> None:
        self.store, self.number, self.ends, self.pid = RunStore(folder), number, ends, 0

    def __call__(self, *_: object, **__: object) -> Stand:
        self.pid += 1
        self.how, self.code = self.ends.pop(0)
        if self.how != "never began":
            self.store.update(self.number, state="running")
            self.store.connection.execute("UPDATE runs SET pid = ? WHERE id = ?", [self.pid, self.number])
            self.store.connection.commit()
        return self

    def poll(self) -> int:
        """By now it has ended."""
        if self.how == "killed and resumed":
            self.store.update(self.number, state=QUEUED)
            self.how = ""
        elif self.how == "done":
            self.store.update(self.number, state=DONE)
        return self.code


@pytest.mark.parametrize(
    ("ends", "state"), [([("killed and resumed", -9), ("done", 0)], DONE), ([("never began", 1)], FAILED)]
)
def test_a_run_resumed_at_once_after_a_kill_is_not_taken_for_one_that_could_not_start(
    folder: Path, monkeypatch: pytest.MonkeyPatch, ends: list[tuple[str, int]], state: str
) -> None:
    number = queued(folder)
    stand = Stand(folder, number, ends)
    monkeypatch.setattr(supervisor.subprocess, "Popen", stand)
    supervisor.work_through(folder, Project(folder).run(number).batch)
    assert Project(folder).run(number).state == state
    stand.store.close()


def test_waiting_ends_some_time_after_the_last_progress(folder: Path) -> None:
    done, waiting = queued(folder), queued(folder)
    store = RunStore(folder)
    store.update(done, state=DONE, steps=500)  # it got on once, which is no progress now
    store.close()
    began = time.monotonic()
    with pytest.raises(StateError, match=f"no worker took up run {waiting}"):
        launch.wait(folder, [done, waiting], tick=0.02, patience=0.3)
    assert time.monotonic() - began < 5


def test_a_run_killed_in_its_retest_ends_as_it_would_have(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    whole, cut = queued(folder, 5), queued(folder, 5)
    monkeypatch.setattr(os, "nice", lambda _: 0)
    worker.work_on(folder, whole, 1)

    class Killed(BaseException):
        pass

    def die(*_: object) -> None:
        raise Killed

    store = RunStore(folder)
    with monkeypatch.context() as patch:
        patch.setattr(worker, "retest", die)
        with pytest.raises(Killed):
            worker.work_on(folder, cut, 1)
    store.update(cut, state=QUEUED)
    worker.work_on(folder, cut, 1)
    one, two = store.run(whole), store.run(cut)
    assert (one.steps, one.stop_rule, one.stop_text, one.retest, one.best_score) == (
        two.steps,
        two.stop_rule,
        two.stop_text,
        two.retest,
        two.best_score,
    )
    assert [(e.step, e.score) for e in store.course(whole)] == [(e.step, e.score) for e in store.course(cut)]
    with np.load(run_folder(folder, whole) / "last.npz") as a, np.load(run_folder(folder, cut) / "last.npz") as b:
        np.testing.assert_array_equal(a["parameters"], b["parameters"])
    store.close()


def test_a_fault_of_the_program_is_kept_with_the_run(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    number = queued(folder)
    monkeypatch.setattr(worker, "facts", lambda: 1 / 0)
    with pytest.raises(ZeroDivisionError):
        worker.work_on(folder, number, 1)
    row = Project(folder).run(number)
    assert (
        row.state == FAILED
        and "ZeroDivisionError: division by zero" in (row.stop_text or "")
        and "batch-" in (row.stop_text or "")
    )


def test_a_full_disk_leaves_the_old_file_and_no_part(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "kept.toml"
    files.write_whole(path, "old")

    def full(_: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(files.os, "fsync", full)
    with pytest.raises(FileError, match="No space left"):
        files.write_whole(path, "new")
    assert path.read_text() == "old" and [p.name for p in tmp_path.iterdir()] == ["kept.toml"]


def test_what_a_killed_process_left_half_written_is_cleared_away_by_the_next_write(tmp_path: Path) -> None:
    path, ended = tmp_path / "kept.toml", subprocess.Popen([sys.executable, "-c", ""])
    ended.wait()
    names = [
        f".kept.toml.{ended.pid}.part",
        f".kept.toml.{os.getppid()}.part",
        f".other.toml.{ended.pid}.part",
        ".kept.toml.x.part",
    ]
    for name in names:
        (tmp_path / name).write_text("half")
    files.write_whole(path, "new")  # what is fresh may be another computer's
    assert all((tmp_path / name).exists() for name in names)
    for name in names:
        os.utime(tmp_path / name, (0, 0))
    files.write_whole(path, "newer")
    assert {p.name for p in tmp_path.iterdir()} == {"kept.toml", *names[1:]} and path.read_text() == "newer"


def test_a_log_begins_with_what_it_is_of(folder: Path) -> None:
    number = queued(folder)
    store = RunStore(folder)
    launch.begin_batch(folder, store, store.run(number).batch)
    launch.wait(folder, [number])
    store.close()
    (log,) = (folder / "runs").glob("batch-*.log")
    assert log.read_text().startswith("batch 1 begins 2")


def test_a_project_that_may_only_be_read_is_looked_at(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    number = queued(folder)
    store = RunStore(folder)
    store.connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    store.close()
    monkeypatch.setattr(store_module.os, "access", lambda *_: False)
    before = sorted(p.name for p in (folder / "runs").iterdir())
    looked = RunStore(folder)
    assert looked.run(number).seed == 1 and not looked.writable
    with pytest.raises(FileError, match="cannot be written"):
        looked.update(number, note="x")
    looked.close()
    assert sorted(p.name for p in (folder / "runs").iterdir()) == before
    assert Project(folder).problem("lift").name
    empty = folder.parent / "other"
    shutil.copytree(folder, empty, ignore=shutil.ignore_patterns("runs"))
    assert RunStore(empty).runs() == [] and not (empty / "runs").exists()


@pytest.mark.parametrize("kind", ["link", "folder", "pipe", "linked runs"])
def test_a_store_is_a_regular_file_of_the_project(folder: Path, tmp_path: Path, kind: str) -> None:
    runs, outside = folder / "runs", tmp_path / "outside"
    outside.mkdir()
    if kind == "linked runs":
        runs.symlink_to(outside)
    else:
        runs.mkdir()
        place = runs / "store.sqlite"
        {
            "link": lambda: place.symlink_to(outside / "x.sqlite"),
            "folder": place.mkdir,
            "pipe": lambda: os.mkfifo(place),
        }[kind]()
    with pytest.raises(FileError, match=r"leads out|no regular file"):
        RunStore(folder)
    assert list(outside.iterdir()) == []


def test_a_store_that_lacks_a_table_says_which(folder: Path) -> None:
    number = queued(folder)
    store = RunStore(folder)
    store.connection.execute("DROP TABLE results")
    store.close()
    with pytest.raises(FileError, match="lacks table results"):
        RunStore(folder)
    assert number == 1


def test_a_damaged_row_is_said(folder: Path) -> None:
    number = queued(folder)
    store = RunStore(folder)
    for column, value in (("retest", "{"), ("facts", "[1, 2"), ("seed", b"\xff"), ("steps", "many")):
        before = store.connection.execute(f"SELECT {column} FROM runs").fetchone()[0]
        store.connection.execute(f"UPDATE runs SET {column} = ?", [value])
        with pytest.raises(FileError, match=f"run {number}: {column}"):
            store.run(number)
        store.connection.execute(f"UPDATE runs SET {column} = ?", [before])
    assert json.loads(json.dumps(store.run(number).facts)) == {}
    store.close()


def _status(pid: int) -> str:
    """What the system says of a process; as of one that has ended where it is gone."""
    try:
        return Path(f"/proc/{pid}/status").read_text()
    except OSError:
        return "State:\tZ"


@pytest.mark.long
def test_a_run_without_enough_memory_says_so_and_goes_on_when_there_is_some(folder: Path) -> None:
    """The worker may use a gigabyte of addresses, and its replay alone wants more."""
    limited = f"""
import resource
resource.setrlimit(resource.RLIMIT_AS, (1_300_000_000, resource.RLIM_INFINITY))
from pathlib import Path
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.training.recipe import with_changes
folder = Path({str(folder)!r})
changes = {{"steps": "512", "evaluation.every": "512", "evaluation.episodes": "4", "random_start_steps": "256", "replay_capacity": "20000000"}}
launch.train(folder, "lift", with_changes(Project(folder).recipe("sac"), changes), [1])
"""
    subprocess.run([sys.executable, "-c", limited], check=True, timeout=300, env=worker_environment())
    store = RunStore(folder)
    try:
        until = time.monotonic() + 240.0
        while store.run(1).alive and time.monotonic() < until:
            time.sleep(0.1)
        row = store.run(1)
        assert row.state == FAILED and row.stop_text is not None
        assert row.stop_text.startswith("not enough memory") and "--resume 1" in row.stop_text
        pid = store.connection.execute("SELECT pid FROM batches WHERE batch = 1").fetchone()[0]
        while "State:\tZ" not in _status(pid) and time.monotonic() < until:
            time.sleep(0.05)  # the process of the batch has that limit, too
    finally:
        store.close()
    launch.resume(folder, 1)
    row = launch.wait(folder, [1])[0]
    assert row.state == DONE, row.stop_text


def test_a_catalogue_is_read_while_one_who_writes_is_suspended(folder: Path) -> None:
    RunStore(folder).close()
    code = (
        "import sys, time; from pathlib import Path; from plucky_heron.runs.store import RunStore\n"
        "with RunStore(Path(sys.argv[1])).writing(): print('in it', flush=True); time.sleep(600)"
    )
    writer = subprocess.Popen(
        [sys.executable, "-P", "-c", code, str(folder)], stdout=subprocess.PIPE, text=True, env=worker_environment()
    )
    try:
        assert writer.stdout is not None and writer.stdout.readline() == "in it\n"
        writer.send_signal(signal.SIGSTOP)
        store = RunStore(folder)
        assert store.runs() == []
        store.close()
    finally:
        writer.kill()
        writer.wait()


def test_a_run_that_is_suspended_while_the_clock_is_set_is_still_at_work(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    recipe = with_changes(Project(folder).recipe("ppo"), SMALL | {"steps": "40000", "evaluation.every": "8192"})
    (number,) = launch.train(folder, "lift", recipe, [1])
    store = RunStore(folder)
    until = time.monotonic() + 240.0
    while store.run(number).steps < 512 and time.monotonic() < until:
        time.sleep(0.02)
    row = store.connection.execute(
        "SELECT runs.pid, batches.pid AS batch FROM runs JOIN batches USING (batch) WHERE id = ?", [number]
    ).fetchone()
    for pid in (row["batch"], row["pid"]):
        os.kill(pid, signal.SIGSTOP)
    try:
        right = psutil.Process.create_time
        monkeypatch.setattr(psutil.Process, "create_time", lambda self: right(self) + 3600.0)
        before = store.run(number)
        time.sleep(1.0)
        after = store.run(number)
        assert after.state == before.state == "running" and after.alive and after.steps == before.steps
        with pytest.raises(StateError, match="already"):
            launch.resume(folder, number)
    finally:
        for pid in (row["pid"], row["batch"]):
            os.kill(pid, signal.SIGCONT)
    done = launch.wait(folder, [number])[0]
    assert done.state == DONE and done.steps >= 40000
    store.close()
