"""The pack: what is handed to a real controller, written only when every form computes the same as the policy."""

from __future__ import annotations

import csv
import dataclasses
import hashlib
import io
import json
import re
import shutil
import subprocess
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.analysis.statistics import wilson
from plucky_heron.errors import FileError, StateError
from plucky_heron.files import read_toml, write_whole
from plucky_heron.handover.exporters import ONNX_OPSET, Line, templates, to_c, to_onnx
from plucky_heron.learning.policy import Policy, PolicyDriver
from plucky_heron.runs.freeze import frozen_problem, run_folder
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.commanding import Command
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

Array = np.ndarray

PACK_FORMAT = 1
VECTORS = 500
TOLERANCE = 1e-5
"""Largest difference allowed, as a share of the command range."""
HOLD_TIME = 0.1
"""Seconds the last command is held without a valid input, before the safe command."""
C_FLAGS = ("-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic", "-O2")


def write_pack(project: Path, row: RunRow, out: Path) -> dict[str, Any]:
    """Export the kept policy of a run to `out` and check it.

    Returns
    -------
    dict
        ``pack``, ``files``, ``equality`` {form: largest difference}.

    Raises
    ------
    StateError
        A form differs from the policy, or the C compiler is missing or complains; nothing is written then.
    FileError
        `out` holds something that is not a pack.
    """
    if out.exists() and not (out / "pack.json").is_file() and (not out.is_dir() or any(out.iterdir())):
        raise FileError(out, "", None, "exists and is not a pack; name a new folder")
    problem = frozen_problem(project, row)
    policy = Policy.load(run_folder(project, row.id) / "best.npz")
    vectors, first = test_vectors(problem, policy)
    inputs, outputs = contract(problem)
    title = f"{problem.machine.name}, {problem.task.name}, run {row.id}"
    files: dict[str, bytes | str] = {
        "policy.onnx": to_onnx(policy),
        **to_c(policy, title, inputs, outputs, problem.sample_time),
    }
    expected = run_policy(policy, vectors, first)
    equality = check_forms(files, vectors, expected, problem.high - problem.low, first if policy.memory else None)
    worst = {form: value for form, value in equality.items() if not value <= TOLERANCE}
    if worst:
        found = ", ".join(f"{form} by {value:.1e}" for form, value in worst.items())
        raise StateError(f"not written: {found} of the command range, allowed {TOLERANCE:.0e}")
    files["vectors.csv"] = _vectors_csv(problem, vectors, expected, first if policy.memory else None)
    files |= _frozen_sources(project, row)
    pack = describe(project, problem, policy, row, equality, files)
    store = RunStore(project)
    proof = store.last_result(row.id, "proof")
    store.close()
    sheet = templates().get_template("data-sheet.md.j2")
    files["data-sheet.md"] = sheet.render(title=title, pack=pack, proof=_proof_facts(proof))
    files["pack.json"] = json.dumps(pack, indent=2)
    _put(out, files)
    return {"pack": str(out), "files": sorted(files), "equality": equality}


