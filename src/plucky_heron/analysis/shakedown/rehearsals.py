"""What is found out in seconds before an hour of training: rehearsals by simple drivers, and checks with evidence."""

from __future__ import annotations

import csv
import io
import itertools
import json
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.analysis.proving.proof import opponents
from plucky_heron.analysis.result_table import ResultTable, table_of
from plucky_heron.analysis.shakedown.checks import REHEARSAL_STREAM, WRONG, Check, Seen, signal_checks, speed_check
from plucky_heron.analysis.shakedown.learning_checks import learning_checks, regulator_checks
from plucky_heron.analysis.shakedown.mirror_checks import mirror_checks
from plucky_heron.analysis.shakedown.reward_checks import reward_checks
from plucky_heron.errors import FileError
from plucky_heron.files import MOST_BYTES, inside, is_file, read_json, read_text, write_whole
from plucky_heron.simulation.drivers import Constant, Driver, Recorded, SmoothRandom
from plucky_heron.simulation.trials import Trials, run_company
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

REHEARSALS = 64
_KEPT = 8
BUDGET = 500_000


@dataclass(frozen=True, repr=False)
class Shakedown:
    """Rehearsals by driver, and the checks drawn from them."""

    problem: Problem
    rehearsals: dict[str, Trials]
    drivers: dict[str, Driver]
    checks: list[Check]
    seconds: float

    @property
    def wrong(self) -> list[Check]:
        """Checks that failed and can never be meant."""
        return [c for c in self.checks if not c.passed and c.severity == WRONG]

    @property
    def open(self) -> list[Check]:
        """Checks that failed and that nobody acknowledged."""
        return [c for c in self.checks if c.open]

    def table(self) -> ResultTable:
        """Check by check, those to look at first."""
        rows = [
            ("look" if c.open and c.severity != WRONG else "wrong" if c.open else "ok", c.name, c.evidence, c.acknowledged)
            for c in sorted(self.checks, key=lambda c: not c.open)
        ]  # fmt: skip
        return table_of(
            f"shakedown: {len(self.open)} of {len(self.checks)} checks to look at",
            ("", "check", "evidence", "acknowledged"),
            rows,
        )

    def __repr__(self) -> str:
        return repr(self.table())

    def _repr_html_(self) -> str:
        return self.table()._repr_html_()

    def summary(self) -> dict[str, Any]:
        """For the JSON answer."""
        checks = [
            {
                "name": c.name, "severity": c.severity, "passed": c.passed, "evidence": c.evidence,
                "acknowledged": c.acknowledged, "remedy": c.remedy.text if c.remedy else "",
            }
            for c in self.checks
        ]  # fmt: skip
        return {"checks": checks, "rehearsals": figures_of(self.rehearsals), "seconds": self.seconds}


def figures_of(rehearsals: dict[str, Trials]) -> dict[str, Any]:
    """Success, score, value and endings by driver."""
    return {
        name: {
            "success": float(t.success.mean()), "score": float(t.score.mean()), "endings": t.tally(),
            "quartiles": [float(q) for q in np.percentile(t.score, (25, 50, 75))], "value": float(t.value.mean()),
            "seconds": float(t.steps.mean()),
        }
        for name, t in rehearsals.items()
    }  # fmt: skip


def rehearsal_drivers(
    problem: Problem, project: Path | None = None, others: Sequence[Driver] = (), missing: dict[str, str] | None = None
) -> list[Driver]:
    """Nobody, a constant (a quarter of the way up), two kinds of chance, the task's rules and regulator, recorded commands of the project, and `others`.

    `missing` takes why a driver that the task asks for cannot be made.
    """
    found = opponents(problem, project, missing)
    found[1:2] = [
        Constant(problem, 0.25 * problem.high + 0.75 * np.clip(0.0, problem.low, problem.high), "constant"), found[1],
        SmoothRandom(problem, EVALUATION_SEED),
    ]  # fmt: skip
    return [*found, *recorded_drivers(problem, project), *others]


def recorded_drivers(problem: Problem, project: Path | None) -> list[Driver]:
    """Command files ``recordings/TASK-*.csv`` of a project, by their names.

    Raises
    ------
    FileError
        A file that is no table of this task's commands.
    """
    if project is None or not Path(problem.source).stem:
        return []
    found: list[Driver] = []
    for path in sorted((project / "recordings").glob(f"{Path(problem.source).stem}-*.csv")):
        found.append(Recorded(problem, read_commands(path, problem), path.stem.partition("-")[2]))
    return found


