"""The forms a policy can be handed over in: their files, how far they may differ from the policy, and how each is run to be checked."""

from __future__ import annotations

import io
import re
import subprocess
import tempfile
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.errors import StateError, did_you_mean, quoted
from plucky_heron.handover.forms.c99 import to_c
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.fixed import FixedPolicy, fixed_policy, run_fixed, to_fixed
from plucky_heron.handover.forms.fmu import IDENTIFIER, platform_tuple, to_fmu
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.onnx import to_onnx
from plucky_heron.handover.forms.running import run_onnx
from plucky_heron.handover.forms.st import BLOCK, to_st
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.handover.structured_text.translate import program, translate
from plucky_heron.learning.policy import Policy

Array = np.ndarray
Files = dict[str, bytes | str]

FORMS = ("onnx", "c99", "fixed", "st", "fmu")
ALWAYS = ("onnx", "c99")
"""In every pack: what rigs run, and what is compared inside the program."""
TOLERANCE = 1e-5
"""Largest difference allowed on recorded vectors, as a share of the command range."""
TOLERANCES = dict.fromkeys(FORMS, TOLERANCE) | {"fixed": 0.02}
BEYOND = 1e-4
"""The same on vectors far from what was recorded, where sums are large; fixed point is not held to it."""


def forms_named(text: str) -> tuple[str, ...]:
    """Forms by their names apart by commas, those of every pack among them, in the order of the catalogue.

    Raises
    ------
    StateError
        No such form.
    """
    asked = {word.strip() for word in text.split(",") if word.strip()}
    unknown = sorted(asked - set(FORMS))
    if unknown:
        raise StateError(f"--forms {quoted(unknown[0])}: no such form; {did_you_mean(unknown[0], FORMS)}")
    return tuple(form for form in FORMS if form in asked or form in ALWAYS)


@dataclass(frozen=True)
class Made:
    """A policy in its forms."""

    files: Files
    forms: tuple[str, ...]
    fixed: FixedPolicy | None
    sample_time: float


def make_forms(
    forms: Sequence[str], policy: Policy, title: str, inputs: list[Line], outputs: list[Line], sample_time: float, vectors: Array, safe: list[float]
) -> Made:  # fmt: skip
    """All files of the forms; `vectors` (N, sensors) of recorded episodes and the `safe` commands are what some of them need.

    Raises
    ------
    StateError
        A form cannot hold this policy, or a tool is missing.
    """
    c = to_c(policy, title, inputs, outputs, sample_time)
    files: Files = {"policy.onnx": to_onnx(policy), **c}
    fixed = None
    if "fixed" in forms:
        fixed = fixed_policy(policy, vectors[:, : policy.given])
        files |= to_fixed(fixed, title, inputs, outputs, sample_time)
    if "st" in forms:
        files["policy.st"] = to_st(policy, title, inputs, outputs, sample_time)
    if "fmu" in forms:
        sources = {name: c[name] for name in ("policy.h", "policy.c")}
        files["policy.fmu"] = to_fmu(sources, title, inputs, outputs, sample_time, safe)
    return Made(files, tuple(forms), fixed, sample_time)


def run_form(made: Made, form: str, vectors: Array, first: Array | None = None) -> Array:
    """Commands (N, commands) in SI of a form at `vectors` (N, sensors); `first` (N,) says where an episode begins, for a policy that remembers.

    Raises
    ------
    StateError
        No compiler, a warning, or an input that the form refuses.
    """
    if form == "onnx":
        return run_onnx(made.files["policy.onnx"], vectors, first)
    if form == "c99":
        return run_c(made.files, vectors, first)
    if form == "fixed":
        return run_fixed_c(made, vectors, first)
    return run_st(made.files, vectors, first) if form == "st" else run_fmu(made, vectors, first)


def _run(place: Path, program_: Path, rows: Array, *arguments: str) -> bytes:
    done = subprocess.run(
        [str(program_), *arguments], input=rows.tobytes(), capture_output=True, timeout=300, check=False, cwd=place
    )
    if done.returncode != 0:
        raise StateError(
            f"a form refused a test vector (status {done.returncode} {done.stderr.decode(errors='replace').strip()[:100]})"
        )
    return done.stdout