def test_vectors(problem: Problem, policy: Policy) -> tuple[Array, Array]:
    """Sensor rows (500, observations) from whole episodes under the policy, and where an episode begins, bool (500,).

    Drawn evenly; for a policy that remembers, as they followed each other, the first rows of each episode.
    """
    trials = run_trials(
        problem, PolicyDriver(policy), seed=EVALUATION_SEED, stream="vectors", count=16, record=range(16)
    )
    episodes = [r.observations for r in trials.recordings.values()]
    if policy.memory:
        each = -(-VECTORS // len(episodes))
        episodes = [e[:each] for e in episodes]
    rows = np.concatenate(episodes)
    first: Array = np.zeros(len(rows), dtype=np.bool_)
    first[np.cumsum([0, *(len(e) for e in episodes[:-1])])] = True
    chosen = np.arange(min(VECTORS, len(rows))) if policy.memory else np.linspace(0, len(rows) - 1, VECTORS).astype(int)
    return np.asarray(rows[chosen, : len(problem.sensed)].astype(np.float32).astype(np.float64)), first[chosen]


def run_policy(policy: Policy, vectors: Array, first: Array) -> Array:
    """Commands of the policy itself, row by row where it remembers."""
    if not policy.memory:
        return policy.commands(vectors)
    state, rows = policy.blank(1), []
    for row, begins in zip(vectors, first, strict=True):
        commands, state = policy.step(row[None], policy.blank(1) if begins else state)
        rows.append(commands)
    return np.concatenate(rows)


def contract(problem: Problem) -> tuple[list[Line], list[Line]]:
    """Inputs and outputs in order, with unit, range and sign."""
    inputs = [Line(e.name, e.si, e.low, e.high, e.positive) for e in problem.sensed]
    outputs = [Line(c.name, c.unit, c.low, c.high, c.positive) for c in problem.commands]
    return inputs, outputs


def check_forms(
    files: dict[str, bytes | str], vectors: Array, expected: Array, span: Array, first: Array | None = None
) -> dict[str, float]:
    """Largest difference of each form from `expected`, as a share of the command range; see `run_c` for `first`."""
    found = {"onnx": run_onnx(files["policy.onnx"], vectors, first), "c": run_c(files, vectors, first)}
    return {form: float((np.abs(values - expected) / span).max()) for form, values in found.items()}


class OnnxPolicy:
    """An ONNX form at work; what it remembers is the caller's."""

    def __init__(self, model: bytes | str) -> None:
        import onnxruntime

        options = onnxruntime.SessionOptions()
        options.intra_op_num_threads = 1
        self.session = onnxruntime.InferenceSession(model, options, providers=["CPUExecutionProvider"])
        shapes = {given.name: given.shape for given in self.session.get_inputs()}
        self.given, self.memory = int(shapes["sensors"][1]), int(shapes.get("memory", [0, 0])[1])

    def blank(self, copies: int) -> Array:
        """What is remembered where an episode begins."""
        return np.zeros((copies, self.memory), dtype=np.float32)

    def step(self, observations: Array, state: Array) -> tuple[Array, Array]:
        """Commands (batch, actions), and what is remembered after them."""
        given = {"sensors": observations[:, : self.given].astype(np.float32)}
        found = self.session.run(None, given | ({"memory": state} if self.memory else {}))
        return np.asarray(found[0]), np.array(found[1]) if self.memory else state


def run_onnx(model: bytes | str, vectors: Array, first: Array | None = None) -> Array:
    """Commands of the ONNX model; see `run_c` for `first`."""
    policy = OnnxPolicy(model)
    if first is None:
        return policy.step(vectors, policy.blank(len(vectors)))[0]
    state, rows = policy.blank(1), []
    for row, begins in zip(vectors, first, strict=True):
        commands, state = policy.step(row[None], policy.blank(1) if begins else state)
        rows.append(commands)
    return np.concatenate(rows)


def run_c(files: dict[str, bytes | str], vectors: Array, first: Array | None = None) -> Array:
    """Commands of the C form, compiled here without a warning; `first` says where an episode begins, for one that remembers.

    Raises
    ------
    StateError
        No compiler, a warning, or an input that the code refuses.
    """
    rows = vectors if first is None else np.concatenate([first[:, None], vectors], axis=1)
    with tempfile.TemporaryDirectory(prefix="heron-pack-") as folder:
        place = Path(folder)
        for name in ("policy.h", "policy.c", "check.c"):
            (place / name).write_text(str(files[name]))
        program = compile_c(place, ["policy.c", "check.c"], "check")
        done = subprocess.run(
            [str(program)], input=rows.astype(np.float32).tobytes(), capture_output=True, timeout=60, check=False
        )
    if done.returncode != 0:
        raise StateError(f"the C form refused a test vector (status {done.returncode})")
    return np.frombuffer(done.stdout, dtype=np.float32).reshape(len(vectors), -1)


def compile_c(folder: Path, sources: list[str], name: str, flags: tuple[str, ...] = C_FLAGS) -> Path:
    """Compile with gcc into `folder`; warnings are errors."""
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        raise StateError("no C compiler found; install gcc (Debian: apt-get install gcc libc6-dev)")
    command = [compiler, *flags, "-o", name, *sources, "-lm"]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=120, check=False)
    if done.returncode != 0:
        raise StateError(f"the C code does not compile: {done.stderr.strip().splitlines()[:1]}")
    return folder / name


def describe(
    project: Path,
    problem: Problem,
    policy: Policy,
    row: RunRow,
    equality: dict[str, float],
    files: dict[str, bytes | str],
) -> dict[str, Any]:
    """``pack.json``."""
    inputs, outputs = contract(problem)
    task, machine = problem.task, problem.machine
    described_inputs = [
        dataclasses.asdict(line) | {
            "noise": e.noise, "delay": e.delay, "formula": e.formula, "samples_ago": e.samples_ago, "shape": e.shape, "clip": e.clip, "offset": float(policy.offset[k]), "scale": float(policy.scale[k]),
        }
        for k, (line, e) in enumerate(zip(inputs, problem.sensed, strict=True))
    ]  # fmt: skip
    described_outputs = []
    for line, command in zip(outputs, problem.commands, strict=True):
        name = problem.model.drives[command.drive] if command.drive >= 0 else ""
        facts: dict[str, Any] = {"name": name}
        if name:
            drive = machine.drives[name]
            facts |= {
                "kind": drive.kind, "limit": float(drive.limit), "lag": drive.lag, "dead_time": drive.dead_time,
            }  # fmt: skip
        described_outputs.append(dataclasses.asdict(line) | {"drive": facts} | after_the_policy(command))
    computed = [
        {"name": e.name, "formula": e.formula}
        for e in problem.sensed
        if not (e.shape == "value" and re.fullmatch(r"[\w.]+", e.formula))
    ]
    return {
        "format": PACK_FORMAT, "machine": machine.name, "task": task.name, "fingerprint": problem.fingerprint(),
        "sample_time": problem.sample_time, "inputs": described_inputs, "outputs": described_outputs,
        "input_limit": policy.limit, "computed_inputs": computed, "mixing": dict(task.mixing), "choices": choices_of(problem), "signals": {n: s.formula for n, s in task.signals.items()},
        "own_code": {"file": problem.code.file, "sha256": problem.code.digest} if problem.code is not None else None,
        "start_pose": problem.model.pose(problem.model.start),
        "network": {
            "sizes": [policy.given, *policy.sizes[1:]], "activation": policy.activation, "parameters": policy.count, "memory": policy.memory,
            "arithmetic": "float32", "onnx_opset": ONNX_OPSET,
            "corrects": None if policy.base is None else {"law": policy.base.tolist(), "reach": policy.reach},
        },
        "safety": {"hold": HOLD_TIME, "command": [float(np.clip(0.0, lo, hi)) for lo, hi in zip(problem.low, problem.high, strict=True)]},
        "run": {
            "number": row.id, "seed": row.seed, "method": row.method, "recipe": row.recipe, "task": row.task, "step": row.best_step,
            "success": row.best_success, "score": row.best_score, "retest": row.retest, "facts": row.facts,
        },
        "equality": {"vectors": VECTORS, "tolerance": TOLERANCE, "forms": equality},
        "hashes": {name: hashlib.sha256(data if isinstance(data, bytes) else data.encode()).hexdigest() for name, data in sorted(files.items())},
    }  # fmt: skip


