"""The run store: one SQLite file a project, written by workers, read by everyone."""

from __future__ import annotations

import functools
import json
import os
import shutil
import sqlite3
import time
import uuid
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import psutil

from plucky_heron.errors import FileError, StateError, quoted
from plucky_heron.files import inside, is_file
from plucky_heron.training.stopping import Evaluation

STORE_FORMAT = 4

_TABLES = """
CREATE TABLE runs (
    id INTEGER PRIMARY KEY, batch INTEGER NOT NULL, task TEXT NOT NULL, machine TEXT NOT NULL, recipe TEXT NOT NULL,
    method TEXT NOT NULL, seed INTEGER NOT NULL, fingerprint TEXT NOT NULL, state TEXT NOT NULL, request TEXT,
    created REAL NOT NULL, pid INTEGER, pid_started REAL, beat REAL, steps INTEGER NOT NULL DEFAULT 0,
    seconds REAL NOT NULL DEFAULT 0, budget INTEGER NOT NULL, stop_rule TEXT, stop_text TEXT,
    best_step INTEGER, best_score REAL, best_success REAL, retest TEXT, facts TEXT, note TEXT NOT NULL DEFAULT '',
    identity TEXT NOT NULL DEFAULT ''
);
CREATE TABLE evaluations (
    run INTEGER NOT NULL REFERENCES runs(id), step INTEGER NOT NULL, seconds REAL NOT NULL, episodes INTEGER NOT NULL,
    score REAL NOT NULL, success REAL NOT NULL, finite INTEGER NOT NULL, details TEXT NOT NULL,
    PRIMARY KEY (run, step)
);
CREATE TABLE updates (
    run INTEGER NOT NULL REFERENCES runs(id), step INTEGER NOT NULL, health TEXT NOT NULL, PRIMARY KEY (run, step)
);
CREATE TABLE results (
    id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES runs(id), kind TEXT NOT NULL, created REAL NOT NULL, data TEXT NOT NULL
);
CREATE TABLE batches (batch INTEGER PRIMARY KEY, pid INTEGER NOT NULL, pid_started REAL NOT NULL);
CREATE TABLE labels (
    batch INTEGER PRIMARY KEY, keywords TEXT NOT NULL DEFAULT '', marked INTEGER NOT NULL DEFAULT 0, away INTEGER NOT NULL DEFAULT 0
);
"""

_UPGRADES: dict[int, str] = {
    # format 1 had no notes on runs and no table of results
    1: """
    ALTER TABLE runs ADD COLUMN note TEXT NOT NULL DEFAULT '';
    CREATE TABLE results (
        id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES runs(id), kind TEXT NOT NULL, created REAL NOT NULL, data TEXT NOT NULL
    );
    """,
    # format 2 did not know who works through a batch, nor what tells one run from another of the same number
    2: """
    ALTER TABLE runs ADD COLUMN identity TEXT NOT NULL DEFAULT '';
    CREATE TABLE batches (batch INTEGER PRIMARY KEY, pid INTEGER NOT NULL, pid_started REAL NOT NULL);
    """,
    # format 3 could not mark batches or put them away
    3: """
    CREATE TABLE labels (
        batch INTEGER PRIMARY KEY, keywords TEXT NOT NULL DEFAULT '', marked INTEGER NOT NULL DEFAULT 0, away INTEGER NOT NULL DEFAULT 0
    );
    """,
}

_ROWS = """
SELECT runs.*, batches.pid AS batch_pid, batches.pid_started AS batch_started, COALESCE(labels.keywords, '') AS keywords,
COALESCE(labels.marked, 0) AS marked, COALESCE(labels.away, 0) AS away
FROM runs LEFT JOIN batches ON batches.batch = runs.batch LEFT JOIN labels ON labels.batch = runs.batch
"""


_KINDS: dict[str, type | tuple[type, ...]] = {
    "id": int, "batch": int, "task": str, "machine": str, "recipe": str, "method": str, "seed": int, "fingerprint": str, "state": str,
    "created": (int, float), "steps": int, "seconds": (int, float), "budget": int, "note": str, "identity": str, "keywords": str, "marked": int, "away": int,
}  # fmt: skip
"""Kinds of a run's columns: a damaged page may hold anything."""


