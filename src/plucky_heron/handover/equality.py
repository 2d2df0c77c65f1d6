"""Whether every form computes what the policy computes: vectors from real episodes, each form run on them."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from pathlib import Path

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.learning.policy import Policy, PolicyDriver
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.training.evaluation import EVALUATION_SEED

Array = np.ndarray

VECTORS = 500
TOLERANCE = 1e-5
"""Largest difference allowed, as a share of the command range."""
C_FLAGS = ("-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic", "-O2")


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


def check_forms(
    files: dict[str, bytes | str], vectors: Array, expected: Array, span: Array, first: Array | None = None
) -> dict[str, float]:
    """Largest difference of each form from `expected` (N, commands) at `vectors` (N, observations), SI, as a share of the
    command range `span` (commands,); see `run_c` for `first`."""
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
    """Commands (N, commands) of the ONNX model at `vectors` (N, observations); see `run_c` for `first`."""
    policy = OnnxPolicy(model)
    if first is None:
        return policy.step(vectors, policy.blank(len(vectors)))[0]
    state, rows = policy.blank(1), []
    for row, begins in zip(vectors, first, strict=True):
        commands, state = policy.step(row[None], policy.blank(1) if begins else state)
        rows.append(commands)
    return np.concatenate(rows)


def run_c(files: dict[str, bytes | str], vectors: Array, first: Array | None = None) -> Array:
    """Commands (N, commands) of the C form at `vectors` (N, observations), compiled here without a warning.

    `first` (N,) says where an episode begins, for a policy that remembers.

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