def after_the_policy(command: Command) -> dict[str, Any]:
    """What the receiving side does with a command before its drive gets it; nothing for a plain one."""
    found: dict[str, Any] = {}
    if command.increment:
        found["increment"] = {"within": [command.held_low, command.held_high]}
    if command.rate_limit:
        found["rate_limit"] = command.rate_limit
    if command.smoothing:
        found["smoothing"] = command.smoothing
    if command.choice:
        found["scores_choice"] = command.choice
    return found


def choices_of(problem: Problem) -> dict[str, Any]:
    """Actions that choose: of the available choices the one with the highest output is carried out."""
    return {
        action.name: {
            name: {"drives": dict(choice.drives), "lasts": choice.lasts, "available": choice.available}
            for name, choice in action.choices.items()
        }
        for action in problem.task.actions
        if action.choices
    }


def read_pack(folder: Path) -> dict[str, Any]:
    """``pack.json`` of a pack whose files are what they were.

    Raises
    ------
    FileError
        Not a pack, or a file was changed.
    """
    path = folder / "pack.json"
    try:
        pack = dict(json.loads(path.read_text()))
    except FileNotFoundError as error:
        raise FileError(folder, "", None, "is not a pack: it has no pack.json") from error
    except (OSError, ValueError, TypeError) as error:
        raise FileError(path, "", None, f"cannot be read: {error}") from error
    if pack.get("format") != PACK_FORMAT:
        raise FileError(path, "format", pack.get("format"), f"this program reads format {PACK_FORMAT}")
    for name, wanted in pack.get("hashes", {}).items():
        file = (folder / name).resolve()
        if folder.resolve() not in file.parents:
            raise FileError(path, f"hashes.{name}", None, "leads out of the pack")
        found = hashlib.sha256(file.read_bytes()).hexdigest() if file.is_file() else "missing"
        if found != wanted:
            raise FileError(
                file, "", None, "is missing" if found == "missing" else "was changed after the pack was written"
            )
    return pack


def _frozen_sources(project: Path, row: RunRow) -> dict[str, bytes | str]:
    """The machine, site and task files, so that a rig can run the same episodes from the pack alone."""
    frozen = run_folder(project, row.id) / "frozen"
    files: dict[str, bytes | str] = {}
    for kind in ("machines", "sites", "tasks"):
        for path in sorted((frozen / kind).glob("*")):
            if path.suffix == ".toml":
                read_toml(path)
            files[f"frozen/{kind}/{path.name}"] = path.read_bytes()
    for path in sorted(frozen.rglob("*.py")):
        files[f"frozen/{path.relative_to(frozen)}"] = path.read_bytes()
    return files


def _vectors_csv(problem: Problem, vectors: Array, expected: Array, first: Array | None) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    head = [] if first is None else ["begins"]
    writer.writerow([*head, *(e.name for e in problem.sensed), *(f"command {c.name}" for c in problem.commands)])
    for k, (given, wanted) in enumerate(zip(vectors.astype(np.float32), expected, strict=True)):
        begins = [] if first is None else [int(first[k])]
        writer.writerow([*begins, *(np.format_float_scientific(x, unique=True) for x in (*given, *wanted))])
    return out.getvalue()


def _proof_facts(proof: dict[str, Any] | None) -> dict[str, Any] | None:
    if proof is None:
        return None
    share, trials = proof["drivers"]["policy"]["success"], proof["trials"]
    low, high = wilson(round(share * trials), trials)
    return {"success": share, "trials": trials, "low": low, "high": high}


def _put(out: Path, files: dict[str, bytes | str]) -> None:
    """All files into a fresh folder, moved into place at the end."""
    out.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix=".pack-", dir=out.parent) as folder:
        fresh = Path(folder) / "pack"
        for name, data in files.items():
            write_whole(fresh / name, data)
        if out.exists():
            shutil.rmtree(out)
        fresh.replace(out)