@functools.cache
def _columns() -> dict[str, set[str]]:
    """Columns of each table, from their definition."""
    made = sqlite3.connect(":memory:")
    made.executescript(_TABLES)
    tables = [str(row[0]) for row in made.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
    found = {table: {str(row[1]) for row in made.execute(f"PRAGMA table_info({table})")} for table in tables}
    made.close()
    return found


QUEUED, RUNNING, DONE, FAILED = "queued", "running", "done", "failed"
DEAD = "dead"
"""Not stored: a run that says it is running or waiting while the process that should work on it is gone."""


def run_folder(project: Path, run: int) -> Path:
    """The folder of a run."""
    return inside(project, f"runs/{run:04d}")


@dataclass(frozen=True)
class RunRow:
    """One run of the catalogue."""

    id: int
    batch: int
    task: str
    machine: str
    recipe: str
    method: str
    seed: int
    fingerprint: str
    state: str
    created: float
    steps: int
    seconds: float
    budget: int
    stop_rule: str | None
    stop_text: str | None
    best_step: int | None
    best_score: float | None
    best_success: float | None
    retest: dict[str, Any] | None
    facts: dict[str, Any]
    note: str
    identity: str = ""
    """Tells this run from any other that ever had its number; "" of runs from before there were identities."""
    keywords: str = ""
    """Of its batch, apart by commas."""
    marked: int = 0
    """Whether its batch is marked."""
    away: int = 0
    """Whether its batch is put away: kept, but not shown."""

    @property
    def alive(self) -> bool:
        """Waiting or at work."""
        return self.state in (QUEUED, RUNNING)


class RunStore:
    """Reading and writing the catalogue and the metrics of a project's runs.

    One object belongs to one thread. Opening an older store upgrades it and keeps a copy beside it.

    Raises
    ------
    FileError
        Damaged, or written by a newer program.
    """

    def __init__(self, folder: Path) -> None:
        self.path = inside(folder, "runs/store.sqlite")
        self.writable = os.access(folder, os.W_OK | os.X_OK) and (
            not self.path.parent.exists() or os.access(self.path.parent, os.W_OK | os.X_OK)
        )
        if (folder / "runs" / "store.sqlite").is_symlink() or (self.path.exists() and not is_file(self.path)):
            raise FileError(self.path, "", None, "is no regular file; move it away to start a new catalogue")
        try:
            self.connection = self._connect()
            self.connection.row_factory = sqlite3.Row
            self.connection.execute("PRAGMA trusted_schema=OFF")
            if self.writable:
                self.connection.execute("PRAGMA journal_mode=WAL")
                self.connection.execute("PRAGMA synchronous=NORMAL")
                self._bring_up_to_date()
            self._check_tables()
        except sqlite3.OperationalError as error:
            raise FileError(self.path, "", None, f"cannot be opened: {error}") from error
        except (sqlite3.DatabaseError, UnicodeDecodeError) as error:
            raise FileError(self.path, "", None, f"damaged ({error}); move it away to start a new catalogue") from error
        except OSError as error:
            raise FileError(self.path, "", None, f"cannot be opened: {error.strerror}") from error

    def _connect(self) -> sqlite3.Connection:
        if self.writable:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            return sqlite3.connect(self.path, timeout=20.0, isolation_level=None)
        if not self.path.exists():  # a project that may only be looked at, in which nothing was trained
            made = sqlite3.connect(":memory:", isolation_level=None)
            made.executescript(_TABLES + f"PRAGMA user_version={STORE_FORMAT};")
            return made
        return sqlite3.connect(
            f"{self.path.as_uri()}?mode=ro&immutable=1", uri=True, timeout=20.0, isolation_level=None
        )

    def _check_tables(self) -> None:
        version = int(self.connection.execute("PRAGMA user_version").fetchone()[0])
        if version != STORE_FORMAT:
            raise FileError(
                self.path,
                "format",
                version,
                f"this program reads format {STORE_FORMAT}, and the project may not be written to bring it up to date",
            )
        for table, columns in _columns().items():
            there = {str(row[1]) for row in self.connection.execute(f"PRAGMA table_info({table})")}
            if not columns <= there:
                lacks = f"table {table}" if not there else f"column {min(columns - there)} of {table}"
                raise FileError(self.path, "", None, f"damaged: lacks {lacks}; move it away to start a new catalogue")

    def _bring_up_to_date(self) -> None:
        # one that is up to date is opened without writing: who writes may be suspended in the middle of it
        if int(self.connection.execute("PRAGMA user_version").fetchone()[0]) == STORE_FORMAT:
            return
        with self.writing():
            version = int(self.connection.execute("PRAGMA user_version").fetchone()[0])
            if version == 0:
                self._run_script(_TABLES)
                self.connection.execute(f"PRAGMA user_version={STORE_FORMAT}")
                return
        if version > STORE_FORMAT or version < 0:
            raise FileError(self.path, "format", version, f"this program reads up to format {STORE_FORMAT}")
        if version < STORE_FORMAT:
            self.connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            shutil.copy2(self.path, self.path.with_name(f"store.format-{version}.sqlite"))
        while version < STORE_FORMAT:
            with self.writing():
                self._run_script(_UPGRADES[version])
                version += 1
                self.connection.execute(f"PRAGMA user_version={version}")

    def _run_script(self, script: str) -> None:
        for statement in filter(str.strip, script.split(";")):
            self.connection.execute(statement)

    @contextmanager
    def writing(self) -> Iterator[None]:
        """All or nothing of what is written inside.

        Raises
        ------
        FileError
            The store cannot be written: locked, damaged, full disk, or a project that may only be looked at.
        """
        try:
            self.connection.execute("BEGIN IMMEDIATE")
            try:
                yield
            except BaseException:
                if self.connection.in_transaction:  # a full disk rolls back by itself
                    self.connection.execute("ROLLBACK")
                raise
            self.connection.execute("COMMIT")
        except sqlite3.Error as error:
            raise FileError(self.path, "", None, f"cannot be written: {error}") from error

    def _ask(self, question: str, values: Sequence[object] = ()) -> list[sqlite3.Row]:
        """The rows of an answer; raises `FileError` where the store is damaged or locked."""
        try:
            return self.connection.execute(question, values).fetchall()
        except (sqlite3.Error, OverflowError, ValueError) as error:
            raise FileError(self.path, "", None, f"cannot be read: {error}") from error

    def close(self) -> None:
        """Close the connection."""
        self.connection.close()

    # --- runs ----------------------------------------------------------------------------------------------------

    def new_batch(self) -> int:
        """A number for the next batch."""
        return int(self._ask("SELECT COALESCE(MAX(batch), 0) + 1 FROM runs")[0][0])

    def add(self, **values: Any) -> int:
        """Add a queued run; returns its number, which no folder of a run has yet, even where the catalogue does not know it."""
        values = {"state": QUEUED, "created": time.time(), "identity": uuid.uuid4().hex, **values}
        taken = [int(p.name) for p in self.path.parent.glob("[0-9]*") if p.name.isdecimal() and len(p.name) < 12]
        with self.writing():
            known = int(self.connection.execute("SELECT COALESCE(MAX(id), 0) FROM runs").fetchone()[0])
            values["id"] = max([known, *taken]) + 1
            names, marks = ", ".join(values), ", ".join("?" * len(values))
            self.connection.execute(f"INSERT INTO runs ({names}) VALUES ({marks})", list(values.values()))
            inside(self.path.parent, f"{values['id']:04d}").mkdir()
        return int(values["id"])

    def work_on_batch(self, batch: int, pid: int) -> None:
        """Say which process works through a batch."""
        with self.writing():
            self.connection.execute("INSERT OR REPLACE INTO batches VALUES (?, ?, ?)", [batch, pid, started_at(pid)])

    def update(self, run: int, **values: Any) -> None:
        """Set columns of a run."""
        packed = {k: json.dumps(v) if isinstance(v, dict) else v for k, v in values.items()}
        names = ", ".join(f"{name} = ?" for name in packed)
        with self.writing():
            self.connection.execute(f"UPDATE runs SET {names} WHERE id = ?", [*packed.values(), run])

    def label(self, batch: int, **values: str | bool) -> None:
        """Set keywords, mark or put away a batch; keys are those of `RunRow`, or ``note``, which all its runs carry."""
        note = values.pop("note", None)
        with self.writing():
            if note is not None:
                self.connection.execute("UPDATE runs SET note = ? WHERE batch = ?", [note, batch])
            self.connection.execute("INSERT OR IGNORE INTO labels (batch) VALUES (?)", [batch])
            for name in sorted(values):
                if name not in _columns()["labels"]:
                    raise ValueError(name)
                self.connection.execute(f"UPDATE labels SET {name} = ? WHERE batch = ?", [values[name], batch])

    def forget_batch(self, batch: int) -> None:
        """Drop all that is known of a batch; its folders stay."""
        with self.writing():
            for table in ("evaluations", "updates", "results"):
                self.connection.execute(
                    f"DELETE FROM {table} WHERE run IN (SELECT id FROM runs WHERE batch = ?)", [batch]
                )
            for table in ("batches", "labels", "runs"):
                self.connection.execute(f"DELETE FROM {table} WHERE batch = ?", [batch])

    def claim(self, run: int) -> bool:
        """Take up a waiting run in this process; False if another worker was faster."""
        own = psutil.Process()
        values = [RUNNING, own.pid, started_at(own.pid), time.time(), run, QUEUED]
        with self.writing():
            cursor = self.connection.execute(
                "UPDATE runs SET state = ?, request = NULL, pid = ?, pid_started = ?, beat = ? WHERE id = ? AND state = ?",
                values,
            )
        return cursor.rowcount == 1

    def run(self, number: int) -> RunRow:
        """One run.

        Raises
        ------
        StateError
            No such run.
        """
        rows = self._ask(f"{_ROWS} WHERE id = ?", [min(number, 2**62)])
        if not rows:
            last = self._ask("SELECT COALESCE(MAX(id), 0) FROM runs")[0][0]
            raise StateError(
                f"no run {quoted(number)}; " + (f"the last is {last}" if last else "nothing was trained here yet")
            )
        return self._row(rows[0])

    def runs(self, batch: int | None = None) -> list[RunRow]:
        """All runs, or those of a batch, by number."""
        where, values = ("WHERE runs.batch = ?", [batch]) if batch is not None else ("", [])
        rows = self._ask(f"{_ROWS} {where} ORDER BY id", values)
        return [self._row(row) for row in rows]

    def _row(self, row: sqlite3.Row) -> RunRow:
        values = {name: row[name] for name in RunRow.__dataclass_fields__}
        for name, kinds in _KINDS.items():
            if not isinstance(values[name], kinds):
                raise FileError(
                    self.path, f"run {quoted(row['id'])}: {name}", values[name], "damaged: is of another kind"
                )
        values["retest"] = self._read(values["retest"], f"run {row['id']}: retest") if values["retest"] else None
        values["facts"] = self._read(values["facts"], f"run {row['id']}: facts") if values["facts"] else {}
        lost = row["state"] == RUNNING and not _at_work(row["pid"], row["pid_started"])
        # waiting for a process that is gone; one that no process was started for yet is only waiting
        lost |= (
            row["state"] == QUEUED
            and row["batch_pid"] is not None
            and not _at_work(row["batch_pid"], row["batch_started"])
        )
        if lost:
            values["state"] = DEAD
        return RunRow(**values)

    def _read(self, text: str, what: str) -> Any:
        """JSON of the store.

        Raises
        ------
        FileError
            Damaged; it is said rather than taken for nothing.
        """
        try:
            return json.loads(text)
        except (ValueError, TypeError, RecursionError) as error:
            raise FileError(self.path, what, None, f"damaged: {error}") from error

    def request(self, run: int, what: str) -> None:
        """Ask a worker for something; it looks after every update."""
        self.update(run, request=what)

    def taken_up_by(self, run: int) -> int | None:
        """Id of the process that last took up a run; None before the first."""
        found = self._ask("SELECT pid FROM runs WHERE id = ?", [run])[0][0]
        return None if found is None else int(found)

    def requested(self, run: int) -> str | None:
        """What was asked of a run's worker."""
        found = self._ask("SELECT request FROM runs WHERE id = ?", [run])[0][0]
        return None if found is None else str(found)

    # --- metrics -------------------------------------------------------------------------------------------------

    def add_update(self, run: int, step: int, health: dict[str, float]) -> None:
        """Keep the health figures of one update."""
        with self.writing():
            self.connection.execute("INSERT OR REPLACE INTO updates VALUES (?, ?, ?)", [run, step, json.dumps(health)])

    def add_evaluation(self, run: int, evaluation: Evaluation, details: dict[str, Any]) -> None:
        """Keep one evaluation."""
        e = evaluation
        row = [run, e.step, e.seconds, e.episodes, e.score, e.success, int(e.finite), json.dumps(details)]
        with self.writing():
            self.connection.execute("INSERT OR REPLACE INTO evaluations VALUES (?, ?, ?, ?, ?, ?, ?, ?)", row)

    def forget_after(self, run: int, step: int) -> None:
        """Drop metrics beyond a checkpoint: the resumed run makes them again."""
        with self.writing():
            for table in ("updates", "evaluations"):
                self.connection.execute(f"DELETE FROM {table} WHERE run = ? AND step > ?", [run, step])

    def forget_evaluation(self, run: int, step: int) -> None:
        """Drop the evaluation that stood at the end of a run which goes on."""
        with self.writing():
            self.connection.execute("DELETE FROM evaluations WHERE run = ? AND step = ?", [run, step])

    def course(self, run: int, since: int = -1) -> list[Evaluation]:
        """The evaluations of a run after step `since`, in order, without the figures that are not columns."""
        rows = self._ask(
            "SELECT step, seconds, episodes, score, success, finite FROM evaluations WHERE run = ? AND step > ? ORDER BY step",
            [run, since],
        )
        return [Evaluation(r[0], r[1], r[2], r[3], r[4], bool(r[5])) for r in rows]

    def whole_course(self, run: int, since: int = -1) -> list[Evaluation]:
        """The evaluations of a run after step `since`, in order, with all their figures."""
        rows = self._ask(
            "SELECT step, CASE WHEN json_valid(details) THEN json_extract(details, '$.figures') ELSE details END FROM evaluations "
            "WHERE run = ? AND step > ? ORDER BY step",
            [run, since],
        )
        found = []
        for e, (step, text) in zip(self.course(run, since), rows, strict=True):
            figures = self._read(text, f"run {run}, step {step}") if text is not None else {}
            if not isinstance(figures, dict) or not all(isinstance(v, (int, float)) for v in figures.values()):
                raise FileError(self.path, f"run {run}, step {step}: figures", None, "damaged: are no numbers")
            found.append(replace(e, figures={str(k): float(v) for k, v in figures.items()}))
        return found

    def extent(self, run: int) -> tuple[int, int]:
        """How many evaluations a run has, and the step of the last; -1 without any."""
        count, last = self._ask("SELECT COUNT(*), COALESCE(MAX(step), -1) FROM evaluations WHERE run = ?", [run])[0]
        return int(count), int(last)

    def evaluated(self, run: int) -> int:
        """How many evaluations a run has."""
        return int(self._ask("SELECT COUNT(*) FROM evaluations WHERE run = ?", [run])[0][0])

    def details(self, run: int, since: int = -1) -> list[tuple[int, dict[str, Any]]]:
        """Step and details (endings, reward by term) of each evaluation after step `since`."""
        rows = self._ask("SELECT step, details FROM evaluations WHERE run = ? AND step > ? ORDER BY step", [run, since])
        return [(r[0], self._read(r[1], f"run {run}, step {r[0]}")) for r in rows]

    def health(self, run: int, since: int = -1) -> list[tuple[int, dict[str, float]]]:
        """Step and health figures of each update after step `since`."""
        rows = self._ask("SELECT step, health FROM updates WHERE run = ? AND step > ? ORDER BY step", [run, since])
        return [(r[0], self._read(r[1], f"run {run}, step {r[0]}")) for r in rows]

    # --- results of proofs, packs, rollouts ------------------------------------------------------------------------

    def add_result(self, run: int, kind: str, data: dict[str, Any]) -> None:
        """Keep the result of a proof, a handover or a rollout."""
        with self.writing():
            self.connection.execute(
                "INSERT INTO results (run, kind, created, data) VALUES (?, ?, ?, ?)",
                [run, kind, time.time(), json.dumps(data)],
            )

    def last_result(self, run: int, kind: str) -> dict[str, Any] | None:
        """The newest result of a kind."""
        row = next(
            iter(
                self._ask("SELECT data FROM results WHERE run = ? AND kind = ? ORDER BY id DESC LIMIT 1", [run, kind])
            ),
            None,
        )
        return None if row is None else dict(self._read(row[0], f"run {run}: {kind}"))


def _at_work(pid: int | None, started: float | None) -> bool:
    if pid is None or started is None:
        return False
    if pid == os.getpid():
        return True
    try:
        process = psutil.Process(pid)
        # a store from before 2026-12 has the time of day
        since = process.create_time() if started > 1e9 else started_at(pid)
        return abs(since - started) < (1.0 if started > 1e9 else 0.05) and process.status() != psutil.STATUS_ZOMBIE
    except (psutil.Error, OSError):
        return False


def started_at(pid: int) -> float:
    """Seconds from the start of the computer to that of a process.

    Not by the time of day: where the clock is set, as after a suspension, a process would seem to be another one.

    Raises
    ------
    OSError
        There is no such process.
    """
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return float(fields[19]) / os.sysconf("SC_CLK_TCK")  # field 22 of proc(5), counted behind the name


def median_run(rows: Sequence[RunRow]) -> RunRow | None:
    """The run in the middle of those that kept a policy.

    By what fresh starts said where they did: success to the whole per cent (a retest tells no finer), then the score.
    """

    def worth(row: RunRow) -> tuple[float, float]:
        fresh = row.retest or {"success": row.best_success or 0.0, "score": row.best_score or 0.0}
        return round(float(fresh["success"]), 2), float(fresh["score"])

    kept = sorted((r for r in rows if r.best_score is not None), key=worth)
    return kept[(len(kept) - 1) // 2] if kept else None
