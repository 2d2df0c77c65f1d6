"""Whether the whole controller in Structured Text does on recorded signals what the generated C does, whatever it is asked for."""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.controller_st import settings_of
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.signals import SignalCode
from plucky_heron.handover.forms.templates import templates
from plucky_heron.handover.forms.whole_st import WHOLE_BLOCK, to_whole_st
from plucky_heron.handover.signal_check import TOLERANCE, recorded
from plucky_heron.handover.structured_text.translate import Translated, program, translate
from plucky_heron.handover.wiring import Mapped
from plucky_heron.task.problem import Problem

Array = np.ndarray

SOURCES = ("policy.h", "policy.c", "controller.h", "controller.c", "signals.h", "signals.c")
MOST_BEYOND = 0.02
"""Share of samples in which single precision may fall to the other side of an edge; in the controller it stays there for a while."""
HEAD = 5
"""Numbers of a row before its signals: begins anew, nothing came, asked, heartbeat, at the reference."""


def rows_of(problem: Problem, code: SignalCode, strange: bool = True) -> Array:
    """Rows (N, 5 + signals) of recorded episodes: states are asked for in turn, samples are missing and numbers are none here and there."""
    first = recorded(problem, code)[0]
    signals = first[:, 1 : 1 + len(code.signals)]
    for m in code.wired[0]:
        signals[:, m.index] = np.rint(m.zero + (signals[:, m.index] - m.offset) / m.scale)
    draws = np.random.default_rng(5)
    rows = np.concatenate([np.zeros((len(signals), HEAD)), signals], axis=1)
    rows[:, 0] = first[:, 0] > 0.0
    rows[:, 2] = 4.0
    rows[:, 3] = np.arange(len(rows)) % 65536
    if strange:
        rows[:, 1] = draws.random(len(rows)) < 0.05
        for at in range(0, len(rows), 60):
            rows[at : at + 60, 2] = draws.choice([0.0, 1.0, 2.0, 3.0, 4.0, 4.0, 4.0, 5.0])
        rows[:, 4] = draws.random(len(rows)) < 0.05
        plain = np.setdiff1d(np.arange(len(code.signals)), [m.index for m in code.wired[0]])
        for at in draws.integers(0, len(rows), len(rows) // 40 if len(plain) else 0):
            rows[at, HEAD + draws.choice(plain)] = draws.choice([np.nan, np.inf, -np.inf, 300.0])
    return rows


@dataclass
class WholeText:
    """A built `HeronWhole`, asked by rows as `rows_of` has them.

    Raises
    ------
    TextError, StateError
        The text is not what the standard allows, or does not compile.
    """

    translated: Translated
    built: Path

    @classmethod
    def build(cls, text: str, folder: Path, flags: tuple[str, ...] = ("-std=c99", "-O2")) -> WholeText:
        """From the pack's text."""
        translated = translate(text, WHOLE_BLOCK)
        (folder / "whole.c").write_text(program(translated))
        return cls(translated, compile_c(folder, ["whole.c"], "whole", flags))

    def inputs(self, rows: Array, settings: Mapping[str, float]) -> Array:
        """Rows of the translated program; what `settings` does not name stands as the text has it."""
        names = [path.removeprefix("v_") for path, _ in self.translated.inputs]
        told = dict(zip(("RESTART", "VALID", "ASKED", "HEARTBEAT", "AT_HOME"), range(HEAD), strict=True))
        found = np.zeros((len(rows), 1 + len(names)))
        signal = HEAD
        for k, name in enumerate(names, 1):
            if name in told:
                found[:, k] = rows[:, told[name]] if name != "VALID" else 1.0 - rows[:, 1]
            elif name.startswith("INSTRUMENTS.") and signal < rows.shape[1]:
                found[:, k] = rows[:, signal]
                signal += 1
            else:
                found[:, k] = settings.get(name, 0.0)
        return found

    def run(self, rows: Array, settings: Mapping[str, float]) -> dict[str, Array]:
        """All outputs by their names."""
        out = subprocess.run(
            [str(self.built)], input=self.inputs(rows, settings).tobytes(), capture_output=True, check=True, timeout=120
        )
        found = np.frombuffer(out.stdout, dtype=float).reshape(len(rows), -1)
        if out.stderr.split() != [b"0"]:
            raise StateError("an index lay outside its array in the Structured Text: a fault of the program")
        return {path.removeprefix("v_"): found[:, k] for k, (path, _) in enumerate(self.translated.outputs)}


def run_whole_c(files: Mapping[str, bytes | str], folder: Path, rows: Array, drives: int) -> Array:
    """State, reason and drives (N, 2 + drives) of the generated C."""
    for name in SOURCES:
        text = files[name]
        (folder / name).write_bytes(text if isinstance(text, bytes) else text.encode())
    (folder / "check_whole.c").write_text(templates().get_template("check_whole.c.j2").render())
    built = compile_c(folder, ["signals.c", "controller.c", "policy.c", "check_whole.c"], "check-whole")
    out = subprocess.run([str(built)], input=rows.tobytes(), capture_output=True, check=True, timeout=120)
    return np.frombuffer(out.stdout, dtype=float).reshape(len(rows), 2 + drives)


def spans(problem: Problem, code: SignalCode) -> Array:
    """Of every drive the width of its range, in raw numbers where it is given raw."""
    found = np.array([np.ptp(problem.machine.command_range(d)) for d in code.drives], dtype=float)
    put: list[Mapped] = code.wired[1]
    for m in put:
        found[m.index] = m.high - m.low
    return np.asarray(np.maximum(found, 1e-12))


def check_whole_st(
    problem: Problem, code: SignalCode, files: Mapping[str, bytes | str], settings: Mapping[str, float]
) -> Array:
    """Of each recorded sample the largest difference of a drive between the two, as a share of its range; 1 where states differ."""
    rows = rows_of(problem, code)
    with tempfile.TemporaryDirectory(prefix="heron-whole-") as folder:
        wanted = run_whole_c(files, Path(folder), rows, len(code.drives))
        found = WholeText.build(str(files["policy.st"]), Path(folder)).run(rows, settings)
    drives = np.array([v for k, v in found.items() if k.startswith("DRIVES.")]).T
    off = np.abs(drives - wanted[:, 2:]) / spans(problem, code)
    off[~np.isfinite(off)] = 1.0
    states = np.array([found["STATE"], found["REASON"]]).T
    return np.asarray(np.where((states == wanted[:, :2]).all(axis=1), off.max(axis=1, initial=0.0), 1.0))


def whole_text(
    problem: Problem, code: SignalCode, files: Mapping[str, bytes | str], outputs: Sequence[Line], hold: float, safe_kind: str
) -> str:  # fmt: skip
    """``policy.st`` of `files` with the way from instruments and to drives behind it, checked against the C.

    Raises
    ------
    StateError
        It does something else, or a counter is too wide for it.
    """
    text = str(files["policy.st"]) + to_whole_st(problem, code.parts, outputs, hold, safe_kind, code.wired)
    settings = {s.name.upper(): float(s.number) for s in settings_of(hold, safe_kind)}
    differences = check_whole_st(problem, code, {**files, "policy.st": text}, settings)
    beyond = float((differences > TOLERANCE).mean())
    if not beyond <= MOST_BEYOND:
        raise StateError(
            f"not written: the whole controller in policy.st differs from signals.c in {100 * beyond:.0f} % of the samples"
        )
    return text