def _begins(vectors: Array, first: Array | None) -> Array:
    return np.zeros(len(vectors)) if first is None else np.asarray(first, dtype=float)


def run_c(files: Files, vectors: Array, first: Array | None = None) -> Array:
    """Commands (N, commands) of the C form at `vectors` (N, observations), compiled here without a warning; see `run_form`."""
    rows = vectors if first is None else np.concatenate([first[:, None], vectors], axis=1)
    with tempfile.TemporaryDirectory(prefix="heron-pack-") as folder:
        place = Path(folder)
        for name in ("policy.h", "policy.c", "check.c"):
            (place / name).write_text(str(files[name]))
        out = _run(place, compile_c(place, ["policy.c", "check.c"], "check"), rows.astype(np.float32))
    return np.frombuffer(out, dtype=np.float32).reshape(len(vectors), -1)


def run_fixed_c(made: Made, vectors: Array, first: Array | None = None) -> Array:
    """The same of the fixed-point form, which has to agree with its bit-true model to the last bit."""
    assert made.fixed is not None
    integers = made.fixed.quantise(vectors[:, : made.fixed.policy.given]).astype(np.int32)
    rows = integers
    if made.fixed.policy.memory:
        rows = np.concatenate([_begins(vectors, first)[:, None].astype(np.int32), integers], axis=1)
    with tempfile.TemporaryDirectory(prefix="heron-pack-") as folder:
        place = Path(folder)
        for name in ("policy_fixed.h", "policy_fixed.c", "check_fixed.c"):
            (place / name).write_text(str(made.files[name]))
        out = _run(place, compile_c(place, ["policy_fixed.c", "check_fixed.c"], "check"), np.ascontiguousarray(rows))
    found = made.fixed.commands(np.frombuffer(out, dtype=np.int32).reshape(len(vectors), -1))
    if not np.array_equal(found, run_fixed(made.fixed, vectors, first)):
        raise StateError("the fixed-point form differs from its own model: a fault of the program")
    return found


def run_st(files: Files, vectors: Array, first: Array | None = None) -> Array:
    """The same of the Structured Text, read and translated by what knows nothing of its making."""
    whole = np.concatenate([np.zeros((len(vectors), 1)), vectors, _begins(vectors, first)[:, None]], axis=1)
    with tempfile.TemporaryDirectory(prefix="heron-pack-") as folder:
        place = Path(folder)
        (place / "text.c").write_text(program(translate(str(files["policy.st"]), BLOCK)))
        out = _run(place, compile_c(place, ["text.c"], "check", ("-std=c99", "-O2")), whole)
    found = np.frombuffer(out, dtype=float).reshape(len(vectors), -1)
    if (found[:, -1] != 0.0).any():
        raise StateError("the Structured Text refused a test vector")
    return found[:, :-1]


def run_fmu(made: Made, vectors: Array, first: Array | None = None) -> Array:
    """The same of the FMU's library, through its interface, in a process of its own."""
    library, text = library_of(bytes(made.files["policy.fmu"]))  # type: ignore[arg-type]
    token = re.search(r'instantiationToken="([^"]*)"', text)
    outputs = len(re.findall(r'causality="output"', text))
    code = templates().get_template("check_fmu.c.j2").render(
        inputs=vectors.shape[1], outputs=outputs, token=Code(token.group(1) if token else ""), sample_time=Code(repr(made.sample_time)),
    )  # fmt: skip
    rows = np.concatenate([_begins(vectors, first)[:, None], vectors], axis=1).astype(np.float32)
    with tempfile.TemporaryDirectory(prefix="heron-pack-") as folder:
        place = Path(folder)
        (place / "check.c").write_text(code)
        (place / f"{IDENTIFIER}.so").write_bytes(library)
        built = compile_c(place, ["check.c"], "check", ("-std=c99", "-O2", "-ldl"))
        out = _run(place, built, rows, f"./{IDENTIFIER}.so")
    return np.frombuffer(out, dtype=np.float32).reshape(len(vectors), -1)


def library_of(fmu: bytes) -> tuple[bytes, str]:
    """The library for this machine in an FMU, and its description."""
    with zipfile.ZipFile(io.BytesIO(fmu)) as archive:
        library = archive.read(f"binaries/{platform_tuple()}/{IDENTIFIER}.so")
        return library, archive.read("modelDescription.xml").decode()