def read_commands(path: Path, problem: Problem) -> np.ndarray:
    """Commands (T, commands) from a CSV with one column a command, in SI units.

    Raises
    ------
    FileError
        Missing columns or a value that is no number.
    """
    names = [c.name for c in problem.commands]
    try:
        rows = list(csv.DictReader(io.StringIO(read_text(path, MOST_BYTES))))
        return np.array([[float(row[name]) for name in names] for row in rows]).reshape(-1, len(names))
    except csv.Error as error:
        raise FileError(path, "", None, f"cannot be read: {error}") from error
    except (KeyError, TypeError, ValueError) as error:
        raise FileError(path, "", None, f"wanted numbers in the columns {', '.join(names)}") from error


def write_commands(path: Path, problem: Problem, commands: np.ndarray) -> None:
    """Commands (T, commands), in the units of the task, as a CSV that `read_commands` reads."""
    lines = [",".join(c.name for c in problem.commands)]
    lines += [",".join(repr(float(v)) for v in row) for row in commands]
    write_whole(path, "\n".join(lines) + "\n")


def shake_down(
    problem: Problem,
    project: Path | None = None,
    progress: Callable[[str, float], bool] | None = None,
    *,
    others: Sequence[Driver] = (),
    budget: int = BUDGET,
) -> Shakedown:
    """Rehearse with all simple drivers on the same starts, then check what they met.

    Parameters
    ----------
    progress
        Called with what is done next and the share done; returning False ends it there.
    others
        More drivers, such as a saved policy.
    budget
        Control steps of the training that is planned, for the time it will take.
    """
    began = time.perf_counter()
    missing: dict[str, str] = {}
    drivers = rehearsal_drivers(problem, project, others, missing)
    names = ", ".join(d.name for d in drivers)
    before = time.perf_counter()
    rehearsals = run_company(
        problem, drivers, seed=EVALUATION_SEED, stream=REHEARSAL_STREAM, count=REHEARSALS, record=range(_KEPT),
        progress=lambda share: progress is None or progress(names, 0.4 * share),
    )  # fmt: skip
    steps = max(int(t.steps.max()) for t in rehearsals.values()) * REHEARSALS * len(drivers)
    speed = steps / (time.perf_counter() - before)
    by_name = {d.name: d for d in drivers}
    met = np.concatenate([r.observations for t in rehearsals.values() for r in t.recordings.values()])
    seen = Seen(problem, rehearsals, by_name, met, budget)
    checks: list[Check] = []
    for check in itertools.chain(
        signal_checks(seen),
        mirror_checks(seen),
        reward_checks(seen),
        learning_checks(seen),
        regulator_checks(missing.get("regulator", "")),
        [speed_check(seen, speed)],
    ):
        checks.append(replace(check, acknowledged=problem.task.acknowledged.get(check.name, "")))
        share = 0.4 + 0.6 * len(checks) / (len(checks) + 6)
        if progress is not None and not progress(check.name, share):
            break
    return Shakedown(problem, rehearsals, by_name, checks, time.perf_counter() - began)


def shake_down_task(
    problem: Problem,
    project: Path,
    progress: Callable[[str, float], bool] | None = None,
    *,
    others: Sequence[Driver] = (),
) -> Shakedown:
    """`shake_down`, and what the drivers scored kept beside the task; not where `progress` ended it early."""
    going = True

    def tell(what: str, share: float) -> bool:
        nonlocal going
        going = progress is None or progress(what, share)
        return going

    result = shake_down(problem, project, tell, others=others)
    if going:
        keep_scores(problem, project, result.rehearsals)
    return result


def keep_scores(problem: Problem, project: Path, rehearsals: dict[str, Trials]) -> Path:
    """Write what the rehearsals scored beside the task, for the lines on later charts."""
    path = inside(project, f"tasks/{Path(problem.source).stem}.scores.json")
    kept = {"fingerprint": problem.fingerprint(), "starts": REHEARSALS, "drivers": figures_of(rehearsals)}
    write_whole(path, json.dumps(kept, indent=1) + "\n")
    return path


def kept_scores(project: Path, task: str) -> dict[str, Any]:
    """What `keep_scores` wrote for a task; empty where nothing is kept.

    Raises
    ------
    FileError
        It is damaged; rehearsing writes it anew.
    """
    path = inside(project, f"tasks/{task}.scores.json")
    if not is_file(path):
        return {}
    kept = read_json(path)
    drivers = kept.get("drivers") if isinstance(kept, dict) else None
    good = isinstance(drivers, dict) and all(
        isinstance(figures, dict) and all(isinstance(figures.get(key), int | float) for key in ("score", "success"))
        for figures in drivers.values()
    )
    if not good:
        raise FileError(
            path, "drivers", None, "damaged: wanted score and success of each driver; rehearse to write it anew"
        )
    return dict(kept)
