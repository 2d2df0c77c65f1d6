"""Batches as a person keeps them: notes, keywords, marks, put away, deleted."""

from __future__ import annotations

import json
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plucky_heron.errors import StateError
from plucky_heron.runs.labels import MOST_TEXT, delete_batch, keywords_of, label_batch, members, what_is_lost
from plucky_heron.runs.store import DONE, RunStore
from plucky_heron.training.stopping import Evaluation


@pytest.fixture
def store(folder: Path) -> RunStore:
    """A store with two batches of two and one runs."""
    made = RunStore(folder)
    for batch, seed in ((1, 1), (1, 2), (2, 1)):
        run = made.add(
            batch=batch, task="lift", machine="hoist", recipe="ppo", method="ppo", seed=seed, fingerprint="", budget=10
        )
        made.update(run, state=DONE, best_step=5, seconds=60.0)
        made.add_evaluation(run, Evaluation(5, 1.0, 3, 2.0, 0.5), {})
        (folder / "runs" / f"{run:04d}" / "best.npz").write_bytes(b"x" * 1000)
    return made


def command(folder: Path, *arguments: str) -> subprocess.CompletedProcess[str]:
    """The command line on the project."""
    whole = [sys.executable, "-m", "plucky_heron.cli.main", *arguments, "--project", str(folder)]
    return subprocess.run(whole, capture_output=True, text=True, timeout=300, check=False, stdin=subprocess.DEVNULL)


@given(st.lists(st.text(alphabet="abc ,", max_size=6), max_size=6))
def test_keywords_are_single_words_without_commas(parts: list[str]) -> None:
    found = keywords_of(",".join(parts))
    assert len(set(found)) == len(found) and all(word and "," not in word and word == word.strip() for word in found)
    assert keywords_of(", ".join(found)) == found


def test_labels_are_of_the_whole_batch_and_of_no_other(store: RunStore) -> None:
    label_batch(store, 1, note="  heavier\n trolley ", keywords="b, a,b", marked=True)
    assert {(r.note, r.keywords, r.marked, r.away) for r in members(store, 1)} == {("heavier trolley", "b, a", 1, 0)}
    label_batch(store, 1, away=True)
    assert {(r.note, r.marked, r.away) for r in store.runs(1)} == {("heavier trolley", 1, 1)}
    assert [(r.note, r.marked, r.away) for r in store.runs(2)] == [("", 0, 0)]
    with pytest.raises(StateError, match="at most"):
        label_batch(store, 1, note="x" * (MOST_TEXT + 1))
    with pytest.raises(StateError, match="no batch 7; there are 1, 2"):
        label_batch(store, 7, note="x")


def test_what_is_at_work_is_neither_put_away_nor_deleted(store: RunStore, folder: Path) -> None:
    store.update(3, state="queued")
    for does in (lambda: label_batch(store, 2, away=True), lambda: delete_batch(folder, store, 2)):
        with pytest.raises(StateError, match="at work"):
            does()
    assert len(store.runs(2)) == 1 and (folder / "runs" / "0003" / "best.npz").exists()


def test_a_deleted_batch_leaves_nothing_and_its_numbers_are_not_given_again_while_others_stand(
    store: RunStore, folder: Path
) -> None:
    lost = what_is_lost(folder, store, 1)
    assert "2 runs" in lost and "2 kept policies" in lost and "2 evaluations" in lost and "2.0 minutes" in lost
    delete_batch(folder, store, 1)
    assert [r.id for r in store.runs()] == [3] and store.course(3) and not store.course(1)
    assert [p.name for p in sorted((folder / "runs").glob("0*"))] == ["0003"]
    assert store.connection.execute("SELECT COUNT(*) FROM evaluations").fetchone()[0] == 1


def test_a_store_of_the_format_before_gets_labels(store: RunStore, folder: Path) -> None:
    store.connection.execute("DROP TABLE labels")
    store.connection.execute("PRAGMA user_version = 3")
    store.close()
    again = RunStore(folder)
    label_batch(again, 2, marked=True)
    assert [r.marked for r in again.runs()] == [0, 0, 1]
    assert sqlite3.connect(folder / "runs" / "store.format-3.sqlite").execute("PRAGMA user_version").fetchone() == (3,)


def test_on_the_command_line_deleting_asks_and_putting_away_hides(store: RunStore, folder: Path) -> None:
    store.close()
    refused = command(folder, "batch", "1", "--delete")
    assert refused.returncode == 1 and "2 runs" in refused.stderr and "--yes" in refused.stderr
    assert command(folder, "batch", "1", "--put-away", "--keywords", "old").returncode == 0
    shown = json.loads(command(folder, "runs", "--json").stdout)["runs"]
    assert [r["run"] for r in shown] == [3]
    everything = json.loads(command(folder, "runs", "--all", "--keyword", "old", "--json").stdout)["runs"]
    assert [(r["run"], r["put_away"], r["keywords"]) for r in everything] == [(1, True, ["old"]), (2, True, ["old"])]
    done = command(folder, "batch", "1", "--delete", "--yes", "--json")
    assert done.returncode == 0 and "2 runs" in json.loads(done.stdout)["deleted"]
    wrong = command(folder, "batch", "1")
    assert wrong.returncode == 2 and wrong.stderr.count("\n") == 1 and "there are 2" in wrong.stderr
